//! The way of a result from the tasks that make it to the one that reads it: bounded in batches and in bytes.

use std::sync::Arc;

use arrow::record_batch::RecordBatch;
use cobble_types::{Error, Result};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc};

use crate::batch::bytes_of;

/// Batches of a result that may wait for a slow reader.
const BATCHES: usize = 4;
/// Their bytes, in units of a KiB. A batch that is larger waits alone.
const KIBIBYTES: u32 = 32 << 10;

/// A batch, and the room that it takes until it is read.
type Waiting = (RecordBatch, OwnedSemaphorePermit);

/// The end for the tasks.
#[derive(Debug, Clone)]
pub struct Output {
    sender: mpsc::Sender<Result<Waiting>>,
    room: Arc<Semaphore>,
}

/// The end for the reader.
#[derive(Debug)]
pub struct Outcome(mpsc::Receiver<Result<Waiting>>);

pub fn output() -> (Output, Outcome) {
    let (sender, receiver) = mpsc::channel(BATCHES);
    (Output { sender, room: Arc::new(Semaphore::new(KIBIBYTES as usize)) }, Outcome(receiver))
}

impl Output {
    /// Waits until there is room.
    ///
    /// # Errors
    /// When the reader has gone away, who wants nothing more.
    pub async fn send(&self, batch: RecordBatch) -> Result<()> {
        let size = u32::try_from(bytes_of(&batch) >> 10).unwrap_or(u32::MAX).clamp(1, KIBIBYTES);
        let room = self.room.clone().acquire_many_owned(size).await.map_err(|_| Error::cancelled())?;
        self.sender.send(Ok((batch, room))).await.map_err(|_| Error::cancelled())
    }

    /// Ends the result with an error. A reader that has gone away is not told.
    pub async fn fail(&self, error: Error) {
        let _ = self.sender.send(Err(error)).await;
    }
}

impl Outcome {
    /// The next batch; `None` after the last.
    pub async fn next(&mut self) -> Result<Option<RecordBatch>> {
        Ok(self.0.recv().await.transpose()?.map(|(batch, _)| batch))
    }
}

#[cfg(test)]
mod tests {
    use arrow::array::{ArrayRef, StringViewArray};

    use super::*;

    #[tokio::test]
    async fn large_batches_wait_one_at_a_time_and_small_ones_in_a_row() {
        let batch = |bytes: usize| {
            let text: ArrayRef = Arc::new(StringViewArray::from(vec!["x".repeat(bytes)]));
            RecordBatch::try_from_iter([("t", text)]).unwrap()
        };
        let (output, mut outcome) = output();
        for _ in 0..BATCHES {
            output.send(batch(10)).await.unwrap();
        }
        let sends = |bytes| tokio::time::timeout(std::time::Duration::from_millis(20), output.send(batch(bytes)));
        assert!(sends(10).await.is_err(), "as many batches wait as may");
        for _ in 0..BATCHES {
            outcome.next().await.unwrap().unwrap();
        }
        output.send(batch(64 << 20)).await.unwrap();
        assert!(sends(10).await.is_err(), "nothing waits beside one that is larger than all may be");
        assert_eq!(outcome.next().await.unwrap().unwrap().num_rows(), 1);
        assert!(sends(10).await.is_ok());
        drop(outcome);
        assert!(output.send(batch(1)).await.is_err());
    }
}
