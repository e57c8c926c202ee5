//! Many clients of the service at one time: each starts runs of a known answer and fetches it, in one round trip or in two.

use std::time::{Duration, Instant};

use serde_json::{Value, json};

use crate::Product;

/// What the clients have seen.
#[derive(Debug, Default)]
pub struct Seen {
    pub answers: u64,
    /// What was no answer, or not the right one.
    pub wrong: Vec<String>,
    /// How long the small runs took, waited for in the request that starts them.
    pub one_trip: Vec<Duration>,
    /// The same, started by one request and fetched by another.
    pub two_trips: Vec<Duration>,
}

impl Seen {
    fn add(&mut self, other: Seen) {
        self.answers += other.answers;
        self.wrong.extend(other.wrong);
        self.one_trip.extend(other.one_trip);
        self.two_trips.extend(other.two_trips);
    }
}

/// So many clients, each until `goes_on` says no to the number of its next round.
pub async fn clients(product: &Product, count: u64, goes_on: impl Fn(u64) -> bool + Clone + Send + 'static) -> Seen {
    let http = product.http();
    let mut tasks = Vec::new();
    for client in 0..count {
        let (http, base, goes_on) = (http.clone(), format!("{}/api/v1/runs", product.address), goes_on.clone());
        tasks.push(tokio::spawn(async move {
            let mut seen = Seen::default();
            let mut round = 0;
            while goes_on(round) {
                let number = client * 1_000_000 + round;
                // One in eight is a middling one.
                let small = !number.is_multiple_of(8);
                let rows = if small { 1 } else { 20_000 + number % 7 };
                let sql = format!("SELECT {number}, count(*), sum(n) FROM generate_series(1, {rows}) AS s(n)");
                let wanted = json!([[number, rows, rows * (rows + 1) / 2]]);
                let at_once = (client + round).is_multiple_of(2);
                let began = Instant::now();
                match answer(&http, &base, &sql, at_once).await {
                    Ok(page) if page["rows"] == wanted && page["last"] == true => seen.answers += 1,
                    Ok(other) => seen.wrong.push(format!("{sql}: {other}")),
                    Err(error) => seen.wrong.push(format!("{sql}: {error}")),
                }
                match (small, at_once) {
                    (true, true) => seen.one_trip.push(began.elapsed()),
                    (true, false) => seen.two_trips.push(began.elapsed()),
                    _ => {}
                }
                round += 1;
            }
            seen
        }));
    }
    let mut all = Seen::default();
    for task in tasks {
        all.add(task.await.expect("a client ends"));
    }
    all
}

async fn answer(http: &reqwest::Client, base: &str, sql: &str, at_once: bool) -> Result<Value, reqwest::Error> {
    let body = json!({ "statement": sql });
    if at_once {
        let mut run: Value = http.post(format!("{base}?wait=10000")).json(&body).send().await?.json().await?;
        // A busy service may take longer than it was given.
        if let Some(page) = run.get_mut("page").map(Value::take) {
            return Ok(page);
        }
        let id = run["id"].as_str().unwrap_or_default();
        return http.get(format!("{base}/{id}/rows")).send().await?.json().await;
    }
    let run: Value = http.post(base).json(&body).send().await?.json().await?;
    let id = run["id"].as_str().unwrap_or_default();
    http.get(format!("{base}/{id}/rows")).send().await?.json().await
}
