//! Tables in two tiers, the recent rows in a database and the older ones in a lake: whatever is moved, stopped and inserted in the meantime, each
//! row is seen once.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, KnownView, Session, UserView};
use cobble_plan::{TierMove, Tiers};
use cobble_types::Code;
use rand::{Rng, SeedableRng};
use tokio_util::sync::CancellationToken;

use super::answer;

const ROWS: u64 = 3_000;

struct Tiered {
    engine: Arc<Engine>,
    schema: String,
    /// The column of the boundary.
    by: &'static str,
    _folder: tempfile::TempDir,
}

impl Tiered {
    fn session(&self) -> Session {
        let mut session = self.engine.session();
        session.use_place("own", Some(&self.schema)).unwrap();
        session
    }

    /// The boundary before the row of this number.
    fn bound(&self, id: u64) -> String {
        match self.by {
            "id" => id.to_string(),
            _ => day_of(id),
        }
    }
}

fn day_of(id: u64) -> String {
    (chrono::NaiveDate::from_ymd_opt(2015, 1, 1).unwrap() + chrono::Days::new(id)).to_string()
}

async fn rows(session: &mut Session, sql: &str) -> Vec<String> {
    answer(session, sql).await.unwrap_or_else(|e| panic!("{sql}: {e}")).0
}

async fn refused(session: &mut Session, sql: &str) -> (Code, String) {
    let error = answer(session, sql).await.map(|(rows, _)| rows).expect_err(sql);
    (error.code, format!("{} {}", error.message, error.hint.unwrap_or_default()))
}

fn tiered(mut definition: ConnectionDefinition, schema: &str, by: &'static str) -> Tiered {
    let folder = tempfile::tempdir().unwrap();
    let engine = Engine::in_memory().unwrap();
    definition.options.insert("writable".into(), "true".into());
    let mut lake = ConnectionDefinition::new("lake", "lake", "");
    lake.options.extend([("storage".into(), "files".into()), ("writable".into(), "true".into())]);
    let files = ConnectionDefinition::new("files", "files", folder.path().display().to_string());
    let own = definition.name.clone();
    for definition in [definition, files, lake] {
        engine.add_connection(definition).unwrap();
    }
    for (catalog, connection) in [("own", own.as_str()), ("lake", "lake")] {
        engine.add_catalog(CatalogDefinition::new(catalog, connection)).unwrap();
    }
    Tiered { engine, schema: schema.to_owned(), by, _folder: folder }
}

/// New rows from one number on, before another.
fn new_rows(from: u64, to: u64) -> String {
    format!(
        "SELECT n::bigint AS id, date '2015-01-01' + n::integer AS day, 'trip ' || n AS note \
         FROM generate_series({from}, {}) AS s (n)",
        to - 1
    )
}

pub async fn check(definition: ConnectionDefinition, schema: &str, by: &'static str) {
    let tiered = tiered(definition, schema, by);
    let mut session = tiered.session();
    for sql in [
        "CREATE TABLE trips_now (id bigint PRIMARY KEY, day date NOT NULL, note varchar(40))".to_owned(),
        "CREATE TABLE lake.ops.trips (day date, id bigint, note varchar(40)) PARTITION BY (month(day))".to_owned(),
        "CREATE TABLE lake.ops.fewer (id bigint, day date)".to_owned(),
    ] {
        rows(&mut session, &sql).await;
    }
    made_and_refused(&tiered, &mut session).await;
    rows_go_where_they_belong(&tiered, &mut session).await;
    Box::pin(nothing_is_seen_twice(&tiered)).await;
    Box::pin(moves_that_stop_go_on(&tiered)).await;
    // The name goes, the rows stay.
    let left = rows(&mut session, "SELECT count(*) FROM trips").await;
    rows(&mut session, "DROP VIEW trips").await;
    let sides = "SELECT (SELECT count(*) FROM trips_now) + (SELECT count(*) FROM lake.ops.trips)";
    assert_eq!(rows(&mut session, sides).await, left);
    rows(&mut session, "DROP TABLE trips_now").await;
}

