//! Typing of function calls: which argument types each function takes, how they are coerced, and what comes out.

use cobble_plan::expr::Expr;
use cobble_plan::function::Function;
use cobble_types::{Code, Error, Result, SqlType, Value};

use crate::coerce::{coerce, is_untyped, settle, unify_all};

/// A typed call, or an error that shows how the function is called.
pub fn call(function: Function, arguments: Vec<Expr>) -> Result<Expr> {
    let given: Vec<String> = arguments.iter().map(|a| a.sql_type().to_string()).collect();
    typed(function, arguments).map_err(|error| {
        if error.code != Code::TypeMismatch {
            return error;
        }
        let name = function.name();
        Error::new(Code::UnknownFunction, format!("{name}({}) does not exist", given.join(", ")))
            .hint(format!("it is called as {name}({})", function.arguments()))
    })
}

fn wrong() -> Error {
    Error::new(Code::TypeMismatch, "wrong arguments")
}

fn text(expr: Expr) -> Result<Expr> {
    match expr.sql_type() {
        SqlType::Text => Ok(expr),
        SqlType::Null => coerce(expr, &SqlType::Text),
        _ => Err(wrong()),
    }
}

fn integer(expr: Expr) -> Result<Expr> {
    let own = expr.sql_type();
    if own.is_integer() || is_untyped(&expr) { coerce(expr, &SqlType::Integer) } else { Err(wrong()) }
}

fn double(expr: Expr) -> Result<Expr> {
    if expr.sql_type().is_number() || is_untyped(&expr) { coerce(expr, &SqlType::Double) } else { Err(wrong()) }
}

fn number(expr: Expr) -> Result<Expr> {
    match expr.sql_type() {
        own if own.is_number() => Ok(expr),
        SqlType::Null => coerce(expr, &SqlType::Double),
        _ => Err(wrong()),
    }
}

/// Coerces each argument by its rule; `rules` beyond `required` are optional.
fn shape(arguments: Vec<Expr>, required: usize, rules: &[fn(Expr) -> Result<Expr>]) -> Result<Vec<Expr>> {
    if arguments.len() < required || arguments.len() > rules.len() {
        return Err(wrong());
    }
    arguments.into_iter().zip(rules).map(|(argument, rule)| rule(argument)).collect()
}

