//! What each rewrite makes of a query: the plan after it, read by eye in the snapshot, and the laws that it must keep.

use crate::support::{plan, plan_without};

const ALL: &str = "fold-constants,factor-conditions,strengthen-joins,push-filters,push-subqueries,infer-filters,merge-projections,\
                   drop-needless,order-joins,split-aggregates,push-limit,prune-columns,unwrap-casts";

/// The plan after this rewrite alone, or after it and those it builds upon.
fn only(rewrites: &[&str], sql: &str) -> String {
    let off: Vec<&str> = ALL.split(',').filter(|name| !rewrites.contains(name)).collect();
    plan_without(&off.join(","), sql).rewritten
}

/// The cases stand in the snapshot themselves, so the expression is left out of its head.
fn read_by_eye(name: &str, text: String) {
    insta::with_settings!({ omit_expression => true }, { insta::assert_snapshot!(name, text) });
}

fn shown(rewrites: &[&str], cases: &[(&str, &str)]) -> String {
    cases
        .iter()
        .map(|(about, sql)| format!("-- {about}\n{sql}\n\n{}\n", only(rewrites, sql)))
        .collect::<Vec<_>>()
        .join("\n")
}

#[test]
fn split_aggregates() {
    read_by_eye(
        "split_aggregates",
        shown(
            &["push-filters", "split-aggregates"],
            &[
                (
                    "what the join and the groups need becomes the key of the first grouping",
                    "SELECT r.name, count(*), avg(b.fare) FROM boardings b JOIN routes r ON r.id = b.route_id GROUP BY r.name",
                ),
                (
                    "without groups, a count of nothing is still zero",
                    "SELECT count(*), max(b.fare) FROM boardings b JOIN routes r ON r.id = b.route_id",
                ),
                (
                    "not when distinct values are counted",
                    "SELECT r.name, count(DISTINCT b.holder_id) FROM boardings b JOIN routes r ON r.id = b.route_id GROUP BY r.name",
                ),
                (
                    "not when the sides are mixed",
                    "SELECT sum(b.fare * r.nautical_miles) FROM boardings b JOIN routes r ON r.id = b.route_id",
                ),
                (
                    "by a key of many values too, if the rows are many more",
                    "SELECT count(*) FROM boardings b JOIN sailings s ON s.id = b.sailing_id",
                ),
                (
                    "not when the join drops most rows",
                    "SELECT sum(b.fare) FROM boardings b JOIN routes r ON r.id = b.route_id WHERE r.id < 5",
                ),
            ],
        ),
    );
}

#[test]
fn push_filters() {
    read_by_eye(
        "push_filters",
        shown(
            &["push-filters"],
            &[
                (
                    "each condition goes to the side of a join that it is about",
                    "SELECT b.fare FROM boardings b JOIN routes r ON r.id = b.route_id WHERE b.fare > 5 AND r.active AND b.fare > r.nautical_miles",
                ),
                (
                    "an equality between the sides turns a comma into a join",
                    "SELECT v.name FROM vessels v, crew c WHERE v.id = c.vessel_id AND c.name LIKE 'A%'",
                ),
                (
                    "the side that may be filled with nulls keeps its rows until after the join",
                    "SELECT r.name FROM routes r LEFT JOIN boardings b ON b.route_id = r.id WHERE b.fare IS NULL AND r.active",
                ),
                (
                    "a condition of the join itself may go to the side whose unmatched rows are dropped anyway",
                    "SELECT r.name FROM routes r LEFT JOIN boardings b ON b.route_id = r.id AND b.fare > 5 AND r.active",
                ),
                (
                    "the other way round for a right join",
                    "SELECT r.name FROM boardings b RIGHT JOIN routes r ON b.route_id = r.id AND r.active WHERE r.name > 'M' AND b.fare > 1",
                ),
                (
                    "a full join lets nothing through",
                    "SELECT r.name FROM routes r FULL JOIN sailings s ON s.route_id = r.id AND r.active WHERE r.name > 'M'",
                ),
                (
                    "below a group only what speaks of its keys",
                    "SELECT * FROM (SELECT route_id, count(*) AS n FROM boardings GROUP BY route_id) g WHERE route_id < 9 AND n > 100",
                ),
                (
                    "into each input of a union",
                    "SELECT * FROM (SELECT id, name FROM ports UNION ALL SELECT id, name FROM vessels) u WHERE name = 'Brent'",
                ),
                (
                    "through a subquery, with its expressions put in",
                    "SELECT * FROM (SELECT id, seats * 2 AS double_seats FROM vessels) v WHERE double_seats > 100",
                ),
                (
                    "not through what is random",
                    "SELECT * FROM (SELECT id, random() AS r FROM vessels) v WHERE r < 0.5 AND id < 3",
                ),
                ("not below a limit", "SELECT * FROM (SELECT id FROM vessels ORDER BY id LIMIT 5) v WHERE id > 3"),
                (
                    "into both sides of a semi join",
                    "SELECT v.name FROM vessels v WHERE EXISTS (SELECT 1 FROM crew c WHERE c.vessel_id = v.id AND c.name = 'Ada') AND v.seats > 9",
                ),
                (
                    "a condition without columns stays where it is",
                    "SELECT r.id FROM routes r JOIN ports p ON p.id = r.from_port WHERE 1 = 2",
                ),
            ],
        ),
    );
}

