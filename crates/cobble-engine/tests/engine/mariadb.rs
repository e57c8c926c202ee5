//! MariaDB as a source, on a server of its own: what it takes over and what not, and that this never changes an answer.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Secret, Session};
use mysql_async::prelude::Queryable;
use tokio_util::sync::CancellationToken;

use crate::truth;
use crate::truth::answer;
use crate::truth::encryption::Authority;
use cobble_network::ports::free_port;
use cobble_types::Code;

const ROWS: &str = "
CREATE DATABASE yard CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci; USE yard; SET sql_mode = '';
CREATE TABLE orders (id INT PRIMARY KEY, vessel INT UNSIGNED, big BIGINT, wide BIGINT UNSIGNED, tiny TINYINT, kind VARCHAR(20), strict_kind VARCHAR(20) COLLATE utf8mb4_bin,
  old_kind VARCHAR(20) CHARACTER SET latin1, padded CHAR(5), state ENUM('open', 'closed'), cost DECIMAL(8,2), hours DOUBLE, rate FLOAT, opened DATE, at_time DATETIME(6), seen TIMESTAMP NULL,
  shift TIME, seal VARBINARY(8), note JSON, huge DECIMAL(60,2));
INSERT INTO orders VALUES
 (1, 1, 1, 1, 1, 'Hull', 'Hull', 'h\\u00fcll', 'a', 'open', 2.80, 0.5, 0.1, '2025-07-01', '2025-07-01 09:00:00', '2025-07-01 09:00:00', '09:00:00', x'01', '{\"a\": 1}', 1),
 (2, 1, -1, 2, 0, 'hull', 'hull', 'HULL', 'a ', 'closed', 2.81, -0.0, 0.2, '2024-02-29', '2025-07-01 09:00:00.5', null, '00:00:00', x'0102', null, 2),
 (3, 4294967295, 9223372036854775807, 18446744073709551615, 127, 'hull ', 'hull ', 'x', '', null, -0.01, 1e300, 1e30, '0001-01-01', '9999-12-31 23:59:59', '2000-01-01 00:00:00', '23:59:59.9', x'', '[1, 2]', 99999999999999999999999999999999999999999999999999),
 (4, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null, null),
 (5, 0, -9223372036854775808, 0, -128, '50% off', 'H_ll', 'été', 'A', 'open', 999999.99, -1.5, -1, '9999-12-31', '1970-01-01 00:00:00', '1970-01-01 00:00:01', '12:30:00', null, '\"x\"', 0),
 (6, 2, 0, 3, 2, 'Ä', 'ä', 'ä', 'é', 'closed', 0, 2.5, 2.5, '2025-07-01', '2025-07-02 00:00:00', '2025-07-02 00:00:00', '00:00:01', x'ff', 'null', -5.5),
 (7, 2, 5, 3, 3, '', '', '', 'b', 'open', 2.80, 0.0, 0.0, '2025-07-03', '2025-07-03 00:00:00', '2025-07-03 00:00:00', '01:00:00', x'00', '5', 7);
CREATE TABLE vessels (id INT PRIMARY KEY, name VARCHAR(30) NOT NULL);
INSERT INTO vessels VALUES (1, 'Grey Heron'), (2, 'Salt Lark'), (3, 'Long Reach');
CREATE TABLE zero (id INT PRIMARY KEY, d DATE NOT NULL, t TIME);
INSERT INTO zero VALUES (1, '2025-01-01', '01:00:00'), (2, '0000-00-00', '838:59:59'), (3, '2025-00-10', null), (4, '2025-02-00', null), (5, '0000-01-01', '02:00:00');
CREATE SQL SECURITY INVOKER VIEW cheap AS SELECT id, kind, cost * 2 AS twice FROM orders WHERE cost < 3;
CREATE TABLE empty (id INT, t TEXT);
CREATE TABLE `Odd ``Name` (`a b` INT, `select` TEXT); INSERT INTO `Odd ``Name` VALUES (1, 'x');
CREATE TABLE many (id INT PRIMARY KEY, t VARCHAR(20)); INSERT INTO many SELECT seq, concat('row ', seq) FROM seq_1_to_20000;
CREATE USER 'reader'@'%' IDENTIFIED BY 'a secret'; GRANT SELECT ON yard.* TO 'reader'@'%';
CREATE USER 'guarded'@'%' IDENTIFIED BY 'a secret' REQUIRE SSL; GRANT SELECT ON yard.* TO 'guarded'@'%';
CREATE USER 'nobody'@'%' IDENTIFIED BY 'a secret'; CREATE DATABASE scratch; CREATE TABLE scratch.flat (n BIGINT) ENGINE = Aria;
CREATE USER 'writer'@'%' IDENTIFIED BY 'a secret'; GRANT ALL ON scratch.* TO 'writer'@'%';
CREATE DATABASE shed; GRANT ALL ON shed.* TO 'writer'@'%'; CREATE TABLE shed.heap (n INT); CREATE TABLE shed.flat (n INT PRIMARY KEY) ENGINE = Aria;
CREATE TABLE shed.kept (id INT PRIMARY KEY, vessel_id INT, kind VARCHAR(60), urgency INT, cost DECIMAL(10,2), note VARCHAR(200)) COLLATE utf8mb4_general_ci;
CREATE DATABASE hoard; CREATE TABLE hoard.purses (id INT PRIMARY KEY, coins BIGINT, note VARCHAR(60)); INSERT INTO hoard.purses SELECT seq, 100, repeat('x', 40) FROM seq_1_to_300000;
ANALYZE TABLE hoard.purses; CREATE USER 'hoarder'@'%' IDENTIFIED BY 'a secret'; GRANT SELECT, LOCK TABLES ON hoard.* TO 'hoarder'@'%'; CREATE USER 'watcher'@'%' IDENTIFIED BY 'a secret'; GRANT SELECT ON hoard.* TO 'watcher'@'%';
CREATE TABLE shed.crew (vessel_id INT PRIMARY KEY, size INT, name VARCHAR(20));
";

