## 9.1 Logical operators
SELECT true AND NULL, false AND NULL, true OR NULL, NOT NULL::boolean
## 9.2 Comparison functions and operators
SELECT 1 < 2, 2 <= 2, 3 > 2, 3 >= 3, 1 = 1, 1 <> 2, 1 != 2
SELECT 2 BETWEEN 1 AND 3, 2 NOT BETWEEN 1 AND 3, 6 BETWEEN SYMMETRIC 9 AND 4, 6 NOT BETWEEN SYMMETRIC 9 AND 4
SELECT 1 IS DISTINCT FROM NULL, NULL IS NOT DISTINCT FROM NULL
SELECT 1 IS NULL, 1 IS NOT NULL, NULL ISNULL, 1 NOTNULL
SELECT true IS TRUE, false IS NOT TRUE, true IS FALSE, NULL::boolean IS UNKNOWN, true IS NOT UNKNOWN
SELECT num_nonnulls(1, NULL, 2), num_nulls(1, NULL, 2)
## 9.3 Mathematical functions and operators
SELECT 2 + 3, + 3.5, 2 - 3, - (-4), 2 * 3, 5.0 / 2, 5 / 2, 5 % 4
SELECT 2 ^ 3, 2.0 ^ 3, |/ 25.0, ||/ 64.0, @ -5.0
SELECT 91 & 15, 32 | 3, 17 # 5, ~1, 1 << 4, 8 >> 2
SELECT abs(-17.4), cbrt(64.0), ceil(42.2), ceiling(-42.8), degrees(0.5), div(9, 4), exp(1.0), factorial(5), floor(-42.8)
SELECT gcd(1071, 462), lcm(1071, 462), ln(2.0), log(100), log10(1000), log(2.0, 64.0), min_scale(8.4100), mod(9, 4), pi()
SELECT power(9, 3), radians(45.0), round(42.4), round(42.4382, 2), round(1234.56, -1), scale(8.4100), sign(-8.4), sqrt(2)
SELECT trim_scale(8.4100), trunc(42.8), trunc(-42.4382, 2), width_bucket(6.2, 0.5, 9.75, 5), width_bucket(15, ARRAY[1, 10, 20])
SELECT random() >= 0, random() < 1
SELECT setseed(0.5)
SELECT acos(1), acosd(0.5), asin(1), asind(0.5), atan(1), atand(1), atan2(1, 0), atan2d(1, 0), cos(0), cosd(60), cot(0.5), cotd(45), sin(1), sind(30), tan(1), tand(45)
SELECT sinh(1), cosh(0), tanh(1), asinh(1), acosh(1), atanh(0.5)
## 9.4 String functions and operators
SELECT 'Post' || 'greSQL', 'Value: ' || 42, 42 || ' is'
SELECT U&'\006f\0308re' IS NORMALIZED, normalize(U&'\006f\0308re', NFC)
SELECT bit_length('pier'), char_length('josé'), character_length('josé'), octet_length('josé'), length('pier')
SELECT lower('TOM'), upper('tom'), initcap('hi THOMAS')
SELECT overlay('Sxxxxck' placing 'edg' from 2 for 4), overlay('abc' placing 'xy' from 2)
SELECT position('ed' in 'Sedgwick'), strpos('high', 'ig')
SELECT substring('Sedgwick' from 2 for 3), substring('Sedgwick' from 3), substring('Sedgwick' for 2), substring('Sedgwick' from '...$'), substring('Sedgwick' similar '%#"o_a#"_' escape '#'), substring('Sedgwick' from '%#"o_a#"_' for '#'), substr('alphabet', 3), substr('alphabet', 3, 2)
SELECT trim(both 'xyz' from 'zyMoorzz'), trim(leading 'x' from 'xTom'), trim(trailing from 'Tom  '), trim('  Tom '), btrim('xyxtrimyyx', 'xyz'), ltrim('zzzytest', 'xyz'), rtrim('testxxzx', 'xyz')
SELECT ascii('x'), chr(65), concat('dock', 7, NULL, 31), concat_ws(',', 'dock', 7, NULL, 31)
SELECT format('Berth %s, %1$s', 'Nine'), format('%I %L %%', 'Foo bar', E'O\'Hara'), format('|%10s|%-10s|', 'ebb', 'flow'), format('%*s', 5, 'x')
SELECT left('abcde', 2), right('abcde', 2), left('abcde', -2), lpad('hi', 5, 'xy'), rpad('hi', 5, 'xy'), lpad('hello', 2)
SELECT md5('abc'), quote_ident('Foo bar'), quote_literal(E'O\'Hara'), quote_literal(42.5), quote_nullable(NULL)
SELECT parse_ident('"Quay".Berth')
SELECT pg_client_encoding() IS NOT NULL
SELECT regexp_count('907154326081', '\d\d\d', 2), regexp_instr('SLUICE', 'u(.)(..)', 1, 1, 0, 'i'), regexp_like('North Pier', 'pier$', 'i')
SELECT regexp_match('pierquaydockend', '(quay)(dock)'), regexp_replace('Sedgwick', '.[mN]a.', 'M'), regexp_replace('Sedgwick', '.', 'X', 3, 2), regexp_split_to_array('late ferry', '\s+'), regexp_substr('SLUICE', 'u(.)(..)', 1, 1, 'i', 2)
SELECT * FROM regexp_matches('pierquaydockend', 'qu.', 'g')
SELECT * FROM regexp_split_to_table('late ferry', '\s+')
SELECT repeat('Pg', 4), replace('quaypierquay', 'ua', 'OO'), reverse('abcde'), split_part('abc~@~def', '~@~', 2), split_part('a,b,c', ',', -2), starts_with('harbour', 'harb')
SELECT string_to_array('ebb//slack//flood', '//', 'slack')
SELECT * FROM string_to_table('ebb/+/slack/+/flood', '/+/', 'slack')
SELECT to_hex(2147483647), translate('90817', '987', 'ax'), unistr('d\0061t\+000061')
SELECT octet_length('ab'::char(4)), format('[%*2$s]', 'x', 5, 'y')
## 9.5 Binary string functions and operators
SELECT '\x0badca'::bytea || '\x4f5100beef'::bytea, octet_length('\x0badca'::bytea), bit_length('\x0badca'::bytea)
SELECT overlay('\x0badcafe55'::bytea placing '\002\003'::bytea from 2 for 3), position('\x5678'::bytea in '\x0badcafe55'::bytea), substring('\x0badcafe55'::bytea from 3 for 2), trim('\x9012'::bytea from '\x0badcafe55'::bytea)
SELECT bit_count('\x0badcafe55'::bytea), btrim('\x0badcafe55'::bytea, '\x9012'::bytea), get_bit('\x0badcafe55'::bytea, 30), get_byte('\x0badcafe55'::bytea, 4), length('\x0badcafe55'::bytea), ltrim('\x0badcafe55'::bytea, '\x9012'::bytea), rtrim('\x0badcafe55'::bytea, '\x9012'::bytea)
SELECT md5('Se\000dge'::bytea), set_bit('\x0badcafe55'::bytea, 30, 0), set_byte('\x0badcafe55'::bytea, 4, 64), sha224('abc'::bytea), sha256('abc'::bytea), sha384('abc'::bytea), sha512('abc'::bytea), substr('\x0badcafe55'::bytea, 3, 2)
SELECT convert('text_in_utf8'::bytea, 'UTF8', 'LATIN1'), convert_from('text_in_utf8'::bytea, 'UTF8'), convert_to('low water', 'UTF8'), encode('123\000\001'::bytea, 'base64'), decode('cXVheQA=', 'base64')
SELECT length('h\303\244fen'::bytea, 'UTF8')
## 9.6 Bit string functions and operators
SELECT B'10001' || B'011', B'10001' & B'01101', ~ B'10001', length(B'101')
## 9.7 Pattern matching
SELECT 'abc' LIKE 'a%', 'abc' NOT LIKE '_b_', 'a_c' LIKE 'a\_c', 'a_c' LIKE 'a#_c' ESCAPE '#', 'ABC' ILIKE 'a%', 'abc' ~~ 'a%', 'ABC' ~~* 'a%', 'abc' !~~ 'b'
SELECT 'abc' SIMILAR TO '%(b|d)%', 'abc' NOT SIMILAR TO '(b|c)%', 'a%c' SIMILAR TO 'a#%c' ESCAPE '#'
SELECT 'thomas' ~ 't.*ma', 'thomas' ~* 'T.*ma', 'thomas' !~ 't.*max', 'thomas' !~* 'T.*ma', 'foobar' ~ '^(?=foo)', 'abab' ~ '^(ab)\1$', 'a1' ~ '^[[:alpha:]]\d$', 'ab' ~ '\mab\M'
SELECT 'alphabet' ^@ 'alph'
SELECT regexp_match('pier 12 north', '(.*?)([0-9]+)'), substring('pier 12' from 'p.*?([0-9]{1,2})')
## 9.8 Data type formatting functions
SELECT to_char(timestamp '2023-08-09 05:14:47.25', 'HH12:MI:SS'), to_char(interval '9h 41m 7s', 'HH24:MI:SS'), to_char(125, '999'), to_char(308.4::real, '999D9'), to_char(-125.8, '999D99S'), to_date('17 Aug 2024', 'DD Mon YYYY'), to_number('30,917.2-', '99G999D9S'), to_timestamp('17 Aug 2024', 'DD Mon YYYY')
SELECT to_char(timestamp '2023-08-09 05:14:47.25', 'Day, DD  HH12:MI:SS'), to_char(timestamp '2023-08-09', 'FMDay, FMDD'), to_char(timestamp '2023-08-09', 'YYYY-MM-DD Q WW IW DDD J CC RM TMMonth')
SELECT to_char(-0.1, '99.99'), to_char(-0.1, 'FM9.99'), to_char(0.1, '0.9'), to_char(12, '9990999.9'), to_char(485, '9 9 9'), to_char(1485, '9,999'), to_char(485, 'RN'), to_char(482, '999th'), to_char(0.0004859, '9.99EEEE'), to_char(12.4, '99V999'), to_char(485, '"Good number:"999')
## 9.9 Date/time functions and operators
SELECT date '2024-06-11' + 7, date '2024-06-11' + interval '1 hour', date '2024-06-11' + time '03:00', interval '2 days' + interval '5 hours', timestamp '2024-06-11 01:00' + interval '23 hours', time '06:20' + interval '9 hours', - interval '23 hours', date '2001-10-01' - date '2024-06-11', date '2001-10-01' - 7, date '2024-06-11' - interval '1 hour', time '08:15' - time '06:40', time '08:15' - interval '3 hours', timestamp '2024-06-11 23:00' - interval '23 hours', interval '2 days' - interval '5 hours', timestamp '2024-10-02 07:30' - timestamp '2024-08-19 16:45', interval '1 second' * 900, interval '1 day' * 21, interval '1 hour' / 1.5
SELECT age(timestamp '2023-11-02', timestamp '1988-01-20'), age(current_date) = interval '0', clock_timestamp() >= now(), statement_timestamp() IS NOT NULL, transaction_timestamp() = now(), timeofday() IS NOT NULL
SELECT current_date = now()::date, current_time IS NOT NULL, current_timestamp = now(), current_timestamp(0) IS NOT NULL, localtime IS NOT NULL, localtimestamp = now()::timestamp, localtimestamp(2) IS NOT NULL
SELECT date_bin('15 minutes', timestamp '2024-03-05 07:41:23', timestamp '2024-03-05 20:05:00'), date_part('hour', timestamp '2024-03-05 07:41:23'), date_part('month', interval '4 years 7 months'), date_trunc('hour', timestamp '2024-03-05 07:41:23'), date_trunc('day', timestamptz '2024-03-05 07:41:23+00', 'Australia/Sydney'), date_trunc('hour', interval '5 days 1 hour 25 minutes')
SELECT extract(hour from timestamp '2024-03-05 07:41:23'), extract(month from interval '4 years 7 months'), isfinite(date '2024-03-05'), isfinite(interval '9 hours'), justify_days(interval '1 year 40 days'), justify_hours(interval '61 hours 25 minutes'), justify_interval(interval '2 mons -5 hours')
SELECT make_date(2013, 7, 15), make_interval(days => 10), make_time(8, 15, 23.5), make_timestamp(2021, 4, 9, 17, 52, 8.25), make_timestamptz(2021, 4, 9, 17, 52, 8.25, 'Europe/London'), to_timestamp(1284352323)
SELECT (date '2024-03-05', date '2024-11-30') OVERLAPS (date '2024-09-14', date '2025-09-14')
SELECT extract(century from timestamp '2024-03-05 07:41:23'), extract(day from interval '53 days 7 minutes'), extract(decade from date '2024-03-05'), extract(dow from date '2024-03-05'), extract(doy from date '2024-03-05'), extract(epoch from timestamptz '2024-03-05 07:41:23.12-08'), extract(epoch from interval '8 days 11 hours'), extract(isodow from date '2001-02-18'), extract(isoyear from date '2019-05-17'), extract(julian from date '2019-05-17'), extract(microseconds from time '06:47:19.25'), extract(millennium from date '2024-03-05'), extract(milliseconds from time '06:47:19.25'), extract(minute from time '17:12:28'), extract(quarter from date '2024-03-05'), extract(second from time '06:47:19.25'), extract(week from date '2024-03-05'), extract(year from date '2024-03-05')
SELECT extract(timezone from timestamptz '2024-03-05 07:41:23+00'), extract(timezone_hour from timestamptz '2024-03-05 07:41:23+00')
SELECT timestamp '2024-03-05 07:41:23' AT TIME ZONE 'America/Halifax', timestamptz '2024-03-05 07:41:23-05' AT TIME ZONE 'America/Halifax', timestamptz '2024-03-05 07:41:23-05' AT TIME ZONE interval '-07:00', timezone('UTC', timestamp '2024-03-05 07:41:23')
-- out: waits
SELECT pg_sleep(0)
SELECT extract(julian from timestamp '2024-03-05 18:00'), extract(century from date '0044-03-15 BC'), timetz '10:00+02' at time zone 'UTC'
## 9.10 Enum support functions
-- out: types of one's own belong to the source
SELECT enum_first(NULL::rainbow)
## 9.14 UUID functions
SELECT gen_random_uuid() IS NOT NULL
## 9.16 JSON functions and operators
SELECT '[{"a":"ebb"},{"b":"bar"}]'::jsonb -> 1, '[1,2,3]'::jsonb -> -3, '{"a": {"b":"ebb"}}'::jsonb -> 'a', '[1,2,3]'::jsonb ->> 2, '{"a":1,"b":2}'::jsonb ->> 'b', '{"a": {"b": ["ebb","bar"]}}'::jsonb #> '{a,b,1}', '{"a": {"b": ["ebb","bar"]}}'::jsonb #>> '{a,b,1}'
SELECT '{"p":6, "q":9}'::jsonb @> '{"b":2}', '{"b":2}'::jsonb <@ '{"p":6, "q":9}', '{"p":6, "q":9}'::jsonb ? 'b', '{"p":6, "q":9}'::jsonb ?| array['b', 'd'], '["a", "b"]'::jsonb ?& array['a', 'b'], '["a", "b"]'::jsonb || '["a", "d"]', '{"a": "b"}'::jsonb || '{"c": "d"}', '{"p": "q", "r": "s"}'::jsonb - 'p', '["a", "b"]'::jsonb - 1, '{"p": "q", "r": "s"}'::jsonb - '{p,r}'::text[], '["p", {"q":6}]'::jsonb #- '{1,q}', '{"m":[3,5,8,9]}'::jsonb @? '$.a[*] ? (@ > 2)', '{"m":[3,5,8,9]}'::jsonb @@ '$.a[*] > 2'
SELECT to_jsonb('Fred said "Hi."'::text), to_jsonb(row(42, 'x')), array_to_json('{{2,7},{31,48}}'::int[])::jsonb, row_to_json(row(1,'ebb'))::jsonb, jsonb_build_array(1, 2, 'ebb', 4, 5), jsonb_build_object('ebb', 1, 2, row(3,'flow')), jsonb_object('{a, 1, b, "def", c, 3.5}'), jsonb_object('{a,b}', '{1,2}')
SELECT * FROM jsonb_array_elements('[1,true, [2,false]]')
SELECT * FROM jsonb_array_elements_text('["ebb", "bar"]')
SELECT jsonb_array_length('[1,2,3,{"k1":1},4]')
SELECT * FROM jsonb_each('{"a":"ebb", "b":"bar"}')
SELECT * FROM jsonb_each_text('{"a":"ebb", "b":"bar"}')
SELECT jsonb_extract_path('{"k2":{"f3":1},"f4":{"f5":99,"f6":"ebb"}}', 'f4', 'f6'), jsonb_extract_path_text('{"f4":{"f6":"ebb"}}', 'f4', 'f6')
SELECT * FROM jsonb_object_keys('{"k1":"abc","k2":{"f3":"a"}}')
SELECT * FROM jsonb_to_record('{"a":1,"b":[1,2],"c":"bar"}') AS x(a int, b text, c text)
SELECT * FROM jsonb_to_recordset('[{"a":1,"b":"ebb"}, {"a":"2","c":"bar"}]') AS x(a int, b text)
SELECT jsonb_set('[{"k1":1,"k2":null},2,null,3]', '{0,k1}', '[2,3,4]', false), jsonb_set_lax('[{"k1":1,"k2":null},2,null,3]', '{0,k1}', null), jsonb_insert('{"m": [5,8,6]}', '{m, 1}', '"late"'), jsonb_strip_nulls('[{"k1":1, "k2":null}, 2, null, 3]')
SELECT jsonb_path_exists('{"m":[3,5,8,9]}', '$.m[*] ? (@ > $low && @ < $high)', '{"low":4, "high":9}'), jsonb_path_match('{"m":[3,5,8,9]}', 'exists($.a[*] ? (@ >= $min))', '{"min":2}'), jsonb_path_query_array('{"m":[3,5,8,9]}', '$.a[*] ? (@ >= $min)', '{"min":2}'), jsonb_path_query_first('{"m":[3,5,8,9]}', '$.a[*] ? (@ > 2)')
SELECT * FROM jsonb_path_query('{"m":[3,5,8,9]}', '$.a[*] ? (@ >= 2)')
SELECT jsonb_pretty('[{"k1":1,"k2":null}, 2]'), jsonb_typeof('-123.4'), json_typeof('[]')
SELECT jsonb_path_query_array('[1, "a", {"b": 2}, [3]]', '$[*].type()'), jsonb_path_query_array('[1, 2, 3]', '$[last]'), jsonb_path_query_array('[1.7, -2.3]', '$[*].floor()'), jsonb_path_query_array('["abc", "b"]', '$[*] ? (@ like_regex "^a")'), jsonb_path_query_array('["abc"]', '$[*] ? (@ starts with "a")'), jsonb_path_query_array('{"a": {"b": 1}}', '$.**'), jsonb_path_query_array('{"a": 1}', 'strict $.a'), jsonb_path_query_array('{"x": 20}', '$.keyvalue().key')
SELECT jsonb_path_query_array('["2024-03-05"]', '$[*].datetime()'), jsonb_path_exists_tz('["2024-03-05 10:00+02"]', '$[*] ? (@.datetime() > "2024-03-05".datetime())'), jsonb_path_query_array('{"m": [4, 5]}', '+ $.m'), jsonb_set_lax('{"m": 1}', '{m}', null, true, 'delete_key'), json_object('{{quay, 4}, {pier, 9}}')
## 9.18 Conditional expressions
SELECT CASE WHEN a = 1 THEN 'one' WHEN a = 2 THEN 'two' ELSE 'other' END, CASE a WHEN 1 THEN 'one' END FROM (VALUES (1), (2), (3)) t(a)
SELECT coalesce(NULL, NULL, 'x'), nullif(1, 1), greatest(1, 3, NULL), least(1, 3, NULL)
## 9.19 Array functions and operators
SELECT ARRAY[7,2,5] @> ARRAY[5,7,5], ARRAY[8,3,3] <@ ARRAY[3,9,8], ARRAY[1,4,3] && ARRAY[2,1], ARRAY[1,2,3] || ARRAY[4,5], ARRAY[8, 4] || ARRAY[[6, 1], [2, 5.5]], 3 || ARRAY[4,5,6], ARRAY[4,5,6] || 7
SELECT array_append(ARRAY[6,9], 4), array_cat(ARRAY[7,1], ARRAY[8,2,6]), array_dims(ARRAY[[7,1], [8,2], [6,3]]), array_fill(11, ARRAY[2,3]), array_fill(7, ARRAY[3]), array_length(ARRAY[7,1,8,2], 1), array_lower(ARRAY[1,2], 1), array_ndims(ARRAY[[7,1], [8,2]]), array_position(ARRAY['sun', 'mon', 'tue'], 'mon'), array_positions(ARRAY['ebb','flow','ebb'], 'ebb'), array_prepend(1, ARRAY[2,3]), array_remove(ARRAY[1,2,3,2], 2), array_replace(ARRAY[1,2,5,4], 5, 3), array_to_string(ARRAY[1, 2, 3, NULL, 5], ',', '*'), array_upper(ARRAY[1,8,3,7], 1), cardinality(ARRAY[[7,1],[8,2]]), trim_array(ARRAY[1,2,3,4,5,6], 2)
SELECT * FROM unnest(ARRAY[1,2])
SELECT * FROM unnest(ARRAY[[1,2],[3,4]])
SELECT * FROM unnest(ARRAY[1,2], ARRAY['ebb','flow','slack']) AS x(a, b)
SELECT generate_subscripts(ARRAY[1, NULL, 3], 1)
SELECT array_fill(4, ARRAY[2], ARRAY[3]), ARRAY[4, 5] || '{6}', ARRAY[4, 5] || NULL
## 9.20 Range functions and operators
SELECT lower(int4range(1, 5)), int4range(1, 5) * int4range(3, 8)
## 9.21 Aggregate functions
SELECT array_agg(x), avg(x), bit_and(x), bit_or(x), bit_xor(x), count(*), count(x), max(x), min(x), sum(x) FROM (VALUES (1), (2), (3)) t(x)
SELECT bool_and(x), bool_or(x), every(x) FROM (VALUES (true), (false)) t(x)
SELECT json_agg(x)::jsonb, jsonb_agg(x), json_object_agg(x, x)::jsonb, jsonb_object_agg(x, x) FROM (VALUES (1), (2)) t(x)
SELECT string_agg(x, ', ') FROM (VALUES ('a'), ('b')) t(x)
SELECT string_agg(x, '\x2c'::bytea) FROM (VALUES ('\x61'::bytea), ('\x62'::bytea)) t(x)
SELECT corr(y, x), covar_pop(y, x), covar_samp(y, x), regr_avgx(y, x), regr_avgy(y, x), regr_count(y, x), regr_intercept(y, x), regr_r2(y, x), regr_slope(y, x), regr_sxx(y, x), regr_sxy(y, x), regr_syy(y, x) FROM (VALUES (1.0::float8, 2.0::float8), (2, 3), (3, 5)) t(y, x)
SELECT stddev(x), stddev_pop(x), stddev_samp(x), variance(x), var_pop(x), var_samp(x) FROM (VALUES (1), (2), (4)) t(x)
SELECT mode() WITHIN GROUP (ORDER BY x), percentile_cont(0.25) WITHIN GROUP (ORDER BY x), percentile_cont(ARRAY[0.25, 0.5]) WITHIN GROUP (ORDER BY x), percentile_disc(0.5) WITHIN GROUP (ORDER BY x), percentile_disc(ARRAY[0.25, 0.5]) WITHIN GROUP (ORDER BY x) FROM (VALUES (1), (2), (4)) t(x)
SELECT rank(2) WITHIN GROUP (ORDER BY x), dense_rank(2) WITHIN GROUP (ORDER BY x), percent_rank(2) WITHIN GROUP (ORDER BY x), cume_dist(2) WITHIN GROUP (ORDER BY x) FROM (VALUES (1), (2), (4)) t(x)
SELECT range_agg(int4range(x, x + 1)) FROM (VALUES (1), (2)) t(x)
SELECT xmlagg('<a/>'::xml)
## 9.22 Window functions
SELECT row_number() OVER w, rank() OVER w, dense_rank() OVER w, percent_rank() OVER w, cume_dist() OVER w, ntile(2) OVER w, lag(x) OVER w, lag(x, 2, 0) OVER w, lead(x) OVER w, first_value(x) OVER w, last_value(x) OVER w, nth_value(x, 2) OVER w FROM (VALUES (1), (1), (2), (3)) t(x) WINDOW w AS (ORDER BY x)
## 9.23 Subquery expressions
SELECT x FROM (VALUES (1), (2)) t(x) WHERE EXISTS (SELECT 1 FROM (VALUES (2)) u(y) WHERE y = x)
SELECT x FROM (VALUES (1), (2)) t(x) WHERE x IN (SELECT 2) OR x NOT IN (SELECT 1)
SELECT 1 IN (SELECT 1), 1 NOT IN (SELECT 2), (1, 2) IN (SELECT 1, 2), 1 = ANY (SELECT 1), 1 < SOME (SELECT 2), 1 <= ALL (SELECT 1), (1, 2) = (SELECT 1, 2), ROW(1, 2) < ALL (SELECT 1, 3)
## 9.24 Row and array comparisons
SELECT 1 IN (1, 2), 1 NOT IN (2, 3), 1 = ANY (ARRAY[1]), 1 <> ALL (ARRAY[2]), (1, 2) < (1, 3), (1, NULL) IS DISTINCT FROM (1, NULL)
## 9.25 Set returning functions
SELECT * FROM generate_series(2, 4)
SELECT * FROM generate_series(5, 1, -2)
SELECT * FROM generate_series(0.4, 5, 1.7)
SELECT * FROM generate_series(timestamp '2008-03-01 00:00', timestamp '2008-03-02', interval '10 hours')
SELECT * FROM generate_series(timestamptz '2008-03-01 00:00+00', timestamptz '2008-03-02 00:00+00', interval '10 hours')
SELECT * FROM generate_subscripts('{5,NULL,6}'::int[], 1) AS s
SELECT * FROM generate_subscripts('{1,2}'::int[], 1, true) AS s
## 9.26 System information functions
SELECT current_catalog IS NULL OR true, current_schema IS NOT NULL, current_user IS NOT NULL, session_user IS NOT NULL, user IS NOT NULL, version() IS NOT NULL, pg_typeof(1)::text
-- out: administration
SELECT pg_backend_pid() > 0
-- out: administration
SELECT has_table_privilege('x', 'select')
## !9.11 Geometric functions and operators
SELECT point '(1,1)' <-> point '(4,5)', area(box '((0,0),(2,3))'), box '((0,0),(1,1))' && box '((0,0),(2,2))', center(circle '<(1,2),3>')
## !9.12 Network address functions and operators
SELECT inet '10.1.2.3' << inet '10.1.0.0/16', host(inet '10.1.2.3/24'), masklen(inet '10.1.2.3/24'), network(inet '10.1.2.3/24'), inet '10.1.2.3' + 5
## !9.13 Text search functions and operators
SELECT to_tsvector('simple', 'the ferry leaves') @@ to_tsquery('simple', 'ferry'), ts_rank(to_tsvector('simple', 'a ferry'), to_tsquery('simple', 'ferry')), strip(tsvector 'a:1 b:2'), plainto_tsquery('simple', 'late ferry')
## !9.15 XML functions
SELECT xmlelement(name quay, 'four'), xmlforest('a' AS b), xmlconcat('<a/>'::xml, '<b/>'::xml), xpath('/a/text()', '<a>b</a>'::xml)
