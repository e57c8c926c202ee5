//! The service is killed in the middle of what it writes and while it starts: either all of a statement is there afterwards or nothing, the
//! next start is clean, and no file, process, session or table is left over.

use std::collections::BTreeSet;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use cobble_tests::{Product, connect, product};
use mysql_async::prelude::Queryable;
use rand::Rng;

/// Kills in a run of the tests; `COBBLE_KILLS` asks for others.
const KILLS: usize = 12;

fn kills() -> usize {
    std::env::var("COBBLE_KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(KILLS)
}

fn some_time(least: u64, most: u64) -> Duration {
    Duration::from_millis(rand::rng().random_range(least..most))
}

/// Hidden files and folders anywhere below.
fn hidden(folder: &Path) -> Vec<String> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if name.starts_with('.') {
            found.push(entry.path().display().to_string());
        }
        if entry.path().is_dir() {
            found.extend(hidden(&entry.path()));
        }
    }
    found
}

/// The command lines of all processes that name this folder, such as the private servers of a service.
fn processes(folder: &Path) -> Vec<String> {
    let folder = folder.display().to_string();
    let all = std::fs::read_dir("/proc").unwrap().flatten();
    let lines = all.filter_map(|entry| std::fs::read(entry.path().join("cmdline")).ok());
    let lines = lines.map(|line| String::from_utf8_lossy(&line).replace('\0', " "));
    lines.filter(|line| line.contains(&folder)).collect()
}

/// A folder that the private servers' users can walk to.
fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    folder
}

/// Where the killed service writes.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Place {
    Folder,
    Postgres,
    MariaDb,
    Sqlite,
    Lake,
}

const PLACES: [Place; 5] = [Place::Folder, Place::Postgres, Place::MariaDb, Place::Sqlite, Place::Lake];

impl Place {
    /// Catalog and schema.
    fn name(self) -> &'static str {
        match self {
            Place::Folder => "folder.public",
            Place::Postgres => "pg.public",
            Place::MariaDb => "maria.siege",
            Place::Sqlite => "lite.main",
            Place::Lake => "lake.ops",
        }
    }

    /// What stands behind the name of a new table.
    fn with(self) -> &'static str {
        match self {
            Place::Folder => " WITH (partition_by = 'part')",
            Place::Lake => " PARTITION BY (part) WITH (write.update.mode = 'merge-on-read')",
            _ => "",
        }
    }
}

/// What a place holds.
#[derive(Clone, Debug, PartialEq)]
struct Held {
    rows: u64,
    sum: u64,
    /// Names of tables that were made whole.
    made: BTreeSet<String>,
}

impl Held {
    /// The next statement, and what is there when it has been done.
    fn next(&self, place: Place, number: usize) -> (String, Held) {
        let name = place.name();
        let with = place.with();
        let mut after = self.clone();
        let rows = |rows: u64| format!("SELECT n, n % 12 AS part FROM generate_series(1, {rows}) AS s(n)");
        let statement = match (number % 3, place) {
            (0, _) => {
                after.made.insert(format!("made_{number}"));
                format!("CREATE TABLE {name}.made_{number}{with} AS {}", rows(4_000))
            }
            (1, Place::Lake) if number % 6 == 4 => {
                after.sum += self.rows;
                format!(
                    "MERGE INTO {name}.tides AS t USING (SELECT 1 AS more) AS s ON s.more > 0 WHEN MATCHED THEN UPDATE SET n = t.n + s.more"
                )
            }
            (1, Place::Postgres | Place::MariaDb | Place::Sqlite | Place::Lake) if self.rows > 30_000 => {
                (after.rows, after.sum) = (0, 0);
                format!("DELETE FROM {name}.tides")
            }
            (1, Place::Postgres | Place::MariaDb | Place::Sqlite | Place::Lake) => {
                after.sum += self.rows;
                format!("UPDATE {name}.tides SET n = n + 1")
            }
            _ => {
                (after.rows, after.sum) = (self.rows + 5_000, self.sum + 5_000 * 5_001 / 2);
                format!("INSERT INTO {name}.tides {}", rows(5_000))
            }
        };
        (statement, after)
    }
}

