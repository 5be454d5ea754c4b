//! A few dozen neighbouring slots of one table: which are rows, and their cells row by row, so
//! that a row lies in one place in memory and a commit copies one piece of it.

use std::sync::Arc;

use super::dictionary::Symbol;
use super::folded::{FoldedColumns, FoldedTexts};
use super::layout::{FieldPlace, Layout};
use super::texts::Texts;
use super::times::RowTimes;
use super::words::Words;
use super::{Cell, NumberRange, Selection, Slot};
use crate::schema::{FieldKind, FieldNo, TableNo};
use crate::value::Timestamp;

/// How many slots a chunk has.
pub(crate) const CHUNK: usize = 64;

/// Fewer rows of a chunk are read by themselves.
const FEW: usize = CHUNK / 4;

/// A bit for each slot of a chunk.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Bits(pub(crate) u64);

impl Bits {
    pub(crate) fn get(self, at: usize) -> bool {
        self.0 >> at & 1 == 1
    }

    pub(crate) fn set(&mut self, at: usize, on: bool) {
        self.0 = self.0 & !(1 << at) | u64::from(on) << at;
    }

    pub(crate) fn len(self) -> usize {
        self.0.count_ones() as usize
    }

    pub(crate) fn of(ones: impl Iterator<Item = usize>) -> Self {
        Self(ones.fold(0, |bits, at| bits | 1 << at))
    }

    pub(crate) fn without(self, others: Self) -> Self {
        Self(self.0 & !others.0)
    }

    #[inline]
    pub(crate) fn ones(self) -> impl Iterator<Item = usize> {
        let mut left = self.0;
        std::iter::from_fn(move || {
            let at = (left != 0).then(|| left.trailing_zeros() as usize)?;
            left &= left - 1;
            Some(at)
        })
    }
}

/// Which words of two rows differ, four at a time: a bit for each of the first ones, and the last
/// bit for all that are behind.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Quads(u64);

impl Quads {
    /// Without a branch, so that nothing that follows waits for the rows to come from memory.
    #[inline]
    pub(super) fn differing(words: &[u32], others: &[u32]) -> Self {
        let ((quads, rest), (other_quads, other_rest)) =
            (words.as_chunks::<4>(), others.as_chunks::<4>());
        let bit = |differs: bool, number: usize| u64::from(differs) << number.min(63);
        let bits = quads.iter().zip(other_quads).enumerate();
        let bits = bits.fold(0, |bits, (number, (quad, other))| bits | bit(quad != other, number));
        let rest = rest.iter().zip(other_rest).fold(0, |bits, (word, other)| bits | (word ^ other));
        Self(bits | bit(rest != 0, quads.len()))
    }

    /// Words among which are all that differ, of so many.
    fn words(self, len: usize) -> impl Iterator<Item = usize> {
        Bits(self.0).ones().flat_map(move |quad| {
            let end = if quad == 63 { len } else { len.min(quad * 4 + 4) };
            quad * 4..end
        })
    }
}

/// A field's state in a row. A boolean is its own state; a text is a symbol of the field's
/// dictionary or a place among the chunk's texts.
const ABSENT: u32 = 0;
const NULL: u32 = 1;
const VALUE: u32 = 2;
const FALSE: u32 = VALUE;
const TRUE: u32 = 3;
const SYMBOL: u32 = VALUE;
const APART: u32 = 3;

/// How a field's value is stored in a row, where its bits alone decide equality.
#[derive(Clone, Copy)]
enum Form {
    Long,
    /// A text has it only if it repeats.
    Word,
    State,
}

impl Form {
    fn of(kind: FieldKind) -> Option<Self> {
        match kind {
            FieldKind::Int | FieldKind::Timestamp | FieldKind::Links(_) => Some(Self::Long),
            FieldKind::Link(_) | FieldKind::Text => Some(Self::Word),
            FieldKind::Bool => Some(Self::State),
            _ => None,
        }
    }

    /// The bits, and whether there is a value that they stand for.
    #[inline(always)]
    fn read(self, row: &[u32], place: &FieldPlace, state: u32) -> (u64, bool) {
        match self {
            Self::Long => (long(row, place), state == VALUE),
            Self::Word => (row[place.word as usize].into(), state == VALUE),
            Self::State => (state.into(), state >= VALUE),
        }
    }
}

#[derive(Clone, Default)]
pub(super) struct Chunk {
    present: Bits,
    /// Rows up to the last one that was written to; all zero is all absent.
    words: Words,
    texts: Option<Arc<Texts>>,
    folded: FoldedColumns,
    /// When rows were last received and read, where that is recorded.
    times: Option<Arc<RowTimes>>,
}

