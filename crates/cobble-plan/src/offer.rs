//! The offer: how the planner asks a source to take over work, piece by piece from the scan upwards, and what it answers.
//! The same mechanism serves files, databases and anything that comes later.

use std::any::Any;
use std::collections::HashMap;
use std::fmt;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::BooleanArray;
use arrow::record_batch::RecordBatch;
use async_trait::async_trait;
use cobble_types::{Code, ColumnId, Error, Result, SqlType, Value};
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

use crate::aggregate::AggregateCall;
use crate::document::KeyMeasure;
use crate::expr::{Column, Expr};
use crate::key_pass::LearnedKeys;
use crate::logical::{Join, Scan, SortKey, TableColumn};
use crate::window::WindowCall;

/// What a source says about one piece of work.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
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

/// One connection's tables as the planner sees them. Implemented by each connector.
pub trait Source: Send + Sync + fmt::Debug {
    /// The name of the connection. Offers of one connection may be joined.
    fn connection(&self) -> &str;
    /// The kind of connector, such as `postgres`.
    fn kind(&self) -> &str;
    fn region(&self) -> Option<&str>;
    /// True when fields of a column of rows can be read apart: the scan's column then has a type with only those wanted.
    fn reads_fields(&self) -> bool {
        false
    }
    /// The same table with further columns at its end: together they tell its rows apart, and serve for nothing but changing them.
    fn changeable(&self) -> Result<(Vec<TableColumn>, Arc<dyn Source>)> {
        Err(Error::new(Code::Unsupported, format!("the rows of connection {} are not changed", self.connection()))
            .hint("UPDATE and DELETE are for tables of databases, by connections with writable = true"))
    }
    /// What is written after RETURNING for these columns of rows that are added to the table.
    fn added(&self, columns: &[Column]) -> Result<String> {
        let _ = columns;
        Err(Error::new(Code::Unsupported, format!("connection {} gives no added rows back", self.connection()))
            .hint("leave RETURNING out, and SELECT the rows afterwards"))
    }
    /// Begins an offer with one table and the columns wanted of it.
    fn begin(&self, scan: &Scan) -> Box<dyn Offer>;
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
    /// The agreed work as something that can be run: its columns come out in the order of `columns`.
    fn finish(&self, columns: &[Column]) -> Result<Arc<dyn GateScan>>;
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
pub struct Request {
    /// SQL text, or words for a source that has no language.
    pub text: String,
    /// Values bound to the text's parameters, as literals.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parameters: Vec<String>,
}

/// How much of its parts a gate reads, known when planning: such as 1 of 36 files.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PartCount {
    /// `files`, `row groups`, `partitions`.
    pub parts: String,
    pub read: u64,
    pub total: u64,
}

/// Agreed work, ready to run. Planning never opens one; running may open it many times.
#[async_trait]
pub trait GateScan: Send + Sync + fmt::Debug {
    fn request(&self) -> Request;
    /// Names of the source's columns that are read.
    fn columns_read(&self) -> Vec<String>;
    /// Parts that will be read of those there.
    fn parts(&self) -> Vec<PartCount>;
    /// Rows in the parts that will be read, when that is known: an upper bound of what comes out.
    fn most_rows(&self) -> Option<f64> {
        None
    }
    /// True when every row of those parts comes out.
    fn all_rows_come_out(&self) -> bool {
        false
    }
    /// Bytes at the source of what will be read, when that is known.
    fn estimated_bytes(&self) -> Option<f64>;
    /// Whether about so many keys of a join for the column at this place would make the scan read less: `Prunes` or `Kept`.
    fn key_pass(&self, place: usize, keys: f64) -> Verdict {
        let _ = (place, keys);
        Verdict::kept(KeptReason::NoSuchAbility, "everything is read in any case")
    }
    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>>;
    /// The scan as a statement that changes the rows it finds, of the table that was made changeable.
    fn change(&self, change: &RowChange) -> Result<Arc<dyn SourceChange>> {
        let _ = change;
        Err(Error::internal("a change of rows at a source that changes none"))
    }
}

