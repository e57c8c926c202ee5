-- Which routes were late most often in the summer of 2025?
-- look at: a lake beside a database; of thirty-six months the files of three, and of those only the late sailings leave the gate
SELECT r.name AS route, count(*) AS late, max(s.delay_minutes) AS worst
FROM deep.ops.sailings s
JOIN fleet.public.routes r ON r.id = s.route_id
WHERE s.departed_at >= '2025-06-01' AND s.departed_at < '2025-09-01' AND s.delay_minutes > 15 AND r.nautical_miles > 20
GROUP BY r.name
ORDER BY late DESC, route
LIMIT 8
