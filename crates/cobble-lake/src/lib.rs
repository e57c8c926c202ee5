//! The open table format, versions 1 and 2 of its specification (Apache Iceberg, "Iceberg Table Spec"): metadata, manifests and snapshots, and
//! which files a query needs.

pub mod alter;
mod avro_out;
pub mod bounds;
pub mod catalog;
pub mod column_ranges;
pub mod commit;
pub mod create;
pub mod decoded;
pub mod deletes;
mod documents;
mod glance;
pub mod left;
pub mod manifest;
pub mod manifest_list;
pub mod manifest_out;
pub mod metadata;
pub mod name_mapping;
pub mod order;
pub mod prune;
pub mod reach;
pub mod refs;
mod regroup;
pub mod replace;
mod rows;
pub mod schema;
mod summary;
pub mod table;
pub mod transform;
pub mod updates;
pub mod view;
