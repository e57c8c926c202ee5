## 4.1 Lexical structure
SELECT 'a''b', "x" FROM (VALUES (1)) AS t("x")
SELECT 'foo'
SELECT E'tab\there', E'\x41\101\u0041'
SELECT U&'d\0061t\+000061', U&'d!0061t' UESCAPE '!'
SELECT $$it's$$, $tag$a $$ b$tag$
SELECT B'1010'
SELECT 42, 3.5, 4., .001, 5e2, 1.925e-3
SELECT real '1.5', '1.5'::real, CAST('1.5' AS real)
SELECT 2 + 3 * 4 ^ 2 / 8 - 1
SELECT 1 /* a /* nested */ comment */ + 2 -- the rest
SELECT - 2 ^ 2, NOT true OR true, 1 < 2 AND 2 < 3
## 4.2 Value expressions
SELECT (ARRAY[10, 20, 30])[2], (ARRAY[10, 20, 30])[1:2]
SELECT sum(x), count(*), count(DISTINCT x) FROM (VALUES (1), (1), (2)) t(x)
SELECT array_agg(x ORDER BY x DESC) FROM (VALUES (1), (3), (2)) t(x)
SELECT string_agg(x, ',' ORDER BY x) FROM (VALUES ('b'), ('a')) t(x)
SELECT percentile_cont(0.5) WITHIN GROUP (ORDER BY x) FROM (VALUES (1), (2), (4)) t(x)
SELECT count(*) FILTER (WHERE x > 1) FROM (VALUES (1), (2), (3)) t(x)
SELECT sum(x) OVER (ORDER BY x ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING) FROM (VALUES (1), (2), (4)) t(x)
SELECT sum(x) OVER w FROM (VALUES (1), (2)) t(x) WINDOW w AS (ORDER BY x)
SELECT sum(x) OVER (ORDER BY x GROUPS 1 PRECEDING EXCLUDE CURRENT ROW) FROM (VALUES (1), (1), (4)) t(x)
SELECT sum(x) OVER (ORDER BY x RANGE BETWEEN 1 PRECEDING AND 1 FOLLOWING EXCLUDE TIES) FROM (VALUES (1), (2), (2)) t(x)
SELECT '5'::integer + 1, CAST('5' AS integer) + 1, integer '5' + 1
SELECT 'a' < 'b' COLLATE "C"
SELECT (SELECT max(x) FROM (VALUES (1), (2)) t(x))
SELECT ARRAY[1, 2, 3 + 4], ARRAY[[1, 2], [3, 4]], ARRAY(SELECT g FROM generate_series(1, 3) g)
SELECT ARRAY[]::integer[]
SELECT ROW(1, 2.5, 'x'), (1, 'x')
SELECT ROW(1, 2.5) = ROW(1, 2.5), ROW(1, NULL) IS NULL
SELECT CASE WHEN x > 0 THEN 1.0 / x ELSE 0 END > 0 FROM (VALUES (0), (2)) t(x)
## 4.3 Calling functions
SELECT make_interval(days => 3, hours => 2)
SELECT make_interval(1, 2, days => 3)
SELECT concat_ws('-', VARIADIC ARRAY['a', 'b'])
