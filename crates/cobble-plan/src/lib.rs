//! What a statement means and how it will be done: the logical plan, the rewrites and their trace, statistics and cost,
//! join order, the offer to each source, and the physical plan with its gates.

pub mod aggregate;
pub mod document;
pub mod draw;
pub mod estimate;
pub mod expr;
pub mod key_pass;
pub mod logical;
pub mod offer;
pub mod physical;
pub mod planner;
pub mod range_join;
pub mod rewrites;
pub mod scan;
pub mod serial;
pub mod settings;
pub mod sink;
pub mod statistics;
pub mod table_function;
pub mod user_function;
mod user_view;
pub mod verify;
pub mod window;

pub use aggregate::{AggregateCall, AggregateFunction};
pub use cobble_functions::{self as functions, Function, TableFunction};
pub use document::PlanDocument;
pub use expr::{BinaryOp, Column, Expr};
pub use logical::{JoinKey, JoinKind, LogicalPlan, SortKey};
pub use settings::Settings;
pub use statistics::{ColumnStatistics, TableStatistics};
pub use table_function::RowMaker;
pub use user_function::{FunctionLanguage, UserFunction};
pub use user_view::UserView;
pub use window::{Ranking, WindowCall, WindowFunction};
