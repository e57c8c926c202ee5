//! SQLite as a source: what it takes over and what not, and that this never changes an answer. Every fragment runs twice, as planned
//! and with nothing handed over.

use std::path::{Path, PathBuf};

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Session, draw};
use rusqlite::Connection;
use tokio_util::sync::CancellationToken;

use crate::truth;
use crate::truth::answer;

const ROWS: &str = "
CREATE TABLE sales (id INTEGER PRIMARY KEY, port INTEGER, article TEXT, label TEXT COLLATE NOCASE, padded TEXT COLLATE RTRIM,
  price DECIMAL(8,2), weight REAL, sold_on DATE, sold_at DATETIME, open_at TIME, by_card BOOLEAN, seal BLOB, extra NUMERIC, odd);
INSERT INTO sales VALUES
 (1, 1, 'coffee', 'Coffee', 'a', 2.8, 0.25, '2025-07-01', '2025-07-01 09:00:00', '09:00', 1, x'01', 1, 'x'),
 (2, 1, 'Coffee', 'COFFEE', 'a ', 2.80, -0.0, '2025-07-02', '2025-07-01T09:00:00', '09:00:00', 0, x'0102', 2.5, 5),
 (3, 2, 'tide table', 'tide', 'a  ', 3.5, 0.0, '2024-02-29', '2025-07-01 09:00:00.5', null, null, null, 'n', 5.0),
 (4, 2, '50% off', '50*', '', 0, 1e300, null, null, '23:59:59', 1, x'', null, null),
 (5, null, '', '', null, null, null, '0001-01-01', '9999-12-31 23:59:59', null, 0, null, -1, x'00'),
 (6, 9223372036854775807, 'été [1]', 'Été', 'é', 999999.99, -1.5, '9999-12-31', '1970-01-01 00:00:00', '00:00', 1, x'ff', 0, 'y'),
 (7, -9223372036854775808, null, null, 'A', -0.01, 2.5, '2025-07-01', '2025-07-02 00:00:00', '12:30', null, null, null, 'y');
CREATE TABLE ports (id INTEGER PRIMARY KEY, name TEXT NOT NULL) STRICT;
INSERT INTO ports VALUES (1, 'Brent Quay'), (2, 'Teal Steps'), (3, 'Wrack Landing');
CREATE TABLE loose (id INTEGER PRIMARY KEY, amount INTEGER, name TEXT);
INSERT INTO loose VALUES (1, 5, 'a'), (2, 'n/a', 'b'), (3, 7.5, 'c'), (4, null, x'00ff');
CREATE TABLE huge (n INTEGER) STRICT;
INSERT INTO huge VALUES (9223372036854775807), (1);
CREATE VIEW cheap AS SELECT id, article, price * 2 AS twice FROM sales WHERE price < 3;
CREATE TABLE empty (id INTEGER, t TEXT);
CREATE TABLE quoted (\"q\"\"t1.\" INTEGER);
INSERT INTO quoted VALUES (2), (3);
CREATE TABLE \"Odd Name\" (\"a \"\"b\"\"\" INTEGER, \"select\" TEXT);
INSERT INTO \"Odd Name\" VALUES (1, 'x');
";

fn session(name: &str) -> (Session, PathBuf) {
    let path = Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("{name}.db"));
    let _ = std::fs::remove_file(&path);
    Connection::open(&path).unwrap().execute_batch(ROWS).unwrap();
    let engine = Engine::in_memory().unwrap();
    engine.add_connection(ConnectionDefinition::new("till_file", "sqlite", path.display().to_string())).unwrap();
    engine.add_catalog(CatalogDefinition::new("till", "till_file")).unwrap();
    let mut session = engine.session();
    session.use_place("till", Some("main")).unwrap();
    (session, path)
}

