//! Lake tables through the open protocol for catalogs, from both sides: the format's own library writes and reads through this service, and this
//! engine works with the tables of a catalog that it asks.

use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;

use cobble_engine::{Asker, CatalogDefinition, ConnectionDefinition, Engine, Secret, Session};
use cobble_ferry_load::{Faults, serve_with_faults};
use cobble_tests::{Product, in_session};
use cobble_types::Code;
use rand::Rng;
use serde_json::{Value as Json, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

fn root() -> &'static Path {
    Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/.."))
}

/// Runs a script of the library with this input.
fn library(script: &str, arguments: &[&str], input: &Json) -> String {
    let mut running = Command::new(root().join("target/python/bin/python"))
        .arg(root().join("crates/cobble-lake/tests").join(script))
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut running.stdin.take().unwrap(), input.to_string().as_bytes()).unwrap();
    let output = running.wait_with_output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

/// A service with a lake of its own, whose files lie in a folder.
struct Kept {
    product: Product,
    folder: tempfile::TempDir,
}

impl Kept {
    fn start() -> Kept {
        let folder = tempfile::tempdir().unwrap();
        for name in ["lane", "warehouse", "rows"] {
            std::fs::create_dir(folder.path().join(name)).unwrap();
        }
        let product = Product::empty(&folder.path().join("lane"));
        let kept = Kept { product, folder };
        kept.apply(&format!(
            "[connections.store]\nkind = \"files\"\naddress = \"{0}/warehouse\"\n\
             [connections.rows]\nkind = \"files\"\naddress = \"{0}/rows\"\n\
             [catalogs.rows]\nconnection = \"rows\"\n{1}",
            kept.folder.path().display(),
            KEPT
        ));
        kept
    }

    fn apply(&self, text: &str) {
        let file = self.folder.path().join("lane.toml");
        std::fs::write(&file, text).unwrap();
        self.product.stdout(&["apply", file.to_str().unwrap()]);
    }

    fn protocol(&self) -> String {
        format!("{}/lake", self.product.address)
    }

    /// A statement's rows, in the service.
    fn sql(&self, sql: &str) -> Vec<String> {
        let out = self.product.stdout(&["sql", "--format", "jsonl", sql]);
        out.lines().map(str::to_owned).collect()
    }

    /// An engine of its own that asks this service's catalog at an address.
    fn asking(&self, address: &str, options: &[(&str, &str)], sign_in: (Option<&str>, Option<&str>)) -> Arc<Engine> {
        let engine = Engine::in_memory().unwrap();
        let store = self.folder.path().join("warehouse").display().to_string();
        engine.add_connection(ConnectionDefinition::new("store", "files", &store)).unwrap();
        let mut far = ConnectionDefinition::new("far", "lake_rest", address);
        far.options.extend(options.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())));
        far.options.insert("writable".to_owned(), "true".to_owned());
        (far.user, far.secret) = (sign_in.0.map(str::to_owned), sign_in.1.map(Secret::new));
        engine.add_connection(far).unwrap();
        engine.add_catalog(CatalogDefinition::new("far", "far")).unwrap();
        engine
    }
}

const KEPT: &str = "[connections.kept]\nkind = \"lake_service\"\n[connections.kept.options]\nstorage = \"store\"\nwritable = \"true\"\n\
    gives_keys = \"true\"\n[catalogs.kept]\nconnection = \"kept\"\n";

fn session(engine: &Arc<Engine>) -> Session {
    let mut session = engine.session();
    session.use_place("far", Some("ops")).unwrap();
    session
}

async fn rows(session: &mut Session, sql: &str) -> Vec<String> {
    let mut rows = in_session(session, sql).await.unwrap_or_else(|e| panic!("{sql}: {e:?}"));
    rows.sort();
    rows
}

