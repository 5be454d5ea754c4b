//! Waiting for something that another thread is about to show.

use std::sync::PoisonError;

use super::sync::atomic::{AtomicUsize, Ordering};
use super::sync::{Condvar, Mutex};

/// Announced by one thread, waited for by any number. An announcement that no thread waits for
/// costs one load.
pub(crate) struct Arrivals {
    waiting: AtomicUsize,
    lock: Mutex<()>,
    arrived: Condvar,
}

impl Default for Arrivals {
    fn default() -> Self {
        Self { waiting: AtomicUsize::new(0), lock: Mutex::new(()), arrived: Condvar::new() }
    }
}

impl Arrivals {
    /// Says that there is something new. What `has_arrived` looks at has been written before, under
    /// a lock of its own.
    pub(crate) fn announce(&self) {
        if self.waiting.load(Ordering::SeqCst) > 0 {
            drop(self.lock.lock().unwrap_or_else(PoisonError::into_inner));
            self.arrived.notify_all();
        }
    }

    /// Returns when something has arrived, which is looked at again after each announcement.
    pub(crate) fn wait_until(&self, has_arrived: impl Fn() -> bool) {
        self.waiting.fetch_add(1, Ordering::SeqCst);
        let mut held = self.lock.lock().unwrap_or_else(PoisonError::into_inner);
        while !has_arrived() {
            held = self.arrived.wait(held).unwrap_or_else(PoisonError::into_inner);
        }
        drop(held);
        self.waiting.fetch_sub(1, Ordering::SeqCst);
    }
}
