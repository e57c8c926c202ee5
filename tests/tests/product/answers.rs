//! PostgreSQL with the same tables is the judge of answers.

use cobble_ferry::QUESTIONS;
use cobble_tests::{for_judge, judge, judged, ours, over_http, plain, product};

/// Statements whose rows must equal the judge's. `sorted` ones have an ORDER BY that decides every row's place.
const STATEMENTS: &[&str] = &[
    "SELECT channel, seat_class, count(*), sum(fare), avg(fare), min(fare), max(fare) FROM drop.public.boardings GROUP BY channel, seat_class",
    "SELECT count(*), count(holder_id), count(DISTINCT holder_id), count(DISTINCT channel) FROM drop.public.boardings",
    "SELECT month, count(*) FROM drop.public.boardings WHERE month >= '2025-05' GROUP BY month",
    "SELECT scanned_at::date, count(*) FROM drop.public.boardings WHERE scanned_at >= '2025-07-01' AND scanned_at < '2025-07-05' GROUP BY 1",
    "SELECT id, fare, channel FROM drop.public.boardings WHERE holder_id IS NULL AND fare > 20 ORDER BY fare DESC, id LIMIT 25",
    "SELECT id FROM drop.public.boardings ORDER BY scanned_at DESC, id LIMIT 10 OFFSET 5",
    "SELECT r.name, count(*) FROM drop.public.sailings s JOIN fleet.public.routes r ON r.id = s.route_id WHERE s.cancelled GROUP BY r.name",
    "SELECT v.name, r.name, sum(s.delay_minutes) FROM drop.public.sailings s JOIN fleet.public.vessels v ON v.id = s.vessel_id JOIN fleet.public.routes r ON r.id = s.route_id WHERE s.delay_minutes > 30 GROUP BY v.name, r.name",
    "SELECT r.id, count(b.id) FROM fleet.public.routes r LEFT JOIN drop.public.boardings b ON b.route_id = r.id AND b.month = '2025-02' GROUP BY r.id",
    "SELECT p.id FROM fleet.public.ports p WHERE NOT EXISTS (SELECT 1 FROM fleet.public.routes r WHERE r.from_port = p.id)",
    "SELECT count(*) FROM fleet.public.pass_holders h WHERE h.id IN (SELECT holder_id FROM drop.public.boardings WHERE seat_class = 'lounge')",
    "SELECT count(*) FROM fleet.public.pass_holders h WHERE h.id NOT IN (SELECT holder_id FROM drop.public.boardings WHERE holder_id IS NOT NULL)",
    "SELECT count(*) FROM fleet.public.pass_holders WHERE id NOT IN (SELECT holder_id FROM drop.public.boardings)",
    "SELECT kind, count(*), min(joined), max(name) FROM fleet.public.pass_holders WHERE phone IS NULL GROUP BY kind",
    "SELECT home_port, count(*) FROM fleet.public.pass_holders GROUP BY home_port HAVING count(*) > 20 ORDER BY 2 DESC, 1 LIMIT 5",
    "SELECT c.role, avg(c.salary), count(*) FILTER (WHERE c.hired < '2022-01-01') FROM fleet.public.crew c GROUP BY c.role",
    "SELECT v.name, p.name FROM fleet.public.vessels v JOIN fleet.public.ports p ON p.id = v.home_port WHERE v.capacity BETWEEN 100 AND 200 AND p.name LIKE '%Quay'",
    "SELECT name, nautical_miles, nautical_miles / 3, nautical_miles * 1.852, -nautical_miles % 2 FROM fleet.public.routes WHERE id <= 20",
    "SELECT id, capacity / 7, capacity % 7, built + 1, tonnage * 2 FROM fleet.public.vessels",
    "SELECT CASE WHEN capacity > 250 THEN 'large' WHEN capacity > 120 THEN 'middle' ELSE 'small' END AS size, count(*), avg(built) FROM fleet.public.vessels GROUP BY 1",
    "SELECT upper(name), length(name), substring(name from 1 for 4), split_part(name, ' ', 2), replace(name, 'Quay', 'Q') FROM fleet.public.ports",
    "SELECT extract(year from opened), extract(quarter from opened), extract(doy from opened), date_trunc('month', opened::timestamp) FROM fleet.public.routes",
    "SELECT opened + 30, opened - date '2000-01-01', opened::timestamp + interval '1 month 2 hours' FROM fleet.public.ports",
    "SELECT name FROM fleet.public.vessels WHERE name > 'M' AND name < 'Sb' ORDER BY name",
    "SELECT name FROM fleet.public.ports WHERE lower(island) = 'teal isle' OR depth_m > 11.5 ORDER BY depth_m DESC, name",
    "SELECT DISTINCT seat_class, channel FROM drop.public.boardings WHERE month = '2024-11'",
    "SELECT seat_class FROM drop.public.tariffs UNION SELECT channel FROM drop.public.boardings WHERE month = '2024-11'",
    "SELECT x.name, x.n FROM (SELECT r.name, count(*) AS n FROM drop.public.sailings s JOIN fleet.public.routes r ON r.id = s.route_id GROUP BY r.name) x WHERE x.n > 100",
    "WITH busy AS (SELECT route_id, count(*) AS n FROM drop.public.boardings GROUP BY route_id) SELECT r.name, b.n FROM busy b JOIN fleet.public.routes r ON r.id = b.route_id WHERE b.n > (SELECT avg(n) FROM busy)",
    "SELECT t.seat_class, count(*), sum(b.fare - t.fare) FROM drop.public.boardings b JOIN drop.public.tariffs t ON t.route_id = b.route_id AND t.seat_class = b.seat_class AND t.valid_from = '2025-01-01' WHERE b.month = '2025-03' GROUP BY t.seat_class",
    "SELECT severity, count(*), count(vessel_id), count(note) FROM drop.public.incidents GROUP BY severity",
    "SELECT i.id, v.name FROM drop.public.incidents i LEFT JOIN fleet.public.vessels v ON v.id = i.vessel_id WHERE i.id <= 40",
    "SELECT id, note FROM drop.public.incidents WHERE note LIKE '%\"cough\"%' AND minutes_lost <> 'n/a' AND id < 100",
    "SELECT buoy, count(*), max((wave).height_m), min(wind_kn) FROM drop.public.buoys WHERE taken_at < '2023-02-01' GROUP BY buoy",
    "SELECT count(*) FROM drop.public.buoys WHERE tags[1] = 'calm'",
    "SELECT a.id, b.id FROM fleet.public.vessels a JOIN fleet.public.vessels b ON a.capacity < b.capacity AND a.home_port = b.home_port",
    "SELECT coalesce(phone, 'none'), nullif(kind, 'resident') FROM fleet.public.pass_holders WHERE id <= 30",
    "SELECT active, count(*), bool_and(nautical_miles > 3), bool_or(nautical_miles > 25) FROM fleet.public.routes GROUP BY active",
    "SELECT count(*) FROM drop.public.boardings WHERE month = '2025-13'",
    "SELECT sum(fare), max(id) FROM drop.public.boardings WHERE false",
];

