//! What drives the whole product from outside: a service on the demo's data, started once for a test program, and a
//! PostgreSQL database with the same tables that judges answers.

pub mod clients;

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, Command, Output, Stdio};
use std::sync::OnceLock;

use cobble_network::ports::free_port;

/// Scale of the data in tests.
pub const SCALE: f64 = 0.01;

/// A running `cobble up --demo`. It stops when this program ends, because it watches the pipe that it was given.
pub struct Product {
    pub address: String,
    pub folder: PathBuf,
    pub postgres_port: u16,
    _process: Child,
    _stdin: ChildStdin,
}

/// A client of a service that nobody has signed in with.
pub fn http() -> reqwest::Client {
    // Asked for whenever a client is made, also by those that never encrypt.
    cobble_network::tls::provider();
    quiet().build().expect("a client")
}

/// A client that gives connections up that nobody uses before the service does.
fn quiet() -> reqwest::ClientBuilder {
    reqwest::Client::builder().pool_idle_timeout(std::time::Duration::from_secs(20))
}

/// A client that shows this token in all its calls.
pub fn http_as(token: &str) -> reqwest::Client {
    cobble_network::tls::provider();
    let header = format!("Bearer {token}").parse().expect("a token is plain text");
    let headers = [(reqwest::header::AUTHORIZATION, header)].into_iter().collect();
    quiet().default_headers(headers).build().expect("a client")
}

/// The built command, beside the test programs.
pub fn cobble() -> PathBuf {
    let own = std::env::current_exe().expect("a test program has a path");
    let target = own
        .ancestors()
        .find(|p| ["debug", "demo", "release"].iter().any(|profile| p.ends_with(profile)))
        .expect("it is below target");
    let path = target.join("cobble");
    assert!(path.exists(), "{} is missing: build the workspace first, as make test does", path.display());
    path
}

impl Product {
    pub fn start(folder: &Path, scale: f64) -> Product {
        Product::start_with(folder, &["--demo", "--scale", &scale.to_string()])
    }

    /// A service without the demo.
    pub fn empty(folder: &Path) -> Product {
        Product::start_with(folder, &[])
    }

    /// A service without the demo whose runs may hold so much memory together.
    pub fn small(folder: &Path, memory: &str) -> Product {
        Product::start_with(folder, &["--memory", memory])
    }

    /// A service on the demo's data whose runs may hold so much memory together.
    pub fn demo_within(folder: &Path, scale: f64, memory: &str) -> Product {
        Product::start_with(folder, &["--demo", "--scale", &scale.to_string(), "--memory", memory])
    }

    /// A service without the demo whose connections may use files of one folder only.
    pub fn below(folder: &Path, root: &Path) -> Product {
        Product::start_with(folder, &["--root", &root.display().to_string()])
    }

    /// The same service, stopped and started again without the demo.
    pub fn again(self) -> Product {
        let folder = self.folder.clone();
        self.stop();
        Product::empty(&folder)
    }

    /// A service without the demo, and the file that its log goes to.
    pub fn logged(folder: &Path, level: &str, log: std::fs::File) -> Product {
        Product::start_to(folder, &["--log", level], log.into())
    }

    fn start_with(folder: &Path, arguments: &[&str]) -> Product {
        Product::start_to(folder, arguments, Stdio::inherit())
    }

    fn start_to(folder: &Path, arguments: &[&str], log: Stdio) -> Product {
        let (mut process, port, postgres_port) = Product::spawn(folder, arguments, log);
        let stdin = process.stdin.take().expect("it has a pipe");
        let mut line = String::new();
        BufReader::new(process.stdout.take().expect("it has a pipe")).read_line(&mut line).expect("it speaks");
        assert!(line.contains("is up"), "the service said: {line}");
        Product {
            address: format!("http://127.0.0.1:{port}"),
            folder: folder.to_owned(),
            postgres_port,
            _process: process,
            _stdin: stdin,
        }
    }

    /// A service on two free ports: its own and the one of its records.
    fn spawn(folder: &Path, arguments: &[&str], log: Stdio) -> (Child, u16, u16) {
        let port = || free_port().expect("loopback has a free port");
        let (port, postgres_port) = (port(), port());
        let process = Command::new(cobble())
            .args(["up", "--stop-with-stdin"])
            .args(arguments)
            // Tests keep their files wherever the system has room for them.
            .env("COBBLE_ROOTS", "/")
            .args(["--port", &port.to_string(), "--records-port", &postgres_port.to_string()])
            .arg("--folder")
            .arg(folder)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(log)
            .spawn()
            .expect("the service starts");
        (process, port, postgres_port)
    }