/// Tables of all transforms, types, versions and kinds of deletes, with columns and partitionings that changed.
#[tokio::test(flavor = "multi_thread")]
async fn what_the_library_writes_through_the_protocol_is_read_here() {
    let kept = Kept::start();
    let place = kept.folder.path().display().to_string();
    library("partner.py", &[&place, &kept.protocol(), &kept.product.token(), "kept"], &Json::Null);
    let names = kept.sql("SELECT table_name FROM kept.information_schema.tables WHERE table_schema = 'ops'");
    assert!(names.len() >= 22, "{names:?}");
    let engine = kept.asking(
        &kept.protocol(),
        &[("storage", "store"), ("warehouse", "kept")],
        (None, Some(&kept.product.token())),
    );
    let mut far = session(&engine);
    for name in names {
        let name = serde_json::from_str::<Json>(&name).unwrap()["table_name"].as_str().unwrap().to_owned();
        // Of maps and marks the library makes other types.
        if ["kinds", "in_avro", "adopted", "evolved"].contains(&name.as_str()) {
            rows(&mut far, &format!("SELECT * FROM {name}")).await;
            continue;
        }
        for condition in ["true", "id % 5 = 1", "departed_at < '2023-01-09' OR port = 7"] {
            let sql = |from: &str| format!("SELECT * FROM {from}.{name} WHERE {condition} ORDER BY id");
            let ours = kept.sql(&sql("kept.ops"));
            assert_eq!(ours, kept.sql(&sql("rows.public")), "{name} WHERE {condition}");
            assert_eq!(rows(&mut far, &sql("far.ops")).await.len(), ours.len(), "{name} WHERE {condition}");
        }
    }
}

