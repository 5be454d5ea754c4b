//! The rows of a statement, for statements that read it: as they are, and as they were at an
//! earlier commit.

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

use rustc_hash::FxHashMap;

use crate::change::FieldSet;
use crate::query::expr::scalar::{Key, Scalar};
use crate::query::work::Failure;
use crate::schema::FieldNo;
use crate::table::Slot;

/// The rows of a statement's result, for statements that read it.
#[derive(Debug, Clone, Default)]
pub(crate) struct StatementRows {
    rows: Vec<Option<Arc<StatementRow>>>,
    places: HashMap<Box<[Key]>, Slot>,
    free: Vec<Slot>,
    indexes: Vec<StatementIndex>,
    /// How many rows cannot be computed, and why one that was needed cannot.
    failed: usize,
    needed: RefCell<Option<Failure>>,
}

#[derive(Debug, Clone)]
struct StatementIndex {
    fields: Vec<FieldNo>,
    slots: HashMap<Box<[Key]>, Vec<Slot>>,
}

#[derive(Debug, PartialEq)]
pub(crate) struct StatementRow {
    pub(crate) values: Box<[Scalar<'static>]>,
    /// The row's key, which also orders rows.
    pub(crate) key: Box<[Scalar<'static>]>,
    /// Why its values, except for a group's key, cannot be computed.
    pub(crate) failed: Option<Failure>,
}

/// What became of one row of a statement's result.
#[derive(Debug, Clone)]
pub(crate) struct StatementChange {
    pub(crate) slot: Slot,
    pub(crate) before: Option<Arc<StatementRow>>,
}

impl StatementRows {
    /// Puts a row in, or another one in its place; `None` takes it out.
    pub(crate) fn set(&mut self, key: &[Key], row: Option<Arc<StatementRow>>) -> StatementChange {
        let slot = match self.places.get(key) {
            Some(slot) => *slot,
            None => {
                let slot = self.free.pop().unwrap_or_else(|| {
                    self.rows.push(None);
                    Slot(self.rows.len() as u32 - 1)
                });
                self.places.insert(key.into(), slot);
                slot
            }
        };
        if row.is_none() {
            self.places.remove(key);
            self.free.push(slot);
        }
        let before = std::mem::replace(&mut self.rows[slot.0 as usize], row.clone());
        self.failed = self.failed + failures(row.as_ref()) - failures(before.as_ref());
        for index in &mut self.indexes {
            if let Some(key) = before.as_ref().and_then(|row| row.key_of(&index.fields))
                && let Some(slots) = index.slots.get_mut(&key)
            {
                slots.retain(|other| *other != slot);
                if slots.is_empty() {
                    index.slots.remove(&key);
                }
            }
            if let Some(key) = row.as_ref().and_then(|row| row.key_of(&index.fields)) {
                index.slots.entry(key).or_default().push(slot);
            }
        }
        StatementChange { slot, before }
    }

    /// Adds a row that is never looked for by its key.
    pub(crate) fn push(&mut self, row: Arc<StatementRow>) {
        let slot = Slot(self.rows.len() as u32);
        for index in &mut self.indexes {
            if let Some(key) = row.key_of(&index.fields) {
                index.slots.entry(key).or_default().push(slot);
            }
        }
        self.failed += failures(Some(&row));
        self.rows.push(Some(row));
    }

    /// Replaces all rows by these; returns what that changes.
    pub(crate) fn replace_all(
        &mut self,
        fresh: impl Iterator<Item = (Box<[Key]>, StatementRow)>,
    ) -> Vec<StatementChange> {
        let mut gone: HashMap<Box<[Key]>, Slot> = self.places.clone();
        let mut changes = Vec::new();
        for (key, row) in fresh {
            let known = gone.remove(&key).and_then(|slot| self.row(slot));
            if known.is_none_or(|known| **known != row) {
                changes.push(self.set(&key, Some(Arc::new(row))));
            }
        }
        changes.extend(gone.into_keys().map(|key| self.set(&key, None)));
        changes
    }

    /// Makes sure that rows can be found by the values of these columns.
    pub(crate) fn index(&mut self, fields: &[FieldNo]) {
        if self.indexes.iter().any(|index| index.fields == fields) {
            return;
        }
        let rows = (0..).map(Slot).zip(&self.rows);
        self.indexes.push(StatementIndex::of(fields, rows));
    }

    pub(crate) fn row(&self, slot: Slot) -> Option<&Arc<StatementRow>> {
        self.rows.get(slot.0 as usize)?.as_ref()
    }

    /// How the rows have changed since they were these.
    pub(crate) fn changes_since(&self, then: &Self) -> Vec<StatementChange> {
        let slots = (0..self.rows.len().max(then.rows.len()) as u32).map(Slot);
        let changed = slots.filter(|slot| self.row(*slot) != then.row(*slot));
        changed.map(|slot| StatementChange { slot, before: then.row(slot).cloned() }).collect()
    }

    /// Why a row that was needed since the last call cannot be computed.
    pub(crate) fn take_needed(&self) -> Option<Failure> {
        self.needed.borrow_mut().take()
    }
}

impl StatementIndex {
    fn of<'r>(
        fields: &[FieldNo],
        rows: impl Iterator<Item = (Slot, &'r Option<Arc<StatementRow>>)>,
    ) -> Self {
        let mut slots: HashMap<Box<[Key]>, Vec<Slot>> = HashMap::new();
        for (slot, row) in rows {
            if let Some(key) = row.as_ref().and_then(|row| row.key_of(fields)) {
                slots.entry(key).or_default().push(slot);
            }
        }
        Self { fields: fields.to_vec(), slots }
    }
}

/// What some rows of a statement were at an earlier commit.
#[derive(Debug, Default)]
pub(crate) struct Undo {
    rows: FxHashMap<Slot, Option<Arc<StatementRow>>>,
    /// Whether one of them cannot be computed.
    has_failed: bool,
    /// Made when they are looked for.
    indexes: RefCell<Vec<StatementIndex>>,
}

impl Undo {
    /// What a row was, unless something earlier is known of it.
    pub(crate) fn add(&mut self, slot: Slot, row: &Option<Arc<StatementRow>>) {
        self.rows.entry(slot).or_insert_with(|| row.clone());
        self.has_failed |= failures(row.as_ref()) > 0;
        self.indexes.get_mut().clear();
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = (Slot, &Option<Arc<StatementRow>>)> {
        self.rows.iter().map(|(slot, row)| (*slot, row))
    }

    /// Those that had these values in these columns.
    fn equal(&self, fields: &[FieldNo], key: &[Key]) -> Vec<Slot> {
        let mut indexes = self.indexes.borrow_mut();
        let known = indexes.iter().position(|index| index.fields == fields);
        let known = known.unwrap_or_else(|| {
            indexes.push(StatementIndex::of(fields, self.iter()));
            indexes.len() - 1
        });
        indexes[known].slots.get(key).cloned().unwrap_or_default()
    }
}

fn failures(row: Option<&Arc<StatementRow>>) -> usize {
    usize::from(row.is_some_and(|row| row.failed.is_some()))
}

impl StatementRow {
    fn key_of(&self, fields: &[FieldNo]) -> Option<Box<[Key]>> {
        let keys = fields.iter().map(|field| match &self.values[field.index()] {
            Scalar::Null => None,
            value => Some(Key::from(value.clone())),
        });
        keys.collect()
    }
}

/// The columns in which two versions of a row differ; all of them, if it entered or left.
pub(crate) fn changed_columns(
    before: Option<&StatementRow>,
    after: Option<&StatementRow>,
) -> Option<FieldSet> {
    let (before, after) = (before?, after?);
    let values = before.values.iter().zip(&after.values).enumerate();
    let all = before.failed != after.failed;
    Some(values.filter(|(_, (a, b))| all || a != b).map(|(n, _)| FieldNo(n as u32)).collect())
}

/// The rows of another statement as of one commit: as they are, or with what has changed since put
/// back.
#[derive(Clone, Copy)]
pub(crate) struct StatementView<'a> {
    pub(crate) rows: &'a StatementRows,
    pub(crate) undo: Option<&'a Undo>,
}

impl<'a> StatementView<'a> {
    pub(crate) fn row(&self, slot: Slot) -> Option<&'a StatementRow> {
        match self.undo.and_then(|undo| undo.rows.get(&slot)) {
            Some(before) => before.as_deref(),
            None => self.rows.row(slot).map(|row| &**row),
        }
    }

    /// Whether there are rows that cannot be computed.
    pub(super) fn has_failed(&self) -> bool {
        self.rows.failed > 0 || self.undo.is_some_and(|undo| undo.has_failed)
    }

    /// Notes that something was needed that cannot be computed.
    #[cold]
    pub(super) fn fail(&self, failure: &Failure) {
        self.rows.needed.replace(Some(failure.clone()));
    }

    pub(crate) fn slots(&self) -> Vec<Slot> {
        let all = (0..self.rows.rows.len() as u32).map(Slot);
        all.filter(|slot| self.row(*slot).is_some()).collect()
    }

    /// The rows with these values in these columns.
    pub(super) fn equal(&self, fields: &[FieldNo], key: &[Key]) -> Vec<Slot> {
        let index = self.rows.indexes.iter().find(|index| index.fields == fields);
        debug_assert!(index.is_some(), "its readers have this index made");
        let now = index.and_then(|index| index.slots.get(key)).into_iter().flatten();
        let Some(undo) = self.undo else {
            return now.copied().collect();
        };
        let now = now.filter(|slot| !undo.rows.contains_key(slot)).copied();
        now.chain(undo.equal(fields, key)).collect()
    }
}
