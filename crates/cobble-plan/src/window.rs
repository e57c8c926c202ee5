//! Window functions: what is computed for each row from the rows around it (SQL:2016 part 2, 7.15 and 10.9).

use std::fmt;

pub use cobble_functions::Ranking;
use cobble_types::SqlType;
use serde::{Deserialize, Serialize};

use crate::aggregate::AggregateCall;
use crate::expr::{Expr, comma_separated};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub enum WindowFunction {
    /// With `ignore_nulls`, rows whose first argument is null are passed over (SQL:2016 part 2, 6.10).
    Ranking {
        function: Ranking,
        arguments: Vec<Expr>,
        ignore_nulls: bool,
    },
    Aggregate(AggregateCall),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum FrameUnit {
    Rows,
    Range,
    Groups,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub enum FrameBound {
    UnboundedPreceding,
    /// How many rows or groups, or how far in the sort key's own units.
    Preceding(Expr),
    CurrentRow,
    Following(Expr),
    UnboundedFollowing,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum FrameExclusion {
    NoOthers,
    CurrentRow,
    Group,
    Ties,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Frame {
    pub unit: FrameUnit,
    pub start: FrameBound,
    pub end: FrameBound,
    pub exclusion: FrameExclusion,
}

impl Default for Frame {
    /// From the partition's start to the current row and those that sort the same.
    fn default() -> Self {
        Frame {
            unit: FrameUnit::Range,
            start: FrameBound::UnboundedPreceding,
            end: FrameBound::CurrentRow,
            exclusion: FrameExclusion::NoOthers,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct WindowCall {
    pub function: WindowFunction,
    pub frame: Frame,
    pub sql_type: SqlType,
}

impl WindowCall {
    pub fn expressions(&self) -> Vec<&Expr> {
        let mut all: Vec<&Expr> = match &self.function {
            WindowFunction::Ranking { arguments, .. } => arguments.iter().collect(),
            WindowFunction::Aggregate(call) => call.expressions().collect(),
        };
        for bound in [&self.frame.start, &self.frame.end] {
            if let FrameBound::Preceding(distance) | FrameBound::Following(distance) = bound {
                all.push(distance);
            }
        }
        all
    }

    /// The same call over expressions changed by `change`.
    pub fn map(&self, change: &mut dyn FnMut(&Expr) -> Expr) -> WindowCall {
        let bound = |bound: &FrameBound, change: &mut dyn FnMut(&Expr) -> Expr| match bound {
            FrameBound::Preceding(e) => FrameBound::Preceding(change(e)),
            FrameBound::Following(e) => FrameBound::Following(change(e)),
            other => other.clone(),
        };
        WindowCall {
            function: match &self.function {
                WindowFunction::Ranking { function, arguments, ignore_nulls } => WindowFunction::Ranking {
                    function: *function,
                    arguments: arguments.iter().map(&mut *change).collect(),
                    ignore_nulls: *ignore_nulls,
                },
                WindowFunction::Aggregate(call) => WindowFunction::Aggregate(call.map(change)),
            },
            frame: Frame {
                start: bound(&self.frame.start, change),
                end: bound(&self.frame.end, change),
                ..self.frame.clone()
            },
            sql_type: self.sql_type.clone(),
        }
    }
}

impl fmt::Display for FrameBound {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            FrameBound::UnboundedPreceding => f.write_str("the start"),
            FrameBound::Preceding(distance) => write!(f, "{distance} before"),
            FrameBound::CurrentRow => f.write_str("the row"),
            FrameBound::Following(distance) => write!(f, "{distance} after"),
            FrameBound::UnboundedFollowing => f.write_str("the end"),
        }
    }
}

impl fmt::Display for WindowCall {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.function {
            WindowFunction::Ranking { function, arguments, ignore_nulls } => {
                let nulls = if *ignore_nulls { " ignore nulls" } else { "" };
                write!(f, "{}({}){nulls}", function.name(), comma_separated(arguments))?;
            }
            WindowFunction::Aggregate(call) => call.fmt(f)?,
        }
        if self.frame == Frame::default() {
            return Ok(());
        }
        let unit = match self.frame.unit {
            FrameUnit::Rows => "rows",
            FrameUnit::Range => "range",
            FrameUnit::Groups => "groups",
        };
        let without = match self.frame.exclusion {
            FrameExclusion::NoOthers => "",
            FrameExclusion::CurrentRow => " without the row",
            FrameExclusion::Group => " without its group",
            FrameExclusion::Ties => " without its ties",
        };
        write!(f, " [{unit} from {} to {}{without}]", self.frame.start, self.frame.end)
    }
}