/// Tables are made, filled, changed and cared for through the protocol, with keys that the catalog gives, over a store that needs them. The library
/// reads them through the same catalog.
#[tokio::test(flavor = "multi_thread")]
async fn tables_of_a_catalog_that_is_asked_are_changed() {
    let kept = Kept::start();
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    std::fs::create_dir(kept.folder.path().join("warehouse/deep")).unwrap();
    let of_store = kept.folder.path().join("warehouse");
    drop(serve_with_faults(&of_store, listener, Some(("writer", "a secret key")), Faults::default()).unwrap());
    kept.apply(&format!(
        "[connections.rows]\nkind = \"files\"\naddress = \"{}/rows\"\n[catalogs.rows]\nconnection = \"rows\"\n\
         [connections.store]\nkind = \"s3\"\naddress = \"127.0.0.1:{port}\"\nuser = \"writer\"\nsecret = {{ env = \"STORE_SECRET\" }}\n\
         [connections.store.options]\nbucket = \"deep\"\n{KEPT}",
        kept.folder.path().display()
    ).replace("{ env = \"STORE_SECRET\" }", &format!("{{ file = \"{}\" }}", {
        let file = kept.folder.path().join("store.secret");
        std::fs::write(&file, "a secret key\n").unwrap();
        file.display().to_string()
    })));
    let engine = kept.asking(&kept.protocol(), &[("warehouse", "kept")], (Some("admin"), Some(&kept.product.token())));
    let mut far = session(&engine);
    let s = &mut far;
    let made = "SELECT n AS id, 'Sørhavn ' || n % 7 AS port, (n * 1.25)::numeric(8,2) AS fare, timestamp '2023-01-01' + n * interval '9 hours' AS at, ARRAY[n, n + 1] AS stops FROM generate_series(1, 300) AS g(n)";
    rows(s, &format!("CREATE TABLE sold PARTITION BY (month(at), bucket(3, port)) ORDER BY (id DESC) WITH (write.delete.mode = 'merge-on-read') AS {made}")).await;
    rows(s, "CREATE TABLE plain (id bigint NOT NULL, note text)").await;
    rows(s, "INSERT INTO plain SELECT n, repeat('ø', n * 100) FROM generate_series(1, 50) AS g(n)").await;
    rows(s, "CALL lake_tag('sold', 'first')").await;
    rows(s, "CALL lake_branch('sold', 'trial')").await;
    rows(s, "DELETE FROM \"sold@trial\" WHERE id < 200").await;
    rows(s, "DELETE FROM sold WHERE id % 10 = 0").await;
    rows(s, "UPDATE sold SET fare = 0, port = 'Lia' WHERE id BETWEEN 5 AND 9").await;
    rows(s, "MERGE INTO sold USING (VALUES (1), (1000)) AS n(id) ON n.id = sold.id WHEN MATCHED THEN DELETE WHEN NOT MATCHED THEN INSERT (id, port) VALUES (n.id, 'new')").await;
    rows(s, "ALTER TABLE sold ADD COLUMN note text, RENAME COLUMN fare TO price, ALTER id TYPE bigint").await;
    rows(s, "ALTER TABLE sold SET PARTITION BY (bucket(3, port)), SET (owner = quay)").await;
    rows(s, "INSERT INTO sold (id, port, note) VALUES (5000000000, 'Lia', 'far')").await;
    let counted = "SELECT count(*), sum(id), sum(price), count(note) FROM sold";
    assert_eq!(rows(s, counted).await, ["271|5000041499|50580|1"]);
    assert_eq!(rows(s, "SELECT count(*) FROM sold FOR VERSION AS OF 'first'").await, ["300"]);
    assert_eq!(rows(s, "SELECT count(*) FROM \"sold@trial\"").await, ["101"]);
    let wanted = json!({ "ops/sold": ["id >= 1", "port = 'Lia'"], "ops/plain": ["id > 40"] });
    let rows_folder = kept.folder.path().join("rows").display().to_string();
    let found = library("partner_reads.py", &["kept", &rows_folder, &kept.protocol(), &kept.product.token()], &wanted);
    let found: Json = serde_json::from_str(&found).unwrap();
    assert_eq!((&found["ops/sold"]["counts"], &found["ops/plain"]["counts"]), (&json!([271, 6]), &json!([10])));
    for (name, order) in [("sold", "id, port"), ("plain", "id")] {
        let sql = |from: &str| format!("SELECT * FROM {from}.{name} ORDER BY {order}");
        assert_eq!(kept.sql(&sql("kept.ops")), kept.sql(&sql("rows.public")), "{name}");
    }
    // Care leaves the rows, also where another engine looks.
    rows(s, "CALL lake_compact('sold')").await;
    rows(s, "CALL lake_expire('sold', older_than => timestamptz '2200-01-01 00:00Z', keep => 1)").await;
    rows(s, "CALL lake_remove_orphans('sold', older_than => timestamptz '2200-01-01 00:00Z')").await;
    assert_eq!(rows(s, counted).await, ["271|5000041499|50580|1"]);
    assert_eq!(kept.sql("SELECT count(*) AS n FROM kept.ops.sold"), ["{\"n\":271}"]);
    for (sql, code) in [
        ("CREATE TABLE sold (id integer)", Code::AlreadyExists),
        ("SELECT * FROM nothing", Code::UnknownTable),
        ("INSERT INTO plain (note) VALUES ('x')", Code::NullNotAllowed),
    ] {
        assert_eq!(in_session(s, sql).await.expect_err(sql).code, code, "{sql}");
    }
    rows(s, "DROP TABLE sold").await;
    assert!(kept.sql("SELECT table_name FROM kept.information_schema.tables WHERE table_name = 'sold'").is_empty());
    // No secret stands in what anybody is shown.
    let log = kept.product.stdout(&["export"]);
    assert!(!log.contains("a secret key"), "{log}");
}

/// A catalog's stand-in between: it refuses some calls, and others are done and their answers lost.
async fn unreliable(upstream: String) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = format!("http://{}/lake", listener.local_addr().unwrap());
    tokio::spawn(async move {
        while let Ok((socket, _)) = listener.accept().await {
            tokio::spawn(passed_on(socket, upstream.clone()));
        }
    });
    address
}