    /// A start that is killed so long after it has begun, wherever it is then.
    pub fn killed_in_its_start(folder: &Path, after: std::time::Duration) {
        let (mut process, ..) = Product::spawn(folder, &[], Stdio::inherit());
        std::thread::sleep(after);
        let _ = process.kill();
        let _ = process.wait();
    }

    /// The number of the service's process.
    pub fn process(&self) -> u32 {
        self._process.id()
    }

    /// The token of whoever has started the service.
    pub fn token(&self) -> String {
        std::fs::read_to_string(self.folder.join("administrator.token")).expect("the first start leaves it")
    }

    /// A client of the service, signed in as whoever has started it.
    pub fn http(&self) -> reqwest::Client {
        http_as(&self.token())
    }

    /// The address of a page of the console, for a browser that is not signed in yet.
    pub fn link(&self, path: &str) -> String {
        let link = self.stdout(&["access", "link"]);
        let (address, code) = link.trim().split_once("/#").expect("a link has a fragment");
        format!("{address}{path}#{code}")
    }

    /// Runs the command against this service.
    pub fn cobble(&self, arguments: &[&str]) -> Output {
        Command::new(cobble())
            .args(arguments)
            .env("COBBLE_SERVICE", &self.address)
            .stdin(Stdio::null())
            .output()
            .expect("the command runs")
    }

    /// The same by somebody who has this token, with these variables.
    pub fn cobble_as(&self, token: &str, arguments: &[&str], variables: &[(&str, &str)]) -> (bool, String) {
        let output = Command::new(cobble())
            .args(arguments)
            .env("COBBLE_SERVICE", &self.address)
            .env("COBBLE_TOKEN", token)
            .envs(variables.iter().copied())
            .stdin(Stdio::null())
            .output()
            .expect("the command runs");
        let text = [output.stdout, output.stderr].map(|said| String::from_utf8_lossy(&said).into_owned()).concat();
        assert!(!text.is_empty() || output.status.success(), "{arguments:?} ended without a word: {}", output.status);
        (output.status.success(), text)
    }

    /// Standard output of a command that succeeds.
    pub fn stdout(&self, arguments: &[&str]) -> String {
        let output = self.cobble(arguments);
        assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    /// A connection to a database of the private server, as its owner.
    pub async fn database(&self, name: &str) -> tokio_postgres::Client {
        let secret = std::fs::read_to_string(self.folder.join("records.secret")).expect("the server has a secret");
        connect(self.postgres_port, "cobble", &secret, name).await
    }

    /// A connection to the private MariaDB server of the demo, as its owner.
    pub async fn mariadb(&self) -> mysql_async::Conn {
        let secret = std::fs::read_to_string(self.folder.join("yard.secret")).expect("the server has a secret");
        let options = mysql_async::OptsBuilder::default().ip_or_hostname("127.0.0.1").tcp_port(self.mariadb_port());
        let options = options.user(Some("cobble")).pass(Some(secret.trim())).prefer_socket(false);
        mysql_async::Conn::new(options).await.expect("the server answers")
    }

    pub fn mariadb_port(&self) -> u16 {
        let listed = self.stdout(&["--json", "connection", "list"]);
        let listed: Vec<serde_json::Value> = serde_json::from_str(&listed).expect("a list");
        let yard = listed.iter().find(|connection| connection["name"] == "yard_db").expect("the demo's");
        let port = yard["address"].as_str().and_then(|address| address.rsplit(':').next()?.parse().ok());
        port.expect("an address ends with a port")
    }

    /// Waits for the end of a service that is told to stop.
    pub fn stop(self) {
        let Product { mut _process, _stdin, .. } = self;
        drop(_stdin);
        let _ = _process.wait();
    }

    /// Kills the service as a crash would, leaving its PostgreSQL behind.
    pub fn kill(self) {
        let Product { mut _process, .. } = self;
        let _ = _process.kill();
        let _ = _process.wait();
    }
}

pub async fn connect(port: u16, user: &str, secret: &str, database: &str) -> tokio_postgres::Client {
    let mut config = tokio_postgres::Config::new();
    config.host("127.0.0.1").port(port).user(user).password(secret).dbname(database);
    let (client, connection) = config.connect(tokio_postgres::NoTls).await.expect("the database answers");
    tokio::spawn(connection);
    client
}

/// The service that all tests of a program share.
pub fn product() -> &'static Product {
    static PRODUCT: OnceLock<Product> = OnceLock::new();
    PRODUCT.get_or_init(|| {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../target/tmp/product");
        // Each test program begins with a service that knows nothing.
        let _ = std::fs::remove_dir_all(&folder);
        std::fs::create_dir_all(&folder).expect("a folder for the test's service");
        Product::start(&folder.canonicalize().expect("it exists"), SCALE)
    })
}

