//! Statements of extreme size and shape, and values of extreme size: an answer or a clear error, never a crash.

use std::time::{Duration, Instant};

use cobble_engine::{Engine, Session};
use cobble_types::{Code, Error, array_value_text};
use tokio_util::sync::CancellationToken;

/// Far more than any of them takes, so that a busy machine does not fail them; a quadratic one would take minutes.
const SECONDS: Duration = Duration::from_secs(60);

/// What a join of 500 tables may take without optimisation; it is planned in a time that grows with their square.
const MANY_TABLES: Duration = Duration::from_secs(60);

fn session() -> Session {
    Engine::in_memory().unwrap().session()
}

async fn first(session: &mut Session, sql: &str) -> Result<String, Error> {
    first_within(SECONDS, session, sql).await
}

async fn first_within(limit: Duration, session: &mut Session, sql: &str) -> Result<String, Error> {
    let began = Instant::now();
    let mut execution = session.run_text(sql, &CancellationToken::new()).await?;
    let mut answer = String::new();
    while let Some(batch) = execution.next().await? {
        if batch.num_rows() > 0 && answer.is_empty() {
            let values: Vec<String> =
                batch.columns().iter().map(|c| array_value_text(c.as_ref(), 0).unwrap_or("null".into())).collect();
            answer = values.join("|");
        }
    }
    assert!(began.elapsed() < limit, "{} took {:?}", &sql[..sql.len().min(80)], began.elapsed());
    Ok(answer)
}

fn listed(count: usize, item: impl Fn(usize) -> String, separator: &str) -> String {
    (0..count).map(item).collect::<Vec<_>>().join(separator)
}

#[tokio::test]
async fn long_lists_are_answered() {
    let mut s = session();
    let list = listed(5_000, |i| (i * 2).to_string(), ", ");
    let sql = format!("SELECT count(*) FROM generate_series(1, 20000) AS t(n) WHERE n IN ({list})");
    assert_eq!(first(&mut s, &sql).await.unwrap(), "4999");
    let sql = format!("SELECT count(*) FROM generate_series(1, 20000) AS t(n) WHERE n NOT IN ({list})");
    assert_eq!(first(&mut s, &sql).await.unwrap(), "15001");
    let sql = format!("SELECT count(*) FROM generate_series(1, 20000) AS t(n) WHERE n NOT IN ({list}, NULL)");
    assert_eq!(first(&mut s, &sql).await.unwrap(), "0");
    let either = listed(5_000, |i| format!("n = {i}"), " OR ");
    let sql = format!("SELECT count(*) FROM generate_series(1, 6000) AS t(n) WHERE {either}");
    assert_eq!(first(&mut s, &sql).await.unwrap(), "4999");
    let all = listed(5_000, |i| format!("n <> {i}"), " AND ");
    let sql = format!("SELECT count(*) FROM generate_series(1, 6000) AS t(n) WHERE {all}");
    assert_eq!(first(&mut s, &sql).await.unwrap(), "1001");
    let values = listed(20_000, |i| format!("({i}, 'quay {i}')"), ", ");
    let sql = format!("SELECT count(*), max(b) FROM (VALUES {values}) AS t(a, b)");
    assert_eq!(first(&mut s, &sql).await.unwrap(), "20000|quay 9999");
}

