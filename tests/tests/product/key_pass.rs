//! Keys that a join has collected reach the scan of its other side: what is sent, what is skipped, and the same rows with the
//! pass and without it, for every kind of join.

use cobble_tests::{measured, ours, over_http};
use serde_json::Value;

fn gate<'a>(plan: &'a Value, table: &str) -> &'a Value {
    let gates = plan["gates"].as_array().unwrap();
    gates
        .iter()
        .find(|g| g["tables"].to_string().contains(table))
        .unwrap_or_else(|| panic!("no gate for {table}: {plan}"))
}

#[tokio::test(flavor = "multi_thread")]
async fn few_keys_become_a_list_in_the_databases_statement() {
    // Three boardings decide which holders are asked for.
    let plan = measured(
        "SELECT h.name FROM (SELECT holder_id FROM drop.public.boardings WHERE id IN (11, 12, 13, 14, 15, 16)) b
         JOIN fleet.public.pass_holders h ON h.id = b.holder_id",
    )
    .await;
    let holders = gate(&plan, "pass_holders");
    let keys = &holders["measure"]["keys"][0];
    assert_eq!(keys["form"], "a list", "{holders}");
    assert!(keys["keys"].as_u64().unwrap() <= 6, "{keys}");
    let sent = holders["measure"]["sent"]["text"].as_str().unwrap();
    assert!(sent.contains("\"id\" IN ($1"), "{sent}");
    assert_eq!(holders["measure"]["rows"], keys["keys"], "only holders with a partner cross");
    let said = holders["pieces"].as_array().unwrap().iter().find(|p| p["piece"] == "key pass").unwrap();
    assert_eq!((said["verdict"].as_str(), said["note"].as_str()), (Some("prunes"), Some("as a list in the statement")));
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_skip_row_groups_and_drop_rows_of_files() {
    let plan = measured(
        "SELECT count(*) FROM fleet.public.routes r JOIN drop.public.boardings b ON b.route_id = r.id WHERE r.id = 3 + 4 * (r.id - r.id)",
    )
    .await;
    let boardings = gate(&plan, "boardings");
    let measure = &boardings["measure"];
    assert_eq!(measure["keys"][0]["keys"], 1, "{boardings}");
    assert!(measure["rows_dropped"].as_u64().unwrap() > 0, "{measure}");
    // A key that no file holds: nothing is opened.
    let plan = measured(
        "SELECT count(*) FROM (SELECT id - 100000 AS id FROM fleet.public.routes WHERE active) r
         JOIN drop.public.boardings b ON b.route_id = r.id",
    )
    .await;
    let measure = &gate(&plan, "boardings")["measure"];
    if measure["keys"][0].is_object() {
        assert_eq!((measure["rows"].as_u64(), measure["bytes"].as_u64()), (Some(0), Some(0)), "{measure}");
        assert!(measure["keys"][0]["parts_skipped"].as_u64().unwrap() > 0, "{measure}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_finished_side_without_rows_reads_nothing_of_the_other() {
    let plan = measured(
        "SELECT b.id FROM fleet.public.routes r JOIN drop.public.boardings b ON b.route_id = r.id WHERE r.name = 'nowhere' AND r.id % 2 = 5",
    )
    .await;
    let measure = &gate(&plan, "boardings")["measure"];
    assert_eq!(measure["keys"][0]["form"], "none", "{measure}");
    assert_eq!(measure["bytes"], 0);
}

/// With the pass and without it, the same rows.
#[tokio::test(flavor = "multi_thread")]
async fn rows_are_the_same_without_the_pass() {
    const HOLDERS: &str = "(SELECT id, name FROM fleet.public.pass_holders WHERE id % 97 = 3)";
    const SOME: &str = "(SELECT id, holder_id, fare FROM drop.public.boardings WHERE id % 11 = 2)";
    for sql in [
        format!("SELECT h.name, b.fare FROM {HOLDERS} h JOIN drop.public.boardings b ON b.holder_id = h.id"),
        format!("SELECT h.name, b.fare FROM {HOLDERS} h LEFT JOIN drop.public.boardings b ON b.holder_id = h.id"),
        format!("SELECT h.name, b.fare FROM drop.public.boardings b RIGHT JOIN {HOLDERS} h ON b.holder_id = h.id"),
        format!("SELECT count(h.name), count(*) FROM drop.public.boardings b LEFT JOIN {HOLDERS} h ON b.holder_id = h.id"),
        format!("SELECT count(h.name), count(*) FROM drop.public.boardings b FULL JOIN {HOLDERS} h ON b.holder_id = h.id"),
        format!("SELECT name FROM {HOLDERS} h WHERE EXISTS (SELECT FROM drop.public.boardings b WHERE b.holder_id = h.id)"),
        format!("SELECT name FROM {HOLDERS} h WHERE NOT EXISTS (SELECT FROM drop.public.boardings b WHERE b.holder_id = h.id AND b.id % 300 = 0)"),
        format!("SELECT count(*) FROM drop.public.boardings WHERE holder_id IN (SELECT id FROM {HOLDERS} h)"),
        format!("SELECT count(*) FROM drop.public.boardings WHERE holder_id NOT IN (SELECT id FROM {HOLDERS} h)"),
        format!("SELECT count(*), sum(CASE WHEN holder_id IN (SELECT id FROM {HOLDERS} h) THEN 1 ELSE 0 END) FROM drop.public.boardings"),
        format!("SELECT h.name, t.n FROM {HOLDERS} h JOIN (SELECT holder_id, count(*) AS n FROM drop.public.boardings GROUP BY holder_id) t ON t.holder_id = h.id"),
        format!("SELECT h.name, t.n FROM {HOLDERS} h JOIN (SELECT holder_id, count(*) AS n FROM drop.public.boardings GROUP BY ROLLUP (holder_id)) t ON t.holder_id = h.id"),
        format!("SELECT h.name, t.r FROM {HOLDERS} h JOIN (SELECT holder_id, rank() OVER (PARTITION BY holder_id ORDER BY id) AS r FROM drop.public.boardings) t ON t.holder_id = h.id"),
        format!("SELECT h.name, t.r FROM {HOLDERS} h JOIN (SELECT holder_id, rank() OVER (ORDER BY id) AS r FROM drop.public.boardings) t ON t.holder_id = h.id"),
        format!("SELECT h.name, t.fare FROM {HOLDERS} h JOIN (SELECT holder_id, fare FROM drop.public.boardings ORDER BY holder_id, id LIMIT 6000) t ON t.holder_id = h.id"),
        format!("SELECT h.name, t.fare FROM {HOLDERS} h JOIN (SELECT holder_id, fare FROM {SOME} s UNION ALL SELECT holder_id, 0 FROM drop.public.boardings) t ON t.holder_id = h.id"),
        format!("SELECT p.name, b.id FROM {SOME} b JOIN fleet.public.pass_holders p ON p.id = b.holder_id WHERE b.fare > 14"),
        format!("SELECT p.kind, count(*) FROM {SOME} b JOIN fleet.public.pass_holders p ON p.id = b.holder_id GROUP BY 1"),
        "SELECT r.name, b.month, count(*) FROM (SELECT '2025-07' AS month UNION ALL SELECT '2025-08') m
         JOIN drop.public.boardings b ON b.month = m.month JOIN fleet.public.routes r ON r.id = b.route_id GROUP BY 1, 2"
            .to_owned(),
    ] {
        let with = over_http(&sql).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
        let without = over_http(&format!("SET planner.off = 'key-pass'; {sql}")).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
        let (mut with, mut without) = (ours(&with), ours(&without));
        with.sort();
        without.sort();
        assert!(!with.is_empty(), "nothing to compare: {sql}");
        assert_eq!(with, without, "{sql}");
    }
}
