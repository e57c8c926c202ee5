//! Expressions made at random from every function, operator and cast of the language, over values of all types with nulls among them,
//! some with a value of another type than they take. PostgreSQL judges the rows with their scales and forms, and the class of each error.

use std::time::{Duration, Instant};

use cobble_tests::{judged_as_written, language_judge, plain, rows_as_written};

use super::judged::{Outcome, told, too_slow};
use super::random::Dice;

/// Rows of every type: `i` integer, `n` numeric, `f` double precision, `t` text, `b` boolean, `d` date, `s` timestamp, `z` moment,
/// `v` interval, `m` time, `j` jsonb, `a` integer[], `x` text[], `y` bytea.
const ROWS: &str = "WITH r(i, n, f, t, b, d, s, z, v, m, j, a, x, y) AS (VALUES \
 (1, 1.50, 0.5::float8, 'abc', true, date '2024-02-29', timestamp '2024-02-29 12:34:56.789', timestamptz '2024-02-29 12:34:56+00', interval '1 day 02:03:04', time '04:05:06', '{\"a\": 1, \"b\": [1, \"x\", null]}'::jsonb, array[1, 2, 3], array['a', 'b'], '\\x00ff'::bytea), \
 (-7, -20.25, -1e10, 'Heron''s  Quay ', false, date '1999-12-31', timestamp '1970-01-01 00:00:00', timestamptz '1969-12-31 23:59:59.5+00', interval '-1 year 3 mons', time '23:59:59.5', '[1, 2.5, \"y\"]', array[5, null, -7], array['', null, 'Z,z'], '\\x'), \
 (0, 0.00, 0, '', null, date '2000-01-01', timestamp '2000-01-01 00:00:00', timestamptz '2000-06-01 12:00:00+00', interval '0', time '00:00', '\"abc\"', '{}', '{}', '\\x616263'), \
 (2147483647, 99999.99, 3.25, '42', true, date '0001-01-01', timestamp '9999-12-31 23:59:59.999999', timestamptz '2024-03-31 01:00:00+00', interval '40 days 30:00:00', time '12:00', '{}', array[2, 2], array['42', 'x%'], '\\xdeadbeef'), \
 (null, null, null, null, null, null, null, null, null, null, null, null, null, null)) ";

