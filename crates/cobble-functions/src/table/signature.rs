//! What a table function is: names, overloads, the columns it makes, what it is for.

use arrow::array::ArrayRef;
use arrow::buffer::OffsetBuffer;
use arrow::datatypes::DataType;
use cobble_types::{Result, SqlType};

use super::Series;
use crate::signature::{Given, Overload, Resolved, resolve};

/// A call for a batch of rows.
pub struct RowsCall<'a> {
    /// One value for each row.
    pub arguments: &'a [ArrayRef],
    /// The types of the columns that are made.
    pub made: &'a [DataType],
    pub rows: usize,
}

/// What a call makes of a batch of rows.
pub enum Made {
    /// The made columns of all input rows, and where each row's part ends.
    Lists { columns: Vec<ArrayRef>, offsets: OffsetBuffer<i32> },
    /// A series for each row, which comes piece by piece.
    Series(Series),
}

/// Makes the rows of a batch.
pub type RowKernel = fn(&RowsCall) -> Result<Made>;

/// The names and types of the made columns, by the arguments' types and what the overload returns.
pub type Columns = fn(&[SqlType], &SqlType) -> Vec<(&'static str, SqlType)>;

/// A function that makes rows.
#[derive(Debug, Clone, Copy)]
pub struct Table {
    pub name: &'static str,
    /// Other names of the same function.
    pub aliases: &'static [&'static str],
    /// Arguments in words.
    pub arguments: &'static str,
    /// The names of parameters, where calls may use them.
    pub parameters: &'static [&'static str],
    /// What it returns, in a sentence.
    pub about: &'static str,
    /// A call in FROM, and the rows that come out.
    pub example: (&'static str, &'static str),
    /// False where only the binder makes calls of it.
    pub callable: bool,
    pub columns: Columns,
    /// In the order in which they are tried.
    pub overloads: &'static [Overload<RowKernel>],
}

impl Table {
    pub const fn new(
        name: &'static str,
        arguments: &'static str,
        about: &'static str,
        example: (&'static str, &'static str),
        columns: Columns,
        overloads: &'static [Overload<RowKernel>],
    ) -> Table {
        Table { name, aliases: &[], arguments, parameters: &[], about, example, callable: true, columns, overloads }
    }

    pub const fn also(self, aliases: &'static [&'static str]) -> Table {
        Table { aliases, ..self }
    }

    pub const fn named(self, parameters: &'static [&'static str]) -> Table {
        Table { parameters, ..self }
    }

    pub const fn only_planned(self) -> Table {
        Table { callable: false, ..self }
    }

    /// The first overload that takes these arguments.
    pub fn resolve(&self, given: &[Given]) -> Option<Resolved<RowKernel>> {
        resolve(self.overloads, given)
    }
}