/// What becomes of the rows that a scan finds.
#[derive(Debug, Clone)]
pub struct RowChange {
    /// The places, among the scan's columns, of those that tell rows apart.
    pub identity: Vec<usize>,
    /// The columns that are set, by their names at the source; `None` deletes the rows.
    pub set: Option<Vec<(String, NewValue)>>,
    /// The columns, by their names at the source, that are given back of each row: as it has become, or as it was before it was deleted.
    pub returned: Option<Vec<Column>>,
}

/// What a change has done.
#[derive(Debug, Default)]
pub struct Changed {
    pub rows: u64,
    /// The columns that were wanted back, in their order.
    pub returned: Vec<RecordBatch>,
    /// Bytes of them that have come from the source.
    pub bytes: u64,
}

/// Refuses a change by the rows that it gives back.
pub type Acceptance<'a> = &'a (dyn Fn(&[RecordBatch]) -> Result<()> + Send + Sync);

/// Bytes of rows that a change gives back at most: they are all held until it has been made for good.
pub const MOST_RETURNED: usize = 64 << 20;

#[derive(Debug, Clone)]
pub enum NewValue {
    /// What the scan finds in the column at this place.
    Found(usize),
    /// The same in all rows, of the column's type.
    Given(Value, SqlType),
}

/// A change that a source is ready to make.
#[async_trait]
pub trait SourceChange: Send + Sync + fmt::Debug {
    fn request(&self) -> Request;
    /// Makes it, whole or not at all. Cancelled, it is not made, unless it was already being committed.
    ///
    /// # Errors
    /// Also when the rows that come back are more than [`MOST_RETURNED`], and those of `accept`, which sees them before the change is
    /// made for good.
    async fn run(&self, accept: Acceptance<'_>, cancel: &CancellationToken) -> Result<Changed>;
}

/// What a scan needs from the run it is part of.
#[derive(Clone)]
pub struct ScanTools {
    pub cancel: CancellationToken,
    pub counters: Arc<GateCounters>,
    pub compiler: Arc<dyn PredicateCompiler>,
    /// Rows wanted in a batch.
    pub batch_rows: usize,
    /// Keys of joins that have been collected: every row without one of them may be left out.
    pub keys: Vec<LearnedKeys>,
}

/// Turns conditions into something that can be evaluated on batches; the engine's expressions, lent to connectors.
pub trait PredicateCompiler: Send + Sync {
    /// Compiles the condition for batches with exactly these columns.
    fn compile(&self, condition: &Expr, columns: &[Column]) -> Result<Arc<dyn BatchPredicate>>;
}

pub trait BatchPredicate: Send + Sync {
    /// One value per row; a null counts as false.
    fn evaluate(&self, batch: &RecordBatch) -> Result<BooleanArray>;
}

/// The portions of a scan, claimed one by one by parallel tasks until none is left.
#[async_trait]
pub trait Portions: Send + Sync {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>>;
}

/// Reads one portion. Dropping it before the end stops the work at the source.
#[async_trait]
pub trait PortionReader: Send {
    async fn next(&mut self) -> Result<Option<RecordBatch>>;
}

/// What crossed a gate, counted while it happens.
#[derive(Debug, Default)]
pub struct GateCounters {
    pub rows: AtomicU64,
    /// Bytes read from files, or received from a server. Shared with what reads a file.
    pub bytes: Arc<AtomicU64>,
    /// Rows that were decoded and dropped inside the gate by late materialisation.
    pub rows_dropped: AtomicU64,
    /// Rows of pages that were not decoded, as the page's least and greatest values leave none.
    pub rows_skipped: AtomicU64,
    /// Requests sent to a server, or parts of files opened. Counted by who sends or opens them.
    pub requests: AtomicU64,
    /// Keys of joins that were used, and the request when they became part of it.
    pub keys: Mutex<Vec<KeyMeasure>>,
    pub sent: Mutex<Option<Request>>,
}

impl GateCounters {
    pub fn add(counter: &AtomicU64, amount: u64) {
        counter.fetch_add(amount, Ordering::Relaxed);
    }

    /// Notes how the keys of a join were used, and how many parts they made unnecessary.
    pub fn used(&self, keys: &LearnedKeys, form: &str, parts_skipped: u64) {
        self.keys.lock().unwrap_or_else(PoisonError::into_inner).push(KeyMeasure {
            column: keys.pass.column.to_string(),
            join: keys.pass.join,
            keys: keys.count as u64,
            form: form.to_owned(),
            parts_skipped,
        });
    }
}
