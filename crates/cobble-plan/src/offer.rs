//! The offer: how the planner asks a source to take over work, piece by piece from the scan upwards, and what it answers.
//! The same mechanism serves files, databases and anything that comes later.

use std::any::Any;
use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;

use cobble_types::{Code, ColumnId, Error, Result};
use serde::{Deserialize, Serialize};

use crate::aggregate::AggregateCall;
use crate::expr::{Column, Expr};
use crate::logical::{Join, Scan, SortKey, Table, TableColumn, TableKey};
use crate::scan::ScanSpec;
use crate::window::WindowCall;

/// What a source says about one piece of work.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "verdict", rename_all = "snake_case")]
pub enum Verdict {
    /// Done fully by the source, with provably the same meaning; the engine does not repeat it.
    Pushed {
        #[serde(skip_serializing_if = "Option::is_none", default)]
        note: Option<String>,
    },
    /// Used by the source to skip data; the engine checks again.
    Prunes {
        #[serde(skip_serializing_if = "Option::is_none", default)]
        note: Option<String>,
    },
    /// Done by the engine.
    Kept {
        reason: KeptReason,
        #[serde(skip_serializing_if = "Option::is_none", default)]
        note: Option<String>,
    },
}

impl Verdict {
    pub fn pushed() -> Verdict {
        Verdict::Pushed { note: None }
    }

    pub fn pushed_with(note: impl Into<String>) -> Verdict {
        Verdict::Pushed { note: Some(note.into()) }
    }

    pub fn kept(reason: KeptReason, note: impl Into<String>) -> Verdict {
        Verdict::Kept { reason, note: Some(note.into()) }
    }

    pub fn is_pushed(&self) -> bool {
        matches!(self, Verdict::Pushed { .. })
    }

    pub fn word(&self) -> &'static str {
        match self {
            Verdict::Pushed { .. } => "pushed",
            Verdict::Prunes { .. } => "prunes",
            Verdict::Kept { .. } => "kept",
        }
    }
}

/// Why the engine keeps a piece of work. A closed list: a new reason is a new variant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum KeptReason {
    /// This kind of source cannot do such work.
    NoSuchAbility,
    /// The source orders or compares text by another collation.
    CollationDiffers,
    /// The types at the source are not the ones the engine computes with.
    TypeDiffers,
    /// The function is not known to mean the same at the source.
    FunctionDiffers,
    /// A function that only the engine can run.
    OpaqueFunction,
    /// The result changes from call to call.
    Volatile,
    /// The tables live in different connections.
    DifferentConnections,
    /// Work below this piece stays in the engine, so this must follow it.
    BelowKept,
    /// More would cross the gate than without it.
    NotWorthIt,
    /// The rewrite that moves such work was switched off.
    SwitchedOff,
}

impl KeptReason {
    pub fn words(self) -> &'static str {
        match self {
            KeptReason::NoSuchAbility => "no such ability",
            KeptReason::CollationDiffers => "collation differs",
            KeptReason::TypeDiffers => "type differs",
            KeptReason::FunctionDiffers => "function differs",
            KeptReason::OpaqueFunction => "opaque function",
            KeptReason::Volatile => "volatile",
            KeptReason::DifferentConnections => "different connections",
            KeptReason::BelowKept => "follows kept work",
            KeptReason::NotWorthIt => "not worth it",
            KeptReason::SwitchedOff => "switched off",
        }
    }
}

/// A table as a connector found it, and what takes work on it.
#[derive(Debug, Clone)]
pub struct DescribedTable {
    pub table: Arc<Table>,
    pub source: Arc<dyn Source>,
}

impl DescribedTable {
    pub fn new(table: Table, source: impl Source + 'static) -> DescribedTable {
        DescribedTable { table: Arc::new(table), source: Arc::new(source) }
    }
}

/// Takes work on one table. Implemented by each connector; plans name tables and hold no source.
pub trait Source: Send + Sync + fmt::Debug {
    /// The columns that tell the table's rows apart, for changing them, and the source of the table with those columns at its end.
    fn changeable(&self, table: &Table) -> Result<(Vec<TableColumn>, Arc<dyn Source>)> {
        let connection = &table.origin.connection;
        Err(Error::new(Code::Unsupported, format!("the rows of connection {connection} are not changed"))
            .hint("UPDATE and DELETE are for tables of databases, by connections with writable = true"))
    }
    /// What is written after RETURNING for these columns of rows that are added to the table.
    fn added(&self, table: &Table, columns: &[Column]) -> Result<String> {
        let (_, connection) = (columns, &table.origin.connection);
        Err(Error::new(Code::Unsupported, format!("connection {connection} gives no added rows back"))
            .hint("leave RETURNING out, and SELECT the rows afterwards"))
    }
    /// Begins an offer with the columns wanted of the table.
    fn begin(&self, scan: &Scan) -> Box<dyn Offer>;
}

/// The sources of a statement's tables.
#[derive(Debug, Clone, Default)]
pub struct Sources(HashMap<TableKey, Arc<dyn Source>>);

impl Sources {
    pub fn add(&mut self, found: &DescribedTable) {
        self.0.insert(found.table.key(), found.source.clone());
    }

