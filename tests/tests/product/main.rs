//! The product from outside: command, HTTP, console, faults, and answers judged by PostgreSQL.

mod access;
mod answers;
mod broken_sources;
mod browse;
mod command;
mod configuration;
mod conformance;
mod console;
mod demo_sources;
mod discovery;
mod edges;
mod encryption;
mod faults;
mod http;
mod json;
mod judged;
mod key_pass;
mod kills;
mod language;
mod limits;
mod native;
mod pages;
mod parameters;
mod postgres_truth;
mod pushdown;
mod random;
mod random_plans;
mod random_values;
mod records;
mod secrets;
mod sessions;
mod statistics;
mod travel;
#[path = "../../../crates/cobble-engine/tests/engine/truth/mod.rs"]
mod truth;
mod users;
