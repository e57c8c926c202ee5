-- What did a boarding bring on average before the tariff of January 2025, and what since?
-- look at: one table in two states; a tag names the one before the tariff
SELECT seat_class, round(old.fare, 2) AS before, round(new.fare, 2) AS since
FROM (SELECT seat_class, avg(fare) AS fare FROM deep.ops.boardings FOR VERSION AS OF 'old_tariff' GROUP BY seat_class) AS old
JOIN (SELECT seat_class, avg(fare) AS fare FROM deep.ops.boardings WHERE scanned_at >= '2025-01-01' GROUP BY seat_class) AS new
USING (seat_class)
ORDER BY seat_class
