//! The open table format, versions 1 and 2 of its specification (Apache Iceberg, "Iceberg Table Spec"): metadata, manifests and snapshots, and
//! which files a query needs.

mod avro_out;
pub mod bounds;
pub mod commit;
pub mod create;
pub mod deletes;
pub mod manifest;
pub mod manifest_out;
pub mod metadata;
pub mod name_mapping;
pub mod prune;
mod rows;
pub mod schema;
pub mod table;
pub mod transform;
