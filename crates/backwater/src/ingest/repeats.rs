//! Objects that stand in a response again, letter by letter. Without them, reading a nested response
//! takes twice as long (`ingest/nested`).
//!
//! Of two JSON objects neither is the beginning of the other, so where the text of an object that
//! was read stands again, the same object stands there. Merging it once more changes nothing as
//! long as no field of the tables that it belongs to was overwritten in between.

use std::hash::Hasher;

use rustc_hash::FxHasher;
use smallvec::SmallVec;

use crate::change::WrittenRow;
use crate::schema::TableNo;
use crate::table::Slot;

/// How many objects are remembered at most; a later one takes the place of an earlier one.
const PLACES: usize = 4096;
/// One place for this many bytes of the response: a short one is hardly worth it.
const BYTES_A_PLACE: usize = 256;
/// Objects are looked up by this many of their first bytes, where an id mostly stands.
const START: usize = 24;
/// An object that holds more objects than these is not remembered.
const MOST: usize = 16;

/// An object that was read.
pub(super) struct Seen<'de> {
    table: TableNo,
    text: &'de [u8],
    slot: Slot,
    /// The rows of the objects that it is made of, itself included.
    rows: SmallVec<[WrittenRow; 4]>,
    /// The epochs of these tables together.
    epoch: u64,
}

/// The objects of one response that were read lately.
pub(super) struct Repeats<'de> {
    /// Made when there is something to remember.
    places: Vec<Option<Seen<'de>>>,
    /// How many places there are then.
    wanted: usize,
    /// How often a field of each table was overwritten, up to the last one where that was so.
    epochs: Vec<u64>,
    /// How many objects are being read, one inside of the other, that may be remembered.
    inside: usize,
    /// The rows of the objects that were read in them since the last record began.
    read: SmallVec<[WrittenRow; 16]>,
}

impl<'de> Repeats<'de> {
    /// For a response of this many bytes.
    pub(super) fn new(bytes: usize) -> Self {
        let wanted = match bytes >= 4 * BYTES_A_PLACE {
            true => (bytes / BYTES_A_PLACE).next_power_of_two().min(PLACES),
            false => 0,
        };
        Self { places: Vec::new(), wanted, epochs: Vec::new(), inside: 0, read: SmallVec::new() }
    }

    /// A new record begins: what was read before is not part of later ones.
    pub(super) fn begin_record(&mut self) {
        self.read.clear();
        self.inside = 0;
    }

    /// An object begins that may be remembered. Gives what [`Self::since`] takes at its end.
    pub(super) fn begin_object(&mut self) -> usize {
        self.inside += 1;
        self.read.len()
    }

    pub(super) fn end_object(&mut self) {
        self.inside -= 1;
    }

    /// Whether an object is being read that may be remembered.
    #[inline]
    pub(super) fn is_inside(&self) -> bool {
        self.inside > 0
    }

    /// The rows of an object that began with this mark, and of those inside of it.
    pub(super) fn since(&self, mark: usize) -> &[WrittenRow] {
        &self.read[mark..]
    }

    /// Objects were read.
    #[inline]
    pub(super) fn met(&mut self, rows: &[WrittenRow]) {
        if self.is_inside() {
            self.read.extend_from_slice(rows);
        }
    }

    /// Something in a table was overwritten.
    pub(super) fn overwrote(&mut self, table: TableNo) {
        if self.epochs.len() <= table.index() {
            self.epochs.resize(table.index() + 1, 0);
        }
        self.epochs[table.index()] += 1;
    }

    /// The object of a table that stands at the beginning of a text, if it was read before: its
    /// length, its slot, and the rows of all objects in it.
    pub(super) fn find(
        &mut self,
        table: TableNo,
        text: &[u8],
    ) -> Option<(usize, Slot, &[WrittenRow])> {
        let place = self.place(table, text)?;
        let is_it = |place: &usize| {
            let seen = self.places[*place].as_ref();
            seen.is_some_and(|seen| seen.table == table && text.starts_with(seen.text))
        };
        let place = [place, place ^ 1].into_iter().find(is_it)?;
        let seen = self.places[place].as_ref()?;
        if seen.epoch != epoch(&self.epochs, &seen.rows) {
            return None;
        }
        if self.inside > 0 {
            self.read.extend_from_slice(&seen.rows);
        }
        Some((seen.text.len(), seen.slot, &seen.rows))
    }

    /// Remembers an object that was read and is made of these rows.
    pub(super) fn remember(
        &mut self,
        table: TableNo,
        text: &'de [u8],
        slot: Slot,
        rows: &[WrittenRow],
    ) {
        if let Some(seen) = self.seen(table, text, slot, rows) {
            self.put(seen);
        }
    }

    /// Remembers an object that was read and began with a mark.
    pub(super) fn remember_since(
        &mut self,
        table: TableNo,
        text: &'de [u8],
        slot: Slot,
        mark: usize,
    ) {
        if let Some(seen) = self.seen(table, text, slot, self.since(mark)) {
            self.put(seen);
        }
    }

    /// What is remembered of an object, if it is worth it.
    fn seen(
        &self,
        table: TableNo,
        text: &'de [u8],
        slot: Slot,
        rows: &[WrittenRow],
    ) -> Option<Seen<'de>> {
        let is_worth_it = rows.len() <= MOST && text.len() >= START && self.wanted > 0;
        let seen =
            || Seen { table, text, slot, rows: rows.into(), epoch: epoch(&self.epochs, rows) };
        is_worth_it.then(seen)
    }

    fn put(&mut self, seen: Seen<'de>) {
        if self.places.is_empty() {
            self.places.resize_with(self.wanted, || None);
        }
        let (table, text) = (seen.table, seen.text);
        let Some(place) = self.place(table, text) else { return };
        // Two that hash to one place share a pair of them.
        let last = self.places[place].replace(seen);
        if last.as_ref().is_some_and(|last| last.table != table || last.text != text) {
            self.places[place ^ 1] = last;
        }
    }

    /// The place of an object, by its table and its first bytes.
    fn place(&self, table: TableNo, text: &[u8]) -> Option<usize> {
        let last = self.places.len().checked_sub(1)?;
        let mut hasher = FxHasher::default();
        hasher.write_u32(table.0);
        hasher.write(&text[..text.len().min(START)]);
        Some((hasher.finish() >> 20) as usize & last)
    }
}

fn epoch(epochs: &[u64], rows: &[WrittenRow]) -> u64 {
    let epoch = |table: TableNo| epochs.get(table.index()).copied().unwrap_or_default();
    rows.iter().map(|((table, _), _)| epoch(*table)).sum()
}
