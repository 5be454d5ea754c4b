//! A table that is filled with all its rows at once: they lie one behind the other, and the index
//! of their ids is built in the end.

use std::sync::Arc;

use super::chunk::{CHUNK, Chunk};
use super::keys::Keys;
use super::layout::Layout;
use super::times::Times;
use super::trie::Trie;
use super::{Cell, Slot, TableRows};
use crate::schema::FieldNo;

/// Rows for a table that has no slots yet. Their ids must differ.
pub(crate) struct Filling {
    layout: Arc<Layout>,
    id: Arc<[FieldNo]>,
    keys: Keys,
    has_times: bool,
    full: Vec<Chunk>,
    chunk: Chunk,
    /// Of each row's id.
    hashes: Vec<u32>,
}

impl Filling {
    /// For a table; `None` if it has slots already.
    pub(crate) fn of(table: &TableRows) -> Option<Self> {
        let has_times = table.keeps_times();
        let chunk = Chunk::with_room(&table.layout, has_times);
        let (layout, id, keys) = (table.layout.clone(), table.id.clone(), table.keys.clone());
        let (full, hashes) = (Vec::new(), Vec::new());
        (table.slots == 0).then_some(Self { layout, id, keys, has_times, full, chunk, hashes })
    }

    /// Begins a row with its id; the cells that are set next are its own.
    pub(crate) fn begin(&mut self, key: &[Cell<'_>], times: Times) -> Slot {
        let slot = Slot(self.hashes.len() as u32);
        let at = self.hashes.len() % CHUNK;
        if at == 0 && slot.0 > 0 {
            let next = Chunk::with_room(&self.layout, self.has_times);
            self.full.push(std::mem::replace(&mut self.chunk, next));
        }
        self.hashes.push(self.keys.hash(key));
        self.chunk.begin_row(at, &self.layout);
        for (field, cell) in self.id.iter().zip(key) {
            self.chunk.fill(at, *field, *cell, &self.layout);
        }
        if let Some(of_rows) = self.chunk.times() {
            of_rows.set(at, times);
        }
        slot
    }

    /// Sets a cell of the row that was begun last.
    pub(crate) fn set(&mut self, field: FieldNo, cell: Cell<'_>) {
        let at = (self.hashes.len() - 1) % CHUNK;
        self.chunk.fill(at, field, cell, &self.layout);
    }
}

impl TableRows {
    /// Takes the rows.
    pub(crate) fn fill(&mut self, filling: Filling) {
        debug_assert_eq!(self.slots, 0);
        let Filling { mut full, chunk, hashes, .. } = filling;
        if hashes.is_empty() {
            return;
        }
        full.push(chunk);
        let mut chunks = Trie::new();
        full.into_iter().for_each(|chunk| chunks.push(chunk));
        self.chunks = chunks;
        (self.slots, self.rows) = (hashes.len() as u32, hashes.len() as u32);
        self.writes += hashes.len() as u64;
        self.keys.fill(&hashes);
        let all = std::mem::take(&mut self.indexes).into_iter();
        self.add_indexes(all.map(|index| (index.fields.clone(), index.is_of_links())).collect());
    }
}
