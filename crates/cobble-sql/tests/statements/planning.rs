//! From a rewritten plan to gates and steps: what is offered to whom, what is kept and why, and how joins are done.

use crate::support::{bind, plan, plan_without};
use cobble_plan::draw;

/// `verdict piece text` of each piece at each gate.
fn pieces(sql: &str, off: &str) -> Vec<String> {
    let plan = plan_without(off, sql);
    plan.gates
        .iter()
        .flat_map(|gate| {
            gate.pieces.iter().map(|piece| {
                let reason = match &piece.verdict {
                    cobble_plan::offer::Verdict::Kept { reason, .. } => format!(" — {}", reason.words()),
                    _ => String::new(),
                };
                format!("{} {} {}: {}{reason}", gate.gate, piece.verdict.word(), piece.piece, piece.text)
            })
        })
        .collect()
}

#[test]
fn each_piece_gets_its_verdict() {
    for (sql, off, expected) in [
        ("SELECT name FROM vessels WHERE seats > 100", "", &["A pushed filter: vessels.seats > 100"][..]),
        (
            "SELECT count(*) FROM vessels WHERE random() < 0.5",
            "",
            &[
                "A kept filter: random() < 0.5::double precision — volatile",
                "A kept aggregate: summarise: count(*) — follows kept work",
            ],
        ),
        (
            "SELECT island, count(*) FROM ports GROUP BY island",
            "",
            &["A pushed aggregate: group by ports.island: count(*)"],
        ),
        (
            "SELECT island, count(*) FROM ports GROUP BY island",
            "offer-aggregates",
            &["A kept aggregate: group by ports.island: count(*) — switched off"],
        ),
        (
            "SELECT channel, count(*) FROM boardings WHERE fare > 5 GROUP BY channel",
            "",
            &[
                "A pushed filter: boardings.fare > 5.00",
                "A kept aggregate: group by boardings.channel: count(*) — no such ability",
            ],
        ),
        (
            "SELECT v.name FROM vessels v JOIN crew c ON c.vessel_id = v.id",
            "",
            &["A pushed join: join on v.id = c.vessel_id"],
        ),
        (
            "SELECT v.name FROM vessels v JOIN crew c ON c.vessel_id = v.id",
            "offer-joins",
            &[
                "A kept join: join on v.id = c.vessel_id — switched off",
                "B kept join: join on v.id = c.vessel_id — switched off",
                "B kept key pass: c.vessel_id among the keys of step 1 — not worth it",
            ],
        ),
        (
            "SELECT r.name FROM routes r JOIN boardings b ON b.route_id = r.id",
            "",
            &[
                "A kept join: join on r.id = b.route_id — different connections",
                "B kept join: join on r.id = b.route_id — different connections",
                "B kept key pass: b.route_id among the keys of step 1 — not worth it",
            ],
        ),
        (
            "SELECT r.name FROM routes r JOIN boardings b ON b.route_id = r.id",
            "key-pass",
            &[
                "A kept join: join on r.id = b.route_id — different connections",
                "B kept join: join on r.id = b.route_id — different connections",
                "B kept key pass: b.route_id among the keys of step 1 — switched off",
            ],
        ),
        // A join of joins: work on what the engine joined cannot be pushed down any more.
        (
            "SELECT p.name FROM ports p JOIN routes r ON r.from_port = p.id JOIN boardings b ON b.route_id = r.id JOIN tariffs t ON t.route_id = b.route_id",
            "order-joins",
            &[
                "A pushed join: join on p.id = r.from_port",
                "A kept join: join on r.id = b.route_id — different connections",
                "B kept join: join on r.id = b.route_id — different connections",
                "B kept key pass: b.route_id among the keys of step 1 — not worth it",
                "B kept key pass: b.route_id among the keys of step 4 — not worth it",
                "C kept join: join on b.route_id = t.route_id — follows kept work",
            ],
        ),
        ("SELECT name FROM ports ORDER BY name LIMIT 3", "", &["A pushed top-n: first 3 by ports.name"]),
        (
            "SELECT name FROM ports ORDER BY name LIMIT 3",
            "offer-top-n",
            &["A kept top-n: first 3 by ports.name — switched off"],
        ),
        ("SELECT name FROM ports LIMIT 3", "", &["A pushed limit: first 3 rows"]),
        ("SELECT id FROM boardings LIMIT 3", "", &["A kept limit: first 3 rows — no such ability"]),
        // A product would send more rows than its tables have.
        (
            "SELECT 1 FROM crew a, crew b",
            "",
            &[
                "A kept join: combine every row with every row — not worth it",
                "B kept join: combine every row with every row — not worth it",
            ],
        ),
        ("SELECT upper(name) FROM ports", "", &["A pushed projection: upper(ports.name) as upper"]),
        (
            "SELECT upper(channel) FROM boardings",
            "",
            &["A kept projection: upper(boardings.channel) as upper — no such ability"],
        ),
    ] {
        assert_eq!(pieces(sql, off), expected, "{sql}");
    }
}