struct Server {
    port: u16,
    /// Of the authority that its certificate is signed by.
    ca_file: String,
}

fn server() -> &'static Server {
    static SERVER: OnceLock<Server> = OnceLock::new();
    SERVER.get_or_init(|| {
        let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("mariadb");
        let _ = std::fs::remove_dir_all(&folder);
        std::fs::create_dir_all(&folder).unwrap();
        let data = folder.join("data");
        let program = |name: &str| -> PathBuf {
            let places = ["/usr/sbin", "/usr/bin"].map(|place| Path::new(place).join(name));
            places
                .into_iter()
                .find(|p| p.exists())
                .unwrap_or_else(|| panic!("{name} is missing: run `make test`, which installs mariadb-server"))
        };
        let user = if nix::unistd::geteuid().is_root() { "--user=root" } else { "--skip-name-resolve" };
        let made = Command::new(program("mariadb-install-db"))
            .args(["--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db", user])
            .arg(format!("--datadir={}", data.display()))
            .output()
            .unwrap();
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        let script = folder.join("rows.sql");
        std::fs::write(&script, ROWS.replace("\\u00fc", "ü")).unwrap();
        let port = free_port().unwrap();
        let authority = Authority::new();
        let files = authority.identity("127.0.0.1", 2100).files(&folder);
        let ca_file = authority.file(&folder);
        let mut command = Command::new("setpriv");
        command
            .args(["--pdeathsig", "KILL"])
            .arg(program("mariadbd"))
            .args([
                "--no-defaults",
                user,
                "--bind-address=127.0.0.1",
                "--innodb-buffer-pool-size=32M",
                "--skip-log-bin",
                "--innodb-flush-log-at-trx-commit=0",
            ])
            .arg(format!("--datadir={}", data.display()))
            .arg(format!("--socket={}", folder.join("s").display()))
            .arg(format!("--port={port}"))
            .args(
                ["--ssl-cert", "--ssl-key"].iter().zip(&files).map(|(name, file)| format!("{name}={}", file.display())),
            )
            .arg(format!("--init-file={}", one_line_each(&script).display()))
            .stdout(Stdio::null())
            .stderr(std::fs::File::create(folder.join("log")).unwrap());
        // A thread of its own, which lives as long as the process: the server goes when the thread that started it does.
        let (send, started) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            let mut child = command.spawn().unwrap();
            send.send(child.id()).unwrap();
            child.wait().unwrap();
        });
        started.recv().unwrap();
        let began = Instant::now();
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            assert!(
                began.elapsed() < Duration::from_secs(60),
                "the server does not start: see {}",
                folder.join("log").display()
            );
            std::thread::sleep(Duration::from_millis(50));
        }
        Server { port, ca_file }
    })
}

/// The server reads its first statements one from each line.
fn one_line_each(script: &Path) -> PathBuf {
    let text = std::fs::read_to_string(script).unwrap();
    let statements: Vec<String> =
        text.split(";\n").flat_map(|s| s.split("; ")).map(|s| s.replace('\n', " ").trim().to_owned()).collect();
    let lines: Vec<String> = statements.into_iter().filter(|s| !s.is_empty()).map(|s| format!("{s};\n")).collect();
    let place = script.with_extension("init");
    std::fs::write(&place, format!("SET NAMES utf8mb4;\n{}", lines.concat())).unwrap();
    place
}

fn definition(name: &str, user: &str, secret: &str) -> ConnectionDefinition {
    ConnectionDefinition {
        user: Some(user.into()),
        secret: Some(Secret::new(secret)),
        ..ConnectionDefinition::new(name, "mariadb", format!("127.0.0.1:{}", server().port))
    }
}

fn session() -> Session {
    let engine = Engine::in_memory().unwrap();
    engine.add_connection(definition("yard_db", "reader", "a secret")).unwrap();
    engine.add_catalog(CatalogDefinition::new("yard", "yard_db")).unwrap();
    let mut session = engine.session();
    session.use_place("yard", Some("yard")).unwrap();
    session
}

