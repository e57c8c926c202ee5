-- Which vessels have the largest crews?
-- look at: join, grouping and top-n are pushed: five rows cross the gate
SELECT v.name, v.capacity, count(*) AS crew, round(avg(c.salary), 2) AS average_salary
FROM fleet.public.vessels v
JOIN fleet.public.crew c ON c.vessel_id = v.id
WHERE c.hired < '2024-01-01'
GROUP BY v.id, v.name, v.capacity
ORDER BY crew DESC, v.id
LIMIT 5