async fn made_and_refused(tiered: &Tiered, session: &mut Session) {
    let by = tiered.by;
    for (sql, code, part) in [
        (
            "CREATE TIERED TABLE t RECENT lake.ops.trips OLDER lake.ops.trips BY day",
            Code::WrongKind,
            "cannot hold the recent",
        ),
        (
            "CREATE TIERED TABLE t RECENT trips_now OLDER trips_now BY day",
            Code::WrongKind,
            "cannot hold the older rows",
        ),
        (
            "CREATE TIERED TABLE t RECENT trips_now OLDER lake.ops.fewer BY day",
            Code::UnknownName,
            "fewer has no column note",
        ),
        (
            "CREATE TIERED TABLE t RECENT trips_now OLDER lake.ops.trips BY dya",
            Code::UnknownName,
            "did you mean \"day\"?",
        ),
        ("CREATE TIERED TABLE t RECENT trips_now OLDER lake.ops.trips BY day BOUNDARY 'May'", Code::InvalidTime, "May"),
        ("CREATE TIERED TABLE t RECENT trips_now", Code::Syntax, "expected OLDER"),
        ("CALL tier_move('trips_now', to => '2025-01-01')", Code::WrongKind, "no table in tiers"),
    ] {
        let (found, message) = refused(session, sql).await;
        assert!(found == code && message.contains(part), "{sql}: {found:?} {message}");
    }
    rows(session, &format!("INSERT INTO trips_now {}", new_rows(1, 11))).await;
    let make = format!("CREATE TIERED TABLE trips RECENT trips_now OLDER lake.ops.trips BY {by}");
    let (_, message) = refused(session, &format!("{make} BOUNDARY '{}'", tiered.bound(5))).await;
    assert!(message.contains("4 rows before") && message.contains("nobody sees them"), "{message}");
    rows(session, &make).await;
    rows(session, &make.replace("TABLE", "TABLE IF NOT EXISTS")).await;
    let (code, _) = refused(session, &make).await;
    assert_eq!(code, Code::AlreadyExists);
    for (sql, part) in [
        ("UPDATE trips SET note = ''", "rows are only inserted"),
        ("DELETE FROM trips", "change rows in own."),
        ("TRUNCATE trips", "rows are only inserted"),
        ("DROP TABLE trips", "DROP VIEW drops the name alone"),
        ("INSERT INTO trips (id) VALUES (1) RETURNING id", "RETURNING of a table in tiers"),
    ] {
        let (_, message) = refused(session, sql).await;
        assert!(message.contains(part), "{sql}: {message}");
    }
}

/// What is read, and by which catalogs.
async fn read(session: &mut Session, sql: &str) -> (Vec<String>, Vec<String>) {
    let (rows, plan) = answer(session, sql).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
    let catalog = |name: &String| name.split('.').next().unwrap_or_default().to_owned();
    let mut gates: Vec<String> = plan.unwrap().gates.iter().flat_map(|gate| gate.tables.iter().map(catalog)).collect();
    gates.sort();
    (rows, gates)
}

async fn rows_go_where_they_belong(tiered: &Tiered, session: &mut Session) {
    let by = tiered.by;
    let literal = |id: u64| match by {
        "id" => id.to_string(),
        _ => format!("date '{}'", tiered.bound(id)),
    };
    rows(session, &format!("INSERT INTO trips {}", new_rows(11, 1001))).await;
    let dry = rows(session, &format!("CALL tier_move('trips', to => '{}', dry_run => true)", tiered.bound(601))).await;
    assert_eq!(dry, [format!("lane.views.trips|600|∅|{}", tiered.bound(601))]);
    assert_eq!(rows(session, "SELECT count(*) FROM trips_now").await, ["1000"]);
    let moved = rows(session, &format!("CALL tier_move('trips', to => '{}')", tiered.bound(601))).await;
    assert_eq!(moved, dry);
    // On both sides of the boundary in one statement, in any order of the columns.
    let both = format!("INSERT INTO trips (note, day, id) SELECT note, day, id FROM ({}) AS s", new_rows(1001, 3001));
    rows(session, &both).await;
    rows(session, &format!("INSERT INTO trips SELECT 0::bigint, date '{}', 'first'", "2014-12-31")).await;
    rows(session, "INSERT INTO trips SELECT * FROM trips WHERE false").await;
    assert_eq!(rows(session, "SELECT count(*), min(id), max(id) FROM lake.ops.trips").await, ["601|0|600"]);
    assert_eq!(rows(session, "SELECT count(*), min(id), max(id) FROM trips_now").await, ["2400|601|3000"]);
    rows(session, "DELETE FROM lake.ops.trips WHERE id = 0").await;
    // Each question reads the side that it needs.
    for (condition, count, sides) in [
        ("true".to_owned(), 3000, vec!["lake", "own"]),
        (format!("{by} < {}", literal(601)), 600, vec!["lake"]),
        (format!("{by} <= {}", literal(601)), 601, vec!["lake", "own"]),
        (format!("{by} >= {}", literal(601)), 2400, vec!["own"]),
        (format!("{by} = {}", literal(20)), 1, vec!["lake"]),
        (format!("{by} IN ({}, {})", literal(700), literal(900)), 2, vec!["own"]),
        (format!("({by} > {} OR {by} = {}) AND id > 0", literal(2990), literal(601)), 11, vec!["own"]),
        (format!("{by} BETWEEN {} AND {}", literal(600), literal(600)), 1, vec!["lake"]),
        (format!("{by} > {} AND {by} < {}", literal(900), literal(800)), 0, vec![]),
    ] {
        let sql = format!("SELECT count(*) FROM trips WHERE {condition}");
        assert_eq!(
            read(session, &sql).await,
            (vec![count.to_string()], sides.iter().map(|s| (*s).into()).collect()),
            "{sql}"
        );
    }
    let plan = session.plan_text(&both).await.unwrap();
    let text = format!("from {} on into own.{}.trips_now, before it into lake.ops.trips", literal(601), tiered.schema);
    assert!(plan.steps.iter().any(|step| step.text.contains(&text)), "{:?}", plan.steps.last());
    let (_, message) = refused(session, &format!("CALL tier_move('trips', to => '{}')", tiered.bound(600))).await;
    assert!(message.contains("rows move to the older side only"), "{message}");
    // Rows that somebody has put beyond the boundary are not taken for a move's own.
    rows(session, "INSERT INTO lake.ops.trips (id, day) SELECT 5000, date '2030-01-01'").await;
    let (_, message) = refused(session, &format!("CALL tier_move('trips', to => '{}')", tiered.bound(700))).await;
    assert!(message.contains("1 rows from") && message.contains("nobody sees them"), "{message}");
    rows(session, "DELETE FROM lake.ops.trips WHERE id = 5000").await;
}

