//! Connectors: the code for each kind of system, behind one small trait.

mod connector;
pub mod database;
mod definition;
pub mod files;
pub mod generated;
pub mod key_value;
pub mod mariadb;
pub mod postgres;
mod remembered;
mod server_steps;
pub mod sqlite;

pub use connector::{Connector, KINDS, NewRows, TableEntry, TableWriter, TestStep, Written, connector};
pub use definition::{COMMON, ConnectionDefinition, Secret};
