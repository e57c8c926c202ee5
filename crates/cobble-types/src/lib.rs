//! The words every other crate speaks: SQL types, constant values, names, and errors that carry a code, a position and a hint.

pub mod array_text;
pub mod characters;
pub mod deep;
mod error;
mod names;
pub mod parse;
mod sql_type;
mod text;
mod text_form;
pub mod time_parts;
pub mod time_text;
mod type_name;
mod value;
pub mod zone;

pub use error::{Code, Error, Position, Result};
pub use names::{
    ColumnId, ObjectName, closest_name, parse_identifier, quote_identifier, quote_literal, quote_where_needed,
};
pub use sql_type::{RowField, SqlType};
pub use text::{
    array_value_text, csv_header, json_row, json_text, json_value, write_csv_rows, write_date, write_decimal,
    write_moment, write_timestamp,
};
pub use text_form::TextForm;
pub use value::Value;
