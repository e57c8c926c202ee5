//! The walk through an expression that dialects share. It writes what every database writes alike; where they differ it asks the dialect.

use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::offer::KeptReason;
use cobble_types::SqlType;

use super::dialect::{Columns, Dialect, wrap};
use super::sql::{Refusal, Sql};

/// The expression as the dialect writes it, or why it stays in the engine.
pub fn translated<D: Dialect + ?Sized>(dialect: &D, expr: &Expr, columns: Columns<'_>) -> Result<Sql, Refusal> {
    let sub = |e: &Expr| dialect.key(e, columns);
    match expr {
        Expr::Column(column) => {
            columns(column).ok_or_else(|| (KeptReason::DifferentConnections, format!("{column} comes from elsewhere")))
        }
        Expr::Literal { value, sql_type } => dialect.literal(value, sql_type),
        Expr::Binary { op: BinaryOp::And, left, right, .. } => Ok(wrap(&[&sub(left)?, &sub(right)?], "(? AND ?)")),
        Expr::Binary { op: BinaryOp::Or, left, right, .. } => Ok(wrap(&[&sub(left)?, &sub(right)?], "(? OR ?)")),
        Expr::Binary { op, left, right, .. } if op.is_comparison() => dialect.compared(*op, [left, right], columns),
        Expr::Binary { op, left, right, sql_type } => dialect.computed(*op, [left, right], sql_type, columns),
        Expr::Not(operand) => Ok(wrap(&[&sub(operand)?], "(NOT ?)")),
        Expr::Negate(operand) => dialect.negated(operand, columns),
        Expr::IsNull { operand, negated } => {
            Ok(wrap(&[&sub(operand)?], if *negated { "(? IS NOT NULL)" } else { "(? IS NULL)" }))
        }
        Expr::Like { case_insensitive: true, .. } => {
            Err((KeptReason::CollationDiffers, dialect.letter_case().to_owned()))
        }
        Expr::Like { operand, pattern, negated, .. } => dialect.like([operand, pattern], *negated, columns),
        Expr::InList { operand, list, negated } => {
            let (operand, list) = dialect.listed(operand, list, columns)?;
            let word = if *negated { "NOT IN" } else { "IN" };
            Ok(wrap(&[&operand, &Sql::joined(&list, ", ")], &format!("(? {word} (?))")))
        }
        Expr::Case { branches, otherwise, sql_type } => {
            let pattern = format!(" ELSE ? END){}", dialect.case_type(sql_type)?);
            let mut out = Sql::new("(CASE");
            for (when, then) in branches {
                out.push(&wrap(&[&sub(when)?, &sub(then)?], " WHEN ? THEN ?"));
            }
            out.push(&wrap(&[&sub(otherwise)?], &pattern));
            Ok(out)
        }
        Expr::Cast { operand, sql_type } => dialect.cast(operand, sql_type, columns),
        Expr::Call { function, .. } if function.is_volatile() => {
            Err((KeptReason::Volatile, format!("{}() gives a new value for each row", function.name())))
        }
        Expr::Call { function, arguments, sql_type } => dialect.call(*function, arguments, sql_type, columns),
        Expr::Script { function, .. } => {
            let why = "is a script, which runs only in the engine; one in SQL would be seen through";
            Err((KeptReason::OpaqueFunction, format!("{}() {why}", function.name)))
        }
        Expr::Field { .. } | Expr::Subscript { .. } | Expr::Parameter { .. } => {
            Err((KeptReason::TypeDiffers, "nested values are built by the engine".to_owned()))
        }
    }
}

/// A call with all of its arguments: `name(…)`.
pub fn plain_call<D: Dialect + ?Sized>(
    dialect: &D,
    name: &str,
    arguments: &[Expr],
    columns: Columns<'_>,
) -> Result<Sql, Refusal> {
    let translated = arguments.iter().map(|argument| dialect.key(argument, columns)).collect::<Result<Vec<_>, _>>()?;
    Ok(wrap(&[&Sql::joined(&translated, ", ")], &format!("{name}(?)")))
}

/// A cast that may give something else at the source.
pub fn cast_differs(from: &SqlType, to: &SqlType) -> Refusal {
    (KeptReason::TypeDiffers, format!("a cast from {from} to {to} may differ there"))
}
