//! Implicit coercion, PostgreSQL's way: a quoted literal takes the type of what it meets, numbers widen, dates become
//! timestamps; nothing else changes its type unasked.

use cobble_functions::{Function, united_type, wider_type};
use cobble_plan::aggregate::DIVISION_SCALE;
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_types::array_text::{ArrayItem, parse_array};
use cobble_types::parse::{parse_value, rescale_decimal};
use cobble_types::{Code, Error, Result, SqlType, Value};

/// A quoted literal whose type is still open.
pub fn is_untyped(expr: &Expr) -> bool {
    matches!(expr, Expr::Literal { sql_type: SqlType::Null, .. } | Expr::Parameter { sql_type: SqlType::Null, .. })
}

/// The expression as `target`: literals are read as that type at once, others are cast.
pub fn coerce(expr: Expr, target: &SqlType) -> Result<Expr> {
    match expr {
        Expr::Literal { value: Value::Null, .. } => Ok(Expr::Literal { value: Value::Null, sql_type: target.clone() }),
        // These are checked where they are computed, as a cast from text is.
        Expr::Literal { value: Value::Text(text), sql_type: SqlType::Null }
            if matches!(target, SqlType::Uuid | SqlType::Json) =>
        {
            Ok(Expr::Literal { value: Value::Text(text), sql_type: SqlType::Text }.cast(target.clone()))
        }
        Expr::Literal { value: Value::Text(text), sql_type: SqlType::Null } if matches!(target, SqlType::Array(_)) => {
            array_literal(&text, target)
        }
        Expr::Literal { value: Value::Text(text), sql_type: SqlType::Null } => {
            let value = parse_value(&text, target)?;
            Ok(Expr::Literal { value, sql_type: target.clone() })
        }
        Expr::Parameter { number, sql_type: SqlType::Null } => Ok(Expr::Parameter { number, sql_type: target.clone() }),
        other => Ok(other.cast(target.clone())),
    }
}

/// The text of an array, whose items are read as the type's innermost one.
fn array_literal(text: &str, target: &SqlType) -> Result<Expr> {
    let mut innermost = target;
    while let SqlType::Array(item) = innermost {
        innermost = item;
    }
    let items = parse_array(text).ok_or_else(|| {
        Error::new(Code::InvalidText, format!("'{text}' does not read as {target}")).hint("such as '{1,2,3}'")
    })?;
    array_of(items, innermost)
}

fn array_of(items: Vec<ArrayItem>, innermost: &SqlType) -> Result<Expr> {
    let expr = |item| match item {
        ArrayItem::Array(inner) => array_of(inner, innermost),
        ArrayItem::Null => coerce(Expr::Literal { value: Value::Null, sql_type: SqlType::Null }, innermost),
        ArrayItem::Text(text) => coerce(Expr::Literal { value: Value::Text(text), sql_type: SqlType::Null }, innermost),
    };
    let arguments = items.into_iter().map(expr).collect::<Result<Vec<_>>>()?;
    let item = arguments.first().map_or(innermost.clone(), Expr::sql_type);
    Ok(Expr::Call { function: Function::MakeArray, arguments, sql_type: SqlType::Array(Box::new(item)) })
}

/// An open literal becomes text; used where an expression leaves a query.
pub fn settle(expr: Expr) -> Result<Expr> {
    if is_untyped(&expr) { coerce(expr, &SqlType::Text) } else { Ok(expr) }
}

