//! Typing of function calls. The registry says what each function takes, how arguments are coerced, and what comes out; a few calls
//! are written in other words first, because they depend on a constant or mean another expression.

use cobble_functions::{Function, Given, united_type};
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_types::{Code, Error, Result, SqlType, Value};

use crate::coerce::{binary, coerce, is_untyped, settle};

/// A typed call, or an error that shows how the function is called.
pub fn call(function: Function, arguments: Vec<Expr>) -> Result<Expr> {
    let given: Vec<String> = arguments.iter().map(|a| a.sql_type().to_string()).collect();
    typed(function, arguments).map_err(|error| {
        if error.code != Code::TypeMismatch {
            return error;
        }
        let name = function.name();
        Error::new(Code::UnknownFunction, format!("{name}({}) does not exist", given.join(", ")))
            .hint(format!("it is called as {name}({})", function.entry().arguments))
    })
}

fn wrong() -> Error {
    Error::new(Code::TypeMismatch, "wrong arguments")
}

fn typed(function: Function, arguments: Vec<Expr>) -> Result<Expr> {
    match written(function, arguments)? {
        Written::Done(expr) => Ok(expr),
        Written::Call(arguments) => resolved(function, arguments),
    }
}

/// The call by the first overload that takes these arguments.
fn resolved(function: Function, arguments: Vec<Expr>) -> Result<Expr> {
    let given: Vec<Given> =
        arguments.iter().map(|a| Given { sql_type: a.sql_type(), number: constant_integer(a) }).collect();
    let found = function.entry().resolve(&given).ok_or_else(wrong)?;
    Ok(Expr::Call { function, arguments: coerced(arguments, &found.arguments)?, sql_type: found.returns })
}

/// The arguments in the types that an overload takes.
pub fn coerced(arguments: Vec<Expr>, wanted: &[SqlType]) -> Result<Vec<Expr>> {
    let coerced = arguments.into_iter().zip(wanted).map(|(argument, wanted)| {
        if argument.sql_type() == *wanted {
            return Ok(argument);
        }
        let coerced = coerce(argument, wanted)?;
        // The text of an array may be one of several dimensions.
        match coerced.sql_type() == *wanted {
            true => Ok(coerced),
            false => Err(Error::new(Code::ArraySubscript, "an array of one dimension is wanted, not one of several")),
        }
    });
    coerced.collect()
}

/// A call after it has been looked at for what the registry does not say.
enum Written {
    /// It means this expression.
    Done(Expr),
    /// It is a call with these arguments.
    Call(Vec<Expr>),
}

fn exactly<const N: usize>(arguments: Vec<Expr>) -> Result<[Expr; N]> {
    arguments.try_into().map_err(|_| wrong())
}

fn text(text: &str) -> Expr {
    Expr::literal(Value::Text(text.to_owned()))
}

fn is_array(expr: &Expr) -> bool {
    matches!(expr.sql_type(), SqlType::Array(_))
}

