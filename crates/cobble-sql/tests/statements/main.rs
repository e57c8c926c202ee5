//! Statements bound, rewritten and planned over tables that exist on paper only.

mod binding;
mod offering;
mod planning;
mod rewriting;
mod support;
