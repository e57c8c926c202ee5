//! What a file keeps at its end to plan with, whatever its format: parts, and the least and greatest value of each column in each.

use std::fmt;
use std::sync::Arc;

use arrow::array::ArrayRef;
use arrow::datatypes::SchemaRef;
use arrow::error::ArrowError;
use cobble_plan::expr::Expr;
use cobble_plan::logical::TableColumn;
use cobble_plan::scan::{BatchPredicate, GateCounters};
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_storage::{StoredFile, file_error};
use cobble_types::{Code, ColumnId, Result};

use crate::prune::{Hull, Range};
use crate::row_groups::Chunk;
use crate::{FileBatches, OpenFile, Shape, United, wider};

/// A decoded footer. Its file is cut into parts that can be read apart.
pub trait Footer: Send + Sync + fmt::Debug {
    fn file(&self) -> &StoredFile;
    /// The columns of the file.
    fn columns(&self) -> Result<Vec<TableColumn>>;
    /// Bytes that it takes in memory.
    fn memory(&self) -> usize;
    /// The number of parts.
    fn parts(&self) -> usize;
    /// Rows of a part.
    fn rows(&self, part: usize) -> u64;
    /// Least, greatest and nulls of a column in each part.
    fn ranges(&self, column: &TableColumn) -> Arc<Vec<Range>>;
    /// Where the columns of a table stand in this file.
    fn layout(&self, columns: &[TableColumn]) -> Layout;
    /// Bytes of these columns in a part.
    fn bytes(&self, part: usize, shape: &Shape, layout: &Layout, places: &[usize]) -> f64;
    /// What it says of a column of the file in a part.
    fn chunk(&self, part: usize, column: &str) -> Option<Chunk> {
        let _ = (part, column);
        None
    }
    /// The file's own schema; fields have their ids as [`FIELD_ID`] in their metadata, where the file has ids.
    fn schema(&self) -> &SchemaRef;
    /// Whether some rows of a part can be read without the pages between them.
    fn reads_runs(&self) -> bool {
        false
    }
    /// Reads a part.
    fn read(&self, file: &OpenFile, part: usize, reading: &PartReading<'_>) -> Result<Box<dyn FileBatches>>;
}

/// How a part is read.
pub struct PartReading<'r> {
    pub shape: &'r Shape,
    pub layout: &'r Layout,
    /// Rows that do not meet all of these are left out.
    pub conditions: &'r [Arc<FileCondition>],
    /// Rows that are not there any more, by their places in the part, in order.
    pub gone: &'r [u64],
    /// Only these rows are wanted, in order; all where there are none. For a footer that reads runs.
    pub only: &'r [std::ops::Range<u64>],
    pub batch_rows: usize,
    pub counters: &'r Arc<GateCounters>,
    /// What brings columns of the file into the form of the table's, where that is more than a cast.
    pub adapt: Option<Arc<dyn Adapt>>,
}

/// Under this name the metadata of a field hold its id.
pub const FIELD_ID: &str = "PARQUET:field_id";

/// Brings a file's columns into the form that a table has.
pub trait Adapt: Send + Sync {
    /// The column at a place of the table, of the file's own column.
    ///
    /// # Errors
    /// When the file's column cannot be brought into that form.
    fn column(&self, place: usize, own: &ArrayRef) -> std::result::Result<ArrayRef, ArrowError>;
}

/// A condition with the file's columns it needs, in the order its batches have them.
pub struct FileCondition {
    pub predicate: Arc<dyn BatchPredicate>,
    /// Places in the table.
    pub columns: Vec<usize>,
    /// The same as a condition that least and greatest values can decide, when it is one.
    pub pages: Option<PageCondition>,
}

/// A condition on one column of the file.
#[derive(Debug, Clone)]
pub struct PageCondition {
    pub condition: Expr,
    pub id: ColumnId,
    pub column: TableColumn,
}

/// Where the columns of a table stand in one file of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Layout {
    /// In the table's order, all of them.
    Same,
    /// For each its place, none where the file lacks it.
    Other(Vec<Option<usize>>),
    /// The same of columns that are read whole, as their fields may have other names there.
    Whole(Vec<Option<usize>>),
}

impl Layout {
    pub fn root(&self, place: usize) -> Option<usize> {
        match self {
            Layout::Same => Some(place),
            Layout::Other(roots) | Layout::Whole(roots) => roots.get(place).copied().flatten(),
        }
    }
}

/// The columns of all files of a table together.
pub fn united_columns(connection: &str, footers: &[Arc<dyn Footer>]) -> Result<Vec<TableColumn>> {
    let mut all = United::new(wider);
    for footer in footers {
        all.take(&footer.file().path, footer.columns()?);
    }
    if let Some(conflict) = all.conflicts.first() {
        let path = std::path::Path::new(&conflict.path);
        return Err(file_error(connection, path, Code::SourceData, conflict.words())
            .hint("in all files of a table, one of a column's types must be able to hold the others"));
    }
    Ok(all.columns())
}

/// An error where a file has a column of a type that the defined one does not hold.
pub fn check_columns(connection: &str, footers: &[Arc<dyn Footer>], columns: &[TableColumn]) -> Result<()> {
    for footer in footers {
        for own in footer.columns()? {
            let Some(column) = columns.iter().find(|column| column.name == own.name) else { continue };
            if wider(&column.sql_type, &own.sql_type).as_ref() != Some(&column.sql_type) {
                let what = format!("column {} is {}, and defined as {}", own.name, own.sql_type, column.sql_type);
                return Err(file_error(connection, &footer.file().path, Code::SourceData, what).hint(
                    "define the column with a type that holds those of all files, or discover the tables again",
                ));
            }
        }
    }
    Ok(())
}

/// Rows, ranges and nulls over all files. `origin` says where they are from.
pub fn statistics(origin: String, footers: &[Arc<dyn Footer>], columns: &[TableColumn]) -> TableStatistics {
    let rows: f64 =
        footers.iter().map(|footer| (0..footer.parts()).map(|part| footer.rows(part) as f64).sum::<f64>()).sum();
    let known = columns
        .iter()
        .map(|column| {
            if !column.sql_type.is_ordered() {
                return ColumnStatistics::default();
            }
            let mut hull = Hull::default();
            for footer in footers {
                for range in footer.ranges(column).iter().filter(|range| !range.all_null) {
                    hull.take(range.min.as_ref(), range.max.as_ref());
                }
            }
            let (min, max) = hull.bounds();
            ColumnStatistics::between(min, max, &column.sql_type, rows)
        })
        .collect();
    TableStatistics { rows: Some(rows), bytes: None, columns: known, origin: Some(origin), sample: None }
}
