//! PostgreSQL as a source: what it takes over and what not, and that this never changes an answer. Every fragment runs twice, as
//! planned and with nothing handed over, over columns made to differ: other collations, padded texts, edges of numbers and of time.

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Secret, Session};
use cobble_tests::product;

use crate::truth;

const ROWS: &str = "
CREATE COLLATION nocase (provider = icu, locale = 'und-u-ks-level2', deterministic = false);
CREATE TYPE state AS ENUM ('open', 'closed', 'adrift');
CREATE DOMAIN knots AS integer CHECK (value >= 0);
CREATE TABLE logs (id integer PRIMARY KEY, port smallint, big bigint, name text, label text COLLATE nocase, spoken text COLLATE \"en-x-icu\",
  code char(5), short varchar(6), price numeric(8,2), wide numeric(38,0), loose numeric, weight double precision, rate real, on_day date, at_time timestamp,
  seen timestamptz, shift time, took interval, is_open boolean, seal bytea, state state, speed knots, mark uuid, note jsonb, tags text[]);
INSERT INTO logs VALUES
 (1, 1, 1, 'hull', 'Hull', 'a', 'a', 'brent', 2.80, 1, 1.10, 0.25, 0.1, '2025-07-01', '2025-07-01 09:00', '2025-07-01 09:00+00', '09:00', '1 month', true, '\\x01', 'open', 5, '00000000-0000-0000-0000-000000000001', '{\"a\": 1}', '{a,b}'),
 (2, 1, -1, 'Hull', 'HULL', 'A', 'a ', 'brent ', 2.81, 2, 1.1, '-0', 'NaN', '2024-02-29', '2025-07-01 09:00:00.5', '2025-07-01 23:30+02', '00:00', '30 days', false, '\\x0102', 'closed', 0, null, '{\"a\":1}', '{}'),
 (3, 2, 9223372036854775807, 'hull ', 'hüll', 'b', '', '', -0.01, 99999999999999999999999999999999999999, 1e30, 1e300, 1e30, '0001-01-01', '9999-12-31 23:59:59', '2000-01-01 00:00+00', '23:59:59.999999', '-1 day', null, '', 'adrift', 7, '00000000-0000-0000-0000-000000000002', '[1]', null),
 (4, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null),
 (5, 0, -9223372036854775808, '50% off', 'x', 'É', 'A', 'é', 999999.99, 0, -5, 'Infinity', '-Infinity', '9999-12-31', '1970-01-01 00:00', '1970-01-01 00:00+00', '12:30', '00:00', true, '\\xff', 'open', 30, '00000000-0000-0000-0000-000000000001', 'null', '{null}'),
 (6, 32767, 0, 'H_ll', 'X', 'e', 'é', 'Brent', 0, 3, 0.0, 'NaN', 0, '2025-07-01', '2025-07-02 00:00', '2025-07-02 00:00-05', '00:00:00.000001', '1 year 2 days', false, '\\x00', 'closed', 5, null, '\"x\"', '{a}'),
 (7, -32768, 5, '', '', '', 'b', 'tide', 2.80, 3, 2.5, 2.5, 2.5, '2025-07-03', '2025-07-03 00:00', '2025-07-03 00:00+00', '01:00', '36 hours', null, null, 'open', 1, null, '{}', '{b,a}');
CREATE TABLE ports (id integer PRIMARY KEY, name text NOT NULL);
INSERT INTO ports VALUES (1, 'Brent Quay'), (2, 'Teal Steps'), (3, 'Wrack Landing');
CREATE TABLE \"Odd \"\"Name\" (\"a b\" integer, \"select\" text); INSERT INTO \"Odd \"\"Name\" VALUES (1, 'x');
CREATE VIEW cheap AS SELECT id, name, price * 2 AS twice FROM logs WHERE price < 3;
CREATE TABLE empty (id integer, t text);
GRANT SELECT ON ALL TABLES IN SCHEMA public TO reader;
ANALYZE;
";