#[test]
fn infer_filters() {
    read_by_eye(
        "infer_filters",
        shown(
            &["push-filters", "infer-filters"],
            &[
                (
                    "from one side of a join to the other",
                    "SELECT b.fare FROM boardings b JOIN routes r ON r.id = b.route_id WHERE r.id = 7",
                ),
                (
                    "over two joins",
                    "SELECT b.fare FROM boardings b JOIN routes r ON r.id = b.route_id JOIN tariffs t ON t.route_id = r.id WHERE b.route_id BETWEEN 3 AND 5",
                ),
                (
                    "to the side of a left join that may lose rows, not from it",
                    "SELECT r.name FROM routes r LEFT JOIN boardings b ON b.route_id = r.id AND b.route_id < 50 WHERE r.id > 9",
                ),
                (
                    "to the subquery of EXISTS and back",
                    "SELECT r.name FROM routes r WHERE r.id < 5 AND EXISTS (SELECT 1 FROM boardings b WHERE b.route_id = r.id)",
                ),
                (
                    "not through NOT IN, whose nulls matter",
                    "SELECT r.name FROM routes r WHERE r.id < 5 AND r.id NOT IN (SELECT b.route_id FROM boardings b)",
                ),
                (
                    "not where the types differ",
                    "SELECT b.fare FROM boardings b JOIN vessels v ON v.seats = b.route_id WHERE v.seats = 7",
                ),
                (
                    "what is there already is not written twice",
                    "SELECT b.fare FROM boardings b JOIN routes r ON r.id = b.route_id WHERE r.id = 7 AND b.route_id = 7",
                ),
            ],
        ),
    );
}

#[test]
fn order_joins() {
    read_by_eye(
        "order_joins",
        shown(
            &["push-filters", "order-joins"],
            &[
                (
                    "the small and filtered relations first",
                    "SELECT p.name FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port WHERE p.name = 'Brent'",
                ),
                (
                    "no product while there is a connection",
                    "SELECT 1 FROM ports p, boardings b, routes r WHERE r.from_port = p.id AND b.route_id = r.id",
                ),
                (
                    "a left join inside stays whole",
                    "SELECT 1 FROM boardings b JOIN (SELECT r.id FROM routes r LEFT JOIN ports p ON p.id = r.from_port) x ON x.id = b.route_id JOIN tariffs t ON t.route_id = x.id",
                ),
            ],
        ),
    );
}