#[test]
fn joins_that_make_more_rows_are_offered_in_several_shapes() {
    let offers = |sql: &str| {
        let plan = plan(sql);
        let shown = plan.offers.iter().map(|offer| {
            assert!(offer.alternatives.iter().all(|other| other.cost >= offer.cost), "{offer:?}");
            let others: Vec<&str> = offer.alternatives.iter().map(|other| other.way.as_str()).collect();
            format!("{}: {} | {}", offer.gates.join(" "), offer.chosen, others.join(" | "))
        });
        let shown: Vec<String> = shown.collect();
        (shown, plan.gates.len())
    };
    let here = "in the engine: combine every row with every row";
    // Every row of one side with every row of the other.
    assert_eq!(
        offers("SELECT a.name, b.name FROM vessels a, vessels b"),
        (vec![format!("A B: {here} | as a whole to fleet_store")], 2)
    );
    // A few groups of the same rows.
    assert_eq!(
        offers("SELECT a.name, count(*) FROM vessels a, vessels b GROUP BY a.name"),
        (vec![format!("A: as a whole to fleet_store | {here}")], 1)
    );
    // A join that makes no more than it reads is nothing to be weighed.
    let (none, gates) = offers("SELECT c.name FROM vessels v JOIN crew c ON c.vessel_id = v.id");
    assert_eq!((none.len(), gates), (0, 1));
    // What joins in any case cannot be told apart from what is kept, if the source does neither.
    let (none, gates) = offers("SELECT a.id FROM boardings a, boardings b");
    assert_eq!((none.len(), gates), (0, 2));
    // The join above one that is kept is kept too.
    let (shown, gates) = offers("SELECT a.name FROM vessels a, vessels b JOIN crew c ON c.vessel_id = b.id");
    assert_eq!((shown.len(), gates), (1, 2), "{shown:?}");
    let drawn = draw::joins(&plan("SELECT a.name, b.name FROM vessels a, vessels b"));
    assert!(drawn.starts_with("gates A B  in the engine: "), "{drawn}");
}

#[test]
fn a_gate_brings_only_what_is_needed_above_it() {
    for (sql, expected) in [
        ("SELECT name FROM vessels WHERE seats > 100", &["name"][..]),
        ("SELECT count(*) FROM boardings", &[]),
        ("SELECT channel FROM boardings WHERE random() < fare", &["fare", "channel"]),
        ("SELECT sum(fare) FROM boardings GROUP BY channel", &["fare", "channel"]),
        ("SELECT b.fare FROM boardings b JOIN routes r ON r.id = b.route_id", &["route_id", "fare"]),
    ] {
        assert_eq!(plan(sql).gates[0].columns_read, expected, "{sql}");
    }
    let everything = plan_without("prune-columns", "SELECT count(*) FROM boardings");
    assert_eq!(everything.gates[0].columns_read.len(), 7);
}

#[test]
fn the_smaller_side_of_a_join_is_built() {
    for (sql, build, alternatives) in [
        ("SELECT r.name FROM routes r JOIN boardings b ON b.route_id = r.id", "hash of step 1", 2),
        ("SELECT r.name FROM boardings b JOIN routes r ON b.route_id = r.id", "hash of step 2", 2),
        ("SELECT r.name FROM boardings b LEFT JOIN routes r ON b.route_id = r.id", "hash of step 2", 2),
        ("SELECT r.name FROM routes r LEFT JOIN boardings b ON b.route_id = r.id", "hash of step 1", 2),
        (
            "SELECT r.name FROM routes r JOIN boardings b ON b.fare > r.nautical_miles",
            "step 1 sorted by r.nautical_miles::numeric(8,2)",
            2,
        ),
        ("SELECT r.name FROM routes r JOIN boardings b ON b.fare * r.nautical_miles > 3", "loop over step 1", 0),
        // NOT IN has to know all values of the subquery first.
        ("SELECT name FROM routes WHERE id NOT IN (SELECT route_id FROM boardings)", "hash of step 2", 1),
    ] {
        let plan = plan(sql);
        assert_eq!((plan.joins[0].chosen.as_str(), plan.joins[0].alternatives.len()), (build, alternatives), "{sql}");
        // Whatever was not chosen is not cheaper, except a loop, which a wrong estimate would make ruinous.
        let cheaper =
            plan.joins[0].alternatives.iter().find(|a| a.cost < plan.joins[0].cost && !a.way.starts_with("loop"));
        assert_eq!(cheaper, None, "{sql}");
    }
}

