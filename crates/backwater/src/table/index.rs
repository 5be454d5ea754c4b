//! A secondary index in versions: the rows that have the same values in some fields, as a linked
//! list for each key.
//!
//! Adding a row to its list and removing it cost the same however long the list is. A row of which
//! one of the fields is null or absent is in none.

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
pub(crate) type IndexKey<'a> = SmallVec<[Cell<'a>; 2]>;

#[derive(Clone)]
pub(super) struct Index {
    pub(super) fields: Vec<FieldNo>,
    heads: Heads,
    neighbours: Trie<[(u32, u32); PIECE]>,
}

/// From a key to the first row of its list.
#[derive(Clone)]
enum Heads {
    Hashed(Keys),
    /// Where the key is one link: by the slot that it points at.
    BySlot(Trie<[u32; PIECE]>),
}

/// An index of links that many rows are put into at once.
pub(super) struct NewLinks {
    heads: Vec<u32>,
    neighbours: Vec<(u32, u32)>,
}

impl NewLinks {
    /// Of rows below so many slots.
    pub(super) fn new(slots: usize) -> Self {
        Self { heads: Vec::new(), neighbours: vec![(NONE, NONE); slots] }
    }

    /// Adds a row, and the slot that its link points at.
    #[inline]
    pub(super) fn add(&mut self, slot: Slot, to: Slot) {
        let to = to.0 as usize;
        if to >= self.heads.len() {
            self.heads.resize(to + 1, NONE);
        }
        let second = std::mem::replace(&mut self.heads[to], slot.0);
        self.neighbours[slot.0 as usize].1 = second;
        if second != NONE {
            self.neighbours[second as usize].0 = slot.0;
        }
    }

    pub(super) fn index(self, fields: Vec<FieldNo>) -> Index {
        let heads = Heads::BySlot(pieces(&self.heads, NONE));
        Index { fields, heads, neighbours: pieces(&self.neighbours, (NONE, NONE)) }
    }
}

impl Index {
    /// `is_link` is whether the one field is a link to rows of one table.
    pub(super) fn new(fields: Vec<FieldNo>, is_link: bool, seed: &RandomState) -> Self {
        let heads =
            if is_link { Heads::BySlot(Trie::new()) } else { Heads::Hashed(Keys::new(seed)) };
        Self { fields, heads, neighbours: Trie::new() }
    }

    /// Whether the key is one link.
    pub(super) fn is_of_links(&self) -> bool {
        matches!(self.heads, Heads::BySlot(_))
    }

    /// The rows of a key, in no particular order; `has_key` says whether a row has it.
    pub(super) fn rows<'c, F: Fn(Slot) -> bool>(
        &'c self,
        key: &[Cell<'_>],
        has_key: F,
    ) -> impl Iterator<Item = Slot> + use<'c, F> {
        let mut next = match &self.heads {
            Heads::Hashed(keys) => keys.find(keys.hash(key), has_key),
            Heads::BySlot(heads) => target(key).and_then(|to| head(heads, to)),
        };
        std::iter::from_fn(move || {
            let slot = next?;
            next = some(self.neighbours(slot).1);
            Some(slot)
        })
    }

    /// Adds a row under its key.
    pub(super) fn add(&mut self, slot: Slot, key: &[Cell<'_>], has_key: impl Fn(Slot) -> bool) {
        while self.neighbours.len() <= slot.0 as usize / PIECE {
            self.neighbours.push([(NONE, NONE); PIECE]);
        }
        let first = match &mut self.heads {
            Heads::BySlot(heads) => {
                let Some(to) = target(key) else { return };
                while heads.len() <= to.0 as usize / PIECE {
                    heads.push([NONE; PIECE]);
                }
                let head = &mut heads.get_mut(to.0 as usize / PIECE)[to.0 as usize % PIECE];
                let second = std::mem::replace(head, slot.0);
                *self.neighbours_mut(slot) = (NONE, second);
                if let Some(second) = some(second) {
                    self.neighbours_mut(second).0 = slot.0;
                }
                return;
            }
            Heads::Hashed(keys) => {
                let hash = keys.hash(key);
                let first = keys.find(hash, has_key);
                if first.is_none() {
                    keys.insert(hash, slot);
                }
                first
            }
        };
        match first {
            None => *self.neighbours_mut(slot) = (NONE, NONE),
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

    /// Removes a row from its key.
    pub(super) fn remove(&mut self, slot: Slot, key: &[Cell<'_>]) {
        let (before, after) = self.neighbours(slot);
        if let Some(after) = some(after) {
            self.neighbours_mut(after).0 = before;
        }
        if let Some(before) = some(before) {
            self.neighbours_mut(before).1 = after;
            return;
        }
        match &mut self.heads {
            Heads::BySlot(heads) => {
                if let Some(to) = target(key) {
                    heads.get_mut(to.0 as usize / PIECE)[to.0 as usize % PIECE] = after;
                }
            }
            Heads::Hashed(keys) => {
                let hash = keys.hash(key);
                match some(after) {
                    Some(after) => keys.replace(hash, slot, after),
                    None => keys.remove(hash, slot),
                }
            }
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

fn pieces<T: Copy>(all: &[T], none: T) -> Trie<[T; PIECE]> {
    let mut out = Trie::new();
    for piece in all.chunks(PIECE) {
        let mut whole = [none; PIECE];
        whole[..piece.len()].copy_from_slice(piece);
        out.push(whole);
    }
    out
}

/// The slot that a key of one link points at.
fn target(key: &[Cell<'_>]) -> Option<Slot> {
    match key {
        [Cell::Link(slot)] => Some(*slot),
        _ => None,
    }
}

fn head(heads: &Trie<[u32; PIECE]>, to: Slot) -> Option<Slot> {
    let piece = to.0 as usize / PIECE;
    if piece >= heads.len() {
        return None;
    }
    some(heads.get(piece)[to.0 as usize % PIECE])
}
