-- Which vessels had the most serious incidents?
-- look at: a CSV file with dirty values; its filter is kept, because CSV has nothing to skip rows by
SELECT v.name, count(*) AS incidents,
       sum(i.minutes_lost::integer) FILTER (WHERE i.minutes_lost <> 'n/a') AS minutes_lost
FROM drop.public.incidents i
JOIN fleet.public.vessels v ON v.id = i.vessel_id
WHERE lower(i.severity) = 'serious'
GROUP BY v.name
ORDER BY incidents DESC, v.name
LIMIT 5
