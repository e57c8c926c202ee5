//! The thirty questions: scans, selective filters, groups of low and high cardinality, joins of two to eight tables, semi and
//! anti joins, correlated subqueries, windows, top-n, distinct counts, text patterns. All read Parquet files: `drop` is the
//! demo's folder, `dims` holds the fleet's tables as files.

pub const QUESTIONS: &[(&str, &str)] = &[
    ("count all", "SELECT count(*) FROM drop.public.boardings"),
    ("sum of one column", "SELECT sum(fare) FROM drop.public.boardings"),
    (
        "one day",
        "SELECT count(*), sum(fare) FROM drop.public.boardings WHERE scanned_at >= '2025-07-14' AND scanned_at < '2025-07-15'",
    ),
    (
        "a wide filter",
        "SELECT count(*), avg(fare) FROM drop.public.boardings WHERE fare BETWEEN 4 AND 9 AND channel <> 'web'",
    ),
    (
        "a rare value",
        "SELECT id, fare FROM drop.public.boardings WHERE fare > 38.5 AND seat_class = 'lounge' ORDER BY id LIMIT 100",
    ),
    (
        "few groups",
        "SELECT channel, seat_class, count(*), sum(fare), avg(fare) FROM drop.public.boardings GROUP BY channel, seat_class",
    ),
    (
        "groups by month",
        "SELECT date_trunc('month', scanned_at) AS m, count(*), sum(fare) FROM drop.public.boardings GROUP BY 1 ORDER BY 1",
    ),
    (
        "many groups",
        "SELECT holder_id, count(*), sum(fare) FROM drop.public.boardings WHERE holder_id IS NOT NULL GROUP BY holder_id ORDER BY 2 DESC, 1 LIMIT 10",
    ),
    (
        "groups by two numbers",
        "SELECT route_id, holder_id, count(*) FROM drop.public.boardings GROUP BY route_id, holder_id ORDER BY 3 DESC, 1, 2 LIMIT 10",
    ),
    (
        "having",
        "SELECT sailing_id, sum(fare) FROM drop.public.boardings GROUP BY sailing_id HAVING count(*) > 60 ORDER BY 2 DESC, 1 LIMIT 20",
    ),
    ("distinct count", "SELECT count(DISTINCT sailing_id) FROM drop.public.boardings"),
    (
        "distinct counts by group",
        "SELECT seat_class, count(DISTINCT holder_id) FROM drop.public.boardings GROUP BY seat_class ORDER BY 1",
    ),
    (
        "two tables",
        "SELECT r.name, count(*), sum(b.fare) FROM drop.public.boardings b JOIN dims.public.routes r ON r.id = b.route_id WHERE r.active GROUP BY r.name ORDER BY 1",
    ),
    (
        "two large tables",
        "SELECT s.cancelled, count(*), avg(b.fare) FROM drop.public.boardings b JOIN drop.public.sailings s ON s.id = b.sailing_id GROUP BY s.cancelled ORDER BY 1",
    ),
    (
        "a selective build side",
        "SELECT h.kind, count(*), sum(b.fare) FROM dims.public.pass_holders h JOIN drop.public.boardings b ON b.holder_id = h.id WHERE h.home_port = 7 AND h.kind = 'student' GROUP BY h.kind",
    ),
    (
        "three tables",
        "SELECT v.name, count(*), sum(b.fare) FROM drop.public.boardings b JOIN drop.public.sailings s ON s.id = b.sailing_id JOIN dims.public.vessels v ON v.id = s.vessel_id WHERE s.delay_minutes > 10 GROUP BY v.name ORDER BY 1",
    ),
    (
        "five tables",
        "SELECT p.island, h.kind, count(*), sum(b.fare) FROM drop.public.boardings b JOIN drop.public.sailings s ON s.id = b.sailing_id JOIN dims.public.routes r ON r.id = s.route_id JOIN dims.public.ports p ON p.id = r.from_port JOIN dims.public.pass_holders h ON h.id = b.holder_id WHERE s.departed_at >= '2025-06-01' GROUP BY p.island, h.kind ORDER BY 1, 2",
    ),
    (
        "eight tables",
        "SELECT pf.island, pt.island AS \"to\", v.name, count(*) FROM drop.public.boardings b JOIN drop.public.sailings s ON s.id = b.sailing_id JOIN dims.public.routes r ON r.id = s.route_id JOIN dims.public.ports pf ON pf.id = r.from_port JOIN dims.public.ports pt ON pt.id = r.to_port JOIN dims.public.vessels v ON v.id = s.vessel_id JOIN dims.public.ports hp ON hp.id = v.home_port JOIN dims.public.pass_holders h ON h.id = b.holder_id AND h.home_port = hp.id WHERE s.delay_minutes > 5 GROUP BY 1, 2, 3 ORDER BY 4 DESC, 1, 2, 3 LIMIT 20",
    ),
    (
        "left join",
        "SELECT count(*), count(b.id) FROM drop.public.sailings s LEFT JOIN drop.public.boardings b ON b.sailing_id = s.id AND b.seat_class = 'lounge' WHERE s.delay_minutes > 20",
    ),
    (
        "semi join",
        "SELECT count(*) FROM dims.public.pass_holders h WHERE h.id IN (SELECT holder_id FROM drop.public.boardings WHERE seat_class = 'lounge')",
    ),
    (
        "anti join",
        "SELECT count(*) FROM drop.public.sailings s WHERE NOT EXISTS (SELECT FROM drop.public.boardings b WHERE b.sailing_id = s.id AND b.channel = 'kiosk')",
    ),
    (
        "above the average of its sailing",
        "SELECT count(*) FROM drop.public.boardings b WHERE b.scanned_at >= '2025-07-14' AND b.scanned_at < '2025-07-15' AND b.fare > (SELECT 1.2 * avg(c.fare) FROM drop.public.boardings c WHERE c.sailing_id = b.sailing_id)",
    ),
    (
        "the latest of each",
        "SELECT r.name, (SELECT max(s.departed_at) FROM drop.public.sailings s WHERE s.route_id = r.id AND s.delay_minutes > 30) FROM dims.public.routes r ORDER BY 1",
    ),
    (
        "rank in each group",
        "SELECT route_id, id, delay_minutes FROM (SELECT route_id, id, delay_minutes, row_number() OVER (PARTITION BY route_id ORDER BY delay_minutes DESC, id) AS place FROM drop.public.sailings) ranked WHERE place <= 3 ORDER BY 1, 3 DESC, 2",
    ),
    (
        "running sums",
        "SELECT max(t) FROM (SELECT sum(fare) OVER (PARTITION BY route_id ORDER BY id) AS t FROM drop.public.boardings WHERE scanned_at >= '2025-05-01') x",
    ),
    (
        "days before and after",
        "SELECT sum(delay_minutes - earlier) FROM (SELECT delay_minutes, lag(delay_minutes) OVER (PARTITION BY vessel_id ORDER BY departed_at, id) AS earlier FROM drop.public.sailings) x",
    ),
    (
        "top-n",
        "SELECT id, fare, scanned_at FROM drop.public.boardings WHERE channel = 'kiosk' ORDER BY fare DESC, id LIMIT 20",
    ),
    (
        "text patterns",
        "SELECT count(*) FROM dims.public.pass_holders WHERE email LIKE '%mar%2%@example.test' AND name NOT LIKE 'A%'",
    ),
    (
        "a union of months",
        "SELECT k, sum(n) FROM (SELECT channel AS k, count(*) AS n FROM drop.public.boardings WHERE fare > 10 GROUP BY 1 UNION ALL SELECT seat_class, count(*) FROM drop.public.boardings WHERE fare <= 10 GROUP BY 1) x GROUP BY k ORDER BY k",
    ),
    (
        "shares by case",
        "SELECT route_id, sum(CASE WHEN channel = 'app' THEN fare ELSE 0 END) / sum(fare) > 0.25 AS app_heavy, count(*) FILTER (WHERE seat_class = 'deck') FROM drop.public.boardings GROUP BY route_id ORDER BY route_id",
    ),
];
