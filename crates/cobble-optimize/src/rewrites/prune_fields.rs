//! `prune-fields`: of a column that holds rows, only the fields that something uses are read, where its source can read
//! them apart. The column keeps its id and gets a narrower type.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use cobble_types::{ColumnId, RowField, SqlType};

use super::{Context, Rewrite};
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::{LogicalPlan, Scan};

pub const REWRITE: Rewrite = Rewrite {
    name: "prune-fields",
    about: "reads only those fields of nested columns that something uses",
    concerns: |o| matches!(o, LogicalPlan::Scan(_)),
    apply,
    needed: false,
};

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

    /// The ways to all that is used, each behind `before`.
    fn paths(&self, before: &[String], into: &mut Vec<Vec<String>>) {
        match self {
            Use::Whole => into.push(before.to_vec()),
            Use::Fields(fields) => {
                for (name, used) in fields {
                    used.paths(&before.iter().chain([name]).cloned().collect::<Vec<_>>(), into);
                }
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

/// By column, what of it is used.
type Uses = HashMap<ColumnId, Use>;

fn apply(plan: &LogicalPlan, _: &Context) -> LogicalPlan {
    let mut uses = Uses::new();
    candidates(plan, &mut uses);
    if uses.is_empty() {
        return plan.clone();
    }
    let mut aliases = Vec::new();
    passed_on(plan, &mut uses, &mut aliases);
    let mut whole = |columns: Vec<Column>| {
        columns.iter().for_each(|column| {
            uses.entry(column.id).and_modify(|used| *used = Use::Whole);
        });
    };
    whole(plan.columns());
    renamed(plan, &mut whole);
    collect(plan, &mut uses);
    // From the top down: what is used of a column that passes another one on is used of that one.
    for (alias, source, path) in aliases.iter().rev() {
        let mut paths = Vec::new();
        uses.get(alias).into_iter().for_each(|used| used.paths(path, &mut paths));
        for path in paths {
            uses.entry(*source).and_modify(|used| used.note(&path.iter().map(String::as_str).collect::<Vec<_>>()));
        }
    }
    uses.retain(|_, used| matches!(used, Use::Fields(fields) if !fields.is_empty()));
    if uses.is_empty() { plan.clone() } else { rebuilt(plan, &uses, &mut HashMap::new()) }
}

/// Columns of rows whose source reads fields apart.
fn candidates(plan: &LogicalPlan, uses: &mut Uses) {
    if let LogicalPlan::Scan(scan) = plan
        && scan.table.origin.reads_fields
    {
        let rows = scan.columns.iter().filter(|(column, _)| matches!(column.sql_type, SqlType::Row(_)));
        uses.extend(rows.map(|(column, _)| (column.id, Use::Fields(BTreeMap::new()))));
    }
    plan.inputs().into_iter().for_each(|input| candidates(input, uses));
}

/// Columns of projections that are such a column or a field of one, the lowest first: they are candidates too.
fn passed_on(plan: &LogicalPlan, uses: &mut Uses, aliases: &mut Vec<(ColumnId, ColumnId, Vec<String>)>) {
    plan.inputs().into_iter().for_each(|input| passed_on(input, uses, aliases));
    if let LogicalPlan::Project { columns, .. } = plan {
        for (column, expr) in columns.iter().filter(|(column, _)| matches!(column.sql_type, SqlType::Row(_))) {
            if let Some((source, path)) = field_of(expr)
                && uses.contains_key(&source)
                && column.id != source
            {
                uses.insert(column.id, Use::Fields(BTreeMap::new()));
                aliases.push((column.id, source, path));
            }
        }
    }
}

/// The column that an expression is, or is a field of, with the way to it.
fn field_of(expr: &Expr) -> Option<(ColumnId, Vec<String>)> {
    match expr {
        Expr::Column(column) => Some((column.id, vec![])),
        Expr::Field { operand, name, .. } => {
            let (column, mut path) = field_of(operand)?;
            path.push(name.clone());
            Some((column, path))
        }
        _ => None,
    }
}

/// Columns that come out under other ids, in a union or to the readers of a common result, stay whole.
fn renamed(plan: &LogicalPlan, whole: &mut dyn FnMut(Vec<Column>)) {
    match plan {
        LogicalPlan::Union { inputs, .. } => inputs.iter().for_each(|input| whole(input.columns.clone())),
        LogicalPlan::Recursive { base, step, .. } => [base, step].into_iter().for_each(|i| whole(i.columns.clone())),
        LogicalPlan::With { definitions, .. } => definitions.iter().for_each(|d| whole(d.plan.columns())),
        _ => {}
    }
    plan.inputs().into_iter().for_each(|input| renamed(input, whole));
}

fn collect(plan: &LogicalPlan, uses: &mut Uses) {
    match plan {
        LogicalPlan::Project { columns, .. } => {
            let is_alias = |id: &ColumnId, expr: &Expr| {
                uses.contains_key(id) && field_of(expr).is_some_and(|(source, _)| source != *id)
            };
            let others: Vec<&Expr> =
                columns.iter().filter(|(column, expr)| !is_alias(&column.id, expr)).map(|(_, expr)| expr).collect();
            others.into_iter().for_each(|expr| note(expr, &mut Vec::new(), uses));
        }
        other => other.expressions().into_iter().for_each(|expr| note(expr, &mut Vec::new(), uses)),
    }
    plan.inputs().into_iter().for_each(|input| collect(input, uses));
}

/// Notes what an expression uses; `path` has the fields that are taken out of it, the innermost last.
fn note<'a>(expr: &'a Expr, path: &mut Vec<&'a str>, uses: &mut Uses) {
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

/// The plan with narrower columns; `types` has those that have become narrower below.
fn rebuilt(plan: &LogicalPlan, uses: &Uses, types: &mut HashMap<ColumnId, SqlType>) -> LogicalPlan {
    if let LogicalPlan::Scan(scan) = plan {
        let mut narrowed = |column: &Column| match uses.get(&column.id) {
            Some(used) => {
                let sql_type = used.narrowed(&column.sql_type);
                types.insert(column.id, sql_type.clone());
                Column { sql_type, ..column.clone() }
            }
            None => column.clone(),
        };
        let columns = scan.columns.iter().map(|(column, place)| (narrowed(column), *place)).collect();
        return LogicalPlan::Scan(Scan { table: Arc::clone(&scan.table), columns });
    }
    let plan = plan.map_inputs(&mut |input| rebuilt(input, uses, types));
    let mut plan = plan.map_expressions(&mut |expr| retyped(expr, types));
    if let LogicalPlan::Project { columns, .. } = &mut plan {
        for (column, expr) in columns.iter_mut().filter(|(_, expr)| field_of(expr).is_some()) {
            let sql_type = expr.sql_type();
            if sql_type != column.sql_type {
                types.insert(column.id, sql_type.clone());
                column.sql_type = sql_type;
            }
        }
    }
    plan
}

fn retyped(expr: &Expr, types: &HashMap<ColumnId, SqlType>) -> Expr {
    match expr {
        Expr::Column(column) => match types.get(&column.id) {
            Some(sql_type) => Expr::Column(Column { sql_type: sql_type.clone(), ..column.clone() }),
            None => expr.clone(),
        },
        Expr::Field { operand, name, sql_type } => {
            let operand = retyped(operand, types);
            let own = match operand.sql_type() {
                SqlType::Row(fields) => fields.into_iter().find(|f| f.name == *name).map(|f| f.sql_type),
                _ => None,
            };
            let sql_type = own.unwrap_or_else(|| sql_type.clone());
            Expr::Field { operand: Box::new(operand), name: name.clone(), sql_type }
        }
        other => other.map_children(&mut |child| retyped(child, types)),
    }
}
