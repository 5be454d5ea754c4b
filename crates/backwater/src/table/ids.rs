//! From an id to its slot: a hash table in versions, grown one bucket at a time.
//!
//! Linear hashing: buckets split in turn as ids come, so that no commit ever rebuilds the whole.
//! A bucket holds hashes and slots; the ids themselves lie in the table's rows.

use std::hash::{BuildHasher, RandomState};

use smallvec::SmallVec;

use super::{Slot, Trie};
use crate::value::IdRef;

/// How many ids a bucket holds on average before another bucket is added.
const LOAD: usize = 10;

type Bucket = SmallVec<[(u32, Slot); 14]>;

#[derive(Clone)]
pub(super) struct Ids {
    buckets: Trie<Bucket>,
    len: usize,
    /// Seeded, since ids come from outside.
    hasher: RandomState,
}

impl Ids {
    pub(super) fn new(hasher: RandomState) -> Self {
        let mut buckets = Trie::new();
        buckets.push(Bucket::new());
        Self { buckets, len: 0, hasher }
    }

    /// The slot of an id with that hash; `is_it` tells whether a slot of the same hash is the one.
    pub(super) fn find(&self, hash: u32, is_it: impl Fn(Slot) -> bool) -> Option<Slot> {
        self.buckets
            .get(self.bucket(hash))
            .iter()
            .find(|(other, slot)| *other == hash && is_it(*slot))
            .map(|(_, slot)| *slot)
    }

    /// Adds an id, by its hash, that is not there yet.
    pub(super) fn insert(&mut self, hash: u32, slot: Slot) {
        let bucket = self.bucket(hash);
        self.buckets.get_mut(bucket).push((hash, slot));
        self.len += 1;
        if self.len > self.buckets.len() * LOAD {
            self.split();
        }
    }

    /// Forgets an id.
    pub(super) fn remove(&mut self, id: IdRef<'_>, slot: Slot) {
        let hash = self.hash(id);
        let bucket = self.bucket(hash);
        let entries = self.buckets.get_mut(bucket);
        if let Some(position) = entries.iter().position(|entry| *entry == (hash, slot)) {
            entries.swap_remove(position);
            self.len -= 1;
        }
    }

    /// Divides the oldest bucket that has not been divided in this round.
    fn split(&mut self) {
        let new = self.buckets.len();
        let old = new - round(new);
        self.buckets.push(Bucket::new());
        let entries = std::mem::take(self.buckets.get_mut(old));
        let (gone, stay) = entries.into_iter().partition(|(hash, _)| self.bucket(*hash) == new);
        *self.buckets.get_mut(new) = gone;
        *self.buckets.get_mut(old) = stay;
    }

    fn bucket(&self, hash: u32) -> usize {
        let len = self.buckets.len();
        let round = round(len);
        let wide = hash as usize & (2 * round - 1);
        if wide < len { wide } else { wide - round }
    }

    pub(super) fn hash(&self, id: IdRef<'_>) -> u32 {
        self.hasher.hash_one(id) as u32
    }
}

/// The largest power of two that is not above `len`.
fn round(len: usize) -> usize {
    1 << len.ilog2()
}
