//! Redis as a source, on a server of its own: keys become tables, whole keys are asked for, and what does not fit is named.

use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Secret, Session};
use cobble_plan::offer::Verdict;

use crate::truth;
use crate::truth::answer;
use crate::truth::encryption::Authority;
use crate::truth::way::Way;
use cobble_network::ports::free_port;
use cobble_types::Code;

struct Server {
    port: u16,
    tls_port: u16,
    /// Of the authority that its certificate is signed by.
    ca_file: String,
}

fn server() -> &'static Server {
    static SERVER: OnceLock<Server> = OnceLock::new();
    SERVER.get_or_init(|| {
        let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("redis");
        std::fs::create_dir_all(&folder).unwrap();
        let port = free_port().unwrap();
        let tls_port = free_port().unwrap();
        let authority = Authority::new();
        let files = authority.identity("127.0.0.1", 2100).files(&folder);
        let ca_file = authority.file(&folder);
        let own_file = ca_file.clone();
        let mut command = Command::new("setpriv");
        command
            .args(["--pdeathsig", "KILL", "redis-server", "--bind", "127.0.0.1", "--save", "", "--appendonly", "no"])
            .args(["--requirepass", "a secret", "--port", &port.to_string(), "--tls-port", &tls_port.to_string()])
            .args(["--tls-auth-clients", "no", "--tls-ca-cert-file", &ca_file])
            .args(
                ["--tls-cert-file", "--tls-key-file"]
                    .iter()
                    .zip(&files)
                    .flat_map(|(name, file)| [(*name).into(), file.display().to_string()]),
            )
            .arg("--dir")
            .arg(&folder)
            .stdout(Stdio::null());
        // A thread of its own, which lives as long as the process: the server goes when the thread that started it does.
        std::thread::spawn(move || command.spawn().expect("redis-server is there: run `make test`").wait());
        let began = Instant::now();
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            assert!(began.elapsed() < Duration::from_secs(30), "the server does not start");
            std::thread::sleep(Duration::from_millis(20));
        }
        fill(port);
        Server { port, tls_port, ca_file: own_file }
    })
}

fn fill(port: u16) {
    let client = redis::Client::open(format!("redis://:a%20secret@127.0.0.1:{port}/0")).unwrap();
    let mut client = client.get_connection().unwrap();
    let mut all = redis::pipe();
    for n in 0..3000 {
        let berth =
            all.cmd("HSET").arg(format!("berth:{n}")).arg("port").arg(n % 40 + 1).arg("name").arg(format!("Berth {n}"));
        berth.arg("length_m").arg(format!("{}.5", n % 90)).arg("open").arg(if n % 3 == 0 { "true" } else { "false" });
        if n % 7 == 0 {
            berth.arg("since").arg("2025-07-01");
        }
        all.cmd("SET").arg(format!("tide:{n}")).arg(format!(
            "{{\"port\": {}, \"at\": \"2025-07-01T{:02}:00:00\", \"marks\": [{n}, 2], \"level\": {{\"m\": {}.25}}}}",
            n % 40 + 1,
            n % 24,
            n % 6
        ));
    }
    all.cmd("SET").arg("notice:fog").arg("fog on the bar").cmd("SET").arg("notice:rope").arg("mind the rope");
    all.cmd("RPUSH")
        .arg("queue:1")
        .arg("a")
        .cmd("HSET")
        .arg("mixed:1")
        .arg("a")
        .arg(1)
        .cmd("SET")
        .arg("mixed:2")
        .arg("x");
    all.cmd("SADD").arg("nocolon").arg("x");
    all.exec(&mut client).unwrap();
}

fn definition(name: &str, secret: &str) -> ConnectionDefinition {
    ConnectionDefinition {
        secret: Some(Secret::new(secret)),
        ..ConnectionDefinition::new(name, "redis", format!("127.0.0.1:{}", server().port))
    }
}