async fn session() -> Session {
    static MADE: tokio::sync::OnceCell<()> = tokio::sync::OnceCell::const_new();
    MADE.get_or_init(|| async {
        let admin = product().database("postgres").await;
        admin.batch_execute("DROP DATABASE IF EXISTS truth WITH (FORCE)").await.expect("dropped");
        admin.batch_execute("CREATE DATABASE truth").await.expect("created");
        product().database("truth").await.batch_execute(ROWS).await.expect("filled");
    })
    .await;
    let secret = std::fs::read_to_string(product().folder.join("reader.secret")).unwrap();
    let engine = Engine::in_memory().unwrap();
    let definition = ConnectionDefinition {
        database: Some("truth".into()),
        user: Some("reader".into()),
        secret: Some(Secret::new(secret.trim())),
        ..ConnectionDefinition::new("log_db", "postgres", format!("127.0.0.1:{}", product().postgres_port))
    };
    engine.add_connection(definition).unwrap();
    engine.add_catalog(CatalogDefinition::new("logs", "log_db")).unwrap();
    let mut session = engine.session();
    session.use_place("logs", Some("public")).unwrap();
    session
}

const CONDITIONS: &[&str] = &[
    "id = 3",
    "id > 2.5",
    "id = 2.5",
    "port > 1",
    "port = 32767",
    "port + 1 > 2",
    "port + 1::smallint > 2",
    "port / 2 = 0",
    "port % 2 = 1",
    "-port > 5",
    "abs(port) = 1",
    "big < 0",
    "big = 9223372036854775807",
    "big + 1 > 0",
    "big - id > 0",
    "big = port",
    "id IN (1, 2, 9)",
    "id NOT IN (1, null)",
    "id BETWEEN 2 AND 4",
    "port IS NULL",
    "port IS DISTINCT FROM 1",
    "port IS NOT DISTINCT FROM null",
    "id::text = '3'",
    "id::double precision > 2.5",
    "price::integer = 3",
    "name = 'hull'",
    "name <> 'hull'",
    "name < 'a'",
    "name >= 'Hull'",
    "name IN ('hull', '')",
    "name LIKE 'h%'",
    "name LIKE 'H\\_ll'",
    "name LIKE '%\\% off'",
    "name NOT LIKE '%l'",
    "name LIKE label",
    "name ILIKE 'h%'",
    "name ~ '^h'",
    "name SIMILAR TO 'h%'",
    "name || '!' = 'hull!'",
    "upper(name) = 'HULL'",
    "lower(name) = 'hull'",
    "length(name) = 4",
    "substring(name from 1 for 2) = 'hu'",
    "position('l' in name) = 3",
    "trim(name) = 'hull'",
    "replace(name, 'l', '') = 'hu'",
    "split_part(name, ' ', 2) = 'off'",
    "left(name, 1) = 'h'",
    "starts_with(name, 'h')",
    "coalesce(name, 'none') = 'none'",
    "nullif(name, 'hull') IS NULL",
    "greatest(name, 'b') = 'b'",
    "greatest(id, port) = 2",
    "label = 'hull'",
    "label = 'HULL'",
    "label <> 'x'",
    "label IN ('hull', 'x')",
    "label < 'a'",
    "label LIKE 'H%'",
    "label = name",
    "spoken < 'b'",
    "spoken > 'E'",
    "spoken = 'a'",
    "code = 'a'",
    "code = 'a '",
    "code < 'b'",
    "code LIKE 'a%'",
    "length(code) = 1",
    "short = 'brent'",
    "short = 'brent '",
    "price = 2.8",
    "price > 2.805",
    "price + 1 > 3.8",
    "price * price > 7",
    "price * 100 = 280",
    "price / 3 > 0.9",
    "price % 2 = 0.8",
    "round(price) = 3",
    "round(price, 1) = 2.8",
    "ceil(price) = 3",
    "floor(price) = 2",
    "wide > 5",
    "wide + 1 > 5",
    "wide * 10 > 5",
    "loose = '1.1'",
    "loose = '1.10'",
    "weight > 0",
    "weight = 0",
    "weight = 'NaN'::double precision",
    "weight > 'Infinity'::double precision",
    "weight < 'Infinity'::double precision",
    "weight * 2 > 1",
    "weight = rate",
    "rate = 0.1::real",
    "rate = 0.1",
    "on_day = date '2025-07-01'",
    "on_day < date '2025-01-01'",
    "on_day IN (date '2025-07-01', date '9999-12-31')",
    "on_day + 1 = date '2025-07-02'",
    "on_day - date '2025-07-01' > 0",
    "on_day = timestamp '2025-07-01 00:00'",
    "extract(year from on_day) = 2025",
    "extract(dow from on_day) = 2",
    "extract(week from on_day) = 27",
    "date_trunc('month', at_time) = timestamp '2025-07-01'",
    "at_time >= timestamp '2025-07-01 09:00:00.5'",
    "at_time::date = date '2025-07-01'",
    "at_time + interval '1 day' > timestamp '2025-07-03'",
    "extract(hour from at_time) = 9",
    "seen > timestamptz '2025-07-01 21:00+00'",
    "seen::date = date '2025-07-01'",
    "seen = timestamp '2025-07-01 09:00'",
    "extract(hour from seen) = 21",
    "date_trunc('day', seen) = timestamptz '2025-07-01 00:00+00'",
    "shift = time '09:00'",
    "shift > time '12:00'",
    "took = interval '30 days'",
    "took > interval '1 day'",
    "is_open",
    "NOT is_open",
    "is_open IS NULL",
    "is_open IS NOT TRUE",
    "is_open = true",
    "seal = '\\x01'::bytea",
    "seal > '\\x01'::bytea",
    "state = 'open'",
    "state > 'b'",
    "state = 'Open'",
    "speed > 4",
    "speed = 5",
    "mark = '00000000-0000-0000-0000-000000000001'",
    "mark IS NULL",
    "note ->> 'a' = '1'",
    "note IS NULL",
    "tags = '{a,b}'",
    "(id > 2 OR name IS NULL) AND NOT (port = 2)",
    "CASE WHEN id > 3 THEN port ELSE id END = 2",
    "CASE name WHEN 'hull' THEN 1 ELSE 0 END = 1",
    "id = (SELECT max(id) FROM ports)",
    "EXISTS (SELECT 1 FROM ports p WHERE p.id = logs.port)",
    "port NOT IN (SELECT id FROM ports)",
    "id / (id - 3) > 0",
    "random() < 2",
    "now() > seen",
    "true",
    "null",
];

