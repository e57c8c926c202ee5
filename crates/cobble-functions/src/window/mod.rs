//! The list of window functions: a line for each, with the constant that says all about it. A window function computes a value for a
//! row from those around it (SQL:2016 part 2, 6.10). All aggregates are such functions too.

mod layout;
mod neighbours;
mod ranks;
mod signature;

pub use layout::{Layout, Segments};
pub use signature::{Window, WindowKernel, Windowed};

crate::registered::registered! {
    /// A window function.
    Ranking of Window, WindowKernel, "window function";
    RowNumber => ranks::ROW_NUMBER;
    Rank => ranks::RANK;
    DenseRank => ranks::DENSE_RANK;
    PercentRank => ranks::PERCENT_RANK;
    CumeDist => ranks::CUME_DIST;
    Ntile => ranks::NTILE;
    Lag => neighbours::LAG;
    Lead => neighbours::LEAD;
    FirstValue => neighbours::FIRST_VALUE;
    LastValue => neighbours::LAST_VALUE;
    NthValue => neighbours::NTH_VALUE;
}