/// Relations that are guessed to have a row or so: without counts, pairs of them are not made where conditions lead around.
#[test]
fn no_pairs_are_made_on_a_guess() {
    let order = |sql: &str| {
        let trace = plan(sql).rewrites;
        let own = trace.into_iter().find(|entry| entry.rewrite == "order-joins").expect("it always runs");
        own.orders.into_iter().next().expect("three relations").chosen
    };
    let guessed = "SELECT 1 FROM boardings x, boardings y, routes r WHERE x.route_id = r.id AND y.route_id = r.id \
        AND x.fare = 1 AND x.channel = 'quay' AND y.fare = 2 AND y.channel = 'web'";
    let chosen = order(guessed);
    assert!(!chosen.contains("(x ⋈ y)") && !chosen.contains("(y ⋈ x)"), "{chosen}");
    // Two rows by two are certain.
    let counted = "SELECT 1 FROM (VALUES (1), (2)) x(a), (VALUES (3), (4)) y(b), boardings z WHERE z.id = x.a AND z.route_id = y.b";
    assert!(order(counted).contains("(values ⋈ values)"), "{}", order(counted));
}

#[test]
fn push_limit() {
    read_by_eye(
        "push_limit",
        shown(
            &["push-limit"],
            &[
                ("below a projection", "SELECT upper(name) FROM ports LIMIT 3"),
                ("a sort keeps only what is wanted", "SELECT name FROM ports ORDER BY name LIMIT 3"),
                ("with an offset the sort keeps those too", "SELECT name FROM ports ORDER BY name LIMIT 3 OFFSET 4"),
                ("into a union's inputs", "SELECT name FROM ports UNION ALL SELECT name FROM vessels LIMIT 3"),
                (
                    "a sort into a union's inputs",
                    "SELECT name FROM ports UNION ALL SELECT name FROM vessels ORDER BY name LIMIT 3",
                ),
                (
                    "into the side that a join keeps",
                    "SELECT p.name, v.name FROM ports p LEFT JOIN vessels v ON v.id = p.id LIMIT 3",
                ),
                (
                    "a sort into it",
                    "SELECT p.name, v.name FROM ports p LEFT JOIN vessels v ON v.id = p.id ORDER BY p.name LIMIT 3",
                ),
                (
                    "not a sort by the other side",
                    "SELECT p.name, v.name FROM ports p LEFT JOIN vessels v ON v.id = p.id ORDER BY v.name LIMIT 3",
                ),
                ("one row says whether there is any", "SELECT name FROM ports WHERE EXISTS (SELECT 1 FROM vessels)"),
                ("not below a group", "SELECT island, count(*) FROM ports GROUP BY island LIMIT 3"),
                ("not below a condition", "SELECT name FROM ports WHERE island = 'Holm' LIMIT 3"),
                (
                    "a limit of a limit is one",
                    "SELECT name FROM (SELECT name FROM ports LIMIT 9 OFFSET 2) p LIMIT 20 OFFSET 3",
                ),
                ("an offset alone skips", "SELECT name FROM ports ORDER BY name OFFSET 4"),
            ],
        ),
    );
}

#[test]
fn prune_columns() {
    read_by_eye(
        "prune_columns",
        shown(
            &["prune-columns"],
            &[
                ("only what is used is read", "SELECT name FROM vessels WHERE seats > 100"),
                ("nothing is read for a count", "SELECT count(*) FROM boardings"),
                (
                    "an aggregate that nobody asks for goes",
                    "SELECT n FROM (SELECT island, count(*) AS n, max(name) AS m FROM ports GROUP BY island) g",
                ),
                (
                    "through unions by place",
                    "SELECT name FROM (SELECT id, name FROM ports UNION ALL SELECT seats, name FROM vessels) u",
                ),
                (
                    "distinct rows keep their columns",
                    "SELECT count(*) FROM (SELECT DISTINCT island, name FROM ports) d",
                ),
                ("the keys of a join", "SELECT r.name FROM routes r JOIN boardings b ON b.route_id = r.id"),
            ],
        ),
    );
}

