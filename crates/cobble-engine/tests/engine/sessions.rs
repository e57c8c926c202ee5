//! What a session keeps from one statement to the next: prepared statements, views of its own, settings of clients.

use cobble_engine::{Engine, Session};
use cobble_types::Error;

use super::core::rows;

fn session() -> Session {
    Engine::in_memory().unwrap().session()
}

async fn said(session: &mut Session, sql: &str) -> Result<String, Error> {
    let mut execution = session.run_text(sql, &Default::default()).await?;
    while execution.next().await?.is_some() {}
    Ok(execution.message.clone().unwrap_or_default())
}

#[tokio::test]
async fn prepare_keeps_a_statement_until_it_is_forgotten() {
    let mut session = session();
    let told =
        said(&mut session, "PREPARE some AS SELECT x FROM generate_series(1, $1) AS s(x) WHERE x % $2 = 0").await;
    assert_eq!(told.unwrap(), "some(integer, integer) is prepared");
    assert_eq!(rows(&mut session, "EXECUTE some(6, 2)").await.unwrap(), ["2", "4", "6"]);
    assert_eq!(rows(&mut session, "EXECUTE some(2 + 2, (SELECT 3))").await.unwrap(), ["3"]);
    assert_eq!(rows(&mut session, "EXECUTE some(null, 1)").await.unwrap(), Vec::<String>::new());
    assert_eq!(rows(&mut session, "EXECUTE some('4', '4')").await.unwrap(), ["4"]);
    said(&mut session, "PREPARE typed (bigint, text) AS SELECT $1 + 1, $2 || $3").await.unwrap();
    assert_eq!(rows(&mut session, "EXECUTE typed(41, 'a', 'b')").await.unwrap(), ["42|ab"]);
    for (sql, state) in [
        ("PREPARE some AS SELECT 1", "42710"),
        ("PREPARE wrong AS SELECT $1 + true", "42883"),
        ("PREPARE two AS SELECT x FROM (VALUES (1)) AS t(x) WHERE x = $1 AND 'A' = upper($1)", "42883"),
        ("PREPARE other AS USE lane", "0A000"),
        ("EXECUTE sme(1, 2)", "26000"),
        ("EXECUTE some(1)", "42P02"),
        ("EXECUTE some(1, 'x')", "22P02"),
        ("EXECUTE some(1, now())", "42804"),
        ("EXECUTE some 1", "42601"),
        ("DEALLOCATE other", "26000"),
    ] {
        let error = said(&mut session, sql).await.unwrap_err();
        assert_eq!(error.code.sqlstate(), state, "{sql}: {error}");
    }
    said(&mut session, "DEALLOCATE PREPARE some; DEALLOCATE ALL").await.unwrap();
    assert_eq!(said(&mut session, "EXECUTE typed(1, 'a', 'b')").await.unwrap_err().code.sqlstate(), "26000");
}

#[tokio::test]
async fn a_view_may_be_of_one_session_alone() {
    let engine = Engine::in_memory().unwrap();
    let (mut own, mut other) = (engine.session(), engine.session());
    said(&mut own, "CREATE VIEW tides AS SELECT 'high' AS tide").await.unwrap();
    said(&mut own, "CREATE TEMP VIEW early AS SELECT x FROM generate_series(1, 3) AS s(x)").await.unwrap();
    said(&mut own, "CREATE TEMPORARY VIEW later (y) AS SELECT x + 10 FROM early").await.unwrap();
    assert_eq!(rows(&mut own, "SELECT y FROM later WHERE y > 11").await.unwrap(), ["12", "13"]);
    assert_eq!(rows(&mut own, "DESCRIBE later").await.unwrap(), ["y|integer|yes|null"]);
    assert!(rows(&mut other, "SELECT x FROM early").await.is_err(), "others do not see it");
    // It stands before views of all, which do not see it.
    said(&mut own, "CREATE TEMP VIEW tides AS SELECT 'low' AS tide").await.unwrap();
    assert_eq!(rows(&mut own, "SELECT tide FROM tides").await.unwrap(), ["low"]);
    assert_eq!(rows(&mut own, "SELECT tide FROM lane.views.tides").await.unwrap(), ["high"]);
    assert_eq!(rows(&mut other, "SELECT tide FROM tides").await.unwrap(), ["high"]);
    for (sql, state) in [
        ("CREATE TEMP VIEW early AS SELECT 1 AS x", "42710"),
        ("CREATE TEMP VIEW lane.views.z AS SELECT 1 AS x", "42501"),
        ("CREATE OR REPLACE TEMP VIEW early AS SELECT y AS x FROM later", "42P19"),
        ("CREATE TEMP TABLE z (x integer)", "0A000"),
        ("CREATE VIEW z AS SELECT x FROM early", "42P01"),
    ] {
        let error = said(&mut own, sql).await.unwrap_err();
        assert_eq!(error.code.sqlstate(), state, "{sql}: {error}");
    }
    said(&mut own, "DROP VIEW later, tides").await.unwrap();
    assert_eq!(rows(&mut own, "SELECT tide FROM tides").await.unwrap(), ["high"]);
    said(&mut own, "DISCARD ALL").await.unwrap();
    assert!(rows(&mut own, "SELECT x FROM early").await.is_err());
}