/// Readers and writers beside moves.
async fn nothing_is_seen_twice(tiered: &Tiered) {
    let stop = Arc::new(AtomicBool::new(false));
    let whole = [format!("{ROWS}|{}|{ROWS}", ROWS * (ROWS + 1) / 2)];
    let mut readers = Vec::new();
    for _ in 0..3 {
        let (mut session, stop, whole) = (tiered.session(), stop.clone(), whole.clone());
        readers.push(tokio::spawn(async move {
            let sql = format!("SELECT count(*), sum(id), count(DISTINCT id) FROM trips WHERE id <= {ROWS}");
            let mut count = 0;
            while !stop.load(Ordering::Relaxed) {
                assert_eq!(rows(&mut session, &sql).await, whole);
                count += 1;
            }
            count
        }));
    }
    let written = Arc::new(AtomicU64::new(0));
    let writer = {
        let (mut session, stop, written) = (tiered.session(), stop.clone(), written.clone());
        tokio::spawn(async move {
            for n in 0.. {
                if stop.load(Ordering::Relaxed) {
                    return;
                }
                let id = ROWS + 1 + n;
                rows(&mut session, &format!("INSERT INTO trips {}", new_rows(id, id + 1))).await;
                written.fetch_add(1, Ordering::Relaxed);
                let count = rows(&mut session, &format!("SELECT count(*) FROM trips WHERE id > {ROWS}")).await;
                assert_eq!(count, [(n + 1).to_string()]);
            }
        })
    };
    let mut session = tiered.session();
    for to in (700..=1_900).step_by(300) {
        rows(&mut session, &format!("CALL tier_move('trips', to => '{}')", tiered.bound(to))).await;
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    stop.store(true, Ordering::Relaxed);
    writer.await.unwrap();
    for reader in readers {
        assert!(reader.await.unwrap() > 2, "hardly anything was read while rows moved");
    }
    let after = rows(&mut session, "SELECT count(*), count(DISTINCT id) FROM trips").await;
    let all = ROWS + written.load(Ordering::Relaxed);
    assert_eq!(after, [format!("{all}|{all}")]);
    rows(&mut session, &format!("DELETE FROM trips_now WHERE id > {ROWS}")).await;
}

/// A move that is cancelled at any point is taken up by the next one.
async fn moves_that_stop_go_on(tiered: &Tiered) {
    let mut random = rand::rngs::StdRng::seed_from_u64(5);
    let whole = [format!("{ROWS}|{}|{ROWS}", ROWS * (ROWS + 1) / 2)];
    let mut session = tiered.session();
    let mut stopped = 0;
    for to in (1_950..2_850).step_by(50) {
        let cancel = CancellationToken::new();
        let after = Duration::from_micros(random.random_range(0..60_000));
        let call = format!("CALL tier_move('trips', to => '{}')", tiered.bound(to));
        let mut own = tiered.session();
        let run = async {
            let mut execution = own.run_text(&call, &cancel).await?;
            while execution.next().await?.is_some() {}
            Ok::<_, cobble_types::Error>(())
        };
        let stop = async {
            tokio::time::sleep(after).await;
            cancel.cancel();
        };
        stopped += usize::from(tokio::join!(run, stop).0.is_err());
        let found = rows(&mut session, "SELECT count(*), sum(id), count(DISTINCT id) FROM trips").await;
        assert_eq!(found, whole, "stopped after {after:?}");
    }
    assert!(stopped > 2, "hardly any move was stopped");
    rows(&mut session, &format!("CALL tier_move('trips', to => '{}')", tiered.bound(2_900))).await;
    assert_eq!(rows(&mut session, "SELECT min(id) FROM trips_now").await, ["2900"]);
    assert_eq!(rows(&mut session, "SELECT max(id), count(*) FROM lake.ops.trips").await, ["2899|2899"]);
    assert_eq!(rows(&mut session, "SELECT count(*), sum(id), count(DISTINCT id) FROM trips").await, whole);
    // A statement that began before a move that was stopped sees its rows, also when the next one ends that move.
    let mut long = tiered.session();
    let mut reading = long.run_text("SELECT id FROM trips", &CancellationToken::new()).await.unwrap();
    let cancel = CancellationToken::new();
    let mut own = tiered.session();
    let call = format!("CALL tier_move('trips', to => '{}')", tiered.bound(2_901));
    let stop = async {
        tokio::time::sleep(Duration::from_millis(300)).await;
        cancel.cancel();
    };
    assert!(tokio::join!(own.run_text(&call, &cancel), stop).0.is_err(), "it waits for what reads");
    let mut next = tiered.session();
    let again = tokio::spawn(async move { rows(&mut next, &call).await });
    tokio::time::sleep(Duration::from_millis(300)).await;
    let during = refused(&mut session, &format!("INSERT INTO trips {}", new_rows(2_900, 2_901))).await;
    assert!(during.0 == Code::Conflict && during.1.contains("are being moved to lake.ops.trips"), "{during:?}");
    let mut seen = 0;
    while let Some(batch) = reading.next().await.unwrap() {
        seen += batch.num_rows() as u64;
    }
    assert_eq!(seen, ROWS);
    drop(reading);
    again.await.unwrap();
    assert_eq!(rows(&mut session, "SELECT count(*), sum(id), count(DISTINCT id) FROM trips").await, whole);
    let state = |moving: TierMove| {
        let view = tiered.engine.views()["trips"].view.clone();
        let tiers = Tiers { moving: Some(moving), ..view.tiers.clone().unwrap() };
        let known = KnownView::new(UserView { tiers: Some(tiers), ..view }).unwrap();
        tiered.engine.take_views([("trips".to_owned(), known)]);
    };
    // What a move had written when it was stopped goes before the next one begins.
    rows(&mut session, &format!("INSERT INTO lake.ops.trips (id, day, note) {}", new_rows(2_901, 2_950))).await;
    state(TierMove::Copying { to: tiered.bound(2_950) });
    // As nothing moves any more, rows may come among those.
    rows(&mut session, "DELETE FROM trips_now WHERE id BETWEEN 2910 AND 2959").await;
    rows(&mut session, &format!("INSERT INTO trips {}", new_rows(2_910, 2_960))).await;
    assert_eq!(rows(&mut session, "SELECT count(*), sum(id), count(DISTINCT id) FROM trips").await, whole);
    rows(&mut session, &format!("CALL tier_move('trips', to => '{}')", tiered.bound(2_920))).await;
    assert_eq!(rows(&mut session, "SELECT count(*), sum(id), count(DISTINCT id) FROM trips").await, whole);
    // Rows that somebody has written behind our back while others were moved are not lost.
    rows(&mut session, &format!("INSERT INTO trips_now SELECT id, day, 'late' FROM ({}) AS s", new_rows(2_910, 2_911)))
        .await;
    state(TierMove::Ending { from: Some(tiered.bound(2_901)) });
    let call = format!("CALL tier_move('trips', to => '{}')", tiered.bound(2_920));
    let (code, message) = refused(&mut session, &call).await;
    assert!(code == Code::Conflict && message.contains("1 rows of own."), "{message}");
    let query = message.split_once("this query finds them: ").unwrap().1.split(';').next().unwrap();
    assert_eq!(rows(&mut session, query).await, [format!("2910|{}|late", day_of(2_910))]);
    rows(&mut session, "DELETE FROM trips_now WHERE note = 'late'").await;
    rows(&mut session, &call).await;
    // A configuration with another boundary moves nothing.
    let mut wanted = tiered.engine.configuration();
    let tiers = wanted.views.get_mut("trips").and_then(|view| view.tiers.as_mut()).unwrap();
    tiers.boundary = None;
    assert!(tiered.engine.compare(&wanted, &Default::default()).unwrap().changes.is_empty());
    assert_eq!(rows(&mut session, "SELECT count(*), sum(id), count(DISTINCT id) FROM trips").await, whole);
}