    pub fn of(&self, table: &Table) -> Result<&Arc<dyn Source>> {
        let found = self.0.get(&table.key());
        found.ok_or_else(|| Error::internal(format!("the source of {} was not looked up", table.name)))
    }
}

/// Work that a source has agreed to so far. The planner offers one more piece at a time, from the scan upwards, and
/// applies a piece itself, above the gate, unless the answer was `Pushed`.
///
/// After a refused piece the planner offers nothing that would have to come after it, except further filters.
pub trait Offer: Send + Sync + fmt::Debug {
    fn filter(&mut self, conjunct: &Expr) -> Verdict;
    fn project(&mut self, columns: &[(Column, Expr)]) -> Verdict;
    fn aggregate(&mut self, groups: &[(Column, Expr)], aggregates: &[(Column, AggregateCall)]) -> Verdict {
        let _ = (groups, aggregates);
        Verdict::kept(KeptReason::NoSuchAbility, "the source does not group")
    }
    fn sort(&mut self, keys: &[SortKey], fetch: Option<u64>) -> Verdict {
        let _ = (keys, fetch);
        Verdict::kept(KeptReason::NoSuchAbility, "the source does not sort")
    }
    fn limit(&mut self, limit: Option<u64>, offset: u64) -> Verdict;
    /// Adds columns computed over each row's neighbours.
    fn window(&mut self, partition: &[Expr], order: &[SortKey], calls: &[(Column, WindowCall)]) -> Verdict {
        let _ = (partition, order, calls);
        Verdict::kept(KeptReason::NoSuchAbility, "the source does not look at neighbours")
    }
    /// All rows of this and of other offers of the same connection, each with the columns that correspond to those of the result.
    fn union(&mut self, own: &[Column], others: &[(&dyn Offer, Vec<Column>)], columns: &[Column]) -> Verdict {
        let _ = (own, others, columns);
        Verdict::kept(KeptReason::NoSuchAbility, "the source does not put rows together")
    }
    /// Joins with another offer of the same connection, which this one then includes.
    fn join(&mut self, right: &dyn Offer, join: &Join) -> Verdict {
        let _ = (right, join);
        Verdict::kept(KeptReason::NoSuchAbility, "the source does not join")
    }
    fn as_any(&self) -> &dyn Any;
    /// Whether about so many keys of a join for this column would make the source read less: `Prunes` or `Kept`. Asked when all pieces
    /// have been offered.
    fn key_pass(&self, column: &Column, keys: f64) -> Verdict {
        let _ = (column, keys);
        Verdict::kept(KeptReason::NoSuchAbility, "everything is read in any case")
    }
    /// The agreed work as data, with what is known of it. Its columns come out in the order of `columns`.
    fn finish(&self, columns: &[Column]) -> Result<Agreed>;
}

/// Work that a source has agreed to, and what is known of it before it is done.
#[derive(Debug, Clone)]
pub struct Agreed {
    pub spec: ScanSpec,
    pub request: Request,
    /// Names of the source's columns that are read.
    pub columns_read: Vec<String>,
    /// Parts that will be read of those there.
    pub parts: Vec<PartCount>,
    /// Rows in the parts that will be read, when that is known: an upper bound of what comes out.
    pub most_rows: Option<f64>,
    /// True when every row of those parts comes out.
    pub all_rows_come_out: bool,
    /// Bytes at the source of what will be read, when that is known.
    pub estimated_bytes: Option<f64>,
}

impl Agreed {
    /// Of which only the request is known.
    pub fn new(spec: ScanSpec, request: Request, columns_read: Vec<String>) -> Agreed {
        Agreed {
            spec,
            request,
            columns_read,
            parts: vec![],
            most_rows: None,
            all_rows_come_out: false,
            estimated_bytes: None,
        }
    }
}

/// What a source that only reads columns takes of a projection: all of it when every column passes one through, whose place
/// it then has too. Conditions taken so far go on using the ids they were offered with.
pub fn pass_through(places: &mut HashMap<ColumnId, usize>, columns: &[(Column, Expr)]) -> Verdict {
    let mut passed = Vec::new();
    for (column, expr) in columns {
        match expr {
            Expr::Column(source) if places.contains_key(&source.id) => passed.push((column.id, places[&source.id])),
            _ => return Verdict::kept(KeptReason::NoSuchAbility, "the source does not compute"),
        }
    }
    places.extend(passed);
    Verdict::pushed()
}

/// The places of these columns.
pub fn places_of(places: &HashMap<ColumnId, usize>, columns: &[Column]) -> Result<Vec<usize>> {
    let place = |column: &Column| places.get(&column.id).copied();
    let found = columns.iter().map(|c| place(c).ok_or_else(|| Error::internal(format!("there is no column {c}"))));
    found.collect()
}

/// The request that a gate sends, as it is shown to the reader. Never holds a secret.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Request {
    /// SQL text, or words for a source that has no language.
    pub text: String,
    /// Values bound to the text's parameters, as literals.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parameters: Vec<String>,
}

/// How much of its parts a gate reads, known when planning: such as 1 of 36 files.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PartCount {
    /// `files`, `row groups`, `partitions`.
    pub parts: String,
    pub read: u64,
    pub total: u64,
}
