-- Do fewer people board when waves are above two metres?
-- look at: nested readings in JSON lines beside twelve months of Parquet
WITH waves AS (
  SELECT date_trunc('day', taken_at)::date AS day, max((wave).height_m) AS highest
  FROM drop.public.buoys
  GROUP BY 1
), days AS (
  SELECT scanned_at::date AS day, count(*) AS boardings
  FROM drop.public.boardings
  WHERE month >= '2025-01'
  GROUP BY 1
)
SELECT CASE WHEN w.highest > 2 THEN 'above 2 m' ELSE 'calmer' END AS sea,
       count(*) AS days, round(avg(d.boardings), 1) AS boardings_a_day
FROM days d
JOIN waves w ON w.day = d.day
GROUP BY 1
ORDER BY 1
