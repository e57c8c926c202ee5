//! Plans as data: expressions, the logical plan, the physical plan with its gates and sinks, their serial form, the plan document, and
//! the contracts of sources: the offer, the scan, the write.

pub mod aggregate;
pub mod alter;
pub mod document;
pub mod draft;
pub mod draw;
pub mod expr;
pub mod facts;
pub mod fragment;
pub mod key_pass;
pub mod logical;
pub mod offer;
pub mod physical;
pub mod procedure;
pub mod range_join;
pub mod result;
pub mod sample;
pub mod scan;
pub mod serial;
pub mod sink;
pub mod statistics;
pub mod table_function;
mod tiers;
pub mod user_function;
mod user_view;
pub mod verify;
pub mod window;

pub use aggregate::{AggregateCall, AggregateFunction};
pub use cobble_functions::{self as functions, Function, TableFunction};
pub use document::PlanDocument;
pub use expr::{BinaryOp, Column, Expr};
pub use logical::{JoinKey, JoinKind, LogicalPlan, SortKey};
pub use statistics::{ColumnStatistics, TableStatistics};
pub use table_function::RowMaker;
pub use tiers::{TierMove, Tiers};
pub use user_function::{FunctionLanguage, UserFunction};
pub use user_view::UserView;
pub use window::{Ranking, WindowCall, WindowFunction};