#[test]
fn strengthen_joins() {
    read_by_eye(
        "strengthen_joins",
        shown(
            &["strengthen-joins"],
            &[
                (
                    "a condition on the side that may be missing",
                    "SELECT r.name FROM routes r LEFT JOIN boardings b ON b.route_id = r.id WHERE b.fare > 5",
                ),
                (
                    "of a full join one side or both",
                    "SELECT 1 FROM routes r FULL JOIN sailings s ON s.route_id = r.id WHERE r.active",
                ),
                (
                    "both",
                    "SELECT 1 FROM routes r FULL JOIN sailings s ON s.route_id = r.id WHERE r.active AND s.vessel_id = 3",
                ),
                (
                    "an inner join above demands it too",
                    "SELECT 1 FROM (SELECT b.route_id FROM routes x LEFT JOIN boardings b ON b.route_id = x.id) y JOIN ports p ON p.id = y.route_id",
                ),
                (
                    "a chain of joins",
                    "SELECT 1 FROM routes r LEFT JOIN boardings b ON b.route_id = r.id JOIN vessels v ON v.id = b.sailing_id",
                ),
                (
                    "what a null may pass stays",
                    "SELECT 1 FROM routes r LEFT JOIN boardings b ON b.route_id = r.id WHERE b.fare IS NULL OR b.fare > 5",
                ),
                (
                    "so does what a function may make of it",
                    "SELECT 1 FROM routes r LEFT JOIN boardings b ON b.route_id = r.id WHERE coalesce(b.fare, 9) > 5",
                ),
                (
                    "a list does not hold a null",
                    "SELECT 1 FROM routes r LEFT JOIN boardings b ON b.route_id = r.id WHERE b.channel IN ('web', 'kiosk')",
                ),
            ],
        ),
    );
}

#[test]
fn factor_conditions() {
    read_by_eye(
        "factor_conditions",
        shown(
            &["factor-conditions", "push-filters"],
            &[
                (
                    "an equality in every branch becomes a join",
                    "SELECT 1 FROM routes r, sailings s WHERE (r.id = s.route_id AND r.active) OR (r.id = s.route_id AND s.vessel_id = 7)",
                ),
                (
                    "a branch that demands nothing more",
                    "SELECT 1 FROM ports WHERE island = 'Holm' OR (island = 'Holm' AND id > 3)",
                ),
                ("nothing in common", "SELECT 1 FROM ports WHERE island = 'Holm' OR id > 3"),
            ],
        ),
    );
}

#[test]
fn merge_projections() {
    read_by_eye(
        "merge_projections",
        shown(
            &["merge-projections"],
            &[
                ("renamed columns", "SELECT x FROM (SELECT id AS x, name FROM ports) p"),
                ("what is computed once", "SELECT x + 1 FROM (SELECT id * 2 AS x FROM ports) p"),
                ("not what would be computed twice", "SELECT x + x FROM (SELECT id * 2 AS x FROM ports) p"),
                ("not what is random", "SELECT x FROM (SELECT random() AS x FROM ports) p"),
            ],
        ),
    );
}

#[test]
fn drop_empty() {
    read_by_eye(
        "drop_empty",
        shown(
            &["drop-empty"],
            &[
                ("a condition that is never true", "SELECT name FROM ports WHERE false AND id > 3"),
                ("nor is one that is null", "SELECT island, count(*) FROM ports WHERE null GROUP BY island"),
                ("a count of nothing is a row", "SELECT count(*) FROM ports WHERE false"),
                ("no rows are asked for", "SELECT name FROM ports ORDER BY id LIMIT 0"),
                (
                    "a join needs both sides",
                    "SELECT 1 FROM ports p JOIN (SELECT * FROM routes WHERE false) r ON r.from_port = p.id",
                ),
                (
                    "an outer join one",
                    "SELECT r.name FROM ports p LEFT JOIN (SELECT * FROM routes WHERE false) r ON r.from_port = p.id",
                ),
                ("a part of a union", "SELECT name FROM ports UNION ALL SELECT name FROM routes WHERE false"),
                ("bounds with nothing in between", "SELECT name FROM ports WHERE id >= 7 AND name > 'a' AND id < 7"),
                ("bounds with one value in between", "SELECT name FROM ports WHERE id >= 7 AND id <= 7"),
                (
                    "all ways of OR",
                    "SELECT name FROM ports WHERE id > 7 AND (id = 3 OR id IS NULL OR id IN (1, 2) AND name = 'a')",
                ),
                ("one way is left", "SELECT name FROM ports WHERE id > 7 AND (id = 3 OR id IN (1, 8))"),
                ("null is no value of a comparison", "SELECT name FROM ports WHERE id IS NULL AND id <> 3 AND id = 4"),
                (
                    "what is not compared is not judged",
                    "SELECT name FROM ports WHERE id > 7 AND (id = 3 OR length(name) = 2)",
                ),
                (
                    "a common result that nothing reads any more",
                    "WITH n AS (SELECT island, count(*) AS c FROM ports GROUP BY island) SELECT a.c FROM n a JOIN n b ON a.c = b.c WHERE false",
                ),
            ],
        ),
    );
}