const CONDITIONS: &[&str] = &[
    "id = 3",
    "vessel > 1",
    "vessel = 4294967295",
    "vessel IN (1, 2)",
    "vessel NOT IN (1, null)",
    "vessel IS NULL",
    "vessel IS DISTINCT FROM 1",
    "vessel IS NOT DISTINCT FROM null",
    "big < 0",
    "big = 9223372036854775807",
    "big = vessel",
    "wide > 5",
    "wide = 18446744073709551615",
    "tiny = 1",
    "tiny BETWEEN 0 AND 2",
    "id + 1 > 2",
    "id + 2147483640 > 2",
    "tiny * 300::smallint > 2",
    "tiny - 5 < 0",
    "vessel - 5 < 0",
    "vessel * -1 < -1",
    "big + 1 > 2",
    "big - 9 < 0",
    "big * 2 > 0",
    "- tiny > 0",
    "- big > 0",
    "id * id - id > 20",
    "id % 2 = 0",
    "- id % 3 = -1",
    "- id / 2 = -1",
    "big % 7 = 0",
    "id / vessel > 0",
    "cost + 1 > 3.8",
    "cost * 2.5 > 7.02",
    "cost - 2.81 = 0",
    "- cost < -2.8",
    "cost * cost > 7.8",
    "cost / 2 > 1.4",
    "wide + 1 > 2",
    "hours * 2 > 1",
    "id / 2 = 1",
    "abs(id) = 3",
    "id > 2.5",
    "kind = 'hull'",
    "kind = 'Hull'",
    "kind <> 'hull'",
    "kind < 'a'",
    "kind >= 'hull'",
    "kind IN ('hull', '')",
    "kind LIKE 'h%'",
    "kind LIKE 'H_ll'",
    "kind LIKE '%\\% off'",
    "kind NOT LIKE '%l'",
    "kind ILIKE 'h%'",
    "kind = 'a'",
    "kind = 'ä'",
    "kind = strict_kind",
    "kind = old_kind",
    "strict_kind = 'hull'",
    "strict_kind = 'hull '",
    "strict_kind > 'a'",
    "old_kind = 'ä'",
    "old_kind = 'été'",
    "old_kind < 'z'",
    "padded = 'a'",
    "padded = 'A'",
    "state = 'open'",
    "state > 'a'",
    "state = 'OPEN'",
    "coalesce(kind, 'none') = 'none'",
    "upper(kind) = 'HULL'",
    "length(kind) = 4",
    "upper(kind) = 'HULL' OR initcap(kind) = 'Hull'",
    "length(old_kind) = 1 AND octet_length(old_kind) = 2",
    "substring(kind from 2) = 'ull'",
    "substring(kind from 1 for 2) = 'hu'",
    "substring(kind from 0 for 2) = 'h'",
    "substring(kind from id) = ''",
    "left(kind, 3) = '50%' OR right(kind, 2) = 'll'",
    "left(kind, -1) = 'hul'",
    "btrim(strict_kind) = 'hull'",
    "rtrim(kind) = 'hull'",
    "ltrim(kind, 'h') = 'ull'",
    "replace(kind, 'll', 'L') = 'huL'",
    "replace(kind, 'H', 'x') = 'xull'",
    "replace(kind, 'l', 'ly') = 'hulyly'",
    "strpos(kind, 'U') > 0",
    "strpos(kind, 'u') = 2 AND strpos(kind, '') = 1",
    "starts_with(kind, 'h')",
    "starts_with(kind, strict_kind)",
    "reverse(kind) = 'lluh'",
    "lpad(kind, 6, '*') = '**hull'",
    "rpad(kind, 2) = 'Hu'",
    "lpad(kind, id) = 'h'",
    "md5(kind) = '6d4d1f5c1d4f3e6b9c4c8c2a5d5d7f11'",
    "kind || '/' || strict_kind = 'hull/hull'",
    "kind || id::text = 'Hull1'",
    "coalesce(kind, 'x') || '' = 'x'",
    "ascii(kind) = 104",
    "abs(big) = 1",
    "abs(tiny) = 128",
    "abs(cost) = 0.01",
    "ceil(cost) = 3",
    "floor(cost) = -1",
    "round(cost) = 3 OR round(cost, 1) = 2.8",
    "trunc(cost, 1) = 2.8",
    "sign(cost) = -1",
    "greatest(id, vessel) = 5 OR least(tiny, big) = -1",
    "greatest(cost, 2) = 2",
    "greatest(kind, strict_kind) = 'hull'",
    "extract(year from opened) = 2025",
    "extract(month from at_time) IN (7, 12)",
    "extract(dow from opened) = 2 AND extract(isodow from opened) = 2",
    "extract(week from opened) = 27",
    "extract(doy from opened) + extract(quarter from opened) > 100",
    "extract(hour from at_time) = 9 AND extract(minute from seen) = 0",
    "extract(second from at_time) > 0",
    "extract(epoch from opened) > 0",
    "extract(decade from opened)::integer = 202",
    "date_trunc('month', at_time) = timestamp '2025-07-01'",
    "date_trunc('quarter', opened) = timestamptz '2025-07-01 00:00+00'",
    "date_trunc('week', at_time) = timestamp '2025-06-30'",
    "at_time::date = opened",
    "opened = at_time",
    "opened IS NOT NULL AND opened IS DISTINCT FROM date '2025-07-01'",
    "coalesce(opened, date '2000-01-01') < date '2001-01-01'",
    "opened - date '2025-06-30' = 1",
    "opened BETWEEN at_time::date AND seen::date",
    "CASE WHEN id > 3 THEN opened ELSE date '2025-07-01' END = date '2025-07-01'",
    "cost = 2.8",
    "cost > 2.805",
    "cost BETWEEN 0 AND 3",
    "cost IN (2.8, 0)",
    "cost = id",
    "hours > 0",
    "hours = 0",
    "hours = -0.0::double precision",
    "rate = 0.1",
    "rate > 1",
    "opened = date '2025-07-01'",
    "opened < date '2025-01-01'",
    "opened IS NULL",
    "opened >= date '2024-02-29' AND opened < date '2025-07-02'",
    "opened <> date '2025-07-01'",
    "opened IN (date '2025-07-01', date '9999-12-31')",
    "opened NOT IN (date '2025-07-01')",
    "NOT opened = date '2025-07-01'",
    "opened > date '2025-07-01' OR id = 1",
    "opened + 1 > date '2025-07-01'",
    "opened > date '12000-01-01'",
    "opened >= timestamp '2025-07-01 00:00'",
    "at_time = timestamp '2025-07-01 09:00:00.5'",
    "at_time >= timestamp '1970-01-01' AND at_time < timestamp '9999-12-31'",
    "at_time BETWEEN timestamp '2025-07-01 09:00' AND timestamp '2025-07-02'",
    "seen = timestamptz '2025-07-01 11:00+02'",
    "seen < timestamptz '1970-01-01 00:00:02+00'",
    "seen <> timestamptz '2025-07-02 00:00+00'",
    "at_time < timestamp '2025-07-01 12:00:00'",
    "seen > timestamptz '2025-01-01 00:00+00'",
    "shift = time '09:00'",
    "seal IS NULL",
    "note IS NULL",
    "huge IS NOT NULL",
    "NOT (kind = 'hull')",
    "(id > 2 OR kind IS NULL) AND NOT (vessel = 2)",
    "CASE WHEN id > 3 THEN vessel ELSE id END = 2",
    "id = (SELECT max(id) FROM vessels)",
    "EXISTS (SELECT 1 FROM vessels v WHERE v.id = orders.vessel)",
    "vessel NOT IN (SELECT id FROM vessels)",
    "false",
    "null",
];

