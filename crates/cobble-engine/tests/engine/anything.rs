//! Any text is an answer or an error that says something, never a panic: words of the language thrown together, good
//! statements with words changed, and every function called with extreme values of every type.
//!
//! `COBBLE_TRIES=200000 cargo test --workspace --test anything` tries more.

use cobble_engine::{Engine, Session};
use cobble_types::Code;
use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use tokio_util::sync::CancellationToken;

const TABLES: &str = "WITH t(a, b, c, d, e) AS (VALUES (1, 2.5, 'quay', date '2025-07-01', true), (NULL, NULL, NULL, NULL, NULL), \
    (-7, 1e3, '', date '0001-01-01', false)), u(a, x) AS (VALUES (1, ARRAY[1, 2]), (2, NULL)) ";

const STATEMENTS: &[&str] = &[
    "SELECT a, sum(b) OVER (PARTITION BY c ORDER BY d ROWS BETWEEN 1 PRECEDING AND CURRENT ROW EXCLUDE TIES) FROM t QUALIFY rank() OVER (ORDER BY a) < 3",
    "SELECT c, count(*) FILTER (WHERE e), array_agg(a ORDER BY b DESC) FROM t GROUP BY ROLLUP (c, d) HAVING count(*) > 0 ORDER BY 1 NULLS FIRST LIMIT 2 OFFSET 1",
    "SELECT t.a, (SELECT max(u.a) FROM u WHERE u.a >= t.a) FROM t LEFT JOIN u USING (a) WHERE t.b NOT IN (SELECT a FROM u) OR EXISTS (SELECT 1 FROM u WHERE x @> ARRAY[t.a])",
    "SELECT CASE c WHEN 'quay' THEN d + interval '1 month' ELSE NULL END, CAST(b AS numeric(5,1)), extract(year FROM d), c LIKE 'q%' ESCAPE '!' FROM t, LATERAL (SELECT t.a + 1 AS z) AS s",
    "SELECT a FROM t UNION SELECT a FROM u INTERSECT ALL (SELECT 1 EXCEPT VALUES (2)) ORDER BY a DESC FETCH FIRST 3 ROWS ONLY",
    "SELECT percentile_cont(0.5) WITHIN GROUP (ORDER BY b), mode() WITHIN GROUP (ORDER BY c), string_agg(DISTINCT c, ',') FROM t",
    "WITH RECURSIVE r(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM r WHERE n < 5) SELECT * FROM r CROSS JOIN generate_series(1, 3) AS g(i) WHERE (n, i) < (3, 2)",
    "SELECT (SELECT x[1] FROM u LIMIT 1), '{\"k\": [1, 2]}'::jsonb -> 'k' ->> 0, substring(c FROM 2 FOR 2), coalesce(a, 0)::text || c FROM t",
];

const WORDS: &[&str] = &[
    "SELECT",
    "FROM",
    "WHERE",
    "GROUP",
    "BY",
    "ORDER",
    "HAVING",
    "LIMIT",
    "OFFSET",
    "JOIN",
    "LEFT",
    "FULL",
    "ON",
    "USING",
    "NATURAL",
    "LATERAL",
    "UNION",
    "ALL",
    "EXCEPT",
    "DISTINCT",
    "WITH",
    "AS",
    "CASE",
    "WHEN",
    "THEN",
    "ELSE",
    "END",
    "AND",
    "OR",
    "NOT",
    "IN",
    "IS",
    "NULL",
    "BETWEEN",
    "LIKE",
    "ILIKE",
    "SIMILAR",
    "TO",
    "ANY",
    "EXISTS",
    "OVER",
    "PARTITION",
    "ROWS",
    "RANGE",
    "GROUPS",
    "UNBOUNDED",
    "PRECEDING",
    "FOLLOWING",
    "CURRENT",
    "ROW",
    "EXCLUDE",
    "FILTER",
    "WITHIN",
    "CAST",
    "INTERVAL",
    "DATE",
    "TIMESTAMP",
    "ARRAY",
    "VALUES",
    "ROLLUP",
    "CUBE",
    "GROUPING",
    "SETS",
    "t",
    "u",
    "a",
    "b",
    "c",
    "d",
    "e",
    "x",
    "t.a",
    "u.x",
    "nope",
    "*",
    "(",
    ")",
    "[",
    "]",
    ",",
    "+",
    "-",
    "/",
    "%",
    "||",
    "=",
    "<",
    ">=",
    "<>",
    "::",
    "->",
    "->>",
    "@>",
    "~",
    "!~*",
    "^",
    "&",
    "<<",
    "'quay'",
    "''",
    "'2025-02-30'",
    "'1 month'",
    "0",
    "1",
    "2.5",
    "1e400",
    "99999999999999999999",
    "-1",
    "$1",
    "int",
    "numeric(3,1)",
    "text",
    "date",
    "interval",
    "jsonb",
    "int[]",
    ";",
    "--",
    "/*",
    "\"",
    "'",
    "\u{0}",
    "é",
    "EXPLAIN",
    "SHOW",
    "ANALYZE",
    "SET",
    "DESCRIBE",
    "CREATE FUNCTION",
    "QUALIFY",
];

