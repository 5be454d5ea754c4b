//! Rows in memory: versions of all tables that share what they have in common.
//!
//! A [`State`] is one version of every table. Cloning it is cheap, and a clone that is written to
//! copies only the chunks that it touches, so that readers keep what they hold. This room knows
//! slots and cells; it must not know why something is written, nor what reads it.

mod chunk;
mod dictionary;
mod filling;
mod folded;
mod index;
mod keys;
mod layout;
mod nested;
mod overlay;
mod parts;
mod rows;
mod snapshot;
mod staged;
mod state;
mod tables;
mod texts;
mod times;
mod trie;
mod words;

use std::collections::BTreeSet;
use std::hash::RandomState;
use std::sync::Arc;

use smallvec::SmallVec;

use crate::schema::{FieldKind, FieldNo, Schema, TableNo};
use crate::value::Timestamp;
use chunk::Chunk;
pub(crate) use chunk::{Bits, CHUNK, Quads};
pub(crate) use filling::Filling;
pub(crate) use folded::{FoldedTexts, TextSearch};
pub(crate) use index::IndexKey;
use index::{Index, NewLinks};
use keys::{Bucket, Keys};
use layout::Layout;
pub(crate) use overlay::{
    Edit, EditedFields, EditedRow, Noted, Overlay, PendingChange, RenamedRow, Unnoted,
};
use rows::RowsWithCells;
pub(crate) use rows::{
    ChunkRows, NumberRange, Numbers, Prefetch, RowCells, RowReader, Selection, TOGETHER, Together,
    each_prefetched,
};
pub(crate) use snapshot::field_no;
pub use snapshot::{FieldSummary, Row, Snapshot, TableSummary};
pub(crate) use staged::{EntryFields, Staged, StagedEntry, StagedRow, checked_text};
pub(crate) use state::State;
use state::{is_one_link, is_target};
pub(crate) use times::Times;
use times::{Now, Seen};
pub(crate) use trie::Trie;

/// A row's place in its table. It stays the row's for as long as the row is there, and after it
/// where a link may still point at it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct Slot(pub(crate) u32);

/// Where a row lies.
pub(crate) type RowAt = (TableNo, Slot);

/// A row as one number, in the order of rows.
pub(crate) fn row_key((table, slot): RowAt) -> u64 {
    u64::from(table.0) << 32 | u64::from(slot.0)
}

/// The slot of a one-row table's row.
pub(crate) const ONLY: Slot = Slot(0);

/// The fields of a link table.
pub(crate) const OWNER: FieldNo = FieldNo(0);
pub(crate) const TARGET: FieldNo = FieldNo(2);
pub(crate) const TARGET_TYPE: FieldNo = FieldNo(3);

/// The value of a field of a row, borrowed from the table.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) enum Cell<'a> {
    Absent,
    Null,
    Int(i64),
    Float(f64),
    Bool(bool),
    Text(&'a str),
    Timestamp(Timestamp),
    Json(&'a str),
    /// A link, as the slot in the table that the field's kind names.
    Link(Slot),
    /// A link to one of several tables.
    OneOf(TableNo, Slot),
}

impl Cell<'_> {
    /// Whether a version is lower than another one.
    pub(crate) fn is_before(&self, other: &Cell<'_>) -> bool {
        match (self, other) {
            (Cell::Int(one), Cell::Int(other)) => one < other,
            (Cell::Text(one), Cell::Text(other)) => one < other,
            (Cell::Timestamp(one), Cell::Timestamp(other)) => one < other,
            _ => false,
        }
    }
}

/// One version of one table.
#[derive(Clone)]
pub(crate) struct TableRows {
    chunks: Trie<Chunk>,
    keys: Keys,
    id: Arc<[FieldNo]>,
    indexes: Vec<Index>,
    layout: Arc<Layout>,
    slots: u32,
    rows: u32,
    /// Slots to use again; only the first `free_len` count.
    free: Trie<Slot>,
    free_len: usize,
    /// Slots of the rows that the current commit deleted and no link can point at. They keep their
    /// ids until it ends, since it may insert the row again.
    freed: Vec<Slot>,
    /// Whether links may point here, so that a deleted row's slot must be kept for its id.
    is_target: bool,
    /// How often a row was written to, made or deleted, or it was said whether it may be stored.
    writes: u64,
    /// When rows were received and read, if that is recorded.
    seen: Option<Arc<Seen>>,
    /// Rows that must not be written to a storage, if there are any.
    unstored: Option<Arc<BTreeSet<Slot>>>,
}

