//! Files in every format and packing, on disk, in an object store and behind a web server: the same rows everywhere, only what is
//! needed is read, and what is wrong with the way there is said with the setting at fault.

use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use crate::truth;
use crate::truth::encryption::Authority;
use arrow::array::RecordBatch;
use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Secret, Session};
use cobble_ferry::{Ferry, Month};
use cobble_ferry_load::{Faults, serve_store, serve_with_faults, write_drop};
use cobble_types::{Error, array_value_text};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

async fn rows(session: &mut Session, sql: &str) -> Result<Vec<String>, Error> {
    truth::answer(session, sql).await.map(|(rows, _)| rows)
}

fn session_on(definitions: Vec<ConnectionDefinition>) -> Session {
    let engine: Arc<Engine> = Engine::in_memory().unwrap();
    for definition in definitions {
        let name = definition.name.clone();
        engine.add_connection(definition).unwrap();
        engine.add_catalog(CatalogDefinition::new(name.clone(), name)).unwrap();
    }
    engine.session()
}

fn s3(name: &str, port: u16, options: &[(&str, &str)]) -> ConnectionDefinition {
    let mut definition = ConnectionDefinition::new(name, "s3", format!("127.0.0.1:{port}"));
    definition.options.insert("bucket".into(), "drop".into());
    definition.options.insert("metadata_life".into(), "0".into());
    definition.options.extend(options.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())));
    (definition.user, definition.secret) = (Some("reader".into()), Some(Secret::new("a secret")));
    definition
}

/// The ferry company's files in one bucket, served with a key.
async fn store(root: &Path) -> u16 {
    write_drop(Ferry::new(0.01), &root.join("drop")).unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    drop(serve_store(root, listener, Some(("reader", "a secret"))).unwrap());
    port
}

/// A web server that gives the files of a folder, with ranges and without listings, until the test ends; to all who come, or only with
/// these words for `Authorization`.
async fn web(root: std::path::PathBuf, wanted: Option<&'static str>) -> u16 {
    use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((socket, _)) = listener.accept().await {
            let root = root.clone();
            tokio::spawn(async move {
                let mut socket = BufReader::new(socket);
                loop {
                    let (mut first, mut range, mut signed_in) = (String::new(), None, wanted.is_none());
                    if socket.read_line(&mut first).await.unwrap_or(0) == 0 {
                        return;
                    }
                    loop {
                        let mut line = String::new();
                        socket.read_line(&mut line).await.unwrap();
                        if line.trim().is_empty() {
                            break;
                        }
                        if let Some((name, words)) = line.split_once(": ")
                            && name.eq_ignore_ascii_case("authorization")
                        {
                            signed_in |= wanted == Some(words.trim());
                        }
                        if let Some(bytes) = line.to_lowercase().strip_prefix("range: bytes=") {
                            let (from, to) = bytes.trim().split_once('-').unwrap();
                            range = Some((from.parse::<usize>().unwrap(), to.parse::<usize>().unwrap()));
                        }
                    }
                    let mut words = first.split(' ');
                    let (verb, path) = (words.next().unwrap(), words.next().unwrap().replace("%3D", "="));
                    let (status, body, extra) = match (std::fs::read(root.join(path.trim_start_matches('/'))), range) {
                        _ if !signed_in => ("401 Unauthorized", vec![], String::new()),
                        (Err(_), _) => ("404 Not Found", vec![], String::new()),
                        (Ok(all), None) => ("200 OK", all, String::new()),
                        (Ok(all), Some((from, to))) => {
                            let to = to.min(all.len() - 1);
                            let extra = format!("Content-Range: bytes {from}-{to}/{}\r\n", all.len());
                            ("206 Partial Content", all[from..=to].to_vec(), extra)
                        }
                    };
                    let head = format!(
                        "HTTP/1.1 {status}\r\nContent-Length: {}\r\nLast-Modified: Tue, 01 Jul 2025 09:00:00 GMT\r\n{extra}\r\n",
                        body.len()
                    );
                    socket.write_all(head.as_bytes()).await.unwrap();
                    if verb != "HEAD" {
                        socket.write_all(&body).await.unwrap();
                    }
                    socket.flush().await.unwrap();
                }
            });
        }
    });
    port
}

