//! Edges of the language over constant relations with nulls, duplicates, extremes and nothing: the same text goes to the
//! engine and to PostgreSQL.

use cobble_tests::{judge, judged, ours, over_http};

const RELATIONS: &str = "WITH a(k, v, t) AS (VALUES (1, 10, 'x'), (1, 20, 'y'), (2, null, 'x'), (null, 30, null), (3, 40, ''), (null, null, 'z')), \
    b(k, w) AS (VALUES (1, 1.5), (1, 2.5), (2, null), (4, 4.0), (null, 9.0)), \
    none(k, w) AS (SELECT k, w FROM (VALUES (1, 1.0)) x(k, w) WHERE false), \
    wide(n, d, s) AS (VALUES (9223372036854775807, 0.000001, 'Ä'), (-9223372036854775808, -99999999.999999, 'a'), (0, 0, 'A'), (null, null, null)) ";

const STATEMENTS: &[&str] = &[
    "SELECT a.k, a.v, b.w FROM a JOIN b ON a.k = b.k",
    "SELECT a.k, a.v, b.w FROM a LEFT JOIN b ON a.k = b.k",
    "SELECT a.k, a.v, b.w FROM b LEFT JOIN a ON a.k = b.k",
    "SELECT a.k, b.k, b.w FROM a RIGHT JOIN b ON a.k = b.k",
    "SELECT a.k, b.k, a.v, b.w FROM a FULL JOIN b ON a.k = b.k",
    "SELECT a.k, a.v, b.w FROM a LEFT JOIN b ON a.k = b.k AND b.w > 2",
    "SELECT a.k, a.v, b.w FROM a FULL JOIN b ON a.k = b.k AND a.v > 15",
    "SELECT a.k, b.k FROM a JOIN b ON a.k < b.k",
    "SELECT a.k, b.k FROM a LEFT JOIN b ON a.k > b.k + 1",
    "SELECT a.k, b.w FROM a CROSS JOIN b",
    "SELECT a.k, n.w FROM a LEFT JOIN none n ON a.k = n.k",
    "SELECT a.k, n.w FROM none n RIGHT JOIN a ON a.k = n.k",
    "SELECT n.w FROM none n JOIN a ON true",
    "SELECT k FROM a WHERE k IN (SELECT k FROM b)",
    "SELECT k FROM a WHERE k NOT IN (SELECT k FROM b)",
    "SELECT k FROM a WHERE k NOT IN (SELECT k FROM b WHERE k IS NOT NULL)",
    "SELECT k FROM a WHERE k NOT IN (SELECT k FROM none)",
    "SELECT k FROM a WHERE EXISTS (SELECT 1 FROM b WHERE b.k = a.k AND b.w > a.v / 10)",
    "SELECT k FROM a WHERE NOT EXISTS (SELECT 1 FROM b WHERE b.k = a.k)",
    "SELECT k FROM a WHERE EXISTS (SELECT 1 FROM none)",
    "SELECT k FROM a WHERE NOT EXISTS (SELECT 1 FROM none)",
    "SELECT k, count(*), count(v), sum(v), avg(v), min(v), max(t) FROM a GROUP BY k",
    "SELECT t, count(DISTINCT k), sum(DISTINCT v) FROM a GROUP BY t",
    "SELECT count(*), sum(k), avg(w), min(w), max(k) FROM none",
    "SELECT k, count(*) FROM none GROUP BY k",
    "SELECT count(*) FILTER (WHERE v > 15), sum(v) FILTER (WHERE k IS NULL) FROM a",
    "SELECT k IS NULL, bool_and(v > 5), bool_or(v > 35) FROM a GROUP BY 1",
    "SELECT k + 1 AS n, count(*) FROM a GROUP BY k + 1 HAVING sum(v) > 10",
    "SELECT DISTINCT k, t IS NULL FROM a",
    "SELECT k, v FROM a ORDER BY k, v",
    "SELECT k, v FROM a ORDER BY k DESC, v NULLS FIRST",
    "SELECT k, v FROM a ORDER BY k NULLS FIRST, v DESC NULLS LAST LIMIT 3",
    "SELECT t FROM a ORDER BY t LIMIT 4 OFFSET 1",
    "SELECT k FROM a UNION SELECT k FROM b",
    "SELECT k, v FROM a UNION ALL SELECT k, w FROM b",
    "SELECT k FROM a ORDER BY v LIMIT 0",
    "SELECT (SELECT max(w) FROM b), (SELECT w FROM none), count(*) FROM a",
    "SELECT k, v FROM a WHERE v > (SELECT avg(w) FROM b)",
    "SELECT CASE k WHEN 1 THEN 'one' WHEN 2 THEN 'two' END, count(*) FROM a GROUP BY 1",
    "SELECT coalesce(v, k, -1), nullif(k, 1), greatest(k, v), least(k, v) FROM a",
    "SELECT k IN (1, 2), k IN (1, null), k NOT IN (1, null), v BETWEEN 10 AND 20 FROM a",
    "SELECT k = 1 AND v > 10, k = 1 OR v > 10, NOT k = 1, (k = 1) IS TRUE, (k = 1) IS NOT FALSE FROM a",
    "SELECT k IS DISTINCT FROM v, k IS NOT DISTINCT FROM null FROM a",
    "SELECT t || 'q', t LIKE 'x%', upper(t), length(t), t = '' FROM a",
    "SELECT v / 3, v % 7, -v, v * 1.5, v / 4.0, round(v / 7.0, 3) FROM a",
    "SELECT n, d, n::numeric(38,0) - 1, d * 2, -d, abs(d), d::integer FROM wide WHERE n < 0 OR n IS NULL OR n = 0",
    "SELECT sum(n), avg(d), min(n), max(d), min(s COLLATE \"C\") FROM wide",
    "SELECT x.k, y.n FROM (SELECT k, sum(v) AS s FROM a GROUP BY k) x JOIN (SELECT k, count(*) AS n FROM b GROUP BY k) y USING (k)",
    "SELECT p.k, q.k, r.k FROM a p JOIN a q ON p.k = q.k JOIN b r ON r.k = q.k WHERE p.v < q.v",
    "SELECT date '2024-02-29' + k * 365, timestamp '2024-02-29 23:59:59.5' + interval '1 year 1 day' FROM a",
    "SELECT extract(epoch from timestamp '1969-12-31 23:59:59'), extract(week from date '2024-12-30'), date_trunc('week', timestamp '2025-01-01 10:00')",
    "SELECT cast('  12 ' as integer), '1.005'::numeric(6,2), 1e3, '2025-07-01 10:00+02'::timestamptz, 'yes'::boolean",
    "SELECT 1 / k FROM a WHERE k <> 0",
];