#[test]
fn drop_needless() {
    read_by_eye(
        "drop_needless",
        shown(
            &["merge-projections", "drop-needless"],
            &[
                (
                    "an order below a group",
                    "SELECT island, count(*) FROM (SELECT * FROM ports ORDER BY name) p GROUP BY island",
                ),
                ("not below an array", "SELECT array_agg(name) FROM (SELECT * FROM ports ORDER BY name) p"),
                ("not below a limit", "SELECT count(*) FROM (SELECT * FROM ports ORDER BY name LIMIT 5) p"),
                (
                    "an order below a join",
                    "SELECT 1 FROM (SELECT * FROM ports ORDER BY name) p JOIN routes r ON r.from_port = p.id",
                ),
                (
                    "DISTINCT of groups",
                    "SELECT DISTINCT island, n FROM (SELECT island, count(*) AS n FROM ports GROUP BY island) g",
                ),
                ("DISTINCT with the primary key", "SELECT DISTINCT id, name FROM ports"),
                ("not without it", "SELECT DISTINCT name FROM ports"),
                (
                    "a left join to a key that nobody asks for",
                    "SELECT b.fare FROM boardings b LEFT JOIN routes r ON r.id = b.route_id",
                ),
                ("not when it may add rows", "SELECT r.name FROM routes r LEFT JOIN boardings b ON b.route_id = r.id"),
            ],
        ),
    );
}

#[test]
fn unnest_subqueries() {
    read_by_eye(
        "unnest_subqueries",
        shown(
            &["merge-projections"],
            &[
                (
                    "a condition goes into the join",
                    "SELECT name FROM routes r WHERE EXISTS (SELECT 1 FROM boardings b WHERE b.route_id = r.id AND b.fare > 9)",
                ),
                (
                    "a value is computed for each group",
                    "SELECT r.name, (SELECT max(fare) FROM boardings b WHERE b.route_id = r.id) FROM routes r",
                ),
                (
                    "a count is zero where nothing is found",
                    "SELECT r.name, (SELECT count(*) FROM boardings b WHERE b.route_id = r.id) FROM routes r",
                ),
                (
                    "without an equality the values of the outer columns are put in",
                    "SELECT r.name, (SELECT sum(fare) FROM boardings b WHERE b.fare < r.nautical_miles) FROM routes r",
                ),
                (
                    "a limit for each outer row",
                    "SELECT p.name, x.name FROM ports p, LATERAL (SELECT name FROM routes r WHERE r.from_port = p.id ORDER BY opened LIMIT 2) x",
                ),
                ("a truth value", "SELECT name, id IN (SELECT from_port FROM routes) FROM ports"),
            ],
        ),
    );
}

