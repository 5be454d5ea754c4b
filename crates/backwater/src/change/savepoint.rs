//! Where a response goes back to if it fails.
//!
//! A version of all tables costs nothing to take, but what is shared with it is copied when it is
//! written to. Where many short responses are read in one transaction, that would be most of their
//! cost: then the rows are noted that each of them writes.

use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::{Happened, RowAt, Transaction, compare};
use crate::schema::{FieldNo, TableNo};
use crate::table::{Slot, Staged, State};

/// Up to this many bytes a response is short.
const SHORT: usize = 64 << 10;

/// What the tables were before a response was read.
pub(super) enum Savepoint {
    Version(Arc<State>),
    /// What [`SavedRows`] says.
    Rows,
}

/// The rows that a response has written.
#[derive(Default)]
pub(super) struct SavedRows {
    /// Rows that the transaction writes for the first time. They move to `old` as soon as any row is
    /// written again, which looks for itself there.
    first: Vec<RowAt>,
    old: FxHashMap<RowAt, Old>,
}

/// What a row was.
enum Old {
    /// What it was before the transaction.
    AsBefore,
    NotThere,
    Row(OldRow),
}

struct OldRow {
    cells: Box<[Staged<'static>]>,
    is_unstored: bool,
}

impl OldRow {
    fn of(state: &State, (table, slot): RowAt) -> Option<Self> {
        let row = state.table(table).row(slot)?;
        let fields = state.schema.table(table).field_numbers();
        let cells = fields.map(|field| Staged::of_cell(row.cell(field)).into_owned()).collect();
        Some(Self { cells, is_unstored: state.table(table).is_unstored(slot) })
    }

    fn put_back(&self, state: &mut State, (table, slot): RowAt) {
        let cells = (0..).map(FieldNo).zip(self.cells.iter().map(Staged::cell));
        let cells: Vec<_> = cells.collect();
        let rows = state.table_mut(table);
        rows.merge(slot, &cells);
        if rows.is_unstored(slot) != self.is_unstored {
            rows.set_unstored(slot, self.is_unstored);
        }
    }
}

impl SavedRows {
    fn clear(&mut self) {
        self.first.clear();
        self.old.clear();
    }

    /// Notes a row that is about to be written, and not for the first time in the transaction.
    fn note_again(&mut self, state: &State, at: RowAt) {
        self.old.extend(self.first.drain(..).map(|at| (at, Old::AsBefore)));
        self.old.entry(at).or_insert_with(|| OldRow::of(state, at).map_or(Old::NotThere, Old::Row));
    }

    /// Gives the rows of a version what they were.
    fn put_back(&self, before: &State, state: &mut State) {
        for (at, old) in &self.old {
            match old {
                Old::AsBefore => Self::put_back_row(state, *at, OldRow::of(before, *at).as_ref()),
                Old::NotThere => Self::put_back_row(state, *at, None),
                Old::Row(old) => Self::put_back_row(state, *at, Some(old)),
            }
        }
        for at in &self.first {
            Self::put_back_row(state, *at, OldRow::of(before, *at).as_ref());
        }
    }

    fn put_back_row(state: &mut State, at: RowAt, old: Option<&OldRow>) {
        match old {
            Some(old) => old.put_back(state, at),
            None if state.table(at.0).is_row(at.1) => state.table_mut(at.0).delete(at.1),
            None => {}
        }
    }
}

impl Transaction {
    /// Begins to note what a response of so many bytes writes. `refers` says that it has made places
    /// for rows already.
    pub(crate) fn save(&mut self, bytes: usize, refers: bool) {
        self.has_written = false;
        self.saved_rows.clear();
        let is_as_before = self.touched.is_empty() && !self.writes_pending();
        self.saved = Some(match (is_as_before, bytes <= SHORT) {
            (true, _) if !refers => Savepoint::Version(self.before.clone()),
            (false, true) => Savepoint::Rows,
            _ => Savepoint::Version(Arc::new(self.state.clone())),
        });
    }

    /// Notes that a row is about to be written.
    #[inline]
    pub(super) fn about_to_write(&mut self, at: RowAt) {
        let is_first = self.touched.insert(at.0, at.1);
        self.has_written = true;
        if let Some(Savepoint::Rows) = &self.saved {
            match is_first && !self.writes_pending() {
                true => self.saved_rows.first.push(at),
                false => self.saved_rows.note_again(&self.state, at),
            }
        }
    }

    /// The same of very many rows.
    pub(super) fn about_to_write_all(&mut self) {
        if let Some(Savepoint::Rows) = &self.saved {
            let mut before = self.state.clone();
            self.saved_rows.put_back(&self.before, &mut before);
            self.saved = Some(Savepoint::Version(Arc::new(before)));
        }
    }

    /// Goes back to what was saved; what is written then can be taken back as well.
    pub(crate) fn roll_back(&mut self) {
        match &self.saved {
            None => {}
            Some(Savepoint::Version(before)) => self.state = State::clone(before),
            Some(Savepoint::Rows) => {
                self.saved_rows.put_back(&self.before, &mut self.state);
                self.saved_rows.clear();
            }
        }
        self.remembered.forget();
        self.has_written = false;
    }

    /// Forgets what was saved.
    pub(crate) fn release(&mut self) {
        self.saved = None;
    }

    /// Whether a row that was written since the tables were saved, and was there, is there with another
    /// value in a field.
    pub(crate) fn is_updated_since_saved(&self, table: TableNo, slot: Slot) -> bool {
        let updated = |before: &State| {
            let happened = compare(before, &self.state, table, slot);
            matches!(happened, Some(Happened::Updated(_)))
        };
        match &self.saved {
            None => false,
            Some(Savepoint::Version(before)) => updated(before),
            Some(Savepoint::Rows) => match self.saved_rows.old.get(&(table, slot)) {
                None | Some(Old::AsBefore) => updated(&self.before),
                Some(Old::NotThere) => false,
                Some(Old::Row(old)) => self.state.table(table).row(slot).is_some_and(|now| {
                    let fields = self.state.schema.table(table).field_numbers();
                    { fields }.zip(&old.cells).any(|(field, old)| now.cell(field) != old.cell())
                }),
            },
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
            Some(Savepoint::Rows) => {
                let was_row = |(table, slot): &RowAt| self.before.table(*table).is_row(*slot);
                let written = self.saved_rows.old.iter().filter(|(at, old)| match old {
                    Old::AsBefore => !was_row(at),
                    Old::NotThere => true,
                    Old::Row(_) => false,
                });
                let first = self.saved_rows.first.iter().filter(|at| !was_row(at));
                written.map(|(at, _)| at).chain(first).copied().filter(is_row).collect()
            }
        }
    }
}