const QUESTIONS: &[&str] = &[
    "SELECT count(*), sum(fare), min(scanned_at) FROM (c).public.boardings",
    "SELECT month, count(*), sum(fare) FROM (c).public.boardings WHERE month >= '2025-05' AND fare > 9 GROUP BY month",
    "SELECT id, fare FROM (c).public.boardings WHERE scanned_at >= '2025-07-14' AND scanned_at < '2025-07-15'",
    "SELECT severity, count(*), count(note) FROM (c).public.incidents GROUP BY severity",
    "SELECT buoy, max((wave).height_m), count(*) FROM (c).public.buoys GROUP BY buoy",
    "SELECT t.seat_class, count(*) FROM (c).public.tariffs t JOIN (c).public.sailings s USING (route_id) GROUP BY 1",
];

#[tokio::test(flavor = "multi_thread")]
async fn a_bucket_and_a_web_server_give_the_rows_of_the_folder() {
    let root = tempfile::tempdir().unwrap();
    let port = store(root.path()).await;
    let drop = root.path().join("drop");
    let web_port = web(drop.clone(), None).await;
    let mut http = ConnectionDefinition::new("web", "http", format!("http://127.0.0.1:{web_port}/"));
    let months = Month::all().into_iter().map(|month| month.name());
    let files =
        months.flat_map(|month| ["boardings", "sailings"].map(|table| format!("{table}/month={month}/part-0.parquet")));
    let buoys = (1..=12).map(|n| format!("buoys/buoy-{n:02}.jsonl"));
    let files: Vec<String> = files.chain(buoys).chain(["tariffs.csv".into(), "incidents.csv".into()]).collect();
    http.options.insert("files".into(), files.join(","));
    let disk = ConnectionDefinition::new("disk", "files", drop.display().to_string());
    let believing = s3("believing", port, &[("metadata_life", "600")]);
    let mut session = session_on(vec![disk, s3("bucket", port, &[]), http, believing]);
    for question in QUESTIONS {
        let wanted = rows(&mut session, &question.replace("(c)", "disk")).await.unwrap();
        assert!(!wanted.is_empty());
        for catalog in ["bucket", "web"] {
            let found = rows(&mut session, &question.replace("(c)", catalog)).await;
            assert_eq!(found.unwrap_or_else(|e| panic!("{catalog}: {question}: {e}")), wanted, "{catalog}: {question}");
        }
    }
    // Only what is needed is asked for.
    let sql = "SELECT count(*), sum(fare) FROM bucket.public.boardings WHERE month = '2025-07'";
    let mut execution = session.run_text(sql, &CancellationToken::new()).await.unwrap();
    execution.collect().await.unwrap();
    let gate = &execution.plan().unwrap().gates[0];
    let size = std::fs::metadata(drop.join("boardings/month=2025-07/part-0.parquet")).unwrap().len();
    let read = gate.measure.as_ref().unwrap().bytes;
    assert!(read > 0 && read * 4 < size, "{read} of {size} bytes");
    assert!(gate.request.text.contains("s3://drop"), "{}", gate.request.text);

    // A file that is written anew is never read as the old one, also where the old listing is still believed.
    let count = |catalog: &str| format!("SELECT count(*) FROM {catalog}.public.tariffs");
    for catalog in ["disk", "bucket", "believing"] {
        assert_eq!(rows(&mut session, &count(catalog)).await.unwrap(), ["720"], "{catalog}");
    }
    let text = std::fs::read_to_string(drop.join("tariffs.csv")).unwrap();
    std::fs::write(drop.join("tariffs.csv"), text.lines().take(3).collect::<Vec<_>>().join("\n")).unwrap();
    let error = rows(&mut session, &count("believing")).await.unwrap_err();
    assert!(error.to_string().contains("it was changed while the query was being made ready"), "{error}");
    for catalog in ["disk", "bucket", "believing"] {
        assert_eq!(rows(&mut session, &count(catalog)).await.unwrap(), ["2"], "{catalog}");
    }
}

