//! What would take all memory, or all of the service's time, is answered or refused with the limit's name; the process stays within its bound.

use std::io::Write;
use std::time::Duration;

use cobble_tests::Product;
use serde_json::{Value, json};

/// What all runs may hold, and what the process may take besides.
const MEMORY_MIB: u64 = 512;
const BESIDES_MIB: u64 = 200;

/// A statement that asks for far more than there is, and what comes of it: an answer, or a part of an error.
const BOMBS: &[(&str, &str)] = &[
    ("SELECT max(length(repeat('x', 60000000 + g))) FROM generate_series(1, 9000) AS t(g) WHERE g < 20", "60000019"),
    (
        "SELECT count(*) FROM (SELECT repeat('x', 60000000 + g) AS r FROM generate_series(1, 10) AS t(g)) q WHERE r LIKE '%y%'",
        "0",
    ),
    ("SELECT replace(repeat('x', 1000000), 'x', repeat('y', 1000000))", "replace makes more than"),
    ("SELECT lpad('x', 2000000000, 'yz')", "larger than 64 MiB"),
    (
        "SELECT length(array_to_string(array_fill(7, ARRAY[1000000]), repeat('y', 1000000)))",
        "array_to_string makes more than",
    ),
    (
        "SELECT length(regexp_replace(repeat('x', 1000000), 'x', repeat('y', 100000), 'g'))",
        "regexp_replace makes more than",
    ),
    ("SELECT length(format('%1$s%1$s%1$s%1$s%1$s%1$s%1$s%1$s', repeat('x', 60000000)))", "format() makes more than"),
    (
        "WITH RECURSIVE d(n) AS (SELECT 1 UNION ALL SELECT n FROM d CROSS JOIN generate_series(1, 2) AS s(k)) SELECT count(*) FROM d",
        "memory",
    ),
    (
        "WITH RECURSIVE d(n) AS (SELECT 1::bigint UNION SELECT n * 2 + k FROM d CROSS JOIN generate_series(0, 1) AS s(k)) SELECT count(*) FROM d",
        "memory",
    ),
    (
        "SELECT a, g FROM (SELECT array_fill(7, ARRAY[1000000]) AS a) q CROSS JOIN generate_series(1, 100000) AS t(g) ORDER BY g DESC LIMIT 1",
        "memory",
    ),
    ("SELECT length(string_agg(repeat('x', 1000000), ',')) FROM generate_series(1, 3000) AS t(g)", "memory"),
    (
        "SELECT max(length(r)) FROM (SELECT string_agg(repeat('x', 1000), ',') OVER (ORDER BY g) AS r FROM generate_series(1, 20000) AS t(g)) q",
        "memory",
    ),
    (
        "SELECT count(*) FROM (SELECT max(repeat('x', 100000) || g) OVER (ORDER BY g) AS r FROM generate_series(1, 20000) AS t(g)) q WHERE r > ''",
        "memory",
    ),
    ("SELECT count(DISTINCT repeat('x', 1000000) || g) FROM generate_series(1, 3000) AS t(g)", "memory"),
    (
        "SELECT r FROM (SELECT repeat('x', 1000000) || g AS r FROM generate_series(1, 3000) AS t(g)) q ORDER BY r DESC LIMIT 1 OFFSET 2999",
        "memory",
    ),
    (
        "SET run.spill = '4MB'; SET run.memory = '8MB'; SELECT g FROM generate_series(1, 3000000) AS t(g) ORDER BY md5(g::text)",
        "run.spill",
    ),
    ("SELECT repeat('x', 60000000 + g) FROM generate_series(1, 100) AS t(g)", "larger than 1024 MiB"),
    // Files.
    ("SELECT count(*) FROM bombs.public.unclosed", "longest_record"),
    ("SELECT count(*) FROM bombs.public.one_line", "longest_record"),
    ("SELECT max(length(note)) FROM bombs.public.packed", "longest_record"),
];

fn peak_mib(product: &Product) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{}/status", product.process())).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap();
    line.trim().trim_end_matches(" kB").parse::<u64>().unwrap() >> 10
}

