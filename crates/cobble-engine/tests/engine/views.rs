//! Views of the service's own: queries under a name over tables of any source.

use cobble_engine::{CatalogDefinition, Configuration, ConnectionDefinition, Engine, Session};
use cobble_types::array_value_text;
use tokio_util::sync::CancellationToken;

fn session() -> Session {
    let engine = Engine::in_memory().unwrap();
    engine.add_connection(ConnectionDefinition::new("tides_maker", "generated", "")).unwrap();
    engine.add_catalog(CatalogDefinition::new("tides", "tides_maker")).unwrap();
    let mut session = engine.session();
    session.use_place("tides", Some("creek")).unwrap();
    session
}

/// What the last statement answers: its rows, what it has done, or its error.
async fn said(session: &mut Session, sql: &str) -> String {
    let answer = async {
        let mut execution = session.run_text(sql, &CancellationToken::new()).await?;
        let mut lines: Vec<String> = execution.message.clone().into_iter().collect();
        while let Some(batch) = execution.next().await? {
            for row in 0..batch.num_rows() {
                let text = |c: &arrow::array::ArrayRef| array_value_text(c.as_ref(), row).unwrap_or("null".into());
                lines.push(batch.columns().iter().map(text).collect::<Vec<_>>().join("|"));
            }
        }
        Ok::<_, cobble_types::Error>(lines.join("\n"))
    };
    answer.await.unwrap_or_else(|e| format!("{} {e}", e.code.sqlstate()))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_view_is_its_query() {
    let mut session = session();
    let mut all = String::new();
    for sql in [
        "CREATE VIEW quays AS SELECT id, name FROM ports WHERE name LIKE '%Quay'",
        "CREATE VIEW quays AS SELECT 1",
        "CREATE VIEW IF NOT EXISTS quays AS SELECT 1",
        "SELECT count(*), min(id) FROM quays",
        // Its own names mean what they meant where it was made, whatever is around it.
        "USE lane.state; SELECT count(*) FROM quays",
        "WITH ports AS (SELECT 1 AS id, 'No Quay' AS name) SELECT count(*) > 1 FROM quays",
        "SELECT q.id IS NOT NULL, quays.name IS NOT NULL FROM quays q JOIN quays USING (id) LIMIT 1",
        "SELECT lane.views.quays.id FROM lane.views.quays ORDER BY 1 LIMIT 1",
        "SELECT count(*) FROM ports p WHERE EXISTS (SELECT FROM quays WHERE quays.id = p.id)",
        // A table of the session's place comes first.
        "CREATE VIEW ports AS SELECT 1 AS one",
        "SELECT one FROM ports LIMIT 1",
        "SELECT one FROM lane.views.ports",
        "CREATE VIEW numbered (number) AS SELECT id, name FROM quays",
        "DESCRIBE numbered",
        "SELECT max(number) = max(id) FROM numbered, quays",
        "SELECT * FROM quays TABLESAMPLE SYSTEM (10)",
        "CREATE OR REPLACE VIEW numbered AS SELECT id AS number FROM quays WHERE id < 0",
        "SELECT * FROM numbered",
        "CREATE OR REPLACE VIEW quays AS SELECT number AS id FROM numbered",
        "CREATE VIEW itself AS SELECT * FROM itself",
        "DROP VIEW quays",
        "ALTER VIEW quays RENAME TO piers",
        "ALTER VIEW numbered RENAME TO counted",
        "SELECT * FROM numbered",
        "SELECT count(*) FROM counted",
        "CREATE VIEW shapes AS SELECT table_name FROM lane.information_schema.columns",
        "SELECT table_name, column_name, data_type FROM lane.information_schema.columns WHERE table_schema = 'views' ORDER BY 1, 2",
        "SELECT table_name, view_definition FROM lane.information_schema.views ORDER BY 1",
        "SELECT table_schema, table_type, count(*) > 1 FROM lane.information_schema.tables GROUP BY 1, 2 ORDER BY 1",
        "SHOW TABLES FROM lane.views",
        "INSERT INTO lane.views.counted VALUES (1)",
        "UPDATE lane.views.counted SET number = 1",
        "ANALYZE lane.views.counted",
        "CREATE VIEW nowhere AS SELECT 1 FROM no_such",
        "CREATE VIEW twice AS SELECT 1 AS a, 2 AS a",
        "CREATE VIEW named (a, b) AS SELECT 1",
        "CREATE VIEW tides.creek.here AS SELECT 1",
        "CREATE VIEW checked AS SELECT 1 AS a WITH CHECK OPTION",
        "CREATE MATERIALIZED VIEW kept AS SELECT 1",
        "CREATE TEMP TABLE short (x integer)",
        "CREATE VIEW with_value AS SELECT $1",
        "DROP VIEW IF EXISTS nothing",
        "DROP VIEW nothing",
        "DROP VIEW quays CASCADE",
        "SELECT * FROM counted",
    ] {
        all.push_str(&format!("> {sql}\n{}\n", said(&mut session, sql).await));
        if sql.starts_with("USE") {
            session.use_place("tides", Some("creek")).unwrap();
        }
    }
    insta::assert_snapshot!(all);
}

#[tokio::test(flavor = "multi_thread")]
async fn conditions_go_through_a_view() {
    let mut session = session();
    said(
        &mut session,
        "CREATE VIEW high AS SELECT id, vessel_id, cost * 2 AS twice FROM work_orders WHERE urgency > 3",
    )
    .await;
    let of_view = session.plan_text("SELECT twice FROM high WHERE vessel_id = 3").await.unwrap();
    let written = "SELECT cost * 2 AS twice FROM work_orders WHERE urgency > 3 AND vessel_id = 3";
    let of_query = session.plan_text(written).await.unwrap();
    assert_eq!(of_view.gates[0].request, of_query.gates[0].request);
    assert_eq!(of_view.gates[0].columns_read, of_query.gates[0].columns_read);
}

#[tokio::test(flavor = "multi_thread")]
async fn views_belong_to_the_configuration() {
    let mut session = session();
    for sql in ["CREATE VIEW quays (n) AS SELECT id FROM ports", "CREATE VIEW more AS SELECT n FROM quays"] {
        said(&mut session, sql).await;
    }
    let engine = session.engine().clone();
    assert_eq!(engine.remove_catalog("tides").unwrap_err().code.sqlstate(), "2BP01");
    let text = engine.configuration().to_toml().unwrap();
    insta::assert_snapshot!(text);
    let other = Engine::in_memory().unwrap();
    let wanted = Configuration::parse(&text, "cobble.toml").unwrap();
    let next = other.compare(&wanted, &Default::default()).unwrap();
    let views: Vec<_> = next.changes.iter().filter(|change| change.what == "view").collect();
    assert_eq!(views.len(), 2);
    other.reconfigure(next);
    assert_eq!(said(&mut other.session(), "SELECT count(*) > 3 FROM more").await, "true");
    // A circle is refused before anything changes.
    let circle = text.replace("SELECT id FROM ports", "SELECT n FROM more").replace("creek", "nowhere");
    let wanted = Configuration::parse(&circle, "cobble.toml").unwrap();
    assert_eq!(other.compare(&wanted, &Default::default()).unwrap_err().code.sqlstate(), "42P19");
}

#[tokio::test(flavor = "multi_thread")]
async fn odd_names_and_queries_without_tables_are_known_readers() {
    let mut session = session();
    for sql in
        ["CREATE VIEW \"Odd Name\" AS SELECT id FROM ports", "CREATE VIEW \"over. it\" AS SELECT id FROM \"Odd Name\""]
    {
        assert!(said(&mut session, sql).await.contains("is there"), "{sql}");
    }
    assert_eq!(said(&mut session, "DESCRIBE \"Odd Name\"").await, "id|integer|yes|null");
    let refused = said(&mut session, "DROP VIEW \"Odd Name\"").await;
    assert!(refused.starts_with("2BP01") && refused.contains("lane.views.\"over. it\""), "{refused}");
    let circle = "CREATE OR REPLACE VIEW \"Odd Name\" AS SELECT id FROM \"over. it\"";
    assert!(said(&mut session, circle).await.starts_with("42P19"));
    let gone = said(&mut session, "DROP VIEW \"Odd Name\" CASCADE").await;
    assert!(gone.contains("over. it") && session.engine().views().is_empty(), "{gone}");

    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("a.csv"), "n\n1\n").unwrap();
    let engine = session.engine().clone();
    engine
        .add_connection(ConnectionDefinition::new("pier_files", "files", folder.path().display().to_string()))
        .unwrap();
    engine.add_catalog(CatalogDefinition::new("pier", "pier_files")).unwrap();
    said(&mut session, "CREATE VIEW counted AS SELECT n FROM rows_at('pier/a.csv')").await;
    assert_eq!(said(&mut session, "SELECT n FROM counted").await, "1");
    assert_eq!(engine.remove_catalog("pier").unwrap_err().code.sqlstate(), "2BP01");
}
