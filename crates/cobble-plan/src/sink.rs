//! Writes: what becomes of rows at their end, as data, and the contract of what carries it out. Every write is prepared first, when
//! nobody sees anything of it, and then committed.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

use arrow::array::RecordBatch;
use async_trait::async_trait;
use cobble_types::{ColumnId, ObjectName, Result, SqlType, Value};
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

use crate::document::{Piece, StepDocument};
use crate::expr::{Column, Expr, comma_separated};
use crate::offer::{Request, Verdict};
use crate::physical::{Operator, PhysicalNode, PhysicalPlan};
use crate::scan::{ScanSpec, ScanTools};

/// Where the rows of a plan go.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SinkSpec {
    /// The table under its catalog's name.
    pub table: ObjectName,
    pub rows: NewRows,
    /// Of a table in tiers: which of its rows go where.
    pub routes: Option<Box<Routes>>,
}

/// Rows from a boundary on go to one table, those before it to another.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Routes {
    /// The place of the column that is compared; without one it is null in all rows, which makes them recent ones.
    pub column: Option<usize>,
    pub sql_type: SqlType,
    /// Without one all rows are recent.
    pub boundary: Option<Value>,
    /// Rows from the boundary up to here are being moved, and new ones have no place meanwhile.
    pub moving_to: Option<Value>,
    pub recent: SinkSpec,
    pub older: SinkSpec,
}

/// Rows to be kept: as a new table, or beside those of one that is there.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct NewRows {
    pub schema: String,
    pub table: String,
    pub create: bool,
    pub columns: Vec<(String, SqlType)>,
    /// Columns of a new table that take no nulls.
    pub not_null: Vec<String>,
    pub primary_key: Vec<String>,
    /// What WITH says of a new table.
    pub options: BTreeMap<String, String>,
    /// What comes back of each row that is added.
    pub returned: Option<Added>,
    /// Of rows that take the places of others: which ones.
    pub replacing: Option<Replacing>,
}

/// Rows that take the places of others of the table, or only end them. Of each row that comes the first columns tell which of the table's rows
/// it is about, and are null for one that is added. Of a MERGE the next one tells whether there is a new row. Then come the columns.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Replacing {
    pub change: RowsChange,
    /// How many columns tell the table's rows apart.
    pub identity: usize,
    /// The columns that are set, for people.
    pub set: Vec<String>,
    /// What was read of the table to find the rows; nothing where none of them can be meant.
    pub read: Option<ScanSpec>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum RowsChange {
    Update,
    /// The columns are those of the rows as they were.
    Delete,
    Merge,
    /// Rows of a condition go, and others come. A new row is marked with true; null marks one that does not meet the condition.
    Replace,
}

impl RowsChange {
    /// Whether a column behind those that tell rows apart tells whether there is a new row.
    pub fn has_mark(self) -> bool {
        matches!(self, RowsChange::Merge | RowsChange::Replace)
    }
}

/// Columns that come back of added rows.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Added {
    /// What is written after RETURNING for them.
    pub list: String,
    pub columns: Vec<Column>,
}

/// What becomes of the rows that a scan finds.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RowChange {
    /// The places, among the scan's columns, of those that tell rows apart.
    pub identity: Vec<usize>,
    /// The columns that are set, by their names at the source; `None` deletes the rows.
    pub set: Option<Vec<(String, NewValue)>>,
    /// The columns, by their names at the source, that are given back of each row: as it has become, or as it was before it was deleted.
    pub returned: Option<Vec<Column>>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub enum NewValue {
    /// What the scan finds in the column at this place.
    Found(usize),
    /// The same in all rows, of the column's type.
    Given(Value, SqlType),
}

/// RETURNING: what is computed of each row that was written, before the write is committed. Where that fails, nothing is written.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Returning {
    /// The columns that come back from the source.
    pub columns: Vec<Column>,
    pub made: Vec<(Column, Expr)>,
}