impl TableRows {
    fn new(schema: &Schema, number: TableNo, seed: &RandomState, now: &Arc<Now>) -> Self {
        let definition = schema.table(number);
        let indexes = schema.indexes(number).into_iter();
        let mut table = Self {
            chunks: Trie::new(),
            keys: Keys::new(seed),
            id: definition.id.as_slice().into(),
            indexes: indexes
                .map(|fields| {
                    let is_link = is_one_link(definition, &fields);
                    Index::new(fields, is_link, seed)
                })
                .collect(),
            layout: Arc::new(Layout::new(definition.fields.iter().map(|field| field.kind))),
            slots: 0,
            rows: 0,
            free: Trie::new(),
            free_len: 0,
            freed: Vec::new(),
            is_target: is_target(schema, number),
            writes: 0,
            seen: schema
                .keeps_times(number)
                .then(|| Arc::new(Seen::new(now.clone(), definition.expires_after))),
            unstored: None,
        };
        if definition.is_one_row() {
            let only = table.new_slot();
            table.insert(only);
        }
        table
    }

    /// How many rows there are.
    pub(crate) fn rows(&self) -> u32 {
        self.rows
    }

    /// How often a row of this version and of those before it was written to, made or deleted, or it
    /// was said whether it may be stored.
    pub(crate) fn writes(&self) -> u64 {
        self.writes
    }

    pub(crate) fn is_one_row(&self) -> bool {
        self.id.is_empty()
    }

    /// Whether a row lies in that slot; a slot without one is only referred to, or free.
    #[inline]
    pub(crate) fn is_row(&self, slot: Slot) -> bool {
        slot.0 < self.slots && self.chunk(slot).is_row(offset(slot))
    }

