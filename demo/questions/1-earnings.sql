-- Which routes earn most per nautical mile in July 2025?
-- look at: one month's folder and two of nine columns of the files; of routes the active ones, without the column active
SELECT r.name, r.nautical_miles, count(*) AS boardings, sum(b.fare) AS earned,
       round(sum(b.fare) / r.nautical_miles, 2) AS per_mile
FROM drop.public.boardings b
JOIN fleet.public.routes r ON r.id = b.route_id
WHERE b.month = '2025-07' AND r.active
GROUP BY r.name, r.nautical_miles
ORDER BY per_mile DESC, r.name
LIMIT 8
