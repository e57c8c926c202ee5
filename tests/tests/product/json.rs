//! JSON beside PostgreSQL: paths, the functions that read by them, functions that make rows side by side. What PostgreSQL 15 does
//! not know yet (`JSON_TABLE`, `JSON_VALUE`) has written answers.

use cobble_tests::{compare_with_judge, in_engine};

const DOCUMENTS: &str = r#"WITH d(n, j) AS (VALUES
    (1, '{"boat": "Elder", "legs": [{"to": "Pine Quay", "minutes": 10}, {"to": "Birch Stairs", "minutes": 25}], "crew": ["Ada", "Bo"]}'::jsonb),
    (2, '{"boat": "Fir", "legs": [], "crew": null, "weight": -3.5}'::jsonb),
    (3, '[1, 2, [3, "x"], {"a": [4, {"a": 5}]}]'::jsonb),
    (4, '"7.5"'::jsonb),
    (5, null::jsonb),
    (6, '{"a": {"b": null}, "t": true, "two words": "yes"}'::jsonb)) "#;

#[tokio::test(flavor = "multi_thread")]
async fn paths_find_what_postgresql_finds() {
    let paths = [
        "$",
        "$.boat",
        "$.legs[*].minutes",
        "$.legs.minutes",
        "$.legs[0].to",
        "$.legs[last].to",
        "$.legs[0 to last]",
        "$[1, 3]",
        "$[last - 1]",
        "$.*",
        "$.**",
        "$.**.a",
        "$.\"two words\"",
        "$.legs[*] ? (@.minutes > 15)",
        "$.legs[*] ? (@.minutes > 5 && @.to starts with \"Pine\").to",
        "$.legs[*] ? (@.to like_regex \"^b\" flag \"i\").minutes",
        "$.legs ? (exists(@[*] ? (@.minutes == 10)))",
        "$ ? (@.boat == \"Fir\" || @.boat == \"Elder\").boat",
        "$ ? (!(@.boat == \"Fir\")).boat",
        "$ ? ((@.boat > 5) is unknown)",
        "$.legs.size()",
        "$.crew.type()",
        "$.weight.abs()",
        "$.weight.floor()",
        "$.weight.ceiling()",
        "$.legs[*].minutes + 1",
        "-$.weight",
        "$.legs.size() * 2 - 1",
        "$.legs[0].minutes % 3",
        "$.a.b == null",
        "$.t == true",
        "$.a.b",
        "$.nothing.at.all",
        "$[0] == 1 && $[1] < 3",
        "$.legs[*] ? (@.minutes >= 10 && (@.minutes < 20 || @.to != \"Pine Quay\"))",
        "strict $.boat",
        "lax $[*]",
        "$[2][1]",
        "$ ? (@.crew == null).boat",
        "1 + 2 * 3",
        "$.legs[*] ? (@.minutes > $least)",
    ];
    let mut statements = Vec::new();
    for path in paths {
        let silent = r#"'{"least": 12}', true"#;
        statements.push(format!("SELECT n, jsonb_path_query(j, '{path}', {silent}) FROM d"));
        statements.push(format!(
            "SELECT n, jsonb_path_exists(j, '{path}', {silent}), jsonb_path_query_first(j, '{path}', {silent}), jsonb_path_query_array(j, '{path}', {silent}) FROM d"
        ));
    }
    let more = [
        "SELECT n FROM d WHERE j @? '$.legs[*] ? (@.minutes > 15)'",
        "SELECT n, j @@ '$.boat == \"Fir\"', j @@ '$.boat' FROM d",
        "SELECT n, jsonb_path_match(j, '$.boat == \"Elder\"') FROM d",
        "SELECT d.n, p FROM d, jsonb_path_query(d.j, '$.crew[*]') p",
        "SELECT n, jsonb_path_query(j, '$.legs[*].minutes') AS m, jsonb_path_query(j, '$.crew[*]') AS c FROM d",
    ];
    let statements: Vec<&str> = statements.iter().map(String::as_str).chain(more).collect();
    compare_with_judge(DOCUMENTS, &statements).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn functions_that_make_rows_stand_side_by_side() {
    compare_with_judge(
        "",
        &[
            "SELECT generate_series(1, 3), generate_series(1, 5, 2) + 1, unnest(ARRAY['x', 'y'])",
            "SELECT n, generate_series(1, n), unnest(ARRAY['x', 'y']) FROM generate_series(0, 3) AS s(n)",
            "SELECT unnest(regexp_matches('a1b2', '([a-z])([0-9])', 'g')), generate_series(1, 2)",
            "SELECT generate_series(1, generate_series(1, 3)), generate_series(1, 2)",
            "SELECT generate_series(1, 2), unnest(ARRAY[]::int[])",
            "SELECT unnest(ARRAY[]::int[]), unnest(ARRAY[]::text[])",
            "SELECT count(*), generate_series(1, count(*)), unnest(ARRAY[max(n), min(n)]) FROM generate_series(4, 6) AS s(n)",
            "SELECT generate_series(timestamp '2025-01-01', '2025-01-03', '1 day'), generate_series(1, 5)",
            "SELECT n, generate_series(timestamp '2025-01-01', timestamp '2025-01-01' + n * interval '1 hour', '1 hour'), generate_series(1, 3 - n) FROM generate_series(0, 3) AS s(n)",
            "SELECT n FROM generate_series(1, 3) AS s(n) WHERE n IN (SELECT generate_series(2, 3))",
            "SELECT a, count(*) FROM (SELECT generate_series(1, 20000) % 3 AS a, generate_series(1, 15000) AS b) x GROUP BY a",
            "SELECT count(*), count(a), count(b), sum(b) FROM (SELECT generate_series(1, 20000) AS a, generate_series(1, 15000) AS b) x",
        ],
    )
    .await;
}

async fn answer(sql: &str) -> Vec<String> {
    match in_engine(sql).await {
        Ok(rows) => rows,
        Err(error) => vec![format!("{} {}", error.code.sqlstate(), error.message)],
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn json_table_reads_documents_as_rows() {
    let columns = "number FOR ORDINALITY, boat text PATH '$.boat', weight numeric(5,1) PATH '$.weight' DEFAULT '0' ON EMPTY, \
        crewed boolean EXISTS PATH '$.crew[*]', legs json PATH '$.legs', bad integer PATH '$.boat' DEFAULT '-1' ON ERROR, \
        NESTED PATH '$.legs[*]' COLUMNS (leg FOR ORDINALITY, minutes integer PATH '$.minutes'), \
        NESTED PATH '$.crew[*]' COLUMNS (hand text PATH '$')";
    let sql = format!(
        "{DOCUMENTS} SELECT d.n, t.* FROM d, JSON_TABLE(d.j, '$' COLUMNS ({columns})) AS t WHERE n IN (1, 2, 5, 6)"
    );
    insta::assert_snapshot!(answer(&sql).await.join("\n"));
    let sum = "SELECT sum(m) FROM JSON_TABLE('[{\"m\": 1}, {\"m\": \"x\"}, {\"m\": 4}]', '$[*]' COLUMNS (m integer PATH '$.m')) AS t";
    assert_eq!(answer(sum).await, ["5"]);
    let values = "SELECT json_value('{\"a\": \"12\", \"b\": \"x\"}', '$.a' RETURNING integer) + 1, json_value('{\"b\": \"x\"}', '$.b' RETURNING integer), \
        json_query('{\"a\": [1]}', '$.a'), json_exists('{\"a\": [1]}', '$.a[1]'), json_value('{\"a\": [1]}', 'strict $.b')";
    assert_eq!(answer(values).await, ["13|∅|[1]|false|∅"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn wrong_paths_are_named() {
    let deep = format!("$ ? {}@ == 1{}", "(".repeat(500), ")".repeat(500));
    let mut out = Vec::new();
    for path in [
        "$.legs[",
        "$.",
        "legs",
        "$ ? (@.a)",
        "$ ? (@ == )",
        "$.a.nomethod()",
        "$.a b",
        "",
        "$ ? (@ like_regex \"(\")",
        &deep,
    ] {
        out.push(answer(&format!("SELECT json_path_query('{{}}', '{path}')")).await.join("\n"));
    }
    for sql in [
        "SELECT json_path_query('{\"a\": \"x\"}', '$.a + 1')",
        "SELECT json_path_query('{}', '$ + $none')",
        "SELECT json_path_query('{\"a\": 1}', '$.a / 0')",
        "SELECT * FROM JSON_TABLE('{}', '$' COLUMNS (a integer PATH '$.a' ERROR ON EMPTY)) AS t",
        "SELECT * FROM JSON_TABLE(5, '$' COLUMNS (a integer PATH '$.a')) AS t",
        "SELECT json_query('{}', '$' RETURNING integer)",
    ] {
        out.push(answer(sql).await.join("\n"));
    }
    insta::assert_snapshot!(out.join("\n"));
}
