//! A catalog of very many tables: its listing the first time and again, beside the server's own listing.

use std::time::{Duration, Instant};

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Secret, draw};
use cobble_tests::Product;

const TABLES: usize = 10_000;

pub async fn measure(product: &Product) {
    let admin = product.database("postgres").await;
    admin.batch_execute("DROP DATABASE IF EXISTS many WITH (FORCE)").await.expect("dropped");
    admin.batch_execute("CREATE DATABASE many").await.expect("created");
    let server = product.database("many").await;
    // Each statement of a loop would lock all tables it has made until its end.
    for first in (1..=TABLES).step_by(500) {
        let make = format!(
            "DO $$ BEGIN FOR n IN {first}..{} LOOP EXECUTE format('CREATE TABLE berth_%s (id integer)', n); END LOOP; END $$",
            first + 499
        );
        server.batch_execute(&make).await.expect("made");
    }
    let secret = std::fs::read_to_string(product.folder.join("reader.secret")).expect("the demo has a reader");
    let engine = Engine::in_memory().expect("an engine");
    let definition = ConnectionDefinition {
        database: Some("many".into()),
        user: Some("reader".into()),
        secret: Some(Secret::new(secret.trim())),
        ..ConnectionDefinition::new("many_db", "postgres", format!("127.0.0.1:{}", product.postgres_port))
    };
    engine.add_connection(definition).expect("added");
    engine.add_catalog(CatalogDefinition::new("many", "many_db")).expect("added");
    let session = engine.session();
    let mut times = Vec::new();
    for _ in 0..2 {
        let began = Instant::now();
        let found = session.tables("many", "public").await.expect("listed");
        assert_eq!(found.len(), TABLES);
        times.push(began.elapsed());
    }
    let mut own = Duration::MAX;
    for _ in 0..3 {
        let began = Instant::now();
        let rows =
            server.query("SELECT relname FROM pg_class WHERE relkind = 'r' ORDER BY 1", &[]).await.expect("rows");
        assert!(rows.len() > TABLES);
        own = own.min(began.elapsed());
    }
    let seconds = |time: &Duration| draw::seconds(time.as_secs_f64());
    println!(
        "\nA catalog of {TABLES} tables: listed in {} the first time and {} the second; the server's own list takes {}",
        seconds(&times[0]),
        seconds(&times[1]),
        seconds(&own)
    );
    drop(server);
    admin.batch_execute("DROP DATABASE many WITH (FORCE)").await.expect("dropped");
}
