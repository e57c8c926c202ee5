-- Statements whose plans change their shape on the way: joins in another order, grouping sets, common results, empty inputs.
select a.x % 3, b.y % 5, count(*), sum(c.z) from (select n as k, n as x from generate_series(1, 1000) s(n)) a join (select n % 1000 + 1 as k, n as y from generate_series(1, 60000) s(n)) b on a.k = b.k join (select n * 7 as k, n as z from generate_series(1, 12) s(n)) c on c.k = a.k group by rollup (a.x % 3, b.y % 5)
select a.x % 3, b.y % 5, c.z, count(*) from (select n as k, n as x from generate_series(1, 1000) s(n)) a, (select n % 1000 + 1 as k, n as y from generate_series(1, 60000) s(n)) b, (select n * 7 as k, n as z from generate_series(1, 12) s(n)) c where a.k = b.k and c.k = a.k group by cube (a.x % 3, b.y % 5, c.z)
with r as (select n % 7 as g, count(*) as c from generate_series(1, 5000) s(n) group by 1) select x.g, y.c, z.c from r x join r y on x.g = y.g join r z on z.g = y.g + 1 join generate_series(1, 3) t(m) on t.m = x.g
with r as (select n % 7 as g, count(*) as c from generate_series(1, 50) s(n) group by 1) select g, c from r union all select c, g from r union all select x.g, y.g from r x join r y on x.c = y.c
with recursive r(n, m) as (select 1, 10 union all select n + 1, m * 2 from r where n < 8) select a.n, b.m from r a join r b on a.n = b.n + 1 left join (values (3, 'x')) v(k, t) on v.k = a.n group by rollup (a.n, b.m)
select count(*) from generate_series(1, 100) s(n) where 1 < 0 and exists (select 1 from generate_series(1, 100000000) t(m) where t.m % 17 = 99)
select n from generate_series(1, 3) s(n) where n > 1 and false union all select m from generate_series(1, 2) t(m)
select s.n, x.m from generate_series(1, 3) s(n) left join (select m from generate_series(1, 100000000) t(m) where false) x on x.m = s.n
select n, (select max(m) from generate_series(1, 9) t(m) where m < s.n and false) from generate_series(1, 3) s(n)
select count(*), max(n) from generate_series(1, 9) s(n) where null
select n % 2, count(*) from generate_series(1, 9) s(n) where null group by 1
select n % 2, count(*) from generate_series(1, 9) s(n) where null group by rollup (n % 2)
select n from generate_series(1, 9) s(n) where n not in (select m from generate_series(1, 9) t(m) where false)
select n from generate_series(1, 9) s(n) where not exists (select 1 from generate_series(1, 9) t(m) where m = n and false)
with unread as (select 1 / 0 as x) select 7
with a as (select 1 as x where false), b as (select x from a) select * from b full join (select 2 as x) c using (x)
select count(*) from (select n from generate_series(1, 9) s(n) limit 0) x right join (values (1), (2)) y(k) on x.n = y.k
select distinct n from generate_series(1, 9) s(n) where false order by n limit 3
select n, row_number() over (order by n) from generate_series(1, 9) s(n) where false
select a.k, b.k, c.k from (select max(n) as k from generate_series(1, 3000) s(n) group by n % 3000) a, (select max(n) as k from generate_series(1, 3000) s(n) group by n % 3000) b, (select n as k from generate_series(1, 3000) s(n)) c where a.k = c.k and b.k = c.k and c.k < 4
select count(*) from (values (1), (2)) a(x), (values (1), (3)) b(y), generate_series(1, 2000) c(z), generate_series(1, 2000) d(w) where a.x + b.y = c.z and d.w = c.z
select (select count(*) from generate_series(1, 5) t(m) where t.m <= s.n), sum(n) filter (where exists (select 1 from generate_series(1, 3) u(k) where u.k = s.n)) from generate_series(1, 6) s(n) group by s.n
select count(*) from generate_series(1,5000) a(x) where exists (select 1 from generate_series(1,20000) b(k) join generate_series(1,20000) c(k) on b.k=c.k where b.k <> a.x)
select count(*) from generate_series(1,2000) a(x) where not exists (select 1 from generate_series(1,9000) b(k) where b.k * 3 + a.x <> 7)
select count(*) from generate_series(1,2000) a(x) where not exists (select 1 from generate_series(1,900) b(k) where (b.k + a.x) % 2003 = 7)
select count(*) from generate_series(1,200) a(x) where exists (select 1 from generate_series(1,9000) b(k) where (b.k + a.x) % 9100 = 7)
select x, exists (select 1 from generate_series(1,900) b(k) where (b.k + a.x) % 910 = 7) from generate_series(1,20) a(x)
select count(*) from generate_series(1,5000) a(x) where exists (select 1 from generate_series(1,3) b(k) where b.k <> a.x % 2)
select count(*) from generate_series(1,200) a(x) where exists (select 1 from generate_series(1,0) b(k) where b.k <> a.x)
select count(*) from generate_series(1,6000) a(x) where exists (select 1 from generate_series(1,6000) b(k) join generate_series(1,6000) c(k) on b.k=c.k where b.k < a.x and c.k % 100 = a.x % 100)
select count(*) from generate_series(1,4000) a(x) where not exists (select 1 from generate_series(1,4000) b(k) where b.k % 2 = a.x % 2 and b.k + a.x = 7000)
select count(*) from generate_series(1,3000) a(x) where exists (select 1 from generate_series(1,3000) b(k) where b.k > a.x and (b.k + a.x) % 10 = 3)
select count(*) from generate_series(1,3000) a(x) where not exists (select 1 from generate_series(1,3000) b(k) where b.k > a.x and (b.k + a.x) % 5000 = 3)
select x, exists (select 1 from (values (1,2),(1,3),(2,5),(null,7)) b(k, v) where b.k = a.x and b.v > a.y) from (values (1,2),(1,3),(2,1),(null,1),(3,null)) a(x, y) order by 1, 2
select x from (values (1,2),(1,3),(2,1),(null,1),(3,null)) a(x, y) where not exists (select 1 from (values (1,2),(1,3),(2,5),(null,7)) b(k, v) where b.k = a.x and b.v > a.y)
SET planner.off = 'push-filters'; WITH t0(k,v,w) AS (VALUES (1,17,1)), t1(k,w) AS (VALUES (1,1)), t2(k) AS (VALUES (1)), t3(k,w) AS (VALUES (1,1)) SELECT t2.k, count(*) FROM t0 JOIN t1 ON t1.k = t0.k JOIN t2 ON t2.k = t1.k JOIN t3 ON t3.k = t1.w AND (t0.v = 4 OR t0.w > 57) GROUP BY t2.k
SET planner.off = 'fold-constants,drop-empty,push-filters,merge-projections,split-aggregates,prune-fields,offer-joins,offer-top-n,offer-sorts'; SELECT t2.w % 7 AS a, sum(t3.w) FILTER (WHERE t0.v BETWEEN 0 AND 81) AS x, count(DISTINCT t3.w) AS y, rank() OVER (ORDER BY count(*), t2.w % 7), sum(count(*)) OVER () FROM (SELECT n AS k, CASE WHEN n % 11 > 0 THEN n * 17 % 97 END AS v, n % 6 AS w FROM generate_series(1, 700) AS s(n) WHERE n < 484) AS t0 JOIN (SELECT n AS k, CASE WHEN n % 11 > 0 THEN n * 32 % 97 END AS v, n % 6 AS w FROM generate_series(1, 1) AS s(n)) AS t1 ON t1.k = t0.k AND t0.w IN (SELECT n % 40 FROM generate_series(1, 3) AS s(n)) JOIN (SELECT n AS k, CASE WHEN n % 11 > 0 THEN n * 3 % 97 END AS v, n % 8 AS w FROM generate_series(1, 90) AS s(n)) AS t2 ON t2.k = t1.k AND t1.v NOT IN (1, 7, 26) JOIN (SELECT n AS k, CASE WHEN n % 11 > 0 THEN n * 6 % 97 END AS v, n % 4 AS w FROM generate_series(1, 12) AS s(n)) AS t3 ON t3.k = t1.w AND (t0.v = 4 OR t0.w > 57) JOIN (SELECT n AS k, CASE WHEN n % 11 > 0 THEN n * 39 % 97 END AS v, n % 5 AS w FROM generate_series(1, 3) AS s(n)) AS t4 ON t4.k = t1.w WHERE t0.v <= 73 GROUP BY t2.w % 7
