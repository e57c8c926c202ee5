//! The plan as a document: one JSON form that feeds the command, HTTP and the console. Everything in it was decided by the
//! planner or counted by the engine.

use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};

use crate::offer::{PartCount, Request, Verdict};

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PlanDocument {
    /// The plan as first written, and after the last rewrite, as indented lines.
    pub written: String,
    pub rewritten: String,
    /// In order of their numbers: sources first, the result last.
    pub steps: Vec<StepDocument>,
    pub gates: Vec<GateDocument>,
    /// Where work was offered in several shapes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub offers: Vec<OfferDocument>,
    pub joins: Vec<JoinDocument>,
    pub rewrites: Vec<TraceEntry>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub measures: Option<RunMeasures>,
    /// How long each phase of its planning took; told with the measures.
    #[serde(skip)]
    pub phases: Vec<Phase>,
}

/// One phase of planning: `parse`, `describe` (the tables are looked up), `bind`, `sample`, `rewrite`, `order` (of joins), `offer`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Phase {
    pub phase: String,
    pub seconds: f64,
}

impl Phase {
    pub fn new(phase: &str, time: Duration) -> Phase {
        Phase { phase: phase.to_owned(), seconds: time.as_secs_f64() }
    }
}

/// Phases that follow each other.
#[derive(Debug)]
pub struct Laps {
    began: Instant,
    pub phases: Vec<Phase>,
}

impl Laps {
    /// Begins, after the text has been parsed, where it was.
    pub fn begin(parsing: Duration) -> Laps {
        let parsed = (!parsing.is_zero()).then(|| Phase::new("parse", parsing));
        Laps { began: Instant::now(), phases: parsed.into_iter().collect() }
    }

    /// Ends a phase; the next one begins.
    pub fn end(&mut self, phase: &str) {
        self.phases.push(Phase::new(phase, self.began.elapsed()));
        self.began = Instant::now();
    }
}

/// One application of one rule.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TraceEntry {
    pub rewrite: String,
    pub about: String,
    /// False when the rule found nothing to do; before and after are then left empty.
    pub changed: bool,
    /// True when the session has switched the rule off.
    pub switched_off: bool,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub before: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub after: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    /// What the ordering of joins has weighed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub orders: Vec<JoinOrder>,
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StepDocument {
    pub step: usize,
    /// The operator, as a stable word.
    pub kind: String,
    /// What the step does, in words.
    pub text: String,
    /// Steps whose rows come in.
    pub inputs: Vec<usize>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub gate: Option<String>,
    pub columns: Vec<String>,
    pub estimated_rows: f64,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub measure: Option<StepMeasure>,
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StepMeasure {
    pub rows: u64,
    pub batches: u64,
    /// Seconds of work, added up over all tasks.
    pub seconds: f64,
    /// Most bytes held at one time.
    pub memory: u64,
    /// Bytes written to disk because memory did not suffice.
    #[serde(default)]
    pub spilled: u64,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GateDocument {
    pub gate: String,
    pub step: usize,
    pub connection: String,
    pub kind: String,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub region: Option<String>,
    pub tables: Vec<String>,
    /// Source columns that are read, and how many there are.
    pub columns_read: Vec<String>,
    pub columns_total: usize,
    pub pieces: Vec<Piece>,
    pub request: Request,
    /// Files, row groups, partitions: read of those there.
    pub parts: Vec<PartCount>,
    pub estimated_rows: f64,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub estimated_bytes: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub measure: Option<GateMeasure>,
}

/// One piece of work that was offered, and the answer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Piece {
    /// `filter`, `projection`, `join`, `aggregate`, `window`, `union`, `top-n`, `limit`, `update`, `delete`.
    pub piece: String,
    pub text: String,
    #[serde(flatten)]
    pub verdict: Verdict,
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GateMeasure {
    pub rows: u64,
    /// Bytes read from files, or received from the server.
    pub bytes: u64,
    /// Rows decoded and dropped before they left the gate.
    pub rows_dropped: u64,
    /// Rows in pages that were not decoded.
    #[serde(default)]
    pub rows_skipped: u64,
    pub requests: u64,
    /// Keys of joins that the scan was opened with.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<KeyMeasure>,
    /// The request as it was sent, when keys became part of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sent: Option<Request>,
    /// Parts that were found while reading, where planning did not know all of them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<PartCount>,
}

/// How a scan used the keys of a join.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KeyMeasure {
    pub column: String,
    /// The join's step.
    pub join: usize,
    /// Distinct keys, or rows when they were too many to be counted.
    pub keys: u64,
    /// `a list`, `a range`, `a filter`, `none`.
    pub form: String,
    /// Files or row groups that were not opened.
    pub parts_skipped: u64,
}

/// The shapes that work was offered in to a connection. Costs are rows touched; rows that cross a gate count several times.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OfferDocument {
    /// The gates that came of it.
    pub gates: Vec<String>,
    /// The shape that was taken, in words.
    pub chosen: String,
    pub cost: f64,
    /// The other shapes, cheapest first.
    pub alternatives: Vec<Alternative>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct JoinDocument {
    pub step: usize,
    pub text: String,
    /// The way that was chosen, in words, and its cost in rows touched.
    pub chosen: String,
    pub cost: f64,
    /// The other ways, cheapest first.
    pub alternatives: Vec<Alternative>,
}

/// The join order of a region of inner joins, and the orders that were rejected.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct JoinOrder {
    /// The order taken, as `(a ⋈ b) ⋈ c`, and the rows that it touches.
    pub chosen: String,
    pub cost: f64,
    /// Of the orders with another last join, the best of each; cheapest first. Empty when they were not weighed one by one.
    pub alternatives: Vec<Alternative>,
    /// The author's order.
    pub written: Alternative,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Alternative {
    pub way: String,
    pub cost: f64,
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunMeasures {
    pub planning_seconds: f64,
    /// The phases of planning, in order; before them the parsing of the whole text, which `planning_seconds` does not hold.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub phases: Vec<Phase>,
    pub seconds: f64,
    pub rows: u64,
    /// Most bytes that joins, groups and sorts held at one time.
    pub memory: u64,
}