const STATEMENTS: &[&str] = &[
    "SELECT count(*), count(port), count(DISTINCT name), count(DISTINCT label), count(DISTINCT code) FROM logs",
    "SELECT min(name), max(name), min(label), max(label), min(spoken), max(spoken), min(code), max(code) FROM logs",
    "SELECT min(on_day), max(at_time), min(seen), max(shift) FROM logs",
    "SELECT min(state), max(mark) FROM logs",
    "SELECT min(took), max(took) FROM logs",
    "SELECT sum(took) FROM logs",
    "SELECT sum(id), sum(port), sum(price), sum(id::bigint) FROM logs",
    "SELECT sum(big) FROM logs",
    "SELECT sum(wide) FROM logs",
    "SELECT avg(id), avg(price), avg(port) FROM logs",
    "SELECT avg(price) FROM logs WHERE id < 4",
    "SELECT sum(weight), avg(rate) FROM logs",
    "SELECT min(weight), max(weight), min(rate), max(rate) FROM logs",
    "SELECT bool_and(is_open), bool_or(is_open), bit_and(id), bit_or(port) FROM logs",
    "SELECT stddev(id), var_pop(price) FROM logs",
    "SELECT string_agg(name, ',' ORDER BY id), array_agg(id ORDER BY id) FROM logs",
    "SELECT count(*) FILTER (WHERE id > 3), sum(price) FILTER (WHERE name LIKE 'h%') FROM logs",
    "SELECT sum(DISTINCT price), avg(DISTINCT id) FROM logs",
    "SELECT port, count(*) FROM logs GROUP BY port",
    "SELECT label, count(*) FROM logs GROUP BY label",
    "SELECT code, count(*) FROM logs GROUP BY code",
    "SELECT weight, count(*) FROM logs GROUP BY weight",
    "SELECT took, count(*) FROM logs GROUP BY took",
    "SELECT loose, count(*) FROM logs GROUP BY loose",
    "SELECT note, count(*) FROM logs GROUP BY note",
    "SELECT on_day, is_open, sum(price) FROM logs GROUP BY on_day, is_open HAVING count(*) > 1",
    "SELECT port % 2, count(*) FROM logs GROUP BY 1",
    "SELECT extract(year from on_day), count(*) FROM logs GROUP BY 1",
    "SELECT port, is_open, count(*) FROM logs GROUP BY ROLLUP (port, is_open)",
    "SELECT DISTINCT label FROM logs",
    "SELECT DISTINCT port, is_open FROM logs",
    "SELECT DISTINCT ON (on_day) on_day, id FROM logs ORDER BY on_day, id",
    "SELECT id, name FROM logs ORDER BY name, id LIMIT 3",
    "SELECT id, label FROM logs ORDER BY label DESC NULLS LAST, id LIMIT 4",
    "SELECT id, spoken FROM logs ORDER BY spoken, id LIMIT 4",
    "SELECT id, code FROM logs ORDER BY code NULLS FIRST, id LIMIT 4",
    "SELECT id FROM logs ORDER BY weight, id LIMIT 5",
    "SELECT id FROM logs ORDER BY took, id LIMIT 5",
    "SELECT id FROM logs ORDER BY state, id LIMIT 5",
    "SELECT id FROM logs ORDER BY port DESC, id LIMIT 2 OFFSET 1",
    "SELECT id FROM logs ORDER BY price * 2, id LIMIT 3",
    "SELECT count(*) FROM (SELECT id FROM logs LIMIT 3) x",
    "SELECT count(*) FROM (SELECT id FROM logs OFFSET 3) x",
    "SELECT l.id, p.name FROM logs l JOIN ports p ON p.id = l.port",
    "SELECT l.id, p.name FROM logs l LEFT JOIN ports p ON p.id = l.port AND p.name > 'C'",
    "SELECT l.id, p.name FROM logs l RIGHT JOIN ports p ON p.id = l.port",
    "SELECT l.id, p.name FROM logs l FULL JOIN ports p ON p.id = l.port",
    "SELECT l.id, p.name FROM (SELECT * FROM logs WHERE id > 3) l FULL JOIN (SELECT * FROM ports WHERE id > 1) p ON p.id = l.port",
    "SELECT l.id, p.name FROM logs l FULL JOIN ports p ON p.id = l.port AND p.name > 'C'",
    "SELECT p.name, count(*), sum(l.price) FROM logs l JOIN ports p ON p.id = l.port WHERE l.name IS NOT NULL GROUP BY p.name",
    "SELECT p.name FROM ports p WHERE NOT EXISTS (SELECT 1 FROM logs l WHERE l.port = p.id)",
    "SELECT a.id, b.id FROM logs a JOIN logs b ON a.label = b.label AND a.id < b.id",
    "SELECT a.id, b.id FROM logs a JOIN logs b ON a.code = b.code AND a.id < b.id",
    "SELECT a.id, b.id FROM logs a JOIN logs b ON a.name = b.short",
    "SELECT a.id, b.id FROM logs a JOIN logs b ON a.weight = b.weight AND a.id < b.id",
    "SELECT p.name, s.n FROM ports p JOIN (SELECT port, count(*) AS n FROM logs GROUP BY port) s ON s.port = p.id",
    "SELECT id FROM logs WHERE name > 'a' UNION ALL SELECT id FROM ports",
    "SELECT port FROM logs INTERSECT SELECT id FROM ports",
    "SELECT id, row_number() OVER (PARTITION BY port ORDER BY id) FROM logs",
    "SELECT * FROM logs WHERE id < 3",
    "SELECT id, upper(name), price * 2, at_time + interval '1 day', NOT is_open, state, tags FROM logs",
    "SELECT id, id > 3, name = 'hull', coalesce(port, -1), CASE WHEN id > 3 THEN price END FROM logs",
    "SELECT * FROM cheap",
    "SELECT count(*), max(id) FROM cheap WHERE name = 'hull'",
    "SELECT count(*), max(id), sum(id) FROM empty",
    "SELECT t, count(*) FROM empty GROUP BY t",
    "SELECT \"a b\", \"select\" FROM \"Odd \"\"Name\" WHERE \"select\" = 'x'",
];

