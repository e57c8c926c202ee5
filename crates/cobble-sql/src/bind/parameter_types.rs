//! The types of a statement's parameters, found out from what they meet: as PostgreSQL does, a parameter is a literal whose type is open
//! until an operator, a function or a column settles it, and what it meets first counts.

use std::collections::BTreeMap;

use cobble_plan::expr::Expr;
use cobble_plan::logical::LogicalPlan;
use cobble_types::SqlType;

/// Parameters that a statement may have, as many as PostgreSQL's protocol can count.
pub const MOST_PARAMETERS: usize = 65_535;

fn of_expr(expr: &Expr, found: &mut BTreeMap<usize, Vec<SqlType>>) {
    if let Expr::Parameter { number, sql_type } = expr {
        let types = found.entry(*number).or_default();
        if *sql_type != SqlType::Null && !types.contains(sql_type) {
            types.push(sql_type.clone());
        }
    }
    expr.children().into_iter().for_each(|child| of_expr(child, found));
}

fn of_plan(plan: &LogicalPlan, found: &mut BTreeMap<usize, Vec<SqlType>>) {
    plan.expressions().into_iter().for_each(|expr| of_expr(expr, found));
    plan.inputs().into_iter().for_each(|input| of_plan(input, found));
}

/// What a plan tells of the types of its parameters.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ParameterTypes {
    /// Those of `$1`, `$2`, … One that meets nothing is a text.
    Settled(Vec<SqlType>),
    /// A parameter met several types. It has the first of them; the statement must be bound again with it.
    Given(usize, SqlType),
}

/// The types of the parameters of a plan that was bound with [`super::Parameters::Wanted`] and these.
pub fn parameter_types(plan: &LogicalPlan, given: &[Option<SqlType>]) -> ParameterTypes {
    let mut found = BTreeMap::new();
    of_plan(plan, &mut found);
    let count = found.keys().max().copied().unwrap_or(0).max(given.len());
    let mut settled = Vec::new();
    for number in 1..=count {
        let known = given.get(number - 1).cloned().flatten();
        let met = found.get(&number).map(Vec::as_slice).unwrap_or_default();
        match (known, met) {
            (Some(known), _) => settled.push(known),
            (None, [first, _, ..]) => return ParameterTypes::Given(number, first.clone()),
            (None, met) => settled.push(met.first().cloned().unwrap_or(SqlType::Text)),
        }
    }
    ParameterTypes::Settled(settled)
}
