//! The freight desk's questions: the shapes of decision support over wide tables that nobody has analysed. Keys of two columns, chains of five to eight
//! tables, grouped IN, thresholds that belong to each row, OR over two tables, pairs of EXISTS and NOT EXISTS, decimals, days
//! compared as moments, texts. The tables are those of `Ferry`'s freight, each a single file as another writer leaves it.

pub const QUESTIONS: &[(&str, &str)] = &[
    (
        "eight sums",
        "SELECT returned, state, sum(quantity), sum(amount), sum(amount * (1 - rebate)), sum(amount * (1 - rebate) * (1 + duty)), avg(quantity), avg(amount), avg(rebate), count(*) FROM lines WHERE shipped_on <= date '2025-06-20' GROUP BY returned, state ORDER BY 1, 2",
    ),
    (
        "the cheapest depot",
        "SELECT d.balance, d.name, i.name, g.id, g.brand FROM goods g, depots d, rates r, ports p, islands i WHERE g.id = r.goods_id AND d.id = r.depot_id AND g.size = 15 AND g.class LIKE '%brass lamp' AND d.port_id = p.id AND p.island = i.name AND i.bank = 'north' AND r.cost = (SELECT min(r2.cost) FROM rates r2, depots d2, ports p2, islands i2 WHERE g.id = r2.goods_id AND d2.id = r2.depot_id AND d2.port_id = p2.id AND p2.island = i2.name AND i2.bank = 'north') ORDER BY 1 DESC, 3, 2, 4 LIMIT 100",
    ),
    (
        "what is still open",
        "SELECT l.consignment_id, sum(l.amount * (1 - l.rebate)) AS worth, c.booked_on, c.urgency FROM shippers s, consignments c, lines l WHERE s.trade = 'salt' AND s.id = c.shipper_id AND l.consignment_id = c.id AND c.booked_on < date '2024-12-15' AND l.shipped_on > date '2024-12-15' GROUP BY l.consignment_id, c.booked_on, c.urgency ORDER BY worth DESC, c.booked_on, 1 LIMIT 10",
    ),
    (
        "promises not kept",
        "SELECT c.urgency, count(*) FROM consignments c WHERE c.booked_on >= date '2024-07-01' AND c.booked_on < date '2024-10-01' AND EXISTS (SELECT 1 FROM lines l WHERE l.consignment_id = c.id AND l.promised_on < l.received_on) GROUP BY c.urgency ORDER BY 1",
    ),
    (
        "within one island",
        "SELECT i.name, sum(l.amount * (1 - l.rebate)) AS worth FROM shippers s, consignments c, lines l, depots d, ports p, ports q, islands i WHERE s.id = c.shipper_id AND l.consignment_id = c.id AND l.depot_id = d.id AND s.port_id = p.id AND d.port_id = q.id AND p.island = q.island AND p.island = i.name AND i.bank = 'south' AND c.booked_on >= date '2024-01-01' AND c.booked_on < date '2025-01-01' GROUP BY i.name ORDER BY worth DESC",
    ),
    (
        "a sum of few",
        "SELECT sum(amount * rebate) FROM lines WHERE shipped_on >= date '2024-01-01' AND shipped_on < date '2025-01-01' AND rebate BETWEEN 0.05 AND 0.07 AND quantity < 24",
    ),
    (
        "both ways",
        "SELECT p.island, q.island, extract(year FROM l.shipped_on) AS y, sum(l.amount) FROM depots d, lines l, consignments c, shippers s, ports p, ports q WHERE d.id = l.depot_id AND c.id = l.consignment_id AND s.id = c.shipper_id AND d.port_id = p.id AND s.port_id = q.id AND (p.island = 'Teal Isle' AND q.island = 'Sedge Isle' OR p.island = 'Sedge Isle' AND q.island = 'Teal Isle') AND l.shipped_on BETWEEN date '2024-01-01' AND date '2025-12-31' GROUP BY 1, 2, 3 ORDER BY 1, 2, 3",
    ),
    (
        "a share of the market",
        "SELECT y, sum(CASE WHEN island = 'Wrack Isle' THEN worth ELSE 0 END) / sum(worth) > 0.1, count(*) FROM (SELECT extract(year FROM c.booked_on) AS y, l.amount * (1 - l.rebate) AS worth, q.island FROM goods g, depots d, lines l, consignments c, shippers s, ports p, ports q, islands i WHERE g.id = l.goods_id AND d.id = l.depot_id AND l.consignment_id = c.id AND c.shipper_id = s.id AND s.port_id = p.id AND p.island = i.name AND i.bank = 'outer' AND d.port_id = q.id AND c.booked_on BETWEEN date '2024-01-01' AND date '2025-06-30' AND g.class = 'fine steel net') x GROUP BY y ORDER BY y",
    ),
    (
        "profit of some goods",
        "SELECT island, y, sum(profit) FROM (SELECT p.island, extract(year FROM c.booked_on) AS y, l.amount * (1 - l.rebate) - r.cost * l.quantity AS profit FROM goods g, depots d, lines l, rates r, consignments c, ports p WHERE d.id = l.depot_id AND r.depot_id = l.depot_id AND r.goods_id = l.goods_id AND g.id = l.goods_id AND c.id = l.consignment_id AND d.port_id = p.id AND g.name LIKE '%kelp%') x GROUP BY island, y ORDER BY island, y DESC",
    ),
    (
        "who sends back",
        "SELECT s.id, s.name, sum(l.amount * (1 - l.rebate)) AS worth, s.credit, p.name, s.phone, s.note FROM shippers s, consignments c, lines l, ports p WHERE s.id = c.shipper_id AND l.consignment_id = c.id AND c.booked_on >= date '2024-04-01' AND c.booked_on < date '2024-07-01' AND l.returned = 'back' AND s.port_id = p.id GROUP BY s.id, s.name, s.credit, s.phone, p.name, s.note ORDER BY worth DESC, s.id LIMIT 20",
    ),
    (
        "stock that matters",
        "SELECT r.goods_id, sum(r.cost * r.stock) AS worth FROM rates r, depots d, ports p WHERE r.depot_id = d.id AND d.port_id = p.id AND p.island = 'Curlew Isle' GROUP BY r.goods_id HAVING sum(r.cost * r.stock) > (SELECT sum(r.cost * r.stock) * 0.0004 FROM rates r, depots d, ports p WHERE r.depot_id = d.id AND d.port_id = p.id AND p.island = 'Curlew Isle') ORDER BY worth DESC, 1 LIMIT 50",
    ),
    (
        "late by carriage",
        "SELECT l.carriage, sum(CASE WHEN c.urgency = '1-at once' OR c.urgency = '2-today' THEN 1 ELSE 0 END), sum(CASE WHEN c.urgency <> '1-at once' AND c.urgency <> '2-today' THEN 1 ELSE 0 END) FROM consignments c, lines l WHERE c.id = l.consignment_id AND l.carriage IN ('post bag', 'deck') AND l.promised_on < l.received_on AND l.shipped_on < l.promised_on AND l.received_on >= date '2024-01-01' AND l.received_on < date '2025-01-01' GROUP BY l.carriage ORDER BY 1",
    ),
    (
        "how often they send",
        "SELECT n, count(*) FROM (SELECT s.id, count(c.id) AS n FROM shippers s LEFT JOIN consignments c ON s.id = c.shipper_id AND c.note NOT LIKE '%special%requests%' GROUP BY s.id) x GROUP BY n ORDER BY 2 DESC, 1 DESC LIMIT 30",
    ),
    (
        "a share of a month",
        "SELECT round(100.00 * sum(CASE WHEN g.class LIKE 'stout%' THEN l.amount * (1 - l.rebate) ELSE 0 END) / sum(l.amount * (1 - l.rebate)), 4) FROM lines l, goods g WHERE l.goods_id = g.id AND l.shipped_on >= date '2025-03-01' AND l.shipped_on < date '2025-04-01'",
    ),
    (
        "the best depot",
        "WITH earned AS (SELECT depot_id, sum(amount * (1 - rebate)) AS worth FROM lines WHERE shipped_on >= date '2025-01-01' AND shipped_on < date '2025-04-01' GROUP BY depot_id) SELECT d.id, d.name, e.worth FROM depots d, earned e WHERE d.id = e.depot_id AND e.worth = (SELECT max(worth) FROM earned) ORDER BY d.id",
    ),
    (
        "depots without complaints",
        "SELECT g.brand, g.class, g.size, count(DISTINCT r.depot_id) AS n FROM rates r, goods g WHERE g.id = r.goods_id AND g.brand <> 'Mark 45' AND g.class NOT LIKE 'plain steel%' AND g.size IN (49, 14, 23, 45, 19, 3, 36, 9) AND r.depot_id NOT IN (SELECT id FROM depots WHERE note LIKE '%shippers%complaints%') GROUP BY g.brand, g.class, g.size ORDER BY n DESC, 1, 2, 3 LIMIT 100",
    ),
    (
        "less than usual",
        "SELECT sum(l.amount) / 7.0 > 1000, count(*) FROM lines l, goods g WHERE g.id = l.goods_id AND g.brand = 'Mark 23' AND g.packing = 'oak jar' AND l.quantity < (SELECT 0.2 * avg(m.quantity) FROM lines m WHERE m.goods_id = g.id)",
    ),
    (
        "large consignments",
        "SELECT s.name, s.id, c.id, c.booked_on, c.total, sum(l.quantity) FROM shippers s, consignments c, lines l WHERE c.id IN (SELECT consignment_id FROM lines GROUP BY consignment_id HAVING sum(quantity) > 290) AND s.id = c.shipper_id AND c.id = l.consignment_id GROUP BY s.name, s.id, c.id, c.booked_on, c.total ORDER BY c.total DESC, c.booked_on, c.id LIMIT 100",
    ),
    (
        "three bundles",
        "SELECT sum(l.amount * (1 - l.rebate)), count(*) FROM lines l, goods g WHERE g.id = l.goods_id AND g.brand = 'Mark 12' AND g.packing IN ('oak jar', 'oak tin', 'pine jar') AND l.quantity BETWEEN 1 AND 11 AND g.size BETWEEN 1 AND 15 AND l.carriage IN ('van', 'deck') AND l.handling = 'hand over' OR g.id = l.goods_id AND g.brand = 'Mark 23' AND g.packing IN ('reed bale', 'reed wrap') AND l.quantity BETWEEN 10 AND 20 AND g.size BETWEEN 1 AND 30 AND l.carriage IN ('van', 'deck') AND l.handling = 'hand over' OR g.id = l.goods_id AND g.brand = 'Mark 34' AND g.packing IN ('steel large drum', 'brass tin') AND l.quantity BETWEEN 20 AND 30 AND g.size BETWEEN 1 AND 45 AND l.carriage IN ('van', 'deck') AND l.handling = 'hand over'",
    ),
    (
        "more than half in stock",
        "SELECT d.name, p.name FROM depots d, ports p WHERE d.id IN (SELECT r.depot_id FROM rates r WHERE r.goods_id IN (SELECT g.id FROM goods g WHERE g.name LIKE 'fern%') AND r.stock > (SELECT 0.5 * sum(l.quantity) FROM lines l WHERE l.goods_id = r.goods_id AND l.depot_id = r.depot_id AND l.shipped_on >= date '2024-01-01' AND l.shipped_on < date '2025-01-01')) AND d.port_id = p.id AND p.island = 'Marram Isle' ORDER BY d.name",
    ),
    (
        "who kept them waiting",
        "SELECT d.name, count(*) AS n FROM depots d, lines l, consignments c, ports p WHERE d.id = l.depot_id AND c.id = l.consignment_id AND c.state = 'F' AND l.received_on > l.promised_on AND EXISTS (SELECT 1 FROM lines m WHERE m.consignment_id = l.consignment_id AND m.depot_id <> l.depot_id) AND NOT EXISTS (SELECT 1 FROM lines m WHERE m.consignment_id = l.consignment_id AND m.depot_id <> l.depot_id AND m.received_on > m.promised_on) AND d.port_id = p.id AND p.island = 'Plover Isle' GROUP BY d.name ORDER BY n DESC, 1 LIMIT 100",
    ),
    (
        "shippers asleep",
        "SELECT code, count(*), sum(credit) FROM (SELECT substring(phone, 1, 2) AS code, credit FROM shippers s WHERE substring(phone, 1, 2) IN ('13', '31', '23', '29', '30', '18', '17') AND credit > (SELECT avg(credit) FROM shippers WHERE credit > 0.00 AND substring(phone, 1, 2) IN ('13', '31', '23', '29', '30', '18', '17')) AND NOT EXISTS (SELECT 1 FROM consignments c WHERE c.shipper_id = s.id)) x GROUP BY code ORDER BY code",
    ),
    (
        "days as moments",
        "SELECT carriage, count(*), sum(amount) FROM lines WHERE shipped_on::timestamp >= timestamp '2024-03-05 12:00' AND shipped_on::timestamp < timestamp '2024-03-12' GROUP BY carriage ORDER BY 1",
    ),
    (
        "one clerk",
        "SELECT c.id, c.booked_on, s.name, count(l.line), sum(l.amount) FROM consignments c JOIN shippers s ON s.id = c.shipper_id JOIN lines l ON l.consignment_id = c.id WHERE c.clerk = 'Clerk 000123' AND c.urgency = '1-at once' GROUP BY c.id, c.booked_on, s.name ORDER BY 5 DESC, 1 LIMIT 20",
    ),
    ("long texts", "SELECT note, count(*) FROM lines GROUP BY note ORDER BY 2 DESC, 1 LIMIT 5"),
    (
        "a text in the middle",
        "SELECT handling, count(*) FROM lines WHERE note LIKE '%brass%rail%' OR note LIKE '%the kelp lamp sails%' GROUP BY handling ORDER BY 1",
    ),
    (
        "the largest of many",
        "SELECT goods_id, depot_id, sum(quantity), max(amount) FROM lines GROUP BY goods_id, depot_id ORDER BY 3 DESC, 1, 2 LIMIT 10",
    ),
    (
        "cost and stock of each line",
        "SELECT r.stock > 5000, count(*), sum(l.quantity * r.cost) FROM lines l JOIN rates r ON r.goods_id = l.goods_id AND r.depot_id = l.depot_id GROUP BY 1 ORDER BY 1",
    ),
    (
        "the newest of each shipper",
        "SELECT count(*), sum(total) FROM (SELECT total, row_number() OVER (PARTITION BY shipper_id ORDER BY booked_on DESC, id) AS place FROM consignments WHERE state = 'O') x WHERE place = 1",
    ),
    (
        "trades by quarter",
        "SELECT s.trade, date_trunc('quarter', c.booked_on::timestamp) AS q, count(DISTINCT c.shipper_id), sum(c.total) FROM consignments c JOIN shippers s ON s.id = c.shipper_id JOIN ports p ON p.id = s.port_id WHERE p.island <> 'Dunlin Isle' GROUP BY 1, 2 ORDER BY 1, 2",
    ),
];
