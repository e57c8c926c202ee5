//! What statements mean: the types of results, and the errors of those that mean nothing.

use crate::support::bind;

fn types(sql: &str) -> Vec<String> {
    let bound = bind(sql).unwrap_or_else(|e| panic!("{sql}: {e}"));
    bound.columns.iter().map(|c| format!("{} {}", c.name, c.sql_type)).collect()
}

#[test]
fn results_have_the_types_that_postgresql_gives_them() {
    let mut wrong = Vec::new();
    for (expression, expected) in [
        ("1", "integer"),
        ("3000000000", "bigint"),
        ("1.50", "numeric(3,2)"),
        ("'text'", "text"),
        ("NULL", "text"),
        ("true", "boolean"),
        ("1 + 2", "integer"),
        ("1 + 3000000000", "bigint"),
        ("7 / 2", "integer"),
        ("seats + 1", "integer"),
        ("seats * 1.5", "numeric(7,1)"),
        ("draught + seats", "double precision"),
        ("draught / 2", "double precision"),
        ("seats::numeric(8,2) / 3", "numeric(38,16)"),
        ("seats::real", "real"),
        ("-seats", "smallint"),
        ("name || seats", "text"),
        ("name LIKE 'A%'", "boolean"),
        ("seats BETWEEN 1 AND 9", "boolean"),
        ("seats IN (1, 2)", "boolean"),
        ("CASE WHEN seats > 9 THEN 1 ELSE 2.5 END", "numeric(11,1)"),
        ("coalesce(seats, 1)", "integer"),
        ("nullif(seats, 1)", "smallint"),
        ("greatest(seats, draught)", "double precision"),
        ("length(name)", "integer"),
        ("substring(name FROM 2 FOR 3)", "text"),
        ("position('a' IN name)", "integer"),
        ("date '2026-01-31' + 1", "date"),
        ("date '2026-01-31' - date '2026-01-01'", "integer"),
        ("date '2026-01-31' + interval '1 month'", "timestamp"),
        ("timestamp '2026-01-31 10:00' - timestamp '2026-01-30 09:00'", "interval"),
        ("current_date", "date"),
        ("now()", "timestamptz"),
        ("extract(year FROM now())", "numeric(20,0)"),
        ("date_part('year', now())", "double precision"),
        ("date_trunc('month', timestamp '2026-01-31 10:00')", "timestamp"),
        ("make_date(2026, 1, 31)", "date"),
        ("round(draught)", "double precision"),
        ("cast(seats AS text)", "text"),
        ("'12'::integer", "integer"),
        ("seats IS NULL", "boolean"),
        ("seats IS DISTINCT FROM 3", "boolean"),
        ("(SELECT max(name) FROM ports)", "text"),
    ] {
        let got = types(&format!("SELECT {expression} AS x FROM vessels"));
        if got != [format!("x {expected}")] {
            wrong.push(format!("{expression}: {got:?}, not {expected}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn aggregates_widen_as_in_postgresql() {
    assert_eq!(
        types(
            "SELECT count(*), sum(seats), avg(seats), sum(id::bigint), min(name), max(draught), avg(draught), bool_and(seats > 3) FROM vessels"
        ),
        [
            "count bigint",
            "sum bigint",
            "avg numeric(38,16)",
            "sum numeric(38,0)",
            "min text",
            "max double precision",
            "avg double precision",
            "bool_and boolean",
        ]
    );
}

#[test]
fn names_of_results_and_stars() {
    for (sql, expected) in [
        ("SELECT * FROM ports", &["id", "name", "island"][..]),
        ("SELECT p.*, 1 AS one FROM ports p", &["id", "name", "island", "one"]),
        (
            "SELECT p.name, count(*), 1 + 1, name::text, CASE WHEN true THEN 1 END FROM ports p GROUP BY p.name",
            &["name", "count", "?column?", "name", "case"],
        ),
        ("SELECT * FROM ports JOIN (SELECT id, seats FROM vessels) v USING (id)", &["id", "name", "island", "seats"]),
        ("SELECT * FROM (SELECT id, seats FROM vessels) v NATURAL JOIN ports", &["id", "seats", "name", "island"]),
        ("SELECT \"name\" AS \"Name of Port\" FROM ports", &["Name of Port"]),
        ("WITH p(number, label) AS (SELECT id, name FROM ports) SELECT * FROM p", &["number", "label"]),
        ("SELECT * FROM (VALUES (1, 'a'), (2, 'b')) AS t(n)", &["n", "column2"]),
        (
            "SELECT upper(name), extract(day FROM now()), position('a' IN name) FROM ports",
            &["upper", "extract", "position"],
        ),
        ("SELECT name FROM ports UNION SELECT island AS other FROM ports", &["name"]),
    ] {
        let bound = bind(sql).unwrap_or_else(|e| panic!("{sql}: {e}"));
        let names: Vec<&str> = bound.columns.iter().map(|c| c.name.as_str()).collect();
        assert_eq!(names, expected, "{sql}");
    }
}

#[test]
fn mistakes_have_a_place_and_a_hint() {
    let mut wrong = Vec::new();
    for (sql, code, place, parts) in [
        ("SELECT nam FROM ports", "42703", (1, 8), &["no column named \"nam\"", "did you mean \"name\"?"][..]),
        ("SELECT p.nam FROM ports p", "42703", (1, 8), &["did you mean \"p.name\"?"]),
        ("SELECT q.name\nFROM ports p\nWHERE 1 = 1", "42P01", (1, 8), &["no table or alias named \"q\""]),
        ("SELECT 1 FROM portz", "42P01", (1, 15), &["did you mean \"ports\"?"]),
        ("SELECT id FROM ports JOIN vessels ON true", "42702", (1, 8), &["ambiguous", "ports.id or vessels.id"]),
        ("SELECT name FROM ports GROUP BY island", "42803", (1, 8), &["must stand in GROUP BY"]),
        ("SELECT island,\n  count(*), name\nFROM ports GROUP BY 1", "42803", (2, 13), &["\"ports.name\""]),
        ("SELECT count(*) FROM ports WHERE count(*) > 1", "42803", (1, 34), &["cannot stand here", "HAVING"]),
        ("SELECT sum(count(*)) FROM ports", "42803", (1, 12), &["not inside each other"]),
        ("SELECT 1 FROM ports GROUP BY 3", "42P10", (1, 30), &["places go from 1 to 1"]),
        ("SELECT name + 1 FROM ports", "42883", (1, 8), &["does not take text and integer"]),
        ("SELECT 1 FROM ports WHERE name", "42804", (1, 27), &["WHERE takes a boolean, not text"]),
        ("SELECT uper(name) FROM ports", "42883", (1, 8), &["did you mean \"upper\"?"]),
        ("SELECT upper(1) FROM ports", "42883", (1, 8), &["upper(integer) does not exist", "upper(text)"]),
        ("SELECT extract(yeer FROM now())", "22023", (1, 26), &["did you mean \"year\"?"]),
        ("SELECT '12x'::integer", "22P02", (1, 8), &["12x"]),
        ("SELECT date '2026-02-30'", "22008", (1, 13), &["2026-02-30"]),
        ("SELECT 1::strang", "42704", (1, 8), &["no type named \"strang\""]),
        ("SELECT id FROM ports UNION SELECT id, name FROM ports", "42601", (1, 28), &["1 and 2 columns"]),
        ("SELECT id FROM ports UNION SELECT name FROM ports", "42804", (1, 35), &["integer and text"]),
        ("SELECT 1 FROM ports LIMIT -1", "2201W", (1, 28), &["must not be negative"]),
        ("SELECT DISTINCT island FROM ports ORDER BY name", "42P10", (1, 44), &["with DISTINCT"]),
        ("SELECT 1 FROM ports WHERE id IN (SELECT id, name FROM ports)", "42601", (1, 27), &["one column, not 2"]),
        ("SELECT (SELECT id, name FROM ports)", "42601", (1, 9), &["one column, not 2"]),
        ("SELECT * ", "42601", (1, 8), &["needs a table in FROM"]),
        ("SELECT 1 FROM (SELECT", "42601", (1, 22), &[]),
        ("SELECT name FROM ports ORDER", "42601", (1, 24), &[]),
        ("SELECT 123456789012345678901234567890123456789012", "22023", (1, 8), &["at most 38 digits"]),
        ("SELECT 1::numeric(50,2)", "22023", (1, 8), &["1 to 38 digits"]),
        ("SELECT avg(name) FROM ports", "42883", (1, 8), &["avg(text) does not exist"]),
    ] {
        let error = match bind(sql) {
            Err(error) => error,
            Ok(_) => panic!("{sql} was bound"),
        };
        let position = error.position.map_or((0, 0), |p| (p.line, p.column));
        let told = format!("{error}");
        let found = (error.code.sqlstate(), position);
        if found != (code, place) || parts.iter().any(|part| !told.contains(part)) {
            wrong.push(format!("{sql}\n  {found:?} {told}\n  not {:?} {parts:?}", (code, place)));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
