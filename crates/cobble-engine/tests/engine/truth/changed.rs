//! Rows that UPDATE and DELETE change in a database: what is read afterwards is what the engine computes from the rows before, each
//! statement is all or nothing, and what cannot be handed over whole changes nothing.

use std::time::Duration;

use cobble_engine::Session;
use cobble_types::Code;
use tokio_util::sync::CancellationToken;

use super::answer;

async fn rows(session: &mut Session, sql: &str) -> Vec<String> {
    answer(session, sql).await.unwrap_or_else(|e| panic!("{sql}: {e}")).0
}

/// Panics with the rows that only one side has.
fn same(found: &[String], wanted: &[String], sql: &str) {
    let less =
        |a: &[String], b: &[String]| a.iter().filter(|row| !b.contains(row)).take(5).cloned().collect::<Vec<_>>();
    let (more, missing) = (less(found, wanted), less(wanted, found));
    assert!(
        found == wanted,
        "{sql}: {} and {} rows, not wanted {more:?}, missing {missing:?}",
        found.len(),
        wanted.len()
    );
}

/// A statement, how many rows it changes, and the query over `kept` as it was that gives the rows as they are then.
type Case = (&'static str, &'static str, &'static str);

const CASES: &[Case] = &[
    ("UPDATE kept SET urgency = 5 WHERE id <= 10", "id <= 10", "id, vessel_id, kind, 5, cost, note"),
    (
        "UPDATE kept SET note = 'it''s \"done\" \\', cost = 12.50 WHERE kind = 'hull'",
        "kind = 'hull'",
        "id, vessel_id, kind, urgency, 12.50, 'it''s \"done\" \\'",
    ),
    (
        "UPDATE kept SET urgency = vessel_id, vessel_id = urgency WHERE id > 100",
        "id > 100",
        "id, urgency, kind, vessel_id, cost, note",
    ),
    (
        "UPDATE kept k SET kind = k.note, note = k.kind WHERE k.note IS NOT NULL AND k.urgency IN (1, 2)",
        "note IS NOT NULL AND urgency IN (1, 2)",
        "id, vessel_id, note, urgency, cost, kind",
    ),
    (
        "UPDATE kept SET note = CASE WHEN urgency > 2 THEN 'soon' ELSE note END",
        "true",
        "id, vessel_id, kind, urgency, cost, CASE WHEN urgency > 2 THEN 'soon' ELSE note END",
    ),
    (
        "UPDATE kept SET note = null WHERE note LIKE '%a%' AND NOT kind = 'hull'",
        "note LIKE '%a%' AND NOT kind = 'hull'",
        "id, vessel_id, kind, urgency, cost, null",
    ),
    (
        "UPDATE kept SET urgency = 9 WHERE vessel_id IN (SELECT vessel_id FROM crew WHERE size > 4)",
        "vessel_id IN (SELECT vessel_id FROM crew WHERE size > 4)",
        "id, vessel_id, kind, 9, cost, note",
    ),
    (
        "UPDATE kept SET urgency = c.size, note = c.name FROM crew c WHERE c.vessel_id = kept.vessel_id AND c.size < 6",
        "vessel_id IN (SELECT vessel_id FROM crew WHERE size < 6)",
        "id, vessel_id, kind, (SELECT size FROM crew c WHERE c.vessel_id = kept.vessel_id), cost, (SELECT name FROM crew c WHERE c.vessel_id = kept.vessel_id)",
    ),
    (
        "UPDATE kept SET urgency = (SELECT max(size) FROM crew c WHERE c.vessel_id = kept.vessel_id)",
        "true",
        "id, vessel_id, kind, (SELECT max(size) FROM crew c WHERE c.vessel_id = kept.vessel_id), cost, note",
    ),
    (
        "UPDATE kept SET urgency = 7 WHERE id IN (SELECT id FROM kept WHERE urgency = 3) AND id < 300",
        "urgency = 3 AND id < 300",
        "id, vessel_id, kind, 7, cost, note",
    ),
    ("UPDATE kept SET urgency = 7 WHERE false", "false", "id, vessel_id, kind, 7, cost, note"),
    ("UPDATE kept SET vessel_id = urgency, urgency = 1 + 1 WHERE id = 7", "id = 7", "id, urgency, kind, 2, cost, note"),
];

const COLUMNS: &str = "id, vessel_id, kind, urgency, cost, note";

/// In a session that may write, at a source that gives changed rows back or does not, on tables that `make` makes: `kept` with the id as its key, and `crew` with one row for most vessels.
pub async fn check(mut session: Session, kind_of_key: &str, returns: bool) {
    let session = &mut session;
    let fill = format!("INSERT INTO kept SELECT {COLUMNS} FROM tides.creek.work_orders");
    rows(session, &fill).await;
    rows(session, "INSERT INTO crew VALUES (1, 3, 'Anna'), (2, 5, 'Bo'), (3, 6, null), (4, 4, 'Dee'), (5, 9, 'Ed')")
        .await;
    let found = rows(session, "SELECT count(*) > 300, count(DISTINCT kind) > 1, count(note) > 0 FROM kept").await;
    assert_eq!(found, ["true|true|true"]);
    for (sql, condition, after) in CASES {
        let changed = rows(session, &format!("SELECT count(*) FROM kept WHERE {condition}")).await;
        let rest = format!("SELECT {COLUMNS} FROM kept WHERE ({condition}) IS NOT TRUE");
        let mut wanted = rows(session, &format!("SELECT {after} FROM kept WHERE {condition}")).await;
        wanted.extend(rows(session, &rest).await);
        wanted.sort();
        let answered = rows(session, sql).await;
        assert!(answered[0].ends_with(&format!(".kept|{}", changed[0])), "{sql}: {answered:?}, not {changed:?}");
        same(&rows(session, &format!("SELECT {COLUMNS} FROM kept")).await, &wanted, sql);
        rows(session, "DELETE FROM kept").await;
        rows(session, &fill).await;
    }
    deletes(session, &fill).await;
    returning(session, &fill, returns).await;
    refuses(session, kind_of_key).await;
    plan(session).await;
    cancelled(session).await;
}

/// The same for a table whose rows are found here, `kept` beside `crew`: what a database refuses is done.
pub async fn check_here(session: &mut Session) {
    let fill = format!("INSERT INTO kept SELECT {COLUMNS} FROM tides.creek.work_orders");
    rows(session, &fill).await;
    rows(session, "INSERT INTO crew VALUES (1, 3, 'Anna'), (2, 5, 'Bo'), (3, 6, null), (4, 4, 'Dee'), (5, 9, 'Ed')")
        .await;
    let here: &[Case] = &[(
        "UPDATE kept SET urgency = w.urgency + 1, note = 'from another catalog' FROM tides.creek.work_orders w WHERE w.id = kept.id AND w.id % 5 = 0",
        "id % 5 = 0",
        "id, vessel_id, kind, urgency + 1, cost, 'from another catalog'",
    )];
    for (sql, condition, after) in CASES.iter().chain(here) {
        let mut wanted = rows(session, &format!("SELECT {after} FROM kept WHERE {condition}")).await;
        let returned = wanted.clone();
        wanted.extend(rows(session, &format!("SELECT {COLUMNS} FROM kept WHERE ({condition}) IS NOT TRUE")).await);
        wanted.sort();
        let listed = if sql.contains("FROM crew c") || sql.contains("FROM tides") { "kept.*" } else { "*" };
        same(&rows(session, &format!("{sql} RETURNING {listed}")).await, &returned, sql);
        same(&rows(session, &format!("SELECT {COLUMNS} FROM kept")).await, &wanted, sql);
        rows(session, "TRUNCATE kept").await;
        rows(session, &fill).await;
        let changed = rows(session, &format!("SELECT count(*) FROM kept WHERE {condition}")).await;
        let answered = rows(session, sql).await;
        assert!(answered[0].ends_with(&format!(".kept|{}", changed[0])), "{sql}: {answered:?}, not {changed:?}");
        rows(session, "DELETE FROM kept").await;
        rows(session, &fill).await;
    }
    deletes(session, &fill).await;
    added(session).await;
    for (sql, query) in [
        (
            "DELETE FROM kept k WHERE k.urgency = 1 RETURNING k.id * 2 AS twice, upper(kind) || coalesce(note, '-'), cost + 1",
            "SELECT id * 2, upper(kind) || coalesce(note, '-'), cost + 1 FROM kept WHERE urgency = 1",
        ),
        ("DELETE FROM kept WHERE urgency = 2 RETURNING 7", "SELECT 7 FROM kept WHERE urgency = 2"),
        ("DELETE FROM kept WHERE false RETURNING id", "SELECT id FROM kept WHERE false"),
    ] {
        let wanted = rows(session, query).await;
        same(&rows(session, sql).await, &wanted, sql);
    }
    rows(session, "DELETE FROM kept").await;
    rows(session, &fill).await;
    let before = rows(session, "SELECT * FROM kept").await;
    for (sql, expected) in [
        ("UPDATE kept SET id = null WHERE id < 10", "column id takes no null"),
        ("UPDATE kept SET urgency = 1 RETURNING id / (id - 7)", "division by zero"),
        ("UPDATE kept SET urgency = id / (id - 7)", "division by zero"),
        ("UPDATE kept SET nothing = 1", "there is no column named \"nothing\""),
        ("UPDATE kept SET urgency = 1, urgency = 2", "urgency is set twice"),
        ("UPDATE kept SET cost = true", "cost is"),
        ("DELETE FROM kept RETURNING count(*)", "expressions over the changed row"),
    ] {
        let error = answer(session, sql).await.map(|(rows, _)| rows).unwrap_err().to_string();
        assert!(error.contains(expected), "{sql}: {error}");
        same(&rows(session, "SELECT * FROM kept").await, &before, sql);
    }
    cancelled(session).await;
}

async fn deletes(session: &mut Session, fill: &str) {
    for (sql, left) in [
        ("DELETE FROM kept WHERE kind = 'hull'", "kind IS DISTINCT FROM 'hull'"),
        ("DELETE FROM kept AS k WHERE k.urgency IS NULL OR k.urgency > 2", "NOT (urgency IS NULL OR urgency > 2)"),
        (
            "DELETE FROM kept WHERE NOT EXISTS (SELECT 1 FROM crew c WHERE c.vessel_id = kept.vessel_id)",
            "vessel_id <= 5",
        ),
        ("DELETE FROM kept USING crew WHERE crew.vessel_id = kept.vessel_id AND crew.name = 'Bo'", "vessel_id <> 2"),
        (
            "DELETE FROM kept WHERE id IN (SELECT max(id) FROM kept GROUP BY vessel_id)",
            "id NOT IN (SELECT max(id) FROM kept GROUP BY vessel_id)",
        ),
    ] {
        let wanted = rows(session, &format!("SELECT * FROM kept WHERE {left}")).await;
        let all: usize = rows(session, "SELECT count(*) FROM kept").await[0].parse().unwrap();
        let answered = rows(session, sql).await;
        assert!(answered[0].ends_with(&format!("|{}", all - wanted.len())), "{sql}: {answered:?}");
        same(&rows(session, "SELECT * FROM kept").await, &wanted, sql);
        rows(session, "DELETE FROM kept").await;
        rows(session, fill).await;
    }
}

/// The changed rows come back as they have become, deleted ones as they were; a source that has no such thing says so, and nothing is
/// changed.
async fn returning(session: &mut Session, fill: &str, returns: bool) {
    added(session).await;
    let before = rows(session, "SELECT * FROM kept").await;
    if !returns {
        let error = answer(session, "DELETE FROM kept RETURNING id").await.map(|(rows, _)| rows).unwrap_err();
        assert!(error.message.contains("gives no changed rows back"), "{error}");
        return same(&rows(session, "SELECT * FROM kept").await, &before, "RETURNING");
    }
    for (sql, condition, after) in CASES {
        let wanted = rows(session, &format!("SELECT {after} FROM kept WHERE {condition}")).await;
        let sql = format!("{sql} RETURNING {}", if sql.contains("crew") { "kept.*" } else { "*" });
        same(&rows(session, &sql).await, &wanted, &sql);
        rows(session, "DELETE FROM kept").await;
        rows(session, fill).await;
    }
    for (sql, query) in [
        (
            "DELETE FROM kept k WHERE k.urgency = 1 RETURNING k.id * 2 AS twice, upper(kind) || coalesce(note, '-'), cost + 1",
            "SELECT id * 2, upper(kind) || coalesce(note, '-'), cost + 1 FROM kept WHERE urgency = 1",
        ),
        ("DELETE FROM kept WHERE urgency = 2 RETURNING 7", "SELECT 7 FROM kept WHERE urgency = 2"),
        ("DELETE FROM kept WHERE id < 0 RETURNING id", "SELECT id FROM kept WHERE id < 0"),
        ("DELETE FROM kept WHERE false RETURNING id", "SELECT id FROM kept WHERE false"),
        (
            "DELETE FROM kept USING crew WHERE crew.vessel_id = kept.vessel_id AND crew.name = 'Bo' RETURNING id, note",
            "SELECT id, note FROM kept WHERE vessel_id = 2",
        ),
    ] {
        let wanted = rows(session, query).await;
        same(&rows(session, sql).await, &wanted, sql);
    }
    rows(session, "DELETE FROM kept").await;
    rows(session, fill).await;
    for (sql, expected) in [
        ("DELETE FROM kept RETURNING nothing", "there is no column named \"nothing\""),
        ("DELETE FROM kept RETURNING count(*)", "expressions over the changed row"),
        ("DELETE FROM kept RETURNING row_number() OVER ()", "expressions over the changed row"),
        ("DELETE FROM kept RETURNING (SELECT max(size) FROM crew)", "a subquery in RETURNING"),
        ("UPDATE kept SET urgency = random() * 5 RETURNING id", "stay in the engine: projection"),
        ("UPDATE kept SET urgency = 1 RETURNING id / (id - 7)", "division by zero"),
        ("DELETE FROM kept RETURNING kind::integer", "is not a valid integer"),
    ] {
        let error = answer(session, sql).await.map(|(rows, _)| rows).unwrap_err().to_string();
        assert!(error.contains(expected), "{sql}: {error}");
        same(&rows(session, "SELECT * FROM kept").await, &before, sql);
    }
    let sql = "UPDATE kept SET urgency = 1 WHERE id = 7 RETURNING id, cost";
    let shown = session.plan_text(&format!("EXPLAIN {sql}")).await.unwrap();
    same(&rows(session, "SELECT * FROM kept").await, &before, sql);
    let (_, ran) = answer(session, sql).await.unwrap();
    let gate = &ran.unwrap().gates[0];
    assert!(gate.request.text.contains(" RETURNING "), "{:?}", gate.request);
    assert_eq!(gate.request, shown.gates[0].request);
    assert_eq!(gate.measure.as_ref().map(|measure| measure.rows), Some(1));
    rows(session, "DELETE FROM kept").await;
    rows(session, fill).await;
}

/// Added rows come back as the source keeps them, with what it has filled in itself.
async fn added(session: &mut Session) {
    let before = rows(session, "SELECT * FROM kept").await;
    let some = "SELECT id + 100000, vessel_id, kind, urgency, cost, note FROM kept WHERE urgency = 1";
    for (sql, query) in [
        (format!("INSERT INTO kept {some} RETURNING *"), some),
        (
            "INSERT INTO kept (id, kind) VALUES (900001, 'hull'), (900002, 'deck') RETURNING id - 1, upper(kind) AS k, note, cost".to_owned(),
            "SELECT id - 1, upper(kind), note, cost FROM kept WHERE id > 900000",
        ),
        (
            "INSERT INTO kept (id, kind) SELECT id + 700000, 'x' FROM kept WHERE false RETURNING id".to_owned(),
            "SELECT id FROM kept WHERE id > 700000 AND id < 900000",
        ),
        ("INSERT INTO kept (id, kind) VALUES (900003, 'rope') RETURNING 5".to_owned(), "SELECT 5"),
    ] {
        let wanted = rows(session, query).await;
        let (found, _) = answer(session, &sql).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
        let wanted = if sql.contains("900001") { rows(session, query).await } else { wanted };
        same(&found, &wanted, &sql);
    }
    let count = rows(session, "SELECT count(*) FROM kept WHERE id > 100000").await;
    assert_eq!(rows(session, "SELECT count(*) + 3 FROM kept WHERE urgency = 1 AND id < 100000").await, count);
    for (sql, expected) in [
        ("INSERT INTO kept (id, kind) VALUES (900009, 'rope') RETURNING 1 / (id - 900009)", "division by zero"),
        ("INSERT INTO kept (id, kind) VALUES (900009, 'rope') RETURNING nothing", "there is no column named"),
        ("INSERT INTO kept (id, kind) VALUES (900009, 'rope') RETURNING count(*)", "expressions over the changed row"),
        ("INSERT INTO kept (id, kind) VALUES (900009, 'rope') RETURNING", "expected"),
    ] {
        let error = answer(session, sql).await.map(|(rows, _)| rows).unwrap_err().to_string();
        assert!(error.contains(expected), "{sql}: {error}");
        assert_eq!(rows(session, "SELECT count(*) FROM kept WHERE id = 900009").await, ["0"], "{sql}");
    }
    rows(session, "DELETE FROM kept WHERE id > 100000").await;
    same(&rows(session, "SELECT * FROM kept").await, &before, "INSERT … RETURNING");
}

/// Nothing is changed by what fails, whenever it fails.
async fn refuses(session: &mut Session, kind_of_key: &str) {
    let before = rows(session, "SELECT * FROM kept").await;
    let twice = "UPDATE kept SET urgency = c.size FROM (SELECT vessel_id, size FROM crew UNION ALL SELECT 1, 8) c WHERE c.vessel_id = kept.vessel_id";
    for (sql, expected) in [
        ("UPDATE kept SET id = 1 WHERE id < 10", kind_of_key),
        (
            "UPDATE kept SET urgency = o.urgency FROM kept o WHERE o.kind = kept.kind",
            "a row cannot be set to several values",
        ),
        (twice, "stay in the engine|several values"),
        ("UPDATE kept SET urgency = random() * 5", "stay in the engine: projection"),
        ("UPDATE kept SET urgency = 1 WHERE note SIMILAR TO '(a|b)+'", "stay in the engine: filter"),
        (
            "UPDATE kept SET urgency = 1 WHERE id IN (SELECT id FROM tides.creek.work_orders)",
            "it needs tables of the connections",
        ),
        ("DELETE FROM kept USING tides.creek.work_orders w WHERE w.id = kept.id", "it needs tables of the connections"),
        ("UPDATE kept SET nothing = 1", "there is no column named \"nothing\""),
        ("UPDATE kept SET urgency = 1, urgency = 2", "urgency is set twice"),
        ("UPDATE kept SET urgency = 'many'", "many"),
        ("UPDATE kept SET cost = true", "cost is"),
        ("UPDATE kept SET (urgency, note) = (1, 'x')", "write each one alone"),
        ("UPDATE missing SET urgency = 1", "there is no table"),
        ("DELETE FROM tides.creek.work_orders", "cannot be changed"),
        ("DELETE FROM kept LIMIT 3", "LIMIT"),
        ("UPDATE lane.state.runs SET text = ''", "is not supported"),
    ] {
        let error = answer(session, sql).await.map(|(rows, _)| rows).unwrap_err().to_string();
        assert!(expected.split('|').any(|part| error.contains(part)), "{sql}: {error}");
        same(&rows(session, "SELECT * FROM kept").await, &before, sql);
    }
}

/// What EXPLAIN shows is what is then sent, and it sends nothing.
async fn plan(session: &mut Session) {
    let sql = "DELETE FROM kept WHERE urgency = 1";
    let before = rows(session, "SELECT count(*) FROM kept").await;
    let shown = session.plan_text(&format!("EXPLAIN {sql}")).await.unwrap();
    assert_eq!(rows(session, "SELECT count(*) FROM kept").await, before);
    assert!(shown.gates[0].request.text.starts_with("DELETE "), "{:?}", shown.gates[0].request);
    let (_, ran) = answer(session, sql).await.unwrap();
    let ran = ran.unwrap();
    assert_eq!(ran.gates[0].request, shown.gates[0].request);
    // The step counts the changed rows; none of them crossed the gate.
    let after = rows(session, "SELECT count(*) FROM kept").await;
    let count = |rows: &[String]| rows[0].parse::<u64>().unwrap();
    let gone = count(&before) - count(&after);
    assert!(gone > 0);
    assert_eq!(ran.gates[0].measure.as_ref().unwrap().rows, 0, "no row comes back");
    assert_eq!(ran.steps.last().unwrap().measure.as_ref().unwrap().rows, gone);
    // EXPLAIN ANALYZE makes the change.
    let told = rows(session, "EXPLAIN ANALYZE DELETE FROM kept WHERE urgency = 2").await;
    assert!(told.iter().any(|line| line.contains("delete from own.")), "{told:?}");
    assert_eq!(rows(session, "SELECT count(*) FROM kept WHERE urgency = 2").await, ["0"]);
}

/// A statement that is given up leaves the rows as they were, and its locks go.
async fn cancelled(session: &mut Session) {
    let before = rows(session, "SELECT * FROM kept").await;
    let cancel = CancellationToken::new();
    let slow = "UPDATE kept SET urgency = 0 WHERE (SELECT count(*) FROM kept a, kept b, kept c, kept d WHERE a.urgency = b.urgency \
                AND b.urgency = c.urgency AND c.urgency = d.urgency AND a.id <> d.id AND d.id <> kept.id) > 0";
    let mut execution = session.run_text(slow, &cancel).await.unwrap();
    let waited = tokio::time::timeout(Duration::from_millis(500), execution.next()).await;
    assert!(waited.is_err(), "it has ended already: {waited:?}");
    cancel.cancel();
    let error = execution.next().await.unwrap_err();
    assert_eq!(error.code, Code::Cancelled, "{error}");
    same(&rows(session, "SELECT * FROM kept").await, &before, slow);
    rows(session, "UPDATE kept SET urgency = 0").await;
}
