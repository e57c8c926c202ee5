//! Commits under fire: eight writers append to, delete from and merge into one lake table while the service is killed and started again and
//! again, over a folder and over a store that refuses requests, is slow, and loses answers. What was acknowledged is there once, of the rest all
//! or nothing, and the format's own library reads the table.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use cobble_ferry_load::{Faults, serve_with_faults};
use cobble_tests::{Product, http_as};
use rand::Rng;
use serde_json::{Value as Json, json};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

const WRITERS: u64 = 8;
/// Seconds under fire in a run of the tests; `COBBLE_FIRE` asks for others.
const SECONDS: u64 = 20;
/// The store's own name for what is asked of it, and its secret.
const KEY: (&str, &str) = ("writer", "a secret key");
/// Of a hundred requests to the store.
const FAULTS: Faults = Faults { refused: 5, slow: 3, lost: 5 };

/// Where the service is at the moment; nowhere while it is dead.
#[derive(Clone, Default)]
struct Place(Arc<Mutex<Option<(String, String)>>>);

impl Place {
    fn set(&self, product: Option<&Product>) {
        let own = product.map(|product| (format!("{}/api/v1/runs", product.address), product.token()));
        *self.0.lock().unwrap() = own;
    }

    fn get(&self) -> Option<(String, String)> {
        self.0.lock().unwrap().clone()
    }
}

/// What became of a statement.
enum Outcome {
    Done(Json),
    Refused(String),
    /// The service did not say.
    Unknown,
}

async fn sent(place: &Place, sql: &str) -> Option<Outcome> {
    let (base, token) = place.get()?;
    let http = http_as(&token);
    let mut run: Json = http
        .post(format!("{base}?wait=20000"))
        .json(&json!({ "statement": sql }))
        .send()
        .await
        .ok()?
        .json()
        .await
        .ok()?;
    let id = run["id"].as_str()?.to_owned();
    while run["state"] == "running" {
        tokio::time::sleep(Duration::from_millis(50)).await;
        run = http.get(format!("{base}/{id}")).send().await.ok()?.json().await.ok()?;
    }
    Some(match run["state"].as_str()? {
        "finished" => Outcome::Done(run["page"]["rows"].clone()),
        "failed" if !run["error"]["code"].to_string().to_lowercase().contains("doubt") => {
            Outcome::Refused(run["error"].to_string())
        }
        _ => Outcome::Unknown,
    })
}

