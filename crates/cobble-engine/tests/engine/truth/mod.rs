//! The truth table of a source: every fragment runs twice, as planned and with nothing handed over, and must give the same rows.

#![allow(dead_code, reason = "each test program uses a part of it")]

pub mod changed;
pub mod encryption;
pub mod moving;
pub mod random;
pub mod shapes;
pub mod tiers;
pub mod way;
pub mod written;

use std::fmt::Write;

use cobble_engine::{ConnectionDefinition, Engine, PlanDocument, Session, TestStep};
use cobble_plan::offer::Verdict;
use cobble_types::{Code, Error, array_value_text};
use tokio_util::sync::CancellationToken;

const OFF: &str = "push-filters,prune-columns,offer-joins,offer-aggregates,offer-windows,offer-unions,offer-top-n,offer-sorts,push-limit,key-pass,infer-filters";

/// Rows in order of their text, and the plan with what was measured.
pub async fn answer(session: &mut Session, sql: &str) -> Result<(Vec<String>, Option<PlanDocument>), Error> {
    let mut execution = session.run_text(sql, &CancellationToken::new()).await?;
    let mut rows = Vec::new();
    while let Some(batch) = execution.next().await? {
        for row in 0..batch.num_rows() {
            let values = batch.columns().iter().map(|c| array_value_text(c.as_ref(), row).unwrap_or("∅".into()));
            rows.push(values.collect::<Vec<_>>().join("|"));
        }
    }
    rows.sort();
    Ok((rows, execution.plan()))
}

fn shown(outcome: &Result<Vec<String>, Error>) -> String {
    match outcome {
        Ok(rows) => format!("{rows:?}"),
        Err(error) => format!("{} {}", error.code.sqlstate(), error.message),
    }
}

/// The steps of testing the way there, one in each line, under a heading.
pub async fn steps(heading: &str, definition: &ConnectionDefinition) -> String {
    steps_in(&Engine::in_memory().unwrap(), heading, definition).await
}

/// The same in an engine that has other connections.
pub async fn steps_in(engine: &Engine, heading: &str, definition: &ConnectionDefinition) -> String {
    let mut out = format!("{heading}\n");
    let mut report = |step: TestStep| {
        let fault = step.setting.map(|s| format!(" — {s}: {}", step.fix.unwrap_or_default())).unwrap_or_default();
        let _ = writeln!(out, "  {} {}: {}{fault}", if step.passed { "ok" } else { "FAILED" }, step.step, step.detail);
    };
    if let Err(error) = engine.test_connection(definition, &Default::default(), &mut report).await {
        let _ = writeln!(out, "  refused: {error}");
    }
    out
}

/// Fragments made at random: an answer never depends on where it was computed. Where computing fails, it may fail with one of several
/// faults, as nothing says which row or which side of a condition comes first.
pub async fn random_fragments(session: &mut Session, seed: u64, count: usize, columns: &random::Columns) {
    let (mut differing, mut pushed_whole, mut failed) = (Vec::new(), 0, 0);
    for sql in random::statements(seed, count, columns) {
        session.set("planner.off", "").unwrap();
        let pushed = answer(session, &sql).await;
        session.set("planner.off", OFF).unwrap();
        let whole = answer(session, &sql).await.map(|(rows, _)| rows);
        let is_computing =
            |e: &Error| matches!(e.code, Code::Overflow | Code::DivisionByZero | Code::InvalidValue | Code::SourceData);
        let same = match (&pushed, &whole) {
            (Ok((a, plan)), Ok(b)) => {
                pushed_whole += usize::from(kept(plan.as_ref()) == "pushed");
                a == b
            }
            (Err(a), Err(b)) => is_computing(a) && is_computing(b),
            (Err(error), Ok(_)) | (Ok(_), Err(error)) => {
                failed += 1;
                is_computing(error)
            }
        };
        if !same {
            differing.push(format!(
                "{sql}\n  handed over: {}\n  kept here:   {}",
                shown(&pushed.map(|(rows, _)| rows)),
                shown(&whole)
            ));
        }
    }
    assert!(differing.is_empty(), "seed {seed}: {} differ\n{}", differing.len(), differing.join("\n"));
    assert!(failed * 20 < count, "{failed} of {count} failed in one place alone");
    assert!(pushed_whole * 4 > count, "only {pushed_whole} of {count} were handed over whole");
}