async fn passed_on(mut socket: TcpStream, upstream: String) -> Option<()> {
    let (mut head, mut byte) = (Vec::new(), [0; 1]);
    while !head.ends_with(b"\r\n\r\n") {
        socket.read_exact(&mut byte).await.ok()?;
        head.push(byte[0]);
    }
    let head = String::from_utf8(head).ok()?;
    let (line, headers) = head.split_once("\r\n")?;
    let mut line = line.split(' ');
    let (method, path) = (line.next()?, line.next()?);
    let headers: Vec<(String, &str)> = headers
        .lines()
        .filter_map(|own| own.split_once(": "))
        .map(|(name, value)| (name.to_lowercase(), value))
        .collect();
    let length =
        headers.iter().find(|(name, _)| name == "content-length").map_or(Some(0), |(_, own)| own.parse().ok())?;
    let mut body = vec![0; length];
    socket.read_exact(&mut body).await.ok()?;
    let changes = method == "POST" && path.contains("/tables/");
    let dice = rand::rng().random_range(0..100);
    if changes && dice < 15 {
        socket.write_all(b"HTTP/1.1 503 Busy\r\nContent-Length: 0\r\nConnection: close\r\n\r\n").await.ok()?;
        return None;
    }
    let url = format!("{upstream}{}", path.strip_prefix("/lake")?);
    let mut request = cobble_tests::http().request(method.parse().ok()?, url).body(body);
    for (name, value) in
        headers.iter().filter(|(name, _)| ["authorization", "content-type", "accept"].contains(&name.as_str()))
    {
        request = request.header(name, *value);
    }
    let answer = request.send().await.ok()?;
    let status = answer.status().as_u16();
    let body = answer.bytes().await.ok()?;
    if changes && dice < 45 {
        return None;
    }
    let head = format!(
        "HTTP/1.1 {status} Told\r\nContent-Type: application/json\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
        body.len()
    );
    socket.write_all(head.as_bytes()).await.ok()?;
    socket.write_all(&body).await.ok()
}

/// Several write through a catalog whose answers get lost: what became of a commit is looked up, and every row is there once.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn answers_that_a_catalog_does_not_give_are_looked_up() {
    let kept = Kept::start();
    let address = unreliable(kept.protocol()).await;
    let options = [("storage", "store"), ("warehouse", "kept")];
    let engine = kept.asking(&address, &options, (None, Some(&kept.product.token())));
    let mut first = session(&engine);
    let mut made = in_session(&mut first, "CREATE TABLE IF NOT EXISTS counted (writer bigint, turn bigint)").await;
    while made.is_err() {
        made = in_session(&mut first, "CREATE TABLE IF NOT EXISTS counted (writer bigint, turn bigint)").await;
    }
    let write = async |writer: usize| {
        let (mut session, mut done) = (session(&engine), 0);
        for turn in 0..8 {
            let sql = match turn % 4 {
                3 => format!("UPDATE counted SET turn = turn + 100 WHERE writer = {writer} AND turn < 100"),
                _ => format!("INSERT INTO counted VALUES ({writer}, {turn})"),
            };
            match in_session(&mut session, &sql).await {
                Ok(_) => done += i32::from(turn % 4 != 3),
                // Who comes too late with a change, or always meets a busy catalog, is told.
                Err(error) => {
                    assert!(matches!(error.code, Code::Conflict | Code::SourceUnreachable), "{sql}: {error:?}")
                }
            }
        }
        done
    };
    let all = futures::future::join_all((0..4).map(write)).await;
    let done: i32 = all.iter().sum();
    assert!(done > 15, "{all:?}");
    let counted = kept.sql("SELECT count(*) AS n, count(DISTINCT writer * 10 + turn % 100) AS d FROM kept.ops.counted");
    assert_eq!(counted, [format!("{{\"n\":{done},\"d\":{done}}}")]);
}