/// What makes a value of a type, with the types of its parts in braces: `{k}` is a small number written out.
const FORMS: &[(char, &str)] = &[
    ('i', "{i} + {k}"),
    ('i', "{i} - {i}"),
    ('i', "{k} * {k}"),
    ('i', "{i} / {k}"),
    ('i', "{i} % {k}"),
    ('i', "-{i}"),
    ('i', "abs({i})"),
    ('i', "length({t})"),
    ('i', "octet_length({t})"),
    ('i', "bit_length({t})"),
    ('i', "ascii({t})"),
    ('i', "strpos({t}, {t})"),
    ('i', "position({t} IN {t})"),
    ('i', "cardinality({a})"),
    ('i', "array_length({a}, {k})"),
    ('i', "array_upper({a}, 1)"),
    ('i', "array_lower({x}, 1)"),
    ('i', "array_ndims({a})"),
    ('i', "array_position({a}, {i})"),
    ('i', "{a}[{k}]"),
    ('i', "jsonb_array_length({j})"),
    ('i', "{t}::integer"),
    ('i', "{n}::integer"),
    ('i', "{b}::integer"),
    ('i', "{f}::integer"),
    ('i', "extract(year FROM {d})::integer"),
    ('i', "extract(dow FROM {s})::integer"),
    ('i', "extract(week FROM {d})::integer"),
    ('i', "extract(quarter FROM {z})::integer"),
    ('i', "date_part('hour', {s})::integer"),
    ('i', "extract(day FROM {v})::integer"),
    ('i', "extract(minute FROM {m})::integer"),
    ('i', "{d} - {d}"),
    ('i', "greatest({i}, {k})"),
    ('i', "least({i}, {i}, 3)"),
    ('i', "coalesce({i}, {k})"),
    ('i', "nullif({i}, {k})"),
    ('i', "sign({n})::integer"),
    ('i', "width_bucket({n}, 0, 10, 5)"),
    ('i', "gcd({i}, {k})"),
    ('i', "lcm({k}, {k})"),
    ('i', "mod({i}, {k})"),
    ('i', "div({n}, 3)::integer"),
    ('i', "{i} & {k}"),
    ('i', "{i} | {k}"),
    ('i', "{i} # {k}"),
    ('i', "~{i}"),
    ('i', "{k} << {k}"),
    ('i', "{i} >> {k}"),
    ('i', "regexp_count({t}, 'a|e')"),
    ('i', "regexp_instr({t}, '[a-z]')"),
    ('i', "num_nulls({i}, {t}, {d})"),
    ('i', "num_nonnulls({i}, {n})"),
    ('i', "CASE WHEN {b} THEN {i} ELSE {k} END"),
    ('i', "CASE {i} WHEN {k} THEN 1 WHEN 1 THEN 2 END"),
    ('i', "({j} ->> 'a')::integer"),
    ('i', "({j} -> 0)::integer"),
    ('i', "get_byte({y} || '\\x0102030405', {k})"),
    ('i', "length({y})"),
    ('i', "(SELECT max(u) FROM unnest({a}) u)"),
    ('i', "factorial({k})::integer"),
    ('i', "array_length(string_to_array({t}, ','), 1)"),
    ('i', "(SELECT count(*)::integer FROM regexp_matches({t}, '[aeo]', 'g'))"),
    ('i', "date_part('epoch', {v})::integer"),
    ('i', "to_number({t}, '999')::integer"),
    ('i', "isfinite({d})::integer"),
    ('i', "bit_count({y})::integer"),
    ('n', "{n} + {n}"),
    ('n', "{n} - {i}"),
    ('n', "{n} * {n}"),
    ('n', "round({n}, {k})"),
    ('n', "trunc({n}, 1)"),
    ('n', "ceil({n})"),
    ('n', "floor({n})"),
    ('n', "abs({n})"),
    ('n', "-{n}"),
    ('n', "{i}::numeric(12,2)"),
    ('n', "{n}::numeric(9,1)"),
    ('n', "{t}::numeric"),
    ('n', "round({n} / {k}, 4)"),
    ('n', "{n} % 3"),
    ('n', "mod({n}, 0.7)"),
    ('n', "round({n})"),
    ('n', "sign({n})"),
    ('n', "round(sqrt(abs({n})), 6)"),
    ('n', "coalesce({n}, 0)"),
    ('n', "greatest({n}, {i})"),
    ('n', "({j} -> 'a')::numeric"),
    ('n', "{f}::numeric(20,3)"),
    ('n', "extract(second FROM {s})"),
    ('n', "extract(epoch FROM {d})"),
    ('n', "extract(epoch FROM {v})"),
    ('n', "round(exp({k}::numeric), 5)"),
    ('n', "round(ln({k} + 1.0), 5)"),
    ('n', "round(power({n}, 2), 3)"),
    ('n', "round({k} ^ 2.0, 3)"),
    ('n', "div({n}, {k})"),
    ('n', "gcd({n}, 0.5)"),
    ('f', "{f} + {i}"),
    ('f', "{f} * 2"),
    ('f', "{i}::float8"),
    ('f', "{n}::float8"),
    ('f', "{t}::float8"),
    ('f', "{f} / {k}"),
    ('f', "round({f})"),
    ('f', "abs({f})"),
    ('f', "-{f}"),
    ('f', "ceil({f})"),
    ('f', "trunc({f})"),
    ('f', "date_part('year', {d})"),
    ('f', "date_part('second', {v})"),
    ('f', "sqrt({k}::float8)"),
    ('f', "sign({f})"),
    ('f', "'NaN'::float8"),
    ('f', "'-Infinity'::float8"),
    ('f', "greatest({f}, 0)"),
    ('f', "degrees(0::float8)"),
    ('t', "{t} || {t}"),
    ('t', "{t} || {i}"),
    ('t', "upper({t})"),
    ('t', "lower({t})"),
    ('t', "initcap({t})"),
    ('t', "trim({t})"),
    ('t', "trim(LEADING 'a' FROM {t})"),
    ('t', "ltrim({t}, 'aH')"),
    ('t', "rtrim({t})"),
    ('t', "btrim({t}, ' a')"),
    ('t', "substring({t} FROM {k} FOR {k})"),
    ('t', "substr({t}, {k})"),
    ('t', "substring({t} FROM '[a-c]+')"),
    ('t', "left({t}, {k})"),
    ('t', "right({t}, -{k})"),
    ('t', "reverse({t})"),
    ('t', "repeat({t}, {k})"),
    ('t', "replace({t}, 'a', {t})"),
    ('t', "translate({t}, 'abc', 'xy')"),
    ('t', "lpad({t}, {k}, '*-')"),
    ('t', "rpad({t}, {k})"),
    ('t', "split_part({t}, ' ', {k})"),
    ('t', "concat({t}, {i}, {b})"),
    ('t', "concat_ws(',', {t}, {i}, {t})"),
    ('t', "format('%s-%s|%5s|%-5s', {t}, {i}, {t}, {k})"),
    ('t', "format('%I %L', {t}, {t})"),
    ('t', "quote_literal({t})"),
    ('t', "quote_nullable({t})"),
    ('t', "quote_ident({t})"),
    ('t', "md5({t})"),
    ('t', "to_hex({i})"),
    ('t', "chr({k} + 65)"),
    ('t', "overlay({t} PLACING 'zz' FROM {k} FOR 1)"),
    ('t', "regexp_replace({t}, '[aeo]', '<\\&>', 'g')"),
    ('t', "regexp_substr({t}, '[a-z]+')"),
    ('t', "starts_with({t}, 'a')::text"),
    ('t', "{i}::text"),
    ('t', "{n}::text"),
    ('t', "{b}::text"),
    ('t', "{d}::text"),
    ('t', "{s}::text"),
    ('t', "{v}::text"),
    ('t', "{m}::text"),
    ('t', "{j}::text"),
    ('t', "{a}::text"),
    ('t', "{y}::text"),
    ('t', "{x}[{k}]"),
    ('t', "{j} ->> 'a'"),
    ('t', "{j} ->> {k}"),
    ('t', "{j} #>> '{b,1}'"),
    ('t', "jsonb_typeof({j})"),
    ('t', "array_to_string({x}, ',', '*')"),
    ('t', "array_to_string({a}, '-')"),
    ('t', "to_char({i}, '99999')"),
    ('t', "to_char({n}, 'FM999990.00')"),
    ('t', "to_char({d}, 'YYYY-MM-DD Dy')"),
    ('t', "to_char({s}, 'DD Mon YYYY HH12:MI:SS.MS AM')"),
    ('t', "to_char({v}, 'HH24:MI')"),
    ('t', "pg_typeof({i})::text"),
    ('t', "encode({y}, 'hex')"),
    ('t', "encode({y}, 'base64')"),
    ('t', "coalesce({t}, 'none')"),
    ('t', "greatest({t}, 'b')"),
    ('t', "nullif({t}, '')"),
    ('t', "CASE WHEN {b} THEN {t} ELSE 'no' END"),
    ('t', "array_dims({a})"),
    ('t', "jsonb_pretty({j})"),
    ('t', "{t}::varchar(3)"),
    ('t', "(SELECT string_agg(u, '+' ORDER BY u) FROM unnest({x}) u)"),
    ('t', "unistr('\\0061')"),
    ('t', "ROW({i}, {t})::text"),
    ('t', "to_char({f}, '9.99EEEE')"),
    ('b', "{i} = {i}"),
    ('b', "{i} < {k}"),
    ('b', "{n} >= {i}"),
    ('b', "{f} > {n}"),
    ('b', "{t} = {t}"),
    ('b', "{t} < 'b'"),
    ('b', "{d} <= {s}"),
    ('b', "{d} = {d}"),
    ('b', "{v} > {v}"),
    ('b', "{b} AND {b}"),
    ('b', "{b} OR {b}"),
    ('b', "NOT {b}"),
    ('b', "{b} IS NOT TRUE"),
    ('b', "{b} IS UNKNOWN"),
    ('b', "{i} IS NULL"),
    ('b', "{i} IS DISTINCT FROM {k}"),
    ('b', "{t} LIKE 'a%'"),
    ('b', "{t} NOT LIKE '%\\_%'"),
    ('b', "{t} ILIKE 'H%'"),
    ('b', "{t} ~ '^[a-z]+$'"),
    ('b', "{t} !~* 'HERON'"),
    ('b', "{t} SIMILAR TO '(a|b)%'"),
    ('b', "{i} BETWEEN {k} AND {i}"),
    ('b', "{i} NOT BETWEEN SYMMETRIC 3 AND {k}"),
    ('b', "{i} IN ({k}, {i}, null)"),
    ('b', "{t} NOT IN ('abc', {t})"),
    ('b', "{k} IN ({i}, {k}, {n})"),
    ('b', "{k} NOT IN ({i}, null)"),
    ('b', "'abc' IN ({t}, 'b')"),
    ('b', "{k} IN (SELECT u FROM unnest({a}) u)"),
    ('b', "{i} IN (SELECT {n} UNION SELECT {k})"),
    ('n', "(SELECT max(u) FROM (SELECT {i} AS u UNION ALL SELECT {n} UNION SELECT {k}) q)"),
    ('f', "(SELECT min(u) FROM (SELECT {i} AS u EXCEPT SELECT {f}) q)"),
    ('s', "(SELECT max(u) FROM (SELECT {d} AS u UNION SELECT {s}) q)"),
    ('z', "(SELECT min(u) FROM (SELECT {z} AS u INTERSECT ALL SELECT {s}) q)"),
    ('t', "(SELECT min(u) FROM (SELECT {t} AS u UNION SELECT 'k') q)"),
    ('b', "{i} = ANY({a})"),
    ('b', "{i} > ALL({a})"),
    ('b', "{a} @> ARRAY[{k}]"),
    ('b', "{a} && {a}"),
    ('b', "{a} <@ {a}"),
    ('b', "{a} = {a}"),
    ('b', "{a} < {a}"),
    ('b', "{j} @> '{\"a\": 1}'"),
    ('b', "{j} ? 'a'"),
    ('b', "{j} ?| {x}"),
    ('b', "{j} ?& {x}"),
    ('b', "{j} = {j}"),
    ('b', "{j} < {j}"),
    ('b', "{j} IS NULL"),
    ('b', "{t}::boolean"),
    ('b', "{i}::boolean"),
    ('b', "({d}, {d}) OVERLAPS ({d}, interval '1 year')"),
    ('b', "({i}, {t}) = ({k}, 'abc')"),
    ('b', "({i}, {t}) < ({i}, {t})"),
    ('b', "ROW({i}, {t}) IS NULL"),
    ('b', "ROW({i}, {t}) IS NOT NULL"),
    ('b', "{y} = {y}"),
    ('b', "{y} < {y}"),
    ('b', "{m} < {m}"),
    ('b', "EXISTS (SELECT 1 FROM unnest({a}) u WHERE u = {i})"),
    ('b', "{j} @? '$.a'"),
    ('b', "jsonb_path_exists({j}, '$[*] ? (@ > 1)')"),
    ('b', "{t} ^@ 'a'"),
    ('b', "isfinite({s})"),
    ('b', "{t} LIKE ANY (ARRAY['a%', '%y'])"),
    ('b', "starts_with({t}, {t})"),
    ('b', "{x} @> {x}"),
    ('b', "({j} -> 'a') IS NULL"),
    ('b', "{t} ~~ '%e%'"),
    ('b', "{z} > {s}"),
    ('d', "{d} + {k}"),
    ('d', "{d} - {k}"),
    ('d', "{s}::date"),
    ('d', "{t}::date"),
    ('d', "make_date(2024, {k}, {k})"),
    ('d', "to_date('05 Dec 2000', 'DD Mon YYYY')"),
    ('d', "greatest({d}, date '2000-01-01')"),
    ('d', "coalesce({d}, date '2020-02-02')"),
    ('d', "date 'January 8, 1999'"),
    ('d', "(date_trunc('month', {d}))::date"),
    ('d', "{z}::date"),
    ('s', "{d} + {v}"),
    ('s', "{s} + {v}"),
    ('s', "{s} - {v}"),
    ('s', "date_trunc('hour', {s})"),
    ('s', "date_trunc('week', {s})"),
    ('s', "date_trunc('quarter', {d}::timestamp)"),
    ('s', "{d}::timestamp"),
    ('s', "{t}::timestamp"),
    ('s', "{d} + {m}"),
    ('s', "make_timestamp(2024, {k}, 1, 1, 2, 3.5)"),
    ('s', "{z} AT TIME ZONE 'Europe/Paris'"),
    ('s', "{s}::timestamp(1)"),
    ('s', "date_bin('15 minutes', {s}, timestamp '2001-01-01')"),
    ('s', "greatest({s}, {d})"),
    ('s', "to_timestamp('2024 03', 'YYYY MM')::timestamp"),
    ('z', "{s} AT TIME ZONE 'America/New_York'"),
    ('z', "{z} + {v}"),
    ('z', "date_trunc('day', {z})"),
    ('z', "to_timestamp({k})"),
    ('z', "date_trunc('day', {z}, 'Asia/Kolkata')"),
    ('z', "make_timestamptz(2024, {k}, 1, 0, 0, 0, 'Europe/London')"),
    ('z', "{s}::timestamptz"),
    ('v', "{s} - {s}"),
    ('v', "{v} + {v}"),
    ('v', "{v} * {k}"),
    ('v', "{v} / {k}"),
    ('v', "-{v}"),
    ('v', "{m} - {m}"),
    ('v', "age({s}, {s})"),
    ('v', "make_interval(days => {k}, hours => {k})"),
    ('v', "justify_days({v})"),
    ('v', "justify_hours({v})"),
    ('v', "justify_interval({v})"),
    ('v', "{t}::interval"),
    ('v', "date_trunc('day', {v})"),
    ('v', "{m}::interval"),
    ('v', "{k} * interval '1 month'"),
    ('v', "interval '1-2'"),
    ('v', "interval '3 4:05:06'"),
    ('v', "greatest({v}, interval '1 day')"),
    ('v', "{z} - {z}"),
    ('m', "{m} + interval '90 minutes'"),
    ('m', "{m} - {v}"),
    ('m', "{s}::time"),
    ('m', "make_time({k}, {k}, 1.5)"),
    ('m', "{t}::time"),
    ('m', "time '04:05 PM'"),
    ('m', "{v}::time"),
    ('m', "date_trunc('minute', {m}::interval)::time"),
    ('j', "{j} -> 'a'"),
    ('j', "{j} -> {k}"),
    ('j', "{j} -> 'b' -> 0"),
    ('j', "{j} #> '{b,0}'"),
    ('j', "{j} || {j}"),
    ('j', "{j} - 'a'"),
    ('j', "{j} - {k}"),
    ('j', "{j} #- '{b,0}'"),
    ('j', "to_jsonb({i})"),
    ('j', "to_jsonb({t})"),
    ('j', "to_jsonb({b})"),
    ('j', "to_jsonb({a})"),
    ('j', "jsonb_build_object('k', {i}, 't', {t})"),
    ('j', "jsonb_build_array({i}, {t}, {b})"),
    ('j', "{t}::jsonb"),
    ('j', "jsonb_set({j}, '{a}', '9')"),
    ('j', "jsonb_insert({j}, '{b,0}', '9')"),
    ('j', "jsonb_strip_nulls({j})"),
    ('j', "jsonb_path_query_first({j}, '$.b[*]')"),
    ('j', "jsonb_path_query_array({j}, '$.*')"),
    ('j', "(SELECT jsonb_agg(u ORDER BY u) FROM unnest({a}) u)"),
    ('j', "jsonb_object({x})"),
    ('j', "{j}['a']"),
    ('j', "coalesce({j}, '1')"),
    ('j', "to_jsonb(ROW({i}, {t}))"),
    ('a', "{a} || {i}"),
    ('a', "{k} || {a}"),
    ('a', "{a} || {a}"),
    ('a', "array_append({a}, {i})"),
    ('a', "array_prepend({i}, {a})"),
    ('a', "array_cat({a}, {a})"),
    ('a', "array_remove({a}, {i})"),
    ('a', "array_replace({a}, {i}, {k})"),
    ('a', "ARRAY[{i}, {k}]"),
    ('a', "{a}[1:{k}]"),
    ('a', "{a}[{k}:]"),
    ('a', "array_fill({k}, ARRAY[2])"),
    ('a', "array_positions({a}, 2)"),
    ('a', "'{1,2,NULL}'::int[]"),
    ('a', "{t}::int[]"),
    ('a', "ARRAY(SELECT u + 1 FROM unnest({a}) u)"),
    ('a', "(SELECT array_agg(u ORDER BY u DESC NULLS LAST) FROM unnest({a}) u)"),
    ('a', "trim_array({a}, {k})"),
    ('x', "string_to_array({t}, ' ')"),
    ('x', "string_to_array({t}, 'e', '')"),
    ('x', "regexp_split_to_array({t}, '[ a]')"),
    ('x', "ARRAY[{t}, 'x']"),
    ('x', "{x} || {t}"),
    ('x', "array_append({x}, {t})"),
    ('x', "{a}::text[]"),
    ('x', "regexp_match({t}, '(.)(.)')"),
    ('x', "{x}[2:3]"),
    ('x', "array_remove({x}, '')"),
    ('y', "{y} || {y}"),
    ('y', "substring({y} FROM {k} FOR 2)"),
    ('y', "sha256({y})"),
    ('y', "decode('ff00', 'hex')"),
    ('y', "{t}::bytea"),
    ('y', "convert_to({t}, 'UTF8')"),
    ('y', "set_byte({y} || '\\x0102030405', {k}, 7)"),
    ('y', "overlay({y} PLACING '\\xaa' FROM 1)"),
    ('y', "btrim({y}, '\\x00')"),
];