#[tokio::test(flavor = "multi_thread")]
async fn what_is_handed_over_never_changes_an_answer() {
    let mut session = session().await;
    let definition = session.engine().set().connections["log_db"].definition.clone();
    truth::described_alike(&definition, "public").await;
    let conditions = CONDITIONS.iter().map(|condition| format!("SELECT id FROM logs WHERE {condition}"));
    let mut all: Vec<String> = conditions.chain(STATEMENTS.iter().map(|s| (*s).to_owned())).collect();
    all.extend(truth::shapes::statements(["logs", "port", "name", "label", "price", "ports"]));
    let table = truth::table(&mut session, &all, "no such hint").await;
    insta::assert_snapshot!(table);
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_move_between_tiers() {
    let definition = writer("tiers", "GRANT CREATE ON SCHEMA public TO tiers_writer").await;
    truth::tiers::check(definition, "public", "day").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tables_are_written_whole_or_not_at_all() {
    let definition = writer("scratch", "GRANT CREATE ON SCHEMA public TO scratch_writer").await;
    truth::written::check(truth::written::session(definition.clone(), "public")).await;
    let secret = std::fs::read_to_string(product().folder.join("reader.secret")).unwrap();
    let reading = ConnectionDefinition {
        database: Some("fleet".into()),
        user: Some("reader".into()),
        secret: Some(Secret::new(secret.trim())),
        ..definition.clone()
    };
    let mut reader = truth::written::session(reading, "public");
    let error = truth::answer(&mut reader, "CREATE TABLE t AS SELECT 1 AS n").await.unwrap_err();
    assert_eq!(error.code, cobble_types::Code::SourceRefused, "{error}");
    // A check of the server's own refuses the whole statement.
    let mut writer = truth::written::session(definition, "public");
    let admin = product().database("scratch").await;
    admin
        .batch_execute("CREATE TABLE even (n integer CHECK (n % 2 = 0)); GRANT ALL ON even TO scratch_writer")
        .await
        .unwrap();
    let error = truth::answer(&mut writer, "INSERT INTO even SELECT n::integer FROM generate_series(2, 5) s(n)").await;
    assert!(error.unwrap_err().to_string().contains("check constraint"));
    assert_eq!(truth::answer(&mut writer, "SELECT count(*) FROM even").await.unwrap().0, ["0"]);
}

/// A connection that may write to a database of its own, which has just been made with these tables.
async fn writer(database: &str, tables: &str) -> ConnectionDefinition {
    let admin = product().database("postgres").await;
    admin.batch_execute(&format!("DROP DATABASE IF EXISTS {database} WITH (FORCE)")).await.expect("dropped");
    admin.batch_execute(&format!("CREATE DATABASE {database}")).await.expect("created");
    let own = product().database(database).await;
    let role =
        format!("DROP ROLE IF EXISTS {database}_writer; CREATE ROLE {database}_writer LOGIN PASSWORD 'a secret'");
    own.batch_execute(&format!("{role}; {tables}; GRANT ALL ON ALL TABLES IN SCHEMA public TO {database}_writer"))
        .await
        .expect("made");
    ConnectionDefinition {
        database: Some(database.into()),
        user: Some(format!("{database}_writer")),
        secret: Some(Secret::new("a secret")),
        ..ConnectionDefinition::new("scratch_db", "postgres", format!("127.0.0.1:{}", product().postgres_port))
    }
}

const CHANGED: &str = "CREATE TYPE state AS ENUM ('open', 'closed');
 CREATE TABLE kept (id integer PRIMARY KEY DEFERRABLE, vessel_id integer, kind varchar(60), urgency integer, cost numeric(10,2), note text);
 CREATE TABLE crew (vessel_id integer, size integer, name text);
 CREATE TABLE odd (id integer, state state, bits bit(3), short char(4), doc jsonb, free numeric, span int4range, stamp timestamptz,
  list integer[], twice integer GENERATED ALWAYS AS (id * 2) STORED);
 INSERT INTO odd VALUES (1, 'open', '101', 'ab', '{\"a\": 1}', 1.50, '[1,2)', '2025-07-01 09:00Z', '{1,2}');
 CREATE TABLE parts (id integer, area text, n integer) PARTITION BY LIST (area);
 CREATE TABLE parts_a PARTITION OF parts FOR VALUES IN ('a'); CREATE TABLE parts_b PARTITION OF parts FOR VALUES IN ('b');
 INSERT INTO parts VALUES (1, 'a', 1), (2, 'b', 2), (3, 'b', 3)";

#[tokio::test(flavor = "multi_thread")]
async fn rows_are_changed_whole_or_not_at_all() {
    let definition = writer("changes", CHANGED).await;
    truth::changed::check(truth::written::session(definition.clone(), "public"), "duplicate key", true).await;
    let mut session = truth::written::session(definition, "public");
    // Columns of types that are not ours take texts of theirs.
    let set = "UPDATE odd SET state = 'closed', bits = '011', short = 'abcd', doc = '[1, {\"b\": null}]', free = '2.750', span = '[5,9)', \
               stamp = timestamptz '2025-07-02 11:00+02', list = '{3}' WHERE id = 1";
    assert_eq!(truth::answer(&mut session, set).await.unwrap().0, ["own.public.odd|1"]);
    let found = truth::answer(&mut session, "SELECT * FROM odd").await.unwrap().0;
    assert_eq!(found, ["1|closed|011|abcd|[1, {\"b\": null}]|2.750|[5,9)|2025-07-02 09:00:00+00|{3}|2"]);
    for (sql, expected) in [
        ("UPDATE odd SET state = 'ajar'", "invalid input value for enum"),
        ("UPDATE odd SET short = 'abcde'", "value too long"),
        ("UPDATE odd SET bits = '11'", "bit string length"),
        ("UPDATE odd SET twice = 4", "twice"),
        ("UPDATE kept SET kind = repeat('x', 61)", "value too long"),
    ] {
        let error = truth::answer(&mut session, sql).await.map(|(rows, _)| rows).unwrap_err().to_string();
        assert!(error.contains(expected), "{sql}: {error}");
    }
    // What is computed from neighbours is found by a query.
    let numbered = "UPDATE crew SET size = row_number() OVER (ORDER BY vessel_id DESC)";
    assert_eq!(truth::answer(&mut session, numbered).await.unwrap().0, ["own.public.crew|5"]);
    let found = truth::answer(&mut session, "SELECT vessel_id, size FROM crew").await.unwrap().0;
    assert_eq!(found, ["1|5", "2|4", "3|3", "4|2", "5|1"]);
    // Rows of partitions are told apart though each counts its pages anew; a row may move to another partition.
    let moved = "UPDATE parts SET area = 'a', n = p.n FROM (SELECT id, n + 10 AS n FROM parts) p WHERE p.id = parts.id AND p.n > 11";
    assert_eq!(truth::answer(&mut session, moved).await.unwrap().0, ["own.public.parts|2"]);
    assert_eq!(truth::answer(&mut session, "SELECT * FROM parts").await.unwrap().0, ["1|a|1", "2|a|12", "3|a|13"]);
}

/// A table of several page ranges, among whose rows money moves while it is read: each reading sees one state of it.
#[tokio::test(flavor = "multi_thread")]
async fn page_ranges_are_read_apart_in_one_snapshot() {
    const ROWS: i64 = 150_000;
    let admin = product().database("postgres").await;
    admin.batch_execute("DROP DATABASE IF EXISTS purses WITH (FORCE)").await.expect("dropped");
    admin.batch_execute("CREATE DATABASE purses").await.expect("created");
    let mover = product().database("purses").await;
    let make = format!(
        "CREATE TABLE purses (id integer PRIMARY KEY, coins bigint, note text) WITH (fillfactor = 90);
         INSERT INTO purses SELECT n, 100, repeat('x', 120) FROM generate_series(1, {ROWS}) n;
         GRANT SELECT ON purses TO reader; ANALYZE purses"
    );
    mover.batch_execute(&make).await.expect("filled");
    let secret = std::fs::read_to_string(product().folder.join("reader.secret")).unwrap();
    let engine = Engine::in_memory().unwrap();
    let mut definition = ConnectionDefinition {
        database: Some("purses".into()),
        user: Some("reader".into()),
        secret: Some(Secret::new(secret.trim())),
        ..ConnectionDefinition::new("purse_db", "postgres", format!("127.0.0.1:{}", product().postgres_port))
    };
    definition.options.insert("pool_size".into(), "2".into());
    engine.add_connection(definition).unwrap();
    engine.add_catalog(CatalogDefinition::new("purses", "purse_db")).unwrap();
    let session = || {
        let mut session = engine.session();
        session.use_place("purses", Some("public")).unwrap();
        // Every row is to cross the gate.
        session.set("planner.off", "offer-aggregates, split-aggregates").unwrap();
        session
    };
    let moving = tokio::spawn(async move {
        for n in 0i64.. {
            let (from, to) = (n * 7919 % ROWS + 1, ROWS - n * 104_729 % ROWS);
            let step = format!(
                "BEGIN; UPDATE purses SET coins = coins - 5 WHERE id = {from}; UPDATE purses SET coins = coins + 5 WHERE id = {to}; COMMIT"
            );
            if mover.batch_execute(&step).await.is_err() {
                return;
            }
        }
    });
    let all = format!("{ROWS}|{}|{ROWS}", ROWS * 100);
    let sql = "SELECT count(*), sum(coins), count(DISTINCT id) FROM purses";
    for _ in 0..4 {
        let (rows, plan) = truth::answer(&mut session(), sql).await.unwrap();
        assert_eq!(rows, [all.as_str()]);
        let gate = &plan.unwrap().gates[0];
        assert!(gate.parts.iter().any(|part| part.parts == "ranges" && part.total >= 3), "{:?}", gate.parts);
        let sent = &gate.request;
        assert!(sent.text.starts_with("COPY (SELECT") && sent.text.contains("ctid <"), "{}", sent.text);
    }
    // With values bound, and more readers than connections: nobody waits for another one for ever.
    let with_values = "SELECT count(*), sum(coins), count(DISTINCT id) FROM purses WHERE id > 0 AND note LIKE 'x%'";
    let mut readers = tokio::task::JoinSet::new();
    for _ in 0..5 {
        let mut session = session();
        readers.spawn(async move { truth::answer(&mut session, with_values).await.unwrap().0 });
    }
    while let Some(rows) = readers.join_next().await {
        assert_eq!(rows.unwrap(), [all.as_str()]);
    }
    // What is left early leaves no connection in a transaction.
    let (rows, _) = truth::answer(&mut session(), "SELECT id FROM purses ORDER BY id + 0 LIMIT 1").await.unwrap();
    assert_eq!(rows, ["1"]);
    moving.abort();
    let open =
        "SELECT count(*) FROM pg_stat_activity WHERE datname = 'purses' AND usename = 'reader' AND state <> 'idle'";
    for _ in 0..100 {
        if admin.query_one(open, &[]).await.unwrap().get::<_, i64>(0) == 0 {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    panic!("connections stay in a transaction");
}

#[tokio::test(flavor = "multi_thread")]
async fn random_fragments_never_change_an_answer() {
    let mut session = session().await;
    let columns = truth::random::Columns {
        table: "logs",
        whole: &["id", "id", "port"],
        text: &["name", "label", "spoken", "short"],
        decimal: &["price"],
        date: &["on_day"],
        moment: &["at_time"],
        flag: &["is_open"],
    };
    for seed in 1..=3 {
        truth::random_fragments(&mut session, seed, 250, &columns).await;
    }
}
