//! Programs that speak the connector protocol. The two examples, one in Rust and one in Python, serve the same tide tables and have to pass
//! the same test: every fragment gives the same rows handed over and kept back, and the same from both. Programs that do wrong are named.

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use arrow::array::{ArrayRef, Int64Array, RecordBatch, StringArray};
use arrow::datatypes::{DataType, Field, Schema};
use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Secret, Session};
use cobble_plan::offer::Verdict;
use cobble_serve::{Answer, Description, Offer, Piece, Request, Rows, TableName, Tables, serve};
use cobble_types::Code;
use tokio_util::sync::CancellationToken;

use crate::truth;
use crate::truth::answer;
use crate::truth::encryption::Authority;
use crate::truth::way::Way;

struct Running {
    child: Child,
    port: u16,
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Starts a program that says where it listens.
fn start(program: &Path, arguments: &[&Path]) -> Running {
    let mut child = Command::new(program)
        .args(arguments)
        .arg("127.0.0.1:0")
        .env("TIDE_TABLES_SECRET", "spring tide")
        .stdout(Stdio::piped())
        .spawn()
        .unwrap_or_else(|e| panic!("{}: {e}; `make test` makes it", program.display()));
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let port = line.trim().rsplit(':').next().and_then(|port| port.parse().ok());
    Running { child, port: port.unwrap_or_else(|| panic!("{}: {line}", program.display())) }
}

fn in_rust() -> Running {
    let here = std::env::current_exe().unwrap();
    start(&here.parent().unwrap().with_file_name("examples").join("tide_tables"), &[])
}

fn in_python() -> Running {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let script: PathBuf = root.join("crates/cobble-serve/examples/tide_tables.py");
    start(&root.join("target/python/bin/python"), &[&script])
}

fn session_on(port: u16, secret: Option<&str>, options: &[(&str, &str)]) -> Session {
    let engine: Arc<Engine> = Engine::in_memory().unwrap();
    let mut definition = ConnectionDefinition::new("almanac", "flight", format!("127.0.0.1:{port}"));
    definition.secret = secret.map(Secret::new);
    definition.options.insert("metadata_life".into(), "0".into());
    definition.options.extend(options.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())));
    engine.add_connection(definition).unwrap();
    engine.add_connection(ConnectionDefinition::new("tides_maker", "generated", "")).unwrap();
    engine.add_catalog(CatalogDefinition::new("almanac", "almanac")).unwrap();
    engine.add_catalog(CatalogDefinition::new("tides", "tides_maker")).unwrap();
    let mut session = engine.session();
    session.use_place("almanac", None).unwrap();
    session
}

