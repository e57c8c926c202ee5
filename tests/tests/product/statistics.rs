//! ANALYZE, what it finds and what the planner makes of it; and aggregates that are split because of it, judged by PostgreSQL.

use cobble_tests::{for_judge, judge, judged, ours, over_http, product};
use serde_json::{Value, json};

async fn plan(sql: &str) -> Value {
    let url = format!("{}/api/v1/plans", product().address);
    product().http().post(url).json(&json!({ "statement": sql })).send().await.unwrap().json().await.unwrap()
}

async fn estimated(sql: &str) -> f64 {
    let plan = plan(sql).await;
    plan["steps"].as_array().and_then(|s| s.last()).and_then(|s| s["estimated_rows"].as_f64()).unwrap_or(-1.0)
}

#[tokio::test(flavor = "multi_thread")]
async fn analyze_finds_what_the_estimates_need() {
    let columns = over_http("ANALYZE drop.public.sailings").await.unwrap();
    let column = |name: &str| columns.iter().find(|row| row[0] == name).unwrap_or_else(|| panic!("{columns:?}"));
    let real = over_http("SELECT count(*), count(DISTINCT route_id) FROM drop.public.sailings").await.unwrap();
    let (rows, routes) = (real[0][0].as_i64().unwrap() as f64, real[0][1].as_i64().unwrap() as f64);
    let found: f64 = column("route_id")[2].as_str().unwrap().parse().unwrap();
    assert!((found - routes).abs() <= 0.05 * routes, "{found} distinct routes, really {routes}");
    assert_eq!(column("route_id")[1], "0.0 %");
    assert!(column("cancelled")[5].as_str().unwrap().starts_with("false ("), "{:?}", column("cancelled"));

    // Skew: what ANALYZE has seen of the busiest route, of a rare delay and of a boolean.
    for condition in
        ["route_id = (r)", "delay_minutes > 30", "cancelled", "delay_minutes BETWEEN 5 AND 10", "delay_minutes <> 0"]
    {
        let busiest = "SELECT route_id FROM drop.public.sailings GROUP BY 1 ORDER BY count(*) DESC LIMIT 1";
        let busiest = over_http(busiest).await.unwrap()[0][0].to_string();
        let sql = format!("SELECT id FROM drop.public.sailings WHERE {}", condition.replace("(r)", &busiest));
        let really = over_http(&sql).await.unwrap().len() as f64;
        let guess = estimated(&sql).await;
        assert!(
            (guess - really).abs() <= 0.03 * rows + 0.25 * really,
            "{sql}: estimated {guess}, really {really} of {rows}"
        );
    }

    let kept = over_http("SELECT DISTINCT \"table\" FROM lane.state.statistics").await.unwrap();
    assert!(ours(&kept).contains(&"drop.public.sailings".to_owned()), "{kept:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn analyze_says_what_it_cannot_do() {
    for (sql, part) in [
        ("ANALYZE drop.public.nothing", "there is no table drop.public.nothing"),
        ("ANALYZE lane.state.runs", "which the service makes itself"),
        ("ANALYZE", "expected a table"),
        ("ANALYZE drop.public.sailings extra", "expected the end of the statement"),
    ] {
        let error = over_http(sql).await.unwrap_err().to_string();
        assert!(error.contains(part), "{sql}: {error}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn split_aggregates_give_the_same_answers() {
    let judge = judge().await;
    let mut split = 0;
    for sql in [
        "SELECT r.name, count(*), count(b.holder_id), sum(b.fare), avg(b.fare), min(b.id), max(b.scanned_at) FROM drop.public.boardings b JOIN fleet.public.routes r ON r.id = b.route_id GROUP BY r.name",
        "SELECT count(*), sum(b.fare), avg(b.id), count(b.holder_id) FROM drop.public.boardings b JOIN fleet.public.routes r ON r.id = b.route_id",
        "SELECT r.active, avg(b.holder_id), sum(b.id), bool_and(b.fare > 1) FROM drop.public.boardings b JOIN fleet.public.routes r ON r.id = b.route_id GROUP BY r.active",
        "SELECT p.island, count(*) FILTER (WHERE b.fare > 8), sum(b.fare * 2) FROM drop.public.boardings b JOIN fleet.public.routes r ON r.id = b.route_id JOIN fleet.public.ports p ON p.id = r.from_port GROUP BY p.island",
        "SELECT r.from_port, count(*), sum(b.fare) FROM drop.public.boardings b LEFT JOIN fleet.public.routes r ON r.id = b.route_id AND r.active GROUP BY r.from_port",
        "SELECT b.route_id, count(*) FROM drop.public.boardings b WHERE b.route_id IN (SELECT id FROM fleet.public.routes WHERE nautical_miles > 2) GROUP BY b.route_id",
        // The same route stands for several rows of the other side.
        "SELECT count(*), sum(b.fare), max(b.fare) FROM drop.public.boardings b JOIN fleet.public.routes r ON r.id = b.route_id JOIN fleet.public.vessels v ON v.home_port = r.from_port",
        "SELECT v.home_port, count(*), avg(b.fare) FROM drop.public.boardings b JOIN fleet.public.routes r ON r.id = b.route_id JOIN fleet.public.vessels v ON v.home_port = r.from_port GROUP BY v.home_port",
        // Nothing left to aggregate: a sum of nothing, and a count of nothing.
        "SELECT count(*), sum(b.fare), avg(b.fare), min(b.fare) FROM drop.public.boardings b JOIN fleet.public.routes r ON r.id = b.route_id - 5000",
        // These must stay as they are.
        "SELECT r.name, count(DISTINCT b.holder_id) FROM drop.public.boardings b JOIN fleet.public.routes r ON r.id = b.route_id GROUP BY r.name",
        "SELECT r.name, sum(b.fare * r.nautical_miles) FROM drop.public.boardings b JOIN fleet.public.routes r ON r.id = b.route_id GROUP BY r.name",
        "SELECT r.name, count(b.id) FROM fleet.public.routes r LEFT JOIN drop.public.boardings b ON b.route_id = r.id AND b.fare > 38 GROUP BY r.name",
    ] {
        let planned = plan(sql).await;
        let traced = planned["rewrites"]
            .as_array()
            .unwrap()
            .iter()
            .find(|r| r["rewrite"] == "split-aggregates")
            .unwrap()
            .clone();
        split += usize::from(traced["changed"] == true);
        let mut got = ours(&over_http(sql).await.unwrap_or_else(|e| panic!("{sql}: {e}")));
        let mut wanted = judged(&judge, &for_judge(sql)).await.unwrap();
        got.sort();
        wanted.sort();
        let rounded =
            |rows: &[String]| rows.iter().map(|r| r.split('|').map(short).collect::<Vec<_>>()).collect::<Vec<_>>();
        assert_eq!(rounded(&got), rounded(&wanted), "{sql}");
    }
    assert!(split >= 6, "only {split} were split");
}

/// Averages have another number of digits there.
fn short(text: &str) -> String {
    match text.parse::<f64>() {
        Ok(number) if text.contains('.') => format!("{number:.6}"),
        _ => text.to_owned(),
    }
}