/// What a source says of all columns of a schema at once is what it says of each table.
pub async fn described_alike(definition: &ConnectionDefinition, schema: &str) {
    let connector = cobble_engine::KINDS.connect(definition).unwrap();
    let all = connector.columns(schema).await.unwrap().expect("it tells them at once");
    let names: Vec<String> = connector.tables(schema).await.unwrap().into_iter().map(|entry| entry.name).collect();
    assert_eq!(all.iter().map(|listed| listed.table.clone()).collect::<Vec<_>>(), names);
    for listed in all {
        let table = connector.table("c", schema, &listed.table).await.unwrap().unwrap();
        assert_eq!(listed.columns, table.table.columns, "{}", listed.table);
    }
    assert_eq!(connector.columns("no such schema").await.unwrap(), Some(vec![]));
}

/// What was kept back of a statement, in words.
fn kept(plan: Option<&PlanDocument>) -> String {
    let pieces = plan.iter().flat_map(|plan| &plan.gates).flat_map(|gate| &gate.pieces);
    let kept: Vec<String> = pieces
        .filter_map(|piece| match &piece.verdict {
            Verdict::Kept { reason, note } => {
                Some(format!("{}{}", reason.words(), note.as_ref().map(|n| format!(" ({n})")).unwrap_or_default()))
            }
            _ => None,
        })
        .collect();
    if kept.is_empty() { "pushed".to_owned() } else { format!("kept: {}", kept.join("; ")) }
}

/// The table of the verdicts; panics when an answer depends on where it was computed. Errors whose hint holds `excused` are let
/// pass: they say how to get the answer.
pub async fn table(session: &mut Session, statements: &[String], excused: &str) -> String {
    let (mut table, mut differing) = (String::new(), Vec::new());
    for sql in statements {
        session.set("planner.off", "").unwrap();
        let pushed = answer(session, sql).await;
        let plan = pushed.as_ref().ok().and_then(|(_, plan)| plan.clone());
        let pushed = pushed.map(|(rows, _)| rows);
        session.set("planner.off", OFF).unwrap();
        let whole = answer(session, sql).await.map(|(rows, _)| rows);
        let same = match (&pushed, &whole) {
            (Ok(a), Ok(b)) => a == b,
            (Err(a), Err(b)) => a.code == b.code,
            (Err(a), Ok(_)) => a.hint.as_ref().is_some_and(|hint| hint.contains(excused)),
            // A value without a place in our types is no error where it need not be read.
            (Ok(_), Err(b)) => b.code == Code::SourceData,
        };
        if !same {
            differing.push(format!("{sql}\n  handed over: {}\n  kept here:   {}", shown(&pushed), shown(&whole)));
        }
        let verdict = if pushed.is_ok() { kept(plan.as_ref()) } else { shown(&pushed) };
        let _ = writeln!(table, "{sql}\n    {verdict}");
    }
    assert!(differing.is_empty(), "{} differ\n{}", differing.len(), differing.join("\n"));
    table
}

/// Asks a server again and again whose answers are changed by chance: each time there are rows, or an error that names the connection or
/// the place in the statement.
/// `COBBLE_HOSTILE` says how often.
pub async fn garbled(way: &way::Way, connection: &str, sqls: &[&str], session: impl Fn() -> Session) {
    let rounds = std::env::var("COBBLE_HOSTILE").ok().and_then(|text| text.parse().ok()).unwrap_or(40);
    let mut refused = 0;
    for round in 0..rounds {
        way.garbles(round, [300, 2_000, 20_000][round as usize % 3]);
        // One that knows nothing of the faults before.
        let mut session = session();
        let sql = sqls[round as usize % sqls.len()];
        let outcome = tokio::time::timeout(std::time::Duration::from_secs(30), answer(&mut session, sql)).await;
        if let Err(error) = outcome.unwrap_or_else(|_| panic!("round {round}: no answer and no error")) {
            refused += 1;
            assert!(error.code != cobble_types::Code::Internal, "round {round}: {error}");
            // A column of another name or type is one that the statement does not fit.
            let named = error.position.is_some() || error.to_string().contains(connection);
            assert!(named, "round {round}: {error:?}");
        }
        way.mend();
        way.close_all();
    }
    assert!(refused > 0, "nothing was changed");
}
