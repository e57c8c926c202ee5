//! Stack space for recursion. Syntax trees, plans and expressions are walked recursively, and a statement may nest thousands of levels deep; these
//! functions grow the stack when it runs low.

use std::ops::{Deref, DerefMut};

/// Levels of nesting that an expression, a query or a chain of operators may have.
pub const DEEPEST: usize = 2_000;

/// Stack for the whole of a statement's planning, in bytes: more than twice what [`DEEPEST`] levels need, which is much more in
/// an unoptimised build. The pages are taken from the system only when touched. A program that plans many statements gives
/// its threads as much, so that none has to be made for each of them.
pub const ROOM: usize = if cfg!(debug_assertions) { 512 << 20 } else { 128 << 20 };

/// Stack that one level of evaluating needs at most, and what is added when less is left, in bytes.
const LEVEL: usize = 128 << 10;
const STEP: usize = 4 << 20;

/// Runs `work` with room for the deepest statement.
pub fn with_room<T>(work: impl FnOnce() -> T) -> T {
    stacker::maybe_grow(ROOM / 2, ROOM, work)
}

/// Polls a future with room for the deepest statement, and takes it apart with as much.
pub async fn polled_with_room<F: Future>(future: F) -> F::Output {
    let mut future = Deep::new(Box::pin(future));
    std::future::poll_fn(|context| with_room(|| future.as_mut().poll(context))).await
}

/// Runs one level of a recursion, with more stack when little is left. Costs one comparison otherwise.
pub fn level<T>(work: impl FnOnce() -> T) -> T {
    stacker::maybe_grow(LEVEL, STEP, work)
}

/// A tree that may be deep, in a box that has room when it takes it apart.
#[derive(Debug, Clone, PartialEq)]
pub struct Deep<T>(Option<Box<T>>);

impl<T> Deep<T> {
    pub fn new(tree: T) -> Deep<T> {
        Deep(Some(Box::new(tree)))
    }
}

impl<T> Deref for Deep<T> {
    type Target = T;

    fn deref(&self) -> &T {
        self.0.as_ref().expect("taken only when dropped")
    }
}

impl<T> DerefMut for Deep<T> {
    fn deref_mut(&mut self) -> &mut T {
        self.0.as_mut().expect("taken only when dropped")
    }
}

impl<T> Drop for Deep<T> {
    fn drop(&mut self) {
        let tree = self.0.take();
        with_room(|| drop(tree));
    }
}
