-- What do the kiosks earn at each quay beside its boardings of July 2025? Only the groups leave the kiosks' file.
SELECT p.name AS quay, k.sold, k.on_cards, b.boardings
FROM fleet.public.ports p
JOIN (SELECT port_id, sum(quantity) AS sold, count(*) FILTER (WHERE by_card) AS on_cards
      FROM till.main.kiosk_sales
      WHERE sold_on BETWEEN date '2025-07-01' AND date '2025-07-31' AND article <> 'postcard'
      GROUP BY port_id) k ON k.port_id = p.id
JOIN (SELECT r.from_port, count(*) AS boardings
      FROM drop.public.boardings b JOIN fleet.public.routes r ON r.id = b.route_id
      WHERE b.month = '2025-07' GROUP BY r.from_port) b ON b.from_port = p.id
ORDER BY k.sold DESC, quay
LIMIT 8;