/// Extreme values of every type.
const VALUES: &[&str] = &[
    "NULL",
    "true",
    "(-32768)::smallint",
    "2147483647",
    "(-2147483648)::int",
    "0",
    "-1",
    "9223372036854775807",
    "(-9223372036854775808)::bigint",
    "'NaN'::double precision",
    "'-Infinity'::double precision",
    "1e308::double precision",
    "'1e-45'::real",
    "0.5",
    "-0.0",
    "99999999999999999999999999999999999999::numeric(38,0)",
    "0.00000000000000000001",
    "''",
    "'quay'",
    "'ﬃ🛥\u{301}'",
    "'%_\\'",
    "'[(*'",
    "repeat('q', 3000)",
    "'\\xff00'::bytea",
    "date '2025-02-28'",
    "date '-infinity'",
    "date '5874897-12-31'",
    "time '23:59:59.999999'",
    "timestamp '2025-03-30 02:30:00'",
    "timestamptz '0001-01-01 00:00:00+00'",
    "timestamp '294276-12-31 23:59:59'",
    "interval '1 month -1 day 1 us'",
    "interval '178000000 years'",
    "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'::uuid",
    "'{\"a\": [1, null, {\"b\": \"\"}]}'::jsonb",
    "'[]'::json",
    "ARRAY[1, NULL, 3]",
    "ARRAY[]::text[]",
    "ARRAY[ARRAY[1], ARRAY[2]]",
    "'yyyy-mm-dd hh24:mi'",
    "'month'",
    "'UTC'",
    "'g'",
    "1000000000",
];

fn tries(usual: usize) -> usize {
    std::env::var("COBBLE_TRIES").ok().and_then(|t| t.parse().ok()).unwrap_or(usual)
}

/// Runs the text; a panic, and an error that says that the engine is wrong, fail the test.
async fn survives(session: &mut Session, sql: &str, faults: &mut Vec<String>) {
    let cancel = CancellationToken::new();
    let running = async {
        let mut execution = session.run_text(sql, &cancel).await?;
        while execution.next().await?.is_some() {}
        Ok::<_, cobble_types::Error>(())
    };
    let guarded = futures::FutureExt::catch_unwind(std::panic::AssertUnwindSafe(running));
    match tokio::time::timeout(std::time::Duration::from_secs(30), guarded).await {
        Err(_) => faults.push(format!("{sql}\n  goes on and on")),
        Ok(Err(_)) => faults.push(format!("{sql}\n  panics")),
        Ok(Ok(Err(error))) if error.code == Code::Internal => faults.push(format!("{sql}\n  {error}")),
        Ok(Ok(_)) => {}
    }
}

fn session() -> Session {
    let mut session = Engine::in_memory().unwrap().session();
    session.set("run.memory", "64MB").unwrap();
    session
}

fn none(faults: &[String]) {
    assert!(faults.is_empty(), "{} faults:\n{}", faults.len(), faults.join("\n"));
}

