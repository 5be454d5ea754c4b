//! Work that one thread at a time does, and may begin again inside of itself.

use std::sync::PoisonError;

use super::sync::{Condvar, Mutex, MutexGuard};
use super::thread::{self, ThreadId};

/// Lets one thread at a time work.
#[derive(Debug)]
pub(crate) struct InTurn {
    turn: Mutex<Whose>,
    free: Condvar,
}

#[derive(Debug)]
struct Whose {
    /// Which thread works, and how often it has begun.
    worker: Option<(ThreadId, usize)>,
    /// How many turns were cut off.
    cut_off: usize,
    /// How many threads wait: to wake none would be a call of the system at each commit.
    waiting: usize,
}

/// A thread's turn, which ends with it.
pub(crate) struct Turn<'t> {
    of: &'t InTurn,
    cut_off: usize,
}

impl Default for InTurn {
    fn default() -> Self {
        Self {
            turn: Mutex::new(Whose { worker: None, cut_off: 0, waiting: 0 }),
            free: Condvar::new(),
        }
    }
}

impl InTurn {
    /// Waits until no other thread works.
    pub(crate) fn begin(&self) -> Turn<'_> {
        let me = thread::current().id();
        let mut turn = self.lock();
        loop {
            match &mut turn.worker {
                Some((of, depth)) if *of == me => {
                    *depth += 1;
                    break;
                }
                None => {
                    turn.worker = Some((me, 1));
                    break;
                }
                Some(_) => {
                    turn.waiting += 1;
                    turn = self.free.wait(turn).unwrap_or_else(PoisonError::into_inner);
                    turn.waiting -= 1;
                }
            }
        }
        Turn { of: self, cut_off: turn.cut_off }
    }

    /// Whether this thread works.
    pub(crate) fn is_mine(&self) -> bool {
        self.lock().worker.is_some_and(|(of, _)| of == thread::current().id())
    }

    /// Ends this thread's turn if a panic has cut it off, as happens where a panic ends a call into
    /// the program and not the program: there no frame is left that would end it.
    pub(crate) fn free_if_cut_off(&self) {
        if super::was_cut_off() && self.is_mine() {
            let mut turn = self.lock();
            turn.cut_off += 1;
            self.end(&mut turn);
        }
    }

    fn end(&self, turn: &mut Whose) {
        turn.worker = None;
        if turn.waiting > 0 {
            self.free.notify_one();
        }
    }

    fn lock(&self) -> MutexGuard<'_, Whose> {
        self.turn.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Turn<'_> {
    /// Whether it was not taken for one that was cut off.
    pub(crate) fn is_current(&self) -> bool {
        self.of.lock().cut_off == self.cut_off
    }
}

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        let mut turn = self.of.lock();
        if turn.cut_off != self.cut_off {
            return;
        }
        match &mut turn.worker {
            Some((_, depth)) if *depth > 1 => *depth -= 1,
            _ => self.of.end(&mut turn),
        }
    }
}