#[tokio::test]
async fn what_clients_of_postgresql_set_is_taken() {
    let mut session = session();
    for sql in [
        "SET client_encoding = 'UTF8'",
        "SET NAMES 'utf-8'",
        "SET DateStyle TO ISO",
        "SET datestyle = 'ISO, MDY'",
        "SET extra_float_digits = 3",
        "SET application_name = 'tide tables'",
        "SET SESSION client_min_messages TO warning",
        "SET LOCAL standard_conforming_strings = on",
        "SET statement_timeout = 1500",
    ] {
        said(&mut session, sql).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
    }
    assert_eq!(rows(&mut session, "SHOW application_name").await.unwrap(), ["tide tables"]);
    assert_eq!(rows(&mut session, "SHOW run.time; SHOW extra_float_digits").await.unwrap(), ["3"]);
    assert_eq!(rows(&mut session, "SHOW run.time").await.unwrap(), ["1.5s"]);
    said(&mut session, "RESET application_name; SET statement_timeout TO DEFAULT").await.unwrap();
    assert_eq!(rows(&mut session, "SHOW application_name").await.unwrap(), [""]);
    assert_eq!(rows(&mut session, "SHOW run.time").await.unwrap(), ["none"]);
    for (sql, part) in [
        ("SET client_encoding = 'LATIN1'", "client_encoding is UTF8 here"),
        ("SET run.memry = 5", "did you mean \"run.memory\"?"),
        ("RESET nothing_such", "SHOW SETTINGS lists them"),
    ] {
        let error = said(&mut session, sql).await.unwrap_err().to_string();
        assert!(error.contains(part), "{error}");
    }
    said(&mut session, "SET run.tasks = 1; RESET ALL").await.unwrap();
    assert_eq!(rows(&mut session, "SHOW run.tasks").await.unwrap(), ["auto"]);
}

#[tokio::test]
async fn what_a_session_keeps_is_memory_of_the_service() {
    let engine = Engine::in_memory().unwrap();
    engine.set_memory(64 << 10);
    let mut session = engine.session();
    let mut refused = None;
    for number in 0..50 {
        let made = said(&mut session, &format!("PREPARE s{number} AS SELECT $1 + {number}")).await;
        if let Err(error) = made {
            refused = Some((number, error));
            break;
        }
    }
    let (number, error) = refused.expect("the memory ends");
    assert!(number > 3 && error.code.sqlstate() == "53200", "{error}");
    assert!(said(&mut session, "CREATE TEMP VIEW v AS SELECT 1 AS x").await.is_err());
    let used = || engine.memory().0;
    assert!(used() > 32 << 10);
    said(&mut session, "DEALLOCATE ALL").await.unwrap();
    assert_eq!(used(), 0);
    said(&mut session, "CREATE TEMP VIEW v AS SELECT 1 AS x; PREPARE s AS SELECT 2").await.unwrap();
    assert!(used() > 0);
    drop(session);
    assert_eq!(used(), 0, "it goes with the session");
}
