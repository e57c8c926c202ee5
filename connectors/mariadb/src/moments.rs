//! Dates and timestamps in MariaDB, which include the zero date and months of zero. The engine has no such values: reading one is an error, so an
//! expression over one is made to fail at the server too. In a plain comparison, which may use an index, such a value matches nothing.

use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::offer::KeptReason;
use cobble_types::{SqlType, Value};

use super::numbers::differs;
use cobble_connect_sql::{Columns, Refusal, Sql, wrap, write};

pub fn is_moment(sql_type: &SqlType) -> bool {
    matches!(sql_type, SqlType::Date | SqlType::Timestamp | SqlType::TimestampTz)
}

/// The server's name of a type of moments.
fn type_name(sql_type: &SqlType) -> &'static str {
    if *sql_type == SqlType::Date { "DATE" } else { "DATETIME(6)" }
}

/// A number that only stands in guards: the server shows it with the column when a guard fails.
pub const MARK: &str = "1964 + dayofmonth(";

/// A column's moment, or an error where it is none.
pub fn guarded(column: &Sql, sql_type: &SqlType) -> Sql {
    let pattern = format!(
        "CAST(if(coalesce(dayofmonth(?) * month(?), 1) > 0, ?, {} + ({MARK}?))) AS {})",
        i64::MAX,
        type_name(sql_type)
    );
    wrap(&[column, column, column, column], &pattern)
}

/// A constant moment of the years that the server has, with its type.
pub fn literal(value: &Value, sql_type: &SqlType) -> Result<Sql, Refusal> {
    let value = moment(value, sql_type).ok_or_else(|| differs("the server has the years 1 to 9999"))?;
    Ok(wrap(&[&value], &format!("CAST(? AS {})", type_name(sql_type))))
}

/// A part of a moment as a whole number.
pub fn part(name: &str, of: &Sql) -> Result<Sql, Refusal> {
    let pattern = match name {
        // The year before 1 is -1 here and 0 there.
        "year" => "(year(?) - (year(?) = 0))",
        "month" => "month(?)",
        "day" => "dayofmonth(?)",
        "hour" => "hour(?)",
        "minute" => "minute(?)",
        "quarter" => "quarter(?)",
        "doy" => "dayofyear(?)",
        "dow" => "(dayofweek(?) - 1)",
        "isodow" => "(weekday(?) + 1)",
        "week" => "weekofyear(?)",
        "decade" => "(year(?) DIV 10)",
        other => return Err((KeptReason::FunctionDiffers, format!("{other} is taken out of moments by the engine"))),
    };
    Ok(wrap(&[of, of], pattern))
}

/// The start of the part in which a moment lies.
pub fn start_of(name: &str, of: &Sql) -> Result<Sql, Refusal> {
    let text = |form: &str| wrap(&[of], &format!("CAST(date_format(?, '{form}') AS DATETIME(6))"));
    Ok(match name {
        "microseconds" => of.clone(),
        "second" => text("%Y-%m-%d %H:%i:%s"),
        "minute" => text("%Y-%m-%d %H:%i:00"),
        "hour" => text("%Y-%m-%d %H:00:00"),
        "day" => text("%Y-%m-%d"),
        "month" => text("%Y-%m-01"),
        "quarter" => wrap(
            &[of, of],
            "CAST(concat(date_format(?, '%Y-'), lpad(quarter(?) * 3 - 2, 2, '0'), '-01') AS DATETIME(6))",
        ),
        "year" => text("%Y-01-01"),
        other => return Err((KeptReason::FunctionDiffers, format!("the engine finds the start of a {other}"))),
    })
}

/// A moment of the years that the server has, as it reads one.
fn moment(value: &Value, sql_type: &SqlType) -> Option<Sql> {
    const DAY: i64 = 86_400_000_000;
    // 0001-01-01 and 9999-12-31, in days from 1970-01-01.
    const YEARS: std::ops::RangeInclusive<i64> = -719_162..=2_932_896;
    let day = match value {
        Value::Date(days) => i64::from(*days),
        Value::Timestamp(at) | Value::TimestampTz(at) => at.div_euclid(DAY),
        _ => return None,
    };
    YEARS.contains(&day).then(|| Sql::parameter(write::stored(value, sql_type)))
}

/// A constant of this type.
fn constant(expr: &Expr, sql_type: &SqlType) -> Option<Sql> {
    match expr {
        Expr::Literal { value, sql_type: own } if own == sql_type => moment(value, own),
        _ => None,
    }
}

/// Whether this is true of a moment in a column; what is no date there is nothing that it could be true of.
pub fn condition(condition: &Expr, columns: Columns<'_>) -> Option<Sql> {
    let (column, compared) = match condition {
        Expr::Binary { op, left, right, .. }
            if matches!(
                op,
                BinaryOp::Eq | BinaryOp::NotEq | BinaryOp::Lt | BinaryOp::LtEq | BinaryOp::Gt | BinaryOp::GtEq
            ) =>
        {
            let own = left.sql_type();
            let column = match left.as_ref() {
                Expr::Column(column) if is_moment(&own) => columns(column)?,
                _ => return None,
            };
            let compared = wrap(&[&column, &constant(right, &own)?], &format!("? {} ?", op.symbol()));
            (column, compared)
        }
        Expr::InList { operand, list, negated: false } => {
            let own = operand.sql_type();
            let column = match operand.as_ref() {
                Expr::Column(column) if is_moment(&own) => columns(column)?,
                _ => return None,
            };
            let items = list.iter().map(|item| constant(item, &own)).collect::<Option<Vec<_>>>()?;
            let compared = wrap(&[&column, &Sql::joined(&items, ", ")], "? IN (?)");
            (column, compared)
        }
        _ => return None,
    };
    Some(wrap(&[&compared, &column, &column], "(? AND dayofmonth(?) > 0 AND month(?) > 0)"))
}