impl Chunk {
    /// One whose rows' times are kept.
    pub(super) fn with_times() -> Self {
        Self { times: Some(Arc::default()), ..Self::default() }
    }

    /// One that is about to be filled.
    pub(super) fn with_room(layout: &Layout, has_times: bool) -> Self {
        let words = Words::with_room(layout.width() * CHUNK);
        let times = has_times.then(Arc::default);
        Self { words, times, ..Self::default() }
    }

    pub(super) fn times(&self) -> Option<&RowTimes> {
        self.times.as_deref()
    }

    pub(super) fn is_row(&self, at: usize) -> bool {
        self.present.get(at)
    }

    pub(super) fn set_row(&mut self, at: usize, is_row: bool) {
        self.folded.forget();
        self.present.set(at, is_row);
    }

    /// A bit for each place that has a row.
    #[inline]
    pub(super) fn present(&self) -> u64 {
        self.present.0
    }

    /// The places of the rows.
    pub(super) fn rows(&self) -> impl Iterator<Item = usize> + use<> {
        self.present.ones()
    }

    /// A bit for each place whose row is selected.
    pub(super) fn places_in(&self, selection: &Selection<'_>, layout: &Layout) -> u64 {
        let mut bits = self.present.0;
        for (field, range) in &selection.ranges {
            bits &= self.numbers_in(layout.place(*field), range, layout);
        }
        for (field, search) in &selection.searches {
            if bits != 0 {
                let texts = || -> Box<dyn Iterator<Item = (usize, &str)>> {
                    let rows = self.present.ones();
                    Box::new(rows.filter_map(|at| match self.cell(at, *field, layout) {
                        Cell::Text(text) => Some((at, text)),
                        _ => None,
                    }))
                };
                bits &= self.folded.places(*field, *search, texts);
            }
        }
        bits
    }

    /// Copies the texts of some places that a search has gone through.
    pub(super) fn copy_folded(&self, places: u64, field: FieldNo, into: &mut FoldedTexts) {
        self.folded.copy(places, field, into);
    }

    /// A bit for each place that has a number in a range; without a branch, as there are many.
    fn numbers_in(&self, place: &FieldPlace, range: &NumberRange, layout: &Layout) -> u64 {
        let mut bits = 0;
        for (at, row) in self.words.chunks_exact(layout.width()).enumerate() {
            let has = (state(row, place) == VALUE) & range.has(long(row, place) as i64);
            bits |= u64::from(has) << at;
        }
        bits
    }

    #[inline]
    pub(super) fn cell<'a>(&'a self, at: usize, field: FieldNo, layout: &'a Layout) -> Cell<'a> {
        self.cell_of(self.words(at, layout), field, layout)
    }

    /// The words of a row; none, if nothing was written to it.
    #[inline]
    pub(super) fn words(&self, at: usize, layout: &Layout) -> &[u32] {
        let start = at * layout.width();
        self.words.get(start..start + layout.width()).unwrap_or_default()
    }

