//! The demo's sources with no test of their own: the yard's database and the tables that are made while they are read. The
//! tables of `tides.creek` have the scale of the tests, so the judge has the very same rows.

use cobble_tests::{for_judge, judge, judged, measured, ours, over_http};
use serde_json::Value;

const STATEMENTS: &[&str] = &[
    "SELECT kind, urgency, count(*), sum(cost), min(hours), max(due_on) FROM yard.yard.work_orders GROUP BY kind, urgency",
    "SELECT id, opened_at, closed_at, note FROM yard.yard.work_orders WHERE closed_at IS NULL OR note LIKE 'Inspect%'",
    "SELECT p.name, sum(u.quantity * p.price) FROM yard.yard.parts p JOIN yard.yard.parts_used u ON u.part_id = p.id WHERE p.kind = 'hull' GROUP BY p.name",
    "SELECT batch_no, count(*) FROM yard.yard.parts_used WHERE quantity > 2 GROUP BY batch_no ORDER BY 2 DESC, 1 LIMIT 20",
    "SELECT count(*), sum(id), count(holder_id), sum(fare), min(scanned_at), max(channel) FROM tides.creek.boardings",
    "SELECT id, route_id, departed_at, arrived_at, cancelled FROM tides.creek.sailings WHERE id BETWEEN 80 AND 420",
    "SELECT * FROM tides.creek.pass_holders WHERE id IN (1, 77, 2000, 9999999, NULL) OR id > 1990",
    "SELECT * FROM tides.creek.kiosk_sales WHERE id < 30 AND NOT id = 7 AND by_card",
    "SELECT buoy, count(*), max((wave).height_m), min(taken_at), sum(cardinality(tags)) FROM tides.creek.buoys GROUP BY buoy",
    "SELECT * FROM tides.creek.incidents WHERE id >= 399",
    "SELECT * FROM tides.creek.tariffs WHERE route_id = 7",
    "SELECT t.id FROM tides.creek.vessels t FULL JOIN fleet.public.vessels v USING (id, name, capacity, built, home_port, tonnage) WHERE v.id IS NULL OR t.id IS NULL",
    "SELECT w.id FROM tides.creek.work_orders w WHERE NOT EXISTS (SELECT 1 FROM yard.yard.work_orders y WHERE y.id = w.id AND y.opened_at = w.opened_at AND y.cost = w.cost)",
];

#[tokio::test(flavor = "multi_thread")]
async fn the_yard_and_what_is_made_up_have_the_judges_rows() {
    let judge = judge().await;
    for sql in STATEMENTS {
        let mut wanted =
            judged(&judge, &for_judge(sql)).await.unwrap_or_else(|e| panic!("the judge refuses {sql}: {e}"));
        let mut found = ours(&over_http(sql).await.unwrap_or_else(|e| panic!("{sql}: {e}")));
        wanted.sort();
        found.sort();
        assert_eq!(found, wanted, "{sql}");
    }
}

fn made(plan: &Value) -> (&Value, u64, u64) {
    let gate = &plan["gates"][0];
    (gate, gate["parts"][0]["read"].as_u64().unwrap(), gate["measure"]["rows"].as_u64().unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn only_the_rows_that_conditions_on_numbers_leave_are_made() {
    for (condition, rows) in [
        ("id BETWEEN 5999000 AND 5999009", 10),
        ("id IN (3, 4, 4000000) AND id <> 4", 2),
        ("id = 12 OR id = 13 OR id < 3", 4),
        ("id > 100000000", 0),
        ("id = 5 AND id IN (5, 6)", 1),
    ] {
        let plan = measured(&format!("SELECT max(scanned_at) FROM tides.bay.boardings WHERE {condition}")).await;
        let (gate, read, crossed) = made(&plan);
        assert_eq!((read, crossed), (rows, rows), "{condition}: {gate}");
        assert!(gate["pieces"].to_string().contains("only these rows are made"), "{condition}: {gate}");
    }
    let plan = measured("SELECT count(*) FROM tides.creek.boardings WHERE id + 0 = 7 AND channel = 'web'").await;
    let (gate, read, crossed) = made(&plan);
    assert_eq!(read, crossed, "{gate}");
    assert!(gate["pieces"].to_string().contains("rows are found by their number alone"), "{gate}");
    let plan = measured("SELECT id FROM tides.sea.boardings LIMIT 12").await;
    assert_eq!(made(&plan).2, 12);
    // The keys of a join are numbers too.
    let plan = measured(
        "SELECT b.fare FROM tides.bay.boardings b JOIN (VALUES (5), (900000), (null), (-4)) v(id) ON v.id = b.id",
    )
    .await;
    let (gate, _, crossed) = made(&plan);
    assert_eq!(crossed, 2, "{gate}");
}