fn typed(function: Function, arguments: Vec<Expr>) -> Result<Expr> {
    use Function::*;
    let done = |arguments: Vec<Expr>, sql_type: SqlType| Ok(Expr::Call { function, arguments, sql_type });
    match function {
        Lower | Upper | InitCap | Reverse => done(shape(arguments, 1, &[text])?, SqlType::Text),
        Length | OctetLength => done(shape(arguments, 1, &[text])?, SqlType::Integer),
        Substring => done(shape(arguments, 2, &[text, integer, integer])?, SqlType::Text),
        Left | Right | Repeat => done(shape(arguments, 2, &[text, integer])?, SqlType::Text),
        Trim | TrimStart | TrimEnd => done(shape(arguments, 1, &[text, text])?, SqlType::Text),
        Replace => done(shape(arguments, 3, &[text, text, text])?, SqlType::Text),
        SplitPart => done(shape(arguments, 3, &[text, text, integer])?, SqlType::Text),
        PadStart | PadEnd => done(shape(arguments, 2, &[text, integer, text])?, SqlType::Text),
        Position => done(shape(arguments, 2, &[text, text])?, SqlType::Integer),
        StartsWith => done(shape(arguments, 2, &[text, text])?, SqlType::Boolean),
        Concat | ConcatWs => {
            let least = if function == ConcatWs { 2 } else { 1 };
            if arguments.len() < least {
                return Err(wrong());
            }
            let arguments = arguments.into_iter().map(|a| Ok(settle(a)?.cast(SqlType::Text))).collect::<Result<_>>()?;
            done(arguments, SqlType::Text)
        }
        Abs => {
            let arguments = shape(arguments, 1, &[number])?;
            let own = arguments[0].sql_type();
            done(arguments, own)
        }
        Sign | Ceil | Floor => {
            let mut arguments = shape(arguments, 1, &[number])?;
            match arguments[0].sql_type() {
                SqlType::Numeric { precision, .. } => done(arguments, SqlType::Numeric { precision, scale: 0 }),
                _ => {
                    arguments = shape(arguments, 1, &[double])?;
                    done(arguments, SqlType::Double)
                }
            }
        }
        Round | Trunc => {
            let mut arguments = shape(arguments, 1, &[number, integer])?;
            let digits = match arguments.get(1) {
                None => Some(0),
                Some(Expr::Literal { value: Value::Integer(digits), .. }) => i8::try_from(*digits).ok(),
                Some(_) => {
                    return Err(Error::unsupported(format_args!(
                        "{} to a number of digits that is not a constant",
                        function.name()
                    )));
                }
            };
            match (arguments[0].sql_type(), arguments.len()) {
                (SqlType::Numeric { precision, scale }, _) => {
                    let scale_out = digits.unwrap_or(scale).clamp(0, 38);
                    let whole = i16::from(precision) - i16::from(scale) + 1;
                    let precision = (whole + i16::from(scale_out)).clamp(1, 38) as u8;
                    done(arguments, SqlType::Numeric { precision, scale: scale_out })
                }
                (integer, 2) if integer.is_integer() => {
                    let first = coerce(arguments.remove(0), &SqlType::WIDE_NUMERIC)?;
                    arguments.insert(0, first);
                    let scale = digits.unwrap_or(0).clamp(0, 18);
                    done(arguments, SqlType::Numeric { precision: 38, scale })
                }
                // PostgreSQL has no round(double, integer): the binary value has no decimal digits to keep.
                (_, 2) => Err(wrong()),
                _ => done(shape(arguments, 1, &[double])?, SqlType::Double),
            }
        }
        Sqrt | Exp | Ln | Log => done(shape(arguments, 1, &[double])?, SqlType::Double),
        Power => done(shape(arguments, 2, &[double, double])?, SqlType::Double),
        Random => done(shape(arguments, 0, &[])?, SqlType::Double),
        Coalesce | Greatest | Least => {
            if arguments.is_empty() {
                return Err(wrong());
            }
            let (arguments, common) = unify_all(arguments, function.name())?;
            done(arguments, common)
        }
        DatePart => {
            let [part, from]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            let from = time_point(from)?;
            let part = constant_text(part)?;
            let whole = SqlType::Numeric { precision: 20, scale: 0 };
            let sql_type = match part.as_str() {
                "second" | "epoch" | "milliseconds" => SqlType::Numeric { precision: 26, scale: 6 },
                "year" | "month" | "day" | "hour" | "minute" | "quarter" | "week" | "dow" | "isodow" | "doy"
                | "isoyear" | "decade" | "century" | "microseconds" => whole,
                _ => return Err(unknown_part(&part)),
            };
            done(vec![Expr::literal(Value::Text(part)), from], sql_type)
        }
        DateTrunc => {
            let [part, from]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            let part = constant_text(part)?;
            if !["microseconds", "milliseconds", "second", "minute", "hour", "day", "week", "month", "quarter", "year"]
                .contains(&part.as_str())
            {
                return Err(unknown_part(&part));
            }
            let from = time_point(from)?;
            // PostgreSQL truncates a date as a timestamp with time zone.
            let from = if from.sql_type() == SqlType::Date { coerce(from, &SqlType::TimestampTz)? } else { from };
            let own = from.sql_type();
            done(vec![Expr::literal(Value::Text(part)), from], own)
        }
        MakeDate => done(shape(arguments, 3, &[integer, integer, integer])?, SqlType::Date),
        Cardinality => match arguments.as_slice() {
            [array] if matches!(array.sql_type(), SqlType::Array(_)) => done(arguments, SqlType::Integer),
            [array, Expr::Literal { value: Value::Integer(1), .. }]
                if matches!(array.sql_type(), SqlType::Array(_)) =>
            {
                done(vec![array.clone()], SqlType::Integer)
            }
            _ => Err(wrong()),
        },
    }
}

fn unknown_part(part: &str) -> Error {
    let known = ["year", "quarter", "month", "week", "day", "hour", "minute", "second", "dow", "doy", "epoch"];
    let error = Error::new(Code::InvalidValue, format!("\"{part}\" is not a part of a time"));
    match cobble_types::closest_name(part, known) {
        Some(close) => error.hint(format!("did you mean \"{close}\"?")),
        None => error.hint(format!("one of {}", known.join(", "))),
    }
}

fn time_point(expr: Expr) -> Result<Expr> {
    match expr.sql_type() {
        own if own.is_time_point() => Ok(expr),
        SqlType::Null => coerce(expr, &SqlType::Timestamp),
        _ => Err(wrong()),
    }
}

fn constant_text(expr: Expr) -> Result<String> {
    match expr {
        Expr::Literal { value: Value::Text(text), .. } => Ok(text.to_lowercase()),
        _ => Err(Error::unsupported("a part of a time that is not a constant")),
    }
}
