//! What each source takes over, piece by piece: for every condition and fragment the verdict as a snapshot, and the same rows
//! with everything pushed and with nothing pushed.

use cobble_tests::{ours, over_http, product};
use serde_json::{Value, json};

const NOTHING: &str =
    "SET planner.off = 'push-filters,prune-columns,offer-joins,offer-aggregates,offer-top-n,offer-sorts,push-limit'; ";

async fn plan(sql: &str) -> Value {
    let url = format!("{}/api/v1/plans", product().address);
    product().http().post(url).json(&json!({ "statement": sql })).send().await.unwrap().json().await.unwrap()
}

/// The verdicts at the gates, one line each.
fn verdicts(plan: &Value) -> String {
    let mut lines = String::new();
    for gate in plan["gates"].as_array().unwrap_or(&vec![]) {
        for piece in gate["pieces"].as_array().unwrap() {
            let why =
                [&piece["reason"], &piece["note"]].iter().filter_map(|v| v.as_str()).collect::<Vec<_>>().join(": ");
            let text = piece["text"].as_str().unwrap();
            lines.push_str(&format!(
                "    {} {} {text}",
                gate["gate"].as_str().unwrap(),
                piece["verdict"].as_str().unwrap()
            ));
            lines.push_str(&if why.is_empty() { "\n".to_owned() } else { format!(" -- {why}\n") });
        }
    }
    lines
}

async fn same_rows_pushed_and_kept(sql: &str) {
    let pushed = over_http(sql).await;
    let kept = over_http(&format!("{NOTHING}{sql}")).await;
    match (pushed, kept) {
        (Ok(pushed), Ok(kept)) => {
            let (mut a, mut b) = (ours(&pushed), ours(&kept));
            a.sort();
            b.sort();
            assert_eq!(a, b, "{sql}");
        }
        (Err(a), Err(b)) => assert_eq!(a["sqlstate"], b["sqlstate"], "{sql}: {a} and {b}"),
        (a, b) => panic!("{sql}: pushed {a:?}, kept {b:?}"),
    }
}

/// Conditions over `fleet.public.vessels v`, `routes r`, `pass_holders h`, `crew c`.
const DATABASE_CONDITIONS: &[(&str, &[&str])] = &[
    (
        "fleet.public.vessels v",
        &[
            "v.capacity > 200",
            "200 < v.capacity",
            "v.capacity BETWEEN 100 AND 150",
            "v.capacity NOT BETWEEN 100 AND 300",
            "v.capacity IN (100, 120, 140)",
            "v.capacity NOT IN (100, NULL)",
            "v.capacity / 7 = 20",
            "v.capacity % 7 = 1",
            "v.capacity * 2 > v.built",
            "-v.capacity < -300",
            "v.built + 1 = 2000",
            "v.tonnage > 500.5",
            "v.tonnage * 2 > 1000",
            "v.tonnage / 3 > 100",
            "round(v.tonnage) = 500",
            "round(v.tonnage, 0) > 500",
            "v.name = 'Ebb Star'",
            "v.name <> 'Ebb Star'",
            "v.name < 'M'",
            "v.name >= 'Sp'",
            "v.name LIKE 'Sal%'",
            "v.name NOT LIKE '%I'",
            "v.name ILIKE 'sal%'",
            "v.name LIKE 'S_lt%'",
            "lower(v.name) = 'ebb star'",
            "length(v.name) > 12",
            "substring(v.name from 1 for 3) = 'Sal'",
            "v.name || 'x' = 'Ebb Starx'",
            "split_part(v.name, ' ', 1) = 'Grey'",
            "trim(v.name) = v.name",
            "left(v.name, 1) IN ('S', 'G')",
            "strpos(v.name, 'a') = 2",
            "starts_with(v.name, 'Sal')",
            "v.name IS NULL",
            "v.name IS NOT NULL AND v.capacity < 100",
            "v.capacity < 80 OR v.built > 2015",
            "NOT (v.capacity < 80 OR v.built > 2015)",
            "CASE WHEN v.capacity > 200 THEN 1 ELSE 0 END = 1",
            "coalesce(v.capacity, 0) > 300",
            "nullif(v.capacity, 100) IS NULL",
            "greatest(v.capacity, v.built) = v.built",
            "least(v.name, 'M') = 'M'",
            "v.capacity::text LIKE '1%'",
            "v.capacity::numeric(8,2) > 99.5",
            "v.capacity::double precision > 99.5",
            "v.tonnage::integer = 500",
            "v.tonnage::text LIKE '5%'",
            "sqrt(v.capacity) > 15",
            "random() >= 0",
            "true",
            "1 = 0",
        ],
    ),
    (
        "fleet.public.routes v",
        &[
            "v.active",
            "NOT v.active",
            "v.active IS TRUE",
            "v.active IS NOT TRUE",
            "v.active = (v.nautical_miles > 10)",
            "v.nautical_miles % 2 > 1.5",
        ],
    ),
    (
        "fleet.public.ports v",
        &[
            "v.depth_m > 8.5",
            "v.depth_m + 1 > 8.5",
            "v.depth_m / 2 > 5",
            "abs(v.depth_m) > 8",
            "v.opened < '2005-01-01'",
            "v.opened + 30 > date '2010-01-01'",
            "v.opened - date '2000-01-01' > 3000",
            "extract(year from v.opened) = 2010",
            "date_trunc('month', v.opened) = timestamptz '2010-06-01 00:00:00+00'",
            "v.opened::timestamp > timestamp '2012-01-01 12:00'",
        ],
    ),
    (
        "fleet.public.pass_holders v",
        &[
            "v.phone IS NULL AND v.kind = 'senior'",
            "v.phone IS DISTINCT FROM NULL AND v.id < 50",
            "v.email = 'nobody@example.test'",
        ],
    ),
];