const CONDITIONS: &[&str] = &[
    "id = 3",
    "port > 1",
    "port < 0",
    "port = 9223372036854775807",
    "port <> 2",
    "port IN (1, 2, 7)",
    "port NOT IN (1, 2)",
    "port NOT IN (1, null)",
    "port BETWEEN 1 AND 2",
    "port IS NULL",
    "port IS DISTINCT FROM 1",
    "port IS NOT DISTINCT FROM null",
    "port + 1 > 2",
    "port / 2 = 1",
    "id % 2 = 0",
    "-id < -3",
    "abs(id) = 3",
    "id::text = '3'",
    "id::double precision > 2.5",
    "id = 2.5",
    "id > 2.5",
    "port = weight",
    "article = 'coffee'",
    "article <> 'coffee'",
    "article < 'a'",
    "article >= 'Coffee'",
    "article IN ('coffee', '50% off')",
    "article LIKE 'c%'",
    "article LIKE 'C%'",
    "article LIKE '%[%'",
    "article LIKE '50\\% o__'",
    "article NOT LIKE '%e'",
    "article LIKE label",
    "article ILIKE 'c%'",
    "article ~ '^c'",
    "article || '!' = 'coffee!'",
    "article = ''",
    "upper(article) = 'COFFEE'",
    "length(article) > 5",
    "substring(article from 1 for 2) = 'co'",
    "left(article, 2) = 'co' OR right(article, -2) = 'ffee'",
    "btrim(padded) = 'a'",
    "rtrim(padded, 'a ') = ''",
    "replace(article, 'fe', '-') = 'cof-e'",
    "strpos(article, '[') > 0",
    "starts_with(article, 'tide')",
    "reverse(label) = 'etÉ'",
    "initcap(article) = 'Tide Table'",
    "split_part(article, ' ', 2) = 'off'",
    "split_part(article, ' ', 0) = 'off'",
    "substring(article from 1 for (id - 5)::integer) = ''",
    "lpad(article, 8, '*') = '**coffee'",
    "octet_length(article) <> length(article)",
    "ascii(article) = 233",
    "concat(article, '/', label, id) = 'coffee/Coffee1'",
    "concat_ws('-', article, padded) = 'coffee-a'",
    "greatest(id, port) = 3 OR least(article, label) = 'Coffee'",
    "md5(article) = 'x'",
    "regexp_like(article, 'c')",
    "port * port = 4",
    "port + id > 5",
    "port - id = -2",
    "-port < 0",
    "abs(port) = 2",
    "id / (id - 1) = 1",
    "10 % id = 1",
    "id % 0 = 1",
    "(id::smallint * 10000::smallint) > 1",
    "(id::integer * 1000000000) > 1",
    "extract(year from sold_on) IN (2024, 9999)",
    "extract(month from sold_on)::integer = 7",
    "extract(dow from sold_on) < extract(day from sold_on)",
    "extract(epoch from sold_on) > 0",
    "extract(hour from sold_at) = 9",
    "sold_on - date '2025-06-30' BETWEEN 1 AND 2",
    "coalesce(article, 'none') = 'none'",
    "nullif(article, 'coffee') IS NULL",
    "label = 'coffee'",
    "label = 'COFFEE'",
    "label < 'a'",
    "label IN ('coffee', 'tide')",
    "label = article",
    "padded = 'a'",
    "padded = 'a '",
    "padded <> 'a'",
    "padded < 'a '",
    "price = 2.8",
    "price > 2",
    "price + 1 > 4",
    "price IS NOT NULL",
    "weight > 0",
    "weight = 0",
    "weight = -0.0::double precision",
    "weight * 2 > 1e300",
    "weight = 'NaN'::double precision",
    "weight < 'Infinity'::double precision",
    "sold_on = date '2025-07-01'",
    "sold_on < date '2025-01-01'",
    "sold_on BETWEEN date '2025-07-01' AND date '2025-07-31'",
    "sold_on IN (date '2025-07-01', date '9999-12-31')",
    "sold_on + 1 = date '2025-07-02'",
    "extract(year from sold_on) = 2025",
    "sold_at = timestamp '2025-07-01 09:00:00'",
    "sold_at < timestamp '2025-07-01 12:00:00'",
    "sold_at IS NULL",
    "open_at = time '09:00'",
    "by_card",
    "NOT by_card",
    "by_card IS NULL",
    "by_card = true",
    "by_card IS TRUE",
    "by_card IS NOT TRUE",
    "seal = '\\x01'::bytea",
    "seal IS NULL",
    "extra = '1'",
    "odd = '5'",
    "odd IS NULL",
    "(id > 2 OR article IS NULL) AND NOT (port = 2)",
    "CASE WHEN id > 3 THEN port ELSE id END = 2",
    "CASE article WHEN 'coffee' THEN 1 ELSE 0 END = 1",
    "id = (SELECT max(id) FROM ports)",
    "EXISTS (SELECT 1 FROM ports p WHERE p.id = sales.port)",
    "port NOT IN (SELECT id FROM ports)",
    "random() < 2",
    "true",
    "false",
    "null",
    "id IN (1, 2, 3) AND article > 'A' AND by_card",
];

