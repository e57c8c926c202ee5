//! The long-running service: HTTP with the console, runs with their results, the records, and the private PostgreSQL.

mod api;
mod demo;
mod lake_pointers;
mod line;
mod private_mariadb;
mod private_postgres;
mod private_server;
mod quiet;
mod recorder;
mod results;
mod runs;
mod service;
mod sessions;
mod up;
mod users;
mod watching;

pub use api::{described_kinds, openapi_json};
pub use up::{Up, up};