/// Both sides in their common type.
pub fn unify(left: Expr, right: Expr, what: &str) -> Result<(Expr, Expr, SqlType)> {
    let (l, r) = (left.sql_type(), right.sql_type());
    // A time of day is an interval for operators, but no form of one for CASE and its like.
    match (&l, &r) {
        (SqlType::Interval, SqlType::Time) if what.starts_with('"') => {
            return Ok((left, right.cast(SqlType::Interval), SqlType::Interval));
        }
        (SqlType::Time, SqlType::Interval) if what.starts_with('"') => {
            return Ok((left.cast(SqlType::Interval), right, SqlType::Interval));
        }
        _ => {}
    }
    // A constant that the other side's type holds exactly takes that type: a cast around a column would hide the column
    // from everything that works on plain comparisons, such as skipping by minimum and maximum.
    if let Some(right) = exact_literal(&right, &l) {
        return Ok((left, right, l));
    }
    if let Some(left) = exact_literal(&left, &r) {
        return Ok((left, right, r));
    }
    let target = match wider_type(&l, &r) {
        Some(SqlType::Null) => SqlType::Text,
        Some(target) => target,
        None => return Err(mismatch(what, &l, &r)),
    };
    Ok((coerce(left, &target)?, coerce(right, &target)?, target))
}

/// A whole or decimal constant as another exact number type, when nothing is lost.
pub fn exact_literal(expr: &Expr, target: &SqlType) -> Option<Expr> {
    let Expr::Literal { value, .. } = expr else { return None };
    let (unscaled, scale) = match value {
        Value::SmallInt(v) => (i128::from(*v), 0),
        Value::Integer(v) => (i128::from(*v), 0),
        Value::BigInt(v) => (i128::from(*v), 0),
        Value::Numeric { unscaled, scale, .. } => (*unscaled, *scale),
        _ => return None,
    };
    let (_, target_scale) = target.digits()?;
    let rescaled = rescale_decimal(unscaled, scale, target_scale)?;
    if rescale_decimal(rescaled, target_scale, scale) != Some(unscaled) {
        return None;
    }
    let value = match target {
        SqlType::SmallInt => Value::SmallInt(rescaled.try_into().ok()?),
        SqlType::Integer => Value::Integer(rescaled.try_into().ok()?),
        SqlType::BigInt => Value::BigInt(rescaled.try_into().ok()?),
        SqlType::Numeric { precision, scale } if rescaled.unsigned_abs() < 10u128.pow(u32::from(*precision)) => {
            Value::Numeric { unscaled: rescaled, precision: *precision, scale: *scale }
        }
        _ => return None,
    };
    Some(Expr::literal(value))
}

fn mismatch(what: &str, left: &SqlType, right: &SqlType) -> Error {
    // Quoted, it is an operator; otherwise a construct of the language.
    let code = if what.starts_with('"') { Code::UnknownFunction } else { Code::TypeMismatch };
    Error::new(code, format!("{what} does not take {left} and {right}"))
        .hint(format!("cast one side, such as ::{left}"))
}

/// All expressions in their common type.
pub fn unify_all(expressions: Vec<Expr>, what: &str) -> Result<(Vec<Expr>, SqlType)> {
    let mut target = SqlType::Null;
    for expr in &expressions {
        let own = expr.sql_type();
        target = united_type(&target, &own).ok_or_else(|| mismatch(what, &target, &own))?;
    }
    if target == SqlType::Null {
        target = SqlType::Text;
    }
    let coerced = expressions.into_iter().map(|expr| coerce(expr, &target)).collect::<Result<_>>()?;
    Ok((coerced, target))
}

