//! Rows as readers meet them: their cells, one row after the other, and how rows are selected.

use std::sync::Arc;

use smallvec::SmallVec;

use super::chunk::{Bits, CHUNK, Chunk, Quads};
use super::folded::TextSearch;
use super::layout::Layout;
use super::{Cell, Slot, TableRows, index, offset};
use crate::schema::FieldNo;

/// The rows of so many items are brought from memory together. To wait for memory is most of what
/// it costs to look at rows that lie anywhere: what is asked for at once is waited for once.
pub(crate) const TOGETHER: usize = 16;
/// Something of each of them, where there is anything.
pub(crate) type Together<T> = [Option<T>; TOGETHER];

/// Goes through items of which each has rows somewhere. `fetch` adds those of an item to the
/// ones that are prefetched: it is called for some items that are next to each other before the
/// first of these is looked at.
pub(crate) fn each_prefetched<'i, 'a, T>(
    items: &'i [T],
    fetch: &dyn Fn(&mut Prefetch<'a>, &'i T),
    look_at: &mut dyn FnMut(&'i T),
) {
    for some in items.chunks(TOGETHER) {
        if some.len() > 1 {
            let mut prefetch = Prefetch::default();
            some.iter().for_each(|item| fetch(&mut prefetch, item));
            prefetch.fetch();
        }
        some.iter().for_each(&mut *look_at);
    }
}

/// Rows that are prefetched together, so that they are waited for once.
#[derive(Default)]
pub(crate) struct Prefetch<'a>(SmallVec<[(&'a TableRows, Slot); 4 * TOGETHER]>);

impl<'a> Prefetch<'a> {
    /// Adds a row, if it is there.
    #[inline]
    pub(crate) fn add(&mut self, table: &'a TableRows, slot: Slot) {
        // Tuples that are next to each other often have a row in common.
        let mut last = self.0.iter().rev().take(3);
        let is_known = last.any(|(of, known)| *known == slot && std::ptr::eq(*of, table));
        if slot.0 < table.slots && !is_known {
            self.0.push((table, slot));
        }
    }

    /// Loads where all of them lie, then the first and the last word of each; nothing waits for
    /// these words.
    pub(crate) fn fetch(&self) {
        let chunks = self.0.iter().map(|(table, slot)| table.chunk(*slot));
        let chunks: SmallVec<[&Chunk; 4 * TOGETHER]> = chunks.collect();
        let rows = chunks.iter().zip(&self.0);
        let rows = rows.map(|(chunk, (table, slot))| chunk.words(offset(*slot), &table.layout));
        let rows: SmallVec<[&[u32]; 4 * TOGETHER]> = rows.collect();
        for row in rows {
            std::hint::black_box((row.first().copied(), row.last().copied()));
        }
    }
}

/// The cells of one row.
#[derive(Clone, Copy)]
pub(crate) struct RowCells<'a> {
    chunk: &'a Chunk,
    /// Empty of a row that nothing was written to.
    words: &'a [u32],
    layout: &'a Layout,
}

impl<'a> RowCells<'a> {
    #[inline]
    pub(super) fn new(chunk: &'a Chunk, at: usize, layout: &'a Layout) -> Self {
        Self { chunk, words: chunk.words(at, layout), layout }
    }

    #[inline]
    pub(crate) fn cell(&self, field: FieldNo) -> Cell<'a> {
        self.chunk.cell_of(self.words, field, self.layout)
    }

    /// As [`RowCells::cell`], where it is seldom asked for: what the row consists of is handed over
    /// piece by piece, so that it need not lie in memory for those who do not ask.
    #[inline]
    pub(crate) fn cell_seldom(&self, field: FieldNo) -> Cell<'a> {
        #[cold]
        #[inline(never)]
        fn cell<'a>(chunk: &'a Chunk, words: &[u32], layout: &'a Layout, of: FieldNo) -> Cell<'a> {
            chunk.cell_of(words, of, layout)
        }
        cell(self.chunk, self.words, self.layout, field)
    }

    /// Where it differs from another version of the row in memory.
    #[inline]
    pub(crate) fn quads(&self, other: &RowCells<'_>) -> Quads {
        Quads::differing(self.words, other.words)
    }

    /// Calls `found` with the fields that hold something else in another version of the row, with
    /// some of them more than once; `quads` says where they differ in memory.
    pub(crate) fn each_differing(
        &self,
        other: &RowCells<'_>,
        quads: Quads,
        found: impl FnMut(FieldNo),
    ) {
        let others = (other.chunk, other.words);
        self.chunk.each_differing(self.words, others, quads, self.layout, found);
    }

    /// What a field of texts holds.
    #[inline]
    pub(crate) fn text(&self, field: FieldNo) -> Option<&'a str> {
        self.chunk.text_of(self.words, field, self.layout)
    }

    /// A text that repeats, shared by all rows that have it.
    #[inline]
    pub(crate) fn shared_text(&self, field: FieldNo) -> Option<Arc<str>> {
        self.chunk.shared_text(self.words, field, self.layout)
    }

    /// What [`ChunkRows::column`] gives for this row.
    pub(crate) fn bits(&self, field: FieldNo) -> Option<u64> {
        self.chunk.bits(self.words, field, self.layout)
    }

    /// The slot that a link to one table points at.
    #[inline]
    pub(crate) fn link(&self, field: FieldNo) -> Option<Slot> {
        self.chunk.link(self.words, field, self.layout)
    }

    /// The value of a field of whole numbers; others are read by [`RowCells::cell`].
    #[inline]
    pub(crate) fn whole(&self, field: FieldNo) -> Option<i64> {
        self.chunk.whole(self.words, field, self.layout)
    }
}

