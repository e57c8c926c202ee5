//! The data of Saltmarsh Ferries, a made-up company that links the islands of an estuary. Every value is computed from the
//! seed and the row's number alone, so any part can be made anywhere, in any order, and is always the same.

mod files;
mod postgres;
mod rows;

pub use files::write_drop;
pub use postgres::{load_everything, load_fleet};
pub use rows::{Ferry, Month};

/// Questions that the demo answers: a title, the SQL, and what to look at in the gates.
pub struct Question {
    pub title: &'static str,
    pub sql: &'static str,
    pub look: &'static str,
}

pub const QUESTIONS: &[Question] = &[
    Question {
        title: "Which routes earn most per nautical mile in July 2025?",
        sql: "SELECT r.name, r.nautical_miles, count(*) AS boardings, sum(b.fare) AS earned,\n       round(sum(b.fare) / r.nautical_miles, 2) AS per_mile\nFROM drop.public.boardings b\nJOIN fleet.public.routes r ON r.id = b.route_id\nWHERE b.month = '2025-07' AND r.active\nGROUP BY r.name, r.nautical_miles\nORDER BY per_mile DESC, r.name\nLIMIT 8",
        look: "one month's folder and three of eight columns of the files; of routes only active ones, without the column active",
    },
    Question {
        title: "How many boardings do pass holders make, by home port, on midsummer's day?",
        sql: "SELECT p.name AS home_port, count(*) AS boardings, count(DISTINCT h.id) AS holders\nFROM drop.public.boardings b\nJOIN fleet.public.pass_holders h ON h.id = b.holder_id\nJOIN fleet.public.ports p ON p.id = h.home_port\nWHERE b.scanned_at >= '2025-06-21' AND b.scanned_at < '2025-06-22'\nGROUP BY p.name\nORDER BY boardings DESC, home_port\nLIMIT 8",
        look: "the join of holders and ports runs in the database; of the files only row groups that can hold that day",
    },
    Question {
        title: "Which vessels carry the largest crews for their capacity?",
        sql: "SELECT v.name, v.capacity, count(*) AS crew, round(avg(c.salary), 2) AS average_salary\nFROM fleet.public.vessels v\nJOIN fleet.public.crew c ON c.vessel_id = v.id\nWHERE c.hired < '2024-01-01'\nGROUP BY v.id, v.name, v.capacity\nORDER BY crew DESC, v.id\nLIMIT 5",
        look: "join, grouping and top-n are all pushed: five rows cross the gate",
    },
    Question {
        title: "How did fares change with the tariff of January 2025?",
        sql: "SELECT b.seat_class, round(avg(b.fare) FILTER (WHERE b.scanned_at < '2025-01-01'), 2) AS before,\n       round(avg(b.fare) FILTER (WHERE b.scanned_at >= '2025-01-01'), 2) AS after\nFROM drop.public.boardings b\nWHERE b.month IN ('2024-12', '2025-01')\nGROUP BY b.seat_class\nORDER BY b.seat_class",
        look: "two months of thirty-six",
    },
    Question {
        title: "Do fewer people board when waves are above two metres?",
        sql: "WITH waves AS (\n  SELECT date_trunc('day', taken_at)::date AS day, max((wave).height_m) AS highest\n  FROM drop.public.buoys GROUP BY 1\n), days AS (\n  SELECT scanned_at::date AS day, count(*) AS boardings\n  FROM drop.public.boardings WHERE month >= '2025-01' GROUP BY 1\n)\nSELECT CASE WHEN w.highest > 2 THEN 'above 2 m' ELSE 'calm' END AS sea, count(*) AS days, round(avg(d.boardings), 1) AS boardings_a_day\nFROM days d JOIN waves w ON w.day = d.day\nGROUP BY 1\nORDER BY 1",
        look: "nested readings in JSON lines beside Parquet, twelve months of it",
    },
    Question {
        title: "Which vessels had the most serious incidents?",
        sql: "SELECT v.name, count(*) AS incidents, sum(i.minutes_lost::integer) FILTER (WHERE i.minutes_lost <> 'n/a') AS minutes_lost\nFROM drop.public.incidents i\nJOIN fleet.public.vessels v ON v.id = i.vessel_id\nWHERE lower(i.severity) = 'serious'\nGROUP BY v.name\nORDER BY incidents DESC, v.name\nLIMIT 5",
        look: "a CSV file with dirty values: the filter is kept, because CSV has nothing to skip rows by",
    },
];
