-- On which days of a week in July 2025 were most boardings scanned?
-- look at: the condition is on the moment; the table is partitioned by its month, and one month's files are read
SELECT scanned_at::date AS day, count(*) AS boardings, sum(fare) AS earned
FROM deep.ops.boardings
WHERE scanned_at >= '2025-07-07' AND scanned_at < '2025-07-14'
GROUP BY day
ORDER BY boardings DESC, day
