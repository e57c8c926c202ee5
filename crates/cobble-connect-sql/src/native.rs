//! Queries in a database's own language. Each is checked to be a single SELECT that only reads (`native_text.rs`), and is then a derived
//! table: conditions and columns are written around its text.

use std::sync::Arc;

use cobble_plan::logical::{Origin, Table, TableColumn, TableKind};
use cobble_plan::offer::DescribedTable;
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_types::{Code, Error, ObjectName, Result, SqlType};

use super::{Database, DatabaseSource, Functions, RemoteColumn, RemoteTable, native_text, ranges};
use cobble_connect::{ConnectionDefinition, SettingDescription, TableDefinition, setting};

/// A column of the query's result, as the connector reads and writes it.
pub struct NativeColumn {
    pub name: String,
    pub sql_type: SqlType,
    pub written: String,
    pub checks: bool,
    /// The source's type where it is read as text.
    pub note: Option<String>,
}

/// Which functions native queries may call.
pub const NATIVE_FUNCTIONS: SettingDescription = setting(
    "native_functions",
    "Functions in native queries",
    "plain refuses those that do more than give a value, such as setval; any allows all",
    Some("plain"),
);

/// What a connection says of them.
pub fn functions_of(definition: &ConnectionDefinition) -> Result<Functions> {
    match definition.option(NATIVE_FUNCTIONS.name) {
        None | Some("plain") => Ok(Functions::Plain),
        Some("any") => Ok(Functions::Any),
        Some(other) => {
            let what = format!("connection {}: native_functions cannot be \"{other}\"", definition.name);
            Err(Error::new(Code::BadSetting, what).hint("give plain or any"))
        }
    }
}

/// The text as it can stand in parentheses, if it is one statement that reads and nothing else.
pub fn checked(database: &dyn Database, text: &str) -> Result<String> {
    native_text::checked(database.dialect().parser(), text, database.native_functions()).map_err(
        |native_text::Refused { what, hint }| {
            let connection = database.connection();
            Error::new(Code::Unsupported, format!("connection {connection}: the native query {what}")).hint(hint)
        },
    )
}

/// Whether a definition is a stored query that can be sent.
pub fn check_definition(database: &dyn Database, definition: &TableDefinition) -> Result<()> {
    match &definition.query {
        Some(query) => {
            if definition.split_on.is_some() {
                database.shares_snapshots()?;
            }
            checked(database, query).map(drop)
        }
        None => Err(Error::new(Code::Unsupported, "a table of a database cannot be defined by a path")
            .hint("give it a query in the database's own language")),
    }
}

/// The query as a table, in portions by the ranges of a column when it is split. `text` is the checked one.
pub async fn table(
    database: Arc<dyn Database>,
    catalog: &str,
    text: &str,
    columns: Vec<NativeColumn>,
    split: Option<&(String, u32)>,
) -> Result<DescribedTable> {
    for (place, column) in columns.iter().enumerate() {
        let what = match column.name.as_str() {
            "" | "?column?" => format!("gives its column {} no name", place + 1),
            name if columns[..place].iter().any(|c| c.name == name) => format!("has two columns named {name}"),
            _ => continue,
        };
        return Err(Error::new(
            Code::AmbiguousName,
            format!("connection {}: the native query {what}", database.connection()),
        )
        .hint("give each column a name of its own with AS"));
    }
    let division = match split {
        None => vec![],
        Some((name, portions)) => {
            let column = columns.iter().find(|column| column.name == *name);
            let column =
                column.ok_or_else(|| Error::unknown("column", name, columns.iter().map(|c| c.name.as_str())))?;
            let from = format!("({text}) AS t1");
            ranges::of_query(database.as_ref(), (name, &column.sql_type), &from, *portions).await?
        }
    };
    let described = columns
        .iter()
        .map(|column| TableColumn {
            name: column.name.clone(),
            sql_type: column.sql_type.clone(),
            nullable: true,
            partition: false,
            comment: column.note.as_ref().map(|own| format!("{own} at the source, read as text")),
        })
        .collect();
    let statistics =
        TableStatistics { columns: vec![ColumnStatistics::default(); columns.len()], ..Default::default() };
    let remote = columns
        .into_iter()
        .map(|column| RemoteColumn { name: column.name, written: column.written, checks: column.checks, taken: None })
        .collect();
    let table = RemoteTable {
        schema: String::new(),
        name: format!("({text})"),
        columns: remote,
        division,
        identity: Err("they are those of a query".to_owned()),
    };
    let definition = match split {
        None => text.to_owned(),
        Some((column, portions)) => format!("{text} split on {column} into {portions}"),
    };
    let described = Table {
        name: ObjectName::new(catalog, "native", "native_query"),
        columns: described,
        statistics,
        primary_key: vec![],
        kind: TableKind::View,
        origin: Origin { definition: Some(definition), ..database.origin() },
    };
    Ok(DescribedTable::new(described, DatabaseSource::new(database, table)))
}