#[tokio::test(flavor = "multi_thread")]
async fn conditions_on_a_database() {
    let mut shown = String::new();
    for (table, conditions) in DATABASE_CONDITIONS {
        for condition in *conditions {
            let sql = format!("SELECT v.id FROM {table} WHERE {condition}");
            shown.push_str(&format!("{condition}\n{}", verdicts(&plan(&sql).await)));
            same_rows_pushed_and_kept(&sql).await;
        }
    }
    insta::assert_snapshot!(shown);
}

/// Whole fragments over one database.
const FRAGMENTS: &[&str] = &[
    "SELECT count(*) FROM fleet.public.vessels",
    "SELECT v.home_port, count(*), sum(v.capacity), avg(v.capacity), min(v.name), max(v.tonnage) FROM fleet.public.vessels v GROUP BY v.home_port",
    "SELECT avg(v.tonnage), sum(v.built), count(DISTINCT v.home_port) FROM fleet.public.vessels v",
    "SELECT sum(p.depth_m) FROM fleet.public.ports p",
    "SELECT max(p.depth_m), min(p.opened) FROM fleet.public.ports p",
    "SELECT c.role, count(*) FILTER (WHERE c.salary > 40000) FROM fleet.public.crew c GROUP BY c.role HAVING count(*) > 10",
    "SELECT extract(year from c.hired) AS year, count(*) FROM fleet.public.crew c GROUP BY 1",
    "SELECT lower(c.role), count(*) FROM fleet.public.crew c GROUP BY 1",
    "SELECT v.name FROM fleet.public.vessels v ORDER BY v.capacity DESC, v.name LIMIT 7",
    "SELECT v.name FROM fleet.public.vessels v ORDER BY v.name DESC NULLS FIRST LIMIT 7 OFFSET 2",
    "SELECT v.name FROM fleet.public.vessels v ORDER BY lower(v.name) LIMIT 3",
    "SELECT count(*) FROM (SELECT v.id FROM fleet.public.vessels v ORDER BY v.id LIMIT 10) x WHERE x.id > 3",
    "SELECT x.role FROM (SELECT c.role, count(*) AS n FROM fleet.public.crew c GROUP BY c.role) x WHERE x.n > 79",
    "SELECT v.name, p.name FROM fleet.public.vessels v JOIN fleet.public.ports p ON p.id = v.home_port WHERE p.island = 'Teal Isle'",
    "SELECT p.name, v.name FROM fleet.public.ports p LEFT JOIN fleet.public.vessels v ON v.home_port = p.id AND v.capacity > 300",
    "SELECT p.name, v.name FROM fleet.public.ports p LEFT JOIN fleet.public.vessels v ON v.home_port = p.id WHERE v.id IS NULL",
    "SELECT p.name FROM fleet.public.ports p RIGHT JOIN fleet.public.routes r ON r.to_port = p.id AND p.depth_m > 10",
    "SELECT p.name, v.name FROM fleet.public.ports p FULL JOIN fleet.public.vessels v ON v.home_port = p.id",
    "SELECT p.name FROM fleet.public.ports p WHERE EXISTS (SELECT 1 FROM fleet.public.routes r WHERE r.from_port = p.id AND r.active)",
    "SELECT p.name FROM fleet.public.ports p WHERE NOT EXISTS (SELECT 1 FROM fleet.public.routes r WHERE r.from_port = p.id)",
    "SELECT p.name FROM fleet.public.ports p WHERE p.id NOT IN (SELECT r.from_port FROM fleet.public.routes r)",
    "SELECT r.name, f.name, t.name FROM fleet.public.routes r JOIN fleet.public.ports f ON f.id = r.from_port JOIN fleet.public.ports t ON t.id = r.to_port WHERE r.nautical_miles > 20",
    "SELECT f.island, sum(r.nautical_miles) FROM fleet.public.routes r JOIN fleet.public.ports f ON f.id = r.from_port GROUP BY f.island ORDER BY 2 DESC LIMIT 3",
    "SELECT a.name FROM fleet.public.vessels a JOIN fleet.public.vessels b ON a.capacity < b.capacity AND b.name = 'Lady Marsh'",
    "SELECT x.n FROM (SELECT v.home_port, count(*) AS n FROM fleet.public.vessels v GROUP BY v.home_port) x JOIN fleet.public.ports p ON p.id = x.home_port",
    "SELECT DISTINCT v.home_port FROM fleet.public.vessels v",
    "SELECT count(*) FROM fleet.public.vessels v, fleet.public.crew c",
];

