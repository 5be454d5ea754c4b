//! A signal that there is something to do, for one thread that does it.

use std::sync::PoisonError;
use std::time::Duration;

use super::sync::atomic::{AtomicBool, Ordering};
use super::sync::{Condvar, Mutex, MutexGuard};

/// Raised by many, waited for by one. Raising it again before it was seen costs next to nothing.
pub(crate) struct Signal {
    /// Whether it was raised and not seen yet.
    is_raised: AtomicBool,
    state: Mutex<SignalState>,
    changed: Condvar,
}

#[derive(Default)]
struct SignalState {
    is_raised: bool,
    has_ended: bool,
}

/// Why waiting has ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Woken {
    /// There is something to do, or the time is over.
    Work,
    /// There is nothing to do after this.
    End,
}

impl Default for Signal {
    fn default() -> Self {
        let state = Mutex::new(SignalState::default());
        Self { is_raised: AtomicBool::new(false), state, changed: Condvar::new() }
    }
}

impl Signal {
    /// Raises the signal; returns whether it was down.
    pub(crate) fn raise(&self) -> bool {
        if self.is_raised.swap(true, Ordering::AcqRel) {
            return false;
        }
        self.lock().is_raised = true;
        self.changed.notify_one();
        true
    }

    /// Says that there will be nothing more to do.
    pub(crate) fn end(&self) {
        self.lock().has_ended = true;
        self.changed.notify_one();
    }

    /// Waits for the signal, or for that long at most; and then a little longer, so that more comes
    /// together. What was done before the signal was raised is seen by the thread that returns from
    /// here.
    pub(crate) fn wait(&self, at_most: Option<Duration>, linger: Duration) -> Woken {
        let mut state = self.lock();
        while !state.is_raised && !state.has_ended {
            state = match at_most {
                None => self.changed.wait(state).unwrap_or_else(PoisonError::into_inner),
                Some(time) => {
                    let waited = self.changed.wait_timeout(state, time);
                    let (state, timeout) = waited.unwrap_or_else(PoisonError::into_inner);
                    if timeout.timed_out() {
                        return Woken::Work;
                    }
                    state
                }
            };
        }
        while !state.has_ended && !linger.is_zero() {
            // It is raised, so only the end cuts the wait short.
            let waited = self.changed.wait_timeout(state, linger);
            let (now, timeout) = waited.unwrap_or_else(PoisonError::into_inner);
            state = now;
            if timeout.timed_out() {
                break;
            }
        }
        let woken = if state.has_ended { Woken::End } else { Woken::Work };
        if state.is_raised {
            state.is_raised = false;
            self.is_raised.swap(false, Ordering::AcqRel);
        }
        woken
    }

    fn lock(&self) -> MutexGuard<'_, SignalState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
