//! Functions that give the same result in MariaDB. Texts are counted in characters of utf8mb4 and compared by bytes. Positions and counts are pushed
//! down only as constants, because other functions read values below one in another way.

use cobble_functions::Function;
use cobble_plan::expr::Expr;
use cobble_plan::offer::KeptReason;
use cobble_types::{SqlType, Value};

use super::dialect::BYTES;
use super::numbers::{LONGEST_OPERAND, differs, ranged, signed};
use cobble_connect_sql::{Refusal, Sql, wrap};

/// Characters up to which texts are filled there.
const LONGEST_FILL: i32 = 10_000;

fn constant(expr: &Expr) -> Option<i32> {
    match expr {
        Expr::Literal { value: Value::Integer(v), .. } => Some(*v),
        Expr::Cast { operand, .. } => constant(operand),
        _ => None,
    }
}

fn constant_text(expr: &Expr) -> Option<&str> {
    match expr {
        Expr::Literal { value: Value::Text(text), .. } => Some(text),
        _ => None,
    }
}

/// Texts one after another. What would be longer than a packet is null there, and made an error.
pub fn concatenated(parts: &[&Sql]) -> Result<Sql, Refusal> {
    let pattern =
        "coalesce(concat(?, ?), if(? IS NULL OR ? IS NULL, NULL, CAST(9223372036854775807 + (1 + length(?)) AS CHAR)))";
    let [left, right] = parts else {
        return Err((KeptReason::FunctionDiffers, "texts are put together two at a time".to_owned()));
    };
    if left.size() + right.size() > LONGEST_OPERAND {
        return Err(differs("it would be too long to check its length there"));
    }
    Ok(wrap(&[left, right, left, right, left], pattern))
}

/// A call with its translated arguments.
pub fn call(function: Function, arguments: &[Expr], sql: &[Sql], result: &SqlType) -> Result<Sql, Refusal> {
    let unlike = || {
        let note = format!("{}() is not known to give the same answer there", function.name());
        Err((KeptReason::FunctionDiffers, note))
    };
    let number = |place: usize| arguments.get(place).and_then(constant);
    let first = arguments.first().map(Expr::sql_type);
    let all: Vec<&Sql> = sql.iter().collect();
    let text = |pattern: &str| Ok(wrap(&all, pattern));
    match (function, all.as_slice()) {
        (Function::Length, [_]) => text("char_length(?)"),
        (Function::OctetLength, [_]) => text("length(?)"),
        (Function::BitLength, [_]) => text("bit_length(?)"),
        (Function::Reverse, [_]) => text("reverse(?)"),
        (Function::Md5, [_]) => text("md5(?)"),
        (Function::Substring, [_, _]) if number(1) >= Some(1) => text("substring(?, ?)"),
        (Function::Substring, [_, _, _]) if number(1) >= Some(1) && number(2) >= Some(0) => text("substring(?, ?, ?)"),
        (Function::Left, [_, _]) if number(1) >= Some(0) => text("left(?, ?)"),
        (Function::Right, [_, _]) if number(1) >= Some(0) => text("right(?, ?)"),
        (Function::Trim, [_]) => text("trim(?)"),
        (Function::TrimStart, [_]) => text("ltrim(?)"),
        (Function::TrimEnd, [_]) => text("rtrim(?)"),
        // Nothing becomes longer, so that nothing can become too long.
        (Function::Replace, [_, _, _])
            if matches!((constant_text(&arguments[1]), constant_text(&arguments[2])),
                (Some(from), Some(to)) if to.len() <= from.len()) =>
        {
            text("replace(?, ?, ?)")
        }
        (Function::Position, [whole, part]) => Ok(wrap(&[part, whole], &format!("locate(?, ? {BYTES})"))),
        (Function::StartsWith, [whole, prefix]) => {
            Ok(wrap(&[whole, prefix, prefix], &format!("(left(?, char_length(?)) {BYTES} = ?)")))
        }
        (Function::PadStart | Function::PadEnd, [_, _, rest @ ..])
            if (Some(0)..=Some(LONGEST_FILL)).contains(&number(1))
                && (rest.is_empty() || constant_text(&arguments[2]).is_some_and(|fill| !fill.is_empty())) =>
        {
            let name = function.name();
            text(&if rest.is_empty() { format!("{name}(?, ?, ' ')") } else { format!("{name}(?, ?, ?)") })
        }
        (Function::Abs, [operand]) => {
            let own = first.unwrap_or(SqlType::Null);
            ranged(wrap(&[&signed(operand, &own)?], "abs(?)"), &own)
        }
        (Function::Ceil | Function::Floor | Function::Sign, [operand]) => match first {
            Some(own @ SqlType::Numeric { .. }) => {
                let name = function.name();
                Ok(wrap(&[&signed(operand, &own)?], &format!("{name}(?)")))
            }
            _ => unlike(),
        },
        (Function::Round | Function::Trunc, [operand, ..]) => match (first, number(1), arguments.len()) {
            (Some(own @ SqlType::Numeric { .. }), digits, count) if count == 1 || digits >= Some(0) => {
                let name = if function == Function::Round { "round" } else { "truncate" };
                let digits = digits.unwrap_or(0);
                Ok(wrap(&[&signed(operand, &own)?], &format!("{name}(?, {digits})")))
            }
            _ => unlike(),
        },
        // A null does not count here, and makes the whole null there.
        (Function::Greatest | Function::Least, [a, b])
            if result.is_integer() || matches!(result, SqlType::Numeric { .. }) =>
        {
            let (left, right) = (signed(a, &arguments[0].sql_type())?, signed(b, &arguments[1].sql_type())?);
            let name = function.name();
            Ok(wrap(&[&left, &right, &left, &right], &format!("coalesce({name}(?, ?), ?, ?)")))
        }
        _ => unlike(),
    }
}