const STATEMENTS: &[&str] = &[
    "SELECT count(*) FROM sales",
    "SELECT count(port), count(DISTINCT port), count(DISTINCT article), count(DISTINCT label), count(DISTINCT padded) FROM sales",
    "SELECT min(id), max(id), min(article), max(article), min(label), max(label), min(sold_on), max(sold_on) FROM sales",
    "SELECT sum(id), avg(id) FROM sales",
    "SELECT sum(id) FROM sales",
    "SELECT sum(price), avg(price) FROM sales",
    "SELECT sum(price) FROM sales",
    "SELECT sum(weight) FROM sales",
    "SELECT min(price), max(weight) FROM sales",
    "SELECT max(weight) FROM sales",
    "SELECT bool_and(by_card) FROM sales",
    "SELECT string_agg(article, ',' ORDER BY id) FROM sales",
    "SELECT upper(label), count(*), sum(id * 2) FROM sales GROUP BY upper(label)",
    "SELECT extract(year from sold_on), extract(month from sold_on), count(*) FROM sales GROUP BY 1, 2",
    "SELECT lower(btrim(padded)), max(length(article)) FROM sales GROUP BY 1 ORDER BY 1 LIMIT 3",
    "SELECT id, substring(article from 2), id * 10, sold_on - date '2025-01-01', extract(year from sold_on) FROM sales WHERE id < 6",
    "SELECT length(seal::text) FROM sales",
    "SELECT name, length(name) FROM loose WHERE id < 4",
    "SELECT count(*) FROM loose WHERE length(name) = 1",
    "SELECT count(*) FILTER (WHERE id > 3), sum(id) FILTER (WHERE article LIKE 'c%') FROM sales",
    "SELECT port, count(*) FROM sales GROUP BY port",
    "SELECT label, count(*) FROM sales GROUP BY label",
    "SELECT padded, count(*) FROM sales GROUP BY padded",
    "SELECT weight, count(*) FROM sales GROUP BY weight",
    "SELECT price, count(*) FROM sales GROUP BY price",
    "SELECT sold_at, count(*) FROM sales GROUP BY sold_at",
    "SELECT by_card, sold_on, sum(id) FROM sales GROUP BY by_card, sold_on HAVING sum(id) > 1",
    "SELECT DISTINCT label FROM sales",
    "SELECT DISTINCT port, by_card FROM sales",
    "SELECT sum(n) FROM huge",
    "SELECT max(n), min(n) FROM huge",
    "SELECT id, article FROM sales ORDER BY article LIMIT 3",
    "SELECT id, article FROM sales ORDER BY article DESC NULLS LAST, id LIMIT 3",
    "SELECT id, label FROM sales ORDER BY label, id LIMIT 4",
    "SELECT id, padded FROM sales ORDER BY padded NULLS FIRST, id LIMIT 4",
    "SELECT id FROM sales ORDER BY port DESC, id LIMIT 2 OFFSET 1",
    "SELECT id, price FROM sales ORDER BY price, id LIMIT 3",
    "SELECT id FROM sales ORDER BY sold_on NULLS FIRST, id LIMIT 3",
    "SELECT id, weight FROM sales WHERE weight <> 0 ORDER BY weight LIMIT 2",
    "SELECT count(*) FROM (SELECT id FROM sales LIMIT 3) x",
    "SELECT count(*) FROM (SELECT id FROM sales OFFSET 3) x",
    "SELECT s.id, p.name FROM sales s JOIN ports p ON p.id = s.port",
    "SELECT s.id, p.name FROM sales s LEFT JOIN ports p ON p.id = s.port AND p.name > 'C'",
    "SELECT s.id, p.name FROM sales s RIGHT JOIN ports p ON p.id = s.port",
    "SELECT s.id, p.name FROM sales s FULL JOIN ports p ON p.id = s.port",
    "SELECT p.name, count(*), sum(s.id) FROM sales s JOIN ports p ON p.id = s.port WHERE s.article IS NOT NULL GROUP BY p.name",
    "SELECT p.name FROM ports p WHERE NOT EXISTS (SELECT 1 FROM sales s WHERE s.port = p.id)",
    "SELECT a.id, b.id FROM sales a JOIN sales b ON a.label = b.label AND a.id < b.id",
    "SELECT a.id, b.id FROM sales a JOIN sales b ON a.sold_on = b.sold_on AND a.id < b.id",
    "SELECT p.name, s.n FROM ports p JOIN (SELECT port, count(*) AS n FROM sales GROUP BY port) s ON s.port = p.id",
    "SELECT * FROM sales",
    "SELECT id, upper(article), price * 2, sold_at + interval '1 day', by_card, NOT by_card FROM sales",
    "SELECT id, id > 3, article = 'coffee', coalesce(port, -1), CASE WHEN id > 3 THEN price END FROM sales",
    "SELECT id, row_number() OVER (PARTITION BY port ORDER BY id) FROM sales",
    "SELECT * FROM cheap",
    "SELECT count(*), max(id) FROM cheap WHERE article = 'coffee'",
    "SELECT count(*), max(id), sum(id) FROM empty",
    "SELECT t, count(*) FROM empty GROUP BY t",
    "SELECT \"a \"\"b\"\"\", \"select\" FROM \"Odd Name\" WHERE \"select\" = 'x'",
    "SELECT a.id, b.\"q\"\"t1.\" FROM sales a JOIN quoted b ON b.\"q\"\"t1.\" = a.id",
    "SELECT id FROM sales WHERE article > 'a' UNION ALL SELECT id FROM ports",
    "SELECT id FROM loose WHERE id < 2",
    "SELECT amount FROM loose",
    "SELECT count(*) FROM loose WHERE amount > 3",
    "SELECT sum(amount) FROM loose",
    "SELECT count(*) FROM loose WHERE id = 1 AND amount > 3",
    "SELECT name FROM loose WHERE id < 4",
    "SELECT max(name) FROM loose",
    "SELECT count(*) FROM loose WHERE name = 'a'",
];