async fn said(product: &Product, statement: &str) -> Result<Value, String> {
    let (http, base) = (product.http(), format!("{}/api/v1/runs", product.address));
    let run = http.post(&base).json(&json!({ "statement": statement })).send().await.unwrap();
    let run: Value = run.json().await.unwrap();
    let id = run["id"].as_str().ok_or_else(|| run.to_string())?;
    let rows = http.get(format!("{base}/{id}/rows?limit=1")).send().await.unwrap();
    let (good, body) = (rows.status().is_success(), rows.json::<Value>().await.unwrap());
    // A result may be too large after its first row.
    loop {
        let run: Value = http.get(format!("{base}/{id}")).send().await.unwrap().json().await.unwrap();
        match run["state"].as_str() {
            Some("running") => tokio::time::sleep(Duration::from_millis(20)).await,
            Some("failed") => return Err(run["error"].to_string()),
            _ => break,
        }
    }
    if good { Ok(body["rows"].clone()) } else { Err(body.to_string()) }
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_takes_more_memory_than_there_may_be() {
    let folder = tempfile::tempdir().unwrap();
    let product = Product::small(&folder.path().join("lane"), &format!("{MEMORY_MIB}MB"));
    let data = folder.path().join("bombs");
    std::fs::create_dir(&data).unwrap();
    // Good at first, so that their columns are found; then one record that does not end.
    let piece = vec![b'x'; 1 << 20];
    let long = |file: &mut dyn Write, head: &str, first: &str, begun: &str| {
        let rows = format!("{head}{}", first.repeat(2_000_000));
        file.write_all(rows.as_bytes()).unwrap();
        file.write_all(begun.as_bytes()).unwrap();
        (0..300).for_each(|_| file.write_all(&piece).unwrap());
    };
    let create = |name: &str| std::io::BufWriter::new(std::fs::File::create(data.join(name)).unwrap());
    long(&mut create("unclosed.csv"), "id,note\n", "1,\"calm\"\n", "2,\"");
    long(&mut create("one_line.jsonl"), "", "{\"id\": 1, \"note\": \"calm\"}\n", "{\"id\": 2, \"note\": \"");
    let mut packed = flate2::write::GzEncoder::new(create("packed.csv.gz"), flate2::Compression::fast());
    long(&mut packed, "id,note\n", "1,\"calm\"\n", "2,\"");
    packed.finish().unwrap().flush().unwrap();
    let address = data.display().to_string();
    product.stdout(&["connection", "add", "bombs", "--kind", "files", "--address", &address]);
    product.stdout(&["catalog", "add", "bombs", "--connection", "bombs"]);
    let mut wrong = Vec::new();
    for (statement, wanted) in BOMBS {
        let outcome = said(&product, statement).await;
        let text = outcome.as_ref().map_or_else(Clone::clone, Value::to_string);
        let peak = peak_mib(&product);
        println!("{peak} MiB, {:.160}: {statement:.100}", text);
        if !text.contains(wanted) {
            wrong.push(format!("{statement}: {text:.300}, where {wanted} was expected"));
        }
        if peak > MEMORY_MIB + BESIDES_MIB {
            wrong.push(format!("{statement}: {peak} MiB"));
            break;
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert_eq!(said(&product, "SELECT 1").await, Ok(json!([[1]])), "it goes on");
    product.stop();
}

/// As many runs as may wait do, a further one is told when to come again, and all that were let in are answered.
#[tokio::test(flavor = "multi_thread")]
async fn runs_wait_for_their_turn_and_a_long_line_is_closed() {
    let folder = tempfile::tempdir().unwrap();
    let product = Product::empty(folder.path());
    let (http, base) = (product.http(), format!("{}/api/v1/runs", product.address));
    let slow = "SELECT count(*) FROM generate_series(1, 100000) a(n), generate_series(1, 100000) b(m) WHERE n + m < 0";
    let start = async |statement: &str| {
        let response = http.post(&base).json(&json!({ "statement": statement })).send().await.unwrap();
        let again = response.headers().get("Retry-After").map(|after| after.to_str().unwrap().to_owned());
        (again, response.json::<Value>().await.unwrap())
    };
    let (mut slow_ones, mut waiting) = (Vec::new(), Vec::new());
    let of_one = |run: &Value| run["id"].as_str().map(str::to_owned);
    // More than may go on at a time, on any machine that this runs on.
    while waiting.len() < 3 {
        let (_, run) = start(slow).await;
        let id = of_one(&run).unwrap();
        tokio::time::sleep(Duration::from_millis(20)).await;
        let now: Value = http.get(format!("{base}/{id}")).send().await.unwrap().json().await.unwrap();
        if now["waits"] == true { waiting.push(id) } else { slow_ones.push(id) }
    }
    let mut quick = Vec::new();
    let (again, refused) = loop {
        let (again, run) = start(&format!("SELECT {} AS n", quick.len())).await;
        match of_one(&run) {
            Some(id) => quick.push(id),
            None => break (again, run),
        }
        assert!(quick.len() < 10_000, "the line has no end");
    };
    assert_eq!((again.as_deref(), &refused["sqlstate"]), (Some("5"), &json!("53300")), "{refused}");
    assert!(refused["hint"].as_str().unwrap().contains("5 seconds"), "{refused}");
    // What waits can be cancelled, and is at once.
    let id = &waiting[0];
    let cancelled: Value = http.delete(format!("{base}/{id}")).send().await.unwrap().json().await.unwrap();
    assert_eq!(cancelled["state"], "cancelled");
    for id in slow_ones.iter().chain(&waiting) {
        http.delete(format!("{base}/{id}")).send().await.unwrap();
    }
    for (n, id) in quick.iter().enumerate() {
        let page: Value = http.get(format!("{base}/{id}/rows")).send().await.unwrap().json().await.unwrap();
        assert_eq!(page["rows"], json!([[n]]), "{page}");
    }
    product.stop();
}

/// The time that a run may take counts its planning, and its waiting for a source that does not answer.
#[tokio::test(flavor = "multi_thread")]
async fn the_time_of_a_run_includes_its_planning() {
    let folder = tempfile::tempdir().unwrap();
    let product = Product::empty(folder.path());
    // Something that takes connections and never says a word.
    let silent = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = silent.local_addr().unwrap().to_string();
    let hold = tokio::spawn(async move {
        let mut held = Vec::new();
        while let Ok(connection) = silent.accept().await {
            held.push(connection);
        }
    });
    let options = ["--kind", "postgres", "--address", &address, "--user", "ada", "--set", "connect_limit=60"];
    product.stdout(&[&["connection", "add", "mute"], options.as_slice(), &["--set", "database=sea"]].concat());
    product.stdout(&["catalog", "add", "mute", "--connection", "mute"]);
    let began = std::time::Instant::now();
    let error = said(&product, "SET run.time = '700ms'; SELECT * FROM mute.public.tides").await.unwrap_err();
    assert!(error.contains("took longer than 0.7 s"), "{error}");
    assert!(began.elapsed() < Duration::from_secs(20), "{:?}", began.elapsed());
    hold.abort();
    product.stop();
}

/// One line for each fact, with the run's number and the user's name, and without a statement's text or a secret.
#[tokio::test(flavor = "multi_thread")]
async fn the_log_tells_facts_and_no_secrets() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("log");
    let product = Product::logged(&folder.path().join("lane"), "debug", std::fs::File::create(&path).unwrap());
    let options = ["--kind", "postgres", "--address", "127.0.0.1:9", "--user", "ada"];
    let (secret, database) = (["--secret", "hush-hush-hush"], ["--set", "database=sea"]);
    let _ =
        product.cobble_as("", &[&["connection", "add", "tides"], options.as_slice(), &secret, &database].concat(), &[]);
    assert_eq!(said(&product, "SELECT 'a private matter' AS t").await, Ok(json!([["a private matter"]])));
    said(&product, "SELECT 1 / 0").await.unwrap_err();
    let refused = cobble_tests::http().get(format!("{}/api/v1/status", product.address)).send().await.unwrap();
    assert_eq!(refused.status(), 401);
    let token = product.token();
    product.stop();
    let log = std::fs::read_to_string(&path).unwrap();
    let line = |parts: &[&str]| log.lines().any(|line| parts.iter().all(|part| line.contains(part)));
    assert!(line(&["INFO", "a run has ended", "run=", "user=\"admin\"", "state=\"finished\"", "rows=1"]), "{log}");
    assert!(line(&["a run has ended", "state=\"failed\"", "sqlstate=\"22012\""]), "{log}");
    assert!(line(&["WARN", "a call was refused", "path=\"/api/v1/status\""]), "{log}");
    for secret in ["hush-hush-hush", "a private matter", token.as_str()] {
        assert!(!log.contains(secret), "{secret} in {log}");
    }
}

/// Bodies are bounded, one by one and in the time that they take.
#[tokio::test(flavor = "multi_thread")]
async fn a_body_that_is_too_large_is_refused_before_it_is_read() {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let folder = tempfile::tempdir().unwrap();
    let product = Product::empty(folder.path());
    let address = product.address.trim_start_matches("http://").to_owned();
    let mut connection = tokio::net::TcpStream::connect(&address).await.unwrap();
    let head = format!(
        "POST /api/v1/runs HTTP/1.1\r\nHost: {address}\r\nAuthorization: Bearer {}\r\nContent-Type: application/json\r\nContent-Length: 9000000000\r\n\r\n{{\"statement\": \"SELECT",
        product.token()
    );
    connection.write_all(head.as_bytes()).await.unwrap();
    let mut answer = [0; 600];
    let read = tokio::time::timeout(Duration::from_secs(10), connection.read(&mut answer)).await.unwrap().unwrap();
    let answer = String::from_utf8_lossy(&answer[..read]);
    assert!(answer.contains("400 Bad Request") && answer.contains("larger than 80 MiB"), "{answer}");
    product.stop();
}