/// The database `judge` with every table of the demo.
pub async fn judge() -> tokio_postgres::Client {
    static LOADED: tokio::sync::OnceCell<()> = tokio::sync::OnceCell::const_new();
    LOADED
        .get_or_init(|| async {
            let admin = product().database("postgres").await;
            admin.batch_execute("DROP DATABASE IF EXISTS judge WITH (FORCE)").await.expect("dropped");
            admin.batch_execute("CREATE DATABASE judge").await.expect("created");
            let client = product().database("judge").await;
            cobble_ferry_load::load_everything(&client, cobble_ferry::Ferry::new(SCALE), true).await.expect("loaded");
        })
        .await;
    product().database("judge").await
}

/// Our SQL as the judge's: names without their catalog.
pub fn for_judge(sql: &str) -> String {
    ["drop.public.", "fleet.public.", "till.main.", "dims.public.", "yard.yard.", "tides.creek."]
        .iter()
        .fold(sql.to_owned(), |sql, name| sql.replace(name, ""))
}

/// Rows as text with one separator, with numbers in one form, so that they can be compared.
pub async fn judged(client: &tokio_postgres::Client, sql: &str) -> Result<Vec<String>, tokio_postgres::Error> {
    judged_in(client, sql, plain).await
}

/// The same with each number in the form and scale that the judge gives it.
pub async fn judged_as_written(
    client: &tokio_postgres::Client,
    sql: &str,
) -> Result<Vec<String>, tokio_postgres::Error> {
    judged_in(client, sql, as_written).await
}

async fn judged_in(
    client: &tokio_postgres::Client,
    sql: &str,
    form: fn(&str) -> String,
) -> Result<Vec<String>, tokio_postgres::Error> {
    let messages = client.simple_query(sql).await?;
    Ok(messages
        .into_iter()
        .filter_map(|m| match m {
            tokio_postgres::SimpleQueryMessage::Row(row) => {
                let values: Vec<String> = (0..row.len()).map(|i| form(row.get(i).unwrap_or("∅"))).collect();
                Some(values.join("|"))
            }
            _ => None,
        })
        .collect())
}

/// `t` as `true`, decimals without trailing zeros and rounded to ten digits after the point.
pub fn plain(text: &str) -> String {
    if matches!(text, "t" | "f") {
        return as_written(text);
    }
    let is_decimal =
        text.contains('.') && text.trim_start_matches('-').bytes().all(|b| b.is_ascii_digit() || b == b'.');
    if !is_decimal {
        return text.to_owned();
    }
    let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
    if fraction.len() <= 10 {
        let fraction = fraction.trim_end_matches('0');
        return if fraction.is_empty() { whole.to_owned() } else { format!("{whole}.{fraction}") };
    }
    let rounded = format!("{:.9}", text.parse::<f64>().unwrap_or(0.0));
    rounded.trim_end_matches('0').trim_end_matches('.').to_owned()
}

/// `t` as `true`, all else as it is.
fn as_written(text: &str) -> String {
    match text {
        "t" => "true".into(),
        "f" => "false".into(),
        other => other.to_owned(),
    }
}

/// Our rows in the same form, from JSON lines of values.
pub fn ours(rows: &[Vec<serde_json::Value>]) -> Vec<String> {
    rows.iter()
        .map(|row| {
            let values: Vec<String> = row
                .iter()
                .map(|v| match v {
                    serde_json::Value::Null => "∅".to_owned(),
                    serde_json::Value::String(s) => plain(s),
                    other => plain(&other.to_string()),
                })
                .collect();
            values.join("|")
        })
        .collect()
}

/// A statement through HTTP: all rows, or the error's body.
pub async fn over_http(sql: &str) -> Result<Vec<Vec<serde_json::Value>>, serde_json::Value> {
    let (client, base) = (product().http(), format!("{}/api/v1", product().address));
    let body = serde_json::json!({ "statement": sql });
    let run: serde_json::Value =
        client.post(format!("{base}/runs")).json(&body).send().await.expect("sent").json().await.expect("JSON");
    let id = run["id"].as_str().expect("a run has an id").to_owned();
    let mut all = Vec::new();
    loop {
        let url = format!("{base}/runs/{id}/rows?offset={}&limit=5000", all.len());
        let response = client.get(url).send().await.expect("sent");
        let failed = !response.status().is_success();
        let page: serde_json::Value = response.json().await.expect("JSON");
        if failed {
            return Err(page);
        }
        let rows: Vec<Vec<serde_json::Value>> = serde_json::from_value(page["rows"].clone()).expect("rows");
        let last = page["last"].as_bool().unwrap_or(true) || rows.is_empty();
        all.extend(rows);
        if last {
            return Ok(all);
        }
    }
}

