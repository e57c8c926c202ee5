//! The commands, one file each.

pub mod access;
pub mod browse;
pub mod catalog;
pub mod configuration;
pub mod connection;
pub mod discover;
pub mod lake;
pub mod plan;
pub mod runs;
pub mod sql;
pub mod text_form;
pub mod up;