/// Faults of the catalog and of the storage are told apart, with the setting at fault.
#[tokio::test(flavor = "multi_thread")]
async fn both_halves_are_tested_apart() {
    let kept = Kept::start();
    kept.sql("CREATE TABLE kept.ops.berths AS SELECT 1 AS id");
    let (protocol, token) = (kept.protocol(), kept.product.token());
    // A name is changed in one step, and not to one that is taken.
    kept.sql("CREATE TABLE kept.ops.piers AS SELECT 2 AS id");
    let http = kept.product.http();
    let rename = async |from: &str, to: &str| {
        let name = |own: &str| json!({ "namespace": ["ops"], "name": own });
        let body = json!({ "source": name(from), "destination": name(to) });
        let sent = http.post(format!("{protocol}/v1/kept/tables/rename")).json(&body).send().await.unwrap();
        sent.status().as_u16()
    };
    assert_eq!(
        [rename("berths", "piers").await, rename("none", "x").await, rename("piers", "quays").await],
        [409, 404, 204]
    );
    assert_eq!(kept.sql("SELECT id FROM kept.ops.quays"), ["{\"id\":2}"]);
    kept.sql("INSERT INTO kept.ops.quays VALUES (3)");
    kept.sql("DROP TABLE kept.ops.quays");
    let elsewhere = tempfile::tempdir().unwrap();
    for (address, options, sign_in, step, told) in [
        (protocol.as_str(), vec![("storage", "store"), ("warehouse", "kept")], (None, Some(token.as_str())), "", ""),
        (&protocol, vec![("storage", "store"), ("warehouse", "kept")], (None, Some("wrong")), "catalog", "secret"),
        (
            &protocol,
            vec![("storage", "store"), ("warehouse", "kept")],
            (Some("admin"), Some("wrong")),
            "catalog",
            "secret",
        ),
        (&protocol, vec![("storage", "store"), ("warehouse", "other")], (None, Some(&token)), "catalog", "warehouse"),
        (&kept.product.address, vec![("storage", "store")], (None, Some(&token)), "catalog", "address"),
        ("127.0.0.1:9", vec![("storage", "store")], (None, None), "catalog", "address"),
        (&protocol, vec![("storage", "nowhere"), ("warehouse", "kept")], (None, Some(&token)), "storage", "storage"),
        (&protocol, vec![("storage", "wrong"), ("warehouse", "kept")], (None, Some(&token)), "read", "storage"),
        (&protocol, vec![("warehouse", "kept")], (None, Some(&token)), "read", "storage"),
    ] {
        let engine = kept.asking(address, &options, sign_in);
        let wrong = ConnectionDefinition::new("wrong", "files", elsewhere.path().display().to_string());
        engine.add_connection(wrong).unwrap();
        let definition = engine.set().connections["far"].definition.clone();
        let mut steps = Vec::new();
        engine.test_connection(&definition, &Asker::default(), &mut |step| steps.push(step)).await.unwrap();
        let failed: Vec<_> = steps.iter().filter(|step| !step.passed).collect();
        match failed.as_slice() {
            [] => assert_eq!(step, "", "{address} {options:?}: {steps:?}"),
            [failed] => {
                assert_eq!(
                    (failed.step.as_str(), failed.setting.as_deref()),
                    (step, Some(told)),
                    "{address}: {steps:?}"
                );
            }
            _ => panic!("{steps:?}"),
        }
        assert!(!format!("{steps:?}").contains("wrong\""), "no secret is shown: {steps:?}");
    }
}

