//! The verifier: what must hold of every plan, checked after binding, after each rewrite and after physical planning. It runs in
//! every build. A plan that breaks a rule is an error that names the step and the rewrite; it never becomes an answer.
//!
//! Of a logical plan: every column that is used comes out of an input, under the type that it is used with; no operator brings a
//! column twice; conditions are boolean, and what is compared, united or chosen among has one type; the readers of a common
//! result name columns that it has; after `unnest-subqueries`, nothing refers to a query around it. Of a physical plan: the same
//! of each step, and that every reference between steps has its target.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use cobble_types::{ColumnId, Error, Result, SqlType, Value};

use crate::aggregate::AggregateCall;
use crate::expr::{BinaryOp, Column, Expr};
use crate::logical::{CteDefinition, Join, JoinKey, JoinKind, LogicalPlan, Mark, UnionInput};
use crate::physical::{JoinWork, Operator, PhysicalNode, Side};
use crate::table_function::RowMaker;
use crate::window::{WindowCall, WindowFunction};

/// Whether subqueries may still use columns of the queries around them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outer {
    Allowed,
    Gone,
}

/// Checks a logical plan; `after` names what made it.
///
/// # Errors
/// An internal error that names the broken rule, or that a subquery of this form is not supported when a reference to a query
/// around it is left.
pub fn verify(plan: &LogicalPlan, after: &str, outer: Outer) -> Result<()> {
    let verifier = Verifier { after, outer, results: HashMap::new() };
    verifier.plan(plan, &Known::default()).map(|_| ())
}

/// Checks a physical plan whose result must have these columns, in this order.
///
/// # Errors
/// An internal error that names the step and the broken rule.
pub fn verify_physical(root: &Arc<PhysicalNode>, wanted: &[Column]) -> Result<()> {
    if root.columns != wanted {
        return Err(broken("physical planning", "the result has other columns than the statement asks for"));
    }
    Steps::default().node(root)
}

fn broken(after: &str, what: impl std::fmt::Display) -> Error {
    Error::internal(format!("the plan is broken after {after}: {what}"))
}

/// True for types that hold the same values; the fields of rows may have other names.
fn same(a: &SqlType, b: &SqlType) -> bool {
    match (a, b) {
        (SqlType::Row(a), SqlType::Row(b)) => {
            a.len() == b.len() && a.iter().zip(b).all(|(a, b)| same(&a.sql_type, &b.sql_type))
        }
        (SqlType::Array(a), SqlType::Array(b)) => same(a, b),
        _ => a == b,
    }
}

/// The type of an expression where one is wanted, or `None` for a bare null, which fits everywhere.
fn settled(expr: &Expr) -> Option<SqlType> {
    match expr {
        Expr::Literal { value: Value::Null, sql_type: SqlType::Null } => None,
        other => Some(other.sql_type()),
    }
}

/// Columns with their types, by id.
#[derive(Debug, Clone, Default)]
struct Known(HashMap<ColumnId, SqlType>);

impl Known {
    fn of(columns: &[Column]) -> Known {
        Known(columns.iter().map(|c| (c.id, c.sql_type.clone())).collect())
    }

    fn with(&self, other: &Known) -> Known {
        Known(self.0.iter().chain(&other.0).map(|(id, t)| (*id, t.clone())).collect())
    }
}

/// What an expression may use: the columns of the operator's inputs, and those of the queries around it.
struct Reach<'a> {
    after: &'a str,
    own: Known,
    around: &'a Known,
    outer: Outer,
}