#[test]
fn steps_are_numbered_from_the_sources_up() {
    let plan = plan(
        "SELECT r.name, sum(b.fare) FROM boardings b JOIN routes r ON r.id = b.route_id WHERE r.active GROUP BY r.name ORDER BY 2 DESC LIMIT 3",
    );
    for step in &plan.steps {
        assert!(step.inputs.iter().all(|input| *input < step.step), "{}", step.text);
    }
    let kinds: Vec<&str> = plan.steps.iter().map(|step| step.kind.as_str()).collect();
    assert_eq!(kinds, ["gate", "aggregate", "gate", "hash_join", "aggregate", "project", "sort"]);
    insta::assert_snapshot!(draw::tree(&plan));
}

#[test]
fn estimates_follow_the_statistics() {
    for (sql, rows) in [
        ("SELECT id FROM boardings", 6_000_000.0),
        ("SELECT id FROM boardings WHERE route_id = 7", 50_000.0),
        ("SELECT id FROM boardings WHERE route_id <= 60", 2_974_789.9),
        ("SELECT id FROM boardings WHERE route_id = 700", 0.0),
        ("SELECT id FROM boardings WHERE route_id IN (1, 2, 3)", 150_000.0),
        ("SELECT id FROM boardings WHERE NOT route_id = 7", 5_950_000.0),
        ("SELECT id FROM boardings WHERE route_id = 7 OR channel = 'web'", 1_537_500.0),
        ("SELECT DISTINCT channel FROM boardings", 4.0),
        ("SELECT route_id, channel, count(*) FROM boardings GROUP BY 1, 2", 480.0),
        ("SELECT b.id FROM boardings b JOIN sailings s ON s.id = b.sailing_id", 6_000_000.0),
        ("SELECT b.id FROM boardings b JOIN routes r ON r.id = b.route_id WHERE r.active", 3_000_000.0),
        ("SELECT r.id FROM routes r WHERE EXISTS (SELECT 1 FROM sailings s WHERE s.route_id = r.id)", 120.0),
        ("SELECT id FROM ports LIMIT 7", 7.0),
        ("SELECT id FROM ports OFFSET 30", 10.0),
        ("SELECT id FROM ports UNION ALL SELECT id FROM vessels", 100.0),
        ("SELECT count(*) FROM boardings", 1.0),
        ("SELECT n FROM generate_series(1, 4000) AS s(n)", 4_000.0),
        ("SELECT n FROM generate_series(10, 1, -3) AS s(n)", 4.0),
        ("SELECT n FROM generate_series(5, 1) AS s(n)", 0.0),
        ("SELECT n FROM generate_series(1, 4000) AS s(n) WHERE n > 3000", 1_000.0),
        ("SELECT n FROM generate_series(1, 4000) AS s(n) WHERE n % 8 = 3", 500.0),
        ("SELECT p.id, x FROM ports p, unnest(ARRAY[1, 2, 3]) AS u(x)", 120.0),
    ] {
        let estimate = cobble_optimize::estimate::Estimator::default().of(&bind(sql).unwrap().plan).rows;
        assert!((estimate - rows).abs() <= rows / 1000.0, "{sql}: {estimate}, not {rows}");
    }
}

#[test]
fn the_orders_of_joins_that_were_weighed_are_kept() {
    let sql = "SELECT count(*) FROM boardings b JOIN boardings c ON c.id = b.id JOIN routes r ON r.id = b.route_id JOIN vessels v ON v.seats = r.id WHERE r.name = 'x'";
    let plan = plan(sql);
    let orders: Vec<_> = plan.rewrites.iter().flat_map(|rewrite| &rewrite.orders).collect();
    let [order] = orders.as_slice() else { panic!("{orders:?}") };
    assert_eq!(order.written.way, "((b ⋈ c) ⋈ r) ⋈ v");
    assert!(order.cost < order.written.cost && !order.alternatives.is_empty(), "{order:?}");
    let costs: Vec<f64> = order.alternatives.iter().map(|other| other.cost).collect();
    assert!(costs.is_sorted() && costs[0] >= order.cost, "{order:?}");
    assert!(order.alternatives.iter().all(|other| other.way != order.chosen && other.way.contains('v')));
    let drawn = draw::joins(&plan);
    assert!(drawn.starts_with(&format!("order     {}, ", order.chosen)), "{drawn}");
}
