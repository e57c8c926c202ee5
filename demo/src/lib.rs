//! The data of Saltmarsh Ferries, a made-up company that links the islands of an estuary. Every value is computed from the
//! seed and the row's number alone, so any part can be made anywhere, in any order, and is always the same.

mod freight;
mod rows;
mod yard;

pub use rows::{BUOYS, Ferry, Month};

/// The demo's questions: the name of each and its SQL with comments.
pub const QUESTIONS: &[(&str, &str)] = &[
    ("earnings", include_str!("../questions/1-earnings.sql")),
    ("midsummer", include_str!("../questions/2-midsummer.sql")),
    ("crews", include_str!("../questions/3-crews.sql")),
    ("tariff", include_str!("../questions/4-tariff.sql")),
    ("waves", include_str!("../questions/5-waves.sql")),
    ("incidents", include_str!("../questions/6-incidents.sql")),
    ("kiosks", include_str!("../questions/7-kiosks.sql")),
    ("repairs", include_str!("../questions/8-repairs.sql")),
    ("before", include_str!("../questions/9-before.sql")),
    ("week", include_str!("../questions/10-week.sql")),
    ("late", include_str!("../questions/11-late.sql")),
];

/// The statements that make the demo's lake of the folder `drop`.
pub const LAKE: &str = include_str!("../lake.sql");
