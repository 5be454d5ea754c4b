//! The last commits, for questions about them later.

use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};

use smallvec::SmallVec;

use super::Report;

/// The reports of the last commits, the oldest first.
pub(crate) struct Ring {
    kept: Mutex<StoredReport>,
    /// How many are kept.
    len: usize,
    /// How many rows they may have written together: behind each commit stand the tables as they
    /// were.
    rows: usize,
}

#[derive(Default)]
struct StoredReport {
    reports: VecDeque<Report>,
    rows: usize,
}

impl Ring {
    pub(crate) fn new(len: usize, rows: usize) -> Self {
        Self { kept: Mutex::default(), len, rows }
    }

    fn kept(&self) -> MutexGuard<'_, StoredReport> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn push(&self, report: &Report) {
        if self.len == 0 {
            return;
        }
        let mut gone: SmallVec<[Report; 1]> = SmallVec::new();
        let mut kept = self.kept();
        kept.rows += report.0.changes.rows.weight();
        kept.reports.push_back(report.clone());
        // A commit that is too large is forgotten together with all earlier ones: the commits
        // around it alone would attribute values to the wrong one.
        while kept.reports.len() > self.len || kept.rows > self.rows {
            let Some(oldest) = kept.reports.pop_front() else { break };
            kept.rows -= oldest.0.changes.rows.weight();
            gone.push(oldest);
        }
        drop(kept);
        // Dropped outside of the lock, so that readers do not wait.
        drop(gone);
    }

    pub(crate) fn reports(&self) -> Vec<Report> {
        self.kept().reports.iter().cloned().collect()
    }

    /// The report of a commit, if it is kept.
    pub(crate) fn find(&self, number: u64) -> Option<Report> {
        let kept = self.kept();
        let place = kept.reports.binary_search_by_key(&number, Report::number).ok()?;
        kept.reports.get(place).cloned()
    }
}