const TYPES: &[u8] = b"inftbdszvmjaxy";

fn value(dice: &mut Dice, wanted: char, depth: usize) -> String {
    // Now and then something else than what belongs there.
    let wanted = if dice.chance(60) { TYPES[dice.below(TYPES.len())] as char } else { wanted };
    if wanted == 'k' {
        return dice.below(5).to_string();
    }
    if depth == 0 || dice.chance(3) {
        return format!("r.{wanted}");
    }
    let forms: Vec<&str> = FORMS.iter().filter(|(made, _)| *made == wanted).map(|(_, form)| *form).collect();
    let form = forms[dice.below(forms.len())];
    filled(dice, form, depth)
}

fn filled(dice: &mut Dice, form: &str, depth: usize) -> String {
    let (mut out, mut rest) = (String::from("("), form);
    while let Some(at) = rest.find('{') {
        out.push_str(&rest[..at]);
        let bytes = rest.as_bytes();
        let is_part = bytes.get(at + 2) == Some(&b'}') && (TYPES.contains(&bytes[at + 1]) || bytes[at + 1] == b'k');
        if is_part && !rest[..at].ends_with('\'') {
            out.push_str(&value(dice, bytes[at + 1] as char, depth - 1));
            rest = &rest[at + 3..];
        } else {
            out.push('{');
            rest = &rest[at + 1..];
        }
    }
    out.push_str(rest);
    out.push(')');
    out
}

