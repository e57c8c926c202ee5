//! Many clients for a long time, some of whom read slowly, go away or change their mind: there are answers and honest refusals, and at the end
//! neither memory nor files nor sessions at the sources have grown. `COBBLE_LOAD` says for how many seconds.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use cobble_tests::{Product, SCALE};
use mysql_async::prelude::Queryable;
use rand::Rng;
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

/// In the tests there are fewer of everything than `COBBLE_LOAD` asks for.
struct Size {
    seconds: u64,
    clients: usize,
    rows: usize,
}

const SHORT: Size = Size { seconds: 5, clients: 40, rows: 20_000 };

fn size() -> Size {
    match std::env::var("COBBLE_LOAD").ok().and_then(|text| text.parse().ok()) {
        Some(seconds) => Size { seconds, clients: 200, rows: 200_000 },
        None => SHORT,
    }
}

const MEMORY_MIB: u64 = 512;
const BESIDES_MIB: u64 = 200;
/// What a client may take that is served: its connection, and a page on its way.
const CLIENT_MIB: u64 = 1;

/// Questions over all kinds of sources, with answers that do not change.
const QUESTIONS: &[&str] = &[
    "SELECT home_port, count(*) FROM fleet.public.pass_holders GROUP BY home_port ORDER BY home_port",
    "SELECT kind, count(*), sum(cost) FROM yard.yard.work_orders GROUP BY kind ORDER BY kind",
    "SELECT article, sum(quantity) FROM till.main.kiosk_sales GROUP BY article ORDER BY article",
    "SELECT p.name, count(*) FROM deep.ops.sailings s JOIN fleet.public.routes r ON r.id = s.route_id
        JOIN fleet.public.ports p ON p.id = r.from_port GROUP BY p.name ORDER BY 2 DESC, 1 LIMIT 5",
    "SELECT h.id, w.id FROM fleet.public.pass_holders h JOIN yard.yard.work_orders w ON w.id = h.id ORDER BY h.id LIMIT 50",
];

const PAGE: usize = 2_000;
const ENDLESS: &str =
    "SELECT count(*) FROM generate_series(1, 100000) a(n), generate_series(1, 100000) b(m) WHERE n + m < 0";

#[derive(Default)]
struct Seen {
    answers: u64,
    /// By SQLSTATE.
    refused: BTreeMap<String, u64>,
    wrong: Vec<String>,
    smallest: Vec<Duration>,
}

/// Errors that say of a limit that it is one.
const HONEST: &[&str] = &["53300", "53200", "53400"];

struct Client {
    http: reqwest::Client,
    runs: String,
    token: String,
    port: u16,
    wanted: Arc<Vec<Value>>,
    /// A statement with more rows than anybody wants at once, and how many.
    large: String,
    rows: usize,
    seen: Arc<Mutex<Seen>>,
}

impl Client {
    fn note(&self, sql: &str, outcome: Result<bool, Value>) {
        let mut seen = self.seen.lock().unwrap();
        match outcome {
            Ok(true) => seen.answers += 1,
            Ok(false) => seen.wrong.push(format!("{sql}: other rows")),
            Err(error) => match error["sqlstate"].as_str().filter(|state| HONEST.contains(state)) {
                Some(state) => *seen.refused.entry(state.to_owned()).or_default() += 1,
                None => seen.wrong.push(format!("{sql}: {error:.400}")),
            },
        }
    }

    async fn call(&self, request: reqwest::RequestBuilder) -> Result<Value, Value> {
        let broken = |e: reqwest::Error| json!({ "message": format!("{e:?}") });
        let response = request.send().await.map_err(broken)?;
        let good = response.status().is_success();
        let body: Value = response.json().await.map_err(broken)?;
        if good { Ok(body) } else { Err(body) }
    }

    async fn start(&self, sql: &str, wait: u64) -> Result<Value, Value> {
        let request = self.http.post(format!("{}?wait={wait}", self.runs));
        self.call(request.json(&json!({ "statement": sql }))).await
    }

    async fn page(&self, run: &Value, offset: usize, limit: usize) -> Result<Value, Value> {
        let id = run["id"].as_str().unwrap_or_default();
        self.call(self.http.get(format!("{}/{id}/rows?offset={offset}&limit={limit}", self.runs))).await
    }