/// A port before the store that refuses some requests, known by their first line, with an error code of the S3 API.
async fn refusing(store: u16, refuses: fn(&str) -> bool, code: &'static str) -> u16 {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((mut client, _)) = listener.accept().await {
            tokio::spawn(async move {
                // One request in each connection: requests of reading have no body.
                let mut head = Vec::new();
                while !head.ends_with(b"\r\n\r\n") {
                    match client.read_u8().await {
                        Ok(byte) => head.push(byte),
                        Err(_) => return,
                    }
                }
                let head = String::from_utf8(head).unwrap();
                if refuses(head.lines().next().unwrap_or_default()) {
                    let body = format!("<Error><Code>{code}</Code><Message>no</Message></Error>");
                    let answer = format!(
                        "HTTP/1.1 403 Forbidden\r\nContent-Type: application/xml\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
                        body.len()
                    );
                    let _ = client.write_all(answer.as_bytes()).await;
                    return;
                }
                let mut server = tokio::net::TcpStream::connect(("127.0.0.1", store)).await.unwrap();
                let head = head.replacen("\r\n", "\r\nConnection: close\r\n", 1);
                server.write_all(head.as_bytes()).await.unwrap();
                let _ = tokio::io::copy(&mut server, &mut client).await;
            });
        }
    });
    port
}

