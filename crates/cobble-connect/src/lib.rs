//! Connectors: the code for each kind of system, behind one small trait.

mod connector;
pub mod database;
mod defined;
mod definition;
pub mod files;
pub mod generated;
pub mod key_value;
pub mod mariadb;
mod network;
mod patience;
pub mod postgres;
pub mod program;
mod remembered;
mod server_steps;
pub mod sqlite;
mod table_definition;
mod tls;

pub use connector::{
    Added, Connector, KINDS, ListedColumns, NewRows, TableChange, TableEntry, TableWriter, TestStep, Written, connector,
};
pub use defined::Defined;
pub use definition::{
    COMMON, ConnectionDefinition, Credentials, Effective, KindDescription, Secret, TUNABLE, check_name,
};
pub use table_definition::{DefinedColumn, Discovered, Discovery, Forms, Looking, NativeQuery, TableDefinition};
