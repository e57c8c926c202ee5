//! `JSON_TABLE` (SQL:2016 part 2, 7.11): the rows that a path finds in a document, with columns read from each of them.

use cobble_functions::Function;
use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::logical::LogicalPlan;
use cobble_plan::{RowMaker, TableFunction};
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast;

use super::query::scope_of;
use super::scope::Scope;
use super::types::sql_type;
use super::{Binder, Relation, folded, position_of};
use crate::coerce::{coerce, is_untyped};
use crate::function;

/// A row in the making: what the path of its level has found, and its number.
struct Level {
    item: Column,
    number: Column,
}

impl<'a> Binder<'a> {
    /// The document may use what stands before it in FROM.
    pub(super) fn json_table(
        &mut self,
        document: &'a ast::Expr,
        path: &ast::ValueWithSpan,
        columns: &'a [ast::JsonTableColumn],
        before: &Scope,
    ) -> Result<Relation> {
        let (document, one_row) = self.arguments_within(before, |binder| binder.expr(document, &Scope::default()))?;
        let document = match document.sql_type() {
            SqlType::Json => document,
            SqlType::Text => document.cast(SqlType::Json),
            _ if is_untyped(&document) => coerce(document, &SqlType::Json)?,
            other => return Err(Error::new(Code::TypeMismatch, format!("JSON_TABLE reads JSON, not {other}"))),
        };
        let (plan, levels) = self.json_levels(one_row, document, &[path_of(path)?], false)?;
        let (mut plan, mut list) = (plan, Vec::new());
        for level in levels {
            plan = self.json_columns(plan, &level, columns, &mut list)?;
        }
        let made: Vec<Column> = list.iter().map(|(column, _)| column.clone()).collect();
        let scope = scope_of(&made).with_qualifier("json_table", &[])?;
        Ok(Relation { plan: LogicalPlan::Project { input: plan.into(), columns: list }, scope })
    }

    /// The rows of several paths, one after another, each in columns of its own.
    fn json_levels(
        &mut self,
        input: LogicalPlan,
        document: Expr,
        paths: &[String],
        outer: bool,
    ) -> Result<(LogicalPlan, Vec<Level>)> {
        let texts = paths.iter().map(|path| Expr::literal(Value::Text(path.clone())));
        let arguments = std::iter::once(document).chain(texts).collect();
        let levels: Vec<Level> = paths
            .iter()
            .map(|_| Level {
                item: self.new_column(None, "item", SqlType::Json),
                number: self.new_column(None, "number", SqlType::Integer),
            })
            .collect();
        let columns = levels.iter().flat_map(|level| [level.item.clone(), level.number.clone()]).collect();
        let maker = RowMaker { function: TableFunction::JsonTable, arguments, columns };
        Ok((LogicalPlan::Expand { input: input.into(), makers: vec![maker], outer }, levels))
    }

    fn json_columns(
        &mut self,
        mut plan: LogicalPlan,
        level: &Level,
        columns: &'a [ast::JsonTableColumn],
        list: &mut Vec<(Column, Expr)>,
    ) -> Result<LogicalPlan> {
        let mut nested = Vec::new();
        for column in columns {
            let (name, value) = match column {
                ast::JsonTableColumn::ForOrdinality(name) => (folded(name), Expr::Column(level.number.clone())),
                ast::JsonTableColumn::Named(column) => {
                    let item = Expr::Column(level.item.clone());
                    (folded(&column.name), self.json_column(item, column)?)
                }
                ast::JsonTableColumn::Nested(below) => {
                    // The columns of the nested rows stand where NESTED does.
                    nested.push((list.len(), below));
                    continue;
                }
            };
            list.push((self.new_column(None, name, value.sql_type()), value));
        }
        if nested.is_empty() {
            return Ok(plan);
        }
        let paths = nested.iter().map(|(_, below)| path_of(&below.path)).collect::<Result<Vec<_>>>()?;
        let (expanded, levels) = self.json_levels(plan, Expr::Column(level.item.clone()), &paths, true)?;
        plan = expanded;
        let mut shifted = 0;
        for ((place, below), level) in nested.into_iter().zip(levels) {
            let mut own = Vec::new();
            plan = self.json_columns(plan, &level, &below.columns, &mut own)?;
            let at = place + shifted;
            shifted += own.len();
            list.splice(at..at, own);
        }
        Ok(plan)
    }

    fn json_column(&mut self, item: Expr, column: &'a ast::JsonTableNamedColumn) -> Result<Expr> {
        let wanted = sql_type(&column.r#type)?;
        let path = Expr::literal(Value::Text(path_of(&column.path)?));
        let exists = function::call(Function::JsonExists, vec![item.clone(), path.clone()])?;
        if column.exists {
            return Ok(if wanted == SqlType::Boolean { exists } else { exists.cast(SqlType::Integer).cast(wanted) });
        }
        let read = if wanted == SqlType::Json { Function::JsonQuery } else { Function::JsonValue };
        let value =
            Expr::Call { function: read, arguments: vec![item.clone(), path.clone()], sql_type: wanted.clone() };
        let otherwise = |handling: &'a Option<ast::JsonTableColumnErrorHandling>| -> Result<Option<Expr>> {
            Ok(match handling {
                None | Some(ast::JsonTableColumnErrorHandling::Null) => None,
                Some(ast::JsonTableColumnErrorHandling::Default(value)) => {
                    Some(coerce(super::literal::literal(&value.value)?, &wanted)?)
                }
                Some(ast::JsonTableColumnErrorHandling::Error) => {
                    return Err(Error::unsupported("ERROR ON EMPTY and ERROR ON ERROR in JSON_TABLE")
                        .hint("leave it out: the value is null then"));
                }
            })
        };
        let (empty, fault) = (otherwise(&column.on_empty)?, otherwise(&column.on_error)?);
        let mut branches = Vec::new();
        if let Some(empty) = empty {
            branches.push((Expr::Not(Box::new(exists.clone())), empty));
        }
        if let Some(fault) = fault {
            // There is something other than a JSON null, but not a value of this type.
            let whole = function::call(Function::JsonQuery, vec![item, path])?;
            let kind = function::call(Function::JsonTypeof, vec![whole])?;
            let null = Expr::literal(Value::Text("null".into()));
            let some = Expr::compare(BinaryOp::IsDistinctFrom, kind, null);
            let missed = Expr::IsNull { operand: Box::new(value.clone()), negated: false };
            let failed = Expr::combined(BinaryOp::And, vec![exists, some, missed]);
            branches.extend(failed.map(|failed| (failed, fault)));
        }
        Ok(match branches.is_empty() {
            true => value,
            false => Expr::Case { branches, otherwise: Box::new(value), sql_type: wanted },
        })
    }
}

fn path_of(written: &ast::ValueWithSpan) -> Result<String> {
    match &written.value {
        ast::Value::SingleQuotedString(path) => Ok(path.clone()),
        other => Err(Error::new(Code::Syntax, format!("a JSON path stands in single quotes, not as {other}"))
            .at(position_of(written.span))),
    }
}
