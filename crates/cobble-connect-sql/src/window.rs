//! Window functions as the databases write them (SQL:2016 part 2, 7.15): the same words everywhere, less of them in some.

use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::SortKey;
use cobble_plan::offer::KeptReason;
use cobble_plan::window::{Frame, FrameBound, FrameExclusion, FrameUnit, Ranking, WindowCall, WindowFunction};
use cobble_types::Value;

use super::dialect::{Columns, Dialect};
use super::sql::{Refusal, Sql};

fn no_such(note: &str) -> Refusal {
    (KeptReason::NoSuchAbility, note.to_owned())
}

/// A whole number written into the statement: databases need to know it before they run.
fn number(expr: &Expr, least: i64) -> Result<i64, Refusal> {
    let found = match expr {
        Expr::Literal { value: Value::SmallInt(v), .. } => Some(i64::from(*v)),
        Expr::Literal { value: Value::Integer(v), .. } => Some(i64::from(*v)),
        Expr::Literal { value: Value::BigInt(v), .. } => Some(*v),
        _ => None,
    };
    found.filter(|n| *n >= least).ok_or_else(|| no_such("only constant distances are handed over"))
}

fn bound(bound: &FrameBound, unit: FrameUnit) -> Result<String, Refusal> {
    let distance = |expr: &Expr| match unit {
        FrameUnit::Range => Err(no_such("distances between values are measured by the engine")),
        FrameUnit::Rows | FrameUnit::Groups => number(expr, 0),
    };
    Ok(match bound {
        FrameBound::UnboundedPreceding => "UNBOUNDED PRECEDING".to_owned(),
        FrameBound::Preceding(expr) => format!("{} PRECEDING", distance(expr)?),
        FrameBound::CurrentRow => "CURRENT ROW".to_owned(),
        FrameBound::Following(expr) => format!("{} FOLLOWING", distance(expr)?),
        FrameBound::UnboundedFollowing => "UNBOUNDED FOLLOWING".to_owned(),
    })
}

fn frame(dialect: &dyn Dialect, frame: &Frame) -> Result<String, Refusal> {
    if *frame == Frame::default() {
        return Ok(String::new());
    }
    let unit = match frame.unit {
        FrameUnit::Rows => "ROWS",
        FrameUnit::Range => "RANGE",
        FrameUnit::Groups => "GROUPS",
    };
    let without = match frame.exclusion {
        FrameExclusion::NoOthers => "",
        FrameExclusion::CurrentRow => " EXCLUDE CURRENT ROW",
        FrameExclusion::Group => " EXCLUDE GROUP",
        FrameExclusion::Ties => " EXCLUDE TIES",
    };
    if dialect.windows().only_rows_and_range && (frame.unit == FrameUnit::Groups || !without.is_empty()) {
        return Err(no_such("the source has no such frames"));
    }
    let (start, end) = (bound(&frame.start, frame.unit)?, bound(&frame.end, frame.unit)?);
    Ok(format!(" {unit} BETWEEN {start} AND {end}{without}"))
}

fn ranking(dialect: &dyn Dialect, function: Ranking, arguments: &[Expr], columns: Columns<'_>) -> Result<Sql, Refusal> {
    let mut out = Sql::of_rows(format!("{}(", function.name()));
    match (function, arguments) {
        (Ranking::PercentRank | Ranking::CumeDist, _) if dialect.windows().rounds_shares => {
            return Err((KeptReason::TypeDiffers, "shares are rounded there".to_owned()));
        }
        (Ranking::Ntile, [buckets]) => {
            out.text(&number(buckets, 1)?.to_string());
        }
        (Ranking::NthValue, [value, place]) => {
            out.push(&dialect.translate(value, columns)?).text(&format!(", {}", number(place, 1)?));
        }
        (Ranking::Lag | Ranking::Lead, [value, rest @ ..]) => {
            out.push(&dialect.translate(value, columns)?);
            if let Some(distance) = rest.first() {
                out.text(&format!(", {}", number(distance, 0)?));
            }
            match rest.get(1) {
                None | Some(Expr::Literal { value: Value::Null, .. }) => {}
                Some(_) if dialect.windows().no_default => return Err(no_such("the source has no value for no row")),
                Some(default) => {
                    out.text(", ").push(&dialect.translate(default, columns)?);
                }
            }
        }
        (_, arguments) => {
            let translated = arguments.iter().map(|a| dialect.translate(a, columns)).collect::<Result<Vec<_>, _>>()?;
            out.push(&Sql::joined(&translated, ", "));
        }
    }
    out.text(")");
    Ok(out)
}

/// The column that replaces each call in the SELECT list.
pub fn written(
    dialect: &dyn Dialect,
    partition: &[Expr],
    order: &[SortKey],
    calls: &[(Column, WindowCall)],
    columns: Columns<'_>,
) -> Result<Vec<Sql>, Refusal> {
    let mut keys = Vec::new();
    for expr in partition {
        dialect.groups(expr)?;
        keys.push(dialect.key(expr, columns)?);
    }
    let mut sorted = Vec::new();
    for key in order {
        sorted.push(dialect.sort_key(key, dialect.key(&key.expr, columns)?)?);
    }
    let mut window = Sql::default();
    if !keys.is_empty() {
        window.text("PARTITION BY ").push(&Sql::joined(&keys, ", "));
    }
    if !sorted.is_empty() {
        window.text(if keys.is_empty() { "ORDER BY " } else { " ORDER BY " }).push(&Sql::joined(&sorted, ", "));
    }
    let mut out = Vec::new();
    for (_, call) in calls {
        use Ranking::{FirstValue, LastValue, NthValue};
        let has_frame = match &call.function {
            WindowFunction::Aggregate(_) => true,
            // The others look at the whole partition whatever the frame.
            WindowFunction::Ranking { function, .. } => matches!(function, FirstValue | LastValue | NthValue),
        };
        let frame = if has_frame { frame(dialect, &call.frame)? } else { String::new() };
        let mut over = Sql::new("(");
        over.push(&window).text(&frame).text(")");
        out.push(match &call.function {
            WindowFunction::Aggregate(call) => {
                if call.distinct {
                    return Err(no_such("distinct values are told apart by the engine"));
                }
                dialect.aggregate(call, columns, Some(&over))?
            }
            WindowFunction::Ranking { ignore_nulls: true, .. } => {
                return Err(no_such("its window functions do not pass nulls over"));
            }
            WindowFunction::Ranking { function, arguments, ignore_nulls: false } => {
                let mut sql = ranking(dialect, *function, arguments, columns)?;
                sql.text(" OVER ").push(&over);
                sql
            }
        });
    }
    Ok(out)
}