/// Bytes of rows that a write gives back at most: they are all held until it has been committed.
pub const MOST_RETURNED: usize = 64 << 20;

/// What a write has done.
#[derive(Debug, Default)]
pub struct Outcome {
    pub rows: u64,
    pub files: u64,
    pub bytes: u64,
    /// The columns that were wanted back, in their order.
    pub returned: Vec<RecordBatch>,
    /// Bytes of them that have come from the source.
    pub received: u64,
}

/// Takes rows, on a thread that may wait. Nothing of them can be seen, and dropping the writer leaves nothing.
pub trait TableWriter: Send {
    /// What it may use of the run that it belongs to. Comes before the first rows.
    fn begin(&mut self, tools: ScanTools) {
        let _ = tools;
    }
    fn write(&mut self, batch: &RecordBatch) -> Result<()>;
    /// Completes the write, all but the last step that shows it.
    fn prepare(self: Box<Self>) -> Result<Box<dyn Prepared>>;
}

/// A write that is complete and that nobody sees. Dropped, it is undone.
#[async_trait]
pub trait Prepared: Send {
    /// Taken once, before the commit.
    fn outcome(&mut self) -> Outcome;
    async fn commit(self: Box<Self>) -> Result<()>;
}

/// A change of rows that their source is ready to make.
#[async_trait]
pub trait SourceChange: Send + Sync + fmt::Debug {
    fn request(&self) -> Request;
    /// Makes the change in a transaction that is left open. Cancelled, it is not made.
    ///
    /// # Errors
    /// Also when the rows that come back are more than [`MOST_RETURNED`].
    async fn prepare(&self, cancel: &CancellationToken) -> Result<Box<dyn Prepared>>;
}

/// The answer of a write without RETURNING: the table, and how much was written.
pub fn written_answer() -> Vec<Column> {
    let count = |name| (name, SqlType::BigInt);
    summary(&[("table", SqlType::Text), count("rows"), count("files"), count("bytes")])
}

/// The answer of a change without RETURNING: the table, and how many rows were changed.
pub fn changed_answer() -> Vec<Column> {
    summary(&[("table", SqlType::Text), ("rows", SqlType::BigInt)])
}

/// Columns with ids that no query gives.
fn summary(columns: &[(&str, SqlType)]) -> Vec<Column> {
    let column = |(place, (name, sql_type)): (usize, &(&str, SqlType))| Column {
        id: ColumnId(u32::MAX - place as u32),
        qualifier: None,
        name: (*name).to_owned(),
        sql_type: sql_type.clone(),
    };
    columns.iter().enumerate().map(column).collect()
}

impl Returning {
    fn text(&self) -> String {
        format!(", returning {}", comma_separated(self.made.iter().map(|(_, made)| made)))
    }

    fn columns(&self) -> Vec<Column> {
        self.made.iter().map(|(column, _)| column.clone()).collect()
    }
}

impl SinkSpec {
    /// What a step that writes here does, in words.
    pub fn text(&self) -> String {
        let names: Vec<&str> = self.rows.columns.iter().map(|(name, _)| name.as_str()).collect();
        let options: Vec<String> = self.rows.options.iter().map(|(name, value)| format!("{name} {value}")).collect();
        let with = if options.is_empty() { String::new() } else { format!(" with {}", options.join(", ")) };
        let table = &self.table;
        if let Some(routes) = &self.routes {
            let Routes { recent, older, .. } = routes.as_ref();
            let divided = match &routes.boundary {
                Some(boundary) => format!("from {boundary} on into {}, before it into {}", recent.table, older.table),
                None => format!("all into {}", recent.table),
            };
            return format!("insert into {table} ({}): {divided}", names.join(", "));
        }
        match &self.rows.replacing {
            Some(Replacing { change: RowsChange::Update, set, .. }) => format!("update {table} set {}", set.join(", ")),
            Some(Replacing { change: RowsChange::Delete, .. }) => format!("delete from {table}"),
            Some(Replacing { change: RowsChange::Merge, .. }) => format!("merge into {table}"),
            Some(Replacing { change: RowsChange::Replace, .. }) => format!("replace rows of {table}"),
            None if self.rows.create => format!("create {table} ({}){with}", names.join(", ")),
            None => format!("insert into {table} ({}){with}", names.join(", ")),
        }
    }
}

