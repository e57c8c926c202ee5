-- How many boardings do pass holders make by home port on midsummer's day?
-- look at: of the files only row groups that can hold that day, and of those only that day's rows leave the gate
SELECT p.name AS home_port, count(*) AS boardings, count(DISTINCT h.id) AS holders
FROM drop.public.boardings b
JOIN fleet.public.pass_holders h ON h.id = b.holder_id
JOIN fleet.public.ports p ON p.id = h.home_port
WHERE b.scanned_at >= '2025-06-21' AND b.scanned_at < '2025-06-22'
GROUP BY p.name
ORDER BY boardings DESC, home_port
LIMIT 8
