//! Loads the ferry data into what the demo and the tests query: files, an object store, PostgreSQL, MariaDB and SQLite. Apart from what
//! makes the data, which the product ships.

mod files;
mod postgres;
mod store;
mod till;
mod yard;

pub use files::{make_deep, write_drop};
pub use postgres::{copy, create, load_everything, load_fleet};
pub use store::{Faults, Told, serve_store, serve_told, serve_with_faults};
pub use till::write_till;
pub use yard::load_yard;
