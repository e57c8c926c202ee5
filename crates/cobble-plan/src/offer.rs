//! The offer: the planner asks a source what of a fragment it does, and gets a verdict for each piece and the agreed work as data. The
//! same mechanism serves files, databases and anything that comes later.

use std::collections::{BTreeMap, HashMap};
use std::fmt;
use std::sync::Arc;

use async_trait::async_trait;
use cobble_types::{Code, ColumnId, Error, Result};
use serde::{Deserialize, Serialize};

use crate::alter::OrderedColumn;
use crate::expr::{Column, Expr};
use crate::fragment::{Answer, Fragment};
use crate::logical::{Table, TableColumn, TableKey};
use crate::sample::Sample;
use crate::scan::ScanSpec;

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

/// What is needed to change rows of a table.
#[derive(Debug)]
pub struct Changeable {
    /// The columns that tell the table's rows apart.
    pub identity: Vec<TableColumn>,
    /// The source of the table with those columns at its end.
    pub source: Arc<dyn Source>,
    pub by: ChangedBy,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChangedBy {
    /// The source finds the rows and changes them, in one statement.
    Source,
    /// The rows are found here, and its writer takes what they become.
    Writer,
}

/// Takes work on one table. Implemented by each connector; plans name tables and hold no source.
#[async_trait]
pub trait Source: Send + Sync + fmt::Debug {
    /// How the table's rows are changed.
    fn changeable(&self, table: &Table) -> Result<Changeable> {
        let connection = &table.origin.connection;
        Err(Error::new(Code::Unsupported, format!("rows of connection {connection} cannot be changed"))
            .hint("UPDATE and DELETE are for tables of databases and lakes, by connections with writable = true"))
    }
    /// What `WITH` would say of a new table that is to keep its rows as this one does: its partitions, order and properties.
    fn kept_as(&self) -> BTreeMap<String, String> {
        BTreeMap::new()
    }
    /// The order in which rows that are added should come.
    fn row_order(&self) -> Vec<OrderedColumn> {
        vec![]
    }
    /// What is written after RETURNING for these columns of rows that are added to the table.
    fn added(&self, table: &Table, columns: &[Column]) -> Result<String> {
        let (_, connection) = (columns, &table.origin.connection);
        Err(Error::new(Code::Unsupported, format!("connection {connection} does not return added rows"))
            .hint("leave RETURNING out, and SELECT the rows afterwards"))
    }
    /// Whether a fragment may hold several tables of the connection; otherwise each table is offered by itself.
    fn reads_together(&self) -> bool {
        false
    }
    /// What the source of another table must know of this one to read both together, in the kind's own form.
    fn facts(&self) -> Result<Vec<u8>> {
        Err(Error::internal("the tables of this connection are read one by one"))
    }
    /// Rows that stand for all of the table, with its columns at these places; none where the source knows better, or has no way to rows
    /// that are spread over the table. What was drawn is kept while the table stays as it is.
    async fn sample(&self, places: &[usize]) -> Result<Option<Sample>> {
        let _ = places;
        Ok(None)
    }
    /// What of the fragment the source does. Asked of the source of its first table, with those of all tables. Dropping the future gives
    /// the question up.
    async fn answer(&self, fragment: &Fragment, sources: &Sources) -> Result<Answer>;
    /// Whether about so many keys of a join would make the source read less: `Prunes` or `Kept`. They are for the column that comes out of
    /// the scan at this place.
    async fn takes_keys(&self, spec: &ScanSpec, place: usize, column: &Column, keys: f64) -> Result<Verdict> {
        let _ = (spec, place, column, keys);
        Ok(Verdict::kept(KeptReason::NoSuchAbility, "everything is read in any case"))
    }
}

/// The sources of a statement's tables.
#[derive(Debug, Clone, Default)]
pub struct Sources(HashMap<TableKey, Arc<dyn Source>>);

impl Sources {
    pub fn add(&mut self, found: &DescribedTable) {
        self.0.insert(found.table.key(), found.source.clone());
    }

    pub fn of(&self, table: &Table) -> Result<&Arc<dyn Source>> {
        self.at(&table.key())
    }

    pub fn at(&self, key: &TableKey) -> Result<&Arc<dyn Source>> {
        self.0.get(key).ok_or_else(|| Error::internal(format!("the source of {} was not looked up", key.name)))
    }
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

/// Takes a limit as the most rows that are wanted in all, those passed over included; says how many these are now asked to be.
pub fn at_most(known: &mut Option<u64>, limit: u64, offset: u64) -> u64 {
    let wanted = limit.saturating_add(offset);
    *known = Some(known.map_or(wanted, |known| known.min(wanted)));
    wanted
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
    /// `files`, `row groups`, `partitions`; `row groups in them` where only those of the files left are known.
    pub parts: String,
    pub read: u64,
    pub total: u64,
}
