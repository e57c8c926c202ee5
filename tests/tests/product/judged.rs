//! Lists of statements that go to the engine and to PostgreSQL: where one answers, both give the same rows; where PostgreSQL
//! refuses, the engine refuses with an error of the same class.

use std::time::Duration;

use cobble_tests::{in_engine, judged, language_judge};

/// What became of a statement: its rows, or the class of its error (the first two characters of the SQLSTATE).
pub type Outcome = Result<Vec<String>, (String, String)>;

async fn of_judge(judge: &tokio_postgres::Client, sql: &str) -> Outcome {
    judged(judge, sql).await.map_err(told)
}

/// The class of an error of the judge, and what it says.
pub fn told(error: tokio_postgres::Error) -> (String, String) {
    match error.as_db_error() {
        Some(own) => (own.code().code()[..2].to_owned(), own.message().to_owned()),
        None => ("".to_owned(), error.to_string()),
    }
}

async fn of_engine(sql: &str) -> Outcome {
    match tokio::time::timeout(Duration::from_secs(60), in_engine(sql)).await {
        Ok(outcome) => outcome.map_err(|e| (e.code.sqlstate()[..2].to_owned(), e.to_string())),
        Err(_) => Err(("".to_owned(), "no answer within a minute".to_owned())),
    }
}

/// What to say of an answer that took far longer than the judge's. Builds without optimisation are not measured.
pub fn too_slow(own: Duration, judge: Duration) -> Option<String> {
    let slow = !cfg!(debug_assertions) && own > Duration::from_secs(1) && own > judge * 20;
    slow.then(|| format!("took {own:.1?} where the judge took {judge:.1?}"))
}

fn same(sql: &str, got: &Outcome, wanted: &Outcome) -> bool {
    let sorted = |rows: &[String]| {
        let mut rows = rows.to_vec();
        rows.sort();
        rows
    };
    match (got, wanted) {
        (Ok(got), Ok(wanted)) if sql.to_lowercase().contains("order by") => got == wanted,
        (Ok(got), Ok(wanted)) => sorted(got) == sorted(wanted),
        (Err((got, _)), Err((wanted, _))) => got == wanted,
        _ => false,
    }
}

async fn compare(list: &str) {
    let judge = language_judge().await;
    judge.batch_execute("SET statement_timeout = '20s'").await.expect("set");
    let (mut report, mut count, mut differs) = (Vec::new(), 0, None);
    for line in list.lines() {
        if let Some(why) = line.strip_prefix("-- differs: ") {
            differs = Some(why);
        }
        if line.starts_with("--") {
            continue;
        }
        count += 1;
        let (got, wanted) = (of_engine(line).await, of_judge(&judge, line).await);
        match (same(line, &got, &wanted), differs.take()) {
            (true, Some(why)) => report.push(format!("{line}\n  differs no more: {why}")),
            (false, None) => report.push(format!("{line}\n  got    {got:?}\n  wanted {wanted:?}")),
            _ => {}
        }
    }
    assert!(report.is_empty(), "{} of {count} differ\n\n{}", report.len(), report.join("\n\n"));
}

/// Errors with the whole SQLSTATE.
#[tokio::test(flavor = "multi_thread")]
async fn codes() {
    let judge = language_judge().await;
    let mut report = Vec::new();
    for line in include_str!("judged/codes.sql").lines() {
        let wanted = judged(&judge, line).await.expect_err(line);
        let wanted = wanted.code().map_or_else(|| wanted.to_string(), |code| code.code().to_owned());
        match in_engine(line).await {
            Err(error) if error.code.sqlstate() == wanted => {}
            other => report.push(format!("{line}\n  got    {other:?}\n  wanted {wanted}")),
        }
    }
    assert!(report.is_empty(), "{} differ\n\n{}", report.len(), report.join("\n\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn clauses() {
    compare(include_str!("judged/clauses.sql")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn functions() {
    compare(include_str!("judged/functions.sql")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn inputs() {
    compare(include_str!("judged/inputs.sql")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn plans() {
    compare(include_str!("judged/plans.sql")).await;
}
