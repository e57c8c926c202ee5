//! Every function and operator of the engine: its names, what it takes and returns, how volatile it is, what it is for, an
//! example, and the kernel that computes it. A function is one entry in a file of `scalar/`, `aggregate/`, `window/` or `table/`, and one
//! line in the list of its kind.

pub mod aggregate;
pub mod budget;
mod call;
mod column;
mod evaluated;
mod function;
pub mod keys;
pub mod operators;
mod registered;
mod registry;
pub mod scalar;
mod signature;
pub mod table;
mod types;
pub mod window;

pub use aggregate::{Aggregate, AggregateFunction, DIVISION_SCALE, Keeps};
pub use call::Call;
pub use column::column_bytes;
pub use evaluated::Evaluated;
pub use function::Function;
pub use operators::BinaryOp;
pub use registry::{Entry, Kind, WRITTEN, entries, known_names};
pub use signature::{Given, Kernel, Nulls, Overload, Resolved, Returns, Scalar, Takes, Volatility};
pub use table::TableFunction;
pub use types::{united_type, wider_type};
pub use window::Ranking;