    /// Rows of a statement whose result is small.
    async fn rows(&self, sql: &str) -> Result<Value, Value> {
        let mut run = self.start(sql, 10_000).await?;
        match run.get_mut("page").map(Value::take) {
            Some(page) => Ok(page["rows"].clone()),
            None => Ok(self.page(&run, 0, 1000).await?["rows"].clone()),
        }
    }

    async fn small(&self, number: u64) {
        let began = Instant::now();
        let sql = format!("SELECT {number}, count(*) FROM generate_series(1, 3) AS s(n)");
        let outcome = self.rows(&sql).await.map(|rows| rows == json!([[number, 3]]));
        if outcome.is_ok() {
            self.seen.lock().unwrap().smallest.push(began.elapsed());
        }
        self.note(&sql, outcome);
    }

    async fn question(&self, number: usize) {
        let sql = QUESTIONS[number % QUESTIONS.len()];
        let outcome = self.rows(sql).await.map(|rows| rows == self.wanted[number % QUESTIONS.len()]);
        self.note(sql, outcome);
    }

    /// Reads a large result a page at a time, with pauses, and sometimes not to its end.
    async fn slow_reader(&self) {
        let outcome = async {
            let run = self.start(&self.large, 0).await?;
            let pages = by_chance(1..(self.rows / PAGE / 2) as u64);
            for page in 0..pages {
                let rows = self.page(&run, page as usize * PAGE, PAGE).await?;
                if rows["rows"].as_array().is_none_or(|rows| rows.len() != PAGE) {
                    return Ok(false);
                }
                tokio::time::sleep(Duration::from_millis(by_chance(0..300))).await;
            }
            Ok(true)
        };
        self.note(&self.large, outcome.await);
    }

    async fn canceller(&self) {
        let outcome = async {
            let run = self.start(ENDLESS, 0).await?;
            tokio::time::sleep(Duration::from_millis(by_chance(0..400))).await;
            let id = run["id"].as_str().unwrap_or_default();
            let run = self.call(self.http.delete(format!("{}/{id}", self.runs))).await?;
            Ok(run["state"] == "cancelled")
        };
        self.note(ENDLESS, outcome.await);
    }