#[expect(clippy::too_many_lines)]
fn written(function: Function, arguments: Vec<Expr>) -> Result<Written> {
    use Function::*;
    Ok(Written::Call(match function {
        // Only the binder makes calls of them, and knows their types.
        _ if !function.entry().callable => return Err(wrong()),
        Length if arguments.len() == 2 => {
            return typed(Length, vec![typed(ConvertFrom, arguments)?]).map(Written::Done);
        }
        Concat | ConcatWs => arguments.into_iter().map(output_text).collect::<Result<_>>()?,
        Format => {
            let mut parts = arguments.into_iter();
            let first = parts.next().ok_or_else(wrong)?;
            std::iter::once(Ok(first)).chain(parts.map(output_text)).collect::<Result<_>>()?
        }
        Normalize => {
            if let Some(form) = arguments.get(1).and_then(constant_text)
                && !["NFC", "NFD", "NFKC", "NFKD"].iter().any(|known| known.eq_ignore_ascii_case(&form))
            {
                return Err(Error::new(Code::InvalidValue, format!("there is no normal form \"{form}\""))
                    .hint("they are NFC, NFD, NFKC and NFKD"));
            }
            arguments
        }
        DatePart => return date_part(arguments).map(Written::Done),
        DateTrunc => return date_trunc(arguments).map(Written::Done),
        AtTimeZone => {
            let [zone, time] = exactly(arguments)?;
            if zone.sql_type() != SqlType::Interval {
                return Ok(Written::Call(vec![zone, time]));
            }
            // So far east of UTC.
            let at_utc = |time| typed(AtTimeZone, vec![text("UTC"), time]);
            return match time.sql_type() {
                SqlType::TimestampTz => binary(BinaryOp::Plus, at_utc(time)?, zone),
                SqlType::Timestamp => at_utc(binary(BinaryOp::Minus, time, zone)?),
                _ => Err(wrong()),
            }
            .map(Written::Done);
        }
        MakeTimestampTz => {
            let mut arguments = arguments;
            if arguments.len() == 7 {
                let zone = arguments.pop().ok_or_else(wrong)?;
                return typed(AtTimeZone, vec![zone, typed(MakeTimestamp, arguments)?]).map(Written::Done);
            }
            return Ok(Written::Done(typed(MakeTimestamp, arguments)?.cast(SqlType::TimestampTz)));
        }
        // A column of ours has one scale for all its rows.
        TrimScale => {
            let [number] = exactly(arguments)?;
            let Expr::Literal { value: Value::Numeric { mut unscaled, precision, mut scale }, .. } = number else {
                let exact = matches!(number.sql_type(), SqlType::Numeric { .. }) || number.sql_type().is_integer();
                return Err(if exact {
                    Error::unsupported("trim_scale() of what is not a constant: all rows of a column have one scale")
                } else {
                    wrong()
                });
            };
            while scale > 0 && unscaled % 10 == 0 {
                (unscaled, scale) = (unscaled / 10, scale - 1);
            }
            return Ok(Written::Done(Expr::literal(Value::Numeric { unscaled, precision, scale })));
        }
        ArrayFill => {
            let [value, lengths] = exactly(arguments)?;
            let Expr::Call { function: MakeArray, arguments: dimensions, .. } = lengths else {
                return Err(Error::unsupported("array_fill() with lengths that are not written as ARRAY[…]"));
            };
            std::iter::once(value).chain(dimensions).collect()
        }
        ArrayCat => {
            let [left, right] = exactly(arguments)?;
            let (SqlType::Array(l), SqlType::Array(r)) = (left.sql_type(), right.sql_type()) else {
                return Err(wrong());
            };
            // An array beside one of a dimension more is an item of it.
            match (&*l, &*r) {
                (SqlType::Array(inner), one) if united_type(inner, one).is_some() => {
                    return typed(ArrayAppend, vec![left, right]).map(Written::Done);
                }
                (one, SqlType::Array(inner)) if united_type(inner, one).is_some() => {
                    return typed(ArrayPrepend, vec![left, right]).map(Written::Done);
                }
                _ => vec![left, right],
            }
        }
        ArrayContains | ArrayOverlaps if arguments.len() == 2 && arguments.iter().all(is_array) => {
            // Which dimensions the items stand in makes no difference.
            let flat = |side: Expr| match side.sql_type() {
                SqlType::Array(item) if matches!(*item, SqlType::Array(_)) => typed(ArrayFlatten, vec![side]),
                _ => Ok(side),
            };
            let nested =
                |side: &Expr| matches!(side.sql_type(), SqlType::Array(item) if matches!(*item, SqlType::Array(_)));
            if arguments.iter().any(nested) {
                let flat = arguments.into_iter().map(flat).collect::<Result<_>>()?;
                return typed(function, flat).map(Written::Done);
            }
            arguments
        }
        JsonObject | JsonbObject => {
            let texts = SqlType::Array(Box::new(SqlType::Text));
            let read = |expr: Expr| if is_untyped(&expr) { coerce(expr, &texts) } else { Ok(expr) };
            arguments.into_iter().map(read).collect::<Result<_>>()?
        }
        JsonBuildObject | JsonbBuildObject => {
            if !arguments.len().is_multiple_of(2) {
                return Err(Error::new(
                    Code::InvalidValue,
                    format!("{}() takes keys and values by turns", function.name()),
                )
                .hint("give an even number of arguments"));
            }
            let key = |part: Expr| match part.sql_type() {
                SqlType::Array(_) | SqlType::Row(_) | SqlType::Json => Err(Error::new(
                    Code::InvalidValue,
                    format!("{}() takes no {} as a key", function.name(), part.sql_type()),
                )),
                _ => output_text(part),
            };
            let parts = arguments.into_iter().enumerate();
            let parts = parts.map(|(place, part)| if place % 2 == 0 { key(part) } else { document(part) });
            parts.collect::<Result<_>>()?
        }
        JsonBuildArray | JsonbBuildArray => arguments.into_iter().map(document).collect::<Result<_>>()?,
        ToJson | ToJsonb if arguments.len() == 1 && arguments[0].sql_type() == SqlType::Json => {
            let [only] = exactly(arguments)?;
            return Ok(Written::Done(only));
        }
        _ => arguments,
    }))
}