fn statements() -> Vec<String> {
    let conditions = [
        "id = 5",
        "id <> 5",
        "id IN (1, 7, null)",
        "id NOT IN (1, 7)",
        "id BETWEEN 10 AND 20",
        "port_id = 3",
        "port_id > 39::bigint",
        "port_id < 2.5",
        "3 <= port_id AND port_id < 5",
        "port_id = 3 OR kind = 'low'",
        "NOT (port_id > 1)",
        "kind = 'high'",
        "kind < 'i'",
        "kind LIKE 'h%'",
        "kind ILIKE 'H%'",
        "upper(kind) = 'HIGH'",
        "note IS NULL",
        "note IS NOT NULL",
        "note = 'spring tide'",
        "note <> 'neap tide'",
        "note IS DISTINCT FROM 'spring tide'",
        "note IS NOT DISTINCT FROM null",
        "NOT (note = 'spring tide')",
        "note = 'spring tide' OR null",
        "height > 4.5",
        "height * 2 > 9",
        "at >= timestamp '2025-03-31'",
        "id + 1 = 6",
        "id % 1000 = 0",
        "id / 1000 = 3",
        "CASE WHEN port_id > 1 THEN id ELSE 0 END = 0",
        "random() >= 0 AND id = 3",
    ];
    let whole = [
        "SELECT count(*) FROM tides",
        "SELECT * FROM tides WHERE id IN (0, 57, 14119)",
        "SELECT port_id, kind, min(height), max(height), sum(height), min(at), max(at), count(note) FROM tides GROUP BY port_id, kind",
        "SELECT count(*) FROM (SELECT id FROM tides WHERE port_id = 2 LIMIT 7 OFFSET 2) x",
        "SELECT t.id, s.id FROM tides t JOIN tides s ON s.id = t.id + 1 WHERE t.id < 10",
        "SELECT p.name, t.height FROM tides t JOIN tides.creek.ports p ON p.id = t.port_id WHERE p.id IN (3, 4) AND t.id % 100 = 0",
        "SELECT count(*) FROM tides WHERE id < 0",
        "SELECT count(*), count(note), min(id), max(note), count(DISTINCT kind) FROM tides WHERE id < 0",
        "SELECT port_id, count(*), count(note), min(id) FROM tides GROUP BY port_id",
        "SELECT kind, port_id, max(id), min(note), count(DISTINCT note) FROM tides WHERE port_id > 30 GROUP BY port_id, kind",
        "SELECT kind, count(*) FILTER (WHERE id % 2 = 0), count(id) FILTER (WHERE note IS NULL) FROM tides GROUP BY kind",
        "SELECT kind, count(*) FILTER (WHERE port_id = 3) FROM tides GROUP BY kind HAVING count(*) > 10",
        "SELECT kind, max(id) FROM tides GROUP BY kind ORDER BY max(id) DESC LIMIT 1",
        "SELECT DISTINCT kind FROM tides WHERE port_id < 3",
        "SELECT DISTINCT note FROM tides",
        "SELECT kind, sum(id) FROM tides GROUP BY kind",
        "SELECT kind, max(height), avg(id) FROM tides GROUP BY kind",
        "SELECT count(*) FROM (SELECT kind FROM tides GROUP BY kind, port_id) x",
        "SELECT count(*), max(id) FROM (SELECT id FROM tides WHERE port_id = 2 LIMIT 7) x",
        "SELECT id, note FROM tides WHERE port_id > 3 ORDER BY id LIMIT 5",
        "SELECT id FROM tides ORDER BY id DESC LIMIT 5",
        "SELECT id, kind FROM tides ORDER BY kind, id LIMIT 3 OFFSET 1",
        "SELECT id FROM tides WHERE id < 9 ORDER BY id",
        "SELECT p.name, t.n FROM (SELECT port_id, count(*) AS n FROM tides GROUP BY port_id) t JOIN tides.creek.ports p ON p.id = t.port_id WHERE p.id IN (3, 4)",
    ];
    let counted = conditions.iter().map(|c| format!("SELECT count(*), min(id), max(id) FROM tides WHERE {c}"));
    counted.chain(whole.into_iter().map(str::to_owned)).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn both_programs_give_the_same_whatever_is_handed_over() {
    let mut tables = Vec::new();
    let mut answers = Vec::new();
    for program in [in_rust(), in_python()] {
        let mut session = session_on(program.port, Some("spring tide"), &[]);
        tables.push(truth::table(&mut session, &statements(), "-").await);
        session.set("planner.off", "").unwrap();
        // Each has been the same handed over and kept back; whole tables are the same in both programs.
        for statement in statements().iter().filter(|statement| !statement.contains("random()")).step_by(4) {
            answers.push((statement.clone(), answer(&mut session, statement).await.unwrap().0));
        }
        // Keys of a join leave out what has no partner, at the program.
        let sql = "SELECT count(*) FROM tides t JOIN tides.creek.ports p ON p.id = t.port_id WHERE p.name < 'C'";
        let (rows, plan) = answer(&mut session, sql).await.unwrap();
        let gate = plan.unwrap().gates.into_iter().find(|gate| gate.kind == "flight").unwrap();
        assert!(gate.pieces.iter().any(|piece| matches!(piece.verdict, Verdict::Prunes { .. })));
        let measure = gate.measure.unwrap();
        assert_eq!(rows, [measure.rows.to_string()], "only rows with a partner cross");
        assert!(measure.rows < 14_120 && measure.keys.len() == 1, "{measure:?}");
    }
    assert_eq!(tables[0], tables[1], "the same verdicts");
    let (rust, python) = answers.split_at(answers.len() / 2);
    assert_eq!(rust, python, "the same rows");
    insta::assert_snapshot!("tide_tables", tables[0]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_test_names_the_setting_at_fault() {
    let program = in_rust();
    let mut shown = String::new();
    let closed = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let web = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let web_port = web.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in web.incoming().flatten() {
            let _ = std::io::Write::write_all(&mut &stream, b"HTTP/1.1 400 Bad Request\r\n\r\n");
        }
    });
    for (name, port, secret) in [
        ("all well", program.port, Some("spring tide")),
        ("wrong secret", program.port, Some("neap tide")),
        ("no secret", program.port, None),
        ("closed port", closed, Some("spring tide")),
        ("another kind of server", web_port, None),
    ] {
        let mut definition = ConnectionDefinition::new("almanac", "flight", format!("127.0.0.1:{port}"));
        definition.secret = secret.map(Secret::new);
        shown.push_str(&truth::steps(name, &definition).await);
    }
    for (port, name) in [(program.port, "[port]"), (closed, "[closed]"), (web_port, "[web]")] {
        shown = shown.replace(&port.to_string(), name);
    }
    let folder = tempfile::tempdir().unwrap();
    let authority = Authority::new();
    let ca_file = authority.file(folder.path());
    let encrypted = authority.identity("127.0.0.1", 2100).before(format!("127.0.0.1:{}", program.port)).await;
    for (name, port, options) in [
        ("encrypted", encrypted, vec![("tls", "true"), ("ca_file", ca_file.as_str())]),
        ("encrypted by nobody known", encrypted, vec![("tls", "true")]),
        ("encrypted, and not looked at", encrypted, vec![("tls", "true"), ("unverified", "true")]),
        ("not encrypted", program.port, vec![("tls", "true"), ("unverified", "true")]),
    ] {
        let mut definition = ConnectionDefinition::new("almanac", "flight", format!("127.0.0.1:{port}"));
        definition.secret = Some(Secret::new("spring tide"));
        definition.options.extend(options.into_iter().map(|(k, v)| (k.to_owned(), v.to_owned())));
        shown.push_str(&truth::steps(name, &definition).await);
    }
    for (port, name) in [(program.port, "[port]"), (encrypted, "[encrypted]")] {
        shown = shown.replace(&port.to_string(), name);
    }
    assert!(!shown.contains("spring tide"), "{shown}");
    insta::assert_snapshot!("steps_to_a_program", shown);
    let mut session = session_on(encrypted, Some("spring tide"), &[("tls", "true"), ("ca_file", &ca_file)]);
    let sql = "SELECT count(*) FROM almanac.public.tides WHERE port_id = 3";
    let mut plain = session_on(program.port, Some("spring tide"), &[]);
    assert_eq!(answer(&mut session, sql).await.unwrap().0, answer(&mut plain, sql).await.unwrap().0);
    for address in ["tide.example.test", "https://tide.example.test:7340", "a b:1"] {
        assert!(
            Engine::in_memory().unwrap().add_connection(ConnectionDefinition::new("p", "flight", address)).is_err()
        );
    }
}

/// A program with one table for each way to do wrong.
#[derive(Default)]
struct Wrong {
    described: AtomicU64,
}

impl Tables for Wrong {
    fn list(&self) -> Result<Vec<TableName>, String> {
        let names = ["breaks", "hangs", "nulls", "other_type", "endless", "changes", "fine"];
        Ok(names.map(|name| TableName { schema: "public".into(), name: name.into() }).to_vec())
    }

    fn describe(&self, table: &TableName) -> Result<Option<Description>, String> {
        // It is described otherwise when rows are asked for.
        let other = table.name == "changes" && self.described.fetch_add(1, Ordering::Relaxed) > 0;
        let number = if other { DataType::Utf8 } else { DataType::Int64 };
        let fields = vec![Field::new("n", number, false), Field::new("s", DataType::Utf8, true)];
        let known = self.list()?.contains(table);
        Ok(known.then(|| Description { schema: Arc::new(Schema::new(fields)), rows: None, bytes: None }))
    }

    fn offer(&self, offer: &Offer) -> Answer {
        match (&offer.piece, offer.table.name.as_str()) {
            (Piece::Filter(_), "hangs") => {
                std::thread::sleep(Duration::from_secs(3));
                Answer::pushed()
            }
            _ => Answer::kept("nothing"),
        }
    }

    fn rows(&self, request: &Request, _: usize) -> Result<Rows, String> {
        let batch = |n: ArrayRef, s: ArrayRef| {
            RecordBatch::try_from_iter_with_nullable([("n", n, true), ("s", s, true)]).unwrap()
        };
        let numbers = || Arc::new(Int64Array::from_iter_values(0..1000)) as ArrayRef;
        let texts = || Arc::new(StringArray::from_iter_values((0..1000).map(|n| n.to_string()))) as ArrayRef;
        let good = move || batch(numbers(), texts());
        let wanted: Vec<usize> = request.columns.iter().map(|c| usize::from(c == "s")).collect();
        let rows: Box<dyn Iterator<Item = Result<RecordBatch, String>> + Send> = match request.table.name.as_str() {
            "breaks" => Box::new([Ok(good()), Err("the harbour wall gave way".to_owned())].into_iter()),
            "hangs" => Box::new((0..2).map(move |n| {
                std::thread::sleep(Duration::from_secs(n * 5));
                Ok(good())
            })),
            "nulls" => {
                let nulls = Arc::new((0..1000).map(|n| (n % 7 > 0).then_some(n)).collect::<Int64Array>());
                Box::new(std::iter::once(Ok(batch(nulls, texts()))))
            }
            "other_type" | "changes" => Box::new(std::iter::once(Ok(batch(texts(), texts())))),
            "endless" => Box::new(std::iter::repeat_with(move || Ok(good()))),
            _ => Box::new(std::iter::once(Ok(good()))),
        };
        Ok(Box::new(rows.map(move |batch| batch?.project(&wanted).map_err(|e| e.to_string()))))
    }
}

async fn wrong_program() -> u16 {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(serve(listener, Arc::new(Wrong::default()), None));
    port
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_program_does_wrong_is_named() {
    let mut session = session_on(wrong_program().await, None, &[("request_limit", "3")]);
    let mut shown = String::new();
    for sql in [
        "SELECT sum(n) FROM fine",
        "SELECT sum(n) FROM breaks",
        "SELECT sum(n) FROM nulls",
        "SELECT max(n) FROM other_type",
        "SELECT max(n) FROM changes",
        "SELECT count(n) FROM hangs",
        "SELECT count(n) FROM missing",
    ] {
        let outcome = match answer(&mut session, sql).await {
            Ok((rows, _)) => rows.join(", "),
            Err(error) => format!("{} {error}", error.code.sqlstate()),
        };
        shown.push_str(&format!("{sql}\n    {outcome}\n"));
    }
    insta::assert_snapshot!("wrong_programs", shown);
    // A program that does not answer an offer is not waited for longer than the limit, and the work is done here.
    let began = Instant::now();
    let (_, plan) = answer(&mut session, "EXPLAIN SELECT n FROM hangs WHERE n > 5")
        .await
        .map(|(rows, _)| (rows.clone(), rows))
        .unwrap();
    assert!(plan.join(" ").contains("the program gave no answer"), "{plan:?}");
    assert!(began.elapsed() < Duration::from_secs(60));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_long_stream_is_cancelled_and_a_lost_program_is_an_error() {
    let mut session = session_on(wrong_program().await, None, &[]);
    let cancel = CancellationToken::new();
    let mut execution = session.run_text("SELECT n FROM endless", &cancel).await.unwrap();
    assert!(execution.next().await.unwrap().is_some());
    cancel.cancel();
    let began = Instant::now();
    let error = loop {
        match execution.next().await {
            Ok(Some(_)) => {}
            Ok(None) => panic!("an endless stream came to its end"),
            Err(error) => break error,
        }
    };
    assert_eq!(error.code, Code::Cancelled);
    assert!(began.elapsed() < Duration::from_secs(30));

    let program = in_rust();
    let mut session = session_on(program.port, Some("spring tide"), &[]);
    let mut execution = session
        .run_text("SELECT a.id, b.id FROM tides a JOIN tides b ON a.kind = b.kind", &CancellationToken::new())
        .await
        .unwrap();
    assert!(execution.next().await.unwrap().is_some());
    drop(execution);
    drop(program);
    let error = answer(&mut session, "SELECT count(*) FROM tides").await.unwrap_err();
    assert_eq!(error.code, Code::SourceUnreachable, "{error}");
    assert!(
        error.to_string().starts_with("connection almanac: the ") && error.to_string().contains("127.0.0.1:"),
        "{error}"
    );
}

/// A program that gives its rows once the other one has been asked for its own.
struct Meeting(Arc<(std::sync::Mutex<usize>, std::sync::Condvar)>);

impl Tables for Meeting {
    fn list(&self) -> Result<Vec<TableName>, String> {
        Ok(vec![TableName { schema: "public".into(), name: "pilots".into() }])
    }

    fn describe(&self, _: &TableName) -> Result<Option<Description>, String> {
        let schema = Arc::new(Schema::new(vec![Field::new("port_id", DataType::Int64, false)]));
        Ok(Some(Description { schema, rows: Some(3), bytes: None }))
    }

    fn offer(&self, _: &Offer) -> Answer {
        Answer::kept("nothing")
    }

    fn rows(&self, request: &Request, _: usize) -> Result<Rows, String> {
        let (asked, changed) = &*self.0;
        let mut count = asked.lock().unwrap();
        *count += 1;
        changed.notify_all();
        let (count, _) = changed
            .wait_timeout_while(count, Duration::from_secs(20), |count| *count < 2)
            .map_err(|e| e.to_string())?;
        if *count < 2 {
            return Err("the other program was not asked meanwhile".to_owned());
        }
        let numbers: ArrayRef = Arc::new(Int64Array::from(vec![1, 2, 3]));
        let batch = RecordBatch::try_from_iter([("port_id", numbers)]).unwrap();
        let wanted: Vec<usize> = request.columns.iter().map(|_| 0).collect();
        Ok(Box::new(std::iter::once(batch.project(&wanted).map_err(|e| e.to_string()))))
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_build_sides_of_two_sources_are_loaded_at_the_same_time() {
    let engine = Engine::in_memory().unwrap();
    let meeting: Arc<(std::sync::Mutex<usize>, std::sync::Condvar)> = Arc::default();
    for name in ["north", "south"] {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap().to_string();
        tokio::spawn(serve(listener, Arc::new(Meeting(meeting.clone())), None));
        engine.add_connection(ConnectionDefinition::new(name, "flight", address)).unwrap();
        engine.add_catalog(CatalogDefinition::new(name, name)).unwrap();
    }
    engine.add_connection(ConnectionDefinition::new("tides_maker", "generated", "")).unwrap();
    engine.add_catalog(CatalogDefinition::new("tides", "tides_maker")).unwrap();
    let sql = "SELECT count(*) > 0 FROM tides.creek.boardings b
        JOIN north.public.pilots n ON n.port_id = b.route_id JOIN south.public.pilots s ON s.port_id = b.route_id";
    assert_eq!(answer(&mut engine.session(), sql).await.unwrap().0, ["true"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_changed_by_chance_are_read_or_refused() {
    let program = in_rust();
    let way = Way::to(format!("127.0.0.1:{}", program.port)).await;
    let sqls = [
        "SELECT count(*), max(height), min(note) FROM tides",
        "SELECT * FROM tides WHERE port_id = 3",
        "SELECT kind, count(*) FROM tides GROUP BY kind",
    ];
    let port = way.port;
    let session = || session_on(port, Some("spring tide"), &[("request_limit", "2")]);
    truth::garbled(&way, "almanac", &sqls, session).await;
}
