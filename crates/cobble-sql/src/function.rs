//! Typing of function calls: which argument types each function takes, how they are coerced, and what comes out.

use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::function::{Function, united_type};
use cobble_types::{Code, Error, Result, RowField, SqlType, Value};

use crate::coerce::{binary, coerce, is_untyped, settle, unify_all};

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

/// Exact numbers among the arguments, and none that is not.
pub fn is_exact(arguments: &[Expr]) -> bool {
    let types = || arguments.iter().map(Expr::sql_type);
    types().any(|t| matches!(t, SqlType::Numeric { .. }))
        && types().all(|t| matches!(t, SqlType::Numeric { .. } | SqlType::Null) || t.is_integer())
}

/// An exact number as a numeric of just its digits.
fn just_exact(expr: Expr) -> Result<Expr> {
    match expr.sql_type() {
        SqlType::Numeric { .. } => Ok(expr),
        other => {
            let (precision, scale) = other.digits().unwrap_or((38, 10));
            coerce(expr, &SqlType::Numeric { precision, scale })
        }
    }
}

fn typed(function: Function, arguments: Vec<Expr>) -> Result<Expr> {
    use Function::*;
    let done = |arguments: Vec<Expr>, sql_type: SqlType| Ok(Expr::Call { function, arguments, sql_type });
    if let (Length, [bytes, encoding]) = (function, arguments.as_slice())
        && bytes.sql_type() == SqlType::Bytea
    {
        return typed(Length, vec![typed(ConvertFrom, vec![bytes.clone(), encoding.clone()])?]);
    }
    if arguments.first().is_some_and(|first| first.sql_type() == SqlType::Bytea)
        && let Some((rules, sql_type)) = of_bytes(function)
    {
        let required = if function == Overlay { 3 } else { rules.len().min(2) };
        return done(shape(arguments, required, &rules)?, sql_type);
    }
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
            let arguments = arguments.into_iter().map(output_text).collect::<Result<_>>()?;
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
            // Only numerics are rounded at a digit: what has no type yet is one.
            let open = arguments.len() == 2 && is_untyped(&arguments[0]);
            let first: fn(Expr) -> Result<Expr> = if open { just_exact } else { number };
            let mut arguments = shape(arguments, 1, &[first, integer])?;
            // By a column's number of digits, all that the number has may be left.
            let digits = match arguments.get(1) {
                None => Some(0),
                Some(digits) => constant_integer(digits).and_then(|digits| i8::try_from(digits).ok()),
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
        Sqrt | Exp | Ln | Log | Power if is_exact(&arguments) => {
            let arguments: Vec<Expr> = shape(arguments, usize::from(function == Power) + 1, &[just_exact, just_exact])?;
            if arguments.len() > 1 && !matches!(function, Power | Log) {
                return Err(wrong());
            }
            // As many digits as PostgreSQL gives of numbers of usual size.
            let scale = if function == Sqrt { 15 } else { 16 };
            done(arguments, SqlType::Numeric { precision: 38, scale })
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
            let own = from.sql_type();
            if own == SqlType::TimestampTz
                && let Some(part) = constant_text(&part).and_then(|part| zone_part(&part))
            {
                return of_zone(part, from);
            }
            let from = match own {
                SqlType::Interval | SqlType::Time => from,
                _ => time_point(from)?,
            };
            let exact = SqlType::Numeric { precision: 26, scale: 6 };
            let Some(part) = constant_text(&part) else { return done(vec![text(part)?, from], exact) };
            let part = known_part(&part, &from.sql_type())?;
            let sql_type = match part {
                // A day begins with a whole second.
                "epoch" if own == SqlType::Date => SqlType::Numeric { precision: 20, scale: 0 },
                "milliseconds" => SqlType::Numeric { precision: 26, scale: 3 },
                "julian" if own != SqlType::Date => SqlType::Numeric { precision: 38, scale: 20 },
                "second" | "epoch" => exact,
                _ => SqlType::Numeric { precision: 20, scale: 0 },
            };
            done(vec![Expr::literal(Value::Text(part.to_owned())), from], sql_type)
        }
        DateTrunc => {
            if arguments.len() == 3 {
                // In a zone: on the clock there, and back.
                let [part, from, zone]: [Expr; 3] = arguments.try_into().map_err(|_| wrong())?;
                let clock = typed(AtTimeZone, vec![zone.clone(), moment(from)?])?;
                return typed(AtTimeZone, vec![zone, typed(DateTrunc, vec![part, clock])?]);
            }
            let [part, from]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            let from = match from.sql_type() {
                SqlType::Interval => from,
                SqlType::Time => from.cast(SqlType::Interval),
                // PostgreSQL truncates a date as a timestamp with time zone.
                SqlType::Date => coerce(from, &SqlType::TimestampTz)?,
                _ => time_point(from)?,
            };
            let own = from.sql_type();
            let Some(part) = constant_text(&part) else { return done(vec![text(part)?, from], own) };
            let part = known_part(&part, &own)?;
            if matches!(part, "dow" | "isodow" | "doy" | "isoyear" | "epoch" | "julian")
                || (part == "week" && own == SqlType::Interval)
            {
                return Err(Error::unsupported(format_args!("{own} truncated to {part}")));
            }
            done(vec![Expr::literal(Value::Text(part.to_owned())), from], own)
        }
        MakeDate => done(shape(arguments, 3, &[integer, integer, integer])?, SqlType::Date),
        Cardinality => match arguments.as_slice() {
            [array] if matches!(array.sql_type(), SqlType::Array(_)) => done(arguments, SqlType::Integer),
            _ => Err(wrong()),
        },
        Ascii | BitLength => done(shape(arguments, 1, &[text])?, SqlType::Integer),
        Chr => done(shape(arguments, 1, &[integer])?, SqlType::Text),
        Normalize => {
            let arguments = shape(arguments, 1, &[text, text])?;
            if let Some(form) = arguments.get(1).and_then(constant_text)
                && !["NFC", "NFD", "NFKC", "NFKD"].iter().any(|known| known.eq_ignore_ascii_case(&form))
            {
                return Err(Error::new(Code::InvalidValue, format!("there is no normal form \"{form}\""))
                    .hint("they are NFC, NFD, NFKC and NFKD"));
            }
            done(arguments, SqlType::Text)
        }
        ParseIdent => done(shape(arguments, 1, &[text, boolean])?, array_of(SqlType::Text)),
        Md5 | QuoteIdent => done(shape(arguments, 1, &[text])?, SqlType::Text),
        QuoteLiteral | QuoteNullable => done(shape(arguments, 1, &[as_text])?, SqlType::Text),
        Translate => done(shape(arguments, 3, &[text, text, text])?, SqlType::Text),
        Overlay => done(shape(arguments, 3, &[text, text, integer, integer])?, SqlType::Text),
        ToHex => done(shape(arguments, 1, &[bigint])?, SqlType::Text),
        Format => {
            let mut arguments = arguments.into_iter();
            let first = text(arguments.next().ok_or_else(wrong)?)?;
            let rest = arguments.map(output_text).collect::<Result<Vec<_>>>()?;
            done(std::iter::once(first).chain(rest).collect(), SqlType::Text)
        }
        RegexpLike => done(shape(arguments, 2, &[text, text, text])?, SqlType::Boolean),
        SimilarTo => done(shape(arguments, 2, &[text, text, text])?, SqlType::Boolean),
        RegexpReplace => {
            // Flags may stand in the place of a start.
            let by_number = arguments.get(3).is_some_and(|a| a.sql_type().is_integer());
            let rules: &[fn(Expr) -> Result<Expr>] = match by_number {
                true => &[text, text, text, integer, integer, text],
                false => &[text, text, text, text],
            };
            done(shape(arguments, 3, rules)?, SqlType::Text)
        }
        RegexpCount => done(shape(arguments, 2, &[text, text, integer, text])?, SqlType::Integer),
        RegexpInstr => {
            let rules: [fn(Expr) -> Result<Expr>; 7] = [text, text, integer, integer, integer, text, integer];
            done(shape(arguments, 2, &rules)?, SqlType::Integer)
        }
        RegexpSubstr => done(shape(arguments, 2, &[text, text, integer, integer, text, integer])?, SqlType::Text),
        RegexpMatch => done(shape(arguments, 2, &[text, text, text])?, array_of(SqlType::Text)),
        RegexpSplitToArray => done(shape(arguments, 2, &[text, text, text])?, array_of(SqlType::Text)),
        LikeEscape => done(shape(arguments, 2, &[text, text])?, SqlType::Text),
        SimilarSubstring => done(shape(arguments, 3, &[text, text, text])?, SqlType::Text),
        Sha224 | Sha256 | Sha384 | Sha512 => done(shape(arguments, 1, &[bytes])?, SqlType::Bytea),
        Encode => done(shape(arguments, 2, &[bytes, text])?, SqlType::Text),
        Decode | ConvertTo => done(shape(arguments, 2, &[text, text])?, SqlType::Bytea),
        ConvertFrom => done(shape(arguments, 2, &[bytes, text])?, SqlType::Text),
        Unistr => done(shape(arguments, 1, &[text])?, SqlType::Text),
        ByteConcat => done(shape(arguments, 2, &[bytes, bytes])?, SqlType::Bytea),
        GetByte => done(shape(arguments, 2, &[bytes, integer])?, SqlType::Integer),
        SetByte => done(shape(arguments, 3, &[bytes, integer, integer])?, SqlType::Bytea),
        BitCount => done(shape(arguments, 1, &[bytes])?, SqlType::BigInt),
        GenRandomUuid => done(shape(arguments, 0, &[])?, SqlType::Uuid),
        Scale | MinScale => done(shape(arguments, 1, &[exact])?, SqlType::Integer),
        // A column of ours has one scale for all its rows.
        TrimScale => match shape(arguments, 1, &[exact])?.as_slice() {
            [Expr::Literal { value: Value::Numeric { unscaled, precision, scale }, .. }] => {
                let (mut unscaled, mut scale) = (*unscaled, *scale);
                while scale > 0 && unscaled % 10 == 0 {
                    (unscaled, scale) = (unscaled / 10, scale - 1);
                }
                Ok(Expr::literal(Value::Numeric { unscaled, precision: *precision, scale }))
            }
            _ => Err(Error::unsupported("trim_scale() of what is not a constant: all rows of a column have one scale")),
        },
        IsFinite => match arguments.as_slice() {
            [own] if own.sql_type().is_time_point() || own.sql_type() == SqlType::Interval => {
                done(arguments, SqlType::Boolean)
            }
            _ => done(shape(arguments, 1, &[interval])?, SqlType::Boolean),
        },
        // Made by the binder for OVERLAPS, which knows the types.
        Overlaps => Err(wrong()),
        StringToArray => done(shape(arguments, 2, &[text, text, text])?, array_of(SqlType::Text)),
        ArrayToString => {
            let [first, rest @ ..] = arguments.as_slice() else { return Err(wrong()) };
            if !matches!(first.sql_type(), SqlType::Array(_)) {
                return Err(wrong());
            }
            let rest = shape(rest.to_vec(), 1, &[text, text])?;
            done(std::iter::once(first.clone()).chain(rest).collect(), SqlType::Text)
        }
        Div => {
            let (mut both, common) = unify_all(shape(arguments, 2, &[number, number])?, "div")?;
            if common.is_float() {
                return Err(wrong());
            }
            let digits = common.digits().unwrap_or((38, 0));
            let wide = SqlType::Numeric { precision: 38, scale: digits.1 };
            both = both.into_iter().map(|e| coerce(e, &wide)).collect::<Result<_>>()?;
            done(both, SqlType::WIDE_NUMERIC)
        }
        Gcd | Lcm if arguments.iter().any(|a| matches!(a.sql_type(), SqlType::Numeric { .. })) => {
            let (both, common) = unify_all(shape(arguments, 2, &[number, number])?, function.name())?;
            match common {
                SqlType::Numeric { scale, .. } => {
                    let wide = SqlType::Numeric { precision: 38, scale };
                    let both = both.into_iter().map(|e| coerce(e, &wide)).collect::<Result<_>>()?;
                    done(both, wide)
                }
                _ => Err(wrong()),
            }
        }
        Gcd | Lcm | BitAnd | BitOr | BitXor => {
            let (both, common) = unify_all(shape(arguments, 2, &[whole, whole])?, function.name())?;
            done(both, common)
        }
        BitNot => {
            let arguments = shape(arguments, 1, &[whole])?;
            let own = arguments[0].sql_type();
            done(arguments, own)
        }
        ShiftLeft | ShiftRight => {
            let arguments = shape(arguments, 2, &[whole, integer])?;
            let own = arguments[0].sql_type();
            done(arguments, own)
        }
        Factorial => done(shape(arguments, 1, &[bigint])?, SqlType::WIDE_NUMERIC),
        Cbrt | Degrees | Radians | Sin | Cos | Tan | Cot | Asin | Acos | Atan | Sinh | Cosh | Tanh | Asinh | Acosh
        | Atanh | SinDegrees | CosDegrees | TanDegrees | CotDegrees | AsinDegrees | AcosDegrees | AtanDegrees => {
            done(shape(arguments, 1, &[double])?, SqlType::Double)
        }
        Atan2 | Atan2Degrees => done(shape(arguments, 2, &[double, double])?, SqlType::Double),
        Pi => done(shape(arguments, 0, &[])?, SqlType::Double),
        WidthBucket if arguments.len() == 2 => {
            let [value, bounds]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            let SqlType::Array(own) = bounds.sql_type() else { return Err(wrong()) };
            let common = united_type(&own, &value.sql_type()).ok_or_else(wrong)?;
            done(vec![coerce(value, &common)?, coerce(bounds, &array_of(common))?], SqlType::Integer)
        }
        WidthBucket => done(shape(arguments, 4, &[double, double, double, integer])?, SqlType::Integer),
        Age => {
            let (both, _) = unify_all(shape(arguments, 2, &[time_point, time_point])?, "age")?;
            let both = both
                .into_iter()
                .map(|e| if e.sql_type() == SqlType::Date { coerce(e, &SqlType::Timestamp) } else { Ok(e) });
            done(both.collect::<Result<_>>()?, SqlType::Interval)
        }
        RoundTime => {
            let [value, digits]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            let own = value.sql_type();
            match own {
                SqlType::Timestamp | SqlType::TimestampTz | SqlType::Time | SqlType::Interval => {
                    done(vec![value, integer(digits)?], own)
                }
                _ => Err(wrong()),
            }
        }
        DateBin => {
            let [stride, source, origin]: [Expr; 3] = arguments.try_into().map_err(|_| wrong())?;
            let stride = coerce(stride, &SqlType::Interval)?;
            let (both, common) = unify_all(vec![time_point(source)?, time_point(origin)?], "date_bin")?;
            let common = if common == SqlType::Date { SqlType::Timestamp } else { common };
            let both = both.into_iter().map(|e| coerce(e, &common)).collect::<Result<Vec<_>>>()?;
            done(std::iter::once(stride).chain(both).collect(), common)
        }
        MakeTime => done(shape(arguments, 3, &[integer, integer, double])?, SqlType::Time),
        MakeTimestamp => {
            done(shape(arguments, 6, &[integer, integer, integer, integer, integer, double])?, SqlType::Timestamp)
        }
        MakeTimestampTz => {
            if arguments.len() == 7 {
                let mut arguments = arguments;
                let zone = arguments.pop().ok_or_else(wrong)?;
                return typed(AtTimeZone, vec![zone, typed(MakeTimestamp, arguments)?]);
            }
            Ok(typed(MakeTimestamp, arguments)?.cast(SqlType::TimestampTz))
        }
        MakeInterval => {
            let rules: [fn(Expr) -> Result<Expr>; 7] = [integer, integer, integer, integer, integer, integer, double];
            done(shape(arguments, 0, &rules)?, SqlType::Interval)
        }
        ToTimestamp if arguments.len() == 1 => done(shape(arguments, 1, &[double])?, SqlType::TimestampTz),
        ToTimestamp => done(shape(arguments, 2, &[text, text])?, SqlType::TimestampTz),
        ToDate => done(shape(arguments, 2, &[text, text])?, SqlType::Date),
        ToChar => {
            let [value, format]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            let own = value.sql_type();
            let value = match own {
                SqlType::Interval => value,
                SqlType::Time => value.cast(SqlType::Interval),
                _ if own.is_time_point() => coerce(value, &SqlType::Timestamp)?,
                _ if own.is_integer() => coerce(value, &SqlType::Numeric { precision: 38, scale: 0 })?,
                _ if own.is_number() => value,
                _ => return Err(wrong()),
            };
            done(vec![value, text(format)?], SqlType::Text)
        }
        ToNumber => done(shape(arguments, 2, &[text, text])?, SqlType::Numeric { precision: 38, scale: 10 }),
        JustifyDays | JustifyHours | JustifyInterval => done(shape(arguments, 1, &[interval])?, SqlType::Interval),
        MomentText => done(shape(arguments, 2, &[text, moment])?, SqlType::Text),
        ReadMoment => done(shape(arguments, 2, &[text, text])?, SqlType::TimestampTz),
        AddToMoment => done(shape(arguments, 3, &[text, moment, interval])?, SqlType::TimestampTz),
        AtTimeZone => {
            let [zone, time]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            if zone.sql_type() == SqlType::Interval {
                // So far east of UTC.
                let utc = || Expr::literal(Value::Text("UTC".into()));
                return match time.sql_type() {
                    SqlType::TimestampTz => {
                        crate::coerce::binary(BinaryOp::Plus, typed(AtTimeZone, vec![utc(), time])?, zone)
                    }
                    SqlType::Timestamp => {
                        typed(AtTimeZone, vec![utc(), crate::coerce::binary(BinaryOp::Minus, time, zone)?])
                    }
                    _ => Err(wrong()),
                };
            }
            let sql_type = match time.sql_type() {
                SqlType::TimestampTz => SqlType::Timestamp,
                SqlType::Timestamp => SqlType::TimestampTz,
                SqlType::Date | SqlType::Null => {
                    let time = coerce(time, &SqlType::TimestampTz)?;
                    return Ok(Expr::Call {
                        function,
                        arguments: vec![text(zone)?, time],
                        sql_type: SqlType::Timestamp,
                    });
                }
                _ => return Err(wrong()),
            };
            done(vec![text(zone)?, time], sql_type)
        }
        MakeRow => {
            let parts = arguments.into_iter().map(settle).collect::<Result<Vec<_>>>()?;
            let field = |(i, part): (usize, &Expr)| RowField { name: format!("f{}", i + 1), sql_type: part.sql_type() };
            let fields = parts.iter().enumerate().map(field).collect();
            done(parts, SqlType::Row(fields))
        }
        MakeArray => {
            let (items, common) = unify_all(arguments, "ARRAY")?;
            done(items, array_of(common))
        }
        ArrayLength => {
            let [array, dimension]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            if !matches!(array.sql_type(), SqlType::Array(_)) {
                return Err(wrong());
            }
            done(vec![array, integer(dimension)?], SqlType::Integer)
        }
        ArrayLower => {
            let [array, dimension]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            if !matches!(array.sql_type(), SqlType::Array(_)) {
                return Err(wrong());
            }
            done(vec![array, integer(dimension)?], SqlType::Integer)
        }
        ArrayDims | ArrayNdims => match arguments.as_slice() {
            [array] if matches!(array.sql_type(), SqlType::Array(_)) => {
                done(arguments, if function == ArrayDims { SqlType::Text } else { SqlType::Integer })
            }
            _ => Err(wrong()),
        },
        TrimArray => {
            let [array, n]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            let own = array.sql_type();
            if !matches!(own, SqlType::Array(_)) {
                return Err(wrong());
            }
            done(vec![array, integer(n)?], own)
        }
        // Made by the binder for subscripts.
        ArraySlice => Err(wrong()),
        ArrayFlatten => {
            let [arrays]: [Expr; 1] = arguments.try_into().map_err(|_| wrong())?;
            match arrays.sql_type() {
                SqlType::Array(inner) if matches!(*inner, SqlType::Array(_)) => done(vec![arrays], *inner),
                _ => Err(wrong()),
            }
        }
        ArrayFill => {
            let [value, lengths]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            let Expr::Call { function: MakeArray, arguments: dimensions, .. } = &lengths else {
                return Err(Error::unsupported("array_fill() with lengths that are not written as ARRAY[…]"));
            };
            let value = settle(value)?;
            let dimensions = dimensions.iter().cloned().map(integer).collect::<Result<Vec<_>>>()?;
            let sql_type = dimensions.iter().fold(value.sql_type(), |item, _| array_of(item));
            let sql_type = if dimensions.is_empty() { array_of(sql_type) } else { sql_type };
            done(std::iter::once(value).chain(dimensions).collect(), sql_type)
        }
        ArrayReplace => {
            let [array, from, to]: [Expr; 3] = arguments.try_into().map_err(|_| wrong())?;
            let SqlType::Array(own) = array.sql_type() else { return Err(wrong()) };
            let all = [own.as_ref().clone(), from.sql_type(), to.sql_type()];
            let common =
                all.iter().try_fold(SqlType::Null, |common, own| united_type(&common, own)).ok_or_else(wrong)?;
            let sql_type = array_of(common.clone());
            done(vec![coerce(array, &sql_type)?, coerce(from, &common)?, coerce(to, &common)?], sql_type)
        }
        ArrayAppend | ArrayRemove | ArrayPosition | ArrayPositions => {
            let [array, item]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            let SqlType::Array(own) = array.sql_type() else { return Err(wrong()) };
            let common = united_type(&own, &item.sql_type()).ok_or_else(wrong)?;
            let sql_type = match function {
                ArrayPosition => SqlType::Integer,
                ArrayPositions => array_of(SqlType::Integer),
                _ => array_of(common.clone()),
            };
            done(vec![coerce(array, &array_of(common.clone()))?, coerce(item, &common)?], sql_type)
        }
        ArrayPrepend => {
            let [item, array]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            let SqlType::Array(own) = array.sql_type() else { return Err(wrong()) };
            let common = united_type(&own, &item.sql_type()).ok_or_else(wrong)?;
            done(vec![coerce(item, &common)?, coerce(array, &array_of(common.clone()))?], array_of(common))
        }
        // Made by the binder for ANY and ALL, which knows the types.
        AnyItem => Err(wrong()),
        ArrayCat | ArrayContains | ArrayOverlaps => {
            let [left, right]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            let (SqlType::Array(l), SqlType::Array(r)) = (left.sql_type(), right.sql_type()) else {
                return Err(wrong());
            };
            if function == ArrayCat {
                // An array beside one of a dimension more is an item of it.
                match (&*l, &*r) {
                    (SqlType::Array(inner), one) if united_type(inner, one).is_some() => {
                        return typed(ArrayAppend, vec![left, right]);
                    }
                    (one, SqlType::Array(inner)) if united_type(inner, one).is_some() => {
                        return typed(ArrayPrepend, vec![left, right]);
                    }
                    _ => {}
                }
            }
            if function != ArrayCat {
                // Which dimensions the items stand in makes no difference.
                let nested = |side: &SqlType| matches!(side, SqlType::Array(_));
                if nested(&l) || nested(&r) {
                    let flat =
                        |side: Expr, is_nested| if is_nested { typed(ArrayFlatten, vec![side]) } else { Ok(side) };
                    return typed(function, vec![flat(left, nested(&l))?, flat(right, nested(&r))?]);
                }
            }
            let common = array_of(united_type(&l, &r).ok_or_else(wrong)?);
            let sql_type = if function == ArrayCat { common.clone() } else { SqlType::Boolean };
            // The operators take arrays of one type, whatever the digits of its numbers.
            let numeric = |item: &SqlType| matches!(item, SqlType::Numeric { .. });
            if function != ArrayCat && l != r && !(numeric(&l) && numeric(&r)) {
                return Err(wrong());
            }
            done(vec![coerce(left, &common)?, coerce(right, &common)?], sql_type)
        }
        JsonGet | JsonGetText => {
            let [from, key]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            let key = if key.sql_type().is_integer() { coerce(key, &SqlType::Integer)? } else { text(key)? };
            done(vec![json(from)?, key], if function == JsonGet { SqlType::Json } else { SqlType::Text })
        }
        JsonPath | JsonPathText => {
            let mut arguments = arguments.into_iter();
            let from = json(arguments.next().ok_or_else(wrong)?)?;
            let keys: Vec<Expr> = arguments.collect();
            let keys = match keys.as_slice() {
                // One array of keys, as the operators take it.
                [only] if matches!(only.sql_type(), SqlType::Array(_)) => keys,
                _ => keys.into_iter().map(text).collect::<Result<_>>()?,
            };
            let sql_type = if function == JsonPath { SqlType::Json } else { SqlType::Text };
            done(std::iter::once(from).chain(keys).collect(), sql_type)
        }
        JsonContains => done(shape(arguments, 2, &[json, json])?, SqlType::Boolean),
        JsonHasKey => done(shape(arguments, 2, &[json, text])?, SqlType::Boolean),
        JsonHasAny | JsonHasAll => done(shape(arguments, 2, &[json, texts])?, SqlType::Boolean),
        JsonDelete => {
            let [from, key]: [Expr; 2] = arguments.try_into().map_err(|_| wrong())?;
            let key = match key.sql_type() {
                own if own.is_integer() => coerce(key, &SqlType::Integer)?,
                SqlType::Array(_) => texts(key)?,
                _ => text(key)?,
            };
            done(vec![json(from)?, key], SqlType::Json)
        }
        JsonDeletePath => done(shape(arguments, 2, &[json, texts])?, SqlType::Json),
        JsonSet | JsonInsert => done(shape(arguments, 3, &[json, texts, json, boolean])?, SqlType::Json),
        JsonSetLax => done(shape(arguments, 3, &[json, texts, json, boolean, text])?, SqlType::Json),
        JsonConcat => done(shape(arguments, 2, &[json, json])?, SqlType::Json),
        JsonStripNulls => done(shape(arguments, 1, &[json])?, SqlType::Json),
        JsonPretty => done(shape(arguments, 1, &[json])?, SqlType::Text),
        JsonObject | JsonbObject => {
            // One argument may also be an array of pairs.
            let single = arguments.len() == 1;
            let pairs = |expr: Expr| {
                let expr = if is_untyped(&expr) { coerce(expr, &array_of(SqlType::Text))? } else { expr };
                let is_pairs = single && expr.sql_type() == array_of(array_of(SqlType::Text));
                if is_pairs { Ok(expr) } else { texts(expr) }
            };
            if arguments.len() > 2 {
                return Err(wrong());
            }
            let arguments = arguments.into_iter().map(pairs).collect::<Result<Vec<_>>>()?;
            if arguments.is_empty() { Err(wrong()) } else { done(arguments, SqlType::Json) }
        }
        JsonRecord => done(shape(arguments, 1, &[json])?, SqlType::Json),
        JsonOrder => done(shape(arguments, 1, &[json])?, SqlType::Bytea),
        JsonArrayLength => done(shape(arguments, 1, &[json])?, SqlType::Integer),
        JsonTypeof => done(shape(arguments, 1, &[json])?, SqlType::Text),
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
            done(parts.collect::<Result<_>>()?, SqlType::Json)
        }
        JsonBuildArray | JsonbBuildArray => {
            done(arguments.into_iter().map(document).collect::<Result<_>>()?, SqlType::Json)
        }
        ToJson | ToJsonb => {
            let [only]: [Expr; 1] = arguments.try_into().map_err(|_| wrong())?;
            let only = settle(only)?;
            if only.sql_type() == SqlType::Json {
                return Ok(only);
            }
            done(vec![only], SqlType::Json)
        }
        JsonValue => done(shape(arguments, 2, &[json, text])?, SqlType::Text),
        JsonQuery => done(shape(arguments, 2, &[json, text])?, SqlType::Json),
        JsonExists => done(shape(arguments, 2, &[json, text])?, SqlType::Boolean),
        JsonPathExists | JsonPathMatch | JsonPathQueryArray | JsonPathQueryFirst => {
            let result = match function {
                JsonPathExists | JsonPathMatch => SqlType::Boolean,
                _ => SqlType::Json,
            };
            done(shape(arguments, 2, &[json, text, json, boolean])?, result)
        }
        NumNulls | NumNonNulls => {
            if arguments.is_empty() {
                return Err(wrong());
            }
            done(arguments.into_iter().map(settle).collect::<Result<_>>()?, SqlType::Integer)
        }
    }
}