/// `extract`: with a constant part, digits that fit it; of the parts that tell of the session's zone, what they mean.
fn date_part(arguments: Vec<Expr>) -> Result<Expr> {
    let [part, from] = exactly(arguments)?;
    let own = from.sql_type();
    let Some(written) = constant_text(&part) else { return resolved(Function::DatePart, vec![part, from]) };
    if own == SqlType::TimestampTz
        && let Some(part) = zone_part(&written)
    {
        return of_zone(part, from);
    }
    let call = resolved(Function::DatePart, vec![part, from])?;
    let Expr::Call { function, mut arguments, sql_type: exact } = call else { return Ok(call) };
    let part = known_part(&written, &arguments[1].sql_type())?;
    let sql_type = match part {
        // A day begins with a whole second.
        "epoch" if own == SqlType::Date => SqlType::Numeric { precision: 20, scale: 0 },
        "milliseconds" => SqlType::Numeric { precision: 26, scale: 3 },
        "julian" if own != SqlType::Date => SqlType::Numeric { precision: 38, scale: 20 },
        "second" | "epoch" => exact,
        _ => SqlType::Numeric { precision: 20, scale: 0 },
    };
    arguments[0] = text(part);
    Ok(Expr::Call { function, arguments, sql_type })
}

fn date_trunc(arguments: Vec<Expr>) -> Result<Expr> {
    if arguments.len() == 3 {
        // In a zone: on the clock there, and back.
        let [part, from, zone] = exactly(arguments)?;
        let own = from.sql_type();
        if !own.is_time_point() && own != SqlType::Null {
            return Err(wrong());
        }
        let clock = typed(Function::AtTimeZone, vec![zone.clone(), coerce(from, &SqlType::TimestampTz)?])?;
        return typed(Function::AtTimeZone, vec![zone, date_trunc(vec![part, clock])?]);
    }
    let [part, from] = exactly(arguments)?;
    let written = constant_text(&part);
    let call = resolved(Function::DateTrunc, vec![part, from])?;
    let (Expr::Call { function, mut arguments, sql_type: own }, Some(written)) = (call.clone(), written) else {
        return Ok(call);
    };
    let part = known_part(&written, &own)?;
    if matches!(part, "dow" | "isodow" | "doy" | "isoyear" | "epoch" | "julian")
        || (part == "week" && own == SqlType::Interval)
    {
        return Err(Error::unsupported(format_args!("{own} truncated to {part}")));
    }
    arguments[0] = text(part);
    Ok(Expr::Call { function, arguments, sql_type: own })
}

/// Exact numbers among the arguments, and none that is not.
pub fn is_exact(arguments: &[Expr]) -> bool {
    let types = || arguments.iter().map(Expr::sql_type);
    types().any(|t| matches!(t, SqlType::Numeric { .. }))
        && types().all(|t| matches!(t, SqlType::Numeric { .. } | SqlType::Null) || t.is_integer())
}