impl Reach<'_> {
    fn fail<T>(&self, what: impl std::fmt::Display) -> Result<T> {
        Err(broken(self.after, what))
    }

    fn column(&self, column: &Column) -> Result<()> {
        match (self.own.0.get(&column.id), self.around.0.get(&column.id)) {
            (Some(own), _) if same(own, &column.sql_type) => Ok(()),
            (Some(own), _) => self.fail(format_args!("{column} is {own} and is used as {}", column.sql_type)),
            (None, Some(_)) if self.outer == Outer::Allowed => Ok(()),
            (None, Some(_)) => Err(Error::unsupported(format_args!(
                "a subquery that uses {column} of the query around it in this way"
            ))
            .hint("write it as a join, or compute it for all rows at once in a WITH")),
            (None, None) => self.fail(format_args!("nothing brings the column {column}")),
        }
    }

    fn all<'e>(&self, expressions: impl IntoIterator<Item = &'e Expr>) -> Result<()> {
        expressions.into_iter().try_for_each(|e| self.expr(e))
    }

    /// An expression of this type.
    fn typed(&self, expr: &Expr, wanted: &SqlType) -> Result<()> {
        self.expr(expr)?;
        self.fits(expr, wanted)
    }

    /// The type alone, of an expression that was visited.
    fn fits(&self, expr: &Expr, wanted: &SqlType) -> Result<()> {
        match settled(expr) {
            Some(own) if !same(&own, wanted) => self.fail(format_args!("{expr} is {own} and stands for {wanted}")),
            _ => Ok(()),
        }
    }

    fn condition(&self, expr: &Expr) -> Result<()> {
        self.typed(expr, &SqlType::Boolean)
    }

    /// Expressions that all have the same type.
    fn alike<'e>(&self, expressions: impl IntoIterator<Item = &'e Expr>) -> Result<()> {
        let mut common: Option<SqlType> = None;
        for expr in expressions {
            let Some(own) = settled(expr) else { continue };
            match &common {
                Some(common) if !same(common, &own) => {
                    return self.fail(format_args!("{expr} is {own} and stands beside {common}"));
                }
                Some(_) => {}
                None => common = Some(own),
            }
        }
        Ok(())
    }

    fn expr(&self, expr: &Expr) -> Result<()> {
        cobble_types::deep::level(|| self.one_expr(expr))
    }

    fn one_expr(&self, expr: &Expr) -> Result<()> {
        if let Expr::Column(column) = expr {
            return self.column(column);
        }
        self.all(expr.children())?;
        match expr {
            Expr::Column(_) | Expr::Cast { .. } | Expr::Negate(_) | Expr::IsNull { .. } => Ok(()),
            Expr::Literal { value: Value::Text(text), sql_type: SqlType::Null } => {
                self.fail(format_args!("the literal '{text}' has no type"))
            }
            Expr::Literal { .. } => Ok(()),
            Expr::Parameter { .. } => self.fail(format_args!("{expr} has no value")),
            Expr::Binary { op: BinaryOp::And | BinaryOp::Or, left, right, sql_type } => {
                self.fits(left, &SqlType::Boolean)?;
                self.fits(right, &SqlType::Boolean)?;
                self.is(expr, sql_type, &SqlType::Boolean)
            }
            Expr::Binary { op, left, right, sql_type } if op.is_comparison() => {
                self.alike([left.as_ref(), right.as_ref()])?;
                self.is(expr, sql_type, &SqlType::Boolean)
            }
            Expr::Binary { .. } => Ok(()),
            Expr::Not(operand) => self.fits(operand, &SqlType::Boolean),
            Expr::Like { operand, pattern, .. } => {
                self.fits(operand, &SqlType::Text)?;
                self.fits(pattern, &SqlType::Text)
            }
            Expr::InList { operand, list, .. } => self.alike(std::iter::once(operand.as_ref()).chain(list)),
            Expr::Case { branches, otherwise, sql_type } => {
                for (when, then) in branches {
                    self.fits(when, &SqlType::Boolean)?;
                    self.fits(then, sql_type)?;
                }
                self.fits(otherwise, sql_type)
            }
            Expr::Call { .. } => Ok(()),
            Expr::Script { function, arguments } => {
                if function.parameters.len() != arguments.len() {
                    return self.fail(format_args!("{expr} has {} arguments", arguments.len()));
                }
                let typed = arguments.iter().zip(&function.parameters);
                typed.into_iter().try_for_each(|(argument, (_, wanted))| self.fits(argument, wanted))
            }
            Expr::Field { operand, name, sql_type } => match operand.sql_type() {
                SqlType::Row(fields) => match fields.iter().find(|f| f.name == *name) {
                    Some(field) => self.is(expr, sql_type, &field.sql_type),
                    None => self.fail(format_args!("{operand} has no field {name}")),
                },
                other => self.fail(format_args!("{operand} is {other} and has no field {name}")),
            },
            Expr::Subscript { operand, index, sql_type } => {
                self.fits(index, &SqlType::BigInt)?;
                match operand.sql_type() {
                    SqlType::Array(item) => self.is(expr, sql_type, &item),
                    other => self.fail(format_args!("{operand} is {other} and has no items")),
                }
            }
        }
    }

    fn is(&self, expr: &Expr, own: &SqlType, wanted: &SqlType) -> Result<()> {
        if same(own, wanted) { Ok(()) } else { self.fail(format_args!("{expr} is {own}, not {wanted}")) }
    }

    /// Computed columns have the types of what they are computed from.
    fn made(&self, columns: &[(Column, Expr)]) -> Result<()> {
        columns.iter().try_for_each(|(column, expr)| self.typed(expr, &column.sql_type))
    }

    fn aggregate(&self, column: &Column, call: &AggregateCall) -> Result<()> {
        self.all(call.expressions())?;
        if let Some(filter) = &call.filter {
            self.condition(filter)?;
        }
        if same(&column.sql_type, &call.sql_type) {
            Ok(())
        } else {
            self.fail(format_args!("{call} is {} and comes out as {}", call.sql_type, column.sql_type))
        }
    }

    fn window(&self, column: &Column, call: &WindowCall) -> Result<()> {
        self.all(call.expressions())?;
        if let WindowFunction::Aggregate(aggregate) = &call.function
            && let Some(filter) = &aggregate.filter
        {
            self.condition(filter)?;
        }
        if same(&column.sql_type, &call.sql_type) {
            Ok(())
        } else {
            self.fail(format_args!("{call} is {} and comes out as {}", call.sql_type, column.sql_type))
        }
    }

    /// The conditions of a join: keys with one side of each input, residuals and marks over both.
    fn join(
        &self,
        (left, right): (&Known, &Known),
        kind: JoinKind,
        (on, residual, mark): (&[JoinKey], &[Expr], Option<&Mark>),
    ) -> Result<()> {
        for key in on {
            self.alike(key.sides())?;
            self.all(key.sides())?;
            for (side, known, word) in [(&key.left, left, "left"), (&key.right, right, "right")] {
                if let Some(other) = side.columns().into_iter().find(|id| !known.0.contains_key(id)) {
                    // A reference to a query around both is no column of either side.
                    if self.own.0.contains_key(&other) {
                        return self.fail(format_args!("the key {side} is not of the {word} side"));
                    }
                }
            }
        }
        residual.iter().try_for_each(|c| self.condition(c))?;
        match (kind, mark) {
            (JoinKind::Mark, Some(mark)) => {
                mark.compare.iter().try_for_each(|c| self.condition(c))?;
                if mark.of_key && (on.len() != 1 || !residual.is_empty() || !mark.compare.is_empty()) {
                    return self.fail("a mark of one key has more than that key");
                }
                if mark.column.sql_type == SqlType::Boolean { Ok(()) } else { self.fail("a mark is not boolean") }
            }
            (JoinKind::Mark, None) => self.fail("a mark join without a mark"),
            (_, Some(_)) => self.fail("a mark at another kind of join"),
            (_, None) => Ok(()),
        }
    }
}

