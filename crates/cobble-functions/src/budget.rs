//! What the evaluation of one batch may make. A kernel takes bytes here before it makes them: `repeat('x', 60000000)` over 8192 rows
//! would want 490 GB, and is evaluated in smaller batches instead.

use std::cell::Cell;

use cobble_types::{Code, Error, Result};

/// Bytes that an evaluation may make where nobody has said so: on a single row, or outside a run.
pub const UNSAID: u64 = 256 << 20;

thread_local! {
    static CURRENT: Cell<Option<Budget>> = const { Cell::new(None) };
}

#[derive(Debug, Clone, Copy)]
struct Budget {
    limit: u64,
    used: u64,
    exceeded: bool,
}

/// How an evaluation within a budget has ended.
#[derive(Debug)]
pub enum Spent<T> {
    /// With the bytes that it took.
    Within(T, u64),
    Exceeded(Error),
    Failed(Error),
}

/// Runs `make`, which may take so many bytes on this thread. The budget around it, if there is one, comes back afterwards.
pub fn within<T>(limit: u64, make: impl FnOnce() -> Result<T>) -> Spent<T> {
    /// Puts the budget back, also after a panic.
    struct Outer(Option<Budget>);
    impl Drop for Outer {
        fn drop(&mut self) {
            CURRENT.set(self.0);
        }
    }
    let outer = Outer(CURRENT.replace(Some(Budget { limit, used: 0, exceeded: false })));
    let made = make();
    let own = CURRENT.get();
    drop(outer);
    match (made, own) {
        (Ok(made), own) => Spent::Within(made, own.map_or(0, |own| own.used)),
        (Err(error), Some(Budget { exceeded: true, .. })) => Spent::Exceeded(error),
        (Err(error), _) => Spent::Failed(error),
    }
}

/// True while a budget holds on this thread.
pub fn is_set() -> bool {
    CURRENT.get().is_some()
}

/// Takes bytes for what `name` is about to make.
///
/// # Errors
/// When that is more than is left.
pub fn take(name: &str, bytes: usize) -> Result<()> {
    let mut budget = CURRENT.get().unwrap_or(Budget { limit: UNSAID, used: 0, exceeded: false });
    budget.used = budget.used.saturating_add(bytes as u64);
    budget.exceeded |= budget.used > budget.limit;
    if CURRENT.get().is_some() {
        CURRENT.set(Some(budget));
    }
    if !budget.exceeded {
        return Ok(());
    }
    Err(too_much(name, budget.limit))
}

fn too_much(name: &str, limit: u64) -> Error {
    let what = format!("{name} makes more than {} MiB for one row", limit >> 20);
    Error::new(Code::MemoryLimit, what).hint("make shorter values, or raise run.memory")
}

/// Fails when so many bytes are more than is left. Takes nothing: what is made is counted when it has been.
pub fn expect(name: &str, bytes: usize) -> Result<()> {
    let budget = CURRENT.get().unwrap_or(Budget { limit: UNSAID, used: 0, exceeded: false });
    if budget.used.saturating_add(bytes as u64) <= budget.limit {
        return Ok(());
    }
    if CURRENT.get().is_some() {
        CURRENT.set(Some(Budget { exceeded: true, ..budget }));
    }
    Err(too_much(name, budget.limit))
}

/// Counts what is made bit by bit, and takes it in pieces that are worth the while.
pub struct Tally {
    name: &'static str,
    bytes: usize,
}

/// Bytes that a tally takes at once.
const PIECE: usize = 64 << 10;

impl Tally {
    pub fn new(name: &'static str) -> Tally {
        Tally { name, bytes: 0 }
    }

    pub fn add(&mut self, bytes: usize) -> Result<()> {
        self.bytes = self.bytes.saturating_add(bytes);
        if self.bytes < PIECE {
            return Ok(());
        }
        take(self.name, std::mem::take(&mut self.bytes))
    }
}

/// A text that grows piece by piece, and is given up where it outgrows the budget.
pub struct Growing {
    name: &'static str,
    text: String,
    checked: usize,
}

impl Growing {
    pub fn new(name: &'static str) -> Growing {
        Growing { name, text: String::new(), checked: 0 }
    }

    pub fn push(&mut self, piece: &str) -> Result<()> {
        let length = self.text.len() + piece.len();
        if length > self.checked + PIECE {
            expect(self.name, length)?;
            self.checked = length;
        }
        self.text.push_str(piece);
        Ok(())
    }

    /// The pieces with this text between them.
    pub fn joined(mut self, pieces: impl IntoIterator<Item = impl AsRef<str>>, separator: &str) -> Result<String> {
        for (place, piece) in pieces.into_iter().enumerate() {
            if place > 0 {
                self.push(separator)?;
            }
            self.push(piece.as_ref())?;
        }
        Ok(self.text)
    }

    pub fn finish(self) -> String {
        self.text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn budgets_nest_and_say_whether_they_were_the_cause() {
        let outer = within(100, || {
            take("a", 60)?;
            assert!(matches!(within(10, || take("b", 11)), Spent::Exceeded(_)));
            assert!(matches!(within(10, || Err::<(), _>(Error::cancelled())), Spent::Failed(_)));
            take("a", 39)?;
            expect("a", 1)?;
            expect("a", 2)
        });
        assert!(matches!(outer, Spent::Exceeded(_)));
        assert!(matches!(within(100, || take("a", 100)), Spent::Within((), 100)));
        assert!(!is_set());
        assert!(std::panic::catch_unwind(|| within(1, || -> Result<()> { panic!("within") })).is_err());
        assert!(!is_set() && take("c", 1 << 20).is_ok() && take("c", usize::MAX).is_err());
    }

    #[test]
    fn a_tally_takes_what_it_has_counted() {
        let mut tally = Tally::new("t");
        let spent = within(1 << 20, || (0..1000).try_for_each(|_| tally.add(1 << 10)));
        assert!(matches!(spent, Spent::Within((), used) if used > 900 << 10));
        let mut tally = Tally::new("t");
        assert!(matches!(within(1 << 20, || (0..2000).try_for_each(|_| tally.add(1 << 10))), Spent::Exceeded(_)));
    }
}