/// Aggregates over all rows, windows over them, or each row's values.
fn statement(dice: &mut Dice, form: Option<&str>) -> String {
    let any = |dice: &mut Dice, depth| {
        let wanted = TYPES[dice.below(TYPES.len())] as char;
        value(dice, wanted, depth)
    };
    if let Some(form) = form {
        return format!("{ROWS}SELECT {} FROM r", filled(dice, form, 1));
    }
    match dice.below(8) {
        0 => {
            let aggregate = match dice.below(12) {
                0 => format!("sum({})", value(dice, 'i', 1)),
                1 => format!("sum({})", value(dice, 'n', 1)),
                2 => format!("max({})", any(dice, 1)),
                3 => format!("min({})", any(dice, 1)),
                4 => format!("count(DISTINCT {})", any(dice, 1)),
                5 => format!("string_agg({}::text, ',' ORDER BY {})", value(dice, 't', 1), value(dice, 'i', 0)),
                6 => format!("bool_and({})", value(dice, 'b', 1)),
                7 => format!("array_agg({} ORDER BY r.i)", any(dice, 1)),
                8 => format!("jsonb_agg({} ORDER BY r.i)", any(dice, 1)),
                9 => format!("percentile_disc(0.5) WITHIN GROUP (ORDER BY {})", any(dice, 1)),
                10 => format!("mode() WITHIN GROUP (ORDER BY {})", value(dice, 'b', 1)),
                _ => format!("bit_or({})", value(dice, 'i', 1)),
            };
            let filter =
                if dice.chance(3) { format!(" FILTER (WHERE {})", value(dice, 'b', 1)) } else { String::new() };
            format!("{ROWS}SELECT {aggregate}{filter} FROM r")
        }
        1 => format!(
            "{ROWS}SELECT {}, count(*) FROM r GROUP BY {}(1)",
            any(dice, 1),
            dice.one(&["", "", "ROLLUP ", "CUBE "])
        )
        .replace(" (1)", " 1"),
        2 => {
            let call = match dice.below(6) {
                0 => format!("lag({}, 1) OVER (ORDER BY r.i)", any(dice, 1)),
                1 => format!("first_value({}) OVER (ORDER BY r.i)", any(dice, 1)),
                2 => {
                    format!("sum({}) OVER (ORDER BY r.i ROWS BETWEEN 1 PRECEDING AND CURRENT ROW)", value(dice, 'n', 1))
                }
                3 => format!("rank() OVER (ORDER BY {})", any(dice, 1)),
                4 => format!("count(*) OVER (PARTITION BY {})", any(dice, 1)),
                _ => format!("nth_value({}, 2) OVER (ORDER BY r.i GROUPS 1 PRECEDING)", any(dice, 1)),
            };
            format!("{ROWS}SELECT {call} FROM r")
        }
        3 => format!("{ROWS}SELECT {} AS o FROM r WHERE {} ORDER BY o, r.i LIMIT 3", any(dice, 1), value(dice, 'b', 2)),
        4 => format!("{ROWS}SELECT DISTINCT {} FROM r", any(dice, 2)),
        5 => format!("{ROWS}SELECT r.i, u FROM r, LATERAL (SELECT {} AS u) l", any(dice, 2)),
        6 => format!(
            "{ROWS}SELECT {} FROM r UNION {}SELECT {} FROM r",
            any(dice, 1),
            dice.one(&["", "ALL "]),
            any(dice, 1)
        ),
        _ => format!("{ROWS}SELECT {} FROM r", any(dice, 2)),
    }
}