    /// A cell of the row with these words.
    #[inline]
    pub(super) fn cell_of<'a>(
        &'a self,
        words: &[u32],
        field: FieldNo,
        layout: &'a Layout,
    ) -> Cell<'a> {
        match words {
            [] => Cell::Absent,
            row => self.read(row, layout.place(field)),
        }
    }

    /// See [`RowCells::shared_text`](super::RowCells::shared_text).
    pub(super) fn shared_text(
        &self,
        words: &[u32],
        field: FieldNo,
        layout: &Layout,
    ) -> Option<Arc<str>> {
        let place = layout.place(field);
        let is_symbol =
            place.kind == FieldKind::Text && !words.is_empty() && state(words, place) == SYMBOL;
        is_symbol
            .then(|| place.dictionary.shared(Symbol(words[place.word as usize])).cloned())
            .flatten()
    }

    /// See [`RowCells::link`](super::RowCells::link).
    #[inline]
    pub(super) fn link(&self, words: &[u32], field: FieldNo, layout: &Layout) -> Option<Slot> {
        let place = layout.place(field);
        let is_link = matches!(place.kind, FieldKind::Link(_))
            && !words.is_empty()
            && state(words, place) == VALUE;
        is_link.then(|| Slot(words[place.word as usize]))
    }

    /// See [`RowCells::whole`](super::RowCells::whole).
    #[inline(always)]
    pub(super) fn whole(&self, words: &[u32], field: FieldNo, layout: &Layout) -> Option<i64> {
        let place = layout.place(field);
        let is_whole = matches!(place.kind, FieldKind::Int | FieldKind::Links(_))
            && state_if_written(words, place) == VALUE;
        is_whole.then(|| long(words, place) as i64)
    }

    /// See [`RowCells::text`](super::RowCells::text).
    #[inline(always)]
    pub(super) fn text_of<'a>(
        &'a self,
        words: &[u32],
        field: FieldNo,
        layout: &'a Layout,
    ) -> Option<&'a str> {
        let place = layout.place(field);
        if place.kind != FieldKind::Text {
            return None;
        }
        match state_if_written(words, place) {
            SYMBOL => Some(place.dictionary.text(Symbol(words[place.word as usize]))),
            APART => Some(self.text(words[place.word as usize])),
            _ => None,
        }
    }

    /// Calls `found` with the fields of a row that hold something else in another version of the
    /// chunk, with some of them more than once; `quads` are those that differ.
    pub(super) fn each_differing(
        &self,
        words: &[u32],
        (other, others): (&Chunk, &[u32]),
        quads: Quads,
        layout: &Layout,
        mut found: impl FnMut(FieldNo),
    ) {
        let mut look_at = |field: FieldNo| {
            if self.cell_of(words, field, layout) != other.cell_of(others, field, layout) {
                found(field);
            }
        };
        if words.len() != others.len() {
            return layout.field_numbers().for_each(look_at);
        }
        for number in quads.words(words.len()) {
            if words[number] != others[number] {
                let bits = words[number] ^ others[number];
                layout.fields_of_word(number, bits).for_each(&mut look_at);
            }
        }
        let has_same_texts = match (&self.texts, &other.texts) {
            (Some(mine), Some(theirs)) => Arc::ptr_eq(mine, theirs),
            (mine, theirs) => mine.is_none() && theirs.is_none(),
        };
        if !has_same_texts && !words.is_empty() {
            let apart = layout.field_numbers().filter(|at| is_apart(words, layout.place(*at)));
            apart.for_each(look_at);
        }
    }

    /// See [`ChunkRows::column`](super::ChunkRows::column).
    pub(super) fn column(
        &self,
        places: Bits,
        field: FieldNo,
        layout: &Layout,
        into: &mut [u64; CHUNK],
    ) -> Bits {
        let place = layout.place(field);
        // One loop for each, as they are what a scan consists of.
        macro_rules! values {
            ($form:expr) => {
                self.values(places, place, layout, into, |row, state| $form.read(row, place, state))
            };
        }
        match Form::of(place.kind) {
            Some(Form::Long) => values!(Form::Long),
            Some(Form::Word) => values!(Form::Word),
            Some(Form::State) => values!(Form::State),
            None => Bits(0),
        }
    }

    /// See [`RowCells::bits`](super::RowCells::bits).
    pub(super) fn bits(&self, words: &[u32], field: FieldNo, layout: &Layout) -> Option<u64> {
        let place = layout.place(field);
        let form = Form::of(place.kind).filter(|_| !words.is_empty())?;
        let (value, counts) = form.read(words, place, state(words, place));
        counts.then_some(value)
    }

    /// What rows hold of a field, and a bit for each place of which that counts. `value` goes by a
    /// row and the field's state in it.
    #[inline]
    fn values(
        &self,
        places: Bits,
        place: &FieldPlace,
        layout: &Layout,
        into: &mut [u64; CHUNK],
        value: impl Fn(&[u32], u32) -> (u64, bool),
    ) -> Bits {
        let mut bits = 0;
        let mut read = |at: usize, row: &[u32], into: &mut u64| {
            let (value, counts) = value(row, state(row, place));
            *into = value;
            bits |= u64::from(counts) << at;
        };
        if places.len() < FEW {
            let rows = places.ones().map(|at| (at, self.words(at, layout)));
            rows.filter(|(_, row)| !row.is_empty())
                .for_each(|(at, row)| read(at, row, &mut into[at]));
        } else {
            // All of them, without a branch.
            let rows = self.words.chunks_exact(layout.width()).zip(into).enumerate();
            rows.for_each(|(at, (row, into))| read(at, row, into));
        }
        Bits(bits & places.0)
    }

    #[inline]
    fn read<'a>(&'a self, row: &[u32], place: &'a FieldPlace) -> Cell<'a> {
        let state = state(row, place);
        match state {
            ABSENT => return Cell::Absent,
            NULL => return Cell::Null,
            _ => {}
        }
        match place.kind {
            FieldKind::Int | FieldKind::Links(_) => Cell::Int(long(row, place) as i64),
            FieldKind::Float => Cell::Float(f64::from_bits(long(row, place))),
            FieldKind::Bool => Cell::Bool(state == TRUE),
            FieldKind::Timestamp => {
                Cell::Timestamp(Timestamp::from_known_micros(long(row, place) as i64))
            }
            FieldKind::Link(_) => Cell::Link(Slot(row[place.word as usize])),
            FieldKind::OneOf => {
                let word = place.word as usize;
                Cell::OneOf(TableNo(row[word]), Slot(row[word + 1]))
            }
            FieldKind::Text if state == SYMBOL => {
                Cell::Text(place.dictionary.text(Symbol(row[place.word as usize])))
            }
            FieldKind::Text => Cell::Text(self.text(row[place.word as usize])),
            FieldKind::Json => Cell::Json(self.text(row[place.word as usize])),
        }
    }

    fn text(&self, place: u32) -> &str {
        self.texts.as_ref().map_or("", |texts| texts.get(place))
    }

    /// Begins a row behind those that are there, all of it absent.
    pub(super) fn begin_row(&mut self, at: usize, layout: &Layout) {
        self.present.set(at, true);
        self.words.resize((at + 1) * layout.width(), 0);
    }

    /// Writes a cell of a row that was begun, and that nothing was written to in that field.
    #[inline]
    pub(super) fn fill(&mut self, at: usize, field: FieldNo, cell: Cell<'_>, layout: &Layout) {
        let (place, width) = (layout.place(field), layout.width());
        let row = &mut self.words[at * width..(at + 1) * width];
        put_cell(row, place, cell, &mut self.texts);
    }

    /// Writes a cell, whose type is the field's: the caller has checked that.
    pub(super) fn set(&mut self, at: usize, field: FieldNo, cell: Cell<'_>, layout: &Layout) {
        self.folded.forget();
        let (start, width) = (at * layout.width(), layout.width());
        if self.words.len() < start + width {
            self.grow(start + width, width * CHUNK);
        }
        let place = layout.place(field);
        let row = &mut self.words[start..start + width];
        let mut wasteful = false;
        if is_apart(row, place)
            && let Some(texts) = &mut self.texts
        {
            let texts = Arc::make_mut(texts);
            texts.remove(row[place.word as usize]);
            wasteful = texts.is_wasteful();
        }
        put_cell(row, place, cell, &mut self.texts);
        if wasteful {
            self.compact(layout);
        }
    }

    /// Makes room for words up to a length; a chunk grows by doubling until it is full.
    #[cold]
    fn grow(&mut self, len: usize, full: usize) {
        let wanted = len.max(self.words.len() * 2).min(full);
        let more = wanted - self.words.len();
        self.words.reserve_exact(more);
        self.words.resize(len, 0);
    }

    /// Takes the row at a place away, and all its fields but those to keep.
    pub(super) fn clear(&mut self, at: usize, kept: &[FieldNo], layout: &Layout) {
        self.set_row(at, false);
        for field in layout.field_numbers() {
            if !kept.contains(&field) && self.cell(at, field, layout) != Cell::Absent {
                self.set(at, field, Cell::Absent, layout);
            }
        }
    }

    /// Copies the texts that are left, when half of them are waste.
    #[cold]
    fn compact(&mut self, layout: &Layout) {
        let Some(texts) = &self.texts else { return };
        let mut compacted = Texts::default();
        for row in self.words.chunks_exact_mut(layout.width()) {
            for place in layout.places() {
                if is_apart(row, place) {
                    let word = &mut row[place.word as usize];
                    *word = compacted.add(texts.get(*word));
                }
            }
        }
        self.texts = Some(Arc::new(compacted));
    }
}

