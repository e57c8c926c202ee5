//! Expressions as PostgreSQL text. Only what provably means the same there is translated; the rest says why not.

use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::offer::KeptReason;
use cobble_types::{SqlType, Value};

use super::dialect::PostgresDialect;
use cobble_connect_sql::expression::cast_differs;
use cobble_connect_sql::{Columns, Dialect, Parameter, Refusal, Sql, wrap};

/// The server's name of one of our types.
pub fn type_name(sql_type: &SqlType) -> String {
    match sql_type {
        SqlType::Null => "text".to_owned(),
        other => other.to_string(),
    }
}

/// Types that compare in another way there.
fn comparable(own: &SqlType) -> Result<(), Refusal> {
    match own {
        SqlType::Interval | SqlType::Uuid | SqlType::Json => Err(differs(format!("{own} is compared in another way"))),
        _ => Ok(()),
    }
}

fn differs(note: impl Into<String>) -> Refusal {
    (KeptReason::TypeDiffers, note.into())
}

pub fn literal(value: &Value, sql_type: &SqlType) -> Result<Sql, Refusal> {
    match (value, sql_type) {
        (Value::Null, _) => Ok(Sql::new(format!("NULL::{}", type_name(sql_type)))),
        (Value::Boolean(v), _) => Ok(Sql::new(if *v { "true" } else { "false" })),
        (_, SqlType::Uuid | SqlType::Json | SqlType::Array(_) | SqlType::Row(_)) => {
            Err(differs(format!("{sql_type} is text in the engine")))
        }
        _ => Ok(Sql::parameter(Parameter(value.clone(), sql_type.clone()))),
    }
}

pub fn compared(op: BinaryOp, sides: [&Expr; 2], columns: Columns<'_>) -> Result<Sql, Refusal> {
    let own = sides[0].sql_type();
    comparable(&own)?;
    let [left, right] = [PostgresDialect.translate(sides[0], columns)?, PostgresDialect.translate(sides[1], columns)?];
    let symbol = match op {
        BinaryOp::IsDistinctFrom => "IS DISTINCT FROM",
        BinaryOp::IsNotDistinctFrom => "IS NOT DISTINCT FROM",
        other => other.symbol(),
    };
    // The engine orders text by bytes; the server is told to do the same.
    let by_bytes = own == SqlType::Text && matches!(op, BinaryOp::Lt | BinaryOp::LtEq | BinaryOp::Gt | BinaryOp::GtEq);
    let collation = if by_bytes { " COLLATE \"C\"" } else { "" };
    Ok(wrap(&[&left, &right], &format!("(? {symbol} ?{collation})")))
}

pub fn computed(op: BinaryOp, sides: [&Expr; 2], result: &SqlType, columns: Columns<'_>) -> Result<Sql, Refusal> {
    let floats = sides.iter().any(|side| side.sql_type().is_float());
    match op {
        BinaryOp::Plus | BinaryOp::Minus | BinaryOp::Times if floats => {
            return Err(differs("floating-point overflow is an error there and infinity here"));
        }
        BinaryOp::Divide | BinaryOp::Modulo if floats => {
            return Err(differs("floating-point division may differ at its limits"));
        }
        BinaryOp::Divide if matches!(result, SqlType::Numeric { .. }) => {
            return Err(differs("the server chooses another scale for a quotient"));
        }
        _ => {}
    }
    let [left, right] = [PostgresDialect.translate(sides[0], columns)?, PostgresDialect.translate(sides[1], columns)?];
    let plain = wrap(&[&left, &right], &format!("(? {} ?)", op.symbol()));
    // The engine's numerics have fixed digits: a result that needs more is an error there as it is here.
    Ok(match (op.is_arithmetic(), result) {
        (true, SqlType::Numeric { .. }) => wrap(&[&plain], &format!("?::{result}")),
        _ => plain,
    })
}

pub fn listed(operand: &Expr, list: &[Expr], columns: Columns<'_>) -> Result<(Sql, Vec<Sql>), Refusal> {
    comparable(&operand.sql_type())?;
    let list = list.iter().map(|item| PostgresDialect.translate(item, columns)).collect::<Result<_, _>>()?;
    Ok((PostgresDialect.translate(operand, columns)?, list))
}

pub fn cast(operand: &Expr, to: &SqlType, columns: Columns<'_>) -> Result<Sql, Refusal> {
    use SqlType as T;
    let from = operand.sql_type();
    let same = match (&from, to) {
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
    match same {
        true => Ok(wrap(&[&PostgresDialect.translate(operand, columns)?], &format!("?::{}", type_name(to)))),
        false => Err(cast_differs(&from, to)),
    }
}