/// That no column comes out twice.
fn distinct(after: &str, columns: &[Column]) -> Result<()> {
    let mut seen = HashSet::with_capacity(columns.len());
    match columns.iter().find(|c| !seen.insert(c.id)) {
        Some(twice) => Err(broken(after, format_args!("the column {twice} comes out twice"))),
        None => Ok(()),
    }
}

#[derive(Clone)]
struct Verifier<'a> {
    after: &'a str,
    outer: Outer,
    /// The columns of the common results in reach, by their id.
    results: HashMap<u32, Known>,
}

impl Verifier<'_> {
    fn fail<T>(&self, what: impl std::fmt::Display) -> Result<T> {
        Err(broken(self.after, what))
    }

    fn plan(&self, plan: &LogicalPlan, around: &Known) -> Result<Vec<Column>> {
        cobble_types::deep::level(|| self.operator(plan, around))
    }

    fn reach<'r>(&'r self, own: &[Column], around: &'r Known) -> Reach<'r> {
        Reach { after: self.after, own: Known::of(own), around, outer: self.outer }
    }

    /// Checks the operator and all below it, and returns what comes out.
    fn operator(&self, plan: &LogicalPlan, around: &Known) -> Result<Vec<Column>> {
        let out = match plan {
            LogicalPlan::Scan(scan) => {
                for (column, place) in &scan.columns {
                    if *place >= scan.table.columns.len() {
                        return self.fail(format_args!("{column} is no column of {}", scan.table.name));
                    }
                }
                scan.columns.iter().map(|(column, _)| column.clone()).collect()
            }
            LogicalPlan::Values { columns, rows } => {
                let reach = self.reach(&[], around);
                for row in rows {
                    if row.len() != columns.len() {
                        return self.fail(format_args!("a row of {} values among {}", row.len(), columns.len()));
                    }
                    row.iter().zip(columns).try_for_each(|(e, column)| reach.typed(e, &column.sql_type))?;
                }
                columns.clone()
            }
            LogicalPlan::Filter { input, conjuncts } => {
                let below = self.plan(input, around)?;
                let reach = self.reach(&below, around);
                conjuncts.iter().try_for_each(|c| reach.condition(c))?;
                below
            }
            LogicalPlan::Project { input, columns } => {
                let below = self.plan(input, around)?;
                self.reach(&below, around).made(columns)?;
                columns.iter().map(|(column, _)| column.clone()).collect()
            }
            LogicalPlan::Join(join) => self.join(join, around)?,
            LogicalPlan::Aggregate { input, groups, aggregates } => {
                let below = self.plan(input, around)?;
                let reach = self.reach(&below, around);
                reach.made(groups)?;
                aggregates.iter().try_for_each(|(column, call)| reach.aggregate(column, call))?;
                groups.iter().map(|(c, _)| c).chain(aggregates.iter().map(|(c, _)| c)).cloned().collect()
            }
            LogicalPlan::Sort { input, keys, .. } => {
                let below = self.plan(input, around)?;
                self.reach(&below, around).all(keys.iter().map(|key| &key.expr))?;
                below
            }
            LogicalPlan::Limit { input, .. } => self.plan(input, around)?,
            LogicalPlan::Union { inputs, columns } => {
                inputs.iter().try_for_each(|input| self.input(input, columns, around))?;
                columns.clone()
            }
            LogicalPlan::Window { input, partition, order, calls } => {
                let mut below = self.plan(input, around)?;
                let reach = self.reach(&below, around);
                reach.all(partition)?;
                reach.all(order.iter().map(|key| &key.expr))?;
                calls.iter().try_for_each(|(column, call)| reach.window(column, call))?;
                below.extend(calls.iter().map(|(column, _)| column.clone()));
                below
            }
            LogicalPlan::Expand { input, makers, .. } => {
                let mut below = self.plan(input, around)?;
                self.reach(&below, around).all(makers.iter().flat_map(|m: &RowMaker| &m.arguments))?;
                below.extend(makers.iter().flat_map(|m| m.columns.iter().cloned()));
                below
            }
            LogicalPlan::With { definitions, body } => self.with(definitions, body, around)?,
            LogicalPlan::CteScan { id, name, columns } => {
                let Some(known) = self.results.get(id) else {
                    return self.fail(format_args!("{name} is read where it is not known"));
                };
                for (column, own) in columns {
                    match known.0.get(own) {
                        Some(own) if same(own, &column.sql_type) => {}
                        Some(own) => return self.fail(format_args!("{column} of {name} is {own}")),
                        None => return self.fail(format_args!("{name} has no column for {column}")),
                    }
                }
                columns.iter().map(|(column, _)| column.clone()).collect()
            }
            LogicalPlan::Recursive { id, base, step, columns, .. } => {
                self.input(base, columns, around)?;
                let mut within = self.clone();
                within.results.insert(*id, Known::of(columns));
                within.input(step, columns, around)?;
                columns.clone()
            }
        };
        distinct(self.after, &out)?;
        Ok(out)
    }

    fn join(&self, join: &Join, around: &Known) -> Result<Vec<Column>> {
        let left = self.plan(&join.left, around)?;
        // The right side of a subquery's join, or of LATERAL, may use the left side's columns.
        let beside = around.with(&Known::of(&left));
        let right = self.plan(&join.right, &beside)?;
        let both: Vec<Column> = left.iter().chain(&right).cloned().collect();
        distinct(self.after, &both)?;
        let conditions = (join.on.as_slice(), join.residual.as_slice(), join.mark.as_ref());
        self.reach(&both, around).join((&Known::of(&left), &Known::of(&right)), join.kind, conditions)?;
        Ok(join.output(left, right))
    }

    fn with(&self, definitions: &[CteDefinition], body: &LogicalPlan, around: &Known) -> Result<Vec<Column>> {
        let mut within = self.clone();
        for definition in definitions {
            let columns = within.plan(&definition.plan, around)?;
            within.results.insert(definition.id, Known::of(&columns));
        }
        within.plan(body, around)
    }

    /// An input of a union has a column of the same type for each of the union's.
    fn input(&self, input: &UnionInput, columns: &[Column], around: &Known) -> Result<()> {
        let known = Known::of(&self.plan(&input.plan, around)?);
        if input.columns.len() != columns.len() {
            return self.fail(format_args!("an input of {} columns among {}", input.columns.len(), columns.len()));
        }
        for (own, column) in input.columns.iter().zip(columns) {
            match known.0.get(&own.id) {
                Some(found) if same(found, &column.sql_type) => {}
                Some(found) => {
                    return self.fail(format_args!("{own} is {found} and stands for {column}, {}", column.sql_type));
                }
                None => return self.fail(format_args!("an input does not bring {own} for {column}")),
            }
        }
        Ok(())
    }
}

