//! The columns of a query as those of the table that its rows go to: assignment, which converts a little more than expressions do
//! (PostgreSQL manual 10.4, "Value Storage").

use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::LogicalPlan;
use cobble_types::{Code, ColumnId, Error, Result, SqlType, Value};

use super::Binder;
use crate::coerce::coerce;

/// Whether a value may be stored as another type without an explicit cast.
fn is_assignable(own: &SqlType, wanted: &SqlType) -> bool {
    use SqlType::*;
    own == wanted
        || (own.is_number() && wanted.is_number())
        || matches!(
            (own, wanted),
            (Null, _)
                | (Boolean | Date | Time | Timestamp | TimestampTz | Interval | Uuid, Text)
                | (Date | Timestamp | TimestampTz, Date | Timestamp | TimestampTz)
        )
        || (own.is_number() && *wanted == Text)
}

/// The literal that a column of the plan is.
fn made_of(plan: &LogicalPlan, id: ColumnId) -> Option<Value> {
    let LogicalPlan::Project { columns, .. } = plan else { return None };
    columns.iter().find_map(|(column, expr)| match expr {
        Expr::Literal { value: value @ (Value::Null | Value::Text(_)), .. } if column.id == id => Some(value.clone()),
        _ => None,
    })
}

/// Rows of VALUES whose literals take the types of the columns that they go to.
fn literals_assigned(plan: LogicalPlan, wanted: &[(String, SqlType)]) -> Result<LogicalPlan> {
    let LogicalPlan::Values { mut columns, mut rows } = plan else { return Ok(plan) };
    for (place, (column, (_, sql_type))) in columns.iter_mut().zip(wanted).enumerate() {
        let is_literal =
            |row: &Vec<Expr>| matches!(row.get(place), Some(Expr::Literal { value: Value::Null | Value::Text(_), .. }));
        if column.sql_type != SqlType::Text || *sql_type == SqlType::Text || !rows.iter().all(is_literal) {
            continue;
        }
        for row in &mut rows {
            if let Expr::Literal { value, .. } = row[place].clone() {
                row[place] = coerce(Expr::Literal { value, sql_type: SqlType::Null }, sql_type)?;
            }
        }
        column.sql_type = sql_type.clone();
    }
    Ok(LogicalPlan::Values { columns, rows })
}

impl Binder<'_> {
    /// The plan with its columns, one by one, as those of the table.
    pub(super) fn assigned(&mut self, plan: LogicalPlan, wanted: &[(String, SqlType)]) -> Result<LogicalPlan> {
        let plan = literals_assigned(plan, wanted)?;
        let found = plan.columns();
        if found.len() != wanted.len() {
            let what = format!("the table has {} columns, the query {}", wanted.len(), found.len());
            let hint = "give a value for each column of the table, in its order";
            return Err(Error::new(Code::TypeMismatch, what).hint(hint));
        }
        let mut columns: Vec<(Column, Expr)> = Vec::new();
        let mut differs = false;
        for (own, (name, sql_type)) in found.into_iter().zip(wanted) {
            let column = self.new_column(None, name, sql_type.clone());
            // A literal takes the type of what it meets.
            let literal = made_of(&plan, own.id).filter(|_| own.sql_type == SqlType::Text && own.sql_type != *sql_type);
            if let Some(value) = literal {
                differs = true;
                columns.push((column, coerce(Expr::Literal { value, sql_type: SqlType::Null }, sql_type)?));
                continue;
            }
            if !is_assignable(&own.sql_type, sql_type) {
                let what = format!("{name} is {sql_type} in the table, the value is {}", own.sql_type);
                return Err(Error::new(Code::TypeMismatch, what).hint(format!("cast it: …::{sql_type}")));
            }
            differs |= own.sql_type != *sql_type;
            columns.push((column, Expr::Column(own).cast(sql_type.clone())));
        }
        Ok(if differs { LogicalPlan::Project { input: plan.into(), columns } } else { plan })
    }
}
