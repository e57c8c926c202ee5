//! All rows of a PostgreSQL table through the gate, beside the fastest path that the server has with its rows thrown away.

use std::time::{Duration, Instant};

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Secret, Session, draw};
use cobble_tests::Product;
use futures::StreamExt;
use tokio_util::sync::CancellationToken;

/// Times that each is measured; the best counts.
const ROUNDS: usize = 3;
const TABLES: [&str; 2] = ["boardings", "pass_holders"];

fn session(product: &Product) -> Session {
    let secret = std::fs::read_to_string(product.folder.join("reader.secret")).expect("the demo has a reader");
    let engine = Engine::in_memory().expect("an engine");
    let definition = ConnectionDefinition {
        database: Some("judge".into()),
        user: Some("reader".into()),
        secret: Some(Secret::new(secret.trim())),
        ..ConnectionDefinition::new("judge_db", "postgres", format!("127.0.0.1:{}", product.postgres_port))
    };
    engine.add_connection(definition).expect("added");
    engine.add_catalog(CatalogDefinition::new("judge", "judge_db")).expect("added");
    engine.session()
}

async fn through_the_gate(session: &mut Session, table: &str) -> (Duration, u64) {
    let began = Instant::now();
    let sql = format!("SELECT * FROM judge.public.{table}");
    let mut execution = session.run_text(&sql, &CancellationToken::new()).await.expect("started");
    let mut rows = 0;
    while let Some(batch) = execution.next().await.expect("rows") {
        rows += batch.num_rows() as u64;
    }
    (began.elapsed(), rows)
}

async fn thrown_away(client: &tokio_postgres::Client, table: &str) -> Duration {
    let began = Instant::now();
    let copy = format!("COPY (SELECT * FROM {table}) TO STDOUT (FORMAT binary)");
    let mut rows = std::pin::pin!(client.copy_out(&copy).await.expect("started"));
    while let Some(bytes) = rows.next().await {
        bytes.expect("rows");
    }
    began.elapsed()
}

pub async fn measure(product: &Product, client: &tokio_postgres::Client) {
    client.batch_execute("GRANT SELECT ON ALL TABLES IN SCHEMA public TO reader").await.expect("granted");
    let mut session = session(product);
    for tasks in ["auto", "1"] {
        session.set("run.tasks", tasks).expect("set");
        for table in TABLES {
            let (mut ours, mut theirs, mut rows) = (Duration::MAX, Duration::MAX, 0);
            for _ in 0..ROUNDS {
                let (time, count) = through_the_gate(&mut session, table).await;
                (ours, rows) = (ours.min(time), count);
                theirs = theirs.min(thrown_away(client, table).await);
            }
            println!(
                "\nAll {} rows of PostgreSQL's {table}, run.tasks = '{tasks}': {} through the gate, {} by COPY thrown away: {:.2} times as long",
                draw::count(rows as f64),
                draw::seconds(ours.as_secs_f64()),
                draw::seconds(theirs.as_secs_f64()),
                ours.as_secs_f64() / theirs.as_secs_f64()
            );
        }
    }
}