#[tokio::test]
async fn deep_nesting_is_answered_or_named() {
    let mut s = session();
    for deep in [300, 100_000] {
        let sql = format!("SELECT {}1{}", "(".repeat(deep), ")".repeat(deep));
        match first(&mut s, &sql).await {
            Ok(answer) => assert_eq!((answer.as_str(), deep), ("1", 300)),
            Err(error) => assert_eq!((error.code, deep), (Code::TooComplex, 100_000), "{error}"),
        }
    }
    let sum = |count| format!("SELECT {}", listed(count, |_| "1".to_owned(), " + "));
    assert_eq!(first(&mut s, &sum(1_500)).await.unwrap(), "1500");
    let column_sum = format!("SELECT {} FROM generate_series(1, 3) AS t(n)", listed(1_500, |_| "n".to_owned(), " + "));
    assert_eq!(first(&mut s, &column_sum).await.unwrap(), "1500");
    for sql in [
        sum(5_000),
        sum(2_500_000),
        format!("SELECT {}", listed(30_000, |_| "1".to_owned(), " UNION ALL SELECT ")),
        format!("SELECT {}true", "NOT ".repeat(50_000)),
        format!("SELECT {}1", "- ".repeat(50_000)),
        format!("SELECT 1{}", "::int".repeat(40_000)),
        format!("SELECT {}1{}", "abs(".repeat(5_000), ")".repeat(5_000)),
        format!("SELECT {}1{}", "CASE WHEN true THEN ".repeat(5_000), " END".repeat(5_000)),
        format!("SELECT * FROM {}(SELECT 1) AS a{}", "(SELECT * FROM ".repeat(5_000), ") AS b".repeat(5_000)),
    ] {
        let error = first(&mut s, &sql).await.unwrap_err();
        assert_eq!(error.code, Code::TooComplex, "{} … {error}", &sql[..40]);
    }
    for (deep, before, inner, after, answer) in [
        (450, "abs(", "1", ")", "1"),
        (450, "NOT ", "true", "", "true"),
        (450, "CASE WHEN true THEN ", "1", " END", "1"),
        (450, "CAST(", "1", " AS int)", "1"),
        (6, "ARRAY[", "1", "]", "{{{{{{1}}}}}}"),
        (100, "(SELECT ", "1", ")", "1"),
        (100, "EXISTS (SELECT ", "1", ")", "true"),
    ] {
        let sql = format!("SELECT {}{inner}{}", before.repeat(deep), after.repeat(deep));
        assert_eq!(first(&mut s, &sql).await.unwrap(), answer, "{before}");
    }
    let error = first(&mut s, &format!("SELECT {}1{}", "ARRAY[".repeat(300), "]".repeat(300))).await.unwrap_err();
    assert_eq!(error.code, Code::TooComplex, "{error}");
    let derived = ("(SELECT * FROM ".repeat(100), ") AS b".repeat(100));
    let joined = ("(".repeat(100), listed(100, |i| format!(" CROSS JOIN (SELECT 1) AS b{i})"), ""));
    for (before, after) in [derived, joined] {
        assert_eq!(first(&mut s, &format!("SELECT 1 FROM {before}(SELECT 1) AS a{after}")).await.unwrap(), "1");
    }
    let branches = listed(1_000, |i| i.to_string(), " UNION ALL SELECT ");
    assert_eq!(first(&mut s, &format!("SELECT count(*) FROM (SELECT {branches}) AS t")).await.unwrap(), "1000");
}

#[tokio::test]
async fn many_common_tables_are_joined() {
    let mut s = session();
    let tables = listed(500, |i| format!("t{i} AS (SELECT {i} AS k, 1 AS one)"), ", ");
    let joins = listed(499, |i| format!("JOIN t{} USING (one)", i + 1), " ");
    let sql = format!("WITH {tables} SELECT count(*), max(t499.k) FROM t0 {joins}");
    assert_eq!(first_within(MANY_TABLES, &mut s, &sql).await.unwrap(), "1|499");
    let chain = listed(499, |i| format!("u{} AS (SELECT n + 1 AS n FROM u{i})", i + 1), ", ");
    let sql = format!("WITH u0 AS (SELECT 1 AS n), {chain} SELECT n FROM u499");
    assert_eq!(first(&mut s, &sql).await.unwrap(), "500");
}

#[tokio::test]
async fn statements_of_megabytes_are_answered() {
    let mut s = session();
    let text = "q".repeat(5 << 20);
    assert_eq!(first(&mut s, &format!("SELECT length('{text}')")).await.unwrap(), (5 << 20).to_string());
    let list = listed(100_000, |i| format!("'berth {i:0>50}'"), ", ");
    assert!(list.len() > 5 << 20);
    let sql = format!(
        "SELECT count(*) FROM generate_series(0, 5) AS g(n) WHERE 'berth ' || lpad(n::text, 50, '0') IN ({list})"
    );
    assert_eq!(first(&mut s, &sql).await.unwrap(), "6");
    let comment = format!("SELECT 1 /* {text} */");
    assert_eq!(first(&mut s, &comment).await.unwrap(), "1");
    let error = first(&mut s, &format!("SELECT '{}'", "q".repeat(65 << 20))).await.unwrap_err();
    assert_eq!(error.code, Code::TooComplex, "{error}");
}