async fn of_engine(sql: &str) -> Outcome {
    match tokio::time::timeout(Duration::from_secs(20), rows_as_written(sql)).await {
        Ok(outcome) => outcome.map_err(|e| (e.code.sqlstate()[..2].to_owned(), e.to_string())),
        Err(_) => Err((String::new(), "no answer within 20 s".to_owned())),
    }
}

/// The text with the decimals in it, alone or inside of arrays and documents, without zeros at their ends.
fn shortened(text: &str) -> String {
    if text.parse::<f64>().is_ok() {
        return plain(text);
    }
    let (mut out, mut rest) = (String::new(), text);
    while let Some(at) = rest.find('.') {
        let fraction = rest[at + 1..].bytes().take_while(u8::is_ascii_digit).count();
        let after_digit = rest[..at].ends_with(|c: char| c.is_ascii_digit());
        let end = at + 1 + fraction;
        out.push_str(&rest[..at]);
        let kept = rest[at..end].trim_end_matches('0');
        out.push_str(match (after_digit && fraction > 0, kept) {
            (true, ".") => "",
            (true, kept) => kept,
            (false, _) => &rest[at..end],
        });
        rest = &rest[end..];
    }
    out.push_str(rest);
    out
}

/// Numbers of one column have one scale here, while PostgreSQL keeps that of each value (docs/DIFFERENCES.md): where it gives values of
/// several scales, only the numbers are compared.
fn is_on_purpose(sql: &str, got: &Outcome, wanted: &Outcome) -> bool {
    // Which part of a row is looked at first is nobody's promise, nor is it how much of a window's values is computed.
    let parts =
        ["IS NULL)", "IS NOT NULL)", ")) < ((", ") = (", " NOT IN (", "first_value(", "nth_value(", "lag(", "lead("];
    let order = parts.iter().any(|part| sql.contains(part));
    // A text is read as a document where one is needed.
    let of_text = |why: &str| {
        let sign = why.strip_prefix("operator does not exist: text ").and_then(|rest| rest.split(' ').next());
        sign.is_some_and(|sign| ["->", "->>", "#>", "#>>", "#-", "@>", "?", "?|", "?&", "@?"].contains(&sign))
    };
    if matches!(wanted, Err((class, why)) if class == "42" && of_text(why)) {
        return true;
    }
    let alone = match (got, wanted) {
        (Err((class, _)), Ok(_)) | (Ok(_), Err((class, _))) => Some(class.as_str()),
        _ => None,
    };
    // Values that cannot be computed: what cannot be meant is refused by both.
    if order && alone == Some("22") {
        return true;
    }
    let (Ok(got), Ok(wanted)) = (got, wanted) else { return false };
    let scale = |text: &str| text.split_once('.').map_or(0, |(_, fraction)| fraction.len());
    let columns: Vec<Vec<&str>> = wanted.iter().map(|row| row.split('|').collect()).collect();
    let width = columns.first().map_or(0, Vec::len);
    let mixed = (0..width).any(|place| {
        let values = columns.iter().filter_map(|row| row.get(place)).filter(|text| text.parse::<f64>().is_ok());
        values.map(|text| scale(text)).collect::<std::collections::BTreeSet<_>>().len() > 1
    });
    let numbers = |rows: &[String]| {
        // A group of zeros may be shown as either of the two.
        let one_zero = |text: &str| if text == "-0" { "0".to_owned() } else { shortened(text) };
        let row = |row: &String| row.split('|').map(one_zero).collect::<Vec<_>>().join("|");
        let mut rows: Vec<String> = rows.iter().map(row).collect();
        rows.sort();
        rows
    };
    // A numeric without a scale has ten places.
    let unbounded =
        got.iter().flat_map(|row| row.split('|')).all(|text| text.parse::<f64>().is_err() || scale(text) == 10);
    let brought_together =
        ["greatest(", "least(", "coalesce(", "CASE", "UNION", "::numeric)"].iter().any(|word| sql.contains(word));
    // The items of an array are of one type, as the rows of a column are.
    let in_array = wanted.iter().any(|row| row.contains('{') && row.contains('.'));
    (mixed
        || unbounded
        || brought_together
        || in_array
        || wanted.iter().any(|row| row.split('|').any(|text| text == "-0")))
        && numbers(got) == numbers(wanted)
}

