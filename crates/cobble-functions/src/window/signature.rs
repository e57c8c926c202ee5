//! What a window function is: names, overloads, whether it looks at the frame, what it is for.

use arrow::array::ArrayRef;
use cobble_types::Result;

use super::{Layout, Segments};
use crate::signature::{Given, Overload, Resolved, resolve};

/// What a window function is computed from: the rows of some partitions, one partition after the other, each in its order.
pub struct Windowed<'a> {
    pub layout: &'a Layout,
    /// One value for each row.
    pub arguments: &'a [ArrayRef],
    /// The frame of a row.
    pub frame: &'a dyn Fn(usize) -> Segments,
    /// Rows whose first argument is null are passed over.
    pub ignore_nulls: bool,
}

/// Computes the value of each row.
pub type WindowKernel = fn(&Windowed) -> Result<ArrayRef>;

/// A window function.
#[derive(Debug, Clone, Copy)]
pub struct Window {
    pub name: &'static str,
    /// Other names of the same function.
    pub aliases: &'static [&'static str],
    /// Arguments in words.
    pub arguments: &'static str,
    /// What it returns, in a sentence.
    pub about: &'static str,
    /// A call over four rows with `v` = 1, 2, 2 and 4, and what comes out for them, nulls left out.
    pub example: (&'static str, &'static str),
    /// It looks at the frame; all others look at the whole partition.
    pub framed: bool,
    /// It gives a value of another row, and may be told to pass nulls over.
    pub takes_a_value: bool,
    /// In the order in which they are tried.
    pub overloads: &'static [Overload<WindowKernel>],
}

impl Window {
    pub const fn new(
        name: &'static str,
        arguments: &'static str,
        about: &'static str,
        example: (&'static str, &'static str),
        overloads: &'static [Overload<WindowKernel>],
    ) -> Window {
        Window { name, aliases: &[], arguments, about, example, framed: false, takes_a_value: false, overloads }
    }

    pub const fn framed(self) -> Window {
        Window { framed: true, ..self }
    }

    pub const fn taking_a_value(self) -> Window {
        Window { takes_a_value: true, ..self }
    }

    /// The first overload that takes these arguments.
    pub fn resolve(&self, given: &[Given]) -> Option<Resolved<WindowKernel>> {
        resolve(self.overloads, given)
    }
}