#[tokio::test]
async fn any_text_is_answered_or_refused() {
    let (mut dice, mut session, mut faults) = (StdRng::seed_from_u64(7), session(), Vec::new());
    for round in 0..tries(3_000) {
        let mut words: Vec<String> = if round % 4 == 0 {
            (0..dice.random_range(1..25)).map(|_| (*WORDS.choose(&mut dice).unwrap()).to_owned()).collect()
        } else {
            STATEMENTS.choose(&mut dice).unwrap().split(' ').map(str::to_owned).collect()
        };
        for _ in 0..dice.random_range(1..5) {
            let at = dice.random_range(0..words.len());
            match dice.random_range(0..4) {
                0 if words.len() > 1 => {
                    words.remove(at);
                }
                1 => words.insert(at, (*WORDS.choose(&mut dice).unwrap()).to_owned()),
                2 => {
                    let other = dice.random_range(0..words.len());
                    words.swap(at, other);
                }
                _ => words[at] = (*WORDS.choose(&mut dice).unwrap()).to_owned(),
            }
        }
        let sql = format!("{TABLES} {}", words.join(" "));
        survives(&mut session, &sql, &mut faults).await;
    }
    none(&faults);
}

#[tokio::test]
async fn every_function_takes_or_refuses_extreme_values() {
    let (mut dice, mut session, mut faults) = (StdRng::seed_from_u64(11), session(), Vec::new());
    let functions = cobble_engine::own_functions();
    for _ in 0..tries(4_000) {
        let function = functions.choose(&mut dice).unwrap();
        let count = dice.random_range(0..4);
        let from_rows = dice.random_bool(0.5);
        let arguments: Vec<&str> = (0..count).map(|_| *VALUES.choose(&mut dice).unwrap()).collect();
        let window = if function.kind == cobble_engine::FunctionKind::Window { " OVER ()" } else { "" };
        let sql = if from_rows {
            // The same through a table, so that nothing is folded while planning.
            let columns: Vec<String> = (0..count).map(|i| format!("v{i}")).collect();
            let rows = if count == 0 { "1".to_owned() } else { arguments.join(", ") };
            let names = if count == 0 { "one".to_owned() } else { columns.join(", ") };
            format!(
                "SELECT {}({}){window} FROM (VALUES ({rows}), ({rows})) AS r({names}) LIMIT 5",
                function.name,
                columns.join(", ")
            )
        } else {
            format!("SELECT {}({}){window} LIMIT 5", function.name, arguments.join(", "))
        };
        survives(&mut session, &sql, &mut faults).await;
    }
    none(&faults);
}

#[tokio::test]
async fn every_operator_and_cast_takes_or_refuses_extreme_values() {
    let (mut dice, mut session, mut faults) = (StdRng::seed_from_u64(13), session(), Vec::new());
    let operators = [
        "+",
        "-",
        "*",
        "/",
        "%",
        "^",
        "=",
        "<",
        ">=",
        "||",
        "&",
        "<<",
        "LIKE",
        "~",
        "->",
        "->>",
        "@>",
        "IS DISTINCT FROM",
    ];
    let types = [
        "boolean",
        "smallint",
        "int",
        "bigint",
        "real",
        "double precision",
        "numeric(5,2)",
        "numeric(38,10)",
        "text",
        "varchar(2)",
        "char(3)",
        "bytea",
        "date",
        "time",
        "timestamp",
        "timestamptz",
        "interval",
        "uuid",
        "jsonb",
        "int[]",
        "text[]",
    ];
    for _ in 0..tries(3_000) {
        let (left, right) = (*VALUES.choose(&mut dice).unwrap(), *VALUES.choose(&mut dice).unwrap());
        let (op, sql_type) = (*operators.choose(&mut dice).unwrap(), *types.choose(&mut dice).unwrap());
        let sql = match dice.random_range(0..4) {
            0 => format!("SELECT {left} {op} {right}"),
            1 => format!("SELECT l {op} r FROM (VALUES ({left}, {right}), (NULL, NULL)) AS t(l, r)"),
            2 => format!("SELECT ({left})::{sql_type}"),
            _ => format!(
                "SELECT l::{sql_type}, -r, sum(r) OVER (), min(l) OVER () FROM (VALUES ({left}, {right})) AS t(l, r)"
            ),
        };
        survives(&mut session, &sql, &mut faults).await;
    }
    none(&faults);
}