/// Some rows of a chunk.
#[derive(Clone, Copy)]
pub(crate) struct ChunkRows<'a> {
    pub(super) chunk: &'a Chunk,
    pub(super) layout: &'a Layout,
    pub(super) number: usize,
    /// A bit for each place.
    pub(super) places: u64,
}

impl<'a> ChunkRows<'a> {
    /// The rows, in slot order.
    #[inline]
    pub(crate) fn iter(self) -> impl Iterator<Item = (Slot, RowCells<'a>)> {
        Bits(self.places).ones().map(move |at| self.at(at))
    }

    /// A bit for each of their places in the chunk.
    #[inline]
    pub(crate) fn places(self) -> Bits {
        Bits(self.places)
    }

    /// What a field holds at each place of the chunk, if that lies in a few bits of memory that
    /// decide equality: a number, a time, the slot of a link's target, a text that repeats. Gives a
    /// bit for each place of which that is so.
    pub(crate) fn column(self, field: FieldNo, into: &mut [u64; CHUNK]) -> Bits {
        self.chunk.column(Bits(self.places), field, self.layout, into)
    }

    /// Those of them that meet a condition.
    #[inline]
    pub(crate) fn filtered(self, mut holds: impl FnMut(RowCells<'a>) -> bool) -> Self {
        self.among(|at| holds(RowCells::new(self.chunk, at, self.layout)))
    }

    /// Those of them at places of which something holds.
    #[inline]
    pub(crate) fn among(mut self, mut holds: impl FnMut(usize) -> bool) -> Self {
        for at in Bits(self.places).ones() {
            self.places &= !(u64::from(!holds(at)) << at);
        }
        self
    }

    /// The slot at a place of the chunk.
    #[inline]
    pub(crate) fn slot(self, place: usize) -> Slot {
        Slot((self.number * CHUNK + place) as u32)
    }

    /// The row at a place of the chunk, and its slot.
    #[inline]
    pub(crate) fn at(self, place: usize) -> (Slot, RowCells<'a>) {
        (self.slot(place), RowCells::new(self.chunk, place, self.layout))
    }
}

/// Selects rows by their fields: numbers in ranges, texts that are found.
#[derive(Default)]
pub(crate) struct Selection<'s> {
    pub(crate) ranges: Vec<(FieldNo, NumberRange)>,
    pub(crate) searches: Vec<(FieldNo, &'s dyn TextSearch)>,
}

/// What the numbers of a field are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Numbers {
    Whole,
    /// Timestamps, in microseconds.
    Micros,
}

/// Numbers from one to another, or all but these.
#[derive(Debug, Clone, Copy)]
pub(crate) struct NumberRange {
    pub(crate) low: i64,
    pub(crate) high: i64,
    pub(crate) inside: bool,
}

impl NumberRange {
    #[inline]
    pub(crate) fn has(&self, number: i64) -> bool {
        (self.low <= number && number <= self.high) == self.inside
    }
}

/// Reads rows one after the other; see [`TableRows::reader`].
pub(crate) struct RowReader<'a> {
    pub(super) table: &'a TableRows,
    pub(super) chunk: Option<(usize, &'a Chunk)>,
}

/// All rows of a table; see [`TableRows::rows_with_cells`].
pub(super) struct RowsWithCells<'a, C> {
    pub(super) layout: &'a Layout,
    pub(super) chunks: C,
    /// The chunk that is scanned, with its number and the rows that are left.
    pub(super) chunk: Option<(usize, &'a Chunk, u64)>,
}

impl<'a, C: Iterator<Item = (usize, &'a Chunk)>> Iterator for RowsWithCells<'a, C> {
    type Item = (Slot, RowCells<'a>);

    #[inline]
    fn next(&mut self) -> Option<Self::Item> {
        loop {
            if let Some((number, chunk, left)) = &mut self.chunk
                && *left != 0
            {
                let at = left.trailing_zeros() as usize;
                *left &= *left - 1;
                let slot = Slot((*number * CHUNK + at) as u32);
                return Some((slot, RowCells::new(chunk, at, self.layout)));
            }
            let (number, chunk) = self.chunks.next()?;
            self.chunk = Some((number, chunk, chunk.present()));
        }
    }

    /// Two loops, one in the other, which a compiler makes more of than of one that is entered
    /// again and again.
    #[inline]
    fn fold<B, F: FnMut(B, Self::Item) -> B>(self, init: B, mut each: F) -> B {
        let mut so_far = init;
        let rest = self.chunks.map(|(number, chunk)| (number, chunk, chunk.present()));
        for (number, chunk, rows) in self.chunk.into_iter().chain(rest) {
            for at in Bits(rows).ones() {
                let slot = Slot((number * CHUNK + at) as u32);
                so_far = each(so_far, (slot, RowCells::new(chunk, at, self.layout)));
            }
        }
        so_far
    }
}

impl<'a> RowReader<'a> {
    /// The row in a slot that has one.
    #[inline]
    pub(crate) fn row(&mut self, slot: Slot) -> RowCells<'a> {
        RowCells::new(self.chunk_of(slot), offset(slot), &self.table.layout)
    }

    /// The row in a slot, if it has one.
    #[inline]
    pub(crate) fn find(&mut self, slot: Slot) -> Option<RowCells<'a>> {
        let is_row = slot.0 < self.table.slots && self.chunk_of(slot).is_row(offset(slot));
        is_row.then(|| self.row(slot))
    }

    #[inline]
    fn chunk_of(&mut self, slot: Slot) -> &'a Chunk {
        match self.chunk {
            Some((number, chunk)) if number == index(slot) => chunk,
            _ => {
                let chunk = self.table.chunk(slot);
                self.chunk = Some((index(slot), chunk));
                chunk
            }
        }
    }
}
