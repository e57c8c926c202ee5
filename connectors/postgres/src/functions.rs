//! Functions that mean the same in PostgreSQL, by the type of their first argument. `lower` and `upper` follow the database's locale
//! there and Unicode here; `ln`, `exp`, `power` and the like may differ in the last digit between two mathematical libraries: these
//! stay in the engine.

use super::dialect::PostgresDialect;
use cobble_connect_sql::expression::plain_call;
use cobble_connect_sql::{Columns, Dialect, Refusal, Sql, wrap};
use cobble_functions::Function;
use cobble_plan::expr::Expr;
use cobble_plan::offer::KeptReason;
use cobble_types::{SqlType, Value};

/// The first arguments for which a function gives the same answer there.
type Same = fn(&SqlType) -> bool;

const TEXT: Same = |own| *own == SqlType::Text;
const TEXT_OR_BYTES: Same = |own| matches!(own, SqlType::Text | SqlType::Bytea);
const WHOLE: Same = SqlType::is_integer;
const EXACT: Same = |own| own.is_integer() || matches!(own, SqlType::Numeric { .. });
const TIME: Same = |own| own.is_time_point() || matches!(own, SqlType::Time | SqlType::Interval);
const ANY: Same = |_| true;
/// Texts, alone or within arrays and rows, are ordered by the server's locale, and documents in another way.
const ORDERED: Same = |own| !matches!(own, SqlType::Text | SqlType::Json | SqlType::Array(_) | SqlType::Row(_));

const TAKEN: &[(Function, Same)] = &[
    (Function::Length, TEXT_OR_BYTES),
    (Function::OctetLength, TEXT_OR_BYTES),
    (Function::BitLength, TEXT_OR_BYTES),
    (Function::Substring, TEXT_OR_BYTES),
    (Function::Left, TEXT),
    (Function::Right, TEXT),
    (Function::Trim, TEXT_OR_BYTES),
    (Function::TrimStart, TEXT_OR_BYTES),
    (Function::TrimEnd, TEXT_OR_BYTES),
    (Function::Replace, TEXT),
    (Function::Position, TEXT),
    (Function::SplitPart, TEXT),
    (Function::PadStart, TEXT),
    (Function::PadEnd, TEXT),
    (Function::Reverse, TEXT),
    (Function::Repeat, TEXT),
    (Function::StartsWith, TEXT),
    (Function::Translate, TEXT),
    (Function::Ascii, TEXT),
    (Function::Md5, TEXT_OR_BYTES),
    (Function::ToHex, WHOLE),
    (Function::Abs, EXACT),
    (Function::Sign, EXACT),
    (Function::Round, EXACT),
    (Function::Trunc, EXACT),
    (Function::Ceil, EXACT),
    (Function::Floor, EXACT),
    (Function::Coalesce, ANY),
    (Function::Greatest, ORDERED),
    (Function::Least, ORDERED),
    (Function::MakeDate, WHOLE),
    // The part comes first; what it is taken of is looked at where it is written.
    (Function::DatePart, TEXT),
    (Function::DateTrunc, TEXT),
];

/// A call, where its answer is provably the same.
pub fn call(function: Function, arguments: &[Expr], sql_type: &SqlType, columns: Columns<'_>) -> Result<Sql, Refusal> {
    let name = function.name();
    let first = arguments.first().map(Expr::sql_type);
    if matches!(function, Function::Greatest | Function::Least) && *sql_type == SqlType::Text {
        return Err((KeptReason::CollationDiffers, format!("{name}() orders text by the server's locale")));
    }
    let taken = TAKEN.iter().any(|(own, same)| *own == function && first.as_ref().is_some_and(same));
    if !taken {
        return Err((KeptReason::FunctionDiffers, format!("{name}() is not known to give the same answer there")));
    }
    match (function, arguments) {
        (Function::DatePart, [Expr::Literal { value: Value::Text(part), .. }, from]) if TIME(&from.sql_type()) => {
            // The part has been checked against the list of known ones, so it is safe as text.
            return Ok(wrap(
                &[&PostgresDialect.translate(from, columns)?],
                &format!("extract({part} FROM ?)::{sql_type}"),
            ));
        }
        (Function::DatePart, _) => {
            return Err((KeptReason::FunctionDiffers, "only constant parts are handed over".to_owned()));
        }
        _ => {}
    }
    let call = plain_call(&PostgresDialect, name, arguments, columns)?;
    Ok(match sql_type {
        SqlType::Numeric { .. } => wrap(&[&call], &format!("?::{sql_type}")),
        _ => call,
    })
}