fn array_of(item: SqlType) -> SqlType {
    SqlType::Array(Box::new(item))
}

/// Text as it is printed, where a truth value is one letter.
fn output_text(expr: Expr) -> Result<Expr> {
    if expr.sql_type() != SqlType::Boolean {
        return as_text(expr);
    }
    let word = |text: &str| Expr::literal(Value::Text(text.to_owned()));
    Ok(Expr::Case {
        branches: vec![(expr.clone(), word("t")), (Expr::Not(Box::new(expr)), word("f"))],
        otherwise: Box::new(Expr::Literal { value: Value::Null, sql_type: SqlType::Text }),
        sql_type: SqlType::Text,
    })
}

fn as_text(expr: Expr) -> Result<Expr> {
    Ok(settle(expr)?.cast(SqlType::Text))
}

fn bigint(expr: Expr) -> Result<Expr> {
    let own = expr.sql_type();
    if own.is_integer() || is_untyped(&expr) { coerce(expr, &SqlType::BigInt) } else { Err(wrong()) }
}

/// An integer of any size, as it is.
fn whole(expr: Expr) -> Result<Expr> {
    match expr.sql_type() {
        own if own.is_integer() => Ok(expr),
        SqlType::Null => coerce(expr, &SqlType::Integer),
        _ => Err(wrong()),
    }
}

