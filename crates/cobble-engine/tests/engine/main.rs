//! The engine as a library, over real sources. One program, so that the engine is linked once.

mod anything;
mod core;
mod defined;
mod extremes;
mod functions;
mod lake_care;
mod lake_writes;
mod lakes;
mod mariadb;
mod programs;
mod redis;
mod registry;
mod samples;
mod sessions;
mod sqlite;
mod storages;
mod text_files;
mod truth;
mod views;
mod writing;
