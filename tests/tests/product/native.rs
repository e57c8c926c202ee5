//! Queries in a source's own language: what is around them is put around their text and handed over, and only a single query that
//! reads is ever sent.

use cobble_tests::{judge, judged, measured, ours, over_http, product};

/// Ours, and the same over the judge's tables.
const STATEMENTS: &[(&str, &str)] = &[
    (
        "SELECT name, n FROM native_query('fleet', $$ SELECT p.name, count(*) AS n FROM pass_holders h JOIN ports p ON p.id = h.home_port GROUP BY 1 $$) WHERE n > 40",
        "SELECT p.name, count(*) FROM pass_holders h JOIN ports p ON p.id = h.home_port GROUP BY 1 HAVING count(*) > 40",
    ),
    (
        "SELECT q.t1, v.name FROM native_query('fleet', 'SELECT id AS t1, to_tsvector(name)::text AS words FROM vessels t1 WHERE id < 9') q JOIN fleet.public.vessels v ON v.id = q.t1 WHERE q.words LIKE '%heron%'",
        "SELECT id, name FROM vessels WHERE id < 9 AND name LIKE '%Heron%'",
    ),
    (
        "SELECT kind, sum(cost), max(days) FROM native_query('yard', 'SELECT kind, cost, datediff(closed_at, opened_at) AS days FROM yard.work_orders WHERE urgency > 3 -- the urgent ones') GROUP BY kind ORDER BY 2 DESC LIMIT 3",
        "SELECT kind, sum(cost), max(closed_at::date - opened_at::date) FROM work_orders WHERE urgency > 3 GROUP BY kind ORDER BY 2 DESC LIMIT 3",
    ),
    (
        "SELECT article, sum(quantity) FROM native_query('till', 'SELECT article, quantity, strftime(''%Y'', sold_at) AS year FROM kiosk_sales WHERE by_card;') WHERE article <> 'postcard' AND year = '2024' GROUP BY article",
        "SELECT article, sum(quantity) FROM kiosk_sales WHERE by_card AND article <> 'postcard' AND sold_on BETWEEN '2024-01-01' AND '2024-12-31' GROUP BY article",
    ),
    (
        "WITH q AS (SELECT * FROM native_query('fleet', 'SELECT id, name FROM ports')) SELECT a.name FROM q a WHERE a.id IN (SELECT max(id) FROM q)",
        "SELECT name FROM ports WHERE id = 40",
    ),
    // One column keeps its name under an alias: this is a table, not a function of one value.
    (
        "SELECT q.id FROM native_query('fleet', 'SELECT id FROM ports') q WHERE q.id < 3",
        "SELECT id FROM ports WHERE id < 3",
    ),
];

#[tokio::test(flavor = "multi_thread")]
async fn a_native_query_is_a_table_like_any_other() {
    let judge = judge().await;
    for (sql, same) in STATEMENTS {
        let mut wanted = judged(&judge, same).await.unwrap_or_else(|e| panic!("{same}: {e}"));
        let mut found = ours(&over_http(sql).await.unwrap_or_else(|e| panic!("{sql}: {e}")));
        wanted.sort();
        found.sort();
        assert!(!wanted.is_empty(), "{same}");
        assert_eq!(found, wanted, "{sql}");
    }
}