const STATEMENTS: &[&str] = &[
    "SELECT count(*) FROM orders",
    "SELECT count(vessel), count(DISTINCT vessel), count(DISTINCT kind), count(DISTINCT strict_kind), count(DISTINCT padded) FROM orders",
    "SELECT min(kind), max(kind), min(old_kind), max(state), min(id), max(wide) FROM orders",
    "SELECT min(opened), max(at_time) FROM orders",
    "SELECT sum(id), sum(vessel), sum(cost) FROM orders",
    "SELECT sum(big) FROM orders WHERE id < 3",
    "SELECT sum(big), sum(wide) FROM orders",
    "SELECT avg(cost), avg(id) FROM orders",
    "SELECT avg(cost), avg(vessel), avg(tiny), avg(big), avg(wide), avg(DISTINCT cost), avg(cost) FILTER (WHERE id > 3) FROM orders",
    "SELECT kind, avg(cost * 3), avg(id + 0.5) FROM orders GROUP BY kind",
    "SELECT avg(id) FROM orders WHERE id > 100",
    "SELECT avg(cost) FROM orders WHERE id IN (1, 2, 6)",
    "SELECT id + 1, id * 2 - 7, - id, cost * 2, cost + id, tiny % 5 FROM orders",
    "SELECT sum(cost * 2), sum(id * id), max(cost - 1) FROM orders",
    "SELECT vessel % 2, count(*) FROM orders GROUP BY 1",
    "SELECT count(DISTINCT opened), count(opened), min(at_time), max(opened), max(seen) FROM orders",
    "SELECT opened, at_time, count(*) FROM orders WHERE opened > date '2000-01-01' GROUP BY opened, at_time",
    "SELECT DISTINCT seen FROM orders",
    "SELECT id FROM orders WHERE opened < date '2026-01-01' ORDER BY at_time DESC NULLS LAST, id LIMIT 4",
    "SELECT id, rank() OVER (ORDER BY opened), lag(at_time) OVER (ORDER BY id) FROM orders",
    "SELECT id FROM zero WHERE d > date '2000-01-01'",
    "SELECT id FROM zero WHERE d < date '2026-01-01'",
    "SELECT id FROM zero WHERE d <> date '2025-01-01'",
    "SELECT count(*) FROM zero WHERE d IN (date '2025-01-01')",
    "SELECT count(*) FROM zero WHERE d IS NULL",
    "SELECT id FROM zero WHERE extract(year from d) = 2025",
    "SELECT id FROM zero WHERE id IN (1, 5) AND extract(year from d) = -1",
    "SELECT date_trunc('month', d), count(*) FROM zero WHERE id = 5 GROUP BY 1",
    "SELECT date_trunc('month', d), count(*) FROM zero GROUP BY 1",
    "SELECT id FROM zero WHERE d IS DISTINCT FROM date '2025-01-01'",
    "SELECT count(DISTINCT d) FROM zero WHERE id IN (1, 5)",
    "SELECT id, rank() OVER (ORDER BY d) FROM zero",
    "SELECT id FROM zero ORDER BY d LIMIT 1",
    "SELECT CASE WHEN id > 3 THEN 'a' ELSE 'A' END, count(*) FROM orders GROUP BY 1",
    "SELECT count(DISTINCT CASE WHEN id > 3 THEN 'a' ELSE 'A ' END) FROM orders",
    "SELECT max(CASE WHEN id > 3 THEN 'a' ELSE 'B' END) FROM orders",
    "SELECT a.id, b.id FROM (SELECT id, CASE WHEN id > 3 THEN 'a' ELSE 'A' END AS c FROM orders) a JOIN (SELECT id, CASE WHEN id > 2 THEN 'a' ELSE 'A' END AS c FROM orders) b ON a.c = b.c AND a.id < b.id",
    "SELECT DISTINCT left(kind, 1) FROM orders",
    "SELECT reverse(kind), count(*), max(length(old_kind)) FROM orders GROUP BY 1",
    "SELECT extract(year from opened) AS y, extract(month from opened) AS m, count(*), sum(cost) FROM orders GROUP BY 1, 2",
    "SELECT date_trunc('day', at_time), min(opened), max(seen) FROM orders GROUP BY 1",
    "SELECT id, opened - at_time::date, date_trunc('hour', seen), opened::timestamp, extract(year from opened)::integer FROM orders WHERE id <> 3",
    "SELECT a.id, b.id FROM orders a JOIN orders b ON a.opened = b.opened AND a.id < b.id",
    "SELECT a.id, b.id FROM orders a JOIN orders b ON a.opened = b.at_time::date",
    "SELECT opened FROM orders UNION SELECT at_time::date FROM orders WHERE id <> 3",
    "SELECT opened, count(*) FROM (SELECT opened FROM orders UNION ALL SELECT opened FROM orders) x GROUP BY opened",
    "SELECT id, first_value(opened) OVER (ORDER BY at_time) FROM orders",
    "SELECT max(d) FROM zero",
    "SELECT min(d) FROM zero",
    "SELECT d, count(*) FROM zero GROUP BY d",
    "SELECT sum(hours) FROM orders",
    "SELECT bool_and(id > 0) FROM orders",
    "SELECT count(*) FILTER (WHERE id > 3), sum(id) FILTER (WHERE kind LIKE 'h%'), count(kind) FILTER (WHERE vessel = 1) FROM orders",
    "SELECT kind, count(*) FROM orders GROUP BY kind",
    "SELECT old_kind, count(*) FROM orders GROUP BY old_kind",
    "SELECT padded, count(*) FROM orders GROUP BY padded",
    "SELECT cost, count(*) FROM orders GROUP BY cost",
    "SELECT hours, count(*) FROM orders GROUP BY hours",
    "SELECT opened, count(*) FROM orders GROUP BY opened",
    "SELECT vessel, state, sum(cost) FROM orders GROUP BY vessel, state HAVING count(*) > 1",
    "SELECT DISTINCT kind FROM orders",
    "SELECT DISTINCT vessel, state FROM orders",
    "SELECT id, kind FROM orders ORDER BY kind, id LIMIT 3",
    "SELECT id, kind FROM orders ORDER BY kind DESC NULLS LAST, id LIMIT 3",
    "SELECT id FROM orders ORDER BY vessel DESC, id LIMIT 2 OFFSET 1",
    "SELECT id FROM orders ORDER BY cost NULLS FIRST, id LIMIT 3",
    "SELECT id FROM orders ORDER BY opened, id LIMIT 3",
    "SELECT count(*) FROM (SELECT id FROM orders LIMIT 3) x",
    "SELECT count(*) FROM (SELECT id FROM orders OFFSET 3) x",
    "SELECT o.id, v.name FROM orders o JOIN vessels v ON v.id = o.vessel",
    "SELECT o.id, v.name FROM orders o LEFT JOIN vessels v ON v.id = o.vessel AND v.name > 'H'",
    "SELECT o.id, v.name FROM orders o RIGHT JOIN vessels v ON v.id = o.vessel",
    "SELECT o.id, v.name FROM orders o FULL JOIN vessels v ON v.id = o.vessel",
    "SELECT v.name, count(*), sum(o.cost) FROM orders o JOIN vessels v ON v.id = o.vessel WHERE o.kind IS NOT NULL GROUP BY v.name",
    "SELECT v.name FROM vessels v WHERE NOT EXISTS (SELECT 1 FROM orders o WHERE o.vessel = v.id)",
    "SELECT a.id, b.id FROM orders a JOIN orders b ON a.kind = b.kind AND a.id < b.id",
    "SELECT a.id, b.id FROM orders a JOIN orders b ON a.kind = b.old_kind",
    "SELECT v.name, s.n FROM vessels v JOIN (SELECT vessel, count(*) AS n FROM orders GROUP BY vessel) s ON s.vessel = v.id",
    "SELECT * FROM orders WHERE id <> 3",
    "SELECT id, kind = 'hull', coalesce(vessel, 0), NOT (id > 3), CASE WHEN id > 3 THEN cost END FROM orders",
    "SELECT id, huge, note, wide FROM orders",
    "SELECT * FROM cheap",
    "SELECT count(*), max(id), sum(id) FROM empty",
    "SELECT \"a b\", \"select\" FROM \"Odd `Name\" WHERE \"select\" = 'x'",
    "SELECT count(*), min(t), max(t) FROM many WHERE id > 100",
    "SELECT id, length(t) FROM many WHERE t LIKE 'row 199%'",
    "SELECT id FROM zero",
    "SELECT d FROM zero",
    "SELECT d FROM zero WHERE id = 1",
    "SELECT count(*) FROM zero WHERE d < date '2025-06-01'",
    "SELECT count(d) FROM zero",
    "SELECT t FROM zero",
];