    /// Asks for much over a connection of its own, takes a little of it, and goes without a word.
    async fn rude(&self) {
        let Ok(run) = self.start(&self.large, 0).await else { return };
        let Ok(mut socket) = tokio::net::TcpStream::connect(("127.0.0.1", self.port)).await else { return };
        let asked = format!(
            "GET /api/v1/runs/{}/rows?limit=100000 HTTP/1.1\r\nHost: 127.0.0.1:{}\r\nAuthorization: Bearer {}\r\n\r\n",
            run["id"].as_str().unwrap_or_default(),
            self.port,
            self.token
        );
        let _ = socket.write_all(asked.as_bytes()).await;
        let mut piece = vec![0; 512];
        for _ in 0..by_chance(0..30) {
            let _ = tokio::time::timeout(Duration::from_secs(5), socket.read(&mut piece)).await;
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    async fn goes_on(self, number: usize, until: Instant) {
        let mut round = 0;
        while Instant::now() < until {
            match number % 20 {
                0..=9 => self.small((number as u64) * 1_000_000 + round).await,
                10..=15 => self.question(number + round as usize).await,
                16 | 17 => self.slow_reader().await,
                18 => self.canceller().await,
                _ => self.rude().await,
            }
            round += 1;
        }
    }
}

/// Resident memory in MiB, and open files.
fn taken(product: &Product) -> (u64, usize) {
    let status = std::fs::read_to_string(format!("/proc/{}/status", product.process())).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
    let memory = line.trim().trim_end_matches(" kB").parse::<u64>().unwrap() >> 10;
    (memory, std::fs::read_dir(format!("/proc/{}/fd", product.process())).unwrap().count())
}

fn by_chance(range: std::ops::Range<u64>) -> u64 {
    rand::rng().random_range(range)
}

fn middle(of: &[u64]) -> u64 {
    let mut of = of.to_vec();
    of.sort_unstable();
    of.get(of.len() / 2).copied().unwrap_or_default()
}

#[tokio::test(flavor = "multi_thread")]
async fn many_clients_leave_nothing_behind() {
    let Size { seconds, clients, rows } = size();
    let folder = tempfile::tempdir().unwrap();
    let product = Product::demo_within(folder.path(), SCALE, &format!("{MEMORY_MIB}MB"));
    let port = product.address.rsplit(':').next().unwrap().parse().unwrap();
    let seen = Arc::<Mutex<Seen>>::default();
    let http = product.http();
    let client = |wanted: &Arc<Vec<Value>>| Client {
        http: http.clone(),
        runs: format!("{}/api/v1/runs", product.address),
        token: product.token().trim().to_owned(),
        port,
        wanted: wanted.clone(),
        large: format!("SELECT n, md5(n::text) AS mark FROM generate_series(1, {rows}) AS s(n) ORDER BY mark"),
        rows,
        seen: seen.clone(),
    };
    let first = client(&Arc::default());
    let mut wanted = Vec::new();
    for sql in QUESTIONS {
        wanted.push(first.rows(sql).await.unwrap_or_else(|e| panic!("{sql}: {e}")));
    }
    assert!(wanted.iter().all(|rows| rows.as_array().is_some_and(|rows| !rows.is_empty())), "{wanted:?}");
    let wanted = Arc::new(wanted);
    let (_, files_before) = taken(&product);
    let until = Instant::now() + Duration::from_secs(seconds);
    let all: Vec<_> = (0..clients).map(|number| tokio::spawn(client(&wanted).goes_on(number, until))).collect();
    let (mut memory, mut files) = (Vec::new(), Vec::new());
    while Instant::now() < until {
        tokio::time::sleep(Duration::from_millis(500)).await;
        let (now, open) = taken(&product);
        memory.push(now);
        files.push(open as u64);
        if memory.len() % 60 == 0 {
            println!("{} s: {now} MiB, {open} files", memory.len() / 2);
        }
    }
    for client in all {
        client.await.unwrap();
    }
    // With its idle connections.
    drop((first, http));
    let mut seen = std::mem::take(&mut *seen.lock().unwrap());
    seen.smallest.sort_unstable();
    let at = |part: f64| seen.smallest[(seen.smallest.len() as f64 * part) as usize];
    let quarter = memory.len() / 4;
    let (second, last) = (middle(&memory[quarter..2 * quarter]), middle(&memory[3 * quarter..]));
    let open = (middle(&files[quarter..2 * quarter]), middle(&files[3 * quarter..]));
    println!(
        "{clients} clients, {seconds} s: {} answers, refused {:?}, {} wrong; the smallest: half within {:?}, 99 of 100 within {:?}; \
         resident {second} MiB in the second quarter, {last} MiB in the last, {} MiB at most; files {} and {}",
        seen.answers,
        seen.refused,
        seen.wrong.len(),
        at(0.5),
        at(0.99),
        memory.iter().max().unwrap(),
        open.0,
        open.1,
    );
    assert!(
        seen.wrong.is_empty(),
        "{} wrong, such as {}",
        seen.wrong.len(),
        seen.wrong[..seen.wrong.len().min(5)].join("\n")
    );
    assert!(seen.answers > 0);
    assert!(memory.iter().all(|now| *now <= MEMORY_MIB + BESIDES_MIB + clients as u64 * CLIENT_MIB), "{memory:?}");

    // What was left by those who went is ended, and nothing works on at the sources.
    let admin = product.database("fleet").await;
    let mut yard = product.mariadb().await;
    let began = Instant::now();
    loop {
        let busy = "SELECT count(*) FROM pg_stat_activity WHERE usename = 'reader' AND state <> 'idle'";
        let busy: i64 = admin.query_one(busy, &[]).await.unwrap().get(0);
        let working =
            "SELECT count(*) FROM information_schema.PROCESSLIST WHERE USER = 'reader' AND COMMAND <> 'Sleep'";
        let working: i64 = yard.query_first(working).await.unwrap().unwrap();
        let (_, now) = taken(&product);
        let spare = files_before + 40;
        if (busy, working) == (0, 0) && now <= spare {
            break;
        }
        let waited = began.elapsed();
        assert!(
            waited < Duration::from_secs(60),
            "{busy} and {working} sessions work, {now} files are open of {spare}"
        );
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    for sql in [
        "SELECT count(*) FROM pg_stat_activity WHERE usename = 'reader'",
        "SELECT count(*) FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid WHERE a.usename = 'reader'",
    ] {
        let left: i64 = admin.query_one(sql, &[]).await.unwrap().get(0);
        assert!(left <= 8, "{sql}: {left}");
    }
    product.stop();
}
