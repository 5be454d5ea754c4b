//! Notes of pending changes in the library's own tables. They cost more than a change itself, and
//! mostly nobody looks: so they are written as soon as somebody does, or once there are many.
//!
//! A version that has notes to be written is made whole by [`State::noted`], always to the same rows
//! in the same places. Who reads the library's own tables, or writes anything but a further pending
//! change, does so on that.

#![cfg_attr(
    not(feature = "remote"),
    allow(dead_code, reason = "only a remote makes changes that are pending")
)]

use std::sync::Arc;

use smallvec::SmallVec;

use super::{History, Remembered, RowAt, Transaction};
use crate::table::{Noted, State, Unnoted};

/// Once there are so many, they are noted before another change is made.
pub(crate) const MOST_UNNOTED: usize = 64;

/// What is to be noted of a change, and of those before it.
struct Notes<F> {
    before: Option<Arc<dyn Unnoted>>,
    /// The rows that it covers.
    covered: SmallVec<[RowAt; 2]>,
    /// Writes its own row.
    row: F,
    len: usize,
}

impl<F: Fn(&mut Transaction) + Send + Sync> Unnoted for Notes<F> {
    fn len(&self) -> usize {
        self.len
    }

    fn write(&self, state: State) -> Noted {
        let before = self.before.as_ref().map(|before| before.write(state.clone()));
        let Noted { state, mut rows } =
            before.unwrap_or_else(|| Noted { state: Arc::new(state), rows: Vec::new() });
        let history = Arc::new(History::after(0));
        let mut tx = Transaction::new(state, history, Remembered::default());
        tx.note_base(&self.covered);
        (self.row)(&mut tx);
        rows.extend(tx.touched.rows());
        Noted { state: Arc::new(tx.state), rows }
    }
}

impl Transaction {
    /// Lets what is noted of a pending change wait until somebody looks. Else nothing of earlier ones
    /// may wait, either.
    pub(crate) fn defer_notes(&mut self) {
        self.covering.defers_notes = true;
    }

    /// Writes what is to be noted of earlier ones, before anything else may be.
    pub(crate) fn write_notes(&mut self) {
        let unnoted = self.before.noted().map(|noted| noted.state.clone());
        if let Some(before) = unnoted
            && let Some(overlay) = &mut self.state.overlay
        {
            drop(Arc::make_mut(overlay).take_unnoted());
            self.state.take_own_tables(&before);
            self.before = before;
        }
    }

    /// Notes a pending change that was made: its row, and what its rows are below.
    pub(crate) fn note_pending<F>(&mut self, row: F)
    where
        F: Fn(&mut Transaction) + Send + Sync + 'static,
    {
        let covered = std::mem::take(&mut self.covering.to_note);
        if !self.covering.defers_notes {
            return row(self);
        }
        let Some(overlay) = self.state.overlay.as_mut() else { return };
        let overlay = Arc::make_mut(overlay);
        let before = overlay.take_unnoted();
        let len = before.as_ref().map_or(0, |before| before.len()) + 1;
        overlay.set_unnoted(Arc::new(Notes { before, covered, row, len }));
    }
}
