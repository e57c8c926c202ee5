//! The line in which runs wait for their turn. So many go on at a time; users take turns among those that wait, so that one who asks for
//! much does not keep out the others; and when the line is as long as it may be, a run is refused at once.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use cobble_types::{Code, Error, Result};
use tokio::sync::oneshot;

/// Runs that may wait.
const MOST_WAITING: usize = 500;
/// Of these, the runs of one user.
const MOST_OF_ONE: usize = 400;
/// Seconds after which who was refused may try again.
pub const COME_AGAIN: u64 = 5;

pub struct Line {
    state: Mutex<State>,
    most: usize,
}

#[derive(Default)]
struct State {
    /// Turns that are taken.
    taken: usize,
    /// Runs that were let in, by user: those that go on and those that wait.
    inside: HashMap<i64, usize>,
    /// Who waits, by user; the user whose turn is next stands first.
    waiting: VecDeque<(i64, VecDeque<oneshot::Sender<()>>)>,
}

/// A run's place in the line, from when it was let in to its end.
pub struct Place {
    line: Arc<Line>,
    user: i64,
}

/// The turn of a run, which goes to another one when it is dropped.
pub struct Turn(Arc<Line>);

impl Line {
    /// A line for as many runs at a time.
    pub fn new(most: usize) -> Arc<Line> {
        Arc::new(Line { state: Mutex::default(), most })
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Lets a run of this user in.
    ///
    /// # Errors
    /// When as many as may wait already, of all users or of this one.
    pub fn enter(self: &Arc<Line>, user: i64) -> Result<Place> {
        let mut state = self.lock();
        let all: usize = state.inside.values().sum();
        let own = state.inside.get(&user).copied().unwrap_or(0);
        if all >= self.most + MOST_WAITING || own >= self.most + MOST_OF_ONE {
            let whose = if all >= self.most + MOST_WAITING { "" } else { " of this user" };
            let many = if whose.is_empty() { all } else { own };
            let what = format!("{many} runs{whose} are under way or wait for their turn");
            return Err(Error::new(Code::Busy, what).hint(format!("try again in {COME_AGAIN} seconds")));
        }
        *state.inside.entry(user).or_default() += 1;
        Ok(Place { line: self.clone(), user })
    }

    /// Gives a free turn to who is next.
    fn give(self: &Arc<Line>, state: &mut State) {
        while state.taken < self.most
            && let Some((user, mut own)) = state.waiting.pop_front()
        {
            // One that was given up meanwhile has gone away.
            while let Some(next) = own.pop_front() {
                if next.send(()).is_ok() {
                    state.taken += 1;
                    break;
                }
            }
            if !own.is_empty() {
                state.waiting.push_back((user, own));
            }
        }
    }
}

impl Place {
    /// Waits for the turn. `waits` is called when it does not come at once.
    pub async fn turn(&self, waits: impl FnOnce()) -> Turn {
        let (called, call) = oneshot::channel();
        {
            let mut state = self.line.lock();
            match state.waiting.iter_mut().find(|(user, _)| *user == self.user) {
                Some((_, own)) => own.push_back(called),
                None => state.waiting.push_back((self.user, VecDeque::from([called]))),
            }
            self.line.give(&mut state);
        }
        /// A call that nobody hears any more gives the turn back.
        struct Listening(Option<oneshot::Receiver<()>>, Arc<Line>);
        impl Drop for Listening {
            fn drop(&mut self) {
                if let Some(call) = &mut self.0 {
                    call.close();
                    if call.try_recv().is_ok() {
                        drop(Turn(self.1.clone()));
                    }
                }
            }
        }
        let mut listening = Listening(Some(call), self.line.clone());
        if let Some(call) = &mut listening.0 {
            if call.is_empty() {
                waits();
            }
            let _ = call.await;
        }
        listening.0 = None;
        Turn(self.line.clone())
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        let mut state = self.line.lock();
        if let Some(own) = state.inside.get_mut(&self.user) {
            *own -= 1;
            if *own == 0 {
                state.inside.remove(&self.user);
            }
        }
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        let mut state = self.0.lock();
        state.taken -= 1;
        self.0.give(&mut state);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use futures::FutureExt;

    #[tokio::test]
    async fn users_take_turns_and_a_long_line_is_closed() {
        let line = Line::new(1);
        let busy = line.enter(1).unwrap();
        let turn = busy.turn(|| panic!("nobody is before it")).await;
        let places: Vec<Place> = [1, 1, 1, 2, 2].iter().map(|user| line.enter(*user).unwrap()).collect();
        let (told, mut heard) = tokio::sync::mpsc::unbounded_channel();
        let mut waiting = Vec::new();
        for (number, place) in places.into_iter().enumerate() {
            let told = told.clone();
            waiting.push(tokio::spawn(async move {
                let turn = place.turn(|| ()).await;
                told.send(number).unwrap();
                tokio::task::yield_now().await;
                drop(turn);
            }));
            tokio::task::yield_now().await;
        }
        // The second one of the first user is given up.
        waiting[1].abort();
        tokio::task::yield_now().await;
        drop(turn);
        let mut order = Vec::new();
        for _ in 0..4 {
            order.push(heard.recv().await.unwrap());
        }
        assert_eq!(order, [0, 3, 2, 4]);
        drop(busy);
        futures::future::join_all(waiting).await;
        let (taken, inside) = {
            let state = line.lock();
            (state.taken, state.inside.len())
        };
        assert_eq!((taken, inside), (0, 0));

        let all: Vec<Place> = (0..=MOST_OF_ONE).map(|_| line.enter(1).unwrap()).collect();
        assert_eq!(line.enter(1).err().unwrap().code, Code::Busy);
        let others: Vec<Place> = (0..MOST_WAITING - MOST_OF_ONE).map(|_| line.enter(2).unwrap()).collect();
        assert!(line.enter(3).err().unwrap().hint.unwrap().contains("5 seconds"));
        drop((all, others));
        assert!(line.enter(3).unwrap().turn(|| ()).now_or_never().is_some());
    }
}