#[tokio::test(flavor = "multi_thread")]
async fn what_is_handed_over_never_changes_an_answer() {
    let mut session = session();
    let conditions = CONDITIONS.iter().map(|condition| format!("SELECT id FROM orders WHERE {condition}"));
    let mut all: Vec<String> = conditions.chain(STATEMENTS.iter().map(|s| (*s).to_owned())).collect();
    all.extend(truth::shapes::statements(["orders", "vessel", "kind", "old_kind", "cost", "vessels"]));
    let table = truth::table(&mut session, &all, "no such hint").await;
    insta::assert_snapshot!(table);
}

#[tokio::test(flavor = "multi_thread")]
async fn values_come_as_they_are() {
    let mut session = session();
    truth::described_alike(&definition("yard_db", "reader", "a secret"), "yard").await;
    let (rows, _) = answer(&mut session, "SELECT * FROM orders").await.unwrap();
    let types = "SELECT column_name, data_type FROM yard.information_schema.columns WHERE table_name = 'orders'";
    let types = answer(&mut session, types).await.map(|(rows, _)| rows.join("\n")).unwrap_or_else(|e| e.message);
    insta::assert_snapshot!(format!("{}\n\n{types}", rows.join("\n")));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_way_is_tested_step_by_step() {
    let mut elsewhere = definition("elsewhere", "reader", "a secret");
    elsewhere.database = Some("shed".into());
    let mut closed = definition("closed", "reader", "a secret");
    closed.address = "127.0.0.1:1".into();
    let mut unknown = definition("unknown", "reader", "a secret");
    unknown.address = "no-such-host.example.test:3306".into();
    let definitions = [
        definition("good", "reader", "a secret"),
        definition("wrong_secret", "reader", "another"),
        definition("no_rights", "nobody", "a secret"),
        elsewhere,
        closed,
        unknown,
    ];
    let mut out = String::new();
    for definition in definitions {
        out.push_str(&truth::steps(&definition.name, &definition).await);
    }
    let out = out.replace(&server().port.to_string(), "PORT");
    assert!(!out.contains("a secret") && !out.contains("another"));
    insta::assert_snapshot!(out);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reader_that_goes_ends_the_statement_there() {
    let mut session = session();
    let cancel = CancellationToken::new();
    let sql = "SELECT a.id FROM many a JOIN many b ON a.id <> b.id";
    let mut execution = session.run_text(sql, &cancel).await.unwrap();
    execution.next().await.unwrap();
    cancel.cancel();
    drop(execution);
    // The pool still gives connections that work.
    for _ in 0..10 {
        assert_eq!(answer(&mut session, "SELECT count(*) FROM vessels").await.unwrap().0, ["3"]);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_move_between_tiers() {
    truth::tiers::check(definition("scratch_db", "writer", "a secret"), "scratch", "day").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tables_are_written_whole_or_not_at_all() {
    let session = truth::written::session(definition("scratch_db", "writer", "a secret"), "scratch");
    truth::written::check(session).await;
    let mut own = truth::written::session(definition("scratch_db", "writer", "a secret"), "scratch");
    // Without transactions a part of the rows could be seen.
    let error = answer(&mut own, "INSERT INTO flat SELECT 1").await.unwrap_err().to_string();
    assert!(error.contains("`scratch`.`flat` is kept by Aria, which has no transactions"), "{error}");
    // The longest name that the server takes.
    let longest = "l".repeat(64);
    answer(&mut own, &format!("CREATE TABLE {longest} AS SELECT 1 AS n")).await.unwrap();
    answer(&mut own, &format!("DROP TABLE {longest}")).await.unwrap();
    // A user who may only read is told so by the server.
    let mut reader = truth::written::session(definition("yard_db", "reader", "a secret"), "yard");
    let error = answer(&mut reader, "CREATE TABLE t AS SELECT 1 AS n").await.unwrap_err();
    assert_eq!(error.code, Code::SourceRefused, "{error}");
}

/// What a writer leaves that was killed is dropped at the next start; what another one is filling stays.
#[tokio::test(flavor = "multi_thread")]
async fn unfinished_tables_are_swept_unless_somebody_fills_them() {
    let engine = Engine::in_memory().unwrap();
    let mut writable = definition("sweeper", "writer", "a secret");
    writable.options.insert("database".into(), "shed".into());
    writable.options.insert("writable".into(), "true".into());
    engine.add_connection(writable).unwrap();
    let options = mysql_async::OptsBuilder::default().ip_or_hostname("127.0.0.1").tcp_port(server().port);
    let mut other = mysql_async::Conn::new(options.user(Some("writer")).pass(Some("a secret"))).await.unwrap();
    for table in ["_unfinished_left_0a", "_unfinished_filled_0b"] {
        other.query_drop(format!("CREATE TABLE shed.{table} (n INT)")).await.unwrap();
    }
    other.query_drop("DO GET_LOCK('unfinished table 0b', 0)").await.unwrap();
    let sweep = async || {
        let set = engine.set();
        set.connections["sweeper"].connector.sweep().await.unwrap()
    };
    assert_eq!(sweep().await, 1);
    let left: Vec<String> = other.query("SHOW TABLES FROM shed LIKE '\\_unfinished%'").await.unwrap();
    assert_eq!(left, ["_unfinished_filled_0b"]);
    other.query_drop("DO RELEASE_LOCK('unfinished table 0b')").await.unwrap();
    assert_eq!((sweep().await, sweep().await), (1, 0));
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_are_changed_whole_or_not_at_all() {
    let session = || truth::written::session(definition("scratch_db", "writer", "a secret"), "shed");
    truth::changed::check(session(), "Duplicate entry", false).await;
    for (sql, expected) in [
        ("DELETE FROM heap", "rows of `shed`.`heap` cannot be changed: it has no primary key"),
        ("DELETE FROM flat", "it is not kept by InnoDB"),
        (
            "UPDATE kept SET kind = 'far too long for this column, which takes sixty of them and no more'",
            "Data too long",
        ),
    ] {
        let error = answer(&mut session(), sql).await.unwrap_err().to_string();
        assert!(error.contains(expected), "{sql}: {error}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn connections_are_encrypted_where_it_is_wanted() {
    let engine = Engine::in_memory().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let other = Authority::new().file(folder.path());
    let with = |name: &str, user: &str, options: &[(&str, &str)]| {
        let mut definition = definition(name, user, "a secret");
        definition.options.extend(options.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())));
        definition
    };
    let own = server().ca_file.as_str();
    let mut named = with("another_name", "reader", &[("tls", "true"), ("ca_file", own)]);
    named.address = format!("localhost:{}", server().port);
    let mut out = String::new();
    for definition in [
        with("good", "guarded", &[("tls", "true"), ("ca_file", own)]),
        with("in_the_clear", "guarded", &[]),
        with("unknown_authority", "guarded", &[("tls", "true")]),
        with("another_authority", "guarded", &[("tls", "true"), ("ca_file", &other)]),
        with("not_looked_at", "guarded", &[("tls", "true"), ("unverified", "true")]),
        with("both", "guarded", &[("tls", "true"), ("unverified", "true"), ("ca_file", own)]),
        with("no_file", "guarded", &[("tls", "true"), ("ca_file", "/nowhere/ca.pem")]),
        with("no_certificate", "guarded", &[("tls", "true"), ("ca_file", "/dev/null")]),
        named,
    ] {
        out.push_str(&truth::steps(&definition.name, &definition).await);
    }
    insta::assert_snapshot!(out.replace(&server().port.to_string(), "PORT"));
    engine.add_connection(with("good", "guarded", &[("tls", "true"), ("ca_file", own)])).unwrap();
    engine.add_catalog(CatalogDefinition::new("yard", "good")).unwrap();
    let rows = answer(&mut engine.session(), "SELECT count(*) FROM yard.yard.vessels").await.unwrap().0;
    assert_eq!(rows, ["3"]);
}

/// Ranges of a key are read by several connections that have one view of the table.
#[tokio::test(flavor = "multi_thread")]
async fn ranges_are_read_apart_in_one_view() {
    let engine = Engine::in_memory().unwrap();
    for (name, user, lock) in [("hoard", "hoarder", "true"), ("poor", "watcher", "true"), ("plain", "hoarder", "false")]
    {
        let mut definition = definition(&format!("{name}_db"), user, "a secret");
        definition.options.insert("lock_for_ranges".into(), lock.into());
        engine.add_connection(definition).unwrap();
        engine.add_catalog(CatalogDefinition::new(name, format!("{name}_db"))).unwrap();
    }
    let options = mysql_async::OptsBuilder::default()
        .ip_or_hostname("127.0.0.1")
        .tcp_port(server().port)
        .user(Some("root"))
        .prefer_socket(false);
    let mut owner = mysql_async::Conn::new(options).await.unwrap();
    let begun = async |owner: &mut mysql_async::Conn| -> u64 {
        let views = "SELECT count(*) FROM mysql.general_log WHERE argument LIKE 'START TRANSACTION WITH CONSISTENT%'";
        owner.query_first(views).await.unwrap().unwrap()
    };
    owner.query_drop("SET GLOBAL log_output = 'TABLE', GLOBAL general_log = 'ON'").await.unwrap();
    let tasks = std::thread::available_parallelism().map_or(1, usize::from).min(4) as u64;
    // As many readers as tasks, where the table can be locked; one where the user may not or somebody changes it; none without the setting.
    for (catalog, is_changed, readers, ranges) in
        [("hoard", false, tasks, true), ("hoard", true, 1, true), ("poor", false, 1, true), ("plain", false, 0, false)]
    {
        if is_changed {
            owner.query_drop("START TRANSACTION").await.unwrap();
            owner.query_drop("UPDATE hoard.purses SET coins = 0 WHERE id = 7").await.unwrap();
        }
        let mut seen = Vec::new();
        // A busy machine may have no second connection in time, and a lock that is not free at once is not waited for.
        while seen.last() != Some(&readers) && seen.len() < 5 {
            let before = begun(&mut owner).await;
            let mut session = engine.session();
            session.set("planner.off", "offer-aggregates, split-aggregates").unwrap();
            let sql = format!("SELECT count(*), sum(coins), count(DISTINCT id) FROM {catalog}.hoard.purses");
            let (rows, plan) = answer(&mut session, &sql).await.unwrap();
            assert_eq!(rows, ["300000|30000000|300000"]);
            let parts = &plan.unwrap().gates[0].parts;
            assert_eq!(parts.first().is_some_and(|part| part.total > 3), ranges, "{catalog}: {parts:?}");
            seen.push(begun(&mut owner).await - before);
            assert!(seen.iter().all(|n| *n <= readers), "{catalog}: {seen:?}");
        }
        assert_eq!(seen.last(), Some(&readers), "{catalog}: {seen:?}");
        if is_changed {
            owner.query_drop("ROLLBACK").await.unwrap();
        }
    }
    owner.query_drop("SET GLOBAL general_log = 'OFF'").await.unwrap();
    let split = "SELECT * FROM native_query('hoard', 'SELECT id FROM hoard.purses', split_on => 'id', split_into => 4)";
    let error = answer(&mut engine.session(), split).await.unwrap_err();
    assert!(error.message.contains("cannot see one state of what a query reads"), "{error}");
    let mut stored = CatalogDefinition::new("stored", "hoard_db");
    let text = "{ \"query\": \"SELECT id FROM hoard.purses\", \"split_on\": \"id\", \"split_into\": 4 }";
    stored.tables.insert("public.purses".into(), serde_json::from_str(text).unwrap());
    let error = engine.add_catalog(stored).unwrap_err();
    assert!(error.message.contains("cannot see one state of what a query reads"), "{error}");
    let session = || {
        let mut session = engine.session();
        session.use_place("hoard", Some("hoard")).unwrap();
        session
    };
    let runtime = tokio::runtime::Handle::current();
    truth::moving::check(session, move |from, to| {
        let step = |n: &str, id: i64| format!("UPDATE hoard.purses SET coins = coins {n} WHERE id = {id}");
        runtime.block_on(async {
            owner.query_drop("START TRANSACTION").await.unwrap();
            owner.query_drop(step("- 5", from)).await.unwrap();
            owner.query_drop(step("+ 5", to)).await.unwrap();
            owner.query_drop("COMMIT").await.unwrap();
        });
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn random_fragments_never_change_an_answer() {
    let mut session = session();
    let columns = truth::random::Columns {
        table: "orders",
        whole: &["id", "id", "tiny"],
        text: &["kind", "strict_kind", "old_kind", "padded"],
        decimal: &["cost"],
        date: &["opened"],
        moment: &["at_time"],
        flag: &[],
    };
    for seed in 1..=3 {
        truth::random_fragments(&mut session, seed, 250, &columns).await;
    }
}

/// A pool whose connections are all in use is not a server that does not answer.
#[tokio::test(flavor = "multi_thread")]
async fn a_busy_pool_is_told_as_one() {
    let engine = Engine::in_memory().unwrap();
    let mut definition = definition("yard_db", "reader", "a secret");
    let options = [("pool_size", "1"), ("statement_limit", "20"), ("connect_limit", "5")];
    definition.options.extend(options.map(|(name, value)| (name.to_owned(), value.to_owned())));
    engine.add_connection(definition).unwrap();
    engine.add_catalog(CatalogDefinition::new("yard", "yard_db")).unwrap();
    let mut session = engine.session();
    // Nobody takes the rows of the first reading.
    let cancel = CancellationToken::new();
    let many = "SELECT t FROM native_query('yard', 'SELECT a.t FROM yard.many a JOIN yard.many b ON a.id <> b.id')";
    let mut reading = session.run_text(many, &cancel).await.unwrap();
    reading.next().await.unwrap();
    let other = "SELECT * FROM native_query('yard', 'SELECT count(*) AS n FROM yard.vessels')";
    let error = answer(&mut engine.session(), other).await.unwrap_err();
    assert_eq!(error.message, "connection yard_db: all its connections are busy");
    drop(reading);
    cancel.cancel();
    for _ in 0..50 {
        if answer(&mut engine.session(), other).await.is_ok_and(|(rows, _)| rows == ["3"]) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("the connection does not come back");
}