fn interval(expr: Expr) -> Result<Expr> {
    match expr.sql_type() {
        SqlType::Interval => Ok(expr),
        SqlType::Time => Ok(expr.cast(SqlType::Interval)),
        SqlType::Null => coerce(expr, &SqlType::Interval),
        _ => Err(wrong()),
    }
}

fn moment(expr: Expr) -> Result<Expr> {
    match expr.sql_type() {
        own if own.is_time_point() || own == SqlType::Null => coerce(expr, &SqlType::TimestampTz),
        _ => Err(wrong()),
    }
}

fn boolean(expr: Expr) -> Result<Expr> {
    if expr.sql_type() == SqlType::Boolean || is_untyped(&expr) {
        coerce(expr, &SqlType::Boolean)
    } else {
        Err(wrong())
    }
}

fn json(expr: Expr) -> Result<Expr> {
    match expr.sql_type() {
        SqlType::Json => Ok(expr),
        SqlType::Null => coerce(expr, &SqlType::Json),
        SqlType::Text => Ok(expr.cast(SqlType::Json)),
        _ => Err(wrong()),
    }
}

fn bytes(expr: Expr) -> Result<Expr> {
    match expr.sql_type() {
        SqlType::Bytea => Ok(expr),
        SqlType::Null => coerce(expr, &SqlType::Bytea),
        _ => Err(wrong()),
    }
}

