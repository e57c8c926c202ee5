-- How did fares change with the tariff of January 2025?
-- look at: two months' folders of thirty-six
SELECT b.seat_class,
       round(avg(b.fare) FILTER (WHERE b.scanned_at < '2025-01-01'), 2) AS before,
       round(avg(b.fare) FILTER (WHERE b.scanned_at >= '2025-01-01'), 2) AS after
FROM drop.public.boardings b
WHERE b.month IN ('2024-12', '2025-01')
GROUP BY b.seat_class
ORDER BY b.seat_class
