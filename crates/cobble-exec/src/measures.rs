//! What a run measures of itself, step by step and gate by gate, readable while it runs.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, PoisonError};
use std::time::Duration;

use cobble_plan::document::{GateMeasure, PlanDocument, StepMeasure};
use cobble_plan::physical::PhysicalPlan;
use cobble_plan::scan::GateCounters;

#[derive(Debug)]
pub struct StepMeter {
    pub step: usize,
    pub text: String,
    rows: AtomicU64,
    batches: AtomicU64,
    nanoseconds: AtomicU64,
    held: AtomicU64,
    held_peak: AtomicU64,
    spilled: AtomicU64,
}

/// Characters of a step's text in an error.
const SHORT: usize = 200;

impl StepMeter {
    pub fn new(step: usize, text: &str) -> StepMeter {
        StepMeter {
            step,
            text: text.to_owned(),
            rows: AtomicU64::new(0),
            batches: AtomicU64::new(0),
            nanoseconds: AtomicU64::new(0),
            held: AtomicU64::new(0),
            held_peak: AtomicU64::new(0),
            spilled: AtomicU64::new(0),
        }
    }

    /// The step as errors name it.
    pub fn label(&self) -> String {
        match self.text.char_indices().nth(SHORT) {
            Some((end, _)) => format!("step {} ({}…)", self.step, &self.text[..end]),
            None => format!("step {} ({})", self.step, self.text),
        }
    }

    pub fn output(&self, rows: usize) {
        self.rows.fetch_add(rows as u64, Ordering::Relaxed);
        self.batches.fetch_add(1, Ordering::Relaxed);
    }

    pub fn worked(&self, time: Duration) {
        self.nanoseconds.fetch_add(time.as_nanos() as u64, Ordering::Relaxed);
    }

    pub fn hold(&self, bytes: u64) {
        let held = self.held.fetch_add(bytes, Ordering::Relaxed) + bytes;
        self.held_peak.fetch_max(held, Ordering::Relaxed);
    }

    /// Counts bytes written to disk.
    pub fn spilled(&self, bytes: u64) {
        self.spilled.fetch_add(bytes, Ordering::Relaxed);
    }

    pub fn release(&self, bytes: u64) {
        self.held.fetch_sub(bytes, Ordering::Relaxed);
    }

    fn measure(&self) -> StepMeasure {
        StepMeasure {
            rows: self.rows.load(Ordering::Relaxed),
            batches: self.batches.load(Ordering::Relaxed),
            seconds: self.nanoseconds.load(Ordering::Relaxed) as f64 / 1e9,
            memory: self.held_peak.load(Ordering::Relaxed),
            spilled: self.spilled.load(Ordering::Relaxed),
        }
    }
}

/// The meters of all steps and gates of one run.
#[derive(Debug)]
pub struct Measures {
    steps: Vec<Arc<StepMeter>>,
    gates: Vec<Arc<GateCounters>>,
}

impl Measures {
    pub fn new(plan: &PhysicalPlan) -> Self {
        let steps = plan.document.steps.iter().map(|s| Arc::new(StepMeter::new(s.step, &s.text))).collect();
        Measures { steps, gates: plan.gates.iter().map(|_| Arc::default()).collect() }
    }

    pub fn step(&self, step: usize) -> Arc<StepMeter> {
        self.steps[step - 1].clone()
    }

    pub fn gate(&self, gate: usize) -> Arc<GateCounters> {
        self.gates[gate].clone()
    }

    /// Rows that have crossed all gates so far.
    pub fn rows_read(&self) -> u64 {
        self.gates.iter().map(|gate| gate.rows.load(Ordering::Relaxed)).sum()
    }

    pub fn bytes_read(&self) -> u64 {
        self.gates.iter().map(|gate| gate.bytes.load(Ordering::Relaxed)).sum()
    }

    /// Writes the present state into a plan document.
    pub fn write_into(&self, document: &mut PlanDocument) {
        for (step, meter) in document.steps.iter_mut().zip(&self.steps) {
            step.measure = Some(meter.measure());
        }
        for (gate, counters) in document.gates.iter_mut().zip(&self.gates) {
            gate.measure = Some(GateMeasure {
                rows: counters.rows.load(Ordering::Relaxed),
                bytes: counters.bytes.load(Ordering::Relaxed),
                rows_dropped: counters.rows_dropped.load(Ordering::Relaxed),
                rows_skipped: counters.rows_skipped.load(Ordering::Relaxed),
                requests: counters.requests.load(Ordering::Relaxed),
                keys: counters.keys.lock().unwrap_or_else(PoisonError::into_inner).clone(),
                sent: counters.sent.lock().unwrap_or_else(PoisonError::into_inner).clone(),
                parts: counters.parts.lock().unwrap_or_else(PoisonError::into_inner).clone(),
            });
        }
    }
}