fn same(got: &Outcome, wanted: &Outcome) -> bool {
    match (got, wanted) {
        (Ok(got), Ok(wanted)) => {
            let sorted = |rows: &[String]| {
                let mut rows = rows.to_vec();
                rows.sort();
                rows
            };
            sorted(got) == sorted(wanted)
        }
        (Err((got, _)), Err((wanted, _))) => got == wanted,
        _ => false,
    }
}

/// Those that differ, with both answers.
async fn differing(statements: Vec<String>) -> Vec<String> {
    let judge = language_judge().await;
    judge.batch_execute("SET statement_timeout = '10s'").await.expect("set");
    let mut report = Vec::new();
    for sql in statements {
        let begun = Instant::now();
        let got = of_engine(&sql).await;
        let own = begun.elapsed();
        let begun = Instant::now();
        let wanted = judged_as_written(&judge, &sql).await.map_err(told);
        let got = match too_slow(own, begun.elapsed()) {
            Some(slow) => Err(("slow".to_owned(), slow)),
            None => got,
        };
        if !same(&got, &wanted) && !is_on_purpose(&sql, &got, &wanted) {
            let shown = sql.strip_prefix(ROWS).unwrap_or(&sql);
            report.push(format!("{shown}\n  got    {got:?}\n  wanted {wanted:?}"));
        }
    }
    report
}

