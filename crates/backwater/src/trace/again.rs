//! Something that is done again after commits, by whoever is told of them.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError, TryLockError};

use crate::error::Result;

/// Does something whenever it is stale, one thread at a time. Doing it may make it stale again, on
/// the same thread: then whoever is at it goes on.
pub(crate) struct Again<F> {
    turn: Mutex<F>,
    is_stale: AtomicBool,
}

impl<F: FnMut() -> Result<()>> Again<F> {
    pub(crate) fn new(work: F) -> Self {
        Self { turn: Mutex::new(work), is_stale: AtomicBool::new(false) }
    }

    pub(crate) fn is_stale(&self) -> Result<()> {
        self.is_stale.store(true, Ordering::Release);
        while self.is_stale.load(Ordering::Acquire) {
            let mut work = match self.turn.try_lock() {
                Ok(work) => work,
                Err(TryLockError::Poisoned(poisoned)) => PoisonError::into_inner(poisoned),
                Err(TryLockError::WouldBlock) => break,
            };
            while self.is_stale.swap(false, Ordering::AcqRel) {
                work()?;
            }
        }
        Ok(())
    }
}