/// A typed binary operation.
pub fn binary(op: BinaryOp, left: Expr, right: Expr) -> Result<Expr> {
    let build = |left: Expr, right: Expr, sql_type: SqlType| {
        Ok(Expr::Binary { op, left: Box::new(left), right: Box::new(right), sql_type })
    };
    // Beside a text that is one, `||` joins texts, whatever the other side is.
    let is_text = |side: &Expr| side.sql_type() == SqlType::Text && !is_untyped(side);
    let beside = |wanted: SqlType| {
        [&left, &right].iter().any(|side| side.sql_type() == wanted) && !is_text(&left) && !is_text(&right)
    };
    match op {
        BinaryOp::And | BinaryOp::Or => {
            build(condition(left, op.symbol())?, condition(right, op.symbol())?, SqlType::Boolean)
        }
        BinaryOp::Concat
            if matches!((left.sql_type(), right.sql_type()), (SqlType::Array(_), _) | (_, SqlType::Array(_))) =>
        {
            // An open literal beside an array is one of its type (PostgreSQL manual 8.15.4).
            let (own, other) = (left.sql_type(), right.sql_type());
            let left = if is_untyped(&left) { coerce(left, &other)? } else { left };
            let right = if is_untyped(&right) { coerce(right, &own)? } else { right };
            let function = match (left.sql_type(), right.sql_type()) {
                (SqlType::Array(_), SqlType::Array(_)) => Function::ArrayCat,
                (SqlType::Array(_), _) => Function::ArrayAppend,
                _ => Function::ArrayPrepend,
            };
            crate::function::call(function, vec![left, right])
        }
        BinaryOp::Concat if beside(SqlType::Json) => crate::function::call(Function::JsonConcat, vec![left, right])
            .map_err(|_| mismatch("\"||\"", &SqlType::Json, &SqlType::Text)),
        BinaryOp::Concat if beside(SqlType::Bytea) => {
            let (l, r) = (left.sql_type(), right.sql_type());
            crate::function::call(Function::ByteConcat, vec![left, right]).map_err(|_| mismatch("\"||\"", &l, &r))
        }
        BinaryOp::Concat => {
            let (l, r) = (left.sql_type(), right.sql_type());
            let is_text = |own: &SqlType| matches!(own, SqlType::Text | SqlType::Null);
            if !is_text(&l) && !is_text(&r) {
                return Err(mismatch("\"||\"", &l, &r));
            }
            let side = |expr: Expr| {
                if is_untyped(&expr) { coerce(expr, &SqlType::Text) } else { Ok(expr.cast(SqlType::Text)) }
            };
            build(side(left)?, side(right)?, SqlType::Text)
        }
        op if op.is_comparison() => {
            let (left, right, common) = unify(left, right, &format!("\"{}\"", op.symbol()))?;
            if common == SqlType::Json {
                // Documents are compared by a key that orders them.
                let key = |side| crate::function::call(Function::JsonOrder, vec![side]);
                return build(key(left)?, key(right)?, SqlType::Boolean);
            }
            if !common.is_ordered() {
                return Err(Error::new(Code::UnknownFunction, format!("values of type {common} cannot be compared")));
            }
            build(left, right, SqlType::Boolean)
        }
        _ => arithmetic(op, left, right),
    }
}

/// A condition must be boolean; an open literal is read as one.
pub fn condition(expr: Expr, place: &str) -> Result<Expr> {
    match expr.sql_type() {
        SqlType::Boolean => Ok(expr),
        SqlType::Null => coerce(expr, &SqlType::Boolean),
        other => Err(Error::new(Code::TypeMismatch, format!("{place} takes a boolean, not {other}"))),
    }
}

