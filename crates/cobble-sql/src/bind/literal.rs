//! Constants as they are written: numbers, texts, intervals with their units.

use cobble_functions::Function;
use cobble_plan::expr::Expr;
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast;

use super::scope::Scope;
use super::{Binder, position_of};
use crate::coerce::coerce;

impl<'a> Binder<'a> {
    /// `interval '1 day'`, `interval '1' day`, `interval '1-2' year to month`.
    pub(super) fn interval(&mut self, interval: &'a ast::Interval, scope: &Scope) -> Result<Expr> {
        let whole = self.whole_interval(interval, scope)?;
        match interval.leading_precision.or(interval.fractional_seconds_precision) {
            Some(digits) => {
                let digits = Expr::literal(Value::Integer(i32::try_from(digits).unwrap_or(6)));
                crate::function::call(Function::RoundTime, vec![whole, digits])
            }
            None => Ok(whole),
        }
    }

    fn whole_interval(&mut self, interval: &'a ast::Interval, scope: &Scope) -> Result<Expr> {
        let ast::Expr::Value(written) = interval.value.as_ref() else {
            return Err(Error::new(Code::Syntax, "an interval is written with a text, such as interval '2 days'"));
        };
        let Expr::Literal { value: Value::Text(text), sql_type: SqlType::Null } = self.expr(&interval.value, scope)?
        else {
            return Err(Error::new(Code::Syntax, "an interval is written with a text, such as interval '2 days'")
                .at(position_of(written.span)));
        };
        let unit = |field: &ast::DateTimeField| field.to_string().to_lowercase();
        let whole = match (&interval.leading_field, &interval.last_field) {
            (None, _) => text,
            // A bare number counts the unit; anything else is an interval, truncated to the unit.
            (Some(field), None) if text.trim().parse::<f64>().is_ok() => {
                return cut_to(&format!("{text} {}", unit(field)), &unit(field));
            }
            (Some(field), None) => return cut_to(&text, &unit(field)),
            (Some(first), Some(last)) => return spanning(&text, &unit(first), &unit(last)),
        };
        coerce(Expr::Literal { value: Value::Text(whole), sql_type: SqlType::Null }, &SqlType::Interval)
    }
}

const UNITS: [&str; 6] = ["year", "month", "day", "hour", "minute", "second"];

fn read(text: &str) -> Result<(i32, i32, i64)> {
    match cobble_types::parse::parse_value(text, &SqlType::Interval)? {
        Value::Interval { months, days, microseconds } => Ok((months, days, microseconds)),
        other => Err(Error::internal(format!("an interval was read as {other}"))),
    }
}

/// The interval without what is smaller than the unit (PostgreSQL manual 8.5.4).
fn cut_to(text: &str, unit: &str) -> Result<Expr> {
    let (mut months, mut days, mut microseconds) = read(text)?;
    let to = |n: i64, unit: i64| n / unit * unit;
    match unit {
        "year" => (months, days, microseconds) = (months / 12 * 12, 0, 0),
        "month" => (days, microseconds) = (0, 0),
        "day" => microseconds = 0,
        "hour" => microseconds = to(microseconds, 3_600_000_000),
        "minute" => microseconds = to(microseconds, 60_000_000),
        "second" => {}
        other => return Err(Error::new(Code::Syntax, format!("\"{other}\" is not a unit of an interval"))),
    }
    Ok(Expr::literal(Value::Interval { months, days, microseconds }))
}

/// `'3 4:05' DAY TO MINUTE`: a text read as the parts from the one unit to the other.
fn spanning(text: &str, first: &str, last: &str) -> Result<Expr> {
    let place = |unit: &str| UNITS.iter().position(|known| *known == unit);
    let (Some(from), Some(to)) = (place(first), place(last)) else {
        return Err(Error::new(Code::Syntax, format!("an interval does not go from {first} to {last}")));
    };
    // Years and months stand together, days and times of day do.
    if from >= to || (from == 0 && to > 1) || from == 1 {
        return Err(Error::new(Code::Syntax, format!("an interval does not go from {first} to {last}")));
    }
    let clock = text.trim();
    // Without hours, two numbers are minutes and seconds.
    let text = match clock.matches(':').count() {
        1 if first == "minute" => match clock.strip_prefix('-') {
            Some(rest) => format!("-00:{rest}"),
            None => format!("00:{clock}"),
        },
        _ => text.to_owned(),
    };
    cut_to(&text, last)
}

/// The narrowest integer type that holds the number, or a numeric.
pub(super) fn narrowest_integer(value: i128) -> Expr {
    match (i32::try_from(value), i64::try_from(value)) {
        (Ok(v), _) => Expr::literal(Value::Integer(v)),
        (_, Ok(v)) => Expr::literal(Value::BigInt(v)),
        _ => {
            let precision = value.unsigned_abs().to_string().len().clamp(1, 38) as u8;
            Expr::literal(Value::Numeric { unscaled: value, precision, scale: 0 })
        }
    }
}

pub(super) fn literal(value: &ast::Value) -> Result<Expr> {
    let text = |text: &str| Expr::Literal { value: Value::Text(text.to_owned()), sql_type: SqlType::Null };
    Ok(match value {
        ast::Value::Number(digits, _) => {
            let bad = || {
                Error::new(Code::InvalidValue, format!("\"{digits}\" is not a number the engine can hold"))
                    .hint("numerics have at most 38 digits")
            };
            let written_wide = digits.contains(['e', 'E']);
            let double = || digits.parse().ok().filter(|v: &f64| written_wide && v.is_finite());
            let Some((unscaled, scale)) = cobble_types::parse::parse_decimal(digits) else {
                return Ok(Expr::literal(Value::Double(double().ok_or_else(bad)?)));
            };
            if scale == 0 && !digits.contains(['.', 'e', 'E']) {
                narrowest_integer(unscaled)
            } else {
                let length = unscaled.unsigned_abs().to_string().len().max(scale.max(1) as usize);
                let precision = u8::try_from(length).ok().filter(|p| *p <= 38);
                match precision {
                    Some(precision) => Expr::literal(Value::Numeric { unscaled, precision, scale }),
                    None => Expr::literal(Value::Double(double().ok_or_else(bad)?)),
                }
            }
        }
        ast::Value::SingleQuotedString(written)
        | ast::Value::EscapedStringLiteral(written)
        | ast::Value::UnicodeStringLiteral(written)
        | ast::Value::NationalStringLiteral(written) => text(written),
        ast::Value::DollarQuotedString(written) => text(&written.value),
        ast::Value::Boolean(value) => Expr::boolean(*value),
        ast::Value::Null => Expr::literal(Value::Null),
        other => return Err(Error::unsupported(format_args!("the literal {other}"))),
    })
}
