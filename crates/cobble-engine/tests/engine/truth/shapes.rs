//! Statements over rows that look at neighbours, put rows together and group by what is computed: the same shapes for each database.

/// `$t` stands for a table with the key `id`, `$g` for a column of few values, `$s` for one of texts, `$l` for texts of another collation,
/// `$n` for numbers, `$u` for a table with `id` and `name`.
const SHAPES: &[&str] = &[
    // Windows.
    "SELECT id, row_number() OVER (ORDER BY id DESC) FROM $t",
    "SELECT id, row_number() OVER (PARTITION BY $g ORDER BY $n, id) FROM $t",
    "SELECT id, rank() OVER (ORDER BY $g), dense_rank() OVER (ORDER BY $g) FROM $t",
    "SELECT id, rank() OVER (ORDER BY $g DESC NULLS LAST) FROM $t",
    "SELECT id, rank() OVER (ORDER BY $s NULLS FIRST) FROM $t",
    "SELECT id, rank() OVER (ORDER BY $l) FROM $t",
    "SELECT id, rank() OVER (PARTITION BY $l ORDER BY id) FROM $t",
    "SELECT id, percent_rank() OVER (ORDER BY $n), cume_dist() OVER (ORDER BY $n) FROM $t",
    "SELECT id, ntile(3) OVER (ORDER BY id) FROM $t",
    "SELECT id, ntile(id::integer) OVER (ORDER BY id) FROM $t",
    "SELECT id, lag($n) OVER (ORDER BY id), lead($s, 2) OVER (ORDER BY id) FROM $t",
    "SELECT id, lag(id, 1, -1) OVER (ORDER BY id) FROM $t",
    "SELECT id, lag(id, 1, id) OVER (PARTITION BY $g ORDER BY id) FROM $t",
    "SELECT id, first_value($s) OVER (PARTITION BY $g ORDER BY id) FROM $t",
    "SELECT id, last_value($s) OVER (ORDER BY id ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING) FROM $t",
    "SELECT id, nth_value(id, 2) OVER (ORDER BY id ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING) FROM $t",
    "SELECT id, count(*) OVER () FROM $t",
    "SELECT id, count($n) OVER (ORDER BY id ROWS 2 PRECEDING) FROM $t",
    "SELECT id, sum($n) OVER (PARTITION BY $g ORDER BY id) FROM $t",
    "SELECT id, sum(id) OVER (ORDER BY $g) FROM $t",
    "SELECT id, avg($n) OVER (PARTITION BY $g) FROM $t",
    "SELECT id, min($s) OVER (PARTITION BY $g), max(id) OVER (PARTITION BY $g) FROM $t",
    "SELECT id, min($l) OVER (ORDER BY id) FROM $t",
    "SELECT id, count(*) FILTER (WHERE id > 3) OVER (ORDER BY id) FROM $t",
    "SELECT id, sum(id) OVER (ORDER BY id GROUPS BETWEEN 1 PRECEDING AND CURRENT ROW) FROM $t",
    "SELECT id, sum(id) OVER (ORDER BY id ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING EXCLUDE CURRENT ROW) FROM $t",
    "SELECT id, sum(id) OVER (ORDER BY id RANGE BETWEEN 1 PRECEDING AND CURRENT ROW) FROM $t",
    "SELECT id, sum(id) OVER (ORDER BY id ROWS BETWEEN CURRENT ROW AND 2 FOLLOWING) FROM $t",
    "SELECT id, string_agg($s, ',') OVER (ORDER BY id) FROM $t",
    "SELECT id FROM $t QUALIFY row_number() OVER (PARTITION BY $g ORDER BY id DESC) = 1",
    "SELECT * FROM (SELECT id, $s, rank() OVER (PARTITION BY $g ORDER BY id) AS r FROM $t WHERE id < 7) x WHERE r < 3 AND $s <> 'x'",
    "SELECT r, count(*) FROM (SELECT rank() OVER (PARTITION BY $g ORDER BY id) AS r FROM $t) x GROUP BY r",
    "SELECT $g, count(*), rank() OVER (ORDER BY count(*) DESC) FROM $t GROUP BY $g",
    "SELECT id, row_number() OVER (ORDER BY id) FROM (SELECT id FROM $t ORDER BY id DESC LIMIT 3) x",
    "SELECT x.id, u.name FROM (SELECT id, $g, row_number() OVER (PARTITION BY $g ORDER BY id) AS n FROM $t) x JOIN $u u ON u.id = x.$g WHERE n = 1",
    "SELECT id, sum(id) OVER w, rank() OVER w FROM $t WINDOW w AS (PARTITION BY $g ORDER BY id)",
    "SELECT id, rank() OVER (ORDER BY CASE WHEN id > 3 THEN 'late' ELSE 'early' END) FROM $t",
    // Rows put together.
    "SELECT id FROM $t WHERE id > 2 UNION ALL SELECT id FROM $u",
    "SELECT id, $s FROM $t UNION ALL SELECT id, name FROM $u UNION ALL SELECT id, $l FROM $t",
    "SELECT $s FROM $t UNION SELECT $l FROM $t",
    "SELECT $s, count(*) FROM (SELECT $s FROM $t UNION ALL SELECT $l FROM $t) x GROUP BY $s",
    "SELECT max($s), min($s), count(DISTINCT $s) FROM (SELECT $s FROM $t UNION ALL SELECT name FROM $u) x",
    "SELECT $s FROM (SELECT $s FROM $t UNION ALL SELECT name FROM $u) x WHERE $s < 'm'",
    "SELECT $s FROM (SELECT $s FROM $t UNION ALL SELECT 'none' FROM $u) x ORDER BY 1 NULLS FIRST LIMIT 4",
    "SELECT id, 'a' AS kind FROM $t UNION ALL SELECT id, null FROM $u",
    "SELECT id, $n FROM $t UNION ALL SELECT id, null FROM $u UNION ALL SELECT id, 2.5 FROM $u",
    "SELECT * FROM (SELECT id FROM $t ORDER BY id LIMIT 2) a UNION ALL SELECT * FROM (SELECT id FROM $u ORDER BY id DESC LIMIT 1) b",
    "SELECT count(*) FROM (SELECT id FROM $t UNION ALL SELECT id FROM $u) x JOIN $u u ON u.id = x.id",
    "SELECT id FROM $t EXCEPT SELECT id FROM $u",
    "SELECT $g FROM $t INTERSECT SELECT id FROM $u",
    "SELECT $s FROM $t EXCEPT SELECT $l FROM $t",
    "SELECT id FROM $t WHERE false UNION ALL SELECT id FROM $u",
    "SELECT count(*) FROM (SELECT 1 FROM $t UNION ALL SELECT 1 FROM $u) x",
    // Groups and orders of what binds values.
    "SELECT CASE WHEN id > 3 THEN 'late' ELSE 'early' END, count(*) FROM $t GROUP BY 1",
    "SELECT CASE WHEN id > 3 THEN 'late' ELSE 'early' END AS part, $g, sum(id) FILTER (WHERE id <> 5) FROM $t WHERE id < 7 GROUP BY 1, 2 HAVING count(*) > 1",
    "SELECT coalesce($s, 'none'), count(*) FROM $t GROUP BY 1",
    "SELECT coalesce($g, 0), count(DISTINCT $s) FROM $t GROUP BY 1",
    "SELECT 'all' AS part, count(*) FROM $t GROUP BY 1",
    "SELECT id IN (1, 2), count(*) FROM $t GROUP BY 1",
    "SELECT DISTINCT coalesce($l, 'none') FROM $t",
    "SELECT id FROM $t ORDER BY CASE WHEN id = 4 THEN 0 ELSE 1 END, id LIMIT 2",
    "SELECT id FROM $t ORDER BY coalesce($s, 'm'), id LIMIT 3",
    // Several groupings of the same rows.
    "SELECT $g, count(*), sum(id) FROM $t GROUP BY ROLLUP ($g)",
    "SELECT $g, $s, count(*) FROM $t GROUP BY GROUPING SETS (($g, $s), ($g), ()) ",
    "SELECT $g, id IN (1, 2), max($s), grouping($g) FROM $t WHERE id < 7 GROUP BY CUBE ($g, id IN (1, 2)) HAVING count(*) > 1",
    "SELECT $l, count(DISTINCT $s) FROM $t GROUP BY ROLLUP ($l) ORDER BY 2 DESC, 1 NULLS FIRST LIMIT 3",
    "SELECT $g, string_agg($s, ',' ORDER BY id) FROM $t GROUP BY ROLLUP ($g)",
    "WITH x AS (SELECT $g, id FROM $t WHERE id > 1) SELECT $g, count(*) FROM x GROUP BY $g UNION ALL SELECT null, count(*) FROM x",
    "WITH x AS (SELECT id, $g FROM $t) SELECT a.id FROM x a JOIN x b ON a.id = b.$g",
    // Partners asked for.
    "SELECT id FROM $t WHERE $g IN (SELECT max(id) FROM $u GROUP BY name)",
    "SELECT id FROM $t WHERE $g NOT IN (SELECT max(id) FROM $u GROUP BY name)",
    "SELECT id FROM $t WHERE NOT EXISTS (SELECT 1 FROM (SELECT max(id) AS top FROM $u GROUP BY name) m WHERE m.top = $t.$g)",
    "SELECT id FROM $t WHERE $g NOT IN (SELECT id FROM $u)",
    "SELECT id FROM $t WHERE $s IN (SELECT max(name) FROM $u GROUP BY id)",
];

/// The shapes for one database, with what stands for `$t`, `$g`, `$s`, `$l`, `$n`, `$u`.
pub fn statements(names: [&str; 6]) -> Vec<String> {
    let filled = |shape: &&str| {
        let marks = ["$t", "$g", "$s", "$l", "$n", "$u"];
        marks.iter().zip(names).fold((*shape).to_owned(), |text, (mark, name)| text.replace(mark, name))
    };
    SHAPES.iter().map(filled).collect()
}