fn compare(sql: &str, mut got: Vec<String>, mut wanted: Vec<String>) {
    if !sql.contains("ORDER BY") {
        got.sort();
        wanted.sort();
    }
    assert_eq!(got, wanted, "{sql}");
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_equal_those_of_postgresql() {
    let judge = judge().await;
    for sql in STATEMENTS {
        let wanted = judged(&judge, &for_judge(sql).replace("ORDER BY name", "ORDER BY name COLLATE \"C\"")).await;
        let wanted = wanted.unwrap_or_else(|e| panic!("the judge refuses {sql}: {e}"));
        let got = over_http(sql).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
        compare(sql, ours(&got), wanted);
    }
}

/// The same rows whatever the sources take over.
#[tokio::test(flavor = "multi_thread")]
async fn no_pushed_verdict_changes_an_answer() {
    let off = "SET planner.off = 'push-filters,prune-columns,offer-joins,offer-aggregates,offer-top-n,offer-sorts,push-limit'; ";
    for sql in STATEMENTS {
        let pushed = over_http(sql).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
        let kept = over_http(&format!("{off}{sql}")).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
        compare(sql, ours(&pushed), ours(&kept));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demos_questions_have_one_answer_everywhere() {
    let judge = judge().await;
    for (name, sql) in QUESTIONS {
        // The judge has no earlier states: what the tag names is what was scanned before the tariff.
        let of_then = "(SELECT * FROM boardings WHERE month < '2025-01') AS earlier";
        let for_judge = for_judge(sql).replace("deep.ops.boardings FOR VERSION AS OF 'old_tariff'", of_then);
        let for_judge = for_judge.replace("deep.ops.", "");
        let wanted = judged(&judge, &for_judge).await.unwrap_or_else(|e| panic!("the judge refuses {name}: {e}"));
        let http = ours(&over_http(sql).await.unwrap_or_else(|e| panic!("{name}: {e}")));
        // An argument that begins with a comment would be taken for an option.
        let plain_sql: String = sql.lines().filter(|l| !l.starts_with("--")).map(|l| format!("{l}\n")).collect();
        let jsonl = product().stdout(&["sql", "--format", "jsonl", &plain_sql]);
        let command: Vec<String> = jsonl
            .lines()
            .map(|line| {
                let object: serde_json::Map<String, serde_json::Value> = serde_json::from_str(line).unwrap();
                let values: Vec<String> =
                    object.values().map(|v| v.as_str().map_or_else(|| plain(&v.to_string()), plain)).collect();
                values.join("|")
            })
            .collect();
        assert!(!wanted.is_empty(), "{name}");
        assert_eq!(http, wanted, "{name} over HTTP");
        assert_eq!(command, wanted, "{name} through the command");
    }
}
