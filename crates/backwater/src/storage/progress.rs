//! How far the reading of tables is, and whether it is to go on.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use crate::error::{Error, ErrorKind, Result};

/// Progress is reported after this many rows.
pub(super) const PROGRESS_EVERY: u64 = 256;

/// How much is read of tables that a call waits for.
#[derive(Default)]
pub(crate) struct Progress {
    rows: AtomicU64,
    is_over: AtomicBool,
}

impl Progress {
    /// A table is begun.
    pub(super) fn begin(&self) {
        self.rows.store(0, Ordering::Relaxed);
    }

    /// How many rows of the current table are read.
    pub(crate) fn rows(&self) -> u64 {
        self.rows.load(Ordering::Relaxed)
    }

    /// The remaining tables are no longer wanted.
    #[cfg(feature = "threads")]
    pub(crate) fn end(&self) {
        self.is_over.store(true, Ordering::Relaxed);
    }

    pub(crate) fn is_over(&self) -> bool {
        self.is_over.load(Ordering::Relaxed)
    }

    /// Some rows more are being read.
    pub(super) fn report(&self) -> Result<()> {
        self.rows.fetch_add(PROGRESS_EVERY, Ordering::Relaxed);
        match self.is_over() {
            true => Err(Error::new(ErrorKind::Storage, "the cache was closed while it was read")),
            false => Ok(()),
        }
    }
}