#[tokio::test(flavor = "multi_thread")]
async fn fragments_on_a_database() {
    let mut shown = String::new();
    for sql in FRAGMENTS {
        let plan = plan(sql).await;
        let requests: Vec<&str> =
            plan["gates"].as_array().unwrap().iter().filter_map(|g| g["request"]["text"].as_str()).collect();
        shown.push_str(&format!("{sql}\n{}    {}\n", verdicts(&plan), requests.join("\n    ")));
        same_rows_pushed_and_kept(sql).await;
    }
    insta::assert_snapshot!(shown);
}

/// Conditions on files: by folder, by row group, while decoding, or not at all.
const FILE_STATEMENTS: &[&str] = &[
    "SELECT count(*) FROM drop.public.boardings b WHERE b.month = '2025-07'",
    "SELECT count(*) FROM drop.public.boardings b WHERE b.month IN ('2025-07', '2024-07') AND b.fare > 20",
    "SELECT count(*) FROM drop.public.boardings b WHERE b.month >= '2025-11' OR b.month < '2023-02'",
    "SELECT count(*) FROM drop.public.boardings b WHERE b.month LIKE '2025-0%'",
    "SELECT count(*) FROM drop.public.boardings b WHERE b.month || '-01' = '2025-07-01'",
    "SELECT count(*) FROM drop.public.boardings b WHERE b.month = '2025-07' AND (b.month = 'x' OR b.fare < 2)",
    "SELECT count(*) FROM drop.public.boardings b WHERE b.scanned_at < '2023-01-03'",
    "SELECT count(*) FROM drop.public.boardings b WHERE b.scanned_at::date = '2023-01-03'",
    "SELECT count(*) FROM drop.public.boardings b WHERE b.id = 17",
    "SELECT count(*) FROM drop.public.boardings b WHERE b.holder_id IS NULL AND b.seat_class = 'deck'",
    "SELECT count(*) FROM drop.public.boardings b WHERE lower(b.channel) LIKE 'k%'",
    "SELECT count(*) FROM drop.public.boardings b WHERE random() >= 0",
    "SELECT b.id FROM drop.public.boardings b WHERE b.month = '2025-07' ORDER BY b.id LIMIT 3",
    "SELECT count(*) FROM (SELECT b.id FROM drop.public.boardings b LIMIT 12) x",
    "SELECT count(*) FROM drop.public.tariffs t WHERE t.fare > 5 AND t.valid_from = '2025-01-01'",
    "SELECT count(*) FROM drop.public.buoys o WHERE (o.wave).height_m > 2",
    "SELECT count(*) FROM drop.public.sailings s JOIN drop.public.boardings b ON b.sailing_id = s.id WHERE s.month = '2025-07' AND b.month = '2025-07'",
];

#[tokio::test(flavor = "multi_thread")]
async fn conditions_on_files() {
    let mut shown = String::new();
    for sql in FILE_STATEMENTS {
        let plan = plan(sql).await;
        let parts: Vec<String> = plan["gates"]
            .as_array()
            .unwrap()
            .iter()
            .flat_map(|g| g["parts"].as_array().unwrap())
            .map(|p| format!("{} of {} {}", p["read"], p["total"], p["parts"].as_str().unwrap()))
            .collect();
        shown.push_str(&format!("{sql}\n{}    reads {}\n", verdicts(&plan), parts.join(", ")));
        same_rows_pushed_and_kept(sql).await;
    }
    insta::assert_snapshot!(shown);
}
