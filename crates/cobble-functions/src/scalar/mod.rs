//! Scalar functions, one file for each kind of value they are about. A constant for each function says all about it; `function.rs`
//! lists them.

pub(crate) mod arrays;
pub(crate) mod bytes;
pub(crate) mod choice;
mod degrees;
mod exact_math;
pub mod json;
mod json_path;
pub mod json_tree;
mod number_template;
pub(crate) mod numbers;
pub mod pattern;
pub(crate) mod text;
mod time_template;
pub(crate) mod times;