/// What a statement leaves in a session of the server is not found by the next one.
#[tokio::test(flavor = "multi_thread")]
async fn a_query_leaves_nothing_behind_in_the_pool() {
    let product = product();
    let owner = product.database("fleet").await;
    let made = "CREATE OR REPLACE FUNCTION sly(n int) RETURNS int LANGUAGE plpgsql AS $$ BEGIN
            PERFORM set_config('application_name', 'sly', false), set_config('timezone', 'Asia/Tokyo', false);
            PERFORM set_config('default_transaction_read_only', 'off', false), pg_advisory_lock(77);
            RETURN n; END $$;
        CREATE TABLE IF NOT EXISTS tidemarks (n int); GRANT ALL ON tidemarks TO reader;
        CREATE OR REPLACE VIEW sly_view AS SELECT sly(1) AS n; GRANT SELECT ON sly_view TO reader";
    owner.batch_execute(made).await.unwrap();
    let seen = "SELECT a, z, w FROM native_query('fleet', $$ SELECT current_setting('application_name') AS a, current_setting('timezone') AS z,
            current_setting('default_transaction_read_only') AS w $$)";
    // In a transaction of its own, which began before the statement.
    let begun = "SELECT n FROM native_query('fleet', 'SELECT now() < statement_timestamp() AS n')";
    assert_eq!(ours(&over_http(begun).await.unwrap()), ["true"]);
    let begun = "SELECT n FROM native_query('yard', 'SELECT @@in_transaction AS n')";
    assert_eq!(ours(&over_http(begun).await.unwrap()), ["1"]);
    for sql in ["SELECT n FROM native_query('fleet', 'SELECT sly(1) AS n')", "SELECT n FROM fleet.public.sly_view"] {
        assert_eq!(ours(&over_http(sql).await.unwrap()), ["1"]);
        // All connections of the pool.
        for _ in 0..8 {
            assert_eq!(ours(&over_http(seen).await.unwrap()), ["cobble lane|UTC|on"], "{sql}");
        }
        // In this database: the service holds its records by such a lock in theirs.
        let locks = "SELECT count(*) FROM pg_locks l JOIN pg_database d ON d.oid = l.database
            WHERE l.locktype = 'advisory' AND d.datname = 'fleet'";
        assert_eq!(judged(&owner, locks).await.unwrap(), ["0"], "{sql}");
    }
    let insert = "CREATE OR REPLACE FUNCTION slier(m int) RETURNS int LANGUAGE plpgsql AS $$ BEGIN
            INSERT INTO tidemarks VALUES (m); RETURN m; END $$";
    owner.batch_execute(insert).await.unwrap();
    let error = over_http("SELECT n FROM native_query('fleet', 'SELECT slier(1) AS n')").await.unwrap_err();
    assert!(error.to_string().contains("read-only transaction"), "{error}");
    let error = over_http("SELECT n FROM native_query('fleet', 'SELECT pg_sleep(1)::text AS n')").await.unwrap_err();
    assert!(error["hint"].as_str().unwrap().contains("native_functions = any"), "{error}");
    let gone = "DROP VIEW sly_view; DROP FUNCTION sly, slier; DROP TABLE tidemarks";
    owner.batch_execute(gone).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_stands_around_it_is_handed_over() {
    for (catalog, text) in [
        ("fleet", "SELECT id, name, home_port FROM vessels"),
        ("yard", "SELECT id, kind AS name, vessel_id AS home_port FROM yard.work_orders"),
        ("till", "SELECT id, article AS name, port_id AS home_port FROM kiosk_sales"),
    ] {
        let around = "WHERE home_port = 4 AND name > 'd' GROUP BY name ORDER BY name LIMIT 2";
        let sql = format!("SELECT name, count(*) FROM native_query('{catalog}', '{text}') {around}");
        let plan = measured(&sql).await;
        let gate = &plan["gates"][0];
        let pieces = gate["pieces"].as_array().unwrap();
        assert!(pieces.iter().all(|piece| piece["verdict"] == "pushed"), "{catalog}: {gate}");
        let rows = gate["measure"]["rows"].as_u64().unwrap();
        assert_eq!(rows, over_http(&sql).await.unwrap().len() as u64, "{catalog}: {gate}");
        let request = gate["request"]["text"].as_str().unwrap();
        assert!(request.contains(&format!("({text})")), "{catalog}: {request}");
        assert!(request.chars().all(|c| !c.is_control()), "{request:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn only_a_single_query_that_reads_is_sent() {
    let mut shown = String::new();
    for call in [
        "native_query('fleet', 'DELETE FROM ports')",
        "native_query('fleet', 'SELECT 1 AS a; SELECT 2 AS b')",
        "native_query('fleet', 'WITH gone AS (DELETE FROM ports RETURNING id) SELECT id FROM gone')",
        "native_query('fleet', 'SELECT id INTO copies FROM ports')",
        "native_query('fleet', 'SELECT id FROM ports FOR UPDATE')",
        "native_query('fleet', 'SELECT id FROM ports WHERE id = $1')",
        "native_query('fleet', 'SELECT id FROM ports) AS q; DROP TABLE ports; SELECT * FROM (SELECT 1')",
        "native_query('fleet', 'SELECT FROM WHERE')",
        "native_query('fleet', 'SELECT id, id FROM ports')",
        "native_query('fleet', 'SELECT max(id), 1 + 1 FROM ports')",
        "native_query('fleet', 'SELECT nothing FROM ports')",
        "native_query('fleet', 'SELECT nextval(''gone'') AS n')",
        "native_query('yard', 'SELECT nothing FROM yard.parts')",
        "native_query('till', 'SELECT nothing FROM kiosk_sales')",
        "native_query('yard', 'UPDATE yard.parts SET id = 1')",
        "native_query('till', 'ATTACH ''x'' AS y')",
        "native_query('drop', 'SELECT 1')",
        "native_query('flet', 'SELECT 1')",
        "native_query('fleet')",
        "native_query('fleet', 'SEL' || 'ECT 1')",
    ] {
        let error = over_http(&format!("SELECT * FROM {call}")).await.expect_err(call);
        let hint = error["hint"].as_str().map(|hint| format!("; {hint}")).unwrap_or_default();
        shown.push_str(&format!(
            "{call}\n    {} {}{hint}\n",
            error["sqlstate"].as_str().unwrap(),
            error["message"].as_str().unwrap()
        ));
    }
    insta::assert_snapshot!(shown);
}

/// Honest literals keep their values, whatever quotes and backslashes they have.
#[tokio::test(flavor = "multi_thread")]
async fn literals_keep_their_values() {
    for (catalog, literal, value) in [
        ("fleet", "'a''''b'", "a''b"),
        ("fleet", r"'\'", r"\"),
        ("fleet", r"E'\'' || '--' || $x$'$1'$x$", "'--'$1'"),
        ("fleet", "'it''s /* no comment */'", "it's /* no comment */"),
        ("yard", "'a''''b'", "a''b"),
        ("yard", r"'a\'b\\c'", r"a'b\c"),
        ("yard", "concat('-- ', \"# 'x'\")", "-- # 'x'"),
        ("till", "'a''''b'", "a''b"),
        ("till", r"'\' || '--'", r"\--"),
    ] {
        let sql = format!("SELECT a FROM native_query('{catalog}', $q$SELECT {literal} AS a /* so */ -- it is\n;$q$)");
        let found = over_http(&sql).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
        assert_eq!(found, [[serde_json::json!(value)]], "{sql}");
    }
}

/// Texts of quotes, backslashes, comments and an attack, at random: each is refused, or the server reads it as it was checked, and finds
/// the one row.
#[tokio::test(flavor = "multi_thread")]
async fn random_texts_are_refused_or_read_as_they_were_checked() {
    use rand::{Rng, SeedableRng};
    let pieces = [
        "'",
        "'",
        "''",
        "\\",
        "\\'",
        " E'",
        "$$",
        "$a$",
        "--",
        "-- ",
        "\n",
        "/*",
        "*/",
        "/*!",
        "#",
        "\"",
        "\\\"",
        "`",
        " x'",
        " U&'",
        " N'",
        " _utf8'",
        " ",
        "a",
        ";",
        " || ",
        "é",
        ") AS t1 UNION ALL SELECT 'c' -- ",
        ") AS t1 UNION ALL SELECT 'c' # ",
        "[",
        "]",
    ];
    let mut dice = rand::rngs::StdRng::seed_from_u64(41);
    for catalog in ["fleet", "yard", "till"] {
        let mut read = 0;
        for _ in 0..150 {
            let inner: String =
                (0..dice.random_range(1..8)).map(|_| pieces[dice.random_range(0..pieces.len())]).collect();
            let text = format!("SELECT '{inner}' AS a");
            let sql = format!("SELECT * FROM native_query('{catalog}', $q${text}$q$)");
            match over_http(&sql).await {
                Ok(rows) => {
                    assert_eq!(rows.len(), 1, "{catalog}: {text}");
                    read += 1;
                }
                Err(error) => {
                    let internal = error["code"].as_str().is_some_and(|code| code == "internal");
                    assert!(!internal, "{catalog}: {text}: {error}");
                }
            }
        }
        assert!(read > 15, "{catalog}: only {read} texts were read");
    }
}
