//! Equality indexes: from the values of some fields to the slots of the rows that have them.
//! Shapes that ask for the same fields share one.

use std::collections::BTreeSet;
use std::collections::HashMap;

use super::scalar::{Key, Scalar};
use crate::change::{Changes, FieldSet, Happened};
use crate::schema::{FieldNo, TableNo};
use crate::table::{Slot, State};

/// The values by which rows are found; SQL's NULL equals nothing, so a key never holds one.
pub(crate) type KeyValues = Box<[Key]>;

/// One index of one table.
#[derive(Debug)]
pub(crate) struct Index {
    pub(crate) table: TableNo,
    pub(crate) fields: Vec<FieldNo>,
    set: FieldSet,
    slots: HashMap<KeyValues, BTreeSet<Slot>>,
    /// How many shapes use it.
    pub(crate) users: usize,
}

impl Index {
    pub(crate) fn build(state: &State, table: TableNo, fields: Vec<FieldNo>) -> Self {
        let set = fields.iter().copied().collect();
        let mut index = Self { table, fields, set, slots: HashMap::new(), users: 0 };
        for slot in state.table(table).iter() {
            index.add(state, slot);
        }
        index
    }

    /// The rows of a key, in slot order.
    pub(crate) fn slots(&self, key: &[Key]) -> impl Iterator<Item = Slot> + '_ {
        self.slots.get(key).into_iter().flatten().copied()
    }

    /// Follows a commit.
    pub(crate) fn apply(&mut self, changes: &Changes) {
        for row in &changes.rows[changes.of_table(self.table)] {
            if let Happened::Updated(fields) = &row.happened
                && !fields.meets(&self.set)
            {
                continue;
            }
            if row.happened != Happened::Inserted {
                self.remove(&changes.before, row.slot);
            }
            if row.happened != Happened::Deleted {
                self.add(&changes.after, row.slot);
            }
        }
    }

    fn add(&mut self, state: &State, slot: Slot) {
        if let Some(key) = key_of(state, self.table, slot, &self.fields) {
            self.slots.entry(key).or_default().insert(slot);
        }
    }

    fn remove(&mut self, state: &State, slot: Slot) {
        let Some(key) = key_of(state, self.table, slot, &self.fields) else {
            return;
        };
        if let Some(slots) = self.slots.get_mut(&key) {
            slots.remove(&slot);
            if slots.is_empty() {
                self.slots.remove(&key);
            }
        }
    }
}

/// The key of a row, or `None` if one of the fields is NULL.
pub(crate) fn key_of(
    state: &State,
    table: TableNo,
    slot: Slot,
    fields: &[FieldNo],
) -> Option<KeyValues> {
    let keys = fields.iter().map(|field| match Scalar::of_cell(state, table, slot, *field) {
        Scalar::Null => None,
        value => Some(Key::from(value)),
    });
    keys.collect()
}
