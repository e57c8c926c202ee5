//! Functions that make rows: they stand in FROM, or in SELECT for each row (PostgreSQL manual 9.25).

use cobble_functions::{Function, TableFunction};
use serde::{Deserialize, Serialize};

use crate::expr::{Column, Expr, comma_separated};
use crate::statistics::ColumnStatistics;

/// One call of such a function, and the columns that it makes.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RowMaker {
    pub function: TableFunction,
    pub arguments: Vec<Expr>,
    pub columns: Vec<Column>,
}

impl RowMaker {
    /// The same call with its arguments changed.
    #[must_use]
    pub fn map(&self, change: &mut dyn FnMut(&Expr) -> Expr) -> RowMaker {
        RowMaker { arguments: self.arguments.iter().map(change).collect(), ..self.clone() }
    }

    /// Rows that are made of each input row, where the arguments say it: a series between constants, an array that is written out.
    pub fn rows(&self) -> Option<f64> {
        match (self.function, self.arguments.as_slice()) {
            (TableFunction::Unnest, [Expr::Call { function: Function::MakeArray, arguments, .. }]) => {
                Some(arguments.len() as f64)
            }
            (TableFunction::GenerateSeries, _) => {
                let (start, stop) = (self.number(0)?, self.number(1)?);
                let step = if self.arguments.len() > 2 { self.number(2)? } else { 1.0 };
                let steps = (stop - start) / step;
                steps.is_finite().then(|| (steps.floor() + 1.0).max(0.0))
            }
            _ => None,
        }
    }

    fn number(&self, place: usize) -> Option<f64> {
        match self.arguments.get(place)? {
            Expr::Literal { value, sql_type } if sql_type.is_number() => value.approximate(),
            _ => None,
        }
    }

    /// What is known of the values of a series between constants.
    pub fn series(&self) -> Option<(&Column, ColumnStatistics)> {
        let (column, rows) = (self.columns.first()?, self.rows()?);
        let value = |place: usize| match self.arguments.get(place) {
            Some(Expr::Literal { value, .. }) => Some(value.clone()),
            _ => None,
        };
        let (start, stop) = (value(0), value(1));
        let (min, max) = if self.number(2).is_some_and(|step| step < 0.0) { (stop, start) } else { (start, stop) };
        let known = ColumnStatistics { distinct: Some(rows), min, max, null_fraction: Some(0.0), ..Default::default() };
        (self.function == TableFunction::GenerateSeries).then_some((column, known))
    }

    /// What a plan calls it.
    pub fn text(makers: &[RowMaker], outer: bool) -> String {
        let calls: Vec<String> =
            makers.iter().map(|m| format!("{}({})", m.function.name(), comma_separated(&m.arguments))).collect();
        let kept = if outer { ", rows without any kept" } else { "" };
        format!("expand by {}{kept}", calls.join(" beside "))
    }
}
