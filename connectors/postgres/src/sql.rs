//! Expressions as PostgreSQL text. Only what provably means the same there is translated; the rest says why not.

use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::offer::KeptReason;
use cobble_types::{SqlType, Value};

use super::functions;
use cobble_connect_sql::{Columns, Parameter, Refusal, Sql, wrap};

/// The server's name of one of our types.
pub fn type_name(sql_type: &SqlType) -> String {
    match sql_type {
        SqlType::Null => "text".to_owned(),
        other => other.to_string(),
    }
}

/// Translates an expression; `column` gives the text of each column.
pub fn translate(expr: &Expr, column: Columns<'_>) -> Result<Sql, Refusal> {
    let sub = |e: &Expr| translate(e, column);
    let refuse = |reason: KeptReason, note: String| Err((reason, note));
    match expr {
        Expr::Column(c) => match column(c) {
            Some(sql) => Ok(sql),
            None => refuse(KeptReason::DifferentConnections, format!("{c} comes from elsewhere")),
        },
        Expr::Literal { value: Value::Null, sql_type } => Ok(Sql::new(format!("NULL::{}", type_name(sql_type)))),
        Expr::Literal { value: Value::Boolean(v), .. } => Ok(Sql::new(if *v { "true" } else { "false" })),
        Expr::Literal { value, sql_type } => match sql_type {
            SqlType::Uuid | SqlType::Json | SqlType::Array(_) | SqlType::Row(_) => {
                refuse(KeptReason::TypeDiffers, format!("{sql_type} is text in the engine"))
            }
            _ => Ok(Sql::parameter(Parameter(value.clone(), sql_type.clone()))),
        },
        Expr::Binary { op, left, right, sql_type } => {
            let operand = left.sql_type();
            let floats = operand.is_float() || right.sql_type().is_float();
            match op {
                BinaryOp::Plus | BinaryOp::Minus | BinaryOp::Times if floats => {
                    return refuse(
                        KeptReason::TypeDiffers,
                        "floating-point overflow is an error there and infinity here".into(),
                    );
                }
                BinaryOp::Divide | BinaryOp::Modulo if floats => {
                    return refuse(KeptReason::TypeDiffers, "floating-point division may differ at its limits".into());
                }
                BinaryOp::Divide if matches!(sql_type, SqlType::Numeric { .. }) => {
                    return refuse(KeptReason::TypeDiffers, "the server chooses another scale for a quotient".into());
                }
                op if op.is_comparison() && matches!(operand, SqlType::Interval | SqlType::Uuid | SqlType::Json) => {
                    return refuse(KeptReason::TypeDiffers, format!("{operand} is compared in another way"));
                }
                _ => {}
            }
            let (l, r) = (sub(left)?, sub(right)?);
            let symbol = match op {
                BinaryOp::IsDistinctFrom => "IS DISTINCT FROM",
                BinaryOp::IsNotDistinctFrom => "IS NOT DISTINCT FROM",
                BinaryOp::And => "AND",
                BinaryOp::Or => "OR",
                other => other.symbol(),
            };
            // The engine orders text by bytes; the server is told to do the same.
            let by_bytes =
                operand == SqlType::Text && matches!(op, BinaryOp::Lt | BinaryOp::LtEq | BinaryOp::Gt | BinaryOp::GtEq);
            let collation = if by_bytes { " COLLATE \"C\"" } else { "" };
            let plain = wrap(&[&l, &r], &format!("(? {symbol} ?{collation})"));
            // The engine's numerics have fixed digits: a result that needs more is an error there as it is here.
            Ok(match (op.is_arithmetic(), sql_type) {
                (true, SqlType::Numeric { .. }) => wrap(&[&plain], &format!("?::{sql_type}")),
                _ => plain,
            })
        }
        Expr::Not(operand) => Ok(wrap(&[&sub(operand)?], "(NOT ?)")),
        Expr::Negate(operand) => Ok(wrap(&[&sub(operand)?], "(- ?)")),
        Expr::IsNull { operand, negated } => {
            Ok(wrap(&[&sub(operand)?], if *negated { "(? IS NOT NULL)" } else { "(? IS NULL)" }))
        }
        Expr::Like { case_insensitive: true, .. } => {
            refuse(KeptReason::CollationDiffers, "upper and lower case depend on the server's locale".into())
        }
        Expr::Like { operand, pattern, negated, .. } => {
            let word = if *negated { "NOT LIKE" } else { "LIKE" };
            Ok(wrap(&[&sub(operand)?, &sub(pattern)?], &format!("(? {word} ?)")))
        }
        Expr::InList { operand, list, negated } => {
            if matches!(operand.sql_type(), SqlType::Interval | SqlType::Uuid | SqlType::Json) {
                return refuse(KeptReason::TypeDiffers, format!("{} is compared in another way", operand.sql_type()));
            }
            let items = list.iter().map(sub).collect::<Result<Vec<_>, _>>()?;
            let items = Sql::joined(&items, ", ");
            Ok(wrap(&[&sub(operand)?, &items], if *negated { "(? NOT IN (?))" } else { "(? IN (?))" }))
        }
        Expr::Case { branches, otherwise, sql_type } => {
            let mut out = Sql::new("(CASE");
            for (when, then) in branches {
                out.push(&wrap(&[&sub(when)?, &sub(then)?], " WHEN ? THEN ?"));
            }
            out.push(&wrap(&[&sub(otherwise)?], &format!(" ELSE ? END)::{}", type_name(sql_type))));
            Ok(out)
        }
        Expr::Cast { operand, sql_type } => {
            use SqlType as T;
            let from = operand.sql_type();
            let same = match (&from, sql_type) {
                (a, b) if a.is_integer() && b.is_integer() => true,
                (a, T::Numeric { .. } | T::Double) if a.is_integer() => true,
                (T::Numeric { .. }, T::Numeric { .. }) => true,
                (T::Numeric { .. }, b) if b.is_integer() => true,
                (T::Real, T::Double) => true,
                (T::Date, T::Timestamp | T::TimestampTz) | (T::Timestamp | T::TimestampTz, T::Date) => true,
                (T::Timestamp, T::TimestampTz) | (T::TimestampTz, T::Timestamp) => true,
                (a, T::Text) if a.is_integer() || matches!(a, T::Numeric { .. } | T::Boolean | T::Date) => true,
                _ => false,
            };
            if !same {
                return refuse(KeptReason::TypeDiffers, format!("a cast from {from} to {sql_type} may differ there"));
            }
            Ok(wrap(&[&sub(operand)?], &format!("?::{}", type_name(sql_type))))
        }
        Expr::Call { function, arguments, sql_type } => functions::call(*function, arguments, sql_type, &sub),
        Expr::Script { function, .. } => refuse(
            KeptReason::OpaqueFunction,
            format!("{}() is a script, which runs only in the engine; one in SQL would be seen through", function.name),
        ),
        Expr::Field { .. } | Expr::Subscript { .. } | Expr::Parameter { .. } => {
            refuse(KeptReason::TypeDiffers, "nested values are built by the engine".into())
        }
    }
}
