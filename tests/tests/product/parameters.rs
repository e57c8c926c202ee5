//! The types of parameters, found out from what they meet, are those that PostgreSQL finds.

use cobble_engine::Engine;
use cobble_tests::{language_judge, plain};
use tokio_util::sync::CancellationToken;

/// Statements with the types that PostgreSQL has in other words or that it finds otherwise, as these are known to differ.
const STATEMENTS: &[&str] = &[
    "SELECT $1",
    "SELECT $1::integer",
    "SELECT $1 + 1",
    "SELECT 1.5 * $1",
    "SELECT $1 || 'a'",
    "SELECT $1 = 1",
    "SELECT $1 AND true",
    "SELECT NOT $1",
    "SELECT $2, $1 < 1",
    "SELECT date '2025-07-01' < $1",
    "SELECT timestamp '2025-07-01 12:00' - $1::interval",
    "SELECT CASE WHEN $1 THEN 1 ELSE $2 END",
    "SELECT coalesce($1, 2)",
    "SELECT coalesce(NULL, $1)",
    "SELECT nullif($1, 'x')",
    "SELECT upper($1)",
    "SELECT length($1)",
    "SELECT substring('abc' FROM $1 FOR $2)",
    "SELECT repeat($1, $2)",
    "SELECT lower('A') LIKE $1",
    "SELECT 1 IN ($1, $2)",
    "SELECT $1 IN (1, 2)",
    "SELECT $1 BETWEEN 1 AND 3",
    "SELECT 2 BETWEEN $1 AND $2",
    "SELECT x FROM (VALUES (1), (2)) AS t(x) WHERE x = $1",
    "SELECT x FROM (VALUES (1), (2)) AS t(x) WHERE x > $1 ORDER BY x LIMIT $2 OFFSET $3",
    "SELECT x FROM (VALUES ('a'), ('b')) AS t(x) WHERE x = $1 OR x LIKE $2",
    "SELECT sum(x) FROM (VALUES (1::bigint), (2)) AS t(x) WHERE x % 2 = $1",
    "SELECT count(*) FILTER (WHERE x > $1) FROM (VALUES (1.5), (2)) AS t(x)",
    "SELECT x, y FROM (VALUES (1, 'a')) AS t(x, y) WHERE (x, y) = ($1, $2)",
    "SELECT x FROM (VALUES (1)) AS t(x) WHERE x = (SELECT $1)",
    "SELECT x FROM (VALUES (1)) AS t(x) WHERE EXISTS (SELECT 1 FROM (VALUES (2)) AS u(y) WHERE y = $1)",
    "SELECT x FROM (VALUES (1)) AS t(x) UNION ALL SELECT $1",
    "WITH t AS (SELECT $1::date AS d) SELECT d + $2 FROM t",
    "SELECT generate_series(1, $1)",
    "SELECT extract(day FROM $1::date)",
    "SELECT date_trunc('month', $1::timestamp)",
    "SELECT array[1, 2] || $1",
    "SELECT 1 = any($1)",
    "SELECT $1::jsonb ->> 'a'",
    "SELECT round($1, 2)",
    "SELECT x FROM (VALUES (1), (2)) AS t(x) WHERE x = $1 AND x::text = $1::text",
    "SELECT x FROM (VALUES (1)) AS t(x) WHERE x = $1 AND 'a' = $1",
    "SELECT true WHERE $1",
    "SELECT max(x) OVER (ORDER BY x ROWS $1 PRECEDING) FROM (VALUES (1)) AS t(x)",
];

/// A type as its family: numbers exact to any digits are one.
fn family(name: &str) -> String {
    let name = name.split('(').next().unwrap_or_default();
    match name {
        "int2" => "smallint",
        "int4" => "integer",
        "int8" => "bigint",
        "float4" => "real",
        "float8" => "double precision",
        "bool" => "boolean",
        "_int4" | "integer[]" => "integer[]",
        "timestamptz" => "timestamp with time zone",
        "jsonb" | "json" => "json",
        other => other,
    }
    .to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn types_are_found_out_as_postgresql_does() {
    let judge = language_judge().await;
    let session = Engine::in_memory().unwrap().session();
    let mut differences = Vec::new();
    for sql in STATEMENTS {
        let wanted = match judge.prepare(sql).await {
            Ok(prepared) => Ok(prepared.params().iter().map(|t| family(t.name())).collect::<Vec<_>>()),
            Err(e) => Err(e.code().map(|code| code.code()[..2].to_owned()).unwrap_or_default()),
        };
        let got = match session.prepare(sql, &[]).await {
            Ok(prepared) => Ok(prepared.types.iter().map(|t| family(&t.to_string())).collect::<Vec<_>>()),
            Err(e) => Err(e.code.sqlstate()[..2].to_owned()),
        };
        if got != wanted {
            differences.push(format!("{sql}\n  got    {got:?}\n  wanted {wanted:?}"));
        }
    }
    assert!(differences.is_empty(), "{} differ\n\n{}", differences.len(), differences.join("\n\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn values_given_as_texts_answer_as_constants_do() {
    let engine = Engine::in_memory().unwrap();
    let cancel = CancellationToken::new();
    for (sql, values, constant) in [
        ("SELECT $1 + 1, $2 || 'x'", vec!["41", "a"], "SELECT 41 + 1, 'a' || 'x'"),
        (
            "SELECT x FROM generate_series(1, 9) AS s(x) WHERE x > $1 ORDER BY x LIMIT $2",
            vec!["3", "2"],
            "SELECT x FROM (VALUES (4), (5)) AS t(x)",
        ),
        ("SELECT date '2025-07-01' < $1", vec!["2025-07-02"], "SELECT true"),
        ("SELECT $1::numeric(8,2) * 2", vec!["1.25"], "SELECT 1.25::numeric(8,2) * 2"),
        ("SELECT 2 = any($1), $1", vec!["{1,2}"], "SELECT true, '{1,2}'::integer[]"),
        ("SELECT $1::jsonb ->> 'a'", vec!["{\"a\": 5}"], "SELECT '5'"),
    ] {
        let mut session = engine.session();
        let rows = async |session: &mut cobble_engine::Session, run: cobble_engine::Execution| {
            let _ = session;
            let mut run = run;
            let mut all = Vec::new();
            while let Some(batch) = run.next().await.unwrap() {
                for row in 0..batch.num_rows() {
                    let text = |c: &arrow::array::ArrayRef| {
                        plain(&cobble_types::array_value_text(c.as_ref(), row).unwrap_or_default())
                    };
                    all.push(batch.columns().iter().map(text).collect::<Vec<_>>());
                }
            }
            all
        };
        let prepared = session.prepare(sql, &[]).await.unwrap();
        let texts: Vec<Option<String>> = values.iter().map(|v| Some((*v).to_owned())).collect();
        let values = prepared.values(&texts).unwrap();
        let run = session.run_prepared(&prepared, &values, &cancel).await.unwrap();
        let got = rows(&mut session, run).await;
        let run = session.run_text(constant, &cancel).await.unwrap();
        assert_eq!(got, rows(&mut session, run).await, "{sql}");
    }
}