/// The sessions at the servers that judge what is left, and the tables there.
struct Servers {
    postgres: tokio_postgres::Client,
    mariadb: mysql_async::Conn,
    mariadb_port: u16,
}

const SECRET: &str = "a secret";

impl Servers {
    async fn new() -> Servers {
        let product = product();
        let mariadb_port = product.mariadb_port();
        let admin = product.database("postgres").await;
        for sql in [
            "DROP DATABASE IF EXISTS siege WITH (FORCE)",
            "DROP ROLE IF EXISTS siege",
            "CREATE ROLE siege LOGIN PASSWORD 'a secret'",
            "CREATE DATABASE siege OWNER siege",
        ] {
            admin.batch_execute(sql).await.unwrap();
        }
        let mut mariadb = product.mariadb().await;
        for sql in [
            "DROP DATABASE IF EXISTS siege",
            "CREATE DATABASE siege",
            "CREATE OR REPLACE USER siege@'127.0.0.1' IDENTIFIED BY 'a secret'",
            "GRANT ALL ON siege.* TO siege@'127.0.0.1'",
        ] {
            mariadb.query_drop(sql).await.unwrap();
        }
        let secret = std::fs::read_to_string(product.folder.join("records.secret")).unwrap();
        let postgres = connect(product.postgres_port, "cobble", secret.trim(), "siege").await;
        Servers { postgres, mariadb, mariadb_port }
    }

