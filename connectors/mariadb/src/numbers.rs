//! Arithmetic in MariaDB: exact types only, cast to the types that the server has for them. A result outside the range of its SQL type raises an
//! error at the server, as it does in the engine.

use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::offer::KeptReason;
use cobble_types::{SqlType, Value};

use cobble_connect_sql::{Refusal, Sql, wrap};

/// Longer texts than this are not computed with: an operand stands in the text several times.
pub const LONGEST_OPERAND: usize = 2_000;

pub fn differs(note: &str) -> Refusal {
    (KeptReason::TypeDiffers, note.to_owned())
}

/// A whole number or a decimal as the signed type in which the server computes with it.
pub fn signed(sql: &Sql, sql_type: &SqlType) -> Result<Sql, Refusal> {
    match sql_type {
        SqlType::SmallInt | SqlType::Integer | SqlType::BigInt => Ok(wrap(&[sql], "CAST(? AS SIGNED)")),
        SqlType::Numeric { precision, scale } => Ok(wrap(&[sql], &format!("CAST(? AS DECIMAL({precision},{scale}))"))),
        _ => Err(differs("results and their ranges have other types there")),
    }
}

/// A result of whole numbers, computed in 64 bits, that leaves the range of its type is made to leave that of 64 bits.
pub fn ranged(sql: Sql, sql_type: &SqlType) -> Result<Sql, Refusal> {
    let (least, greatest) = match sql_type {
        SqlType::SmallInt => (i64::from(i16::MIN), i64::from(i16::MAX)),
        SqlType::Integer => (i64::from(i32::MIN), i64::from(i32::MAX)),
        _ => return Ok(sql),
    };
    if sql.size() > LONGEST_OPERAND {
        return Err(differs("it would be too long to check its range there"));
    }
    let pattern = format!("if(? BETWEEN {least} AND {greatest}, ?, {} + abs(?))", i64::MAX);
    Ok(wrap(&[&sql, &sql, &sql], &pattern))
}

/// A divisor that is constant and neither 0, which gives null there, nor -1.
fn is_divisor(expr: &Expr) -> bool {
    match expr {
        Expr::Literal { value: Value::SmallInt(v), .. } => !matches!(v, 0 | -1),
        Expr::Literal { value: Value::Integer(v), .. } => !matches!(v, 0 | -1),
        Expr::Literal { value: Value::BigInt(v), .. } => !matches!(v, 0 | -1),
        Expr::Cast { operand, sql_type } if sql_type.is_integer() => is_divisor(operand),
        _ => false,
    }
}

/// Sums, differences and products where no result is rounded or cut, and whole quotients.
pub fn arithmetic(op: BinaryOp, sides: (&Expr, &Expr), texts: (Sql, Sql), result: &SqlType) -> Result<Sql, Refusal> {
    let (left, right) = sides;
    let (l, r) = (signed(&texts.0, &left.sql_type())?, signed(&texts.1, &right.sql_type())?);
    match (op, result) {
        (BinaryOp::Plus | BinaryOp::Minus | BinaryOp::Times, result) if result.is_integer() => {
            ranged(wrap(&[&l, &r], &format!("(? {} ?)", op.symbol())), result)
        }
        (BinaryOp::Divide | BinaryOp::Modulo, result) if result.is_integer() && is_divisor(right) => {
            let word = if op == BinaryOp::Divide { "DIV" } else { "MOD" };
            Ok(wrap(&[&l, &r], &format!("(? {word} ?)")))
        }
        (BinaryOp::Divide | BinaryOp::Modulo, _) => Err(differs("a division by zero is null there")),
        (BinaryOp::Plus | BinaryOp::Minus | BinaryOp::Times, SqlType::Numeric { precision, scale }) => {
            let (Some(a), Some(b)) = (left.sql_type().digits(), right.sql_type().digits()) else {
                return Err(differs("results and their ranges have other types there"));
            };
            let (a, b) = ((i16::from(a.0), i16::from(a.1)), (i16::from(b.0), i16::from(b.1)));
            let (whole, fraction) = match op {
                BinaryOp::Times => (a.0 - a.1 + b.0 - b.1, a.1 + b.1),
                _ => ((a.0 - a.1).max(b.0 - b.1) + 1, a.1.max(b.1)),
            };
            let (precision, scale) = (i16::from(*precision), i16::from(*scale));
            if scale != fraction || precision - scale < whole {
                return Err(differs("a result of so many digits is rounded or cut in another way"));
            }
            Ok(wrap(&[&l, &r], &format!("(? {} ?)", op.symbol())))
        }
        _ => Err(differs("results and their ranges have other types there")),
    }
}