async fn outcome(place: &Place, sql: &str) -> Outcome {
    while place.get().is_none() {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    sent(place, sql).await.unwrap_or(Outcome::Unknown)
}

/// A writer's rows, by their ids.
type Rows = BTreeMap<u64, i64>;

/// The rows of a writer, asked until the service answers.
async fn rows_of(place: &Place, table: &str, writer: u64) -> Rows {
    for _ in 0..400 {
        let sql = format!("SELECT id, sum(n), count(*) FROM {table} WHERE writer = {writer} GROUP BY id");
        if let Outcome::Done(rows) = outcome(place, &sql).await {
            let number = |own: &Json| own.as_i64().or_else(|| own.as_str()?.parse().ok()).expect("a number");
            let one = |row: &Json| {
                assert_eq!(number(&row[2]), 1, "a row of writer {writer} is there {} times: {row}", row[2]);
                (number(&row[0]) as u64, number(&row[1]))
            };
            return rows.as_array().expect("rows").iter().map(one).collect();
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("the service does not answer")
}

/// The next statement of a writer, and its rows when it has been done.
fn next(table: &str, writer: u64, turn: u64, rows: &Rows) -> (String, Rows) {
    let mut after = rows.clone();
    let mut random = rand::rng();
    let some = |random: &mut rand::rngs::ThreadRng| rows.keys().nth(random.random_range(0..rows.len())).copied();
    let known = if rows.is_empty() { None } else { some(&mut random) };
    let first = turn * 10;
    match (turn % 4, known) {
        (1, Some(id)) => {
            after.remove(&id);
            (format!("DELETE FROM {table} WHERE writer = {writer} AND id = {id}"), after)
        }
        (2, Some(id)) => {
            *after.get_mut(&id).expect("it is there") += 1;
            after.insert(first, 100);
            let source = format!("(VALUES ({writer}, {id}), ({writer}, {first})) AS s(writer, id)");
            let sql = format!(
                "MERGE INTO {table} AS t USING {source} ON t.writer = s.writer AND t.id = s.id \
                 WHEN MATCHED THEN UPDATE SET n = t.n + 1 WHEN NOT MATCHED THEN INSERT VALUES (s.writer, s.id, 100)"
            );
            (sql, after)
        }
        _ => {
            after.extend((first..first + 5).map(|id| (id, 0)));
            let sql = format!(
                "INSERT INTO {table} SELECT {writer}, n, 0 FROM generate_series({first}, {}) AS s(n)",
                first + 4
            );
            (sql, after)
        }
    }
}

/// What a writer has come to: its rows, and how many of its statements were done, refused, and settled after nobody had said what became of them.
async fn write(
    (place, table, is_faulty): (Place, &str, bool),
    writer: u64,
    goes_on: Arc<AtomicBool>,
) -> (Rows, [u64; 3]) {
    let (mut rows, mut counts, mut turn) = (Rows::new(), [0; 3], 0);
    while goes_on.load(Ordering::Relaxed) {
        turn += 1;
        let (sql, after) = next(table, writer, turn, &rows);
        match outcome(&place, &sql).await {
            Outcome::Done(_) => {
                counts[0] += 1;
                rows = after;
            }
            Outcome::Refused(error) => {
                counts[1] += 1;
                let known = ["40001", "Conflict", "conflict", "Cancelled", "cancelled"];
                let is_known = known.iter().any(|word| error.contains(word));
                let of_store = is_faulty && error.contains("connection store") && !error.contains("XX000");
                assert!(is_known || of_store, "{sql}: {error}");
            }
            Outcome::Unknown => {
                counts[2] += 1;
                let now = rows_of(&place, table, writer).await;
                assert!(
                    now == rows || now == after,
                    "{sql}: neither all nor nothing of it is there: {now:?}, {rows:?}"
                );
                rows = now;
            }
        }
    }
    (rows, counts)
}

fn library(arguments: &[&str], input: &Json) -> Json {
    let root = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/.."));
    let mut running = Command::new(root.join("target/python/bin/python"))
        .arg(root.join("crates/cobble-lake/tests/partner_reads.py"))
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut running.stdin.take().unwrap(), input.to_string().as_bytes()).unwrap();
    serde_json::from_slice(&running.wait_with_output().unwrap().stdout).unwrap()
}

/// The store once more at the same port, with these faults.
async fn again(objects: &Path, port: u16, before: JoinHandle<()>, faults: Faults) -> JoinHandle<()> {
    before.abort();
    let _ = before.await;
    for _ in 0..100 {
        if let Ok(listener) = TcpListener::bind(("127.0.0.1", port)).await {
            return serve_with_faults(objects, listener, Some(KEY), faults).unwrap();
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("the store's port is not free again")
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn a_lake_under_fire_keeps_what_was_acknowledged() {
    let seconds = std::env::var("COBBLE_FIRE").ok().and_then(|text| text.parse().ok()).unwrap_or(SECONDS);
    let folder = tempfile::tempdir().unwrap();
    for name in ["lane", "warehouse", "rows", "objects", "objects/deep"] {
        std::fs::create_dir(folder.path().join(name)).unwrap();
    }
    let lane = folder.path().join("lane");
    let mut product = Product::empty(&lane);
    let config = folder.path().join("lane.toml");
    let lake = |name: &str, kind: &str, storage: &str| {
        format!(
            "[connections.{name}]\nkind = \"{kind}\"\n[connections.{name}.options]\nstorage = \"{storage}\"\nwritable = \"true\"\ngives_keys = \"true\"\n\
             [catalogs.{name}]\nconnection = \"{name}\"\n"
        )
    };
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let objects = folder.path().join("objects");
    let mut store = serve_with_faults(&objects, listener, Some(KEY), Faults::default()).unwrap();
    let secret = folder.path().join("store.secret");
    std::fs::write(&secret, KEY.1).unwrap();
    let text = format!(
        "[connections.folder]\nkind = \"files\"\naddress = \"{}/warehouse\"\n\
         [connections.store]\nkind = \"s3\"\naddress = \"127.0.0.1:{port}\"\nuser = \"{}\"\nsecret = {{ file = \"{}\" }}\n\
         [connections.store.options]\nbucket = \"deep\"\n{}{}{}{}",
        folder.path().display(),
        KEY.0,
        secret.display(),
        lake("found", "lake", "folder"),
        lake("kept", "lake_service", "folder"),
        lake("found_far", "lake", "store"),
        lake("kept_far", "lake_service", "store"),
    );
    std::fs::write(&config, text).unwrap();
    product.stdout(&["apply", config.to_str().unwrap()]);
    for table in ["found.fire.berths", "kept.shelter.berths", "found_far.spark.berths", "kept_far.quay.berths"] {
        let is_faulty = table.contains("_far");
        let with = "WITH (write.delete.mode = 'merge-on-read', write.delete.isolation-level = 'snapshot', write.merge.isolation-level = 'snapshot')";
        product.stdout(&[
            "sql",
            &format!(
                "CREATE TABLE {table} (writer bigint, id bigint, n bigint) PARTITION BY (bucket(4, writer)) {with}"
            ),
        ]);
        if is_faulty {
            store = again(&objects, port, store, FAULTS).await;
        }
        let (place, goes_on) = (Place::default(), Arc::new(AtomicBool::new(true)));
        place.set(Some(&product));
        let writers: Vec<_> = (0..WRITERS)
            .map(|writer| {
                let (place, goes_on) = (place.clone(), goes_on.clone());
                tokio::spawn(async move { write((place, table, is_faulty), writer, goes_on).await })
            })
            .collect();
        let (began, mut kills) = (Instant::now(), 0);
        while began.elapsed() < Duration::from_secs(seconds) / 4 {
            let life = rand::rng().random_range(700..2500);
            tokio::time::sleep(Duration::from_millis(life)).await;
            product.kill();
            place.set(None);
            kills += 1;
            let lane = lane.clone();
            product = tokio::task::spawn_blocking(move || Product::empty(&lane)).await.unwrap();
            place.set(Some(&product));
        }
        goes_on.store(false, Ordering::Relaxed);
        let (mut wanted, mut counts) = (0, [0; 3]);
        for (writer, running) in writers.into_iter().enumerate() {
            let (rows, own) = running.await.unwrap();
            assert_eq!(rows_of(&place, table, writer as u64).await, rows, "writer {writer}");
            wanted += rows.len();
            for (all, own) in counts.iter_mut().zip(own) {
                *all += own;
            }
        }
        println!("{table}: {kills} kills, {counts:?} statements done, refused and settled, {wanted} rows");
        assert!(counts[0] > 0, "somebody gets through");
        if is_faulty {
            store = again(&objects, port, store, Faults::default()).await;
        }
        // What killed writers have left belongs to nobody.
        product
            .stdout(&["sql", &format!("CALL lake_remove_orphans('{table}', older_than => now() + interval '1 day')")]);
        product.stdout(&["sql", &format!("CALL lake_compact('{table}')")]);
        let (schema, name) = table.split_once('.').unwrap().1.split_once('.').unwrap();
        let rows = folder.path().join("rows").join(schema);
        std::fs::create_dir(&rows).unwrap();
        let (address, warehouse) = (format!("{}/lake", product.address), table.split('.').next().unwrap());
        let found = library(
            &[warehouse, rows.to_str().unwrap(), &address, &product.token()],
            &json!({ format!("{schema}/{name}"): ["n >= 0"] }),
        );
        assert_eq!(found[format!("{schema}/{name}")]["counts"], json!([wanted]), "as the library counts");
    }
    product.stop();
}