fn session(definition: ConnectionDefinition) -> Session {
    let engine = Engine::in_memory().unwrap();
    let name = definition.name.clone();
    engine.add_connection(definition).unwrap();
    engine.add_catalog(CatalogDefinition::new("quay", name)).unwrap();
    let mut session = engine.session();
    session.use_place("quay", Some("public")).unwrap();
    session
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_are_rows_of_tables() {
    let mut session = session(definition("quay_store", "a secret"));
    for (sql, wanted) in [
        (
            "SELECT count(*), count(since), sum(port), max(length_m), min(name) FROM berth",
            "3000|429|61500|89.5|Berth 0",
        ),
        ("SELECT count(*) FROM berth WHERE open AND since = date '2025-07-01'", "143"),
        ("SELECT count(*), max(at), sum((level).m), max(marks[1]) FROM tide", "3000|2025-07-01 23:00:00|8250|2999"),
        ("SELECT value FROM notice WHERE key = 'notice:fog'", "fog on the bar"),
        (
            "SELECT key, name, since FROM berth WHERE key IN ('berth:14', 'berth:99999', 'tide:3', null)",
            "berth:14|Berth 14|2025-07-01",
        ),
        ("SELECT count(DISTINCT key) FROM berth WHERE key LIKE 'berth:29%'", "111"),
        (
            "SELECT b.name, (t.level).m FROM berth b JOIN tide t ON t.key = 'tide:' || substring(b.key from 7) WHERE b.key = 'berth:8'",
            "Berth 8|2.25",
        ),
        ("SELECT count(*) FROM (SELECT key FROM berth LIMIT 10 OFFSET 3) x", "10"),
        ("SELECT count(*) FROM berth WHERE key = 'berth:1' AND key = 'berth:2'", "0"),
    ] {
        let (rows, _) = answer(&mut session, sql).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
        assert_eq!(rows, [wanted], "{sql}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whole_keys_are_asked_for_and_the_rest_is_kept() {
    let mut session = session(definition("quay_store", "a secret"));
    let statements = [
        "SELECT name FROM berth WHERE key = 'berth:5'",
        "SELECT name FROM berth WHERE key IN ('berth:5', 'berth:7') AND open",
        "SELECT name FROM berth WHERE key = 'berth:5' OR key = 'berth:9'",
        "SELECT count(*) FROM berth WHERE key > 'berth:5'",
        "SELECT count(*) FROM berth WHERE port = 5",
        "SELECT port, count(*) FROM berth GROUP BY port",
        "SELECT name FROM berth ORDER BY name LIMIT 3",
        "SELECT b.name FROM berth b JOIN (VALUES ('berth:17'), ('berth:18'), ('x')) v(k) ON v.k = b.key",
    ];
    let all: Vec<String> = statements.iter().map(|s| (*s).to_owned()).collect();
    insta::assert_snapshot!(truth::table(&mut session, &all, "no such hint").await);
    session.set("planner.off", "").unwrap();
    for (sql, rows) in [(statements[1], 2), (statements[7], 2)] {
        let (_, plan) = answer(&mut session, sql).await.unwrap();
        let gate = plan.unwrap().gates.into_iter().find(|gate| gate.kind == "redis").unwrap();
        assert_eq!(gate.measure.unwrap().rows, rows, "{sql}: only the keys asked for cross");
        assert!(gate.pieces.iter().any(|piece| !matches!(piece.verdict, Verdict::Kept { .. })), "{sql}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_does_not_fit_is_named() {
    let mut told = String::new();
    let mut session_one = session(definition("quay_store", "a secret"));
    for sql in ["SELECT * FROM queue", "SELECT * FROM mixed", "SELECT * FROM nothing", "SELECT * FROM nocolon"] {
        let error = answer(&mut session_one, sql).await.unwrap_err();
        told.push_str(&format!(
            "{sql}\n    {} {}; {}\n",
            error.code.sqlstate(),
            error.message,
            error.hint.unwrap_or_default()
        ));
    }
    let mut named = definition("named", "a secret");
    named.options.insert("tables".into(), "odd=mixed:1, berths=berth:1*".into());
    let mut session_two = session(named);
    assert_eq!(answer(&mut session_two, "SELECT a FROM odd").await.unwrap().0, ["1"]);
    assert_eq!(answer(&mut session_two, "SELECT count(*) FROM berths").await.unwrap().0, ["1111"]);
    let mut closed = definition("closed", "a secret");
    closed.address = "127.0.0.1:1".into();
    for definition in [definition("good", "a secret"), definition("wrong", "another"), closed] {
        told.push_str(&truth::steps(&definition.name, &definition).await);
    }
    assert!(!told.contains("a secret") && !told.contains("another\""));
    insta::assert_snapshot!(told.replace(&server().port.to_string(), "PORT"));
}

#[tokio::test(flavor = "multi_thread")]
async fn connections_are_encrypted_where_it_is_wanted() {
    let with = |name: &str, port: u16, options: &[(&str, &str)]| {
        let mut definition = definition(name, "a secret");
        definition.address = format!("127.0.0.1:{port}");
        definition.options.extend(options.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())));
        definition
    };
    let encrypted = [("tls", "true"), ("ca_file", server().ca_file.as_str())];
    let mut told = String::new();
    for definition in [
        with("good", server().tls_port, &encrypted),
        with("unknown_authority", server().tls_port, &[("tls", "true")]),
        with("a_port_that_does_not_encrypt", server().port, &encrypted),
        with("not_looked_at", server().tls_port, &[("tls", "true"), ("unverified", "true")]),
        with("not_encrypted_and_not_looked_at", server().port, &[("unverified", "true")]),
        with("in_the_clear", server().tls_port, &[("connect_limit", "1"), ("request_limit", "1")]),
    ] {
        told.push_str(&truth::steps(&definition.name, &definition).await);
    }
    let told = told.replace(&server().tls_port.to_string(), "TLS_PORT").replace(&server().port.to_string(), "PORT");
    insta::assert_snapshot!(told);
    let mut session = session(with("good", server().tls_port, &encrypted));
    assert_eq!(answer(&mut session, "SELECT count(*) FROM berth").await.unwrap().0, ["3000"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_store_that_breaks_off_or_falls_silent_is_an_error_and_comes_back() {
    let way = Way::to(format!("127.0.0.1:{}", server().port)).await;
    let mut behind = definition("behind", "a secret");
    behind.address = format!("127.0.0.1:{}", way.port);
    behind.options.insert("request_limit".into(), "2".into());
    let mut session = session(behind);
    let sql = "SELECT count(*), sum(length(name)), min(port) FROM berth";
    let whole = answer(&mut session, sql).await.unwrap().0;
    for (bytes, silent) in [(0, false), (200, false), (9_000, false), (60_000, false), (9_000, true)] {
        way.breaks_after(bytes, silent);
        match answer(&mut session, sql).await {
            Ok((rows, _)) => assert_eq!(rows, whole, "after {bytes}"),
            Err(error) => {
                let known = [Code::SourceUnreachable, Code::SourceTimeout];
                assert!(known.contains(&error.code), "after {bytes}: {error:?}");
                assert!(error.message.contains("connection behind") && error.hint.is_some(), "after {bytes}: {error}");
            }
        }
        way.mend();
        way.close_all();
        let began = Instant::now();
        let rows = loop {
            match answer(&mut session, sql).await {
                // A machine with other work may need longer than the limit that is set here.
                Err(error)
                    if (error.message.contains("asked again in") || error.code == Code::SourceTimeout)
                        && began.elapsed() < Duration::from_secs(60) =>
                {
                    tokio::time::sleep(Duration::from_millis(300)).await;
                }
                outcome => break outcome.unwrap().0,
            }
        };
        assert_eq!(rows, whole, "after {bytes}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_changed_by_chance_are_read_or_refused() {
    let way = Way::to(format!("127.0.0.1:{}", server().port)).await;
    let mut behind = definition("behind", "a secret");
    behind.address = format!("127.0.0.1:{}", way.port);
    behind.options.insert("request_limit".into(), "1".into());
    let sqls = [
        "SELECT count(*), sum(length(name)), min(port) FROM berth",
        "SELECT count(*), max(at), min(marks) FROM tide WHERE key LIKE 'tide:1%'",
        "SELECT * FROM notice",
    ];
    truth::garbled(&way, "behind", &sqls, || session(behind.clone())).await;
}

/// Starts of answers that would take more than there is, one for each connection, each followed by more of the same without an end.
const ENDLESS: &[(&str, &str)] = &[
    ("$4000000000\r\n", "x"),
    ("*2000000000\r\n", ":1\r\n"),
    ("*1\r\n", "*1\r\n"),
    ("%1000000000\r\n", "$1\r\na\r\n"),
    ("+", "x"),
    ("*2\r\n$1\r\n0\r\n*2000000000\r\n", "$5\r\nberth\r\n"),
];

/// A server that lets everybody in and then does not stop speaking.
async fn endless(start: &'static str, more: &'static str) -> u16 {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((mut client, _)) = listener.accept().await {
            tokio::spawn(async move {
                let mut asked = vec![0; 65536];
                while let Ok(count @ 1..) = client.read(&mut asked).await {
                    let commands = String::from_utf8_lossy(&asked[..count]).to_uppercase();
                    if !["SCAN", "TYPE", "HGETALL", "HMGET"].iter().any(|name| commands.contains(name)) {
                        let count = commands.lines().filter(|line| line.starts_with('*')).count();
                        let _ = client.write_all("+OK\r\n".repeat(count).as_bytes()).await;
                        continue;
                    }
                    let _ = client.write_all(start.as_bytes()).await;
                    let piece = more.repeat(65_536 / more.len());
                    while client.write_all(piece.as_bytes()).await.is_ok() {}
                    return;
                }
            });
        }
    });
    port
}

#[tokio::test(flavor = "multi_thread")]
async fn a_store_that_does_not_stop_speaking_is_left() {
    for (start, more) in ENDLESS {
        let mut talker = definition("talker", "a secret");
        talker.address = format!("127.0.0.1:{}", endless(start, more).await);
        talker.options.insert("longest_answer".into(), "2".into());
        let error = answer(&mut session(talker), "SELECT * FROM berth").await.unwrap_err();
        assert!(error.message.contains("connection talker"), "{start:?}: {error}");
        let known = ["an answer has more than 2 MiB", "cannot be read", "within an answer"];
        assert!(known.iter().any(|words| error.message.contains(words)), "{start:?}: {error}");
    }
}