/// Whether a field's value is a place among the chunk's texts.
fn is_apart(row: &[u32], place: &FieldPlace) -> bool {
    matches!(place.kind, FieldKind::Text | FieldKind::Json) && state(row, place) == APART
}

#[inline]
fn state(row: &[u32], place: &FieldPlace) -> u32 {
    row[place.state_word as usize] >> place.shift & 3
}

fn put_state(row: &mut [u32], place: &FieldPlace, state: u32) {
    let word = &mut row[place.state_word as usize];
    *word = *word & !(3 << place.shift) | state << place.shift;
}

/// The same of a row that may have no words.
#[inline]
fn state_if_written(row: &[u32], place: &FieldPlace) -> u32 {
    row.get(place.state_word as usize).map_or(ABSENT, |word| word >> place.shift & 3)
}

#[inline]
fn long(row: &[u32], place: &FieldPlace) -> u64 {
    let word = place.word as usize;
    let value = &row[word..word + 2];
    u64::from(value[0]) | u64::from(value[1]) << 32
}

fn put_long(row: &mut [u32], place: &FieldPlace, value: u64) -> u32 {
    let word = place.word as usize;
    row[word] = value as u32;
    row[word + 1] = (value >> 32) as u32;
    VALUE
}

/// Puts a cell into its row, and a text that does not repeat behind the chunk's other ones.
#[inline]
fn put_cell(row: &mut [u32], place: &FieldPlace, cell: Cell<'_>, texts: &mut Option<Arc<Texts>>) {
    let new = match cell {
        Cell::Absent => ABSENT,
        Cell::Null => NULL,
        Cell::Bool(flag) => [FALSE, TRUE][usize::from(flag)],
        Cell::Int(number) => put_long(row, place, number as u64),
        // -0.0 is 0.0.
        Cell::Float(number) => put_long(row, place, (number + 0.0).to_bits()),
        Cell::Timestamp(time) => put_long(row, place, time.as_micros() as u64),
        Cell::Link(Slot(slot)) => put_word(row, place, VALUE, slot),
        Cell::OneOf(TableNo(table), Slot(slot)) => {
            put_long(row, place, u64::from(table) | u64::from(slot) << 32)
        }
        Cell::Text(text) => match place.dictionary.intern(text) {
            Some(Symbol(symbol)) => put_word(row, place, SYMBOL, symbol),
            None => put_word(row, place, APART, add_text(texts, text)),
        },
        Cell::Json(text) => put_word(row, place, APART, add_text(texts, text)),
    };
    put_state(row, place, new);
}