/// Views that the library makes through the protocol are read here, and those that are made here the library finds.
#[tokio::test(flavor = "multi_thread")]
async fn views_are_shared_through_the_protocol() {
    let kept = Kept::start();
    let engine = kept.asking(
        &kept.protocol(),
        &[("storage", "store"), ("warehouse", "kept")],
        (None, Some(&kept.product.token())),
    );
    let mut far = session(&engine);
    let s = &mut far;
    rows(s, "CREATE TABLE sold AS SELECT n AS id, 'quay ' || n % 7 AS port FROM generate_series(1, 300) AS g(n)").await;
    rows(
        s,
        "CREATE VIEW far.ops.few (Id, at_port, \"SUM\") AS SELECT id, port, 1.5::numeric(4,2) FROM sold WHERE id <= 5",
    )
    .await;
    rows(s, "CREATE OR REPLACE VIEW far.ops.few (id, at_port, sum) AS SELECT id, port, 2.5::numeric(4,2) FROM sold WHERE id <= 4").await;
    kept.product.stdout(&["sql", "USE kept.ops; CREATE VIEW ops.counted AS SELECT port, count(*) AS n FROM few f RIGHT JOIN sold USING (id) GROUP BY port"]);
    let found = library("partner_views.py", &[&kept.protocol(), &kept.product.token(), "kept"], &Json::Null);
    let found: Json = serde_json::from_str(&found).unwrap();
    let names: Vec<&String> = found.as_object().unwrap().keys().collect();
    assert_eq!(names, ["counted", "few", "plain", "strange", "theirs"]);
    assert_eq!(found["few"]["schema"], json!([["id", "int"], ["at_port", "string"], ["sum", "decimal(4, 2)"]]));
    assert_eq!(
        found["few"]["sql"],
        json!([["cobble-lane", "SELECT id, port, 2.5::numeric(4,2) FROM sold WHERE id <= 4"]])
    );
    assert_eq!(
        (&found["few"]["versions"], &found["few"]["place"], &found["few"]["catalog"]),
        (&json!(2), &json!(["ops"]), &json!("far"))
    );
    assert_eq!(found["counted"]["catalog"], json!("kept"));
    // By the service's own catalog, and by the one that asks it.
    for (name, wanted) in [
        ("few", vec!["{\"id\":1,\"at_port\":\"quay 1\",\"sum\":\"2.50\"}"]),
        ("theirs", vec!["{\"number\":1,\"port\":\"quay 1\"}"]),
        ("plain", vec!["{\"number\":299,\"port\":\"quay 5\"}"]),
    ] {
        let first = kept.sql(&format!("SELECT * FROM kept.ops.{name} ORDER BY 1 LIMIT 1"));
        assert_eq!(first, wanted, "{name}");
        assert_eq!(
            rows(s, &format!("SELECT count(*) FROM {name}")).await,
            [if name == "few" { "4" } else { "2" }],
            "{name}"
        );
    }
    assert_eq!(kept.sql("SELECT sum(n) AS n FROM kept.ops.counted"), ["{\"n\":\"300\"}"]);
    let error = in_session(s, "SELECT * FROM strange").await.unwrap_err();
    assert!(error.message.starts_with("in view far.ops.strange, written in strange: "), "{}", error.message);
    // Names are taken by one thing.
    for (sql, code) in [
        ("CREATE VIEW far.ops.sold AS SELECT 1 AS n", Code::AlreadyExists),
        ("CREATE VIEW far.ops.few AS SELECT 1 AS n", Code::AlreadyExists),
        ("CREATE TABLE few (n integer)", Code::AlreadyExists),
        ("CREATE VIEW far.ops.gaps AS SELECT interval '1 day' AS n", Code::Unsupported),
        ("DROP VIEW far.ops.nothing", Code::UnknownTable),
        ("ALTER VIEW far.ops.few RENAME TO plain", Code::AlreadyExists),
    ] {
        assert_eq!(in_session(s, sql).await.map(drop).expect_err(sql).code, code, "{sql}");
    }
    rows(s, "ALTER VIEW far.ops.few RENAME TO some").await;
    assert_eq!(rows(s, "SELECT count(*) FROM some").await, ["4"]);
    rows(s, "DROP VIEW far.ops.some, far.ops.plain; DROP VIEW IF EXISTS far.ops.some").await;
    let left = kept
        .sql("SELECT table_name, table_type FROM kept.information_schema.tables WHERE table_schema = 'ops' ORDER BY 1");
    let wanted = [("counted", "VIEW"), ("sold", "BASE TABLE"), ("strange", "VIEW"), ("theirs", "VIEW")];
    let wanted = wanted.map(|(name, kind)| format!("{{\"table_name\":\"{name}\",\"table_type\":\"{kind}\"}}"));
    assert_eq!(left, wanted);
    let defined =
        kept.sql("SELECT view_definition AS d FROM kept.information_schema.views WHERE table_name = 'theirs'");
    assert_eq!(defined, ["{\"d\":\"SELECT id AS n, port FROM sold WHERE id < 3\"}"]);
    let page = kept.product.stdout(&["browse", "kept.ops.theirs"]);
    assert!(page.contains("view kept.ops.theirs") && page.contains("number"), "{page}");
    // What a view was kept in goes with it.
    let files = std::fs::read_dir(kept.folder.path().join("warehouse/ops")).unwrap().flatten();
    let holds = |entry: &std::fs::DirEntry| std::fs::read_dir(entry.path().join("metadata")).unwrap().next().is_some();
    let left: Vec<String> = files.filter(holds).map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
    assert_eq!(left.len(), 4, "{left:?}");
}
