//! Every function and operator of the engine: its names, what it takes and returns, how volatile it is, what it is for, an
//! example, and the kernel that computes it. A scalar function is one entry in a file of `scalar/` and one line in `function.rs`.

mod aggregate;
mod call;
mod evaluated;
mod function;
mod listed;
pub mod operators;
mod registry;
pub mod scalar;
mod serial;
mod signature;
mod table;
mod types;
mod window;

pub use aggregate::{AggregateFunction, DIVISION_SCALE};
pub use call::Call;
pub use evaluated::Evaluated;
pub use function::Function;
pub use operators::BinaryOp;
pub use registry::{Entry, Kind, WRITTEN, entries, known_names};
pub use signature::{Given, Kernel, Nulls, Overload, Resolved, Returns, Scalar, Takes, Volatility};
pub use table::TableFunction;
pub use types::{united_type, wider_type};
pub use window::Ranking;
