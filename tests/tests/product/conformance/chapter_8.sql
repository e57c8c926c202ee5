## 8.1 Numeric types
SELECT 1::smallint, 1::integer, 1::bigint, 1::int2, 1::int4, 1::int8
SELECT 1.5::numeric, 1.555::numeric(4,2), 1.5::decimal(4,1), 12345::numeric(5)
SELECT 1.5::real, 1.5::double precision, 1.5::float4, 1.5::float8, 1.5::float(10)
SELECT 'Infinity'::float8, '-Infinity'::real, 'NaN'::float8
SELECT 'NaN'::numeric
SELECT 1.0::float8 = 'NaN'::float8, 'NaN'::float8 = 'NaN'::float8
SELECT round(2.5::float8), round(2.5::numeric), round(-2.5::numeric)
## 8.3 Character types
SELECT 'a'::varchar(10), 'abc'::varchar(2), 'abc'::character varying(2)
SELECT 'a'::char(3) || 'b', 'ab'::character(2)
SELECT 'a'::text, 'a'::name
## 8.4 Binary data types
SELECT '\xDEADBEEF'::bytea
SELECT 'abc \153\154\155 \052\251\124'::bytea
## 8.5 Date/time types
SELECT date '1999-01-08', date 'January 8, 1999', date '1/8/1999', date '1999-Jan-08', date '08-Jan-1999', date '19990108', date '990108', date '1999.008', date 'J2451187', date 'January 8, 99 BC'
SELECT time '04:05:06.789', time '04:05:06', time '04:05', time '040506', time '04:05 AM', time '04:05 PM'
SELECT time with time zone '04:05:06-08'
SELECT timestamp '1999-01-08 04:05:06', timestamp 'January 8 04:05:06 1999'
SELECT timestamptz '1999-01-08 04:05:06 -8:00', timestamptz '2004-10-19 10:23:54+02', timestamptz '2004-10-19 10:23:54 Europe/Paris'
SELECT timestamp with time zone '2004-10-19 10:23:54+02', timestamp without time zone '2004-10-19 10:23:54'
SELECT date 'epoch', timestamp 'epoch'
SELECT 'infinity'::date, '-infinity'::timestamp
SELECT date 'today' = current_date, timestamp 'now' IS NOT NULL, date 'tomorrow' - date 'yesterday'
SELECT timestamp(2) '2004-10-19 10:23:54.129', time(1) '10:23:54.15'
SELECT interval '1-2', interval '3 4:05:06', interval '1 year 2 months 3 days 4 hours 5 minutes 6 seconds', interval 'P1Y2M3DT4H5M6S', interval 'P0001-02-03T04:05:06'
SELECT interval '1 day ago', interval '1.5 week', interval '-1 year -2 months +3 days', interval '80 minutes'
SELECT interval '1' YEAR, interval '1-2' YEAR TO MONTH, interval '10' MINUTE, interval '3 04:05' DAY TO MINUTE
SELECT interval(0) '1.6 seconds'
## 8.6 Boolean type
SELECT true, false, 't'::boolean, 'yes'::boolean, 'on'::boolean, '1'::boolean, 'off'::boolean, NULL::boolean
## 8.7 Enumerated types
-- out: types of one's own belong to the source
SELECT 'happy'::mood
## 8.10 Bit string types
SELECT B'101'::bit(3), B'00'::bit varying(5)
## 8.12 UUID type
SELECT 'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'::uuid, 'A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11'::uuid, '{a0eebc999c0b4ef8bb6d6bb9bd380a11}'::uuid
## 8.14 JSON types
SELECT '5'::json, '[1, 2, "foo", null]'::jsonb, '{"bar": "baz", "balance": 7.77}'::jsonb
SELECT '{"b": 1, "a": 2, "a": 3}'::jsonb
SELECT '[1, 2, 3]'::jsonb @> '[3, 1]', '{"a": {"b": 1}}'::jsonb @> '{"a": {}}', '["foo"]'::jsonb ? 'foo'
SELECT ('{"a": {"b": [1, 2]}}'::jsonb)['a']['b'][1]
SELECT '{"a": 1}'::jsonb = '{"a": 1.0}'::jsonb
SELECT '$.a[*] ? (@ > 1)'::jsonpath
## 8.15 Arrays
SELECT '{1,2,3}'::integer[], '{{1,2},{3,4}}'::integer[][], '{"a b",c,NULL}'::text[]
SELECT (ARRAY[1,2,3])[1], (ARRAY[[1,2],[3,4]])[2][1], (ARRAY[1,2,3])[2:], (ARRAY[1,2,3])[:2], (ARRAY[1,2,3])[4]
SELECT array_dims(ARRAY[[1,2],[3,4]]), array_upper(ARRAY[1,2], 1), array_length(ARRAY[1,2], 1), cardinality(ARRAY[[7,1],[8,2]])
SELECT 2 = ANY (ARRAY[1,2]), 2 <> ALL (ARRAY[1,3]), ARRAY[1,2] && ARRAY[2,3]
SELECT '[0:2]={1,2,3}'::integer[]
SELECT ARRAY[1,2]::text[]
## 8.16 Composite types
SELECT ROW('a,b', 1, NULL)::text
## 8.17 Range types
SELECT int4range(1, 5) @> 3, '[1,5)'::int4range
SELECT tsrange('2024-01-01', '2024-02-01') && tsrange('2024-01-15', '2024-03-01')
## !8.2 Monetary types
SELECT '12.50'::money, 7.25::numeric::money
## !8.8 Geometric types
SELECT point '(1,2)', box '((0,0),(2,1))', circle '<(1,1),3>', lseg '[(0,0),(3,4)]', path '((0,0),(1,2))', polygon '((0,0),(1,0),(1,1))', line '{1,2,3}'
## !8.9 Network address types
SELECT inet '10.1.2.3/24', cidr '10.1.0.0/16', macaddr '08:00:2b:01:02:03', macaddr8 '08:00:2b:01:02:03:04:05'
## !8.11 Text search types
SELECT tsvector 'the ferry leaves', tsquery 'ferry & harbour'
## !8.13 XML type
SELECT '<a>b</a>'::xml, xmlparse(content 'a<b/>')