#[tokio::test(flavor = "multi_thread")]
async fn edges_equal_those_of_postgresql() {
    let judge = judge().await;
    for statement in STATEMENTS {
        let sql = format!("{RELATIONS}{statement}");
        let theirs = sql.replace("ORDER BY t ", "ORDER BY t COLLATE \"C\" ");
        let mut wanted = judged(&judge, &theirs).await.unwrap_or_else(|e| panic!("the judge refuses {statement}: {e}"));
        let ours_sql = sql.replace(" COLLATE \"C\"", "");
        let mut got = ours(&over_http(&ours_sql).await.unwrap_or_else(|e| panic!("{statement}: {e}")));
        if !statement.contains("ORDER BY") {
            got.sort();
            wanted.sort();
        }
        assert_eq!(got, wanted, "{statement}");
    }
}

/// What PostgreSQL refuses, the engine refuses with the same SQLSTATE.
#[tokio::test(flavor = "multi_thread")]
async fn errors_have_the_state_that_postgresql_gives_them() {
    let judge = judge().await;
    for sql in [
        "SELECT 1 / 0",
        "SELECT 1 % 0",
        "SELECT 1.0 / 0",
        "SELECT 2147483647 + 1",
        "SELECT 9223372036854775807 + 1",
        "SELECT 40000::smallint",
        "SELECT 1e10::integer",
        "SELECT nothing",
        "SELECT count(*) FROM (VALUES (1)) x(a) GROUP BY b",
        "SELECT a FROM (VALUES (1)) x(a), (VALUES (2)) y(a)",
        "SELECT a, count(*) FROM (VALUES (1)) x(a)",
        "SELECT sum(count(*)) FROM (VALUES (1)) x(a)",
        "SELECT 1 +",
    ] {
        let wanted = judge.simple_query(sql).await.unwrap_err();
        let wanted = wanted.code().expect("an error of the server").code().to_owned();
        let got = over_http(sql).await.unwrap_err();
        assert_eq!(got["sqlstate"], wanted.as_str(), "{sql}: {got}");
    }
}
