select date '2027-02-30'
select time '25:10'
select timestamp '2027-13-01 10:00'
select substring('pier' from 2 for -1)
select 7 limit -3
select 7 offset -3
select 7 where rank() over () = 1
select 'pier' like 'p%' escape 'pp'
select 'pier' similar to 'p%' escape 'pp'
with recursive tide(n) as (select 1 union all select max(n) from tide) select * from tide
select 12 / 0
select 12 % 0
select sqrt(-4)
select ln(0)
select ln(-2)
select power(0, -2)
select power(-8, 0.5)
select 'quay'::int
select 9999999999::int
select 200::smallint * 200::smallint
select chr(-7)
select nosuch(4)
select nosuch from (values (3)) t(x)
select x from (values (3)) t(x), (values (4)) u(x)
select * from no_such_harbour
select sum(x), x from (values (3)) t(x)
select sum(sum(x)) from (values (3)) t(x)
select 5 where sum(3) > 2
select array[[1,2],[3]]
select '{1,2'::int[]
select (select x from (values (3), (4)) t(x))
select width_bucket(4, 2, 2, 7)
select nth_value(x, 0) over () from (values (3)) t(x)
select ntile(0) over () from (values (3)) t(x)
select regexp_replace('pier', '(', '')
select 'pier' collate "no_SUCH"
select '{"pier": }'::jsonb
select jsonb_path_query('{}', 'strict $.pier')
select jsonb_path_query('[]', 'strict $.pier')
select jsonb_path_query('[]', 'strict $.*')
select jsonb_path_query('{}', 'strict $[*]')
select jsonb_path_query('{}', 'strict $[2]')
select jsonb_path_query('[7]', 'strict $[4]')
select jsonb_path_query('[7]', '$["pier"]')
select jsonb_path_query('[7]', '$[1e12]')
select jsonb_path_query('[7]', '$.keyvalue()')
select jsonb_path_query('7', 'strict $.size()')
select jsonb_path_query('"pier"', '$.double()')
select jsonb_path_query('false', '$.double()')
select jsonb_path_query('"pier"', '$.ceiling()')
select jsonb_path_query('"pier"', '-$')
select jsonb_path_query('"pier"', '$ * 4')
select jsonb_path_query('[7,8]', '$[*] * 4')
select jsonb_path_query('7', '$ / 0')
select jsonb_path_query('7', '$berth')
select jsonb_path_query('7', 'last')
select jsonb_path_query('7', '$.nosuch()')
select jsonb_path_query('7', '$ ?? 4')
select jsonb_path_query('7', '$.4')
select jsonb_path_query('7', '4.abs()')
select jsonb_path_query('7', '07')
select jsonb_path_query('7', '7e')
select jsonb_path_query('7', '')
select jsonb_path_query('7', '$', '[]')
select jsonb_path_query('7', '$', 'null')
select jsonb_path_query('"pier"', '$ ? (@ like_regex "(")')
select jsonb_path_query('"pier"', '$ ? (@ like_regex "p" flag "w")')
select jsonb_path_query('"pier"', '$ ? (@ like_regex "p" flag "x")')
select jsonb_path_match('7', '$')
select json_object('{null,pier}')
select json_object('{pier}')
select jsonb_object_agg(null, 7)
select jsonb_build_object(null, 7)
select jsonb_build_object('pier')
select jsonb_build_object(array[7], 8)
select * from jsonb_to_record('[7]') as t(pier int)
select * from jsonb_to_recordset('[7]') as t(pier int)
select jsonb_array_length('{}')
select '7'::jsonb - 'pier'
select '"pier"'::jsonb::int
select array[array[4], array[]::int[]]
select array[null::int[], array[4]]
select array[array[[4,5]], array[[6],[7]]]
select array[x, y] from (values (array[4], array[5]), (array[6, 7], array[8])) t(x, y)
select array_cat(array[[4,5]], array[[6]])
select array[[4,5]] || array[6]
select array[6] || array[[4,5]]
select array_agg(x) from (values (array[4]), (array[4,5])) t(x)
select array_agg(x) from (values (array[4]), (null)) t(x)
select '{{4,5},{6}}'::int[]
select '{{{4},{5}},{{6}}}'::int[]
