-- Which vessels sailed while an urgent work order on their engine or safety gear was open?
-- look at: the yard gives only urgent orders; the join by spans of time is the engine's own
SELECT v.name AS vessel, count(DISTINCT o.id) AS orders, count(*) AS sailings
FROM yard.yard.work_orders o
JOIN drop.public.sailings s
  ON s.vessel_id = o.vessel_id AND s.departed_at >= o.opened_at AND s.departed_at < o.closed_at
JOIN fleet.public.vessels v ON v.id = o.vessel_id
WHERE o.urgency = 5 AND o.kind IN ('engine', 'safety') AND NOT s.cancelled AND s.month >= '2025-01'
GROUP BY v.name
ORDER BY sailings DESC, vessel
LIMIT 8
