//! A secondary index in versions: the rows that have the same values in some fields.
//!
//! An ordered collection of numbers, each of a key and a slot, so that a key's rows lie together, in
//! slot order. A row of which one of the fields is null or absent is in none.

use std::cmp::Ordering;
use std::hash::RandomState;

use smallvec::SmallVec;

use super::keys::KeyHasher;
use super::{Cell, Slot};
use crate::rank_tree::{Prefix, RankTree, Sought};
use crate::schema::FieldNo;

/// The values of some fields of a row.
pub(crate) type IndexKey<'a> = SmallVec<[Cell<'a>; 2]>;

/// No slot.
const NONE: u32 = u32::MAX;

#[derive(Clone)]
pub(super) struct Index {
    pub(super) fields: Vec<FieldNo>,
    /// None where the key is one link: its number is the slot that it points at.
    hasher: Option<KeyHasher>,
    /// Their prefixes say all.
    rows: RankTree<()>,
}

/// The keys of the rows that an index is made of.
pub(super) enum NewKeys {
    /// With the rows, in any order.
    Hashed(Vec<Prefix>),
    /// By slot, where each links to.
    Links(Vec<u32>),
}

impl Index {
    /// `is_link` is whether the one field is a link to rows of one table.
    pub(super) fn new(fields: Vec<FieldNo>, is_link: bool, seed: &RandomState) -> Self {
        let hasher = (!is_link).then(|| KeyHasher::new(seed));
        Self { fields, hasher, rows: RankTree::from_sorted(&mut std::iter::empty()) }
    }

    /// Whether the key is one link.
    fn is_of_links(&self) -> bool {
        self.hasher.is_none()
    }

    /// Calls `found` with the rows of a key, in slot order; `has_key` says whether a row has it.
    pub(super) fn each(
        &self,
        key: &[Cell<'_>],
        has_key: &dyn Fn(Slot) -> bool,
        found: &mut dyn FnMut(Slot),
    ) {
        let Some(first) = self.entry(key, Slot(0)) else { return };
        self.rows.each_from(&place(first), |entry, ()| {
            let slot = Slot(entry as u32);
            let is_here = entry >> 32 == first >> 32;
            // Other keys may have the same hash.
            if is_here && (self.is_of_links() || has_key(slot)) {
                found(slot);
            }
            is_here
        });
    }

    /// Adds a row under its key.
    pub(super) fn add(&mut self, slot: Slot, key: &[Cell<'_>]) {
        if let Some(entry) = self.entry(key, slot) {
            self.rows.insert((), &place(entry));
        }
    }

    /// Removes a row from its key.
    pub(super) fn remove(&mut self, slot: Slot, key: &[Cell<'_>]) {
        if let Some(entry) = self.entry(key, slot) {
            self.rows.remove(&place(entry));
        }
    }

    /// Takes all rows at once, with their keys.
    pub(super) fn fill(&mut self, keys: NewKeys) {
        self.rows = match keys {
            NewKeys::Hashed(mut entries) => {
                entries.sort_unstable();
                RankTree::from_sorted(&mut entries.into_iter().map(|entry| (entry, ())))
            }
            NewKeys::Links(targets) => RankTree::from_sorted(&mut by_target(&targets)),
        };
    }

    /// None of this many rows' keys yet.
    pub(super) fn new_keys(&self, rows: usize) -> NewKeys {
        match self.hasher {
            Some(_) => NewKeys::Hashed(Vec::with_capacity(rows)),
            None => NewKeys::Links(vec![NONE; rows]),
        }
    }

    /// The number of a key and a row.
    pub(super) fn entry(&self, key: &[Cell<'_>], slot: Slot) -> Option<Prefix> {
        match (&self.hasher, key) {
            (Some(hasher), _) => Some(entry(hasher.hash(key), slot)),
            (None, [Cell::Link(to)]) => Some(entry(to.0, slot)),
            (None, _) => None,
        }
    }
}

/// The number of a key's number and a row.
#[inline]
fn entry(key: u32, slot: Slot) -> Prefix {
    Prefix::from(key) << 32 | Prefix::from(slot.0)
}

fn place(entry: Prefix) -> Sought<impl Fn(&()) -> Ordering> {
    Sought { prefix: entry, against: |_: &()| Ordering::Equal }
}

/// Rows that link to the same one lie together, in slot order.
fn by_target(targets: &[u32]) -> impl Iterator<Item = (Prefix, ())> {
    let linked = || targets.iter().zip(0..).filter(|(target, _)| **target != NONE);
    // It is counted how many link to each, and where these begin.
    let mut starts = Vec::new();
    for (target, _) in linked() {
        let target = *target as usize;
        if target >= starts.len() {
            starts.resize(target + 1, 0_u32);
        }
        starts[target] += 1;
    }
    let mut all = 0;
    for start in &mut starts {
        all += std::mem::replace(start, all);
    }
    let mut slots = vec![0; all as usize];
    for (target, slot) in linked() {
        let place = &mut starts[*target as usize];
        slots[*place as usize] = slot;
        *place += 1;
    }
    // By now, each start is where the next one's begin.
    let mut target = 0;
    (0..).zip(slots).map(move |(place, slot)| {
        while starts[target as usize] <= place {
            target += 1;
        }
        (entry(target, Slot(slot)), ())
    })
}
