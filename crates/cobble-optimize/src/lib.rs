//! How a statement is done: rewrites with their trace, estimates, join order, the offers to sources, and the physical plan.

pub mod estimate;
pub mod planner;
pub mod rewrites;
pub mod settings;

pub use planner::{Goal, plan};
pub use settings::Settings;