fn arithmetic(op: BinaryOp, left: Expr, right: Expr) -> Result<Expr> {
    use SqlType::*;
    let (l, r) = (left.sql_type(), right.sql_type());
    let typed = |left: Expr, right: Expr, sql_type: SqlType| {
        Ok(Expr::Binary { op, left: Box::new(left), right: Box::new(right), sql_type })
    };
    let no_operator = || mismatch(&format!("\"{}\"", op.symbol()), &l, &r);
    match (op, &l, &r) {
        (BinaryOp::Plus | BinaryOp::Minus, Date, number) if number.is_integer() => {
            typed(left, coerce(right, &Integer)?, Date)
        }
        (BinaryOp::Plus, number, Date) if number.is_integer() => typed(right, coerce(left, &Integer)?, Date),
        (BinaryOp::Minus, Date, Date) => typed(left, right, Integer),
        (BinaryOp::Minus, Date, Null) => typed(left, coerce(right, &Date)?, Integer),
        (BinaryOp::Plus | BinaryOp::Minus, Date, Interval) => typed(coerce(left, &Timestamp)?, right, Timestamp),
        (BinaryOp::Plus | BinaryOp::Minus, Timestamp | TimestampTz, Interval) => {
            let own = l.clone();
            typed(left, right, own)
        }
        (BinaryOp::Plus, Interval, Timestamp | TimestampTz) => {
            let own = r.clone();
            typed(right, left, own)
        }
        (BinaryOp::Plus, Interval, Date) => typed(coerce(right, &Timestamp)?, left, Timestamp),
        (BinaryOp::Minus, Timestamp | TimestampTz | Date, Timestamp | TimestampTz | Date) => {
            let (left, right, _) = unify(left, right, "\"-\"")?;
            typed(left, right, Interval)
        }
        (BinaryOp::Plus | BinaryOp::Minus, Interval, Interval) => typed(left, right, Interval),
        (BinaryOp::Plus, Date, Time) | (BinaryOp::Plus, Time, Date) => {
            let (date, time) = if l == Date { (left, right) } else { (right, left) };
            typed(coerce(date, &Timestamp)?, time.cast(Interval), Timestamp)
        }
        (BinaryOp::Plus, Timestamp | TimestampTz, Time) => {
            let own = l.clone();
            typed(left, right.cast(Interval), own)
        }
        (BinaryOp::Plus, Time, Timestamp | TimestampTz) => {
            let own = r.clone();
            typed(right, left.cast(Interval), own)
        }
        (BinaryOp::Plus | BinaryOp::Minus, Time, Interval) => typed(left, right, Time),
        (BinaryOp::Plus, Interval, Time) => typed(right, left, Time),
        (BinaryOp::Minus, Time, Time) => typed(left, right, Interval),
        (BinaryOp::Times | BinaryOp::Divide, Interval, number) if number.is_number() => {
            typed(left, coerce(right, &Double)?, Interval)
        }
        (BinaryOp::Times, number, Interval) if number.is_number() => typed(right, coerce(left, &Double)?, Interval),
        (BinaryOp::Times | BinaryOp::Divide, Time, number) if number.is_number() => {
            arithmetic(op, left.cast(Interval), right)
        }
        (BinaryOp::Times, number, Time) if number.is_number() => arithmetic(op, left, right.cast(Interval)),
        _ => {
            // An open literal takes the other side's type.
            let (left, right) = match (is_untyped(&left), is_untyped(&right)) {
                (true, true) => return Err(no_operator()),
                (true, false) => (coerce(left, &r)?, right),
                (false, true) => {
                    let right = coerce(right, &l)?;
                    (left, right)
                }
                (false, false) => (left, right),
            };
            let common =
                wider_type(&left.sql_type(), &right.sql_type()).filter(SqlType::is_number).ok_or_else(no_operator)?;
            match &common {
                // Only exact numbers report a remainder.
                Real | Double if op == BinaryOp::Modulo => Err(no_operator()),
                Numeric { .. } => {
                    let sides = (left.sql_type().digits(), right.sql_type().digits());
                    let (Some((p, s)), Some((q, t))) = sides else { return Err(no_operator()) };
                    let result = numeric_result(op, (p, s), (q, t));
                    let left = coerce(left, &Numeric { precision: p, scale: s })?;
                    let right = coerce(right, &Numeric { precision: q, scale: t })?;
                    typed(left, right, result)
                }
                _ => {
                    let (left, right) = (coerce(left, &common)?, coerce(right, &common)?);
                    typed(left, right, common)
                }
            }
        }
    }
}

/// PostgreSQL's scale for numeric results; the precision is what the engine's 38 digits allow.
fn numeric_result(op: BinaryOp, (p, s): (u8, i8), (q, t): (u8, i8)) -> SqlType {
    let whole = (i16::from(p) - i16::from(s)).max(i16::from(q) - i16::from(t));
    let (precision, scale) = match op {
        BinaryOp::Plus | BinaryOp::Minus => (whole + i16::from(s.max(t)) + 1, s.max(t)),
        BinaryOp::Times => (i16::from(p) + i16::from(q), s + t),
        BinaryOp::Divide => (38, s.max(t).max(DIVISION_SCALE)),
        _ => (whole + i16::from(s.max(t)), s.max(t)),
    };
    SqlType::Numeric { precision: precision.clamp(1, 38) as u8, scale: scale.min(38) }
}
