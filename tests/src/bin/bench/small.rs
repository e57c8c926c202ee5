//! Forty questions with five to eleven tables, none of which has more than sixty thousand rows: where planning takes longer than it should, it
//! shows here. The tables are single files as another writer leaves them.

pub const QUESTIONS: &[(&str, &str)] = &[
    (
        "trips between islands",
        "SELECT p.island, q.island, count(*), sum(b.fare) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port WHERE p.island <> q.island GROUP BY 1, 2 ORDER BY 1, 2",
    ),
    (
        "trips from one isle",
        "SELECT q.name, count(*) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port WHERE p.island = 'Teal Isle' AND b.seat_class = 'lounge' GROUP BY q.name ORDER BY 1",
    ),
    (
        "trips of students",
        "SELECT p.island, count(*), avg(b.fare) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port JOIN pass_holders h ON h.id = b.holder_id WHERE h.kind = 'student' GROUP BY 1 ORDER BY 1",
    ),
    (
        "homeward trips",
        "SELECT h.kind, count(*) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port JOIN pass_holders h ON h.id = b.holder_id AND h.home_port = q.id GROUP BY h.kind ORDER BY 1",
    ),
    (
        "trips of vessels at home",
        "SELECT v.name, count(*) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port JOIN vessels v ON v.id = s.vessel_id AND v.home_port = p.id GROUP BY v.name ORDER BY 2 DESC, 1",
    ),
    (
        "captains of late trips",
        "SELECT k.name, count(*) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port JOIN vessels v ON v.id = s.vessel_id JOIN crew k ON k.vessel_id = v.id WHERE k.role = 'captain' AND s.delay_minutes > 25 GROUP BY k.name ORDER BY 2 DESC, 1 LIMIT 10",
    ),
    (
        "fares beside the tariff",
        "SELECT r.name, sum(b.fare - t.fare) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port JOIN tariffs t ON t.route_id = r.id AND t.seat_class = b.seat_class WHERE t.valid_from = date '2025-01-01' AND b.scanned_at >= timestamp '2025-01-01' GROUP BY r.name ORDER BY 2, 1 LIMIT 15",
    ),
    (
        "banks of trips",
        "SELECT i.bank, j.bank, count(*) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port JOIN islands i ON i.name = p.island JOIN islands j ON j.name = q.island GROUP BY 1, 2 ORDER BY 1, 2",
    ),
    (
        "banks and holders",
        "SELECT i.bank, h.kind, count(DISTINCT h.id) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port JOIN islands i ON i.name = p.island JOIN pass_holders h ON h.id = b.holder_id WHERE b.channel = 'app' GROUP BY 1, 2 ORDER BY 1, 2",
    ),
    (
        "all about a trip",
        "SELECT v.name, i.bank, h.kind, count(*) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port JOIN vessels v ON v.id = s.vessel_id JOIN islands i ON i.name = p.island JOIN pass_holders h ON h.id = b.holder_id JOIN ports hp ON hp.id = h.home_port WHERE hp.island = q.island AND s.delay_minutes > 5 GROUP BY 1, 2, 3 ORDER BY 4 DESC, 1, 2, 3 LIMIT 20",
    ),
    (
        "all about a trip and its crew",
        "SELECT k.role, i.bank, count(*) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port JOIN vessels v ON v.id = s.vessel_id JOIN ports vp ON vp.id = v.home_port JOIN islands i ON i.name = vp.island JOIN crew k ON k.vessel_id = v.id JOIN pass_holders h ON h.id = b.holder_id JOIN ports hp ON hp.id = h.home_port WHERE hp.id = vp.id AND k.hired < date '2020-01-01' GROUP BY 1, 2 ORDER BY 1, 2",
    ),
    (
        "mending between trips",
        "SELECT w.kind, count(*) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port JOIN vessels v ON v.id = s.vessel_id JOIN work_orders w ON w.vessel_id = v.id AND w.due_on = s.departed_at::date GROUP BY w.kind ORDER BY 1",
    ),
    (
        "trips on days of incidents",
        "SELECT n.severity, count(*) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port JOIN incidents n ON n.vessel_id = s.vessel_id AND n.reported_on = s.departed_at::date WHERE p.depth_m > 4 GROUP BY 1 ORDER BY 1",
    ),
    (
        "trips above the mean",
        "SELECT p.island, count(*) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port WHERE b.fare > (SELECT avg(c.fare) FROM boardings c WHERE c.route_id = b.route_id) GROUP BY 1 ORDER BY 1",
    ),
    (
        "trips with company",
        "SELECT q.island, count(*) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port WHERE EXISTS (SELECT 1 FROM boardings c JOIN pass_holders h ON h.id = c.holder_id WHERE c.sailing_id = s.id AND h.kind = 'senior') AND NOT EXISTS (SELECT 1 FROM boardings c JOIN pass_holders h ON h.id = c.holder_id WHERE c.sailing_id = s.id AND h.kind = 'student') GROUP BY 1 ORDER BY 1",
    ),
    (
        "freight by bank",
        "SELECT i.bank, sum(l.amount * (1 - l.rebate)) FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island GROUP BY i.bank ORDER BY 1",
    ),
    (
        "freight of one trade",
        "SELECT i.name, c.urgency, count(*), sum(l.amount) FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island WHERE h.trade = 'fish' AND l.carriage = 'van' GROUP BY 1, 2 ORDER BY 1, 2",
    ),
    (
        "freight and goods",
        "SELECT g.brand, i.bank, sum(l.quantity) FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island JOIN goods g ON g.id = l.goods_id WHERE g.class LIKE '%lamp' GROUP BY 1, 2 ORDER BY 1, 2",
    ),
    (
        "freight and depots",
        "SELECT i.name, dp.island, sum(l.amount) FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island JOIN depots d ON d.id = l.depot_id JOIN ports dp ON dp.id = d.port_id WHERE l.returned = 'back' GROUP BY 1, 2 ORDER BY 1, 2",
    ),
    (
        "freight at cost",
        "SELECT i.name, sum(l.amount - r.cost * l.quantity) FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island JOIN rates r ON r.goods_id = l.goods_id AND r.depot_id = l.depot_id JOIN goods g ON g.id = l.goods_id WHERE g.size < 10 GROUP BY 1 ORDER BY 1",
    ),
    (
        "freight, all of it",
        "SELECT i.bank, di.bank, g.brand, sum(l.amount - r.cost * l.quantity) FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island JOIN goods g ON g.id = l.goods_id JOIN rates r ON r.goods_id = g.id AND r.depot_id = l.depot_id JOIN depots d ON d.id = r.depot_id JOIN ports dp ON dp.id = d.port_id JOIN islands di ON di.name = dp.island WHERE g.packing LIKE 'oak%' GROUP BY 1, 2, 3 ORDER BY 4 DESC, 1, 2, 3 LIMIT 25",
    ),
    (
        "freight over three banks",
        "SELECT i.bank, count(*) FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island JOIN depots d ON d.id = l.depot_id JOIN ports dp ON dp.id = d.port_id JOIN islands di ON di.name = dp.island WHERE i.bank = 'north' AND di.bank = 'south' OR i.bank = 'south' AND di.bank = 'north' GROUP BY 1 ORDER BY 1",
    ),
    (
        "freight in heavy consignments",
        "SELECT h.name, sum(l.quantity) FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island WHERE c.id IN (SELECT consignment_id FROM lines GROUP BY consignment_id HAVING sum(quantity) > 250) GROUP BY h.name ORDER BY 2 DESC, 1 LIMIT 20",
    ),
    (
        "freight below the usual",
        "SELECT i.name, count(*) FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island WHERE l.quantity < (SELECT 0.3 * avg(m.quantity) FROM lines m WHERE m.goods_id = l.goods_id) GROUP BY 1 ORDER BY 1",
    ),
    (
        "freight that came late",
        "SELECT i.name, d.name, count(*) FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island JOIN depots d ON d.id = l.depot_id JOIN goods g ON g.id = l.goods_id WHERE l.received_on > l.promised_on AND g.brand = 'Mark 23' GROUP BY 1, 2 ORDER BY 3 DESC, 1, 2 LIMIT 10",
    ),
    (
        "shippers who travel",
        "SELECT i.name, count(*) FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island JOIN pass_holders t ON t.home_port = p.id AND t.joined = c.booked_on GROUP BY 1 ORDER BY 1",
    ),
    (
        "freight and vessels of the port",
        "SELECT v.name, sum(l.amount) FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island JOIN vessels v ON v.home_port = p.id JOIN crew k ON k.vessel_id = v.id WHERE k.role = 'mate' AND c.state = 'P' GROUP BY 1 ORDER BY 2 DESC, 1 LIMIT 12",
    ),
    (
        "quarters of freight",
        "SELECT date_trunc('quarter', c.booked_on::timestamp), i.bank, d.balance > 0, count(*) FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island JOIN depots d ON d.id = l.depot_id WHERE c.booked_on::timestamp < timestamp '2024-06-01' GROUP BY 1, 2, 3 ORDER BY 1, 2, 3",
    ),
    (
        "the yard's parts",
        "SELECT a.kind, p.island, sum(u.quantity * a.price) FROM parts_used u JOIN work_orders w ON w.id = u.order_id JOIN parts a ON a.id = u.part_id JOIN vessels v ON v.id = w.vessel_id JOIN ports p ON p.id = v.home_port GROUP BY 1, 2 ORDER BY 1, 2",
    ),
    (
        "the yard's parts by crew",
        "SELECT k.name, sum(u.quantity) FROM parts_used u JOIN work_orders w ON w.id = u.order_id JOIN parts a ON a.id = u.part_id JOIN vessels v ON v.id = w.vessel_id JOIN ports p ON p.id = v.home_port JOIN crew k ON k.vessel_id = v.id WHERE k.role = 'engineer' AND a.kind = 'engine' GROUP BY 1 ORDER BY 2 DESC, 1 LIMIT 10",
    ),
    (
        "the yard and the sailings",
        "SELECT v.name, count(*) FROM parts_used u JOIN work_orders w ON w.id = u.order_id JOIN parts a ON a.id = u.part_id JOIN vessels v ON v.id = w.vessel_id JOIN ports p ON p.id = v.home_port JOIN sailings s ON s.vessel_id = v.id AND s.departed_at >= w.opened_at AND s.departed_at < w.closed_at WHERE w.urgency > 3 GROUP BY 1 ORDER BY 1",
    ),
    (
        "the yard and the routes",
        "SELECT r.name, count(DISTINCT w.id) FROM parts_used u JOIN work_orders w ON w.id = u.order_id JOIN parts a ON a.id = u.part_id JOIN vessels v ON v.id = w.vessel_id JOIN ports p ON p.id = v.home_port JOIN sailings s ON s.vessel_id = v.id JOIN routes r ON r.id = s.route_id WHERE a.price > 300 AND s.cancelled GROUP BY 1 ORDER BY 2 DESC, 1 LIMIT 10",
    ),
    (
        "the yard and the islands",
        "SELECT i.bank, w.kind, sum(w.cost), count(*) FROM parts_used u JOIN work_orders w ON w.id = u.order_id JOIN parts a ON a.id = u.part_id JOIN vessels v ON v.id = w.vessel_id JOIN ports p ON p.id = v.home_port JOIN islands i ON i.name = p.island JOIN incidents n ON n.vessel_id = v.id AND n.reported_on <= w.due_on WHERE a.in_stock GROUP BY 1, 2 ORDER BY 1, 2",
    ),
    (
        "orders without parts",
        "SELECT v.name, count(*) FROM work_orders w JOIN vessels v ON v.id = w.vessel_id JOIN ports p ON p.id = v.home_port JOIN islands i ON i.name = p.island LEFT JOIN parts_used u ON u.order_id = w.id AND u.quantity > 3 LEFT JOIN parts a ON a.id = u.part_id WHERE a.id IS NULL GROUP BY v.name ORDER BY 1",
    ),
    (
        "dear parts of old vessels",
        "SELECT v.built / 10, a.name, sum(u.quantity) FROM parts_used u JOIN work_orders w ON w.id = u.order_id JOIN parts a ON a.id = u.part_id JOIN vessels v ON v.id = w.vessel_id JOIN ports p ON p.id = v.home_port JOIN islands i ON i.name = p.island WHERE v.built < 1990 AND a.price = (SELECT max(price) FROM parts z WHERE z.kind = a.kind) GROUP BY 1, 2 ORDER BY 1, 2",
    ),
    (
        "who meets whom",
        "SELECT count(*) FROM boardings b JOIN boardings c ON c.sailing_id = b.sailing_id AND c.id > b.id JOIN pass_holders x ON x.id = b.holder_id JOIN pass_holders y ON y.id = c.holder_id JOIN ports p ON p.id = x.home_port JOIN ports q ON q.id = y.home_port WHERE p.island = q.island AND x.kind = 'resident' AND y.kind = 'commuter'",
    ),
    (
        "ports and all that is there",
        "SELECT p.name, (SELECT count(*) FROM vessels v WHERE v.home_port = p.id), (SELECT count(*) FROM pass_holders h WHERE h.home_port = p.id), (SELECT count(*) FROM shippers s WHERE s.port_id = p.id), (SELECT sum(d.balance) FROM depots d WHERE d.port_id = p.id) FROM ports p JOIN islands i ON i.name = p.island WHERE i.bank <> 'outer' ORDER BY p.name",
    ),
    (
        "best route of each isle",
        "SELECT * FROM (SELECT p.island, r.name, sum(b.fare) AS earned, row_number() OVER (PARTITION BY p.island ORDER BY sum(b.fare) DESC, r.name) AS place FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port WHERE s.delay_minutes = 0 GROUP BY p.island, r.name) x WHERE place <= 2 ORDER BY 1, 4",
    ),
    (
        "trips and freight of a port",
        "SELECT t.name, t.n, f.n FROM (SELECT p.id, p.name, count(*) AS n FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port GROUP BY p.id, p.name) t JOIN (SELECT p.id, count(*) AS n FROM lines l JOIN consignments c ON c.id = l.consignment_id JOIN shippers h ON h.id = c.shipper_id JOIN ports p ON p.id = h.port_id JOIN islands i ON i.name = p.island GROUP BY p.id) f ON f.id = t.id ORDER BY t.name",
    ),
    (
        "both directions",
        "SELECT count(*), sum(b.fare) FROM boardings b JOIN sailings s ON s.id = b.sailing_id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.id = r.from_port JOIN ports q ON q.id = r.to_port JOIN routes z ON z.from_port = q.id AND z.to_port = p.id JOIN sailings y ON y.route_id = z.id AND y.departed_at::date = s.departed_at::date JOIN vessels v ON v.id = y.vessel_id WHERE v.capacity > 200",
    ),
];
