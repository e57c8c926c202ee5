//! A SQLite column may hold values of other types than it declares, unless its table is STRICT. Statements wrap such columns in functions of ours, which
//! return the value or end the statement with an error that names it. SQLite then computes with the same values as the engine would.

use rusqlite::functions::{Context, FunctionFlags};
use rusqlite::types::{Value, ValueRef};
use rusqlite::{Connection, Error};

use cobble_types::{Code, SqlType};

/// The function for columns of a type; `None` where nothing is done with the values but reading them.
pub fn function(sql_type: &SqlType) -> Option<&'static str> {
    Some(match sql_type {
        SqlType::BigInt => "cobble_whole",
        SqlType::Boolean => "cobble_truth",
        SqlType::Double => "cobble_real",
        SqlType::Text => "cobble_text",
        SqlType::Date => "cobble_date",
        _ => return None,
    })
}

fn is_date(text: &[u8]) -> bool {
    text.len() == 10 && std::str::from_utf8(text).ok().and_then(cobble_types::parse::parse_date).is_some()
}

fn checked(context: &Context<'_>, wanted: &str, fits: impl Fn(ValueRef<'_>) -> bool) -> Result<Value, Error> {
    let value = context.get_raw(0);
    if value == ValueRef::Null || fits(value) {
        return Value::try_from(value).map_err(|e| Error::UserFunctionError(Box::new(e)));
    }
    let column: String = context.get(1)?;
    let shown = match value {
        ValueRef::Text(text) => format!("'{}'", String::from_utf8_lossy(text).chars().take(40).collect::<String>()),
        ValueRef::Integer(v) => v.to_string(),
        ValueRef::Real(v) => v.to_string(),
        _ => "bytes".to_owned(),
    };
    let what = format!("column {column} holds {shown}, which is no {wanted} as the column was described");
    Err(as_failure(cobble_types::Error::new(Code::SourceData, what)))
}

/// Begins the message of an error of ours, which then has the error itself as JSON.
const MARK: &str = "cobble: ";

/// An error of ours on its way through SQLite, which only carries texts.
pub fn as_failure(error: cobble_types::Error) -> Error {
    Error::UserFunctionError(format!("{MARK}{}", serde_json::to_string(&error).unwrap_or(error.message)).into())
}

/// The error of ours in a message of SQLite, if it is one.
pub fn ours(message: &str) -> Option<cobble_types::Error> {
    let at = message.find(MARK)? + MARK.len();
    serde_json::from_str(&message[at..]).ok()
}

pub fn install(connection: &Connection) -> rusqlite::Result<()> {
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC;
    connection.create_scalar_function("cobble_whole", 2, flags, |c| {
        checked(c, "bigint", |v| matches!(v, ValueRef::Integer(_)))
    })?;
    connection.create_scalar_function("cobble_truth", 2, flags, |c| {
        checked(c, "boolean", |v| matches!(v, ValueRef::Integer(0 | 1)))
    })?;
    connection.create_scalar_function("cobble_real", 2, flags, |c| {
        checked(c, "double precision", |v| matches!(v, ValueRef::Real(_) | ValueRef::Integer(_)))
    })?;
    connection
        .create_scalar_function("cobble_text", 2, flags, |c| checked(c, "text", |v| matches!(v, ValueRef::Text(_))))?;
    connection.create_scalar_function("cobble_date", 2, flags, |c| {
        checked(c, "date", |v| matches!(v, ValueRef::Text(text) if is_date(text)))
    })
}
