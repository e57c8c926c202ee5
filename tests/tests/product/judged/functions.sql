-- Functions and operators, one statement a line. After `-- differs:` stands one whose answer is known to be another.
select 1e20::float8::numeric, 0.1::float8::numeric, (1.0::float8/3)::numeric(20,15), 1e-20::float8::numeric, 123456.789::real::numeric
select to_char(485, 'RN'), to_char(485, 'FMRN'), to_char(4000,'RN'), to_char(0,'RN'), to_char(12.4,'FMRN')
select to_char(0.0004859, '9.99EEEE'), to_char(485,'9.9EEEE'), to_char(-485,'9.99EEEE'), to_char(0,'9.9EEEE')
select to_char(12, '99V999'), to_char(12.4, '99V999'), to_char(12.45, '99V9'), to_char(-12.45,'99V9')
select to_char(482, '999th'), to_char(481,'999TH'), to_char(-1,'9th'), to_char(1.5,'9.9th')
select to_char(485, '"Good number:"999'), to_char(485.8, '"Pre:"999" Post:" .999')
select to_char(485,'L999'), to_char(485,'999L'), to_char(-485,'L999'), to_char(485,'FML999')
select to_char(-485,'SG999'), to_char(485,'SG999'), to_char(-485,'9SG99'), to_char(-485,'S999'), to_char(485,'999S'), to_char(-485,'999S')
select to_char(-485,'999MI'), to_char(485,'999MI'), to_char(485,'FM999MI'), to_char(-485,'MI999'), to_char(485,'MI999'), to_char(-485,'PL999'), to_char(485,'PL999')
select to_char(12,'FM0999'), to_char(0.1,'FM9.99'), to_char(0.1,'FM90.99'), to_char(1,'FM999.000'), to_char(0,'FM9.99'), to_char(0,'9.99'), to_char(0,'0.00'), to_char(0,'FM0.00'), to_char(148.5,'999.999'), to_char(148.5,'FM999.999'), to_char(148.5,'FM999.990')
select to_char(1485,'9,999'), to_char(1485,'9G999'), to_char(148.5,'999D999'), to_char(3148.5,'9G999D999'), to_char(-0.1,'99.99'), to_char(-0.1,'FM9.99'), to_char(0.1,'0.9'), to_char(12,'9990999.9'), to_char(12,'FM9990999.9'), to_char(485,'999'), to_char(-485,'999'), to_char(485,'9 9 9'), to_char(-12,'999PR'), to_char(12,'999PR'), to_char(-12,'FM999PR')
select to_char(1234567,'999'), to_char(-1.5,'9'), to_char(0.5,'9'), to_char(1.5,'.99'), to_char(15.567,'B99.9'), to_char(0,'B99'), to_char(125.8::float8,'999D9'), to_char(125::int,'999'), to_char(1e10::float8,'99999999999')
select to_char(interval '9h 41m 7s', 'HH24:MI:SS'), to_char(interval '3 days 15h 2m 12s', 'DD HH24:MI:SS'), to_char(interval '1 year 2 months', 'YYYY MM'), to_char(interval '100 hours', 'HH24'), to_char(interval '100 hours','HH12'), to_char(interval '40 days 30 hours','DD HH24:MI')
select to_char(timestamp '2024-02-03 04:05:06.789', 'YYYY-MM-DD HH24:MI:SS.MS US FF3 Day DAY Dy Mon Month DDD D ID IYYY-IW Q CC J WW W AM a.m. TH DDth FMDDth FMMonth')
-- differs: the hours of an interval reach 292 years
select interval '2000000 hours' * 2, interval '1 month' * 1.5, interval '1 day' * 0.5, interval '1 mon 1 day' / 2, interval '-1 month' * 0.5, interval '1 year' / 5, interval '1 day 02:03:04' * 1.5
select interval '1 day -1 hour', interval '-1 day +02:00', interval '-1 year -2 months +3 days -04:05:06', interval '1 year -1 day', interval '-00:00:01', interval '1 mon ago', interval '2 days 3 hours ago'
select '2024-01-01 00:00:00.1234567'::timestamp, '00:00:00.1234567'::time, interval '0.1234567 seconds', '2024-01-01 00:00:00.9999999'::timestamp, interval '1.5 days', interval '1.5 months', interval '0.5 years', interval '1.5 weeks', interval '1.23456789 hours'
select quote_ident('select'), quote_ident('table'), quote_ident('user'), quote_ident('abc'), quote_ident('Abc'), quote_ident('int'), quote_ident('between'), quote_ident('a b'), quote_ident(''), quote_ident('year'), quote_ident('name')
select row('a"b', 'c\d', 'e,f', '', null, ' x', '(y)', 'z''z', E'n\nl')
select '\x4142'::bytea || '\x43'::bytea, 'a\\b\001c'::bytea, 'abc'::bytea, '\x'::bytea, '\x 41 42'::bytea
select encode('\x00415cff'::bytea,'escape'), encode('\x00415cff'::bytea,'hex'), encode('\x00415cff'::bytea,'base64'), decode('AGFc/w==','base64'), decode('4142','hex'), decode('a\\b\000','escape')
select sha256('abc'::bytea), sha224(''::bytea), md5('abc'::bytea), length('abc'::bytea), octet_length('\x0102'::bytea), bit_length('\x0102'::bytea), substring('\x01020304'::bytea, 2, 2), btrim('\x0001020001'::bytea, '\x0001'::bytea), position('\x02'::bytea in '\x010203'::bytea), overlay('\x010203'::bytea placing '\xff'::bytea from 2 for 1), get_byte('\x0102'::bytea,1), set_byte('\x0102'::bytea,1,255)
select jsonb_build_object('a',1,'b',null,'c','x'::text,'d',1.50,'e',true,'f',date '2024-01-01','g','{"x":1}'::jsonb,'h',array[1,2]), jsonb_build_array(1,'a',null,2.5)
-- differs: json has the form of jsonb
select json_build_object('a',1,'b',null,'c','x'::text,'d',1.50,'e',true,'f',date '2024-01-01','g','{"x":1}'::json,'h',array[1,2]), json_build_array(1,'a',null,2.5)
-- differs: all decimals of one column have one scale
select jsonb_object_agg(k,v), json_object_agg(k,v), jsonb_agg(v), json_agg(v) from (values ('a',1.50),('bb',2),('a',3)) t(k,v)
select to_json(timestamp '2024-01-02 03:04:05'), to_jsonb(timestamptz '2024-01-02 03:04:05+00'), to_json('a"b'::text), to_json(row(1,'a')), to_json(array[[1,2],[3,4]]), to_jsonb(1.50), to_json(null::int), to_json(1e20::float8)
select jsonb_set('{"a":{"b":1}}','{a,b}','2'), jsonb_set('{"a":1}','{b}','2'), jsonb_set('{"a":1}','{b}','2',false), jsonb_set('[1,2,3]','{-1}','9'), jsonb_set('[1,2,3]','{5}','9'), jsonb_set('[1,2]','{-5}','9'), jsonb_insert('{"a":[0,1,2]}','{a,1}','"new"'), jsonb_insert('{"a":[0,1,2]}','{a,1}','"new"',true), jsonb_set('{"a":1}', '{x,y}', '1')
select jsonb_strip_nulls('{"a":null,"b":[1,null,{"c":null}]}'), jsonb_pretty('{"a":[1,2,{}],"b":{},"c":[]}'), json_object('{a,1,b,2}'), json_object('{a,b}','{1,2}'), '{"a":1,"b":2}'::jsonb - 'p', '["a","b","a"]'::jsonb - 'p', '[1,2,3]'::jsonb - 1, '[1,2,3]'::jsonb - -1, '{"a":1,"b":2,"c":3}'::jsonb - array['a','c'], '{"a":{"b":1,"c":2}}'::jsonb #- '{a,b}', '[1,[2,3]]'::jsonb #- '{1,0}'
select '{"a":1,"b":2}'::jsonb ?| array['x','a'], '{"a":1,"b":2}'::jsonb ?& array['a','b'], '["a"]'::jsonb ? 'a', '{"a":1}'::jsonb || '{"b":2}', '[1]'::jsonb || '2', '1'::jsonb || '2', '{"a":1.50}'::jsonb->'a', '{"a":1.50}'::jsonb->>'a', '[1,2.0]'::jsonb @> '[2]', '1e2'::jsonb, '{"a":[1,2]}'::jsonb #> '{a,1}', ('{"a":[1,2]}'::jsonb)['a'][1]
select '1'::jsonb < '2', '"a"'::jsonb < '1', '[1]'::jsonb = '[1.0]', '{"a":1}'::jsonb > '[1]'
select x from (values ('1'::jsonb),('"a"'),('null'),('[]'),('{}'),('true'),('[1]')) t(x) order by x
select array_positions(array[1,2,1],1), array_replace(array[1,2,1],1,9), array_fill(7,array[2,2]), array_fill(1,array[3]), array_dims(array[[1,2],[3,4]]), array_ndims(array[1]), array_lower(array[1],1), array_length(array[[1,2,3],[4,5,6]],2), cardinality(ARRAY[[7,1],[8,2]]), trim_array(array[1,2,3],1), array_dims('{}'::int[])
select regexp_replace('abc','','-'), regexp_replace('abc','x*','-','g'), regexp_split_to_array('abc',''), regexp_split_to_array('a,b',','), regexp_replace('foobar','o',  'X', 2), regexp_replace('foobaro','o','X',1,2), regexp_replace('foobaro','o','X',1,0,''), regexp_count('abcabc','b',3), regexp_instr('abcabc','b',1,2), regexp_substr('abcabc','b(c)',1,2,'',1), regexp_replace('abc','(b)','[\1\&\\]')
select 'foobar' ~ 'o(?=b)', 'foobar' ~ '(o)\1', regexp_matches('pierquaydockend','(ba.)(b.)','g'), regexp_match('abc','(?<!x)b'), 'abc' ~* 'B', 'abc' !~ 'z'
select sind(30), cosd(60), tand(45), cotd(45), asind(0.5), acosd(0.5), atand(1), atan2d(1,1), sinh(1), asinh(1), acosh(2), atanh(0.5), sind(60), cosd(30)
select gcd(12.5, 7.5), lcm(1.2, 0.9), gcd(12,18), lcm(4,6), scale(1.500), min_scale(1.500), isfinite(date '2024-01-01'), isfinite(interval '1 day')
select pg_typeof(1), pg_typeof('a'::text), pg_typeof(1.5), pg_typeof(now()), pg_typeof(array[1]), pg_typeof(null::date), pg_typeof(1::float8)
select date_trunc('hour', interval '1 day 02:03:04'), date_trunc('month', interval '1 year 2 mons 3 days'), date_trunc('day', timestamptz '2024-01-01 23:00+00', 'Europe/Paris'), round(2.567, 1), trunc(2.567, 2), round(25.5, -1)
select date_trunc(p, timestamp '2024-05-06 07:08:09'), extract(year from timestamp '2024-05-06'), date_part(p, timestamp '2024-05-06 07:08:09') from (values ('day'),('hour'),('month')) t(p)
select round(2.567, n), trunc(-2.567, n) from (values (0),(1),(2)) t(n)
select timestamp '2024-01-01 12:00' at time zone z from (values ('Europe/Paris'),('UTC')) t(z)
select timezone(interval '2 hours', timestamp '2024-01-01 12:00'), timezone(interval '2 hours', timestamptz '2024-01-01 12:00+00')
SELECT U&'d!0061t!+000061' UESCAPE '!'
SELECT concat_ws('-', VARIADIC ARRAY['a', null, 'b'])
SELECT concat(VARIADIC ARRAY['a', 'b']), format('%s-%s', VARIADIC ARRAY['a', 'b']), jsonb_build_array(VARIADIC ARRAY[1,2])
SELECT num_nulls(VARIADIC ARRAY[1,null]), jsonb_extract_path('{"a":{"b":1}}', VARIADIC ARRAY['a','b'])
SELECT upper(VARIADIC ARRAY['a'])
SELECT interval(0) '1.6 seconds', interval(3) '1.23456'
SELECT normalize(U&'\006f\0308re', NFC) = U&'\00f6re', U&'\006f\0308re' IS NORMALIZED, 'a' IS NFD NORMALIZED, 'é' IS NOT NFKC NORMALIZED, normalize('é', NFD) = 'é'
SELECT parse_ident('"Quay".Berth'), parse_ident('a . B.c$1 ', true), parse_ident('foo.boo[]', false), parse_ident('"a""b"')
SELECT parse_ident('foo.boo[]')
SELECT parse_ident('1a')
SELECT parse_ident('a.')
SELECT parse_ident('""')
SELECT jsonb_path_query_array('{"x": 20}', '$.keyvalue().key')
SELECT jsonb_path_query('{"xx": 20, "y": [1]}', '$.keyvalue()')
SELECT jsonb_path_query('[1]', '$.keyvalue()')
SELECT 'a' || NULL IS NORMALIZED
SELECT extract(timezone from timestamptz '2024-03-05 07:41:23+00'), extract(timezone_hour from now()), date_part('timezone_minute', now())
SELECT extract(timezone from timestamp '2024-03-05 07:41:23')
SELECT ROW(1, 2) < ALL (SELECT 1, 3), ROW(1, null) < ANY (SELECT 1, 3), ROW(2, null) > ANY (SELECT 1, 3), ROW(1,2) <> ALL (SELECT 1, 2)
SELECT a, (a, b) >= ALL (SELECT x, y FROM (VALUES (1, 2), (1, null)) t(x, y)) FROM (VALUES (1,1), (2,2), (null,1)) s(a, b)
SELECT string_agg(x, '\x2c'::bytea) FROM (VALUES ('\x61'::bytea), ('\x62'::bytea)) t(x)
SELECT string_agg(x, '\x2c' ORDER BY x DESC) FROM (VALUES ('\x61'::bytea), (null), ('\x62'::bytea)) t(x)
SELECT string_agg(x, ',') FROM (VALUES ('\x61'::bytea)) t(x) WHERE false
SELECT sum(t), avg(t), min(t) FROM (VALUES (time '04:05:06'), ('01:00')) x(t)
SELECT date_trunc('hour', time '04:05:06'), date_trunc('second', time '04:05:06.7')
SELECT ARRAY[1] && ARRAY[1.5]
SELECT ARRAY[1] @> ARRAY[1.5::float8]
SELECT ARRAY[1.25] && ARRAY[1.5], ARRAY[1.5] <@ ARRAY[1.50, 2]
SELECT ARRAY[1] = ARRAY[1.5]
SELECT pg_typeof(1/0)
SELECT pg_typeof(x/0) FROM (VALUES (1)) t(x)
SELECT width_bucket(15, ARRAY[1, 10, 20]), width_bucket(0.5, ARRAY[1, 10, 20]), width_bucket(99::float8, ARRAY[1, 10, 20]), width_bucket('b'::text, ARRAY['a','c'])
SELECT width_bucket(15, ARRAY[1, null])
SELECT width_bucket(null, ARRAY[1]), width_bucket(1, '{}'::int[])
SELECT to_char(timestamp '2023-08-09', 'TMMonth|TMDay|Month|FMMonth|TMMon')
SELECT interval '1.6 seconds' second(0), interval '1 2:03:04.567' day to second(1), interval '4.444' second(2)
SELECT interval '1' minute(2)
SELECT extract(timezone from timestamp '2024-03-05 07:41:23')
SELECT interval '1 day' day(2)
SELECT * FROM string_to_table('ebb/+/slack/+/flood', '/+/', 'slack')
SELECT string_to_table(x, ',') FROM (VALUES ('a,b'), (null), ('')) t(x)
SELECT y, extract(century FROM d), extract(millennium FROM d), extract(decade FROM d), extract(year FROM d), extract(isoyear FROM d) FROM (VALUES (1, date '0001-12-31 BC'), (2, date '0100-01-01 BC'), (3, date '0101-01-01 BC'), (4, date '1001-06-01 BC'), (5, date '0011-06-01 BC'), (6, date '0009-06-01 BC'), (7, date '2001-01-01'), (8, date '2000-01-01')) t(y, d) ORDER BY y
SELECT y, date_trunc('century', d), date_trunc('millennium', d), date_trunc('decade', d) FROM (VALUES (1, date '0001-12-31 BC'), (2, date '0100-01-01 BC'), (3, date '0101-01-01 BC'), (4, date '1001-06-01 BC'), (5, date '0011-06-01 BC'), (6, date '0009-06-01 BC'), (7, date '2001-01-01'), (8, date '2000-01-01'), (9, date '0001-01-01'), (10, date '0009-01-01')) t(y, d) ORDER BY y
SELECT y, to_char(d, 'CC YYYY YYY IYYY BC') FROM (VALUES (1, date '0001-12-31 BC'), (2, date '0100-01-01 BC'), (3, date '0101-01-01 BC'), (4, date '1001-06-01 BC'), (5, date '0011-06-01 BC')) t(y, d) ORDER BY y
SELECT '[1, 2, [1, 3]]'::jsonb @> '[1, 3]'::jsonb, '[1,2]'::jsonb @> '1', '{"a":[1,2]}'::jsonb @> '{"a":1}', '[[1,2]]'::jsonb @> '[1]', '[{"a":1,"b":2}]'::jsonb @> '[{"a":1}]', '[1.0]'::jsonb @> '[1]', '[9007199254740993]'::jsonb @> '[9007199254740992]', '["a"]'::jsonb @> '"a"', '1'::jsonb @> '[1]', '[1,2]'::jsonb @> '[1,1]', '1.0'::jsonb @> '1'
SELECT ARRAY[1, 2] || '{3, 4}', ARRAY[1,2] || NULL, NULL || ARRAY[1], '{1}' || ARRAY[2], ARRAY['a'] || 'b'
SELECT ARRAY[1, 2] || x FROM (VALUES (NULL::int)) t(x)
SELECT ARRAY['a'] || '{b}'
SELECT ARRAY[1,2] || null::int[]
SELECT 'null' IS NOT NULL, 'a' IS NULL, NULL IS NULL
SELECT json_object('{{quay, 4}, {pier, "x y"}, {dock, 7.5}}')
SELECT jsonb_object('{{a, 1}, {b, "def"}, {c, null}}'), json_object('{a,1}'), json_object(ARRAY[['a','b'],['c','d']])
SELECT json_object('{{a, 1, 2}}')
SELECT length('pier'::bytea, 'UTF8'), length('\xff'::bytea, 'LATIN1')
SELECT length('\xff'::bytea, 'UTF8')
SELECT EXTRACT(JULIAN FROM TIMESTAMP '2019-05-17 12:00'), EXTRACT(JULIAN FROM TIMESTAMP '2019-05-17 06:00:00.5'), extract(julian from date '2019-05-17')
SELECT jsonb_set_lax('[{"k1":99,"k2":null},2]', '{0,k3}', null, true, 'return_target'), jsonb_set_lax('[{"k1":99,"k2":null},2]', '{0,k1}', null), jsonb_set_lax('[{"k1":99,"k2":null},2]', '{0,k1}', null, true, 'delete_key'), jsonb_set_lax('{"a":1}', '{a}', '5', true, 'delete_key')
SELECT jsonb_set_lax('{"a":1}', '{a}', null, true, 'raise_exception')
SELECT jsonb_set_lax('{"a":1}', '{a}', null, true, 'whatever')
SELECT jsonb_path_query_array('{"w": [6,1]}', '+ $.w'), jsonb_path_query_array('{"x": [2.5,3]}', '- $.x'), jsonb_path_query_array('[2]', '-$'), jsonb_path_query_array('[1,2]', '-$[0]')
SELECT format('|%*2$s|', 'ebb', 10, 'flow'), format('|%-*s|', 10, 'ebb'), format('|%1$*2$s|%s', 'a', 5, 'x')
SELECT length(timeofday()) > 25
SELECT 'abc' LIKE 'a' IS NULL, ('x' || 'y') IS NULL
SELECT x FROM (VALUES (1)) t(x) WHERE 'a' IS NOT NULL
SELECT isfinite('2001-01-01'::date), 'x' IS DISTINCT FROM NULL, NULL IS DISTINCT FROM NULL
SELECT json_object('{}'), jsonb_object('{}')
SELECT CASE WHEN 'a' IS NULL THEN 1 ELSE 2 END
SELECT to_char('infinity'::float8, '9.99'), to_char('-infinity'::float8, '999'), to_char('nan'::float8, '9.99'), to_char('infinity'::float8, 'FM9.99'), to_char('infinity'::float8, 'S9.9'), to_char('-infinity'::float8, '9.9MI'), to_char('infinity'::float8, 'RN'), to_char('infinity'::float8, '9,999.99'), to_char('nan'::float8, '0.9'), to_char('nan'::float8,'V9'), to_char('infinity'::float8,'99V99'), to_char(-1e300, '99D9')
SELECT to_char('infinity'::float8, '9.99EEEE'), to_char('-infinity'::float8, '9.99EEEE'), to_char('nan'::float8, '9EEEE'), to_char(1e200::float8, '9.99EEEE'), to_char('infinity'::float4, '99.9EEEE')
SELECT '7' SIMILAR TO '#d' ESCAPE '#', 'd' SIMILAR TO '#d' ESCAPE '#', 'a_b' SIMILAR TO 'a#_b' ESCAPE '#', 'axb' SIMILAR TO 'a#_b' ESCAPE '#', 'é' SIMILAR TO '#w' ESCAPE '#'
SELECT array_agg(sind(x) ORDER BY x), array_agg(cosd(x) ORDER BY x), array_agg(tand(x) ORDER BY x) FROM (VALUES (0::float8),(30),(45),(60),(89),(120),(135),(150),(180),(210),(225),(300),(315),(360),(-30),(-45),(1.5),(400)) t(x)
SELECT array_agg(cotd(x) ORDER BY x) FROM (VALUES (30::float8),(45),(60),(89),(120),(135),(150),(210),(225),(300),(315),(-30),(-45),(1.5),(400)) t(x)
SELECT array_agg(asind(x) ORDER BY x), array_agg(acosd(x) ORDER BY x), array_agg(atand(x) ORDER BY x) FROM (VALUES (0::float8),(0.5),(1),(-1),(-0.5),(0.3),(0.9)) t(x)
SELECT array_agg(atan2d(x, y) ORDER BY x, y) FROM (VALUES (0::float8, 1::float8),(1, 1),(1, 0),(-1, -1),(0.5, 2)) t(x, y)
SELECT tand(90), cotd(0), tand(270), cotd(90)
SELECT to_jsonb(row_to_json(row(1,'ebb'))), to_jsonb(json_build_object('a', 1))
SELECT sin('infinity')
SELECT sind('-infinity')
SELECT atan('infinity'), tanh('infinity'), sin('nan'), cosd('nan')
SELECT array_agg(v / 4), array_agg(v * 0.25), array_agg(v / 7), array_agg(v * 1.7), array_agg(v / -3), array_agg(v * 0.1) FROM (VALUES (interval '1 mon 9 days 01:23:45'), ('1 mon 8 days 30:00:00'), ('1 year 2 mons 29 days 23:59:59.999999'), ('-1 mons -9 days -30:00:00'), ('38 days 126:00:00'), ('1 mon 10 days 26:03:04.5'), ('37 days 23:00:00'), ('3 mons'), ('1 mon -1 days'), ('39 days 06:00:00')) t(v)
SELECT array_fill('\x00ff'::bytea, ARRAY[2]), array_prepend('\x01'::bytea, ARRAY['\x02'::bytea]), array_append(ARRAY['\x02'::bytea], '\x03'), quote_literal('\x61'::bytea), concat('\x61'::bytea, 'b'), format('%s', '\x61'::bytea), num_nulls('\x61'::bytea, null), to_json('\x61'::bytea), ROW('\x61'::bytea, 1), nullif('\x61'::bytea, '\x62')
SELECT array_position(ARRAY['\x02'::bytea], '\x02'), array_remove(ARRAY['\x02'::bytea], '\x02'), greatest('\x01'::bytea, '\x02'), coalesce(null::bytea, '\x03'), encode('\x0102', 'hex'), get_byte('\x0102'::bytea, 1), bit_count('\x0103'::bytea), sha224('\x01'), convert_from('\x61', 'UTF8'), reverse('ab'), md5('\x61'::bytea), bit_length('\x6162'::bytea), position('\x02'::bytea in '\x0102'::bytea), trim('\x00'::bytea from '\x000100'::bytea), overlay('\x010203'::bytea placing '\xff'::bytea from 2), substring('\x010203'::bytea from 2)
select 'berth'::text || '{}'::jsonb, '{}'::jsonb || 'quay'::varchar, '{"pier":2}'::jsonb || concat('{"pier":', '1}'), 'x'::text || null::bytea, pg_typeof('{"pier":2}'::jsonb || null), pg_typeof('a'::text || '1'::jsonb)
select '{}'::jsonb || '{"pier":1}', '{"pier":1}' || '{}'::jsonb
select '{"pier":1}'::jsonb || 7
select jsonb_path_query('{"pier":{"berth":{"pier":3}},"crew":[4,{"pier":5}]}', '$.**{1}')
select jsonb_path_query('{"pier":{"berth":{"pier":3}},"crew":[4,{"pier":5}]}', '$.**{1 to 2}')
select jsonb_path_query('{"pier":{"berth":{"pier":3}},"crew":[4,{"pier":5}]}', '$.**{last}')
select jsonb_path_query('{"pier":{"berth":{"pier":3}},"crew":[4,{"pier":5}]}', '$.**{2 to last}')
select jsonb_path_query('{"pier":{"berth":{"pier":3}},"crew":[4,{"pier":5}]}', 'strict $.**.pier')
select jsonb_path_query('{"pier":{"berth":{"pier":3}},"crew":[4,{"pier":5}]}', 'strict $.**[*]')
select jsonb_path_query('{"pier":{"berth":{"pier":3}},"crew":[4,{"pier":5}]}', 'strict $.**.size()')
select jsonb_path_query('7', '$.**{last}'), jsonb_path_query('7', '$.**')
select jsonb_path_query('[2.5, 30, 4e2]', '$[*] ? (@ > 2.5e1)'), jsonb_path_query('[0.1, 0.7]', '$[*] ? (@ > .5 && @ < 9E1)'), jsonb_path_query('[4]', '$[*] + 7.')
select * from jsonb_to_record(null) as t(pier int, crew text)
select array[array[]::int[], array[]::int[]], array[null::int[], null::int[]], array[]::int[] || array[[4,5]], array[[4,5]] || array[]::int[], array[[[4],[5]],[[6],[7]]]
select array[x, y] from (values (array[4], array[5]), (array[6], array[7])) t(x, y)
select justify_hours(time '21:15'), to_char(time '21:15', 'HH24:MI'), isfinite(time '21:15'), interval '1 day' > time '21:15', time '21:15' * 2, 2 * time '10:10', time '21:15' / 3, -time '21:15', corr(3, '4')
select mod(7.5::float8, 2)
select 7.5::real % 2
select coalesce(interval '1 day', time '21:15')
