//! What samples of files tell the planner, by the plans that come of it.

use std::path::Path;

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, PlanDocument, Session};
use tokio_util::sync::CancellationToken;

/// Berths by quay and number, which together are the key, and calls at them. On even days no vessel is late.
const TABLES: &str = "
    CREATE TABLE berths AS SELECT n / 40 AS quay, n % 40 AS number, n % 7 AS depth FROM generate_series(0, 19999) s(n);
    CREATE TABLE calls AS SELECT n % 500 AS quay, n * 7 / 500 % 40 AS number, n % 10 AS day, n % 2 * 5 AS late,
      'call of vessel ' || n AS note FROM generate_series(0, 59999) s(n)";

fn session(folder: &Path) -> Session {
    let engine = Engine::in_memory().unwrap();
    let mut files = ConnectionDefinition::new("pier_files", "files", folder.display().to_string());
    files.options.insert("writable".into(), "true".into());
    engine.add_connection(files).unwrap();
    engine.add_catalog(CatalogDefinition::new("pier", "pier_files")).unwrap();
    let mut session = engine.session();
    session.use_place("pier", None).unwrap();
    session
}

async fn run(session: &mut Session, sql: &str) -> Option<PlanDocument> {
    let mut execution = session.run_text(sql, &CancellationToken::new()).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
    while execution.next().await.unwrap_or_else(|e| panic!("{sql}: {e}")).is_some() {}
    execution.plan()
}

/// Of the first step whose text begins so the rows that were expected, and those that came.
async fn expected(session: &mut Session, sql: &str, step: &str) -> (f64, f64) {
    let plan = run(session, sql).await.unwrap();
    let found = plan.steps.iter().find(|one| one.text.starts_with(step));
    let found = found.unwrap_or_else(|| panic!("{sql}: no {step} among {:#?}", plan.steps));
    (found.estimated_rows, found.measure.as_ref().unwrap().rows as f64)
}

#[track_caller]
fn assert_near((expected, came): (f64, f64)) {
    assert!(expected < 2.0 * came && came < 2.0 * expected, "{expected} expected, {came} came");
}

#[tokio::test(flavor = "multi_thread")]
async fn samples_tell_how_columns_go_together() {
    let folder = tempfile::tempdir().unwrap();
    let mut session = session(folder.path());
    run(&mut session, TABLES).await;
    let keyed = "SELECT count(*) FROM calls c JOIN berths b ON b.quay = c.quay AND b.number = c.number";
    assert_near(expected(&mut session, keyed, "join").await);
    assert_near(expected(&mut session, &format!("{keyed} WHERE c.note LIKE '%7%'"), "join").await);
    for condition in ["day = 4 AND late = 0", "day % 2 = 1 AND late > 0", "note LIKE '%13%' OR late = 5"] {
        let sql = format!("SELECT quay FROM calls WHERE {condition}");
        assert_near(expected(&mut session, &sql, "gate").await);
    }
    let groups = "SELECT quay, number, count(*) FROM berths GROUP BY quay, number";
    assert_near(expected(&mut session, groups, "group").await);
    // Without samples, conditions that go together are taken for independent.
    session.set("planner.off", "samples").unwrap();
    let (guess, came) = expected(&mut session, "SELECT quay FROM calls WHERE day = 4 AND late = 0", "gate").await;
    assert!(guess < came / 1.5, "{guess} expected, {came} came");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sample_is_that_of_the_files_as_they_are_now() {
    let folder = tempfile::tempdir().unwrap();
    let mut session = session(folder.path());
    let sql = "SELECT n FROM tides WHERE height % 5 = 3";
    run(&mut session, "CREATE TABLE tides AS SELECT n, 3 AS height FROM generate_series(1, 20000) s(n)").await;
    assert_near(expected(&mut session, sql, "gate").await);
    run(&mut session, "INSERT INTO tides SELECT n, 4 FROM generate_series(1, 180000) s(n)").await;
    assert_near(expected(&mut session, sql, "gate").await);
}

/// Deciding it over the sample would take 400 GB.
#[tokio::test(flavor = "multi_thread")]
async fn planning_makes_no_more_than_it_may() {
    let folder = tempfile::tempdir().unwrap();
    let mut session = session(folder.path());
    run(&mut session, TABLES).await;
    let plan = session.plan_text("SELECT quay FROM calls WHERE length(repeat(note, 10000000)) > 5").await.unwrap();
    assert_eq!(plan.gates.len(), 1);
}
