//! Work that is repeated after commits.

use std::sync::PoisonError;

use super::sync::{Mutex, MutexGuard};

/// Does something whenever it is stale, one thread at a time. Doing it may make it stale again, on
/// the same thread: then the thread that is at it goes on.
pub(crate) struct Again<F> {
    state: Mutex<RepeatState>,
    /// Taken only by the thread that works.
    work: Mutex<F>,
}

struct RepeatState {
    is_stale: bool,
    is_working: bool,
}

/// Set while a thread works; it ends with an error or a panic as well.
struct Working<'a>(&'a Mutex<RepeatState>);

impl Drop for Working<'_> {
    fn drop(&mut self) {
        lock(self.0).is_working = false;
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl<F: FnMut() -> Result<(), E>, E> Again<F> {
    pub(crate) fn new(work: F) -> Self {
        let state = RepeatState { is_stale: false, is_working: false };
        Self { state: Mutex::new(state), work: Mutex::new(work) }
    }

    /// Says that it is stale, and does it unless it is being done.
    pub(crate) fn run(&self) -> Result<(), E> {
        lock(&self.state).is_stale = true;
        loop {
            {
                let mut state = lock(&self.state);
                if state.is_working || !state.is_stale {
                    return Ok(());
                }
                *state = RepeatState { is_stale: false, is_working: true };
            }
            let _working = Working(&self.state);
            (*lock(&self.work))()?;
        }
    }
}
