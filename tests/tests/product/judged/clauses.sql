-- Precedence, clauses, rows, and what is refused, one statement a line. After `-- differs:` stands one whose answer is known to be another.
select -2^2
select - 3^2*2
select 2^3^2, 2^-1, -2::text
select 2+3*4%5-1, 7-2-1, 100/10/2, not true or true, not (true or true), 1+2 || 'x', 'x' || 1+2
select 1 < 2 = true
select (1 < 2) = true
select 3 is not null = true
select 1 is null is null
select 5 between 3 and 7 and true
select not 5 between 3 and 7
select 5 between symmetric 7 and 3, 5 not between symmetric 7 and 3, 5 between asymmetric 7 and 3
select 'a' like 'a' = true
select 'a' = 'a' like 'a'
select ~5 + 2, @ -5 + 2, |/ 16 + 9, ||/ 8 * 8
select 5 & 3 + 1, 1 | 2 * 2, 5 # 3, 1 << 2 + 1
select 'abc' ~ 'a' || 'b'
select 1 == 1
select 1 isnull, null isnull, 1 notnull
select null is distinct from 1 = false
select true and null is null or false
select '1'::int + 1, - '5'::int
select 5 ! = 6
select 2 operator(pg_catalog.+) 3 * 4
select 'a' || 'b' = 'ab'
-- differs: the text of the judge's grammar has no subscript after ARRAY[…]
select array[1,2,3][2], (array[1,2,3])[1:2], (array[[1,2],[3,4]])[1], (array[[1,2],[3,4]])[1][2], (array[[1,2],[3,4]])[1:1], (array[[1,2],[3,4]])[1:2][2], (array[1,2,3])[2:], (array[1,2,3])[:2], (array[1,2,3])[5:6], (array[1,2])[1][1]
select (select sum(a.x)) from (values (1),(2)) a(x)
select (select sum(a.x) from (values (1)) b(y)) from (values (1),(2)) a(x)
select (select count(*) from (values (1),(2)) b(y) having sum(a.x) > 2) from (values (1),(2)) a(x)
select a.x, (select max(a.y + b.z) from (values (5)) b(z)) from (values (1,2),(1,4)) a(x,y)
select x from (values (1,2),(1,4),(2,1)) a(x,y) group by x having exists (select 1 from (values (6)) b(z) where b.z = sum(a.y))
select row(null,null) is null, row(1,null) is not null, row(1,null) is null, row(1,2) is not null, not (row(1,null) is null)
-- differs: a list of rows whose fields have no type in one of them
select r is null, r is not null from (values (row(null,null)),(row(1,null)),(row(1,1)),(null)) t(r)
select 1 fetch first row only
select x from generate_series(1,5) g(x) order by x fetch first row only
select x from generate_series(1,5) g(x) order by x fetch first 2 rows only
select x from (values (1),(1),(2)) g(x) order by x fetch first row with ties
select x from generate_series(1,5) g(x) order by x offset 2 rows fetch next 1 row only
select x from generate_series(1,5) g(x) order by x limit 1+1
select x from generate_series(1,5) g(x) order by x limit (select 3) offset (select 1)
select x from generate_series(1,5) g(x) order by x limit null
select x from generate_series(1,5) g(x) order by x limit all
select x from generate_series(1,5) g(x) limit -1
select x from generate_series(1,5) g(x) offset -1
select x from generate_series(1,5) g(x) limit 'a'
select x from generate_series(1,5) g(x) limit x
select top 3 x from generate_series(1,5) g(x)
select * from generate_series(1,3) a join generate_series(1,3) b
select * from generate_series(1,3) a cross join generate_series(1,3) b on true
-- differs: the standard's IGNORE NULLS, which the judge lacks
select lag(x) ignore nulls over (order by x) from (values (1),(2)) t(x)
with a as (select 1), a as (select 2) select * from a
select count(distinct *) from (values (1)) t(x)
select 1 || 2
select extract(hour from date '2024-01-01')
select * from (values (1)) a(x), (values (1)) a(y)
select x, x as y from (values (1)) t(x) order by y
select x as z, y as z from (values (1,2)) t(x,y) order by z
select 1 union select 'a'
select 1, 2 union select 1
select 1e20::float8::numeric
-- differs: all decimals of one column have one scale
select array[1, 2.5]
select 'a' similar to 'a' escape 'ab'
select 'abc' like 'abc\'
select substring('abc', 1, -1)
select nullif(1, 2.5), nullif(2.5, 1), pg_typeof(nullif(1,2.2)), pg_typeof(nullif(1::int2, 2::int8))
select rank(3) within group (order by x), dense_rank(3) within group (order by x), percent_rank(3) within group (order by x), cume_dist(3) within group (order by x desc) from (values (1),(2),(2),(4),(null)) t(x)
select t from (values (1,'a')) t(x,y)
select count(t), count(t.*) from (values (1,'a'),(null,null)) t(x,y)
select (t).x from (values (1,'a')) t(x,y)
select current_schema is null, current_user is null
select x from (values (1), (1), (2)) t(x) order by x offset 1 rows fetch first 0 rows with ties
select count(*) over (partition by 'NaN'::float8) from (values (1), (2)) t(x)
select (select max(u) from unnest(r.a) u), count(*) from (values (array[1, 2]), (array[2])) r(a) group by 1
select * from unnest(array(select g from generate_series(1, 3) g)) u(x)
select * from unnest(array[[1, 2], [3, 4]]) u(x)
select j, count(*), count(distinct j) from (values ('{"a": 1}'::jsonb), ('{"a":1}')) r(j) group by j
WITH RECURSIVE t(n, m) AS (SELECT 1, null::text UNION ALL SELECT n % 3 + 1, null FROM t) CYCLE n, m SET c USING p SELECT * FROM t
WITH RECURSIVE t(n, m) AS (SELECT null::int, null::text UNION ALL SELECT null, m FROM t) CYCLE n, m SET c USING p SELECT * FROM t
WITH RECURSIVE t(n) AS (SELECT null::int UNION ALL SELECT null FROM t) CYCLE n SET c USING p SELECT * FROM t
WITH RECURSIVE t(n) AS (SELECT 1.5 UNION ALL SELECT n % 3 + 1 FROM t) CYCLE n SET c USING p SELECT * FROM t
SELECT ROW(null::int) = ANY (ARRAY[ROW(null::int)])
SELECT ARRAY[ROW(1, null::int)] = ARRAY[ROW(1, null::int)]
WITH RECURSIVE t(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM t WHERE n < 5) SEARCH DEPTH FIRST BY n SET c SELECT count(*) FROM t WHERE c > ARRAY[ROW(2)]
WITH RECURSIVE t(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM t WHERE n < 5) SEARCH DEPTH FIRST BY n SET c SELECT c FROM t LIMIT 2
WITH RECURSIVE t(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM t WHERE n < 5 AND c IS NOT NULL) SEARCH DEPTH FIRST BY n SET c SELECT c FROM t
WITH a AS (WITH RECURSIVE t(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM t WHERE n < 3) SEARCH DEPTH FIRST BY n SET c SELECT * FROM t) SELECT * FROM a, a b ORDER BY a.c, b.c
WITH RECURSIVE t(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM t WHERE n < 3) SEARCH FIRST BY n SET c SELECT * FROM t
WITH RECURSIVE t(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM t WHERE n < 3) SEARCH DEPTH FIRST BY n SELECT * FROM t
SELECT j.x FROM (VALUES (1), (2)) a(x) JOIN (VALUES (2), (3)) b(x) USING (x) AS j
SELECT j.x, a.x, b.x, x FROM (VALUES (1), (2)) a(x) FULL JOIN (VALUES (2), (3)) b(x) USING (x) AS j
SELECT * FROM (VALUES (1,1), (2,2)) a(x,y) LEFT JOIN (VALUES (2,3), (3,4)) b(x,z) USING (x) AS j
SELECT j.y FROM (VALUES (1,1), (2,2)) a(x,y) LEFT JOIN (VALUES (2,3), (3,4)) b(x,z) USING (x) AS j
SELECT * FROM (VALUES (1)) j(x) JOIN (VALUES (1)) b(x) USING (x) AS j
SELECT * FROM ROWS FROM (generate_series(1, 2), generate_series(1, 3)) AS t(a, b)
SELECT * FROM ROWS FROM (generate_series(1, 2), upper('a'), unnest(ARRAY['x','y','z'])) WITH ORDINALITY
SELECT t.a, u FROM (VALUES (1),(2)) t(a), ROWS FROM (generate_series(1, t.a), unnest(ARRAY['x','y'])) AS f(u, v)
SELECT * FROM ROWS FROM (1)
SELECT x, y, count(*) FROM (VALUES (1, 2), (1, 3)) t(x, y) GROUP BY DISTINCT ROLLUP (x, y), ROLLUP (x) ORDER BY 1, 2
SELECT x, count(*) FROM (VALUES (1, 2), (1, 3)) t(x, y) GROUP BY ALL ROLLUP (x), ROLLUP (x) ORDER BY 1, 2
SELECT rows FROM (VALUES (1)) t(rows)
SELECT 1 AS a, rows FROM (VALUES (1)) t(rows)
SELECT count(*) AS rows FROM (VALUES (1)) t
SELECT x, rows FROM (VALUES (1, 2)) t(x, rows) WHERE x IN (SELECT a FROM (VALUES (1)) v(a), ROWS FROM (generate_series(1, 2)) g)
SELECT * FROM (VALUES (7)) t(x) CROSS JOIN ROWS FROM (generate_series(1, 2), generate_series(5, 5)) AS g(a, b)
SELECT * FROM (VALUES (2)) t(x), LATERAL ROWS FROM (generate_series(1, x)) AS g(a)
SELECT rows.a FROM ROWS FROM (generate_series(1, 2)) AS rows(a)
SELECT all_x FROM (VALUES (1)) t(all_x) GROUP BY all_x