#[derive(Default)]
struct Steps {
    /// The columns of what is computed once, by its id, in the order in which readers find them.
    results: HashMap<u32, Vec<Column>>,
}

impl Steps {
    fn node(&mut self, node: &Arc<PhysicalNode>) -> Result<()> {
        cobble_types::deep::level(|| self.step(node))
    }

    fn step(&mut self, node: &Arc<PhysicalNode>) -> Result<()> {
        let after = format!("physical planning, at step {}", node.step);
        let fail = |what: String| Err(broken(&after, what));
        if let (Operator::With { ids }, Some((body, definitions))) = (&node.operator, node.inputs.split_last()) {
            for (id, definition) in ids.iter().zip(definitions) {
                self.node(definition)?;
                self.results.insert(*id, definition.columns.clone());
            }
            self.node(body)?;
            return if body.columns == node.columns { Ok(()) } else { fail("other columns than below".to_owned()) };
        }
        if let (Operator::Recursive { id, .. }, [base, step]) = (&node.operator, node.inputs.as_slice()) {
            self.node(base)?;
            self.results.insert(*id, node.columns.clone());
            self.node(step)?;
            return self.united(&after, node);
        }
        node.inputs.iter().try_for_each(|input| self.node(input))?;
        distinct(&after, &node.columns)?;
        let below: Vec<Column> = match &node.operator {
            // Each input is looked at alone.
            Operator::Union => vec![],
            _ => node.inputs.iter().flat_map(|input| input.columns.iter().cloned()).collect(),
        };
        distinct(&after, &below)?;
        let none = Known::default();
        let reach = Reach { after: &after, own: Known::of(&below), around: &none, outer: Outer::Gone };
        let passes = |more: &[Column]| {
            let brought = |c: &Column| below.contains(c) || more.contains(c);
            match node.columns.iter().find(|c| !brought(c)) {
                Some(lost) => Err(broken(&after, format_args!("nothing brings the column {lost}"))),
                None => Ok(()),
            }
        };
        match &node.operator {
            Operator::Gate { .. } => Ok(()),
            Operator::Write { returning, .. } | Operator::Change { returning, .. } => match returning {
                None => Ok(()),
                Some(returning) => {
                    let own = Known::of(&returning.columns);
                    let reach = Reach { after: &after, own, around: &none, outer: Outer::Gone };
                    reach.made(&returning.made)
                }
            },
            Operator::Values { rows } => rows.iter().try_for_each(|row| {
                if row.len() != node.columns.len() {
                    return fail(format!("a row of {} values among {}", row.len(), node.columns.len()));
                }
                row.iter().zip(&node.columns).try_for_each(|(e, column)| reach.typed(e, &column.sql_type))
            }),
            Operator::Filter { conjuncts } => {
                conjuncts.iter().try_for_each(|c| reach.condition(c))?;
                passes(&[])
            }
            Operator::Project { columns } => {
                reach.made(columns)?;
                let own: Vec<Column> = columns.iter().map(|(c, _)| c.clone()).collect();
                if own == node.columns { Ok(()) } else { fail("other columns than are computed".to_owned()) }
            }
            Operator::HashJoin(join) | Operator::NestedLoopJoin(join) => self.join(node, join, &reach, &passes),
            Operator::RangeJoin(join, range) => {
                self.join(node, join, &reach, &passes)?;
                let build = &node.inputs[usize::from(join.build == Side::Right)].columns;
                let of_build = |e: &Expr| e.columns().iter().all(|id| build.iter().any(|c| c.id == *id));
                for key in std::iter::once(&range.sorted).chain(&range.second) {
                    if !of_build(&key.value) || key.bounds.iter().any(|(_, bound)| of_build(bound)) {
                        return fail(format!("{} is not bounded by the other side", key.value));
                    }
                }
                Ok(())
            }
            Operator::Aggregate { groups, aggregates } => {
                reach.made(groups)?;
                aggregates.iter().try_for_each(|(column, call)| reach.aggregate(column, call))
            }
            Operator::Sort { keys, .. } => {
                reach.all(keys.iter().map(|key| &key.expr))?;
                passes(&[])
            }
            Operator::Limit { .. } => passes(&[]),
            Operator::Union => self.united(&after, node),
            Operator::Window { partition, order, calls } => {
                reach.all(partition)?;
                reach.all(order.iter().map(|key| &key.expr))?;
                calls.iter().try_for_each(|(column, call)| reach.window(column, call))?;
                passes(&calls.iter().map(|(c, _)| c.clone()).collect::<Vec<_>>())
            }
            Operator::Expand { makers, .. } => {
                reach.all(makers.iter().flat_map(|m| &m.arguments))?;
                passes(&makers.iter().flat_map(|m| m.columns.iter().cloned()).collect::<Vec<_>>())
            }
            Operator::CteScan { id, name, places } => {
                let Some(kept) = self.results.get(id) else { return fail(format!("{name} is not computed before")) };
                for (place, column) in places.iter().zip(&node.columns) {
                    match kept.get(*place) {
                        Some(own) if same(&own.sql_type, &column.sql_type) => {}
                        _ => return fail(format!("{column} does not stand at place {place} of {name}")),
                    }
                }
                Ok(())
            }
            Operator::With { .. } | Operator::Recursive { .. } => fail("an operator without its inputs".to_owned()),
        }
    }

