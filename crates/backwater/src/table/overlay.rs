//! Pending changes over base values: what of a version the remote has not confirmed.
//!
//! It knows which rows are covered, what lies below them, and what lies over them. How a commit
//! writes below them is the matter of the change room.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::{Cell, Slot, Staged, StagedRow, State};
use crate::schema::{FieldNo, TableNo};

/// The pending changes of a version, in their order, and the base values of the rows that they
/// cover.
#[derive(Clone, Default)]
pub(crate) struct Overlay {
    pub(crate) pending: Vec<Arc<PendingChange>>,
    /// For each covered row, entries of to-many links among them, a version that has it as it is
    /// below: with its base values, or without it.
    pub(crate) base: BTreeMap<(TableNo, Slot), Arc<State>>,
}

/// A change that is shown, and that the remote has not confirmed.
#[derive(Debug, Clone)]
pub(crate) struct PendingChange {
    /// Its number, by which its row is known.
    pub(crate) number: i64,
    pub(crate) rows: Vec<EditedRow>,
}

/// What a pending change does to one row.
#[derive(Debug, Clone)]
pub(crate) struct EditedRow {
    pub(crate) table: TableNo,
    pub(crate) slot: Slot,
    pub(crate) edit: Edit,
}

/// To-many links are among the fields, as lists.
#[derive(Debug, Clone)]
pub(crate) enum Edit {
    /// The row is made; one that the remote has made meanwhile is given these fields.
    Insert(StagedRow<'static>),
    /// The row is given these fields, if it is there.
    Update(StagedRow<'static>),
    /// The row is deleted, with what follows it.
    Delete,
}

impl Overlay {
    pub(crate) fn covers(&self, table: TableNo, slot: Slot) -> bool {
        self.base.contains_key(&(table, slot))
    }

    /// Whether a row of that table is covered.
    pub(crate) fn covers_any_of(&self, table: TableNo) -> bool {
        self.base.range((table, Slot(0))..=(table, Slot(u32::MAX))).next().is_some()
    }

    /// The edits of a row, in their order.
    pub(crate) fn edits_of(&self, table: TableNo, slot: Slot) -> impl Iterator<Item = &Edit> {
        // Most rows are not covered.
        let pending = if self.covers(table, slot) { self.pending.as_slice() } else { &[] };
        let rows = pending.iter().flat_map(|change| &change.rows);
        rows.filter(move |row| (row.table, row.slot) == (table, slot)).map(|row| &row.edit)
    }
}

impl PendingChange {
    /// Both changes as one.
    pub(crate) fn followed_by(&self, later: &Self) -> Self {
        let mut rows = self.rows.clone();
        for row in &later.rows {
            let known = rows.iter_mut().find(|of| (of.table, of.slot) == (row.table, row.slot));
            match known {
                Some(known) => known.edit.follow(&row.edit),
                None => rows.push(row.clone()),
            }
        }
        Self { number: self.number, rows }
    }
}

impl Edit {
    fn follow(&mut self, later: &Edit) {
        match (&mut *self, later) {
            (Edit::Insert(fields) | Edit::Update(fields), Edit::Update(more)) => {
                fields.retain(|(field, _)| !more.iter().any(|(written, _)| written == field));
                fields.extend(more.iter().cloned());
            }
            _ => *self = later.clone(),
        }
    }

    /// The fields that it writes.
    pub(crate) fn fields(&self) -> &[(FieldNo, Staged<'static>)] {
        match self {
            Edit::Insert(fields) | Edit::Update(fields) => fields,
            Edit::Delete => &[],
        }
    }

    /// The rows that its links are to point at, where the field says of which table they are.
    pub(crate) fn links(&self) -> impl Iterator<Item = (FieldNo, Option<TableNo>, Slot)> {
        self.fields().iter().flat_map(|(field, staged)| {
            let targets = match staged {
                Staged::Link(slot) => vec![(*field, None, *slot)],
                Staged::OneOf(table, slot) => vec![(*field, Some(*table), *slot)],
                Staged::Links(targets) => {
                    targets.iter().map(|(table, slot)| (*field, Some(*table), *slot)).collect()
                }
                _ => Vec::new(),
            };
            targets
        })
    }
}

impl State {
    /// Gives a row what another version of the same cache has in its slot.
    pub(crate) fn take_row(&mut self, other: &Self, table: TableNo, slot: Slot) {
        match other.table(table).row(slot) {
            Some(row) => {
                let fields = self.schema.table(table).field_numbers();
                let cells: Vec<(FieldNo, Cell<'_>)> =
                    fields.map(|field| (field, row.cell(field))).collect();
                self.table_mut(table).merge(slot, cells.into_iter());
            }
            None if self.table(table).is_row(slot) => self.table_mut(table).delete(slot),
            None => {}
        }
    }

    /// Gives each covered row its base values.
    pub(crate) fn uncover(&mut self, overlay: &Overlay) {
        for ((table, slot), base) in &overlay.base {
            self.take_row(base, *table, *slot);
        }
        self.overlay = None;
    }
}