/// What becomes of an argument, or why it does not fit.
type Rule = fn(Expr) -> Result<Expr>;

/// Functions of texts that take byte strings too: their arguments, and the type that comes out.
fn of_bytes(function: Function) -> Option<(Vec<Rule>, SqlType)> {
    use Function::*;
    let rules: Vec<Rule> = match function {
        Length | OctetLength | BitLength | Md5 => vec![bytes],
        Substring => vec![bytes, integer, integer],
        Trim | TrimStart | TrimEnd | Position => vec![bytes, bytes],
        Overlay => vec![bytes, bytes, integer, integer],
        _ => return None,
    };
    let sql_type = match function {
        Length | OctetLength | BitLength | Position => SqlType::Integer,
        Md5 => SqlType::Text,
        _ => SqlType::Bytea,
    };
    Some((rules, sql_type))
}

/// An array of texts.
fn texts(expr: Expr) -> Result<Expr> {
    let wanted = array_of(SqlType::Text);
    match expr.sql_type() {
        own if own == wanted => Ok(expr),
        SqlType::Null => match coerce(expr, &wanted)? {
            read if read.sql_type() == wanted => Ok(read),
            _ => Err(Error::new(Code::ArraySubscript, "an array of one dimension is wanted, not one of several")),
        },
        _ => Err(wrong()),
    }
}

/// An exact number, integers among them, as a numeric.
fn exact(expr: Expr) -> Result<Expr> {
    match expr.sql_type() {
        SqlType::Numeric { .. } => Ok(expr),
        own if own.is_integer() => coerce(expr, &SqlType::WIDE_NUMERIC),
        _ => Err(wrong()),
    }
}

/// A value of any type as a part of a document.
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

fn time_point(expr: Expr) -> Result<Expr> {
    match expr.sql_type() {
        own if own.is_time_point() => Ok(expr),
        SqlType::Null => coerce(expr, &SqlType::Timestamp),
        _ => Err(wrong()),
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
