//! The kinds of connections that the engine knows. A new one is a line here.

use cobble_connect::Registry;

pub static KINDS: Registry = Registry::new(&[
    &cobble_files::FILES,
    &cobble_files::S3,
    &cobble_files::HTTP,
    &cobble_flight::KIND,
    &cobble_generated::KIND,
    &cobble_lakes::FOLDERS,
    &cobble_lakes::SERVICE,
    &cobble_lakes::REST,
    &cobble_mariadb::KIND,
    &cobble_postgres::KIND,
    &cobble_redis::KIND,
    &cobble_sqlite::KIND,
]);

/// Those whose tables are served to other tools.
pub const LAKES: [&str; 3] = [cobble_lakes::FOLDERS.kind, cobble_lakes::SERVICE.kind, cobble_lakes::REST.kind];
