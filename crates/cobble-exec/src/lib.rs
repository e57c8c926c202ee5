//! Running a physical plan: compiled expressions, operators in pipelines over record batches, memory accounting, measures.

mod batch;
pub mod expression;
mod groups;
mod lower;
mod measures;
mod memory;
mod operators;
mod order;
mod output;
mod pipeline;
mod run;
mod spill;

pub use expression::{Compiler, Script, fold_constant};
pub use measures::Measures;
pub use memory::{Held, ServiceMemory};
pub use run::{CpuPool, Opened, RunLimits, RunningQuery, Until, out_of_time, start, tools_for};
pub use spill::SpillPlace;
