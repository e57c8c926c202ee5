-- The lake of the demo, made by statements. Each INSERT is a state of its own.
CREATE TABLE deep.ops.sailings PARTITION BY (month(departed_at)) ORDER BY (departed_at) AS
SELECT id, route_id, vessel_id, departed_at, arrived_at, delay_minutes, cancelled
FROM drop.public.sailings WHERE month < '2025-01';
INSERT INTO deep.ops.sailings
SELECT id, route_id, vessel_id, departed_at, arrived_at, delay_minutes, cancelled
FROM drop.public.sailings WHERE month >= '2025-01';

CREATE TABLE deep.ops.boardings PARTITION BY (month(scanned_at)) AS
SELECT id, sailing_id, route_id, holder_id, fare, channel, scanned_at, seat_class
FROM drop.public.boardings WHERE month < '2025-01';
CALL lake_tag('deep.ops.boardings', 'old_tariff');
INSERT INTO deep.ops.boardings
SELECT id, sailing_id, route_id, holder_id, fare, channel, scanned_at, seat_class
FROM drop.public.boardings WHERE month >= '2025-01';
CALL lake_branch('deep.ops.boardings', 'half_fare');
UPDATE deep.ops."boardings@half_fare" SET fare = round(fare / 2, 2)
WHERE seat_class = 'deck' AND scanned_at >= '2025-12-01';

CREATE TABLE deep.ops.buoy_readings PARTITION BY (year(taken_at)) AS
SELECT buoy, taken_at, wave, wind_kn, tags FROM drop.public.buoys;