    /// Waits until the killed service's sessions have ended, with what they were doing.
    async fn deserted(&mut self) {
        let began = Instant::now();
        loop {
            let sql = "SELECT count(*) FROM pg_stat_activity WHERE usename = 'siege'";
            let postgres: i64 = self.postgres.query_one(sql, &[]).await.unwrap().get(0);
            let sql = "SELECT count(*) FROM information_schema.PROCESSLIST WHERE USER = 'siege'";
            let mariadb: Option<i64> = self.mariadb.query_first(sql).await.unwrap();
            if (postgres, mariadb) == (0, Some(0)) {
                return;
            }
            let waited = began.elapsed();
            assert!(waited < Duration::from_secs(30), "{postgres} and {mariadb:?} sessions are left");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }

    /// All tables, as the servers themselves know them.
    async fn tables(&mut self, place: Place) -> BTreeSet<String> {
        match place {
            Place::Postgres => {
                let sql = "SELECT relname::text FROM pg_class WHERE relnamespace = 'public'::regnamespace AND relkind IN ('r', 'p', 'S', 'v')";
                self.postgres.query(sql, &[]).await.unwrap().iter().map(|row| row.get(0)).collect()
            }
            _ => {
                let found: Vec<String> = self.mariadb.query("SHOW TABLES FROM siege").await.unwrap();
                found.into_iter().collect()
            }
        }
    }
}

/// What the service says that a place holds.
fn held(product: &Product, place: Place) -> Held {
    let name = place.name();
    let one = |sql: &str| {
        let text = product.stdout(&["sql", "--format", "csv", sql]);
        let line = text.trim().lines().last().unwrap().to_owned();
        line.split(',').map(|value| value.parse::<u64>().unwrap_or_default()).collect::<Vec<_>>()
    };
    let all = one(&format!("SELECT count(*), sum(n) FROM {name}.tides"));
    let mut made: BTreeSet<String> = serde_json::from_str(&product.stdout(&["--json", "browse", name])).unwrap();
    assert!(made.remove("tides"), "{name}: {made:?}");
    for table in &made {
        assert_eq!(one(&format!("SELECT count(*), 0 FROM {name}.{table}"))[0], 4_000, "{name}.{table}");
    }
    Held { rows: all[0], sum: all[1], made }
}

fn writing(product: &Product, arguments: &[&str]) -> Child {
    let mut command = Command::new(cobble_tests::cobble());
    command.args(arguments).env("COBBLE_SERVICE", &product.address).stdout(Stdio::null()).stderr(Stdio::null());
    command.spawn().unwrap()
}

/// Two configurations between which the service changes, beside what it writes to.
fn configurations(product: &Product, folder: &Path) -> [(PathBuf, String); 2] {
    ["ebb", "flood"].map(|name| {
        let mut text = product.stdout(&["export"]);
        for number in 0..12 {
            let (connection, catalog) = (format!("{name}_{number}"), format!("{name}_c{number}"));
            text.push_str(&format!(
                "\n[connections.{connection}]\nkind = \"generated\"\n\n[catalogs.{catalog}]\nconnection = \"{connection}\"\n"
            ));
        }
        let file = folder.join(format!("{name}.toml"));
        std::fs::write(&file, text).unwrap();
        product.stdout(&["apply", &file.display().to_string()]);
        let exported = product.stdout(&["export"]);
        (file, exported)
    })
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_writes_are_whole_or_not_there() {
    let folder = folder();
    let lane = folder.path().join("lane");
    let (data, lite) = (folder.path().join("data"), folder.path().join("lite"));
    std::fs::create_dir(&data).unwrap();
    std::fs::create_dir(&lite).unwrap();
    let file = lite.join("lite.db").display().to_string();
    let mut servers = Servers::new().await;
    let mut product = Product::empty(&lane);
    let (postgres, mariadb) =
        [cobble_tests::product().postgres_port, servers.mariadb_port].map(|port| format!("127.0.0.1:{port}")).into();
    std::fs::write(lite.join("lite.db"), "").unwrap();
    for (catalog, kind, address, more) in [
        ("folder", "files", data.display().to_string(), &[][..]),
        ("pg", "postgres", postgres, &["--database", "siege"]),
        ("maria", "mariadb", mariadb, &["--database", "siege"]),
        ("lite", "sqlite", file, &[]),
    ] {
        let mut add = vec!["connection", "add", catalog, "--kind", kind, "--address", &address];
        add.extend(["--set", "writable=true"]);
        if !more.is_empty() {
            add.extend(["--user", "siege", "--secret-env", "SIEGE_SECRET"]);
        }
        add.extend(more);
        let (ok, said) = product.cobble_as(product.token().trim(), &add, &[("SIEGE_SECRET", SECRET)]);
        assert!(ok, "{said}");
        product.stdout(&["catalog", "add", catalog, "--connection", catalog]);
    }
    let stored = folder.path().join("stored");
    std::fs::create_dir(&stored).unwrap();
    let address = stored.display().to_string();
    product.stdout(&["connection", "add", "stored", "--kind", "files", "--address", &address]);
    let lake = ["connection", "add", "lake", "--kind", "lake", "--set", "storage=stored", "--set", "writable=true"];
    product.stdout(&lake);
    product.stdout(&["catalog", "add", "lake", "--connection", "lake"]);
    let mut states = Vec::new();
    for place in PLACES {
        let (name, with) = (place.name(), place.with());
        product.stdout(&[
            "sql",
            &format!(
                "CREATE TABLE {name}.tides{with} AS SELECT n, n % 12 AS part FROM generate_series(1, 500) AS s(n)"
            ),
        ]);
        states.push(held(&product, place));
    }
    let files = configurations(&product, folder.path());
    let mut configured = files[1].1.clone();
    let (mut whole, mut nothing) = (0, 0);
    for number in 0..kills() {
        let nexts: Vec<(String, Held)> =
            PLACES.iter().zip(&states).map(|(place, held)| held.next(*place, number)).collect();
        let (file, wanted) = &files[number % 2];
        let file = file.display().to_string();
        let mut all: Vec<Child> = nexts.iter().map(|(sql, _)| writing(&product, &["sql", sql])).collect();
        all.push(writing(&product, &["apply", &file]));
        tokio::time::sleep(some_time(5, 350)).await;
        product.kill();
        all.iter_mut().for_each(|child| drop(child.wait()));
        servers.deserted().await;

        product = Product::empty(&lane);
        assert_eq!(hidden(&data), Vec::<String>::new(), "after kill {number}");
        let (mut done, mut left) = (0, 0);
        for ((place, before), (statement, after)) in PLACES.iter().zip(&mut states).zip(nexts) {
            let now = held(&product, *place);
            assert!(now == *before || now == after, "kill {number}, {statement}: {before:?}, then {now:?}");
            *(if now == after { &mut done } else { &mut left }) += 1;
            if matches!(place, Place::Postgres | Place::MariaDb) {
                let mut wanted = now.made.clone();
                wanted.insert("tides".to_owned());
                assert_eq!(servers.tables(*place).await, wanted, "after kill {number}");
            }
            *before = now;
        }
        let exported = product.stdout(&["export"]);
        assert!(exported == configured || exported == *wanted, "kill {number}: {exported}");
        *(if exported == *wanted { &mut done } else { &mut left }) += 1;
        configured = exported;
        (whole, nothing) = (whole + done, nothing + left);
        let own = processes(&lane);
        assert_eq!(own.iter().filter(|line| line.contains("postgres ")).count(), 1, "after kill {number}: {own:?}");
        // A journal of SQLite's in which nothing was safe yet goes when somebody writes next.
        product.stdout(&["sql", "CREATE TABLE lite.main.swept AS SELECT 1 AS n"]);
        product.stdout(&["sql", "DROP TABLE lite.main.swept"]);
        let left: Vec<_> = std::fs::read_dir(&lite).unwrap().flatten().map(|entry| entry.file_name()).collect();
        assert_eq!(left, ["lite.db"], "after kill {number}");
    }
    println!("{} kills: {whole} statements were whole afterwards, {nothing} had left nothing", kills());
    assert!(whole > 0 && nothing > 0, "some kills come before and some after");
    // What the killed writers of the lake left goes, and nothing that a state has.
    product.stdout(&["sql", "CALL lake_remove_orphans('lake.ops.tides', now() + interval '1 hour')"]);
    product.stdout(&["sql", "CALL lake_compact('lake.ops.tides')"]);
    let lakes = PLACES.iter().position(|place| *place == Place::Lake).unwrap();
    assert_eq!(held(&product, Place::Lake), states[lakes]);
    product.stop();
    servers.deserted().await;
    assert_eq!(processes(&lane), Vec::<String>::new());
}

/// Whatever a start had got to when it was killed, the next one begins as if nothing had been.
#[test]
fn a_killed_start_is_begun_again() {
    let folder = folder();
    for number in 0..kills().div_ceil(2) {
        let lane = folder.path().join(format!("lane_{number}"));
        // The first start makes everything; the second one finds it.
        Product::killed_in_its_start(&lane, some_time(30, 2_500));
        Product::killed_in_its_start(&lane, some_time(30, 1_200));
        let product = Product::empty(&lane);
        product.stdout(&["connection", "add", "numbers", "--kind", "generated"]);
        let token = product.token();
        let product = product.again();
        assert!(product.stdout(&["connection", "list"]).contains("numbers"));
        assert_eq!(product.token(), token);
        product.stop();
        assert_eq!(processes(&lane), Vec::<String>::new(), "after start {number}");
        let odd: Vec<String> = std::fs::read_dir(&lane)
            .unwrap()
            .flatten()
            .map(|entry| entry.file_name().to_string_lossy().into_owned())
            .filter(|name| name.ends_with(".new") || name.contains("aside"))
            .collect();
        assert_eq!(odd, Vec::<String>::new(), "after start {number}");
        std::fs::remove_dir_all(&lane).unwrap();
    }
}