    fn join(
        &self,
        node: &PhysicalNode,
        join: &JoinWork,
        reach: &Reach,
        passes: &dyn Fn(&[Column]) -> Result<()>,
    ) -> Result<()> {
        let [left, right] = node.inputs.as_slice() else { return reach.fail("a join without two inputs") };
        let sides = (&Known::of(&left.columns), &Known::of(&right.columns));
        reach.join(sides, join.kind, (&join.on, &join.residual, join.mark.as_ref()))?;
        passes(&join.mark.iter().map(|mark| mark.column.clone()).collect::<Vec<_>>())
    }

    /// Inputs that are read by place have the columns there.
    fn united(&self, after: &str, node: &PhysicalNode) -> Result<()> {
        for input in &node.inputs {
            let fits = input.columns.len() == node.columns.len()
                && input.columns.iter().zip(&node.columns).all(|(own, column)| same(&own.sql_type, &column.sql_type));
            if !fits {
                return Err(broken(after, format_args!("step {} has other columns than its union", input.step)));
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn column(id: u32, sql_type: SqlType) -> Column {
        Column { id: ColumnId(id), qualifier: None, name: format!("c{id}"), sql_type }
    }

    /// One row of a whole number and a text, as the columns 1 and 2.
    fn values() -> LogicalPlan {
        LogicalPlan::Values {
            columns: vec![column(1, SqlType::Integer), column(2, SqlType::Text)],
            rows: vec![vec![Expr::literal(Value::Integer(1)), Expr::literal(Value::Text("quay".into()))]],
        }
    }

    fn project(input: LogicalPlan, columns: Vec<(Column, Expr)>) -> LogicalPlan {
        LogicalPlan::Project { input: input.into(), columns }
    }

    fn refused(plan: &LogicalPlan, outer: Outer) -> String {
        verify(plan, "a rule", outer).expect_err("a broken plan").to_string()
    }

    #[test]
    fn sound_plans_pass() {
        let made = project(values(), vec![(column(3, SqlType::Integer), Expr::Column(column(1, SqlType::Integer)))]);
        for plan in [values(), made.clone()] {
            assert_eq!(verify(&plan, "a rule", Outer::Gone).err(), None);
        }
        let whole = UnionInput::whole(made);
        let union =
            LogicalPlan::Union { inputs: vec![whole.clone(), whole], columns: vec![column(9, SqlType::Integer)] };
        assert_eq!(verify(&union, "a rule", Outer::Gone).err(), None);
    }

    #[test]
    fn every_broken_rule_is_named_with_the_rewrite() {
        let integer = || Expr::Column(column(1, SqlType::Integer));
        let united = |input: LogicalPlan, names: Vec<Column>| LogicalPlan::Union {
            inputs: vec![UnionInput { plan: input.into(), columns: names }],
            columns: vec![column(9, SqlType::Integer)],
        };
        let cases = [
            (project(values(), vec![(column(3, SqlType::Text), Expr::Column(column(7, SqlType::Text)))]), "c7"),
            (
                project(values(), vec![(column(3, SqlType::Text), Expr::Column(column(1, SqlType::Text)))]),
                "c1 is integer",
            ),
            (project(values(), vec![(column(3, SqlType::Text), integer())]), "stands for text"),
            (
                project(
                    values(),
                    vec![(column(3, SqlType::Integer), integer()), (column(3, SqlType::Integer), integer())],
                ),
                "c3",
            ),
            (LogicalPlan::Filter { input: values().into(), conjuncts: vec![integer()] }, "stands for boolean"),
            (
                LogicalPlan::Filter {
                    input: values().into(),
                    conjuncts: vec![Expr::compare(BinaryOp::Eq, integer(), Expr::Column(column(2, SqlType::Text)))],
                },
                "stands beside integer",
            ),
            (united(values(), vec![column(2, SqlType::Text)]), "c2"),
            (united(values(), vec![column(4, SqlType::Integer)]), "c4"),
            (
                LogicalPlan::CteScan {
                    id: 5,
                    name: "trips".into(),
                    columns: vec![(column(3, SqlType::Text), ColumnId(1))],
                },
                "trips",
            ),
        ];
        for (plan, wanted) in cases {
            let error = refused(&plan, Outer::Gone);
            assert!(error.contains("after a rule") && error.contains(wanted), "{error}\nlacks {wanted}");
        }
    }

    #[test]
    fn queries_around_are_seen_until_subqueries_are_unnested() {
        let inner = LogicalPlan::Filter {
            input: LogicalPlan::Values { columns: vec![column(5, SqlType::Integer)], rows: vec![] }.into(),
            conjuncts: vec![Expr::compare(
                BinaryOp::Eq,
                Expr::Column(column(5, SqlType::Integer)),
                Expr::Column(column(1, SqlType::Integer)),
            )],
        };
        let plan = LogicalPlan::Join(Join {
            left: values().into(),
            right: inner.into(),
            kind: JoinKind::Semi,
            on: vec![],
            residual: vec![],
            mark: None,
        });
        assert_eq!(verify(&plan, "binding", Outer::Allowed).err(), None);
        assert!(refused(&plan, Outer::Gone).contains("c1"));
    }
}
