//! Work that one thread at a time does, and may begin again inside of itself.

use std::sync::PoisonError;

use super::sync::{Condvar, Mutex, MutexGuard};
use super::thread::{self, ThreadId};

/// Lets one thread at a time work.
#[derive(Debug)]
pub(crate) struct InTurn {
    /// Who works, and how often they have begun.
    turn: Mutex<Option<(ThreadId, usize)>>,
    free: Condvar,
}

/// A thread's turn, which ends with it.
pub(crate) struct Turn<'t>(&'t InTurn);

impl Default for InTurn {
    fn default() -> Self {
        Self { turn: Mutex::new(None), free: Condvar::new() }
    }
}

impl InTurn {
    /// Waits until no other thread works.
    pub(crate) fn begin(&self) -> Turn<'_> {
        let me = thread::current().id();
        let mut turn = self.lock();
        loop {
            match &mut *turn {
                Some((of, depth)) if *of == me => {
                    *depth += 1;
                    break;
                }
                None => {
                    *turn = Some((me, 1));
                    break;
                }
                Some(_) => turn = self.free.wait(turn).unwrap_or_else(PoisonError::into_inner),
            }
        }
        Turn(self)
    }

    /// Whether this thread works.
    pub(crate) fn is_mine(&self) -> bool {
        self.lock().is_some_and(|(of, _)| of == thread::current().id())
    }

    fn lock(&self) -> MutexGuard<'_, Option<(ThreadId, usize)>> {
        self.turn.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        let mut turn = self.0.lock();
        match &mut *turn {
            Some((_, depth)) if *depth > 1 => *depth -= 1,
            _ => {
                *turn = None;
                self.0.free.notify_one();
            }
        }
    }
}