fn put_word(row: &mut [u32], place: &FieldPlace, state: u32, value: u32) -> u32 {
    row[place.word as usize] = value;
    state
}

fn add_text(texts: &mut Option<Arc<Texts>>, text: &str) -> u32 {
    Arc::make_mut(texts.get_or_insert_default()).add(text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::HashMap;

    const KINDS: [FieldKind; 4] =
        [FieldKind::Text, FieldKind::Bool, FieldKind::Json, FieldKind::Int];

    /// A cell's value for a field, of many lengths for texts.
    fn written(field: usize, what: u16) -> (String, bool, i64) {
        let long = "saltmere ".repeat([0, 1, 8, 20, 600][usize::from(what) % 5]);
        (format!("{field} {what} {long}"), what.is_multiple_of(2), i64::from(what) << 40)
    }

    fn cell(field: usize, what: u16, value: &(String, bool, i64)) -> Cell<'_> {
        match (KINDS[field], what % 7) {
            (_, 0) => Cell::Null,
            (_, 1) => Cell::Absent,
            (FieldKind::Text, _) => Cell::Text(&value.0),
            (FieldKind::Json, _) => Cell::Json(&value.0),
            (FieldKind::Bool, _) => Cell::Bool(value.1),
            _ => Cell::Int(value.2),
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]

        /// Cells are what was written last, in a chunk and in the copy that was kept before.
        #[test]
        fn cells_are_what_was_written(writes in prop::collection::vec((0..CHUNK, 0..KINDS.len(), 0..400_u16), 0..600)) {
            let layout = Layout::new(KINDS.into_iter());
            let (mut chunk, mut model) = (Chunk::default(), HashMap::new());
            let mut kept = (chunk.clone(), model.clone());
            for (number, (at, field, what)) in writes.iter().enumerate() {
                let value = written(*field, *what);
                chunk.set(*at, FieldNo(*field as u32), cell(*field, *what, &value), &layout);
                model.insert((*at, *field), *what);
                if number == 300 {
                    kept = (chunk.clone(), model.clone());
                }
            }
            for (chunk, model) in [(chunk, model), kept] {
                for (at, field) in (0..CHUNK).flat_map(|at| (0..KINDS.len()).map(move |field| (at, field))) {
                    let what = model.get(&(at, field)).copied().unwrap_or(1);
                    let value = written(field, what);
                    prop_assert_eq!(chunk.cell(at, FieldNo(field as u32), &layout), cell(field, what, &value));
                }
                let texts = chunk.texts.as_ref().map_or(0, |texts| texts.buffer_len());
                let left: usize = model.iter().map(|((_, field), what)| written(*field, *what).0.len() + 6).sum();
                prop_assert!(texts <= 2 * left + 6000, "{texts} bytes for {left}");
            }
        }
    }
}
