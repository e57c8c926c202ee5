//! How far a call has come: what it has read, and what it says that it is doing.

use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use cobble_plan::result::Progress;
use cobble_plan::scan::GateCounters;

#[derive(Debug, Default)]
pub struct UnderWay {
    call: Mutex<Option<(Arc<GateCounters>, Instant)>>,
}

/// As long as it is kept, a call is under way.
pub struct Going<'u>(&'u UnderWay);

impl UnderWay {
    pub(crate) fn begin(&self, counters: Arc<GateCounters>) -> Going<'_> {
        *self.call.lock().unwrap_or_else(PoisonError::into_inner) = Some((counters, Instant::now()));
        Going(self)
    }

    /// None while there is no call.
    pub fn progress(&self) -> Option<Progress> {
        let call = self.call.lock().unwrap_or_else(PoisonError::into_inner);
        let (counters, began) = call.as_ref()?;
        Some(Progress {
            rows_read: counters.rows.load(Ordering::Relaxed),
            bytes_read: counters.bytes.load(Ordering::Relaxed),
            rows_out: 0,
            seconds: began.elapsed().as_secs_f64(),
            doing: counters.doing(),
        })
    }
}

impl Drop for Going<'_> {
    fn drop(&mut self) {
        *self.0.call.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }
}