#[tokio::test(flavor = "multi_thread")]
async fn what_is_handed_over_never_changes_an_answer() {
    let (mut session, _) = session("sqlite-truth");
    let conditions = CONDITIONS.iter().map(|condition| format!("SELECT id FROM sales WHERE {condition}"));
    let mut all: Vec<String> = conditions.chain(STATEMENTS.iter().map(|s| (*s).to_owned())).collect();
    all.extend(truth::shapes::statements(["sales", "port", "article", "label", "weight", "ports"]));
    let table = truth::table(&mut session, &all, "offer-aggregates").await;
    insta::assert_snapshot!(table);
}

#[tokio::test(flavor = "multi_thread")]
async fn faults_are_named() {
    let (mut session, path) = session("sqlite-faults");
    truth::described_alike(&ConnectionDefinition::new("till_file", "sqlite", path.display().to_string()), "main").await;
    let mut out = Vec::new();
    for sql in ["SELECT * FROM nothing", "SELECT name FROM till.other.ports", "SELECT nam FROM ports"] {
        let error = answer(&mut session, sql).await.unwrap_err();
        out.push(format!("{} {}", error.code.sqlstate(), error.message));
    }
    let locked = Connection::open(&path).unwrap();
    locked.execute_batch("PRAGMA locking_mode = EXCLUSIVE; BEGIN EXCLUSIVE").unwrap();
    let mut definition = ConnectionDefinition::new("locked", "sqlite", path.display().to_string());
    definition.options.insert("busy_limit".into(), "0".into());
    let engine = Engine::in_memory().unwrap();
    engine.add_connection(definition).unwrap();
    let text = Path::new(env!("CARGO_TARGET_TMPDIR")).join("no-database.db");
    std::fs::write(&text, "this is not a database, but a text that is long enough to be read as a header of one")
        .unwrap();
    engine.add_connection(ConnectionDefinition::new("text", "sqlite", text.display().to_string())).unwrap();
    engine.add_connection(ConnectionDefinition::new("gone", "sqlite", "/nowhere/till.db")).unwrap();
    for connection in ["locked", "text", "gone"] {
        engine.add_catalog(CatalogDefinition::new(connection, connection)).unwrap();
        let mut session = engine.session();
        let sql = format!("SELECT count(*) FROM {connection}.main.ports");
        let error = answer(&mut session, &sql).await.unwrap_err();
        let folder = path.parent().unwrap().display().to_string();
        let hint = error.hint.clone().unwrap_or_default();
        out.push(format!("{} {} — {hint}", error.code.sqlstate(), error.message).replace(&folder, "…"));
    }
    insta::assert_snapshot!(out.join("\n"));
}