/// Name and password (RFC 7617, section 2), or a token (RFC 6750, section 2.1).
#[tokio::test(flavor = "multi_thread")]
async fn web_servers_that_ask_who_comes() {
    let root = tempfile::tempdir().unwrap();
    std::fs::write(root.path().join("tariffs.csv"), "route_id,fare\n1,2.50\n2,3.10\n").unwrap();
    // "pier:low tide" in base 64
    let basic = web(root.path().to_owned(), Some("Basic cGllcjpsb3cgdGlkZQ==")).await;
    let bearer = web(root.path().to_owned(), Some("Bearer spring-tide")).await;
    let definition = |name: &str, port: u16, user: Option<&str>, secret: Option<&str>| ConnectionDefinition {
        user: user.map(str::to_owned),
        secret: secret.map(Secret::new),
        ..ConnectionDefinition::new(name, "http", format!("http://127.0.0.1:{port}/tariffs.csv"))
    };
    let good = [
        definition("by_name", basic, Some("pier"), Some("low tide")),
        definition("by_token", bearer, None, Some("spring-tide")),
    ];
    for definition in good {
        let sql = format!("SELECT sum(fare) FROM {}.public.tariffs", definition.name);
        assert_eq!(rows(&mut session_on(vec![definition]), &sql).await.unwrap(), ["5.60"]);
    }
    let mut shown = String::new();
    for definition in [
        definition("good", basic, Some("pier"), Some("low tide")),
        definition("wrong_password", basic, Some("pier"), Some("high tide")),
        definition("nobody", basic, None, None),
        definition("a_token_for_a_name", basic, None, Some("spring-tide")),
        definition("wrong_token", bearer, None, Some("neap-tide")),
        definition("no_password", basic, Some("pier"), None),
        definition("odd_name", basic, Some("pier:1"), Some("low tide")),
        definition("odd_secret", bearer, None, Some("spring\ntide")),
    ] {
        shown.push_str(&truth::steps(&definition.name.clone(), &definition).await);
    }
    for secret in ["low tide", "high tide", "spring", "neap", "cGllcj"] {
        assert!(!shown.contains(secret), "{shown}");
    }
    insta::assert_snapshot!(shown.replace(&basic.to_string(), "[basic]").replace(&bearer.to_string(), "[bearer]"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_test_of_a_store_names_the_setting_at_fault() {
    let root = tempfile::tempdir().unwrap();
    let port = store(root.path()).await;
    let closed = TcpListener::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap().port();
    let with = |change: &dyn Fn(&mut ConnectionDefinition)| {
        let mut definition = s3("bucket", port, &[]);
        change(&mut definition);
        definition
    };
    let (authority, other) = (Authority::new(), Authority::new());
    let (ca_file, other_file) = (authority.file(root.path()), other.file(root.path()));
    let before = |name: &'static str, until: i32| authority.identity(name, until);
    let good = before("127.0.0.1", 2100).before(format!("127.0.0.1:{port}")).await;
    let misnamed = before("store.example", 2100).before(format!("127.0.0.1:{port}")).await;
    let expired = before("127.0.0.1", 2021).before(format!("127.0.0.1:{port}")).await;
    let encrypted = |d: &mut ConnectionDefinition, port: u16, ca_file: Option<&String>| {
        d.address = format!("https://127.0.0.1:{port}");
        d.options.extend(ca_file.map(|file| ("ca_file".to_owned(), file.clone())));
    };
    let skewed = refusing(port, |_| true, "RequestTimeTooSkewed").await;
    let unreadable = refusing(port, |line| !line.contains("list-type"), "AccessDenied").await;
    let mut shown = String::new();
    for (name, definition) in [
        ("all well", with(&|_| {})),
        ("with a scheme", with(&|d| d.address = format!("http://{}/", d.address))),
        ("TLS expected", with(&|d| d.address = format!("https://{}", d.address))),
        ("closed port", with(&|d| d.address = format!("127.0.0.1:{closed}"))),
        ("no such host", with(&|d| d.address = "http://store.invalid:9000".into())),
        ("no such bucket", with(&|d| drop(d.options.insert("bucket".into(), "deap".into())))),
        ("wrong access key", with(&|d| d.user = Some("writer".into()))),
        ("wrong secret key", with(&|d| d.secret = Some(Secret::new("a wrong key")))),
        ("anonymous", with(&|d| (d.user, d.secret) = (None, None))),
        ("bucket in the host", with(&|d| drop(d.options.insert("path_style".into(), "false".into())))),
        ("certificate of one's own", with(&|d| encrypted(d, good, Some(&ca_file)))),
        ("certificate of nobody known", with(&|d| encrypted(d, good, None))),
        ("certificate of someone else", with(&|d| encrypted(d, good, Some(&other_file)))),
        ("certificate for another name", with(&|d| encrypted(d, misnamed, Some(&ca_file)))),
        ("certificate of yesterday", with(&|d| encrypted(d, expired, Some(&ca_file)))),
        (
            "certificate that is not looked at",
            with(&|d| {
                encrypted(d, expired, None);
                d.options.insert("unverified".into(), "true".into());
            }),
        ),
        (
            "both looked at and not",
            with(&|d| {
                encrypted(d, good, Some(&ca_file));
                d.options.insert("unverified".into(), "true".into());
            }),
        ),
        ("clocks differ", with(&|d| d.address = format!("127.0.0.1:{skewed}"))),
        ("listing but no reading", with(&|d| d.address = format!("127.0.0.1:{unreadable}"))),
        ("nothing in the folder", with(&|d| drop(d.options.insert("folder".into(), "nothing".into())))),
    ] {
        shown.push_str(&truth::steps(name, &definition).await);
    }
    let ports = [
        (good, "[good]"),
        (misnamed, "[misnamed]"),
        (expired, "[expired]"),
        (skewed, "[skewed]"),
        (unreadable, "[unreadable]"),
    ];
    let shown = ports.iter().fold(shown, |shown, (port, name)| shown.replace(&port.to_string(), name));
    let shown = shown.replace(&port.to_string(), "[port]").replace(&closed.to_string(), "[closed]");
    let clock = shown.find("here it is ").map(|at| shown[at..at + 30].to_owned()).unwrap_or_default();
    let shown = shown.replace(&clock, "here it is [now]");
    assert!(!shown.contains("a secret") && !shown.contains("a wrong key"), "{shown}");
    insta::assert_snapshot!("steps_to_a_store", shown);
}

/// The parts of the yard in every format that there is.
fn every_format(folder: &Path) {
    let batch = Ferry::new(0.01).work_orders(0..300);
    let create = |name: &str| std::fs::File::create(folder.join(name)).unwrap();
    let text = |row: usize, column: usize| array_value_text(batch.column(column).as_ref(), row);
    let names: Vec<String> = batch.schema().fields().iter().map(|f| f.name().clone()).collect();
    let csv: Vec<String> = (0..batch.num_rows())
        .map(|row| (0..names.len()).map(|c| text(row, c).unwrap_or_default()).collect::<Vec<_>>().join(","))
        .collect();
    let csv = format!("{}\n{}\n", names.join(","), csv.join("\n"));
    let objects: Vec<String> = (0..batch.num_rows())
        .map(|row| {
            let fields = names.iter().enumerate().filter_map(|(c, name)| {
                let value = text(row, c)?;
                let number = ["id", "vessel_id", "urgency", "hours", "cost"].contains(&name.as_str());
                Some(if number { format!("\"{name}\": {value}") } else { format!("\"{name}\": \"{value}\"") })
            });
            format!("{{{}}}", fields.collect::<Vec<_>>().join(", "))
        })
        .collect();
    create("as_csv.csv").write_all(csv.as_bytes()).unwrap();
    let mut gzip = flate2::write::GzEncoder::new(create("as_csv_gz.csv.gz"), flate2::Compression::fast());
    gzip.write_all(csv.as_bytes()).unwrap();
    gzip.finish().unwrap();
    create("as_csv_zst.csv.zst").write_all(&zstd::encode_all(csv.as_bytes(), 1).unwrap()).unwrap();
    let lines = objects.join("\n");
    create("as_jsonl.jsonl").write_all(lines.as_bytes()).unwrap();
    create("as_jsonl_zst.ndjson.zst").write_all(&zstd::encode_all(lines.as_bytes(), 1).unwrap()).unwrap();
    let array = format!("[\n{}\n]\n", objects.join(",\n").replace(", \"kind\"", ",\n  \"kind\""));
    create("as_json.json").write_all(array.as_bytes()).unwrap();
    let mut parquet = parquet::arrow::ArrowWriter::try_new(create("as_parquet.parquet"), batch.schema(), None).unwrap();
    parquet.write(&batch).unwrap();
    parquet.close().unwrap();
    let mut ipc = arrow::ipc::writer::FileWriter::try_new(create("as_arrow.arrow"), &batch.schema()).unwrap();
    for start in (0..300).step_by(100) {
        ipc.write(&batch.slice(start, 100)).unwrap();
    }
    ipc.finish().unwrap();
    avro(&batch, create("as_avro.avro"));
    // Written by another implementation than the one that reads it.
    python(
        folder,
        "import pyarrow.orc as o, pyarrow.parquet as p; o.write_table(p.read_table('as_parquet.parquet'), 'as_orc.orc', compression='zstd')",
    );
}

/// Runs a few lines of Python in a folder.
fn python(folder: &Path, script: &str) {
    let program = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/python/bin/python");
    let done = std::process::Command::new(program).args(["-c", script]).current_dir(folder).output();
    let done = done.expect("make test has made target/python");
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
}

fn avro(batch: &RecordBatch, file: std::fs::File) {
    let schema = batch.schema().as_ref().clone();
    let mut writer = arrow_avro::writer::AvroWriter::new(file, schema).unwrap();
    writer.write(batch).unwrap();
    writer.finish().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn every_format_and_packing_gives_the_same_rows() {
    let folder = tempfile::tempdir().unwrap();
    every_format(folder.path());
    let mut session = session_on(vec![ConnectionDefinition::new("d", "files", folder.path().display().to_string())]);
    let sql =
        "SELECT id::bigint, vessel_id::integer, kind, urgency::integer, opened_at::timestamp, closed_at::timestamp,
                      due_on::date, hours::numeric(10,2), cost::numeric(10,2), note
               FROM d.public.as_(f) WHERE kind <> 'deck' AND urgency::integer < 4";
    let wanted = rows(&mut session, &sql.replace("(f)", "parquet")).await.unwrap();
    assert!(wanted.len() > 100);
    for format in ["csv", "csv_gz", "csv_zst", "json", "jsonl", "jsonl_zst", "arrow", "avro", "orc"] {
        let found = rows(&mut session, &sql.replace("(f)", format)).await;
        assert_eq!(found.unwrap_or_else(|e| panic!("{format}: {e}")), wanted, "{format}");
        let count = rows(&mut session, &format!("SELECT count(*) FROM d.public.as_{format}")).await.unwrap();
        assert_eq!(count, ["300"], "{format}");
    }
    // What is cut short is named, whatever it is.
    for name in
        ["as_csv_gz.csv.gz", "as_csv_zst.csv.zst", "as_arrow.arrow", "as_avro.avro", "as_json.json", "as_orc.orc"]
    {
        let path = folder.path().join(name);
        let whole = std::fs::read(&path).unwrap();
        std::fs::write(&path, &whole[..whole.len() * 2 / 3]).unwrap();
        let table = name.split('.').next().unwrap();
        let error = rows(&mut session, &format!("SELECT * FROM d.public.{table}")).await.map(|r| r.len());
        let error = error.expect_err(name);
        assert!(error.to_string().contains(name), "{name}: {error}");
    }
}

const KINDS_OF_TYPES: &str = r#"
import datetime as d, decimal, pyarrow as a, pyarrow.orc as o, pyarrow.parquet as p
rows = 9000
def some(make): return [None if n % 11 == 0 else make(n) for n in range(rows)]
day, moment = d.date(2024, 2, 27), d.datetime(2025, 3, 30, 0, 30, 0, 250)
table = a.table({
    'id': a.array(range(rows), a.int64()), 'tiny': a.array(some(lambda n: n % 128 - 64), a.int8()),
    'short': a.array(some(lambda n: n % 30000 - 15000), a.int16()), 'whole': a.array(some(lambda n: -n * 70000), a.int32()),
    'Share': a.array(some(lambda n: n / 7), a.float64()), 'rate': a.array(some(lambda n: n / 8), a.float32()),
    'open': a.array(some(lambda n: n % 3 == 0), a.bool_()), 'name': a.array(some(lambda n: 'Quay %d ü' % (n % 40)), a.string()),
    'note': a.array(some(lambda n: 'x' * (n % 50)), a.string()), 'seal': a.array(some(lambda n: bytes([n % 256, 0])), a.binary()),
    'day': a.array(some(lambda n: day + d.timedelta(n % 900 - 400)), a.date32()),
    'at': a.array(some(lambda n: moment + d.timedelta(minutes=n)), a.timestamp('us')),
    'seen': a.array(some(lambda n: moment.replace(microsecond=0) - d.timedelta(days=n)), a.timestamp('us', 'UTC')),
    'cost': a.array(some(lambda n: decimal.Decimal(n - 500) / 4), a.decimal128(12, 2)),
    'wide': a.array(some(lambda n: decimal.Decimal(10) ** 30 + n), a.decimal128(38, 0)),
    'marks': a.array(some(lambda n: list(range(n % 4))), a.list_(a.int32())),
    'wave': a.array(some(lambda n: {'height': n / 4, 'dir': 'n' * (n % 3)}), a.struct([('height', a.float64()), ('dir', a.string())])),
})
p.write_table(table, 'wanted.parquet')
for name in ['uncompressed', 'zlib', 'snappy', 'lz4', 'zstd']:
    o.write_table(table, 'in_%s.orc' % name, compression=name, stripe_size=1 << 16)
o.write_table(table.slice(0, 0), 'nothing.orc')
"#;

#[tokio::test(flavor = "multi_thread")]
async fn orc_files_keep_types_and_values() {
    let folder = tempfile::tempdir().unwrap();
    python(folder.path(), KINDS_OF_TYPES);
    let mut session = session_on(vec![ConnectionDefinition::new("d", "files", folder.path().display().to_string())]);
    let wanted = rows(&mut session, "SELECT * FROM d.public.wanted").await.unwrap();
    let types = rows(&mut session, "SHOW COLUMNS FROM d.public.wanted").await.unwrap();
    for name in ["in_uncompressed", "in_zlib", "in_snappy", "in_lz4", "in_zstd"] {
        assert_eq!(rows(&mut session, &format!("SHOW COLUMNS FROM d.public.{name}")).await.unwrap(), types, "{name}");
        let found = rows(&mut session, &format!("SELECT * FROM d.public.{name}")).await.unwrap();
        let differing = found.iter().zip(&wanted).find(|(found, wanted)| found != wanted);
        assert_eq!((found.len(), differing), (wanted.len(), None), "{name}");
    }
    let found = rows(&mut session, "SELECT count(*), count(name) FROM d.public.nothing").await.unwrap();
    assert_eq!(found, ["0|0"]);
    // Only the wanted columns are read.
    let bytes = async |session: &mut Session, sql: &str| {
        let (_, plan) = truth::answer(session, sql).await.unwrap();
        plan.unwrap().gates[0].measure.clone().unwrap().bytes
    };
    let few = bytes(&mut session, "SELECT sum(id), max(day) FROM d.public.in_zlib WHERE open").await;
    let all = bytes(&mut session, "SELECT * FROM d.public.in_zlib").await;
    assert!(few * 3 < all, "{few} of {all} bytes");
    // Damage anywhere is an error that names the file, or rows: never a fault of ours.
    let whole = std::fs::read(folder.path().join("in_zlib.orc")).unwrap();
    for place in (0..15).map(|n| whole.len() * n / 15 + 7 * n % 5) {
        let mut damaged = whole.clone();
        damaged[place] ^= 0x55;
        std::fs::write(folder.path().join("in_zlib.orc"), &damaged).unwrap();
        if let Err(error) = rows(&mut session, "SELECT * FROM d.public.in_zlib").await {
            assert_eq!(error.code, cobble_types::Code::SourceData, "at {place}: {error}");
            assert!(error.message.contains("in_zlib.orc"), "at {place}: {error}");
        }
    }
}

/// A bucket that may be written, behind a store with these faults.
async fn written_bucket(root: &Path, faults: Faults) -> u16 {
    std::fs::create_dir_all(root.join("drop")).unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    drop(serve_with_faults(root, listener, Some(("reader", "a secret")), faults).unwrap());
    port
}

/// All objects of the bucket, marks too.
fn objects(root: &Path) -> Vec<String> {
    let mut found: Vec<String> = walk(&root.join("drop"));
    found.sort();
    found
}

fn walk(folder: &Path) -> Vec<String> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        match entry.path().is_dir() {
            true => found.extend(walk(&entry.path()).into_iter().map(|inner| format!("{name}/{inner}"))),
            // What the stand-in keeps of the objects' properties.
            false if name.starts_with('.') && name.ends_with(".json") => {}
            false => found.push(name),
        }
    }
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn tables_of_files_are_written_into_a_bucket() {
    let folder = tempfile::tempdir().unwrap();
    let port = written_bucket(folder.path(), Faults::default()).await;
    // What is known of the bucket is asked anew after a write, also where it is remembered.
    let writable = s3("store", port, &[("writable", "true"), ("metadata_life", "600")]);
    let mut session =
        session_on(vec![writable, s3("reads", port, &[]), ConnectionDefinition::new("tides", "generated", "")]);
    let s = &mut session;
    let columns = "id, vessel_id, kind, urgency, opened_at, cost, note";
    let wanted = rows(s, &format!("SELECT {columns} FROM tides.creek.work_orders ORDER BY id")).await.unwrap();
    for (table, with) in [
        ("plain", ""),
        ("lines", "WITH (format = 'json')"),
        ("texts", "WITH (format = csv, partition_by = 'kind')"),
        ("parted", "WITH (partition_by = 'kind, urgency')"),
    ] {
        let name = format!("store.public.{table}");
        rows(s, &format!("CREATE TABLE {name} {with} AS SELECT {columns} FROM tides.creek.work_orders")).await.unwrap();
        let again = "SELECT id::integer, vessel_id::integer, kind, urgency::smallint, opened_at::timestamp, cost::numeric(10,2), note";
        for catalog in ["store", "reads"] {
            let found = rows(s, &format!("{again} FROM {catalog}.public.{table} ORDER BY 1")).await.unwrap();
            assert_eq!(found, wanted, "{table}");
        }
        rows(s, &format!("INSERT INTO {name} SELECT * FROM {name} WHERE id <= 10")).await.unwrap();
        assert_eq!(rows(s, &format!("SELECT count(*) FROM {name}")).await.unwrap(), ["510"], "{table}");
        let taken = rows(s, &format!("CREATE TABLE {name} AS SELECT 1 AS n")).await.unwrap_err();
        assert_eq!(taken.code, cobble_types::Code::AlreadyExists, "{taken}");
    }
    assert!(
        objects(folder.path()).iter().all(|name| !name.contains("/.")),
        "no mark stays: {:?}",
        objects(folder.path())
    );
    let before = objects(folder.path());
    for (sql, code) in [
        (
            "INSERT INTO store.public.plain SELECT 1 / (id - 400), vessel_id, kind, urgency, opened_at, cost, note FROM tides.creek.work_orders",
            cobble_types::Code::DivisionByZero,
        ),
        (
            "CREATE TABLE store.public.wrong AS SELECT 1 / (id - 400) AS n FROM tides.creek.work_orders",
            cobble_types::Code::DivisionByZero,
        ),
        ("CREATE TABLE store.public.\"..\" AS SELECT 1 AS n", cobble_types::Code::BadSetting),
        ("CREATE TABLE reads.public.more AS SELECT 1 AS n", cobble_types::Code::Unsupported),
        ("TRUNCATE store.public.plain", cobble_types::Code::Unsupported),
        ("DROP TABLE store.public.nothing", cobble_types::Code::UnknownTable),
    ] {
        assert_eq!(rows(s, sql).await.unwrap_err().code, code, "{sql}");
    }
    assert_eq!(objects(folder.path()), before);
    // What stands below a mark does not show.
    std::fs::create_dir_all(folder.path().join("drop/parted/kind=hull/urgency=9")).unwrap();
    let source = before.iter().find(|name| name.starts_with("parted/kind=hull")).unwrap();
    std::fs::copy(
        folder.path().join("drop").join(source),
        folder.path().join("drop/parted/kind=hull/urgency=9/part-x.parquet"),
    )
    .unwrap();
    std::fs::write(folder.path().join("drop/parted/.pending-part-x"), "").unwrap();
    assert_eq!(rows(s, "SELECT count(*) FROM reads.public.parted").await.unwrap(), ["510"]);
    rows(s, "DROP TABLE store.public.plain").await.unwrap();
    rows(s, "DROP TABLE store.public.parted").await.unwrap();
    assert!(objects(folder.path()).iter().all(|name| name.starts_with("lines") || name.starts_with("texts")));
    assert_eq!(rows(s, "SHOW TABLES FROM store.public").await.unwrap(), ["store|public|lines", "store|public|texts"]);
}

/// Statements at the same time, at a store that refuses requests and loses answers: of each statement all rows are there or none.
#[tokio::test(flavor = "multi_thread")]
async fn what_a_faulty_store_takes_is_whole_or_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let port = written_bucket(folder.path(), Faults { refused: 6, slow: 3, lost: 6 }).await;
    let session = session_on(vec![s3("store", port, &[("writable", "true"), ("request_limit", "10")])]);
    let query =
        |mark: usize| format!("SELECT {mark} AS statement, n % 4 AS part, n FROM generate_series(1, 40) AS s (n)");
    let mut makers = Vec::new();
    for mark in 0..4 {
        let mut own = session.clone();
        let sql = format!("CREATE TABLE store.public.marks WITH (partition_by = 'part') AS {}", query(mark));
        makers.push(tokio::spawn(async move { rows(&mut own, &sql).await.is_ok() }));
    }
    let mut made = 0;
    for maker in makers {
        made += usize::from(maker.await.unwrap());
    }
    assert!(made <= 1, "{made} statements have made the same table");
    let mut s = session.clone();
    let again = async |s: &mut Session, sql: &str| {
        let mut last = None;
        for _ in 0..60 {
            match rows(s, sql).await {
                Ok(found) => return Some(found),
                Err(error) if error.code == cobble_types::Code::AlreadyExists => return None,
                Err(error) => last = Some(error),
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        panic!("{sql}: {last:?}")
    };
    again(&mut s, &format!("CREATE TABLE store.public.kept WITH (partition_by = 'part') AS {}", query(99))).await;
    let mut acknowledged = Vec::new();
    for mark in 100..110 {
        if rows(&mut s, &format!("INSERT INTO store.public.kept (statement, part, n) {}", query(mark))).await.is_ok() {
            acknowledged.push(mark.to_string());
        }
    }
    let found =
        again(&mut s, "SELECT statement, count(*), count(DISTINCT n) FROM store.public.kept GROUP BY 1").await.unwrap();
    assert!(found.iter().all(|row| row.ends_with("|40|40")), "{found:?}");
    let lost: Vec<&String> =
        acknowledged.iter().filter(|mark| !found.iter().any(|row| row.starts_with(&format!("{mark}|")))).collect();
    assert!(lost.is_empty() && acknowledged.len() > 2, "{lost:?} of {acknowledged:?}");
}
