-- Forms of constants, names and errors, one statement a line. After `-- differs:` stands one whose answer is known to be another.
select date 'January 8, 1999', date '1999-Jan-08', date 'Jan-08-1999', date '08-Jan-1999', date '19990108', date '990108', date '1/8/1999', date '1/18/1999', date '01/02/03', date '1999.008', date 'J2451187', date 'January 8, 99 BC'
select date '99-Jan-08'
select date '08-Jan-99'
select date '1999 Jan 8', date 'Fri Jan 8 1999', date 'today' = current_date, date 'tomorrow' - date 'yesterday', timestamp 'now' is not null
select time '24:00:00', time '04:05 PM', time '040506', time '04:05:06.789', time '0405', time '04:05:06 AM', time '12:00 AM', time '04:05:06-08', time '04:05:60', time 'allballs', time '12:30 PM'
select interval '1-2', interval '3 4:05:06', interval '1 century', interval '1 decade', interval '1 millennium', interval '-1-2', interval 'P1Y2M3DT4H5M6S', interval 'P0001-02-03T04:05:06', interval '1:30', interval '1 12:59:10', interval '@ 1 minute', interval '10', interval '1.5 hours', interval '- 3 days', interval '1 mon -1 days', interval '2 weeks', interval '1h 2m 3s', interval '1y2mon', interval '5 ms 6 us', interval '-1 12:00', interval '1 day ago'
select interval '4 hours 5'
select interval '1 qtr'
select interval '1 year 2-3'
select interval '1 12', interval '12:00:01.5'
select interval '1' year, interval '1' month, interval '1-2' year to month, interval '3 4:05' day to minute, interval '3 4:05:06' day to second, interval '4:05:06' hour to minute, interval '90' minute, interval '1.5' hour, interval '1 day 2 hours' day, interval '1' second
select trim(leading 'x' from 'xxax'), trim(trailing from 'a  '), trim('x' from 'xax'), trim(both from ' a '), trim (leading 'x' from 'xa'), trim(' a '), ltrim('xxa','x'), trim(leading from ' a'), trim(from ' b ')
select U&'d\0061t\+000061', 'a' 
select (date '2024-01-01', date '2024-02-01') overlaps (date '2024-01-15', date '2024-03-01'), (date '2024-01-01', interval '10 days') overlaps (date '2024-01-15', interval '1 day'), (time '10:00', time '11:00') overlaps (time '11:00', time '12:00'), (date '2024-01-01', null) overlaps (date '2024-01-01', date '2024-01-05')
select 'a' collate "C" < 'B', 'a' < 'B' collate "POSIX"
select 'a' collate "de_DE"
select 'abc' like all(array['a%','%c']), 'abc' like any(array['x','%b%']), 'abc' not like all(array['x%','y%']), 'abc' ilike any(array['A%']), 'abc' ~~ 'a%', 'abc' !~~ 'a%', 'abc' ~~* 'A%', 'abc' like any (select 'a%')
select 'abc' like all ('{a%,%c}'), 'abc' ~ any(array['z','b'])
select 'a#b' similar to 'a##b' escape '#', 'a_b' like 'a#_b' escape '#', 'axb' like 'a#_b' escape '#', 'a\b' like 'a\b' escape ''
select current_time is not null, localtime is not null, localtimestamp is not null, localtimestamp(0) is not null, current_timestamp(2) is not null
select make_interval(days => 3, hours => 2), make_date(year => 2024, month => 2, day => 3), make_interval(1, months := 2)
select "timestamp" '2024-01-01', '1'::"int4", '1'::pg_catalog.int4, extract('year' from date '2024-01-01'), extract(quarter from interval '5 months')
select * from jsonb_to_record('{"a":1,"b":"x","c":[1,2]}') as x(a int, b text, c jsonb, d date)
select * from jsonb_to_recordset('[{"a":1},{"a":2,"b":"y"}]') as x(a int, b text)
select * from json_each_text('{"a":1}') , lateral (select 1) y
select format('%-5s|%5s|%*s|%2$s', 'a', 'b', 4, 'c'), format('%I %L %s', 'select', 'it''s', 3), format('%1$s %1$s', 'x')
select substring('abcdef' from 2 for 3), substring('abcdef' similar '%#"c_e#"_' escape '#'), substring('foobar' from 'o(.)b'), substring('abc', '%#"b#"c', '#')
select a.x from (values (1),(2)) a(x) left join (values (1),(3)) b(y) on exists (select 1 from (values (1)) c(z) where c.z = a.x and c.z = b.y)
select a.x, b.y from (values (1),(2)) a(x) left join (values (1),(3)) b(y) on (select max(c.z) from (values (1),(2)) c(z) where c.z <= a.x) = b.y
select a.x, b.y from (values (1),(2)) a(x) right join (values (1),(3)) b(y) on exists (select 1 from (values (1)) c(z) where c.z = a.x and c.z = b.y)
select timestamp(1) '2024-01-01 00:00:00.15', timestamp(0) '2024-01-01 00:00:00.5', time(2) '00:00:00.126', '2024-01-01 00:00:00.123456'::timestamptz(3)
select date '2024-01-01' + time '03:04', timestamp '2024-01-01' + time '01:00', time '23:00' + interval '2 hours', date '2024-01-01' + 1
select timestamptz '2024-01-01 00:00:00+00', '2024-01-01 00:00:00 +00'::timestamptz
select x from (values (3),(1),(2)) t(x) order by x using >
select '{{1,2},{3,4}}'::int[], '{"a,b",NULL,c}'::text[], '{}'::int[], '{1,2}'::int[] = array[1,2], '{{a},{b}}'::text[][]
select '{1,{2}}'::int[]
select 'a'::varchar(3), 'abcdef'::varchar(3), 'ab'::char(4) || 'x', 12345.678::numeric(7,2)
select 1::bool, true::int, 't'::bool, 0::boolean
select 1::bigint::bool
select date '2024-01-01'::int
select interval '1 day'::time, time '01:02'::interval
select '1 2'::int
select 'abc'::int
select 99999999999::int
select 1/0
select 1 % 0
select sqrt(-1)
select ln(0)
select power(0,-1)
select 'a' < 1
select sum('a') from (values (1)) t(x)
select foo(1)
select x from nothing
select nothing
select * from (values (1)) t(x) where row_number() over () = 1
select * from (values (1)) t(x) where sum(x) = 1
select x, sum(x) from (values (1)) t(x)
select max(sum(x)) from (values (1)) t(x)
with recursive r(n) as (select 1 union all select n+1 from r) select n from r limit 3
with recursive r(n) as (select 1 union all select sum(n)::int from r) select * from r
with recursive r(n) as (select 1 union all select a.n from r a, r b) select * from r
with recursive r(n) as (select 1 union all select x.n from (values (1)) x(n) left join r on true) select * from r
with recursive r as (select n from r union all select 1) select * from r
select 5 = any(array[1,5]), 5 = all(array[5,5]), 5 <> all(array[1,2]), 5 > any(select 3)
select array_agg(x order by x desc), string_agg(x::text, ',' order by x), array_agg(distinct x) from (values (1),(3),(2),(3)) t(x)
select count(*) filter (where x > 1), sum(x) filter (where x < 0) from (values (1),(2)) t(x)
select first_value(x) over w, nth_value(x,2) over w from (values (1),(2),(3)) t(x) window w as (order by x rows between unbounded preceding and unbounded following)
select sum(x) over (w rows 1 preceding) from (values (1),(2),(3)) t(x) window w as (order by x)
select sum(x) over (w order by x) from (values (1),(2),(3)) t(x) window w as (order by x)
select sum(x) over (order by x range between 1 following and 1 preceding) from (values (1),(2)) t(x)
select sum(x) over (rows between -1 preceding and current row) from (values (1),(2)) t(x)
SELECT 'null'::jsonb::int
SELECT '"1"'::jsonb::int
SELECT 'true'::jsonb::int
SELECT '[1]'::jsonb::float8
SELECT '1.7'::jsonb::int, '1'::jsonb::boolean
SELECT 'true'::jsonb::boolean, '1.7'::jsonb::int, '2.5'::jsonb::numeric, '1e3'::jsonb::bigint
SELECT 'null'::jsonb::boolean
SELECT 'null'::jsonb::text, '"a"'::jsonb::text
SELECT '"2024-01-01"'::jsonb::date
SELECT ('{"a": null}'::jsonb -> 'a')::numeric
SELECT ('{"b": null}'::jsonb -> 'a')::numeric
SELECT '99999999999'::jsonb::int
SELECT ARRAY[1,2,3,4] @> ARRAY[[1,2],[3,4]], ARRAY[[1,2],[3,4]] && ARRAY[4], ARRAY[[1,2],[3,4]] <@ ARRAY[4,3,2,1,0], ARRAY[[1]] && ARRAY[[2]]
select '[6:45]'::time, '(7:05'::time, '[2026-05-31]'::date, '2026-05-31 [10:11]'::timestamp, '2026-05-31 (10:11), Europe/Paris;'::timestamptz, 'jun 3; 2026'::date, '{2026} aug #9'::date
select time '18:20=pm'
select date '""'
