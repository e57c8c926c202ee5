//! `prune-fields`: of a column that holds rows, only the fields that something uses are read, where its source can read
//! them apart. The column keeps its id and gets a narrower type.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use cobble_types::{ColumnId, RowField, SqlType};

use super::Context;
use crate::expr::{Column, Expr};
use crate::logical::{LogicalPlan, Scan};

/// What of a column is used.
#[derive(Debug, Clone, PartialEq)]
enum Use {
    Whole,
    /// By name, never empty once a field was noted.
    Fields(BTreeMap<String, Use>),
}

impl Use {
    fn note(&mut self, path: &[&str]) {
        match (self, path) {
            (Use::Whole, _) => {}
            (own, []) => *own = Use::Whole,
            (Use::Fields(fields), [first, rest @ ..]) => {
                fields.entry((*first).to_owned()).or_insert_with(|| Use::Fields(BTreeMap::new())).note(rest);
            }
        }
    }

    /// The type without the fields that are not used.
    fn narrowed(&self, sql_type: &SqlType) -> SqlType {
        match (self, sql_type) {
            (Use::Fields(used), SqlType::Row(fields)) => SqlType::Row(
                fields
                    .iter()
                    .filter_map(|field| {
                        let sql_type = used.get(&field.name)?.narrowed(&field.sql_type);
                        Some(RowField { name: field.name.clone(), sql_type })
                    })
                    .collect(),
            ),
            _ => sql_type.clone(),
        }
    }
}

pub(super) fn apply(plan: &LogicalPlan, _: &Context) -> Option<LogicalPlan> {
    let mut uses = HashMap::new();
    candidates(plan, &mut uses);
    if uses.is_empty() {
        return None;
    }
    let mut whole = |columns: Vec<Column>| {
        columns.iter().for_each(|column| {
            uses.remove(&column.id);
        });
    };
    whole(plan.columns());
    by_place(plan, &mut whole);
    collect(plan, &mut uses);
    let narrow: HashMap<ColumnId, Use> =
        uses.into_iter().filter(|(_, used)| matches!(used, Use::Fields(fields) if !fields.is_empty())).collect();
    (!narrow.is_empty()).then(|| rebuilt(plan, &narrow))
}

/// Columns of rows whose source reads fields apart.
fn candidates(plan: &LogicalPlan, uses: &mut HashMap<ColumnId, Use>) {
    if let LogicalPlan::Scan(scan) = plan
        && scan.table.source.reads_fields()
    {
        let rows = scan.columns.iter().filter(|(column, _)| matches!(column.sql_type, SqlType::Row(_)));
        uses.extend(rows.map(|(column, _)| (column.id, Use::Fields(BTreeMap::new()))));
    }
    plan.inputs().into_iter().for_each(|input| candidates(input, uses));
}

/// Columns that are known by their place further up stay whole.
fn by_place(plan: &LogicalPlan, whole: &mut dyn FnMut(Vec<Column>)) {
    match plan {
        LogicalPlan::Union { inputs, .. } => inputs.iter().for_each(|input| whole(input.columns())),
        LogicalPlan::Recursive { base, step, .. } => [base, step].into_iter().for_each(|input| whole(input.columns())),
        LogicalPlan::With { definitions, .. } => definitions.iter().for_each(|d| whole(d.plan.columns())),
        _ => {}
    }
    plan.inputs().into_iter().for_each(|input| by_place(input, whole));
}

fn collect(plan: &LogicalPlan, uses: &mut HashMap<ColumnId, Use>) {
    plan.expressions().into_iter().for_each(|expr| note(expr, &mut Vec::new(), uses));
    plan.inputs().into_iter().for_each(|input| collect(input, uses));
}

/// Notes what an expression uses; `path` has the fields that are taken out of it, the innermost last.
fn note<'a>(expr: &'a Expr, path: &mut Vec<&'a str>, uses: &mut HashMap<ColumnId, Use>) {
    match expr {
        Expr::Column(column) => {
            if let Some(used) = uses.get_mut(&column.id) {
                used.note(&path.iter().rev().copied().collect::<Vec<&str>>());
            }
        }
        Expr::Field { operand, name, .. } => {
            path.push(name);
            note(operand, path, uses);
            path.pop();
        }
        other => other.children().into_iter().for_each(|child| note(child, &mut Vec::new(), uses)),
    }
}

fn rebuilt(plan: &LogicalPlan, narrow: &HashMap<ColumnId, Use>) -> LogicalPlan {
    if let LogicalPlan::Scan(scan) = plan {
        let columns = scan.columns.iter().map(|(column, place)| (narrowed(column, narrow), *place)).collect();
        return LogicalPlan::Scan(Scan { table: Arc::clone(&scan.table), columns });
    }
    plan.map_inputs(&mut |input| rebuilt(input, narrow)).map_expressions(&mut |expr| retyped(expr, narrow))
}

fn narrowed(column: &Column, narrow: &HashMap<ColumnId, Use>) -> Column {
    let sql_type = narrow.get(&column.id).map_or_else(|| column.sql_type.clone(), |u| u.narrowed(&column.sql_type));
    Column { sql_type, ..column.clone() }
}

fn retyped(expr: &Expr, narrow: &HashMap<ColumnId, Use>) -> Expr {
    match expr {
        Expr::Column(column) => Expr::Column(narrowed(column, narrow)),
        Expr::Field { operand, name, sql_type } => {
            let operand = retyped(operand, narrow);
            let sql_type = match operand.sql_type() {
                SqlType::Row(fields) => fields.into_iter().find(|f| f.name == *name).map(|f| f.sql_type),
                _ => None,
            }
            .unwrap_or_else(|| sql_type.clone());
            Expr::Field { operand: Box::new(operand), name: name.clone(), sql_type }
        }
        other => other.map_children(&mut |child| retyped(child, narrow)),
    }
}