async fn compare(statements: Vec<String>) {
    let number = statements.len();
    let report = differing(statements).await;
    assert!(report.is_empty(), "{} of {number} differ\n\n{}", report.len(), report.join("\n\n"));
}

/// Each form once over the plain columns.
#[tokio::test(flavor = "multi_thread")]
async fn every_form_alone() {
    let mut dice = Dice::new(5);
    compare(FORMS.iter().map(|(_, form)| statement(&mut dice, Some(form))).collect()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn values_made_at_random() {
    let mut dice = Dice::new(20_261_128);
    compare((0..400).map(|_| statement(&mut dice, None)).collect()).await;
}

/// `make fuzz-values`: as many as are asked for.
#[tokio::test(flavor = "multi_thread")]
#[ignore = "takes long"]
async fn values_fuzz() {
    let number: u64 = std::env::var("COBBLE_FUZZ").ok().and_then(|n| n.parse().ok()).unwrap_or(10_000);
    let first: u64 = std::env::var("COBBLE_SEED").ok().and_then(|n| n.parse().ok()).unwrap_or(1);
    let mut report = Vec::new();
    for hundred in 0..number.div_ceil(100) {
        let mut dice = Dice::new(first * 1_000_003 + hundred);
        report.extend(differing((0..100).map(|_| statement(&mut dice, None)).collect()).await);
        eprint!("\r{} of {number}, {} differ", (hundred + 1) * 100, report.len());
        if report.len() >= 50 {
            break;
        }
    }
    eprintln!();
    assert!(report.is_empty(), "{} differ\n\n{}", report.len(), report.join("\n\n"));
}