/// Text as it is printed, where a truth value is one letter.
fn output_text(expr: Expr) -> Result<Expr> {
    if expr.sql_type() != SqlType::Boolean {
        return Ok(settle(expr)?.cast(SqlType::Text));
    }
    let word = |text: &str| Expr::literal(Value::Text(text.to_owned()));
    Ok(Expr::Case {
        branches: vec![(expr.clone(), word("t")), (Expr::Not(Box::new(expr)), word("f"))],
        otherwise: Box::new(Expr::Literal { value: Value::Null, sql_type: SqlType::Text }),
        sql_type: SqlType::Text,
    })
}

/// A value of any type as part of a JSON document.
pub fn document(expr: Expr) -> Result<Expr> {
    let expr = settle(expr)?;
    match expr.sql_type() {
        SqlType::Json => Ok(expr),
        _ => Ok(Expr::Call { function: Function::ToJson, arguments: vec![expr], sql_type: SqlType::Json }),
    }
}

/// The part under its one name, as far as this type of time has it (PostgreSQL manual 9.9.1).
fn known_part(part: &str, of: &SqlType) -> Result<&'static str> {
    let known = cobble_types::time_parts::part_name(part).ok_or_else(|| unknown_part(part))?;
    let of_day = matches!(known, "hour" | "minute" | "second" | "milliseconds" | "microseconds");
    let has = match of {
        SqlType::Date => !of_day,
        SqlType::Time => of_day || known == "epoch",
        SqlType::Interval => !matches!(known, "week" | "dow" | "isodow" | "doy" | "isoyear" | "julian"),
        _ => true,
    };
    if has {
        return Ok(known);
    }
    let error = Error::unsupported(format_args!("the part {known} of a {of}"));
    Err(if *of == SqlType::Date { error.hint("cast it, such as ::timestamp") } else { error })
}

/// The part of an offset from UTC that a name means.
fn zone_part(part: &str) -> Option<&'static str> {
    ["timezone", "timezone_hour", "timezone_minute"].into_iter().find(|known| known.eq_ignore_ascii_case(part))
}

/// How far the session's clock is ahead of UTC at a moment: in seconds, or whole hours of it, or minutes beyond those.
fn of_zone(part: &str, moment: Expr) -> Result<Expr> {
    let epoch = |of: Expr| typed(Function::DatePart, vec![Expr::literal(Value::Text("epoch".to_owned())), of]);
    let whole = |n: i32| Expr::literal(Value::Integer(n));
    let clock = moment.clone().cast(SqlType::Timestamp);
    let seconds = binary(BinaryOp::Minus, epoch(clock)?, epoch(moment)?)?.cast(SqlType::Integer);
    let value = match part {
        "timezone_hour" => binary(BinaryOp::Divide, seconds, whole(3600))?,
        "timezone_minute" => {
            let beyond = binary(BinaryOp::Modulo, seconds, whole(3600))?;
            binary(BinaryOp::Divide, beyond, whole(60))?
        }
        _ => seconds,
    };
    Ok(value.cast(SqlType::Numeric { precision: 20, scale: 0 }))
}

fn unknown_part(part: &str) -> Error {
    let known = ["year", "quarter", "month", "week", "day", "hour", "minute", "second", "dow", "doy", "epoch"];
    if zone_part(part).is_some() {
        return Error::unsupported(format_args!("the part {part} of what is no timestamp with time zone"));
    }
    let error = Error::new(Code::InvalidValue, format!("\"{part}\" is not a part of a time"));
    match cobble_types::closest_name(part, known) {
        Some(close) => error.hint(format!("did you mean \"{close}\"?")),
        None => error.hint(format!("one of {}", known.join(", "))),
    }
}

/// A constant in lower case.
fn constant_text(expr: &Expr) -> Option<String> {
    match expr {
        Expr::Literal { value: Value::Text(text), .. } => Some(text.to_lowercase()),
        _ => None,
    }
}

/// A constant integer, whether or not there is a minus before it.
fn constant_integer(expr: &Expr) -> Option<i32> {
    match expr {
        Expr::Literal { value: Value::Integer(value), .. } => Some(*value),
        Expr::Literal { value: Value::SmallInt(value), .. } => Some((*value).into()),
        Expr::Cast { operand, .. } => constant_integer(operand),
        Expr::Negate(operand) => constant_integer(operand)?.checked_neg(),
        _ => None,
    }
}