#[test]
fn push_subqueries() {
    read_by_eye(
        "push_subqueries",
        shown(
            &["push-filters", "push-subqueries", "merge-projections"],
            &[
                (
                    "each row is looked up before it is paired",
                    "SELECT p.name, r.name FROM ports p, routes r WHERE p.id IN (SELECT from_port FROM routes) OR r.active",
                ),
                (
                    "conditions about a value go where it is compared",
                    "SELECT p.name, r.name FROM routes r, ports p WHERE p.id > (SELECT min(from_port) FROM routes) OR p.island = 'Holm'",
                ),
                (
                    "two relations are joined first, and their conditions with them",
                    "SELECT 1 FROM routes r, vessels v, ports p WHERE r.from_port = p.id AND NOT EXISTS (SELECT 1 FROM boardings b WHERE b.route_id = r.id AND b.fare > p.id)",
                ),
                (
                    "below the optional side of an outer join",
                    "SELECT b.fare FROM routes r LEFT JOIN boardings b ON b.route_id = r.id WHERE r.id NOT IN (SELECT id FROM ports)",
                ),
                (
                    "through a projection that renames",
                    "SELECT d.a FROM (SELECT r.id AS a, b.fare * 2 AS double FROM routes r, boardings b) d WHERE EXISTS (SELECT 1 FROM ports p WHERE p.id = d.a)",
                ),
                (
                    "not where a join leaves fewer rows",
                    "SELECT b.fare FROM boardings b JOIN routes r ON r.id = b.route_id WHERE r.id = 7 AND b.holder_id IN (SELECT id FROM vessels)",
                ),
                (
                    "not by pairing relations that others link",
                    "SELECT 1 FROM routes r, ports p, boardings b WHERE b.route_id = r.id AND b.holder_id = p.id AND EXISTS (SELECT 1 FROM vessels v WHERE v.id < r.id AND v.draught > p.id)",
                ),
                (
                    "not when a second partner would be an error",
                    "SELECT (SELECT v.name FROM vessels v WHERE v.name < r.name) FROM routes r, ports p",
                ),
            ],
        ),
    );
}

#[test]
fn the_trace_tells_what_was_done_and_what_was_off() {
    let sql = "SELECT b.fare FROM boardings b JOIN routes r ON r.id = b.route_id WHERE r.id = 7 LIMIT 2";
    let trace = plan_without("infer-filters", sql).rewrites;
    let told: Vec<(&str, bool, bool)> =
        trace.iter().map(|entry| (entry.rewrite.as_str(), entry.changed, entry.switched_off)).collect();
    assert_eq!(
        told,
        [
            ("fold-constants", false, false),
            ("unwrap-casts", false, false),
            ("drop-empty", false, false),
            ("unnest-subqueries", false, false),
            ("factor-conditions", false, false),
            ("strengthen-joins", false, false),
            ("push-filters", true, false),
            ("push-subqueries", false, false),
            ("infer-filters", false, true),
            ("drop-needless", false, false),
            ("merge-projections", false, false),
            ("order-joins", false, false),
            ("split-aggregates", false, false),
            ("push-limit", true, false),
            ("prune-columns", true, false),
            ("prune-fields", false, false),
        ]
    );
    // What one rule leaves is what the next one finds.
    let changed: Vec<_> = trace.iter().filter(|entry| entry.changed).collect();
    for pair in changed.windows(2) {
        assert_eq!(pair[0].after, pair[1].before, "{} and {}", pair[0].rewrite, pair[1].rewrite);
    }
    let whole = plan(sql);
    let note = whole.rewrites.iter().find(|entry| entry.rewrite == "infer-filters").unwrap();
    assert_eq!(note.notes, ["b.route_id = 7, because r.id = b.route_id and r.id = 7"]);
}

#[test]
fn a_second_pass_finds_nothing_to_do() {
    for sql in [
        "SELECT b.fare FROM boardings b JOIN routes r ON r.id = b.route_id WHERE r.active AND b.fare > 5 ORDER BY 1 LIMIT 3",
        "SELECT island, count(*) FROM ports WHERE name > 'M' GROUP BY island HAVING count(*) > 1",
        "SELECT name FROM ports UNION ALL SELECT name FROM vessels LIMIT 3",
        "SELECT r.name FROM routes r LEFT JOIN boardings b ON b.route_id = r.id WHERE r.id < 5",
    ] {
        let settings = cobble_optimize::Settings::default();
        let cancel = Default::default();
        let context = cobble_optimize::rewrites::Context::new(&settings, &|_| None, &cancel);
        let (once, _) =
            cobble_optimize::rewrites::apply_all(crate::support::bind(sql).unwrap().plan, &context).unwrap();
        let text = once.to_string();
        let (twice, trace) = cobble_optimize::rewrites::apply_all(once, &context).unwrap();
        assert_eq!(twice.to_string(), text, "{sql}");
        assert!(trace.iter().all(|entry| !entry.changed), "{sql}");
    }
}