#[tokio::test]
async fn values_and_tables_of_extreme_size_are_correct() {
    let mut s = session();
    // Ten strings of 10 MB through a sort, a group and a join.
    let long = "SELECT n, repeat(chr(64 + n), 10000000) AS t FROM generate_series(1, 10) AS g(n)";
    let sql = format!("SELECT n, length(t), left(t, 2) FROM ({long}) AS x ORDER BY t DESC LIMIT 1");
    assert_eq!(first(&mut s, &sql).await.unwrap(), "10|10000000|JJ");
    let sql = format!("SELECT count(*), sum(c) FROM (SELECT t, count(*) AS c FROM ({long}) AS x GROUP BY t) AS y");
    assert_eq!(first(&mut s, &sql).await.unwrap(), "10|10");
    let sql = format!("SELECT count(*) FROM ({long}) AS x JOIN ({long}) AS y USING (t)");
    assert_eq!(first(&mut s, &sql).await.unwrap(), "10");
    // A thousand columns, all added up, and grouped by all of them.
    let columns = listed(1_000, |i| format!("n + {i} AS c{i}"), ", ");
    let wide = format!("SELECT {columns} FROM generate_series(1, 50) AS g(n)");
    let sum = listed(1_000, |i| format!("c{i}"), " + ");
    let sql = format!("SELECT sum({sum}) FROM ({wide}) AS w");
    assert_eq!(first(&mut s, &sql).await.unwrap(), (1000 * 1275 + 50 * 499_500).to_string());
    let keys = listed(1_000, |i| format!("c{i}"), ", ");
    let sql = format!("SELECT count(*) FROM (SELECT {keys} FROM ({wide}) AS w GROUP BY {keys}) AS x");
    assert_eq!(first(&mut s, &sql).await.unwrap(), "50");
}

#[tokio::test]
async fn a_limit_stops_what_stands_before_it() {
    let mut s = session();
    let endless = "generate_series(1, 1000000000000)";
    for sql in [
        format!("SELECT n FROM {endless} AS g(n) LIMIT 1"),
        "SELECT generate_series(v, 1000000000000) FROM (VALUES (1), (2)) AS t(v) LIMIT 1".to_owned(),
        format!("SELECT a.n FROM (SELECT n FROM {endless} AS g(n)) AS a WHERE a.n % 2 = 1 LIMIT 1"),
        format!("SELECT n FROM {endless} AS g(n) UNION ALL SELECT 7 LIMIT 1"),
        format!("SELECT 1 FROM (VALUES (1)) AS t(v) WHERE EXISTS (SELECT 1 FROM {endless} AS g(n) WHERE n > 5)"),
        format!("SELECT g.n FROM {endless} AS g(n) LEFT JOIN (VALUES (1)) AS t(v) ON t.v = g.n LIMIT 1"),
    ] {
        let answer = first(&mut s, &sql).await.unwrap();
        assert!(["1", "2", "7"].contains(&answer.as_str()), "{sql}: {answer}");
    }
}

