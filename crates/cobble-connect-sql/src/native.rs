//! Queries in a database's own language. Each is checked to be a single SELECT that only reads, and is then a derived table: conditions and columns are
//! written around its text.

use std::ops::ControlFlow;
use std::sync::Arc;

use cobble_plan::logical::{Origin, Table, TableColumn, TableKind};
use cobble_plan::offer::DescribedTable;
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_types::{Code, Error, ObjectName, Result, SqlType};
use sqlparser::ast::{self, Visit, Visitor};
use sqlparser::parser::Parser;

use super::{Database, DatabaseSource, RemoteColumn, RemoteTable, ranges};
use cobble_connect::TableDefinition;

/// A column of the query's result, as the connector reads and writes it.
pub struct NativeColumn {
    pub name: String,
    pub sql_type: SqlType,
    pub written: String,
    pub checks: bool,
    /// The source's type where it is read as text.
    pub note: Option<String>,
}

/// The text as it can stand in parentheses, if it is one statement that reads and nothing else.
pub fn checked(database: &dyn Database, text: &str) -> Result<String> {
    let connection = database.connection();
    let refused = |what: String, hint: &str| {
        Err(Error::new(Code::Unsupported, format!("connection {connection}: the native query {what}")).hint(hint))
    };
    if text.chars().any(|c| c.is_control() && !c.is_whitespace()) {
        return refused("has control characters".into(), "leave them out");
    }
    let statements = match Parser::parse_sql(database.dialect().parser(), text) {
        Ok(statements) => statements,
        Err(error) => {
            return refused(format!("cannot be read: {error}"), "correct it; only text that can be read is sent");
        }
    };
    let [statement @ ast::Statement::Query(_)] = statements.as_slice() else {
        return refused("is not a single SELECT".into(), "give one query that reads; several go into several calls");
    };
    match statement.visit(&mut Reading) {
        ControlFlow::Break(what) => refused(what, "take that out: native queries only read"),
        // What was parsed is what is sent, so that no comment or semicolon at the end hides what comes after.
        ControlFlow::Continue(()) => Ok(statement.to_string()),
    }
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

/// Finds what does more than read.
struct Reading;

impl Visitor for Reading {
    type Break = String;

    fn pre_visit_statement(&mut self, statement: &ast::Statement) -> ControlFlow<String> {
        match statement {
            ast::Statement::Query(_) => ControlFlow::Continue(()),
            _ => ControlFlow::Break("changes data".into()),
        }
    }

    fn pre_visit_query(&mut self, query: &ast::Query) -> ControlFlow<String> {
        if !query.locks.is_empty() {
            return ControlFlow::Break("locks rows".into());
        }
        match query.body.as_ref() {
            ast::SetExpr::Select(select) if select.into.is_some() => ControlFlow::Break("makes a table".into()),
            ast::SetExpr::Insert(_) | ast::SetExpr::Update(_) | ast::SetExpr::Delete(_) | ast::SetExpr::Merge(_) => {
                ControlFlow::Break("changes data".into())
            }
            _ => ControlFlow::Continue(()),
        }
    }

    fn pre_visit_value(&mut self, value: &ast::ValueWithSpan) -> ControlFlow<String> {
        match &value.value {
            ast::Value::Placeholder(name) => ControlFlow::Break(format!("has the parameter {name}")),
            _ => ControlFlow::Continue(()),
        }
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
