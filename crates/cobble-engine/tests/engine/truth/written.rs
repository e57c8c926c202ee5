//! Tables that are written into a database: what is read again is what the query found, each statement is all or nothing.

use std::time::Duration;

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Session};
use cobble_types::Code;
use tokio_util::sync::CancellationToken;

use super::answer;

/// A session on this connection, which may write, and on generated tables. Unqualified names are those of the schema.
pub fn session(mut definition: ConnectionDefinition, schema: &str) -> Session {
    let engine = Engine::in_memory().unwrap();
    definition.options.insert("writable".into(), "true".into());
    let name = definition.name.clone();
    engine.add_connection(definition).unwrap();
    engine.add_connection(ConnectionDefinition::new("tides_maker", "generated", "")).unwrap();
    engine.add_catalog(CatalogDefinition::new("own", name)).unwrap();
    engine.add_catalog(CatalogDefinition::new("tides", "tides_maker")).unwrap();
    let mut session = engine.session();
    session.use_place("own", Some(schema)).unwrap();
    session
}

async fn rows(session: &mut Session, sql: &str) -> Vec<String> {
    answer(session, sql).await.unwrap_or_else(|e| panic!("{sql}: {e}")).0
}

pub async fn check(mut session: Session) {
    let session = &mut session;
    whole_tables(session).await;
    let columns =
        "id, vessel_id, kind, urgency, opened_at, closed_at, due_on, hours, cost, note, upper(kind) AS urgent";
    let query = format!("SELECT {columns} FROM tides.creek.work_orders");
    let wanted = rows(session, &query).await;
    let written = rows(session, &format!("CREATE TABLE kept AS {query}")).await;
    assert!(written[0].contains(&format!("|{}|0|", wanted.len())), "{written:?}");
    assert_eq!(rows(session, "SELECT * FROM kept").await, wanted);
    // Texts and values that quoting and batches could lose.
    let odd = "SELECT * FROM (VALUES (1, '', true), (2, null, false), (3, 'a \"quoted\" \\ back, comma', null), (4, E'line\\nbreak\\ttab', true), \
               (5, 'Möwe 🐦 ''x''', false), (6, ' padded ', true), (7, 'NULL', true), (8, '\\N', true)) t(n, text, flag)";
    rows(session, &format!("CREATE TABLE odd AS {odd}")).await;
    assert_eq!(rows(session, "SELECT n, text, flag::text IN ('true', '1') FROM odd").await, rows(session, odd).await);
    let typed = "SELECT 1::smallint AS s, 2::integer AS i, 3::bigint AS b, 1.5::real AS r, 0.1::double precision AS d, 12.34::numeric(8,2) AS n, \
                 date '2024-02-29' AS day, time '12:30:01.5' AS shift, timestamp '2025-07-01 09:00:00.123456' AS at, '\\x00ff'::bytea AS seal";
    rows(
        session,
        &format!(
            "CREATE TABLE typed AS {typed} UNION ALL SELECT null, null, null, null, null, null, null, null, null, null"
        ),
    )
    .await;
    let found = rows(session, "SELECT * FROM typed WHERE i = 2").await;
    assert_eq!(found, rows(session, typed).await);

    // Rows beside those that are there, also read from the table itself.
    let again = format!(
        "INSERT INTO kept SELECT {} FROM kept",
        columns.replacen("id", "id + 100000", 1).replace("upper(kind) AS urgent", "urgent")
    );
    rows(session, &again).await;
    assert_eq!(
        rows(session, "SELECT count(*), count(DISTINCT id) FROM kept").await,
        [format!("{0}|{0}", wanted.len() * 2)]
    );

    // What fails late leaves nothing.
    let count = rows(session, "SELECT count(*) FROM odd").await;
    let late =
        "SELECT (1000000 / (id - 490))::integer AS n, note, null AS flag FROM tides.creek.work_orders WHERE id <= 490";
    let error = answer(session, &format!("INSERT INTO odd {late}")).await.unwrap_err();
    assert_eq!(error.code, Code::DivisionByZero, "{error}");
    assert_eq!(rows(session, "SELECT count(*) FROM odd").await, count);
    let error = answer(session, &format!("CREATE TABLE broken AS {late}")).await.unwrap_err();
    assert_eq!(error.code, Code::DivisionByZero, "{error}");
    let cancel = CancellationToken::new();
    let mut execution =
        session.run_text("CREATE TABLE given_up AS SELECT * FROM tides.bay.boardings", &cancel).await.unwrap();
    tokio::time::sleep(Duration::from_millis(300)).await;
    cancel.cancel();
    assert!(execution.next().await.is_err());
    drop(execution);
    for _ in 0..100 {
        if there(session).await == ["kept", "odd", "typed"] {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let names: Vec<String> = there(session)
        .await
        .into_iter()
        .filter(|name| ["broken", "given_up"].contains(&name.as_str()) || name.starts_with('_'))
        .collect();
    assert_eq!(names, Vec::<String>::new());

    for (sql, expected) in [
        ("CREATE TABLE kept AS SELECT 1 AS n", "already exists|there is a table"),
        ("CREATE TABLE own.nowhere.t AS SELECT 1 AS n", "nowhere|schema"),
        ("CREATE TABLE folder WITH (format = 'csv') AS SELECT 1 AS n", "there is no option format"),
        ("CREATE TABLE nested AS SELECT ROW(1, 2) AS r", "there is no type for column r"),
        ("INSERT INTO odd SELECT 1", "column"),
    ] {
        let error = answer(session, sql).await.unwrap_err().to_string();
        assert!(expected.split('|').any(|part| error.contains(part)), "{sql}: {error}");
    }
}

/// Tables that are made by their columns, filled by some of them, emptied and dropped.
async fn whole_tables(session: &mut Session) {
    let said = async |session: &mut Session, sql: &str| {
        let execution = session.run_text(sql, &CancellationToken::new()).await;
        match execution {
            Ok(mut execution) => match execution.next().await {
                Ok(_) => execution.message.unwrap_or_default(),
                Err(error) => error.to_string(),
            },
            Err(error) => error.to_string(),
        }
    };
    let table = "CREATE TABLE IF NOT EXISTS letters (id integer PRIMARY KEY, n integer NOT NULL, day date)";
    let own = |session: &Session, name: &str| format!("own.{}.{name}", session.place().1.unwrap_or_default());
    let letters = own(session, "letters");
    assert_eq!(said(session, table).await, format!("{letters} is there"));
    assert_eq!(said(session, table).await, format!("{letters} is there already; nothing was done"));
    rows(session, "INSERT INTO letters (n, id) VALUES (10, 1), (20, 2)").await;
    assert_eq!(rows(session, "SELECT id, n, day FROM letters ORDER BY id").await, ["1|10|∅", "2|20|∅"]);
    for (sql, expected) in [
        ("INSERT INTO letters (n, id) VALUES (30, 1)", "letters|PRIMARY"),
        ("INSERT INTO letters (id) VALUES (3)", "n|null"),
        ("INSERT INTO letters (id, id) VALUES (3, 3)", "id is named twice"),
        ("INSERT INTO letters (id, day) VALUES (3)", "the table has 2 columns, the query 1"),
        ("CREATE TABLE letters (id integer)", "there is a table"),
        ("CREATE TABLE pair (a integer, a text)", "two columns are named a"),
        ("CREATE TABLE pair (a integer, PRIMARY KEY (b))", "there is no column named \"b\""),
        ("CREATE TABLE pair (a integer UNIQUE)", "this constraint"),
        ("TRUNCATE no_such", "there is no table"),
        ("DROP TABLE no_such", "there is no table"),
    ] {
        let text = said(session, sql).await;
        assert!(expected.split('|').any(|part| text.contains(part)), "{sql}: {text}");
    }
    assert_eq!(rows(session, "SELECT count(*) FROM letters").await, ["2"]);
    assert_eq!(said(session, "TRUNCATE letters").await, format!("{letters} is empty"));
    assert_eq!(rows(session, "SELECT count(*) FROM letters").await, ["0"]);
    rows(session, "CREATE TABLE pair (a, b) AS SELECT 1, 2").await;
    assert_eq!(rows(session, "SELECT a + b FROM pair").await, ["3"]);
    let gone = format!("{letters}, {} are gone", own(session, "pair"));
    assert_eq!(said(session, "DROP TABLE letters, pair").await, gone);
    assert_eq!(said(session, "DROP TABLE IF EXISTS letters").await, "there was no such table");
    // Each statement is a transaction of its own: what is written cannot be taken back, and says so.
    for (sql, expected) in [
        ("BEGIN; SELECT 1; ROLLBACK", "nothing was written"),
        ("BEGIN; CREATE TABLE letters (id integer); ROLLBACK", "cannot be undone"),
        ("COMMIT", "done"),
        ("BEGIN; EXPLAIN ANALYZE INSERT INTO letters SELECT 1; ROLLBACK", "cannot be undone"),
        ("COMMIT", "done"),
        ("BEGIN; DROP TABLE letters; COMMIT", "done"),
        ("ROLLBACK", "there was no transaction"),
    ] {
        let text = said(session, sql).await;
        assert!(text.contains(expected), "{sql}: {text}");
    }
}

async fn there(session: &Session) -> Vec<String> {
    session.tables("own", session.place().1.unwrap_or_default()).await.unwrap()
}
