//! From the values of some fields to a slot: a hash table in versions, grown one bucket at a time.
//!
//! Linear hashing: buckets split in turn as keys are added, so that no commit ever rebuilds the
//! whole. A bucket holds hashes and slots; the keys themselves lie in the table's rows.

use std::hash::{BuildHasher, Hasher, RandomState};

use siphasher::sip::SipHasher13;
use smallvec::SmallVec;

use super::{Cell, Slot, Trie};

/// How many keys a bucket holds on average before another bucket is added.
const LOAD: usize = 10;

type Entries = SmallVec<[(u32, Slot); 14]>;

#[derive(Default)]
pub(super) struct Bucket(Entries);

impl Bucket {
    /// The first slot of a hash.
    pub(super) fn first(&self, hash: u32) -> Option<Slot> {
        self.0.iter().find(|(other, _)| *other == hash).map(|(_, slot)| *slot)
    }
}

/// As one piece: a commit copies a bucket for each id that is new.
impl Clone for Bucket {
    fn clone(&self) -> Self {
        Self(Entries::from_slice(&self.0))
    }
}

#[derive(Clone)]
pub(super) struct Keys {
    buckets: Trie<Bucket>,
    len: usize,
    /// Seeded, since keys are chosen by servers.
    hasher: SipHasher13,
}

impl Keys {
    pub(super) fn new(seed: &RandomState) -> Self {
        let hasher = SipHasher13::new_with_keys(seed.hash_one(0_u8), seed.hash_one(1_u8));
        let mut buckets = Trie::new();
        buckets.push(Bucket::default());
        Self { buckets, len: 0, hasher }
    }

    /// The slot of a key with that hash; `is_it` says whether a slot of the same hash is the one.
    pub(super) fn find(&self, hash: u32, is_it: impl Fn(Slot) -> bool) -> Option<Slot> {
        self.buckets
            .get(self.bucket(hash))
            .0
            .iter()
            .find(|(other, slot)| *other == hash && is_it(*slot))
            .map(|(_, slot)| *slot)
    }

    /// The bucket of a hash, unless it is empty.
    pub(super) fn bucket_of(&self, hash: u32) -> Option<&Bucket> {
        Some(self.buckets.get(self.bucket(hash))).filter(|bucket| !bucket.0.is_empty())
    }

    /// Adds a key, by its hash, that is not there yet.
    pub(super) fn insert(&mut self, hash: u32, slot: Slot) {
        let bucket = self.bucket(hash);
        self.buckets.get_mut(bucket).0.push((hash, slot));
        self.len += 1;
        if self.len > self.buckets.len() * LOAD {
            self.split();
        }
    }

    /// Takes the keys of the first slots, by their hashes, where there are none yet: each bucket is
    /// made once.
    pub(super) fn fill(&mut self, hashes: &[u32]) {
        debug_assert_eq!(self.len, 0);
        let len = hashes.len().div_ceil(LOAD).max(1);
        let mut starts = vec![0_u32; len + 1];
        hashes.iter().for_each(|hash| starts[bucket(*hash, len) + 1] += 1);
        for place in 1..starts.len() {
            starts[place] += starts[place - 1];
        }
        let (mut entries, mut next) = (vec![(0, Slot(0)); hashes.len()], starts.clone());
        for (slot, hash) in (0..).map(Slot).zip(hashes) {
            let place = &mut next[bucket(*hash, len)];
            entries[*place as usize] = (*hash, slot);
            *place += 1;
        }
        self.len = hashes.len();
        self.buckets = Trie::new();
        for ends in starts.windows(2) {
            let entries = &entries[ends[0] as usize..ends[1] as usize];
            self.buckets.push(Bucket(Entries::from_slice(entries)));
        }
    }

    /// Forgets a key.
    pub(super) fn remove(&mut self, hash: u32, slot: Slot) {
        let bucket = self.bucket(hash);
        let entries = &mut self.buckets.get_mut(bucket).0;
        if let Some(position) = entries.iter().position(|entry| *entry == (hash, slot)) {
            entries.swap_remove(position);
            self.len -= 1;
        }
    }

    /// Puts another slot in the place of a key's.
    pub(super) fn replace(&mut self, hash: u32, old: Slot, new: Slot) {
        let bucket = self.bucket(hash);
        let entries = &mut self.buckets.get_mut(bucket).0;
        if let Some(entry) = entries.iter_mut().find(|entry| **entry == (hash, old)) {
            entry.1 = new;
        }
    }

    /// Divides the oldest bucket that has not been divided in this round.
    fn split(&mut self) {
        let new = self.buckets.len();
        let old = new - round(new);
        self.buckets.push(Bucket::default());
        let entries = std::mem::take(&mut self.buckets.get_mut(old).0);
        let (gone, stay) = entries.into_iter().partition(|(hash, _)| self.bucket(*hash) == new);
        self.buckets.get_mut(new).0 = gone;
        self.buckets.get_mut(old).0 = stay;
    }

    fn bucket(&self, hash: u32) -> usize {
        bucket(hash, self.buckets.len())
    }

    #[inline]
    pub(super) fn hash(&self, key: &[Cell<'_>]) -> u32 {
        match key {
            [Cell::Int(number)] => self.hasher.hash(&number.to_le_bytes()) as u32,
            [Cell::Text(text)] => self.hasher.hash(text.as_bytes()) as u32,
            _ => self.hash_parts(key),
        }
    }

    fn hash_parts(&self, key: &[Cell<'_>]) -> u32 {
        let mut hasher = self.hasher;
        for cell in key {
            match cell {
                Cell::Absent | Cell::Null => hasher.write_u8(0),
                Cell::Int(number) => hasher.write_u64(*number as u64),
                Cell::Float(number) => hasher.write_u64(number.to_bits()),
                Cell::Bool(flag) => hasher.write_u8(1 + u8::from(*flag)),
                Cell::Timestamp(time) => hasher.write_u64(time.as_micros() as u64),
                Cell::Link(slot) => hasher.write_u32(slot.0),
                Cell::OneOf(table, slot) => {
                    hasher.write_u64(u64::from(table.0) << 32 | u64::from(slot.0));
                }
                Cell::Text(text) | Cell::Json(text) => {
                    hasher.write(text.as_bytes());
                    // No text holds this byte, so that of two keys none begins as the other.
                    hasher.write_u8(0xff);
                }
            }
        }
        hasher.finish() as u32
    }
}

/// The bucket of a hash among this many.
fn bucket(hash: u32, len: usize) -> usize {
    let round = round(len);
    let wide = hash as usize & (2 * round - 1);
    if wide < len { wide } else { wide - round }
}

/// The largest power of two that is not above `len`.
fn round(len: usize) -> usize {
    1 << len.ilog2()
}