    #[inline]
    pub(crate) fn cell(&self, slot: Slot, field: FieldNo) -> Cell<'_> {
        self.cells(slot).map_or(Cell::Absent, |cells| cells.cell(field))
    }

    /// What a slot holds, whether or not a row is there; nothing, if there is no such slot.
    #[inline]
    pub(crate) fn cells(&self, slot: Slot) -> Option<RowCells<'_>> {
        (slot.0 < self.slots).then(|| RowCells::new(self.chunk(slot), offset(slot), &self.layout))
    }

    /// The row in a slot, found once for all of its fields.
    #[inline]
    pub(crate) fn row(&self, slot: Slot) -> Option<RowCells<'_>> {
        if slot.0 >= self.slots {
            return None;
        }
        let (chunk, at) = (self.chunk(slot), offset(slot));
        chunk.is_row(at).then(|| RowCells::new(chunk, at, &self.layout))
    }

    /// How many slots there are, with rows or without.
    pub(crate) fn slots(&self) -> usize {
        self.slots as usize
    }

    /// The slot of a key, whether or not its row is there.
    pub(crate) fn slot(&self, key: &[Cell<'_>]) -> Option<Slot> {
        self.slot_of(key, self.keys.hash(key))
    }

    /// The slots of several keys of one part each: each look-up waits for memory, and so all do at
    /// once. Of two keys that have the same hash one may not be found.
    pub(crate) fn slots_of(&self, keys: &Together<Cell<'_>>) -> Together<Slot> {
        let (mut hashes, mut buckets) = ([0; TOGETHER], [None; TOGETHER]);
        let (mut rows, mut slots) = ([None; TOGETHER], [None; TOGETHER]);
        for (place, key) in keys.iter().enumerate() {
            hashes[place] = key.map_or(0, |key| self.keys.hash(&[key]));
        }
        for (place, bucket) in buckets.iter_mut().enumerate() {
            *bucket = keys[place].and_then(|_| self.keys.bucket_of(hashes[place]));
        }
        for (place, row) in rows.iter_mut().enumerate() {
            let slot = buckets[place].and_then(|bucket: &Bucket| bucket.first(hashes[place]));
            *row = slot.and_then(|slot| Some((slot, self.cells(slot)?)));
        }
        for (place, found) in slots.iter_mut().enumerate() {
            if let (Some((slot, cells)), Some(key), [id]) = (rows[place], keys[place], &*self.id) {
                *found = (cells.cell(*id) == key).then_some(slot);
            }
        }
        slots
    }

    fn slot_of(&self, key: &[Cell<'_>], hash: u32) -> Option<Slot> {
        self.keys.find(hash, |slot| self.has(slot, &self.id, key))
    }

    /// Whether the fields of a slot hold these values.
    fn has(&self, slot: Slot, fields: &[FieldNo], key: &[Cell<'_>]) -> bool {
        fields.iter().zip(key).all(|(field, cell)| self.cell(slot, *field) == *cell)
    }

    /// The values of some fields of a slot; `None` if one of them has none.
    pub(crate) fn key(&self, slot: Slot, fields: &[FieldNo]) -> Option<IndexKey<'_>> {
        let cells = fields.iter().map(|field| match self.cell(slot, *field) {
            Cell::Absent | Cell::Null => None,
            cell => Some(cell),
        });
        cells.collect()
    }

    /// The rows that have these values in these fields, which the schema has an index for.
    pub(crate) fn indexed_rows(&self, fields: &[FieldNo], key: &[Cell<'_>]) -> Vec<Slot> {
        let index = self.indexes.iter().find(|index| index.fields == fields);
        debug_assert!(index.is_some(), "the schema lists the indexes");
        let rows = index.map(|index| index.rows(key, |slot| self.has(slot, fields, key)));
        rows.into_iter().flatten().collect()
    }

    /// Calls `found` with the rows that have these values in these fields, which an index was made
    /// for.
    pub(crate) fn each_indexed(
        &self,
        fields: &[FieldNo],
        key: &[Cell<'_>],
        found: &mut dyn FnMut(Slot),
    ) {
        let has_key = |slot: Slot| self.has(slot, fields, key);
        match self.indexes.iter().find(|index| index.fields == fields) {
            Some(index) => index.rows(key, has_key).for_each(found),
            None => {
                debug_assert!(false, "an index on these fields exists");
                self.iter().filter(|slot| has_key(*slot)).for_each(found);
            }
        }
    }

    fn has_index(&self, fields: &[FieldNo]) -> bool {
        self.indexes.iter().any(|index| index.fields == fields)
    }

    /// Adds indexes of some fields each, or of one link; these in one go through the rows.
    fn add_indexes(&mut self, all: Vec<(Vec<FieldNo>, bool)>) {
        let (links, others): (Vec<_>, Vec<_>) = all.into_iter().partition(|(_, is_link)| *is_link);
        let links = links.into_iter().map(|(link, _)| (link, NewLinks::new(self.slots())));
        let mut links: Vec<_> = links.collect();
        if !links.is_empty() {
            let mut targets = [0; CHUNK];
            self.each_chunk_in(&Selection::default(), |rows| {
                for (link, links) in &mut links {
                    let found = rows.column(link[0], &mut targets).ones();
                    found.for_each(|at| links.add(rows.slot(at), Slot(targets[at] as u32)));
                }
            });
        }
        self.indexes.extend(links.into_iter().map(|(link, links)| links.index(link)));
        for (fields, is_link) in others {
            let mut index = Index::new(fields.clone(), is_link, &RandomState::new());
            self.each_row(|slot, cells| {
                let key = fields.iter().map(|field| match cells.cell(*field) {
                    Cell::Absent | Cell::Null => None,
                    cell => Some(cell),
                });
                if let Some(key) = key.collect::<Option<IndexKey<'_>>>() {
                    index.add(slot, &key, |other| self.has(other, &fields, &key));
                }
            });
            self.indexes.push(index);
        }
    }

    /// Removes a row from the indexes of some fields, so that these can be written.
    fn unindex(&mut self, slot: Slot, written: impl Fn(FieldNo) -> bool) {
        let mut indexes = std::mem::take(&mut self.indexes);
        for index in indexes.iter_mut().filter(|index| index.fields.iter().any(|f| written(*f))) {
            if let Some(key) = self.key(slot, &index.fields) {
                index.remove(slot, &key);
            }
        }
        self.indexes = indexes;
    }

    /// Adds a row to the indexes of some fields, which were written.
    fn index(&mut self, slot: Slot, written: impl Fn(FieldNo) -> bool) {
        let mut indexes = std::mem::take(&mut self.indexes);
        for index in indexes.iter_mut().filter(|index| index.fields.iter().any(|f| written(*f))) {
            if let Some(key) = self.key(slot, &index.fields) {
                let fields: SmallVec<[FieldNo; 4]> = index.fields.as_slice().into();
                index.add(slot, &key, |other| self.has(other, &fields, &key));
            }
        }
        self.indexes = indexes;
    }

    /// Whether it is recorded when rows were received and read.
    pub(crate) fn keeps_times(&self) -> bool {
        self.seen.is_some()
    }

    /// When a row was last received and read.
    pub(crate) fn times(&self, slot: Slot) -> Times {
        let times = (slot.0 < self.slots).then(|| self.chunk(slot).times()).flatten();
        times.map(|times| times.get(offset(slot))).unwrap_or_default()
    }

    /// Takes what a storage says of that.
    pub(crate) fn set_times(&self, slot: Slot, said: Times) {
        if let Some(times) = self.chunk(slot).times() {
            times.set(offset(slot), said);
        }
    }

    /// A row is read, by its id or along a link, or shown.
    #[inline]
    pub(crate) fn note_read(&self, slot: Slot) {
        if let Some(seen) = &self.seen
            && slot.0 < self.slots
            && let Some(times) = self.chunk(slot).times()
        {
            seen.note_read(times, slot, offset(slot));
        }
    }

    /// A row is received; returns whether that is to be recorded.
    fn receive(&self, slot: Slot) -> bool {
        match (&self.seen, self.is_row(slot)) {
            (Some(seen), true) => {
                let times = self.chunk(slot).times();
                times.is_some_and(|times| seen.receive(times, offset(slot)))
            }
            _ => false,
        }
    }

    /// The slots of all rows, in slot order.
    pub(crate) fn iter(&self) -> impl Iterator<Item = Slot> + '_ {
        self.chunks.iter().enumerate().flat_map(|(number, chunk)| {
            chunk.rows().map(move |row| Slot((number * CHUNK + row) as u32))
        })
    }

    /// All rows with what they hold, one after the other.
    pub(crate) fn rows_with_cells(&self) -> impl Iterator<Item = (Slot, RowCells<'_>)> + '_ {
        let chunks = self.chunks.iter().enumerate();
        RowsWithCells { layout: &self.layout, chunks, chunk: None }
    }

    /// Reads rows one after the other, of which neighbours mostly lie next to each other.
    pub(crate) fn reader(&self) -> RowReader<'_> {
        RowReader { table: self, chunk: None }
    }

    /// Calls `found` with each row, in slot order.
    pub(crate) fn each_row<'a>(&'a self, found: impl FnMut(Slot, RowCells<'a>)) {
        self.each_row_in(&Selection::default(), found);
    }

    /// Whether a field's texts can be searched by [`TableRows::each_row_in`].
    pub(crate) fn has_texts(&self, field: FieldNo) -> bool {
        self.layout.place(field).kind == FieldKind::Text
    }

    /// A bit for each slot of a chunk whose row is selected.
    pub(crate) fn places_in(&self, chunk: usize, selection: &Selection<'_>) -> u64 {
        self.chunks.get(chunk).places_in(selection, &self.layout)
    }

    /// Copies texts of a chunk that a search has gone through, in slot order.
    pub(crate) fn copy_folded(
        &self,
        chunk: usize,
        places: u64,
        field: FieldNo,
        into: &mut FoldedTexts,
    ) {
        self.chunks.get(chunk).copy_folded(places, field, into);
    }

    /// Whether a field's numbers can be selected by [`TableRows::each_row_in`].
    pub(crate) fn has_numbers(&self, field: FieldNo, of: Numbers) -> bool {
        match self.layout.place(field).kind {
            FieldKind::Int | FieldKind::Links(_) => of == Numbers::Whole,
            FieldKind::Timestamp => of == Numbers::Micros,
            _ => false,
        }
    }

    /// Calls `found` with each selected row, in slot order.
    pub(crate) fn each_row_in<'a>(
        &'a self,
        selection: &Selection<'_>,
        mut found: impl FnMut(Slot, RowCells<'a>),
    ) {
        self.each_chunk_in(selection, |rows| rows.iter().for_each(|(slot, row)| found(slot, row)));
    }

    /// The same a chunk at a time.
    pub(crate) fn each_chunk_in<'a>(
        &'a self,
        selection: &Selection<'_>,
        mut found: impl FnMut(ChunkRows<'a>),
    ) {
        let layout = &self.layout;
        for (number, chunk) in self.chunks.iter().enumerate() {
            let places = chunk.places_in(selection, layout);
            if places != 0 {
                found(ChunkRows { chunk, layout, number, places });
            }
        }
    }

    fn add(&mut self, key: &[Cell<'_>], hash: u32) -> Slot {
        let slot = self.new_slot();
        for (field, cell) in self.id.clone().iter().zip(key) {
            self.chunks.get_mut(index(slot)).set(offset(slot), *field, *cell, &self.layout);
        }
        self.keys.insert(hash, slot);
        slot
    }

    /// Puts a row without any field but its id into a slot that has none.
    pub(crate) fn insert(&mut self, slot: Slot) {
        debug_assert!(!self.is_row(slot));
        self.writes += 1;
        self.chunks.get_mut(index(slot)).set_row(offset(slot), true);
        self.rows += 1;
        if !self.indexes.is_empty() {
            self.index(slot, |_| true);
        }
    }

    /// The rows that must not be written to a storage.
    pub(crate) fn unstored(&self) -> impl Iterator<Item = Slot> + '_ {
        self.unstored.iter().flat_map(|slots| slots.iter().copied())
    }

    pub(crate) fn has_unstored(&self) -> bool {
        self.unstored.is_some()
    }

    pub(crate) fn is_unstored(&self, slot: Slot) -> bool {
        self.unstored.as_ref().is_some_and(|slots| slots.contains(&slot))
    }

    /// Says whether a row must not be written to a storage.
    pub(crate) fn set_unstored(&mut self, slot: Slot, is_unstored: bool) {
        if is_unstored {
            self.writes += 1;
            Arc::make_mut(self.unstored.get_or_insert_default()).insert(slot);
        } else if let Some(slots) = &mut self.unstored {
            self.writes += 1;
            Arc::make_mut(slots).remove(&slot);
            if slots.is_empty() {
                self.unstored = None;
            }
        }
    }

    /// Takes a row out of its slot.
    pub(crate) fn delete(&mut self, slot: Slot) {
        debug_assert!(self.is_row(slot));
        self.set_unstored(slot, false);
        self.writes += 1;
        if !self.indexes.is_empty() {
            self.unindex(slot, |_| true);
        }
        self.chunks.get_mut(index(slot)).clear(offset(slot), &self.id, &self.layout);
        self.rows -= 1;
        if !self.is_target {
            self.freed.push(slot);
        }
    }

    fn hand_over_free_slots(&mut self, is_covered: impl Fn(Slot) -> bool) {
        for slot in std::mem::take(&mut self.freed) {
            let is_free = !self.is_row(slot) && !is_covered(slot);
            let key = self.key(slot, &self.id).filter(|_| is_free);
            let Some(hash) = key.map(|key| self.keys.hash(&key)) else { continue };
            self.keys.remove(hash, slot);
            self.chunks.get_mut(index(slot)).clear(offset(slot), &[], &self.layout);
            if self.free_len < self.free.len() {
                *self.free.get_mut(self.free_len) = slot;
            } else {
                self.free.push(slot);
            }
            self.free_len += 1;
        }
    }

    /// Writes one field.
    pub(crate) fn set(&mut self, slot: Slot, field: FieldNo, cell: Cell<'_>) {
        self.merge_at(slot, &[(field, cell)], self.is_row(slot));
    }

    /// Writes some fields of one row, which is made if it is not there.
    pub(crate) fn merge(&mut self, slot: Slot, cells: &[(FieldNo, Cell<'_>)]) {
        self.merge_at(slot, cells, true);
    }

    fn merge_at(&mut self, slot: Slot, cells: &[(FieldNo, Cell<'_>)], as_row: bool) {
        self.writes += 1;
        let indexed = !self.indexes.is_empty();
        let written = |field| cells.iter().any(|(written, _)| *written == field);
        if indexed && self.is_row(slot) {
            self.unindex(slot, written);
        }
        let (chunk, at) = (self.chunks.get_mut(index(slot)), offset(slot));
        let was_row = chunk.is_row(at);
        if as_row && !was_row {
            chunk.set_row(at, true);
            self.rows += 1;
        }
        for (field, cell) in cells {
            if !was_row || chunk.cell(at, *field, &self.layout) != *cell {
                chunk.set(at, *field, *cell, &self.layout);
            }
        }
        if indexed && as_row {
            // A new row enters all indexes; one that was there moves in those that are written.
            self.index(slot, |field| !was_row || written(field));
        }
    }

    fn new_slot(&mut self) -> Slot {
        if let Some(last) = self.free_len.checked_sub(1) {
            self.free_len = last;
            return *self.free.get(last);
        }
        let slot = Slot(self.slots);
        self.slots += 1;
        if offset(slot) == 0 {
            let keeps_times = self.seen.is_some();
            self.chunks.push(if keeps_times { Chunk::with_times() } else { Chunk::default() });
        }
        slot
    }

    #[inline]
    fn chunk(&self, slot: Slot) -> &Chunk {
        self.chunks.get(index(slot))
    }
}

#[inline]
fn index(slot: Slot) -> usize {
    slot.0 as usize / CHUNK
}

#[inline]
fn offset(slot: Slot) -> usize {
    slot.0 as usize % CHUNK
}
