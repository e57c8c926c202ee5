//! What writing into databases has in common: whether a connection may, the statement that makes a table, and values as texts.

use arrow::array::Array;
use cobble_types::{Code, Error, Result, SqlType, Value, array_value_text};

use super::{Dialect, Parameter};
use cobble_connect::SettingDescription;
use cobble_connect::TableChange;
use cobble_plan::sink::NewRows;

/// The setting that lets a connection write.
pub const WRITABLE: SettingDescription = SettingDescription {
    name: "writable",
    label: "Tables may be written",
    help: "true lets CREATE TABLE … AS, INSERT, UPDATE and DELETE work there, each statement in one transaction",
    required: false,
    secret: false,
    default: Some("false"),
};

/// Refuses what a connection's definition does not let be done.
pub fn allowed(connection: &str, writable: bool) -> Result<()> {
    match writable {
        true => Ok(()),
        false => Err(Error::new(Code::Unsupported, format!("connection {connection} does not allow writing"))
            .hint("set writable = true for it, and give its user the rights")),
    }
}

/// Refuses writes that no database supports.
pub fn check(connection: &str, writable: bool, rows: &NewRows) -> Result<()> {
    allowed(connection, writable)?;
    match rows.options.keys().next() {
        Some(option) => Err(Error::new(
            Code::BadSetting,
            format!("connection {connection}: there is no option {option} for a table there"),
        )
        .hint("WITH is for folders of files")),
        None => Ok(()),
    }
}

/// The statement that makes a table. `type_name` gives the name of a type there, or nothing where there is none.
pub fn create(
    connection: &str,
    dialect: &dyn Dialect,
    place: &str,
    rows: &NewRows,
    type_name: impl Fn(&SqlType) -> Option<String>,
) -> Result<String> {
    let column = |(name, sql_type): &(String, SqlType)| {
        let written = type_name(sql_type).ok_or_else(|| {
            let what = format!("connection {connection}: there is no type for column {name}, which is {sql_type}");
            Error::new(Code::Unsupported, what).hint("cast it to text")
        })?;
        let no_nulls = if rows.not_null.contains(name) { " NOT NULL" } else { "" };
        Ok(format!("{} {written}{no_nulls}", dialect.quoted(name)))
    };
    let mut parts = rows.columns.iter().map(column).collect::<Result<Vec<_>>>()?;
    if !rows.primary_key.is_empty() {
        let key: Vec<String> = rows.primary_key.iter().map(|name| dialect.quoted(name)).collect();
        parts.push(format!("PRIMARY KEY ({})", key.join(", ")));
    }
    Ok(format!("CREATE TABLE {place} ({})", parts.join(", ")))
}

/// The statement that changes a whole table. `empty` is how the database takes all rows of one.
pub fn change(change: TableChange, place: &str, empty: &str) -> String {
    match change {
        TableChange::Drop => format!("DROP TABLE {place}"),
        TableChange::Truncate => format!("{empty} {place}"),
    }
}

/// What follows the values of an INSERT whose rows come back.
pub fn returning(rows: &NewRows) -> String {
    rows.returned.as_ref().map_or(String::new(), |added| format!(" RETURNING {}", added.list))
}

/// The names of the columns, quoted, with commas between them.
pub fn names(dialect: &dyn Dialect, columns: &[(String, SqlType)]) -> String {
    columns.iter().map(|(name, _)| dialect.quoted(name)).collect::<Vec<_>>().join(", ")
}

/// A value for a column of a database without zones: moments are those of UTC.
pub fn stored(value: &Value, sql_type: &SqlType) -> Parameter {
    let own = Parameter(value.clone(), sql_type.clone());
    match value {
        Value::TimestampTz(_) => Parameter(Value::Text(own.text().trim_end_matches("+00").to_owned()), SqlType::Text),
        _ => own,
    }
}

/// A value as a text that the database reads as one of the column's type.
pub fn text(array: &dyn Array, row: usize, sql_type: &SqlType) -> Option<String> {
    let text = array_value_text(array, row)?;
    Some(match sql_type {
        // Databases without zones read moments of UTC.
        SqlType::TimestampTz => text.trim_end_matches("+00").to_owned(),
        _ => text,
    })
}