/// The plan of a finished run, with its measures.
pub async fn measured(sql: &str) -> serde_json::Value {
    let base = format!("{}/api/v1", product().address);
    let client = product().http();
    let run: serde_json::Value = client
        .post(format!("{base}/runs"))
        .json(&serde_json::json!({ "statement": sql }))
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    let id = run["id"].as_str().unwrap_or_else(|| panic!("{run}")).to_owned();
    for _ in 0..600 {
        let run: serde_json::Value =
            client.get(format!("{base}/runs/{id}")).send().await.unwrap().json().await.unwrap();
        match run["state"].as_str() {
            Some("finished") => {
                let plan = client.get(format!("{base}/runs/{id}/plan")).send().await.unwrap();
                return plan.json().await.unwrap();
            }
            Some("queued" | "running") => tokio::time::sleep(std::time::Duration::from_millis(20)).await,
            _ => panic!("{run}"),
        }
    }
    panic!("the run did not end: {sql}");
}

/// A database whose texts are ordered by their bytes, as the engine orders them, to judge the language.
pub async fn language_judge() -> tokio_postgres::Client {
    static MADE: tokio::sync::OnceCell<()> = tokio::sync::OnceCell::const_new();
    MADE.get_or_init(|| async {
        let admin = product().database("postgres").await;
        admin.batch_execute("DROP DATABASE IF EXISTS language WITH (FORCE)").await.expect("dropped");
        let create = "CREATE DATABASE language TEMPLATE template0 ENCODING 'UTF8' LC_COLLATE 'C' LC_CTYPE 'C.UTF-8'";
        admin.batch_execute(create).await.expect("created");
    })
    .await;
    let client = product().database("language").await;
    client.batch_execute("SET timezone = 'UTC'").await.expect("set");
    client
}

/// A statement through the engine as a library, with its rows in the judge's form.
pub async fn in_engine(sql: &str) -> Result<Vec<String>, cobble_types::Error> {
    rows_in_engine(sql, plain).await
}

/// The same with each number in its own form and scale.
pub async fn rows_as_written(sql: &str) -> Result<Vec<String>, cobble_types::Error> {
    rows_in_engine(sql, as_written).await
}

async fn rows_in_engine(sql: &str, form: fn(&str) -> String) -> Result<Vec<String>, cobble_types::Error> {
    use cobble_engine::Engine;
    static ENGINE: OnceLock<std::sync::Arc<Engine>> = OnceLock::new();
    let engine = ENGINE.get_or_init(|| Engine::in_memory().expect("an engine"));
    rows_in_session(&mut engine.session(), sql, form).await
}

/// A statement in a session, with its rows in the judge's form.
pub async fn in_session(session: &mut cobble_engine::Session, sql: &str) -> Result<Vec<String>, cobble_types::Error> {
    rows_in_session(session, sql, plain).await
}

async fn rows_in_session(
    session: &mut cobble_engine::Session,
    sql: &str,
    form: fn(&str) -> String,
) -> Result<Vec<String>, cobble_types::Error> {
    // What runs is what was read from the serial form of its plan.
    session.set("planner.serial", "on")?;
    let mut execution = session.run_text(sql, &tokio_util::sync::CancellationToken::new()).await?;
    let mut rows = Vec::new();
    while let Some(batch) = execution.next().await? {
        for row in 0..batch.num_rows() {
            let values: Vec<String> = batch
                .columns()
                .iter()
                .map(|c| form(&cobble_types::array_value_text(c.as_ref(), row).unwrap_or_else(|| "∅".to_owned())))
                .collect();
            rows.push(values.join("|"));
        }
    }
    Ok(rows)
}

/// Runs every statement in the engine and at the judge and reports all that differ. Rows of a statement without ORDER BY at its
/// end may come in any order.
pub async fn compare_with_judge(prefix: &str, statements: &[&str]) {
    let judge = language_judge().await;
    let mut report = Vec::new();
    for statement in statements {
        let sql = format!("{prefix}{statement}");
        let mut wanted = match judged(&judge, &sql).await {
            Ok(rows) => rows,
            Err(error) => {
                report.push(format!("{statement}\n  the judge refuses it: {error}"));
                continue;
            }
        };
        let mut got = match in_engine(&sql).await {
            Ok(rows) => rows,
            Err(error) => {
                report.push(format!("{statement}\n  {error}"));
                continue;
            }
        };
        let ordered = statement.rsplit(')').next().is_some_and(|end| end.contains("ORDER BY"));
        if !ordered {
            got.sort();
            wanted.sort();
        }
        if got != wanted {
            report.push(format!("{statement}\n  got    {got:?}\n  wanted {wanted:?}"));
        }
    }
    assert!(report.is_empty(), "{} of {} differ\n\n{}", report.len(), statements.len(), report.join("\n\n"));
}
