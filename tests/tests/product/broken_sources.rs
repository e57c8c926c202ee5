//! Sources that break while they are read: behind a gate in the way that cuts, stops or closes what passes. Each is a clear error or a
//! correct second try, never wrong rows, and no connection is left behind.

use std::time::{Duration, Instant};

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Secret, Session};
use cobble_tests::product;
use cobble_types::Code;

use crate::truth::answer;
use crate::truth::way::Way;

struct Source {
    way: Way,
    session: Session,
    sql: &'static str,
}

/// The demo's servers, each behind a way of its own.
async fn sources() -> Vec<Source> {
    let product = product();
    let listed: serde_json::Value = serde_json::from_str(&product.stdout(&["--json", "connection", "list"])).unwrap();
    let address = |name: &str| {
        let all = listed.as_array().unwrap().iter();
        let found = all.clone().find(|c| c["name"] == name).unwrap_or_else(|| panic!("{name} in {listed}"));
        found["address"].as_str().unwrap().trim_start_matches("http://").to_owned()
    };
    let secret = std::fs::read_to_string(product.folder.join("reader.secret")).unwrap();
    let mut all = Vec::new();
    for (name, kind, options, schema, sql) in [
        (
            "fleet_db",
            "postgres",
            &[("statement_limit", "1"), ("pool_size", "3")][..],
            "public",
            "SELECT count(*), sum(length(name || email || coalesce(phone, ''))) FROM pass_holders",
        ),
        (
            "yard_db",
            "mariadb",
            &[("statement_limit", "1"), ("pool_size", "3")],
            "yard",
            "SELECT count(*), sum(length(kind)), sum(cost) FROM work_orders",
        ),
        (
            "deep_store",
            "s3",
            &[("bucket", "deep"), ("request_limit", "1")],
            "ops",
            "SELECT count(*), sum(id), min(departed_at) FROM sailings",
        ),
    ] {
        let way = Way::to(address(name)).await;
        let mut definition = ConnectionDefinition {
            database: (kind == "postgres").then(|| "fleet".to_owned()),
            user: Some("reader".into()),
            secret: Some(Secret::new(secret.trim())),
            ..ConnectionDefinition::new(name, kind, format!("127.0.0.1:{}", way.port))
        };
        definition.options = options.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect();
        let engine = Engine::in_memory().unwrap();
        engine.add_connection(definition).unwrap();
        // What lies in the store is a lake.
        let is_store = kind == "s3";
        if is_store {
            let mut lake = ConnectionDefinition::new("deep_lake", "lake", "");
            lake.options.insert("storage".into(), name.into());
            engine.add_connection(lake).unwrap();
        }
        engine.add_catalog(CatalogDefinition::new("own", if is_store { "deep_lake" } else { name })).unwrap();
        let mut session = engine.session();
        session.use_place("own", Some(schema)).unwrap();
        // All rows are to cross the way.
        session.set("planner.off", "offer-aggregates, split-aggregates").unwrap();
        all.push(Source { way, session, sql });
    }
    all
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_that_breaks_off_is_an_error_and_comes_back() {
    for Source { way, mut session, sql } in sources().await {
        let name = session.tables("own", session.place().1.unwrap()).await.unwrap().join(" ");
        let whole = answer(&mut session, sql).await.unwrap_or_else(|e| panic!("{name}: {e}")).0;
        // Whatever of it has come: no answer from a part of the rows.
        for bytes in [0, 100, 3_000, 20_000] {
            way.breaks_after(bytes, false);
            let began = Instant::now();
            match answer(&mut session, sql).await {
                Ok((rows, _)) => assert_eq!(rows, whole, "{name} after {bytes}"),
                Err(error) => {
                    let known = [Code::SourceUnreachable, Code::SourceData, Code::SourceTimeout];
                    assert!(known.contains(&error.code), "{name} after {bytes}: {error:?}");
                    assert!(error.message.starts_with("connection "), "{name} after {bytes}: {error}");
                    assert!(error.hint.is_some(), "{name} after {bytes}: {error}");
                }
            }
            assert!(began.elapsed() < Duration::from_secs(40), "{name} after {bytes}: {:?}", began.elapsed());
            way.mend();
            way.close_all();
            // A source that let wait in vain is left alone for a while.
            session = again(&mut session, sql, &whole).await;
        }
    }
}

/// Asks until the source is asked again.
async fn again(session: &mut Session, sql: &str, whole: &[String]) -> Session {
    let began = Instant::now();
    loop {
        match answer(session, sql).await {
            Ok((rows, _)) => {
                assert_eq!(rows, whole);
                return session.clone();
            }
            Err(error) if error.message.contains("asked again in") && began.elapsed() < Duration::from_secs(20) => {
                tokio::time::sleep(Duration::from_millis(500)).await;
            }
            Err(error) => panic!("a source that works again: {error}"),
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_that_falls_silent_is_not_waited_for_for_ever() {
    for Source { way, mut session, sql } in sources().await {
        let whole = answer(&mut session, sql).await.unwrap().0;
        way.breaks_after(3_000, true);
        let began = Instant::now();
        let error = answer(&mut session, sql).await.unwrap_err();
        assert!([Code::SourceUnreachable, Code::SourceTimeout].contains(&error.code), "{error:?}");
        assert!(began.elapsed() < Duration::from_secs(40), "{error}: {:?}", began.elapsed());
        way.mend();
        way.close_all();
        again(&mut session, sql, &whole).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn connections_that_were_closed_while_idle_are_no_error() {
    for Source { way, mut session, sql } in sources().await {
        let whole = answer(&mut session, sql).await.unwrap().0;
        for _ in 0..3 {
            way.close_all();
            tokio::time::sleep(Duration::from_millis(100)).await;
            let rows = answer(&mut session, sql).await.unwrap_or_else(|e| panic!("{sql}: {e}")).0;
            assert_eq!(rows, whole);
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_connection_is_left_behind() {
    let admin = product().database("postgres").await;
    let made = "DROP ROLE IF EXISTS counted; CREATE ROLE counted LOGIN PASSWORD 'a secret' CONNECTION LIMIT 2; GRANT pg_read_all_data TO counted";
    admin.batch_execute(made).await.unwrap();
    let mut definition = ConnectionDefinition {
        database: Some("fleet".into()),
        user: Some("counted".into()),
        secret: Some(Secret::new("a secret")),
        ..ConnectionDefinition::new("counted_db", "postgres", format!("127.0.0.1:{}", product().postgres_port))
    };
    definition.options.insert("pool_size".into(), "2".into());
    let engine = Engine::in_memory().unwrap();
    engine.add_connection(definition.clone()).unwrap();
    engine.add_catalog(CatalogDefinition::new("own", "counted_db")).unwrap();
    // More queries than connections, half of which are given up or fail.
    let mut all = tokio::task::JoinSet::new();
    for n in 0..24 {
        let engine = engine.clone();
        all.spawn(async move {
            let mut session = engine.session();
            session.set("planner.off", "offer-aggregates, split-aggregates, push-limit").unwrap();
            let sql = match n % 4 {
                0 => "SELECT count(*) FROM own.public.pass_holders",
                1 => "SELECT 1 / (id - 50) FROM own.public.pass_holders",
                2 => "SELECT id FROM own.public.pass_holders LIMIT 1",
                _ => "SELECT a.id FROM own.public.pass_holders a JOIN own.public.ports b ON a.home_port < b.id",
            };
            let work = async { answer(&mut session, sql).await.map(|(rows, _)| rows.len()) };
            match n % 4 {
                3 => tokio::time::timeout(Duration::from_millis(20 * n), work).await.is_ok(),
                _ => work.await.is_ok(),
            }
        });
    }
    while let Some(done) = all.join_next().await {
        done.unwrap();
    }
    let counted =
        "SELECT count(*), count(*) FILTER (WHERE state <> 'idle') FROM pg_stat_activity WHERE usename = 'counted'";
    let began = Instant::now();
    loop {
        let row = admin.query_one(counted, &[]).await.unwrap();
        let (open, busy): (i64, i64) = (row.get(0), row.get(1));
        if open <= 2 && busy == 0 {
            break;
        }
        assert!(began.elapsed() < Duration::from_secs(20), "{open} open, {busy} busy");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_eq!(answer(&mut engine.session(), "SELECT count(*) FROM own.public.ports").await.unwrap().0, ["40"]);
    // A server without a connection left says so.
    definition.name = "greedy_db".into();
    definition.options.insert("pool_size".into(), "8".into());
    engine.add_connection(definition).unwrap();
    engine.add_catalog(CatalogDefinition::new("greedy", "greedy_db")).unwrap();
    let sql = "SELECT count(*) FROM greedy.public.ports, own.public.routes r, own.public.vessels v WHERE v.id = r.id";
    let mut all = tokio::task::JoinSet::new();
    for _ in 0..8 {
        let mut session = engine.session();
        all.spawn(async move { answer(&mut session, sql).await });
    }
    while let Some(outcome) = all.join_next().await {
        if let Err(error) = outcome.unwrap() {
            assert!(error.message.contains("connection") && error.hint.is_some(), "{error:?}");
            assert_ne!(error.code, Code::Internal, "{error}");
        }
    }
}
