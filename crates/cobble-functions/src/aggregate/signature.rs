//! What an aggregate function is: names, overloads, what it keeps, what repeated values and empty groups mean to it, what it is for.

use arrow::compute::SortOptions;
use cobble_types::{Result, SqlType};

use super::Accumulator;
use crate::signature::{Given, Overload, Resolved, Types, resolve};

/// A call for which an accumulator is made.
pub struct Aggregated<'a> {
    pub arguments: &'a [SqlType],
    pub result: &'a SqlType,
    /// The sort keys, whose values reach the accumulator behind the arguments.
    pub order: &'a [(SqlType, SortOptions)],
    pub distinct: bool,
}

/// Makes the state of a call before its first row.
pub type MakeAccumulator = fn(&Aggregated) -> Result<Box<dyn Accumulator>>;

/// What the state of a group keeps.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Keeps {
    /// A few numbers, or one of the values.
    Slot,
    /// A sketch of bounded size.
    Sketch,
    /// Every value, in order: DISTINCT and ORDER BY are the accumulator's own work.
    Values,
}

/// An aggregate function.
#[derive(Debug, Clone, Copy)]
pub struct Aggregate {
    pub name: &'static str,
    /// Other names of the same function.
    pub aliases: &'static [&'static str],
    /// Arguments in words.
    pub arguments: &'static str,
    /// What it returns, in a sentence.
    pub about: &'static str,
    /// A query, and the text of what comes out.
    pub example: (&'static str, &'static str),
    pub keeps: Keeps,
    /// The values stand in WITHIN GROUP (ORDER BY …).
    pub within_group: bool,
    /// Over no rows the result is zero; it is null for all others.
    pub counts: bool,
    /// Equal values may be given once or often, with the same result.
    pub ignores_repetition: bool,
    /// In the order in which they are tried.
    pub overloads: &'static [Overload<MakeAccumulator>],
}

impl Aggregate {
    pub const fn new(
        name: &'static str,
        arguments: &'static str,
        about: &'static str,
        example: (&'static str, &'static str),
        overloads: &'static [Overload<MakeAccumulator>],
    ) -> Aggregate {
        Aggregate {
            name,
            aliases: &[],
            arguments,
            about,
            example,
            keeps: Keeps::Slot,
            within_group: false,
            counts: false,
            ignores_repetition: false,
            overloads,
        }
    }

    pub const fn also(self, aliases: &'static [&'static str]) -> Aggregate {
        Aggregate { aliases, ..self }
    }

    pub const fn keeps(self, keeps: Keeps) -> Aggregate {
        Aggregate { keeps, ..self }
    }

    pub const fn within_group(self) -> Aggregate {
        Aggregate { within_group: true, ..self }
    }

    pub const fn counting(self) -> Aggregate {
        Aggregate { counts: true, ..self }
    }

    pub const fn ignoring_repetition(self) -> Aggregate {
        Aggregate { ignores_repetition: true, ..self }
    }

    /// The first overload that takes these arguments.
    pub fn resolve(&self, given: &[Given]) -> Option<Resolved<MakeAccumulator>> {
        resolve(self.overloads, given)
    }
}

/// The types of a call with one argument that is kept as it is. What has no type yet is refused: it could be of several.
pub(super) fn as_it_is(given: &[Given], returns: impl Fn(&SqlType) -> Option<SqlType>) -> Option<Types> {
    let [Given { sql_type, .. }] = given else { return None };
    Some((vec![sql_type.clone()], returns(sql_type)?))
}