/// A file as it is when the program that changes it stops in the middle: with a journal of what was there before.
#[tokio::test(flavor = "multi_thread")]
async fn what_an_interrupted_change_left_is_rolled_back() {
    let folder = tempfile::tempdir().unwrap();
    for (mode, endings) in [("DELETE", &["", "-journal"][..]), ("WAL", &["", "-wal"])] {
        let (changed, left) = (folder.path().join("changed.db"), folder.path().join(format!("left-{mode}.db")));
        let connection = Connection::open(&changed).unwrap();
        let made = "CREATE TABLE quays (id INTEGER PRIMARY KEY, name TEXT);
            WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 5000)
            INSERT INTO quays SELECT i, printf('quay %d', i) FROM n";
        connection.execute_batch(&format!("PRAGMA journal_mode = {mode}; {made}")).unwrap();
        // Some of the pages are in the file before the end.
        let begun = "PRAGMA cache_size = 5; BEGIN; UPDATE quays SET name = 'nowhere'";
        connection.execute_batch(begun).unwrap();
        for ending in endings {
            std::fs::copy(format!("{}{ending}", changed.display()), format!("{}{ending}", left.display())).unwrap();
        }
        drop(connection);
        std::fs::remove_file(&changed).unwrap();
        for writable in ["false", "true"] {
            let mut definition = ConnectionDefinition::new("left", "sqlite", left.display().to_string());
            definition.options.insert("writable".into(), writable.into());
            let engine = Engine::in_memory().unwrap();
            engine.add_connection(definition).unwrap();
            engine.add_catalog(CatalogDefinition::new("till", "left")).unwrap();
            let sql = "SELECT count(*), count(DISTINCT name) FROM till.main.quays";
            match (answer(&mut engine.session(), sql).await, mode, writable) {
                (Err(error), "DELETE", "false") => {
                    assert!(error.message.contains("stopped in the middle of a change"), "{error}");
                    assert!(error.hint.unwrap().contains("writable = true"));
                }
                (outcome, ..) => assert_eq!(outcome.unwrap().0, ["5000|5000"], "{mode} {writable}"),
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_long_statement_is_interrupted() {
    let (mut session, _) = session("sqlite-cancel");
    let cancel = CancellationToken::new();
    let sql = "SELECT a.id FROM sales a, sales b, sales c, sales d, sales e, sales f, sales g, sales h, sales i WHERE a.id + b.id < c.id";
    let mut execution = session.run_text(sql, &cancel).await.unwrap();
    execution.next().await.unwrap();
    let began = std::time::Instant::now();
    cancel.cancel();
    while let Ok(Some(_)) = execution.next().await {}
    assert!(began.elapsed() < std::time::Duration::from_secs(30), "{:?}", began.elapsed());
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_move_between_tiers() {
    let path = Path::new(env!("CARGO_TARGET_TMPDIR")).join("tiers.db");
    let _ = std::fs::remove_file(&path);
    Connection::open(&path).unwrap().execute_batch("PRAGMA journal_mode = wal").unwrap();
    let definition = ConnectionDefinition::new("till_file", "sqlite", path.display().to_string());
    truth::tiers::check(definition, "main", "id").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tables_are_written_whole_or_not_at_all() {
    let path = Path::new(env!("CARGO_TARGET_TMPDIR")).join("written.db");
    let _ = std::fs::remove_file(&path);
    Connection::open(&path).unwrap().execute_batch("PRAGMA user_version = 1").unwrap();
    let definition = ConnectionDefinition::new("till_file", "sqlite", path.display().to_string());
    truth::written::check(truth::written::session(definition.clone(), "main")).await;
    let engine = Engine::in_memory().unwrap();
    engine.add_connection(definition).unwrap();
    engine.add_catalog(CatalogDefinition::new("till", "till_file")).unwrap();
    let error = answer(&mut engine.session(), "CREATE TABLE till.main.t AS SELECT 1 AS n").await.unwrap_err();
    assert_eq!(error.message, "connection till_file does not allow writing");
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_are_changed_whole_or_not_at_all() {
    let path = Path::new(env!("CARGO_TARGET_TMPDIR")).join("changed.db");
    for keyed in ["id INTEGER PRIMARY KEY", "id INTEGER NOT NULL, UNIQUE (id)"] {
        let _ = std::fs::remove_file(&path);
        let (key, rest) = keyed.split_once(',').unwrap_or((keyed, ""));
        let comma = if rest.is_empty() { "" } else { "," };
        let made = format!(
            "CREATE TABLE kept ({key}, vessel_id INTEGER, kind TEXT, urgency INTEGER, cost DECIMAL(10,2), note TEXT{comma}{rest});
             CREATE TABLE crew (vessel_id INTEGER, size INTEGER, name TEXT);
             CREATE VIEW seen AS SELECT * FROM kept"
        );
        Connection::open(&path).unwrap().execute_batch(&made).unwrap();
        let definition = ConnectionDefinition::new("till_file", "sqlite", path.display().to_string());
        truth::changed::check(truth::written::session(definition.clone(), "main"), "UNIQUE constraint failed", true)
            .await;
        let mut session = truth::written::session(definition, "main");
        let error = answer(&mut session, "DELETE FROM seen").await.unwrap_err();
        assert_eq!(error.message, "connection till_file: rows of \"seen\" cannot be changed: it is a view");
    }
}

/// The gate of RETURNING shows the statement that makes the change, what of it the source does, and what is computed afterwards.
#[tokio::test(flavor = "multi_thread")]
async fn the_plan_of_returning_is_that_of_its_change() {
    let path = Path::new(env!("CARGO_TARGET_TMPDIR")).join("returned.db");
    let _ = std::fs::remove_file(&path);
    let made = "CREATE TABLE notes (id INTEGER PRIMARY KEY, body TEXT, weight DOUBLE);
                INSERT INTO notes VALUES (1, 'late', 1.5), (2, 'full', null), (3, null, 2.0);
                CREATE TABLE marked (id INTEGER)";
    Connection::open(&path).unwrap().execute_batch(made).unwrap();
    let definition = ConnectionDefinition::new("till_file", "sqlite", path.display().to_string());
    let mut session = truth::written::session(definition, "main");
    let mut out = String::new();
    for sql in [
        "UPDATE notes SET body = upper(body) WHERE id > 1 RETURNING id, weight * 2 AS twice",
        "DELETE FROM notes n WHERE n.id IN (SELECT id FROM marked) RETURNING body",
        "DELETE FROM notes WHERE false RETURNING id",
    ] {
        let plan = session.plan_text(sql).await.unwrap();
        out.push_str(&format!("{sql}\n{}\n", draw::tree(&plan)));
    }
    insta::assert_snapshot!(out);
    assert_eq!(answer(&mut session, "SELECT count(*) FROM notes").await.unwrap().0, ["3"]);
}

/// A join of two joins is one statement, on either side.
#[tokio::test(flavor = "multi_thread")]
async fn joins_of_joins_are_handed_over() {
    let (mut session, _) = session("joined");
    let pairs = "(SELECT a.id, a.port FROM sales a JOIN sales b ON a.id = b.id)";
    for word in ["JOIN", "LEFT JOIN"] {
        let sql = format!("SELECT x.id, y.port FROM {pairs} x {word} {pairs} y ON x.id = y.id");
        session.set("planner.off", "order-joins").unwrap();
        let (rows, plan) = answer(&mut session, &sql).await.unwrap();
        assert_eq!(plan.unwrap().gates.len(), 1, "{sql}");
        session.set("planner.off", "offer-joins").unwrap();
        assert_eq!(answer(&mut session, &sql).await.unwrap().0, rows, "{sql}");
    }
}

/// Ranges of row numbers are read by several connections that see one state of the file, in both of SQLite's journals.
#[tokio::test(flavor = "multi_thread")]
async fn ranges_are_read_apart_in_one_state() {
    for journal in ["delete", "wal"] {
        let path = Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("purses-{journal}.db"));
        for end in ["", "-wal", "-shm", "-journal"] {
            let _ = std::fs::remove_file(format!("{}{end}", path.display()));
        }
        let owner = Connection::open(&path).unwrap();
        owner.busy_timeout(std::time::Duration::from_secs(30)).unwrap();
        let rows = truth::moving::ROWS;
        owner
            .execute_batch(&format!(
                "PRAGMA journal_mode = {journal}; PRAGMA synchronous = OFF; CREATE TABLE purses (id INTEGER PRIMARY KEY, coins INTEGER, note TEXT);
                 INSERT INTO purses WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {rows}) SELECT i, 100, 'xx' FROM n"
            ))
            .unwrap();
        let engine = Engine::in_memory().unwrap();
        engine.add_connection(ConnectionDefinition::new("till_file", "sqlite", path.display().to_string())).unwrap();
        engine.add_catalog(CatalogDefinition::new("till", "till_file")).unwrap();
        truth::moving::check_native(&engine, "till", "purses").await;
        let session = || {
            let mut session = engine.session();
            session.use_place("till", Some("main")).unwrap();
            session
        };
        truth::moving::check(session, move |from, to| {
            let step = format!("BEGIN IMMEDIATE; UPDATE purses SET coins = coins - 5 WHERE id = {from}; UPDATE purses SET coins = coins + 5 WHERE id = {to}; COMMIT");
            owner.execute_batch(&step).unwrap();
        })
        .await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn random_fragments_never_change_an_answer() {
    let (mut session, _) = session("sqlite-random");
    let columns = truth::random::Columns {
        table: "sales",
        whole: &["id", "id", "id"],
        text: &["article", "label", "padded"],
        decimal: &["price"],
        date: &["sold_on"],
        moment: &[],
        flag: &["by_card"],
    };
    for seed in 1..=3 {
        truth::random_fragments(&mut session, seed, 250, &columns).await;
    }
}

/// Of a join that makes more rows than its tables have only the groups cross, unless they are computed here: then its tables do.
#[tokio::test(flavor = "multi_thread")]
async fn joins_of_many_rows_are_handed_over_with_their_groups() {
    let (mut session, path) = session("sqlite-groups");
    let many = "CREATE TABLE calls (id INTEGER PRIMARY KEY, port INTEGER, note TEXT) STRICT;
                INSERT INTO calls WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000) SELECT i, i % 5, 'n' || (i % 3) FROM n";
    Connection::open(&path).unwrap().execute_batch(many).unwrap();
    for (sql, gates, most) in [
        ("SELECT a.port, count(*), max(b.note) FROM calls a JOIN calls b ON a.port = b.port GROUP BY a.port", 1, 5),
        ("SELECT port, note, count(*) FROM calls GROUP BY CUBE (port, note)", 1, 24),
        ("SELECT count(*) FROM calls a JOIN calls b ON a.port = b.port WHERE a.id < b.id", 1, 1),
        (
            "SELECT a.port, string_agg(DISTINCT b.note, '/' ORDER BY b.note) FROM calls a JOIN calls b ON a.port = b.port GROUP BY a.port",
            2,
            6000,
        ),
        ("SELECT a.id, b.id FROM calls a JOIN calls b ON a.port = b.port WHERE a.id > 2990", 2, 6000),
    ] {
        session.set("planner.off", "").unwrap();
        let (rows, plan) = answer(&mut session, sql).await.unwrap();
        let plan = plan.unwrap();
        let crossed: u64 = plan.gates.iter().filter_map(|gate| Some(gate.measure.as_ref()?.rows)).sum();
        assert_eq!(plan.gates.len(), gates, "{sql}");
        assert!(crossed <= most, "{sql}: {crossed}");
        // Steps are numbered as if it had been planned once.
        let numbers: Vec<usize> = plan.steps.iter().map(|step| step.step).collect();
        assert_eq!(numbers, (1..=plan.steps.len()).collect::<Vec<_>>(), "{sql}");
        session.set("planner.off", "offer-joins, offer-aggregates").unwrap();
        assert_eq!(answer(&mut session, sql).await.unwrap().0, rows, "{sql}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn orders_are_handed_over_where_that_costs_nothing() {
    let (mut session, _) = session("sqlite-orders");
    for (sql, wanted) in [
        ("SELECT id FROM sales ORDER BY article DESC NULLS LAST, id", vec!["6", "3", "1", "2", "4", "5", "7"]),
        ("SELECT port, count(*) FROM sales GROUP BY port ORDER BY count(*) DESC, port NULLS FIRST", vec![]),
        ("SELECT id FROM sales WHERE id > 2 ORDER BY sold_on NULLS FIRST, id", vec!["4", "5", "3", "7", "6"]),
    ] {
        session.set("planner.off", "").unwrap();
        let mut shown = Vec::new();
        for off in ["", "offer-sorts", "push-filters, offer-aggregates, offer-sorts"] {
            session.set("planner.off", off).unwrap();
            let mut execution = session.run_text(sql, &CancellationToken::new()).await.unwrap();
            let mut rows = Vec::new();
            while let Some(batch) = execution.next().await.unwrap() {
                let column = batch.column(0).clone();
                rows.extend(
                    (0..batch.num_rows())
                        .map(|row| cobble_types::array_value_text(column.as_ref(), row).unwrap_or_default()),
                );
            }
            let plan = execution.plan().unwrap();
            let sorted_there = plan.gates[0].request.text.contains(" ORDER BY ");
            assert_eq!(sorted_there, off.is_empty(), "{sql}: {}", plan.gates[0].request.text);
            shown.push(rows);
        }
        assert!(shown.iter().all(|rows| *rows == shown[0]), "{sql}: {shown:?}");
        assert!(wanted.is_empty() || shown[0] == wanted, "{sql}: {shown:?}");
    }
}