impl PhysicalPlan {
    /// The plan with a step on top that writes its rows.
    #[must_use]
    pub fn written_to(mut self, sink: SinkSpec, returning: Option<Returning>) -> PhysicalPlan {
        let answer = if sink.rows.replacing.is_some() { changed_answer } else { written_answer };
        let columns = returning.as_ref().map_or_else(answer, Returning::columns);
        let text = sink.text() + &returning.as_ref().map_or(String::new(), Returning::text);
        self.sinks.push(sink);
        let write = Operator::Write { sink: self.sinks.len() - 1, returning };
        self.on_top(write, text, columns)
    }

    /// The plan, which is one gate, with a step on top that lets its source change the rows it finds.
    #[must_use]
    pub fn changed_by(
        mut self,
        gate: usize,
        (table, change): (&ObjectName, RowChange),
        request: Request,
        returning: Option<Returning>,
    ) -> PhysicalPlan {
        let word = if change.set.is_some() { "update" } else { "delete" };
        let document = &mut self.document.gates[gate];
        document.request = request;
        for column in returning.iter().flat_map(|returning| &returning.columns) {
            if !document.columns_read.contains(&column.name) {
                document.columns_read.push(column.name.clone());
            }
        }
        document.pieces.push(Piece { piece: word.to_owned(), text: table.to_string(), verdict: Verdict::pushed() });
        let set: Vec<&str> = change.set.iter().flatten().map(|(name, _)| name.as_str()).collect();
        let set = if set.is_empty() { String::new() } else { format!(" set {}", set.join(", ")) };
        let from = if change.set.is_some() { "" } else { " from" };
        let text = format!("{word}{from} {table}{set}") + &returning.as_ref().map_or(String::new(), Returning::text);
        let columns = returning.as_ref().map_or_else(changed_answer, Returning::columns);
        self.on_top(Operator::Change { gate, table: table.clone(), change, returning }, text, columns)
    }

    /// The plan of a change when no row can be meant.
    #[must_use]
    pub fn changes_nothing(mut self, table: &ObjectName, returning: Option<Returning>) -> PhysicalPlan {
        let (rows, columns) = match returning {
            Some(returning) => (vec![], returning.columns()),
            None => {
                let row = [Value::Text(table.to_string()), Value::BigInt(0)].map(Expr::literal);
                (vec![row.to_vec()], changed_answer())
            }
        };
        // Nothing comes from below.
        let (text, step) = (format!("no row of {table} is meant"), 1);
        self.document.steps = vec![StepDocument {
            step,
            kind: "values".to_owned(),
            text,
            columns: columns.iter().map(ToString::to_string).collect(),
            estimated_rows: rows.len() as f64,
            ..StepDocument::default()
        }];
        self.root = Arc::new(PhysicalNode { step, operator: Operator::Values { rows }, columns, inputs: vec![] });
        self
    }

    fn on_top(mut self, operator: Operator, text: String, columns: Vec<Column>) -> PhysicalPlan {
        let below = self.document.steps.get(self.root.step - 1);
        let estimated_rows = below.map_or(0.0, |step| step.estimated_rows);
        let step = self.document.steps.len() + 1;
        self.document.steps.push(StepDocument {
            step,
            kind: operator.kind().to_owned(),
            text,
            inputs: vec![self.root.step],
            gate: None,
            columns: columns.iter().map(ToString::to_string).collect(),
            estimated_rows,
            measure: None,
        });
        self.root = Arc::new(PhysicalNode { step, operator, columns, inputs: vec![self.root] });
        self
    }
}
