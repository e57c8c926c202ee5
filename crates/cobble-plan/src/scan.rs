//! Scans: what a gate sends, as data, and what runs it. Any process that has the connection makes a scan of the data.

use std::any::Any;
use std::fmt;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::BooleanArray;
use arrow::record_batch::RecordBatch;
use async_trait::async_trait;
use cobble_types::{Code, Error, ObjectName, Result};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

use crate::document::KeyMeasure;
use crate::expr::{Column, Expr};
use crate::key_pass::LearnedKeys;
use crate::offer::{PartCount, Request};
use crate::serial::{Bytes, from_bytes, to_bytes};
use crate::sink::{RowChange, SourceChange};

/// The work of one gate as data.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ScanSpec {
    pub connection: String,
    /// The first table: its catalog may have settings of its own for the connection.
    pub table: ObjectName,
    /// The kind of connector that the payload is for.
    pub kind: String,
    /// The version of the payload's form, counted by the kind.
    pub form: u16,
    pub payload: Bytes,
    /// What can be read apart, in the kind's own form. With none, the scan is one portion.
    pub portions: Vec<Bytes>,
}

impl ScanSpec {
    /// Packs a kind's own description of its work.
    pub fn new(
        (connection, kind): (&str, &str),
        table: &ObjectName,
        form: u16,
        payload: &impl Serialize,
    ) -> Result<ScanSpec> {
        Ok(ScanSpec {
            connection: connection.to_owned(),
            table: table.clone(),
            kind: kind.to_owned(),
            form,
            payload: to_bytes(payload)?,
            portions: vec![],
        })
    }

    pub fn with_portions<P: Serialize>(mut self, portions: impl IntoIterator<Item = P>) -> Result<ScanSpec> {
        self.portions = portions.into_iter().map(|portion| to_bytes(&portion)).collect::<Result<_>>()?;
        Ok(self)
    }

    /// The description, if it is of this form.
    pub fn unpack<T: DeserializeOwned>(&self, form: u16) -> Result<T> {
        if self.form != form {
            let what = format!(
                "connection {}: this work is in form {} of kind {}, and form {form} is understood",
                self.connection, self.form, self.kind
            );
            return Err(Error::new(Code::Unsupported, what).hint("plan the statement again with this version"));
        }
        from_bytes(&self.payload)
    }

    pub fn unpack_portions<P: DeserializeOwned>(&self) -> Result<Vec<P>> {
        self.portions.iter().map(|portion| from_bytes(portion)).collect()
    }
}

/// Makes scans of their descriptions: the connections that a plan runs with.
pub trait Scans {
    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>>;
    /// The scan as a statement that changes the rows it finds, of the table that was made changeable.
    fn change(&self, spec: &ScanSpec, change: &RowChange) -> Result<Arc<dyn SourceChange>>;
}

/// The work of one gate, ready to run, as often as wanted.
#[async_trait]
pub trait GateScan: Send + Sync + fmt::Debug {
    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>>;
    /// Whether there may be more portions than were agreed: some are found while others are read.
    fn finds_more(&self) -> bool {
        false
    }
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
    pub memory: Arc<dyn ScanMemory>,
}

/// Bytes of values after which a batch that is being read has no further row, however few it has.
pub const BATCH_BYTES: u64 = 8 << 20;

/// The memory that a scan takes for what it has read and not handed on yet.
pub trait ScanMemory: Send + Sync + fmt::Debug {
    /// Takes bytes, until what is returned is dropped.
    ///
    /// # Errors
    /// When the run may not have that much.
    fn take(&self, bytes: u64) -> Result<Box<dyn Any + Send + Sync>>;
}

/// Memory without a bound, for what is small.
#[derive(Debug)]
pub struct Unbounded;

impl ScanMemory for Unbounded {
    fn take(&self, _: u64) -> Result<Box<dyn Any + Send + Sync>> {
        Ok(Box::new(()))
    }
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
    /// Parts that were found while the scan ran, where planning did not know all of them.
    pub parts: Mutex<Vec<PartCount>>,
    /// What work beside plans is doing.
    doing: Mutex<Option<String>>,
}

impl GateCounters {
    /// Says what is being done, in words with counts, such as `3 of 12 files read`.
    pub fn tell(&self, doing: String) {
        *self.doing.lock().unwrap_or_else(PoisonError::into_inner) = Some(doing);
    }

    pub fn doing(&self) -> Option<String> {
        self.doing.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    pub fn add(counter: &AtomicU64, amount: u64) {
        counter.fetch_add(amount, Ordering::Relaxed);
    }

    /// Notes how the keys of a join were used, and how many parts they made unnecessary. Gives the place of the note, for
    /// [`GateCounters::skipped`].
    pub fn used(&self, keys: &LearnedKeys, form: &str, parts_skipped: u64) -> usize {
        let mut all = self.keys.lock().unwrap_or_else(PoisonError::into_inner);
        all.push(KeyMeasure {
            column: keys.pass.column.to_string(),
            join: keys.pass.join,
            keys: keys.count as u64,
            form: form.to_owned(),
            parts_skipped,
        });
        all.len() - 1
    }

    /// Notes further parts that these keys made unnecessary.
    pub fn skipped(&self, place: usize, parts: u64) {
        if let Some(own) = self.keys.lock().unwrap_or_else(PoisonError::into_inner).get_mut(place) {
            own.parts_skipped += parts;
        }
    }
}
