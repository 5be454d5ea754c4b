//! Where a response goes back to if it fails.
//!
//! A version of all tables costs nothing to take, but what is shared with it is copied when it is
//! written to. Where many short responses are read in one transaction, that would be most of their
//! cost: then the rows are noted that each of them writes.

use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::{Happened, RowAt, TouchedRows, Transaction, compare};
use crate::schema::{FieldNo, TableNo};
use crate::table::{Slot, Staged, State};

/// Up to this many bytes a response is short.
const SHORT: usize = 64 << 10;

/// What the tables were before a response was read.
pub(super) enum Savepoint {
    Version(Arc<State>),
    Rows(SavedRows),
}

/// The rows that were written since, as they were.
#[derive(Default)]
pub(super) struct SavedRows {
    written: TouchedRows,
    /// Those of them that were there.
    old: FxHashMap<RowAt, OldRow>,
}

struct OldRow {
    cells: Box<[Staged<'static>]>,
    is_unstored: bool,
}

impl SavedRows {
    /// Notes a row that is about to be written.
    fn note(&mut self, state: &State, (table, slot): RowAt) {
        if self.written.insert(table, slot)
            && let Some(row) = state.table(table).row(slot)
        {
            let fields = state.schema.table(table).field_numbers();
            let cells = fields.map(|field| Staged::of_cell(row.cell(field)).into_owned());
            let is_unstored = state.table(table).is_unstored(slot);
            self.old.insert((table, slot), OldRow { cells: cells.collect(), is_unstored });
        }
    }

    /// Gives the rows of a version what they were.
    fn put_back(&self, state: &mut State) {
        for (table, slot) in self.written.rows() {
            match self.old.get(&(table, slot)) {
                Some(old) => {
                    let cells = (0..).map(FieldNo).zip(old.cells.iter().map(Staged::cell));
                    let cells: Vec<_> = cells.collect();
                    let rows = state.table_mut(table);
                    rows.merge(slot, &cells);
                    if rows.is_unstored(slot) != old.is_unstored {
                        rows.set_unstored(slot, old.is_unstored);
                    }
                }
                None if state.table(table).is_row(slot) => state.table_mut(table).delete(slot),
                None => {}
            }
        }
    }
}

impl Transaction {
    /// Begins to note what a response of so many bytes writes. `refers` says that it has made places
    /// for rows already.
    pub(crate) fn save(&mut self, bytes: usize, refers: bool) {
        self.has_written = false;
        self.saved = Some(match (self.touched.is_empty(), bytes <= SHORT) {
            (true, _) if !refers => Savepoint::Version(self.before.clone()),
            (false, true) => Savepoint::Rows(SavedRows::default()),
            _ => Savepoint::Version(Arc::new(self.state.clone())),
        });
    }

    /// Notes that a row is about to be written.
    #[inline]
    pub(super) fn about_to_write(&mut self, at: RowAt) {
        self.has_written = true;
        if let Some(Savepoint::Rows(rows)) = &mut self.saved {
            rows.note(&self.state, at);
        }
    }

    /// The same of very many rows.
    pub(super) fn about_to_write_all(&mut self) {
        if let Some(Savepoint::Rows(rows)) = &self.saved {
            let mut before = self.state.clone();
            rows.put_back(&mut before);
            self.saved = Some(Savepoint::Version(Arc::new(before)));
        }
    }

    /// Goes back to what was saved; what is written then can be taken back as well.
    pub(crate) fn roll_back(&mut self) {
        match &mut self.saved {
            None => {}
            Some(Savepoint::Version(before)) => self.state = State::clone(before),
            Some(Savepoint::Rows(rows)) => std::mem::take(rows).put_back(&mut self.state),
        }
        self.remembered.forget();
        self.has_written = false;
    }

    /// Forgets what was saved.
    pub(crate) fn release(&mut self) {
        self.saved = None;
    }

    /// Whether a row that was there when the tables were saved is there, with another value in a
    /// field.
    pub(crate) fn is_updated_since_saved(&self, table: TableNo, slot: Slot) -> bool {
        match &self.saved {
            None => false,
            Some(Savepoint::Version(before)) => {
                let happened = compare(before, &self.state, table, slot);
                matches!(happened, Some(Happened::Updated(_)))
            }
            Some(Savepoint::Rows(rows)) => {
                let now = self.state.table(table).row(slot);
                rows.old.get(&(table, slot)).zip(now).is_some_and(|(old, now)| {
                    let fields = self.state.schema.table(table).field_numbers();
                    { fields }.zip(&old.cells).any(|(field, old)| now.cell(field) != old.cell())
                })
            }
        }
    }

    /// The rows that were not there when the tables were saved, and are.
    pub(crate) fn inserted_since_saved(&self) -> Vec<RowAt> {
        let is_row = |(table, slot): &RowAt| self.state.table(*table).is_row(*slot);
        match &self.saved {
            None => Vec::new(),
            Some(Savepoint::Version(before)) => {
                let touched = self.touched.rows();
                let was_row = |(table, slot): &RowAt| before.table(*table).is_row(*slot);
                touched.filter(|at| !was_row(at) && is_row(at)).collect()
            }
            Some(Savepoint::Rows(rows)) => {
                let written = rows.written.rows();
                written.filter(|at| !rows.old.contains_key(at) && is_row(at)).collect()
            }
        }
    }
}
