//! The table that `rows_at('path', …)` means: files of a catalog, or of this machine, read as a definition would have them read.

use std::sync::Arc;

use cobble_connect::{Connector, TableDefinition};
use cobble_plan::facts::{FactRows, Facts, Filtered};
use cobble_plan::offer::DescribedTable;
use cobble_sql::RowsAt;
use cobble_types::{Code, Error, ObjectName, Result};

use crate::catalogs::CatalogSet;

/// What may be said of files, as in a table's definition.
const OPTIONS: &[&str] = &[
    "format",
    "files",
    "columns",
    "delimiter",
    "quote",
    "escape",
    "comment",
    "header",
    "encoding",
    "decimal",
    "thousands",
    "dates",
    "nulls",
];

fn definition(call: &RowsAt, path: &str) -> Result<TableDefinition> {
    let mut wanted = TableDefinition { path: Some(path.to_owned()), ..TableDefinition::default() };
    for (name, value) in &call.options {
        let text = Some((*value).to_owned());
        match name.as_str() {
            "format" => wanted.format = text,
            "files" => wanted.files = text,
            "delimiter" => wanted.delimiter = text,
            "quote" => wanted.quote = text,
            "escape" => wanted.escape = text,
            "comment" => wanted.comment = text,
            "encoding" => wanted.encoding = text,
            "decimal" => wanted.decimal = text,
            "thousands" => wanted.thousands = text,
            "dates" => wanted.dates = text,
            "nulls" => wanted.nulls = text,
            "header" => {
                wanted.header =
                    Some(value.parse().map_err(|_| {
                        Error::new(Code::BadSetting, format!("header is true or false, not \"{value}\""))
                    })?);
            }
            "columns" => wanted.columns = columns(value)?,
            _ => return Err(Error::unknown("option of rows_at()", name, OPTIONS.iter().copied())),
        }
    }
    wanted.check("rows_at()")?;
    Ok(wanted)
}

/// `route bigint, fare numeric(8,2)`: commas within parentheses are part of a type.
fn columns(text: &str) -> Result<Vec<cobble_connect::DefinedColumn>> {
    let (mut parts, mut depth, mut quoted) = (vec![String::new()], 0i32, false);
    for sign in text.chars() {
        match sign {
            '"' => quoted = !quoted,
            '(' if !quoted => depth += 1,
            ')' if !quoted => depth -= 1,
            _ => {}
        }
        match (sign, parts.last_mut()) {
            (',', _) if depth == 0 && !quoted => parts.push(String::new()),
            (_, Some(last)) => last.push(sign),
            _ => {}
        }
    }
    parts.iter().map(|part| part.parse()).collect()
}

/// The schema that such tables are said to be in.
pub const SCHEMA: &str = "rows_at";

/// True for a path of the service's machine, where others begin with a catalog.
pub fn is_of_machine(path: &str) -> bool {
    path.starts_with(['/', '.'])
}

/// How the files at a path are put together, with the name that they go by.
pub async fn facts(
    set: &CatalogSet,
    path: &str,
    wanted: Facts,
    filtered: Option<&Filtered>,
) -> Result<(ObjectName, Option<FactRows>)> {
    let path = path.trim();
    let (catalog, connector, inner) = place(set, path)?;
    let definition = TableDefinition { path: Some(inner.to_owned()), ..TableDefinition::default() };
    let name = ObjectName::new(catalog, SCHEMA, path);
    let found = connector.facts(&name, Some(&definition), wanted, filtered).await?;
    Ok((name, found))
}

/// The catalog of a path, its connector, and the path below that's address.
fn place<'p>(set: &CatalogSet, path: &'p str) -> Result<(&'p str, Arc<dyn Connector>, &'p str)> {
    match is_of_machine(path) {
        // The address itself may be a folder, a file or a pattern.
        true => Ok(("files", set.files_of_machine(path)?, "")),
        false => {
            let (catalog, rest) = path.split_once('/').unwrap_or((path, ""));
            let known = set.connector(catalog).map_err(|error| {
                let hint = "the path begins with a catalog of files, or with / for a file of the service's machine";
                if error.hint.is_none() { error.hint(hint) } else { error }
            })?;
            Ok((catalog, known.clone(), rest))
        }
    }
}

pub async fn table(set: &CatalogSet, call: &RowsAt) -> Result<DescribedTable> {
    let path = call.path.trim();
    let (catalog, connector, inner) = place(set, path)?;
    let definition = definition(call, inner)?;
    connector
        .check_definition(&definition)
        .map_err(|e| Error { message: format!("table rows_at(): {}", e.message), ..e })?;
    connector.defined(&ObjectName::new(catalog, SCHEMA, path), &definition).await
}
