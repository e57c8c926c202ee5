//! The list of columns that a statement returns by RETURNING.

use cobble_plan::expr::Column;
use cobble_types::{Error, Result};

use super::{Dialect, RemoteTable};

/// The list of RETURNING for columns of a table, written as a scan writes them, with this before their names.
pub fn list(dialect: &dyn Dialect, table: &RemoteTable, prefix: &str, columns: &[Column]) -> Result<String> {
    let mut items = Vec::new();
    for column in columns {
        let remote = table.columns.iter().find(|remote| remote.name == column.name);
        let remote = remote.ok_or_else(|| Error::internal(format!("{} has no column {column}", table.name)))?;
        let name = format!("{prefix}{}", dialect.quoted(&remote.name));
        items.push(if remote.checks { name } else { remote.written.replace("{}", &name) });
    }
    // Rows without columns are counted.
    Ok(if items.is_empty() { "1".to_owned() } else { items.join(", ") })
}
