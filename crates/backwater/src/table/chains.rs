//! The rows that have the same values in some fields: an index in versions, a chain for each key.
//!
//! Putting a row into its chain and taking it out cost the same however long the chain is. A row
//! of which one of the fields is null or absent is in no chain.

use std::hash::RandomState;

use smallvec::SmallVec;

use super::keys::Keys;
use super::{Cell, Slot, Trie};
use crate::schema::FieldNo;

/// How many slots' neighbours lie in one piece.
const PIECE: usize = 64;
/// No slot.
const NONE: u32 = u32::MAX;

/// The values of some fields of a row.
pub(crate) type Key<'a> = SmallVec<[Cell<'a>; 2]>;

#[derive(Clone)]
pub(super) struct Chains {
    pub(super) fields: Vec<FieldNo>,
    /// From a key to the first row of its chain.
    heads: Keys,
    neighbours: Trie<[(u32, u32); PIECE]>,
}

impl Chains {
    pub(super) fn new(fields: Vec<FieldNo>, seed: &RandomState) -> Self {
        Self { fields, heads: Keys::new(seed), neighbours: Trie::new() }
    }

    /// The rows of a key's chain, in no order of meaning; `has_key` tells whether a row has it.
    pub(super) fn rows<'c, F: Fn(Slot) -> bool>(
        &'c self,
        key: &[Cell<'_>],
        has_key: F,
    ) -> impl Iterator<Item = Slot> + use<'c, F> {
        let mut next = self.heads.find(self.heads.hash(key), has_key);
        std::iter::from_fn(move || {
            let slot = next?;
            next = some(self.neighbours(slot).1);
            Some(slot)
        })
    }

    /// Puts a row into the chain of its key.
    pub(super) fn add(&mut self, slot: Slot, key: &[Cell<'_>], has_key: impl Fn(Slot) -> bool) {
        let hash = self.heads.hash(key);
        while self.neighbours.len() <= slot.0 as usize / PIECE {
            self.neighbours.push([(NONE, NONE); PIECE]);
        }
        match self.heads.find(hash, has_key) {
            None => {
                self.heads.insert(hash, slot);
                *self.neighbours_mut(slot) = (NONE, NONE);
            }
            // Behind the first one, whose place in the table of keys stays.
            Some(head) => {
                let second = self.neighbours(head).1;
                *self.neighbours_mut(slot) = (head.0, second);
                self.neighbours_mut(head).1 = slot.0;
                if let Some(second) = some(second) {
                    self.neighbours_mut(second).0 = slot.0;
                }
            }
        }
    }

    /// Takes a row out of the chain of its key.
    pub(super) fn remove(&mut self, slot: Slot, key: &[Cell<'_>]) {
        let (before, after) = self.neighbours(slot);
        if let Some(after) = some(after) {
            self.neighbours_mut(after).0 = before;
        }
        match (some(before), some(after)) {
            (Some(before), _) => self.neighbours_mut(before).1 = after,
            (None, Some(after)) => self.heads.replace(self.heads.hash(key), slot, after),
            (None, None) => self.heads.remove(self.heads.hash(key), slot),
        }
    }

    fn neighbours(&self, slot: Slot) -> (u32, u32) {
        self.neighbours.get(slot.0 as usize / PIECE)[slot.0 as usize % PIECE]
    }

    fn neighbours_mut(&mut self, slot: Slot) -> &mut (u32, u32) {
        &mut self.neighbours.get_mut(slot.0 as usize / PIECE)[slot.0 as usize % PIECE]
    }
}

fn some(slot: u32) -> Option<Slot> {
    (slot != NONE).then_some(Slot(slot))
}