#[tokio::test]
async fn uneven_keys_are_correct() {
    let mut s = session();
    for memory in ["2GB", "24MB"] {
        s.set("run.memory", memory).unwrap();
        // Nearly all rows have one key.
        let skewed = "SELECT CASE WHEN n % 1000 = 0 THEN n ELSE 7 END AS k, n FROM generate_series(1, 200000) AS g(n)";
        let sql = format!(
            "SELECT count(*), sum(a.n) FROM ({skewed}) AS a JOIN (SELECT m AS k FROM generate_series(1, 300) AS h(m)) AS b USING (k)"
        );
        assert_eq!(
            first(&mut s, &sql).await.unwrap(),
            format!("199800|{}", 200_000u64 * 200_001 / 2 - 20_100_000),
            "{memory}"
        );
        let sql =
            format!("SELECT count(*), max(c) FROM (SELECT k, count(*) AS c FROM ({skewed}) AS a GROUP BY k) AS b");
        assert_eq!(first(&mut s, &sql).await.unwrap(), "201|199800", "{memory}");
        // One group of all rows, and a million groups.
        let sql = "SELECT count(DISTINCT n), min(n), max(n) FROM generate_series(1, 300000) AS g(n) GROUP BY n > 0";
        assert_eq!(first(&mut s, sql).await.unwrap(), "300000|1|300000", "{memory}");
        let sql = "SELECT count(*), sum(c) FROM (SELECT n % 1000000 AS k, count(*) AS c FROM generate_series(1, 1200000) AS g(n) GROUP BY 1) AS x";
        assert_eq!(first(&mut s, sql).await.unwrap(), "1000000|1200000", "{memory}");
        // Keys that are all null, and no rows at all.
        let nulls = "SELECT NULL::int AS k, n FROM generate_series(1, 50000) AS g(n)";
        for (sql, expected) in [
            (format!("SELECT count(*) FROM ({nulls}) AS a JOIN ({nulls}) AS b USING (k)"), "0"),
            (format!("SELECT count(*) FROM ({nulls}) AS a LEFT JOIN ({nulls}) AS b USING (k)"), "50000"),
            (format!("SELECT count(*) FROM ({nulls}) AS a FULL JOIN ({nulls}) AS b ON a.k = b.k"), "100000"),
            (format!("SELECT count(*) FROM (SELECT k FROM ({nulls}) AS a GROUP BY k) AS b"), "1"),
            (format!("SELECT count(*) FROM ({nulls}) AS a WHERE n NOT IN (SELECT k FROM ({nulls}) AS b)"), "0"),
            (
                format!(
                    "SELECT count(*) FROM ({nulls}) AS a WHERE n NOT IN (SELECT k FROM ({nulls}) AS b WHERE n < 0)"
                ),
                "50000",
            ),
            (format!("SELECT max(r) FROM (SELECT rank() OVER (ORDER BY k) AS r FROM ({nulls}) AS a) AS b"), "1"),
            (format!("SELECT count(*), sum(n), max(k) FROM ({nulls}) AS a WHERE n < 0"), "0|null|null"),
        ] {
            assert_eq!(first(&mut s, &sql).await.unwrap(), expected, "{memory}: {sql}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn buckets_that_are_too_large_are_cut_again() {
    let mut s = session();
    s.set("run.memory", "600kB").unwrap();
    let texts = "(SELECT g * 2 AS g, repeat('ferry', 10) || g AS t FROM generate_series(1, 60000) x(g)) b";
    for (sql, wanted) in [
        (
            format!(
                "SELECT count(*), sum(a.g), count(b.t), max(b.t) FROM generate_series(1, 60000) a(g) LEFT JOIN {texts} ON a.g = b.g"
            ),
            format!("60000|1800030000|30000|{}9999", "ferry".repeat(10)),
        ),
        (
            format!(
                "SELECT count(*) FROM generate_series(1, 60000) a(g) FULL JOIN {texts} ON a.g = b.g WHERE b.t IS NOT NULL"
            ),
            "60000".to_owned(),
        ),
        (
            format!("SELECT count(*) FROM generate_series(1, 60000) a(g) WHERE a.g NOT IN (SELECT g FROM {texts})"),
            "30000".to_owned(),
        ),
    ] {
        assert_eq!(first(&mut s, &sql).await.unwrap(), wanted);
    }
    // Nothing can cut a single key.
    let one_key = "SELECT count(*) FROM generate_series(1, 100000) a(g) JOIN (SELECT 1 AS g, repeat('ferry', 10) || g AS t FROM generate_series(1, 60000) x(g)) b ON a.g = b.g AND b.t > ''";
    let error = first(&mut s, one_key).await.unwrap_err();
    assert_eq!(error.code, Code::MemoryLimit);
    assert!(error.message.contains("step"), "{}", error.message);
}
