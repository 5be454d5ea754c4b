//! Rows in memory: versions of all tables that share what they have in common.
//!
//! A [`State`] is one version of every table. Cloning it is cheap, and a clone that is written to
//! copies only the chunks that it touches, so that readers keep what they hold. This room knows
//! slots and cells; it must not know why something is written, nor who reads it.

mod chains;
mod chunk;
mod dictionary;
mod filling;
mod folded;
mod keys;
mod layout;
mod nested;
mod snapshot;
mod texts;
mod times;
mod trie;

use std::cmp::Ordering;
use std::collections::BTreeSet;
use std::hash::RandomState;
use std::sync::Arc;

use smallvec::SmallVec;

use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldNo, IdType, Kind, Schema, TableNo};
use crate::value::{Clock, IdRef, Json, RowId, Timestamp, Value};
use chains::Chains;
pub(crate) use chains::Key;
use chunk::Chunk;
pub(crate) use chunk::{Bits, CHUNK};
pub(crate) use filling::Filling;
pub(crate) use folded::TextSearch;
use keys::Keys;
use layout::Layout;
pub(crate) use snapshot::field_no;
pub use snapshot::{Row, Snapshot, TableSummary};
pub(crate) use times::Times;
use times::{Now, Seen};
use trie::Trie;

/// A row's place in its table. It stays the row's for as long as the row is there, and after it
/// where a link may still point at it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct Slot(pub(crate) u32);

/// The slot of a one-row table's row.
pub(crate) const ONLY: Slot = Slot(0);

/// The fields of a link table.
pub(crate) const OWNER: FieldNo = FieldNo(0);
pub(crate) const TARGET: FieldNo = FieldNo(2);
pub(crate) const TARGET_TYPE: FieldNo = FieldNo(3);

/// What a field of a row holds, lent by the table.
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

/// One version of all tables.
#[derive(Clone)]
pub(crate) struct State {
    pub(crate) schema: Arc<Schema>,
    tables: Vec<Arc<Table>>,
    /// Tables whose rows are still to come from a storage; mostly there are none.
    unready: Option<Arc<BTreeSet<TableNo>>>,
    /// The time, if it is kept of any table when its rows were brought and asked for.
    now: Option<Arc<Now>>,
}

/// One version of one table.
#[derive(Clone)]
pub(crate) struct Table {
    chunks: Trie<Chunk>,
    keys: Keys,
    id: Arc<[FieldNo]>,
    chains: Vec<Chains>,
    layout: Arc<Layout>,
    slots: u32,
    rows: u32,
    /// Slots to use again; only the first `free_len` count.
    free: Trie<Slot>,
    free_len: usize,
    /// Slots of the rows that the current commit deleted and no link can point at. They keep
    /// their ids until it ends, since it may bring the row back.
    freed: Vec<Slot>,
    /// Whether links may point here, so that a deleted row's slot must be kept for its id.
    is_target: bool,
    /// How often a row was written to, made or deleted.
    writes: u64,
    /// If it is kept when rows were brought and asked for.
    seen: Option<Arc<Seen>>,
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
    fn new(chunk: &'a Chunk, at: usize, layout: &'a Layout) -> Self {
        Self { chunk, words: chunk.words(at, layout), layout }
    }

    #[inline]
    pub(crate) fn cell(&self, field: FieldNo) -> Cell<'a> {
        self.chunk.cell_of(self.words, field, self.layout)
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

    /// The slot that a link to one table points at.
    #[inline]
    pub(crate) fn link(&self, field: FieldNo) -> Option<Slot> {
        self.chunk.link(self.words, field, self.layout)
    }

    /// What a field of whole numbers holds; of others that is told by [`RowCells::cell`].
    #[inline]
    pub(crate) fn whole(&self, field: FieldNo) -> Option<i64> {
        self.chunk.whole(self.words, field, self.layout)
    }

    /// What a field's value is in memory, by which it tells itself; of a text that does not repeat
    /// that says nothing.
    #[inline]
    pub(crate) fn in_memory(&self, field: FieldNo) -> Option<(u64, u64)> {
        self.chunk.in_memory(self.words, field, self.layout)
    }
}

/// What rows are asked for by what they hold in fields: numbers in ranges, texts that are found.
#[derive(Default)]
pub(crate) struct Asked<'s> {
    pub(crate) ranges: Vec<(FieldNo, NumberRange)>,
    pub(crate) searches: Vec<(FieldNo, &'s dyn TextSearch)>,
}

impl Asked<'_> {
    pub(crate) fn is_empty(&self) -> bool {
        self.ranges.is_empty() && self.searches.is_empty()
    }
}

/// What the numbers of a field are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Numbers {
    Whole,
    /// Moments, in microseconds.
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

/// Reads rows one after the other; see [`Table::reader`].
pub(crate) struct RowReader<'a> {
    table: &'a Table,
    chunk: Option<(usize, &'a Chunk)>,
}

/// All rows of a table; see [`Table::rows_with_cells`].
struct RowsWithCells<'a, C> {
    layout: &'a Layout,
    chunks: C,
    /// The one that is gone through, with its number and the rows that are left.
    chunk: Option<(usize, &'a Chunk, u64)>,
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

    /// Two loops, one in the other, which a compiler makes more of than of one that is entered again
    /// and again.
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
        let chunk = match self.chunk {
            Some((number, chunk)) if number == index(slot) => chunk,
            _ => {
                let chunk = self.table.chunk(slot);
                self.chunk = Some((index(slot), chunk));
                chunk
            }
        };
        RowCells::new(chunk, offset(slot), &self.table.layout)
    }
}

impl State {
    pub(crate) fn new(schema: Arc<Schema>) -> Self {
        let (seed, now) = (RandomState::new(), Arc::default());
        let tables = schema
            .table_numbers()
            .map(|number| Arc::new(Table::new(&schema, number, &seed, &now)))
            .collect();
        let keeps = schema.table_numbers().any(|table| schema.keeps_times(table));
        Self { schema, tables, unready: None, now: keeps.then_some(now) }
    }

    /// The same rows under a schema that has further tables behind those that are here.
    pub(crate) fn extended(&self, schema: Arc<Schema>) -> Self {
        let (tables, unready) = (self.tables.clone(), self.unready.clone());
        let mut extended = Self { schema, tables, unready, now: self.now.clone() };
        if extended.schema.table_numbers().any(|table| extended.schema.keeps_times(table)) {
            extended.now.get_or_insert_default();
        }
        let now = extended.now.clone().unwrap_or_default();
        let (schema, seed) = (extended.schema.clone(), RandomState::new());
        for number in schema.table_numbers() {
            if number.index() >= extended.tables.len() {
                extended.tables.push(Arc::new(Table::new(&schema, number, &seed, &now)));
                continue;
            }
            if is_target(&schema, number) && !extended.table(number).is_target {
                extended.table_mut(number).is_target = true;
            }
            for fields in schema.chains(number) {
                if !extended.has_index(number, &fields) {
                    extended.index(number, &fields);
                }
            }
        }
        extended
    }

    /// Whether it is kept of any table when its rows were brought and asked for.
    pub(crate) fn keeps_times(&self) -> bool {
        self.now.is_some()
    }

    /// Tells what time it is, where that is kept.
    pub(crate) fn tell_time(&self, clock: &dyn Clock) {
        if let Some(now) = &self.now {
            now.tell(clock.now());
        }
    }

    /// What time it is, in seconds since 1970, if anybody has told.
    pub(crate) fn seconds(&self) -> Option<u32> {
        self.now.as_ref().map(|now| now.seconds()).filter(|seconds| *seconds > 0)
    }

    /// Rows are brought; gives those of which that is to be noted.
    pub(crate) fn bring(
        &self,
        rows: impl IntoIterator<Item = (TableNo, Slot)>,
    ) -> Vec<(TableNo, Slot)> {
        rows.into_iter().filter(|(table, slot)| self.table(*table).bring(*slot)).collect()
    }

    /// The rows that were asked for since this was last called.
    pub(crate) fn take_asked(&self) -> Vec<(TableNo, Slot)> {
        let tables = self.schema.table_numbers().filter(|table| self.table(*table).keeps_times());
        let asked = tables.flat_map(|table| {
            let asked = self.table(table).seen.iter().flat_map(|seen| seen.take_asked());
            asked.map(move |slot| (table, slot)).collect::<Vec<_>>()
        });
        asked.collect()
    }

    /// Whether all rows of a table are here that there are.
    pub(crate) fn is_ready(&self, table: TableNo) -> bool {
        self.unready.as_ref().is_none_or(|unready| !unready.contains(&table))
    }

    /// The tables whose rows are still to come.
    pub(crate) fn unready(&self) -> impl Iterator<Item = TableNo> + '_ {
        self.unready.iter().flat_map(|unready| unready.iter().copied())
    }

    /// Whether rows are still to come at all.
    pub(crate) fn has_unready(&self) -> bool {
        self.unready.is_some()
    }

    /// Notes which tables' rows are still to come.
    pub(crate) fn set_unready(&mut self, tables: BTreeSet<TableNo>) {
        self.unready = (!tables.is_empty()).then(|| Arc::new(tables));
    }

    /// Notes that tables have all their rows.
    pub(crate) fn set_ready(&mut self, tables: &[TableNo]) {
        let left = self.unready().filter(|table| !tables.contains(table)).collect();
        self.set_unready(left);
    }

    /// This version, with the rows at some slots as an older one has them.
    pub(crate) fn with_rows_of(
        &self,
        older: &Self,
        slots: impl IntoIterator<Item = (TableNo, Slot)>,
    ) -> Self {
        let mut state = self.clone();
        for (number, slot) in slots {
            match older.table(number).row(slot) {
                Some(row) => {
                    let fields = self.schema.table(number).field_numbers();
                    let cells: Vec<_> = fields.map(|field| (field, row.cell(field))).collect();
                    state.table_mut(number).merge(slot, cells.into_iter());
                }
                None if state.table(number).is_row(slot) => state.table_mut(number).delete(slot),
                None => {}
            }
        }
        state
    }

    /// This version with the rows of some tables that were read into another one, which was `base`
    /// before that, as this one was once; `None` if both have met new ids of the same table since.
    pub(crate) fn grafted(&self, base: &Self, read: &Self, tables: &[TableNo]) -> Option<Self> {
        let mut state = self.clone();
        for number in self.schema.table_numbers() {
            let [now, base, read] = [self, base, read].map(|state| state.table(number));
            if tables.contains(&number) {
                if now.slots != base.slots {
                    return None;
                }
                state.tables[number.index()] = Arc::new(read.clone());
                let known = |chains: &Chains| now.has_chain(&chains.fields);
                state.table_mut(number).chains.retain(known);
                for chains in &now.chains {
                    if !read.has_chain(&chains.fields) {
                        state.index(number, &chains.fields);
                    }
                }
            } else if read.slots != base.slots {
                if now.slots != base.slots {
                    return None;
                }
                // The ids that the rows read have met get the same slots here.
                for slot in (base.slots..read.slots).map(Slot) {
                    let key = read.key(slot, &read.id)?;
                    if state.refer(number, &key) != slot {
                        return None;
                    }
                }
            }
        }
        Some(state)
    }

    pub(crate) fn table(&self, number: TableNo) -> &Table {
        &self.tables[number.index()]
    }

    pub(crate) fn table_mut(&mut self, number: TableNo) -> &mut Table {
        Arc::make_mut(&mut self.tables[number.index()])
    }

    pub(crate) fn has_index(&self, table: TableNo, fields: &[FieldNo]) -> bool {
        self.table(table).has_chain(fields)
    }

    /// Makes it possible to find a table's rows by the values of some fields.
    pub(crate) fn index(&mut self, table: TableNo, fields: &[FieldNo]) {
        let is_link = is_one_link(self.schema.table(table), fields);
        self.table_mut(table).add_chain(fields, is_link);
    }

    /// Forgets an index that the schema itself does not need.
    pub(crate) fn drop_index(&mut self, table: TableNo, fields: &[FieldNo]) {
        if !self.schema.chains(table).iter().any(|chain| chain == fields) {
            self.table_mut(table).chains.retain(|chains| chains.fields != fields);
        }
    }

    /// Ends a commit: makes the slots that its deletes left free for the commits to come.
    pub(crate) fn hand_over_free_slots(&mut self) {
        for table in &mut self.tables {
            if !table.freed.is_empty() {
                Arc::make_mut(table).hand_over_free_slots();
            }
        }
    }

    /// The row's id, as a user sees it; a one-row table's row has none.
    pub(crate) fn id(&self, table: TableNo, slot: Slot) -> Option<IdRef<'_>> {
        let fields = &self.schema.table(table).id;
        if let [field] = **fields {
            return self.id_part(table, slot, field);
        }
        let parts = fields.iter().map(|field| Some(self.id_part(table, slot, *field)?.to_id()));
        let parts: Vec<RowId> = parts.collect::<Option<_>>()?;
        (!parts.is_empty()).then(|| IdRef::Parts(parts.into()))
    }

    fn id_part(&self, table: TableNo, slot: Slot, field: FieldNo) -> Option<IdRef<'_>> {
        match self.table(table).cell(slot, field) {
            Cell::Int(number) => Some(IdRef::Int(number)),
            Cell::Text(text) => Some(IdRef::Text(text)),
            cell => self.target(table, field, cell).and_then(|(to, slot)| self.id(to, slot)),
        }
    }

    /// The order of two rows of a table by their ids, part by part as their columns have them.
    pub(crate) fn compare_ids(&self, table: TableNo, a: Slot, b: Slot) -> Ordering {
        if let [field] = *self.schema.table(table).id {
            let table = self.table(table);
            match (table.cell(a, field), table.cell(b, field)) {
                (Cell::Int(a), Cell::Int(b)) => return a.cmp(&b),
                (Cell::Text(a), Cell::Text(b)) => return a.cmp(b),
                _ => {}
            }
        }
        let parts = self.schema.table(table).id.iter().map(|field| {
            match (self.id_part(table, a, *field), self.id_part(table, b, *field)) {
                // A part that has parts itself is one text.
                (Some(a @ IdRef::Parts(_)), Some(b)) => {
                    a.to_id().to_json().as_str().cmp(b.to_id().to_json().as_str())
                }
                (a, b) => a.cmp(&b),
            }
        });
        parts.fold(Ordering::Equal, Ordering::then)
    }

    /// Whether a link is a text in SQL although the id that it points at may be a number.
    pub(crate) fn is_text(&self, table: TableNo, field: FieldNo) -> bool {
        let field = self.schema.table(table).field(field);
        field.kind == Kind::OneOf && self.schema.linked_id_type(field) == Some(IdType::Text)
    }

    /// Where a link points, whether or not a row is there.
    pub(crate) fn target(
        &self,
        table: TableNo,
        field: FieldNo,
        cell: Cell<'_>,
    ) -> Option<(TableNo, Slot)> {
        match (cell, self.schema.table(table).field(field).kind) {
            (Cell::Link(slot), Kind::Link(to)) => Some((to, slot)),
            (Cell::OneOf(to, slot), _) => Some((to, slot)),
            _ => None,
        }
    }

    /// The slot of a key, whether or not its row is there; a new one if it is met for the first
    /// time. A table that knows the key is not copied.
    pub(crate) fn refer(&mut self, table: TableNo, key: &[Cell<'_>]) -> Slot {
        let rows = self.table(table);
        let hash = rows.keys.hash(key);
        match rows.slot_of(key, hash) {
            Some(slot) => slot,
            None => self.table_mut(table).add(key, hash),
        }
    }

    /// The slot of an id, a new one if it is met for the first time, as is one for each part of it
    /// that is a link.
    ///
    /// # Errors
    /// [`ErrorKind::Type`] if the table has ids of another type.
    pub(crate) fn refer_id(&mut self, table: TableNo, id: &RowId) -> Result<Slot> {
        self.check_id(table, id)?;
        let schema = self.schema.clone();
        let definition = schema.table(table);
        let mut key = Key::new();
        for (field, part) in definition.id.iter().zip(parts(id, definition.id.len())) {
            key.push(match definition.field(*field).kind {
                Kind::Link(to) => Cell::Link(self.refer_id(to, part)?),
                _ => part_cell(part),
            });
        }
        Ok(self.refer(table, &key))
    }

    /// The slot of an id that something refers to; `None` if nothing does.
    ///
    /// # Errors
    /// [`ErrorKind::Type`] if the table has ids of another type.
    pub(crate) fn slot(&self, table: TableNo, id: &RowId) -> Result<Option<Slot>> {
        let definition = self.schema.table(table);
        if definition.is_one_row() {
            return Ok(None);
        }
        self.check_id(table, id)?;
        let mut key = Key::new();
        for (field, part) in definition.id.iter().zip(parts(id, definition.id.len())) {
            key.push(match (definition.field(*field).kind, part) {
                (Kind::Link(to), part) => match self.slot(to, part)? {
                    Some(slot) => Cell::Link(slot),
                    None => return Ok(None),
                },
                (_, part) => part_cell(part),
            });
        }
        Ok(self.table(table).slot(&key))
    }

    /// Whether an id is of the type that the table declares, part by part.
    fn check_id(&self, table: TableNo, id: &RowId) -> Result<()> {
        if self.fits(table, id) {
            return Ok(());
        }
        let (expected, definition) = (self.schema.id_form(table), self.schema.table(table));
        let message = format!("found {}, expected {expected}", id.to_json().as_str());
        Err(Error::new(ErrorKind::Type, message).at(format!("the id of \"{}\"", definition.name)))
    }

    fn fits(&self, table: TableNo, id: &RowId) -> bool {
        let definition = self.schema.table(table);
        let fits = |(field, part): (&FieldNo, &RowId)| match (definition.field(*field).kind, part) {
            (Kind::Int, RowId::Int(_)) | (Kind::Text, RowId::Text(_)) => true,
            (Kind::Link(to), part) => self.fits(to, part),
            _ => false,
        };
        let parts = parts(id, definition.id.len());
        parts.len() == definition.id.len() && definition.id.iter().zip(parts).all(fits)
    }

    /// What a user sees of a field: a link as the id that it points at, an absent field as `None`.
    pub(crate) fn value(&self, table: TableNo, slot: Slot, field: FieldNo) -> Option<Value> {
        Some(match self.table(table).cell(slot, field) {
            Cell::Absent => return None,
            Cell::Null => Value::Null,
            Cell::Int(number) => Value::Int(number),
            Cell::Float(number) => Value::Float(number),
            Cell::Bool(flag) => Value::Bool(flag),
            Cell::Text(text) => Value::Text(text.into()),
            Cell::Timestamp(time) => Value::Timestamp(time),
            Cell::Json(text) => Value::Json(Json::from_raw(text)),
            link => {
                let target = self.target(table, field, link);
                let id = target.and_then(|(to, slot)| self.id(to, slot));
                id.map_or(Value::Null, |id| id.to_id().into())
            }
        })
    }

    /// The rows whose to-one link points at a row; those of the whole table are gone through, unless
    /// there is an index.
    pub(crate) fn pointing_at(&self, table: TableNo, link: FieldNo, target: &RowId) -> Vec<Slot> {
        let Kind::Link(to) = self.schema.table(table).field(link).kind else { return Vec::new() };
        let Ok(Some(target)) = self.slot(to, target) else { return Vec::new() };
        let rows = self.table(table);
        let mut slots = Vec::new();
        if self.has_index(table, &[link]) {
            rows.each_of_chain(&[link], &[Cell::Link(target)], &mut |slot| slots.push(slot));
        } else {
            let mut reader = rows.reader();
            slots.extend(rows.iter().filter(|slot| reader.row(*slot).link(link) == Some(target)));
        }
        slots
    }

    /// A text of a field, or of the id that a link holds, that repeats and is shared by all rows
    /// that have it.
    pub(crate) fn shared_text(
        &self,
        table: TableNo,
        slot: Slot,
        field: FieldNo,
    ) -> Option<Arc<str>> {
        let cells = self.table(table).cells(slot)?;
        match self.schema.table(table).field(field).kind {
            Kind::Text => cells.shared_text(field),
            Kind::Link(to) => match *self.schema.table(to).id {
                [id] => self.shared_text(to, cells.link(field)?, id),
                _ => None,
            },
            _ => None,
        }
    }

    /// Where a to-many link points, in its order, whether or not rows are there.
    pub(crate) fn targets(
        &self,
        entries: TableNo,
        owner: Slot,
    ) -> impl Iterator<Item = (TableNo, Slot)> + '_ {
        let slots = (0..).map_while(move |position| self.entry(entries, owner, position));
        slots.filter_map(move |entry| {
            self.target(entries, TARGET, self.table(entries).cell(entry, TARGET))
        })
    }

    /// The slot of an entry of a to-many link, if the link has that many.
    pub(crate) fn entry(&self, entries: TableNo, owner: Slot, position: usize) -> Option<Slot> {
        let table = self.table(entries);
        let slot = table.slot(&[Cell::Link(owner), Cell::Int(position as i64)])?;
        table.is_row(slot).then_some(slot)
    }
}

/// Whether some fields are one link to rows of one table.
fn is_one_link(definition: &crate::schema::Table, fields: &[FieldNo]) -> bool {
    matches!(fields, [field] if matches!(definition.field(*field).kind, Kind::Link(_)))
}

/// The parts of an id, one if it is a single value.
/// The parts of an id of `count` parts. The only part of one may have parts itself, if it is a link.
fn parts(id: &RowId, count: usize) -> &[RowId] {
    match id {
        RowId::Parts(parts) if count != 1 => parts,
        single => std::slice::from_ref(single),
    }
}

fn part_cell(part: &RowId) -> Cell<'_> {
    match part {
        RowId::Int(number) => Cell::Int(*number),
        RowId::Text(text) => Cell::Text(text),
        RowId::Parts(_) => Cell::Null,
    }
}

/// Whether a link may point at a table.
fn is_target(schema: &Schema, number: TableNo) -> bool {
    let points_here = |table: &crate::schema::Table| {
        table.fields.iter().any(|field| {
            let is_one_of = |to: &[(Arc<str>, TableNo)]| to.iter().any(|(_, to)| *to == number);
            field.kind == Kind::Link(number)
                || field.one_of().is_some_and(|of| is_one_of(&of.tables))
        })
    };
    schema.tables.iter().any(points_here)
}

impl Table {
    fn new(schema: &Schema, number: TableNo, seed: &RandomState, now: &Arc<Now>) -> Self {
        let definition = schema.table(number);
        let chains = schema.chains(number).into_iter();
        let mut table = Self {
            chunks: Trie::new(),
            keys: Keys::new(seed),
            id: definition.id.as_slice().into(),
            chains: chains
                .map(|fields| {
                    let is_link = is_one_link(definition, &fields);
                    Chains::new(fields, is_link, seed)
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

    /// How often a row of this version and of those before it was written to, made or deleted.
    pub(crate) fn writes(&self) -> u64 {
        self.writes
    }

    pub(crate) fn is_one_row(&self) -> bool {
        self.id.is_empty()
    }

    /// Whether a row lies in that slot; a slot without one is only referred to, or free.
    pub(crate) fn is_row(&self, slot: Slot) -> bool {
        slot.0 < self.slots && self.chunk(slot).is_row(offset(slot))
    }

    pub(crate) fn cell(&self, slot: Slot, field: FieldNo) -> Cell<'_> {
        self.cells(slot).map_or(Cell::Absent, |cells| cells.cell(field))
    }

    /// What a slot holds, whether or not a row is there; nothing, if there is no such slot.
    #[inline]
    fn cells(&self, slot: Slot) -> Option<RowCells<'_>> {
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

    fn slot_of(&self, key: &[Cell<'_>], hash: u32) -> Option<Slot> {
        self.keys.find(hash, |slot| self.has(slot, &self.id, key))
    }

    /// Whether the fields of a slot hold these values.
    fn has(&self, slot: Slot, fields: &[FieldNo], key: &[Cell<'_>]) -> bool {
        fields.iter().zip(key).all(|(field, cell)| self.cell(slot, *field) == *cell)
    }

    /// The values of some fields of a slot; `None` if one of them has none.
    pub(crate) fn key(&self, slot: Slot, fields: &[FieldNo]) -> Option<Key<'_>> {
        let cells = fields.iter().map(|field| match self.cell(slot, *field) {
            Cell::Absent | Cell::Null => None,
            cell => Some(cell),
        });
        cells.collect()
    }

    /// The rows that have these values in these fields, which the schema has chains for.
    pub(crate) fn chain(&self, fields: &[FieldNo], key: &[Cell<'_>]) -> Vec<Slot> {
        let chains = self.chains.iter().find(|chains| chains.fields == fields);
        debug_assert!(chains.is_some(), "the schema told which chains are asked for");
        let rows = chains.map(|chains| chains.rows(key, |slot| self.has(slot, fields, key)));
        rows.into_iter().flatten().collect()
    }

    /// Calls `found` with the rows that have these values in these fields, which a chain was made
    /// for.
    pub(crate) fn each_of_chain(
        &self,
        fields: &[FieldNo],
        key: &[Cell<'_>],
        found: &mut dyn FnMut(Slot),
    ) {
        let chains = self.chains.iter().find(|chains| chains.fields == fields);
        debug_assert!(chains.is_some(), "whoever looks by these fields asked for the chain");
        if let Some(chains) = chains {
            chains.rows(key, |slot| self.has(slot, fields, key)).for_each(found);
        }
    }

    fn has_chain(&self, fields: &[FieldNo]) -> bool {
        self.chains.iter().any(|chains| chains.fields == fields)
    }

    fn add_chain(&mut self, fields: &[FieldNo], is_link: bool) {
        if is_link {
            let chains = Chains::of_links(fields.to_vec(), self.slots(), |found| {
                self.each_row(|slot, cells| {
                    if let Some(to) = cells.link(fields[0]) {
                        found(slot, to);
                    }
                });
            });
            self.chains.push(chains);
            return;
        }
        let mut chains = Chains::new(fields.to_vec(), is_link, &RandomState::new());
        self.each_row(|slot, cells| {
            let key = fields.iter().map(|field| match cells.cell(*field) {
                Cell::Absent | Cell::Null => None,
                cell => Some(cell),
            });
            if let Some(key) = key.collect::<Option<Key<'_>>>() {
                chains.add(slot, &key, |other| self.has(other, fields, &key));
            }
        });
        self.chains.push(chains);
    }

    /// Takes a row out of the chains of some fields, so that these can be written.
    fn unchain(&mut self, slot: Slot, written: impl Fn(FieldNo) -> bool) {
        let mut chains = std::mem::take(&mut self.chains);
        for chains in chains.iter_mut().filter(|chains| chains.fields.iter().any(|f| written(*f))) {
            if let Some(key) = self.key(slot, &chains.fields) {
                chains.remove(slot, &key);
            }
        }
        self.chains = chains;
    }

    /// Puts a row into the chains of some fields, which were written.
    fn enchain(&mut self, slot: Slot, written: impl Fn(FieldNo) -> bool) {
        let mut chains = std::mem::take(&mut self.chains);
        for chains in chains.iter_mut().filter(|chains| chains.fields.iter().any(|f| written(*f))) {
            if let Some(key) = self.key(slot, &chains.fields) {
                let fields: SmallVec<[FieldNo; 4]> = chains.fields.as_slice().into();
                chains.add(slot, &key, |other| self.has(other, &fields, &key));
            }
        }
        self.chains = chains;
    }

    /// Whether it is kept when rows were brought and asked for.
    pub(crate) fn keeps_times(&self) -> bool {
        self.seen.is_some()
    }

    /// When a row was last brought and asked for.
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

    /// A row is asked for, by its id or along a link, or shown.
    #[inline]
    pub(crate) fn ask(&self, slot: Slot) {
        if let Some(seen) = &self.seen
            && slot.0 < self.slots
            && let Some(times) = self.chunk(slot).times()
        {
            seen.ask(times, slot, offset(slot));
        }
    }

    /// A row is brought; tells whether that is to be noted.
    fn bring(&self, slot: Slot) -> bool {
        match (&self.seen, self.is_row(slot)) {
            (Some(seen), true) => {
                let times = self.chunk(slot).times();
                times.is_some_and(|times| seen.bring(times, offset(slot)))
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
        self.each_row_in(&Asked::default(), found);
    }

    /// Whether a field's texts can be searched by [`Table::each_row_in`].
    pub(crate) fn has_texts(&self, field: FieldNo) -> bool {
        self.layout.place(field).kind == Kind::Text
    }

    /// A bit for each slot of a chunk whose row is asked for.
    pub(crate) fn places_in(&self, chunk: usize, asked: &Asked<'_>) -> u64 {
        self.chunks.get(chunk).places_in(asked, &self.layout)
    }

    /// Whether a field's numbers can be asked for by [`Table::each_row_in`].
    pub(crate) fn has_numbers(&self, field: FieldNo, of: Numbers) -> bool {
        match self.layout.place(field).kind {
            Kind::Int | Kind::Links(_) => of == Numbers::Whole,
            Kind::Timestamp => of == Numbers::Micros,
            _ => false,
        }
    }

    /// The same with each row that is asked for.
    pub(crate) fn each_row_in<'a>(
        &'a self,
        asked: &Asked<'_>,
        mut found: impl FnMut(Slot, RowCells<'a>),
    ) {
        for (number, chunk) in self.chunks.iter().enumerate() {
            for at in Bits(chunk.places_in(asked, &self.layout)).ones() {
                let slot = Slot((number * CHUNK + at) as u32);
                found(slot, RowCells::new(chunk, at, &self.layout));
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
        if !self.chains.is_empty() {
            self.enchain(slot, |_| true);
        }
    }

    /// Takes a row out of its slot.
    pub(crate) fn delete(&mut self, slot: Slot) {
        debug_assert!(self.is_row(slot));
        self.writes += 1;
        if !self.chains.is_empty() {
            self.unchain(slot, |_| true);
        }
        self.chunks.get_mut(index(slot)).clear(offset(slot), &self.id, &self.layout);
        self.rows -= 1;
        if !self.is_target {
            self.freed.push(slot);
        }
    }

    fn hand_over_free_slots(&mut self) {
        for slot in std::mem::take(&mut self.freed) {
            let key = self.key(slot, &self.id).filter(|_| !self.is_row(slot));
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
        self.merge_at(slot, std::iter::once((field, cell)), self.is_row(slot));
    }

    /// Writes some fields of one row, which is made if it is not there.
    pub(crate) fn merge<'c>(
        &mut self,
        slot: Slot,
        cells: impl Iterator<Item = (FieldNo, Cell<'c>)> + Clone,
    ) {
        self.merge_at(slot, cells, true);
    }

    fn merge_at<'c>(
        &mut self,
        slot: Slot,
        cells: impl Iterator<Item = (FieldNo, Cell<'c>)> + Clone,
        as_row: bool,
    ) {
        self.writes += 1;
        let was_row = self.is_row(slot);
        let chained = !self.chains.is_empty();
        // A new row enters all of its chains; one that was there moves in those that are written.
        let written = |field| !was_row || cells.clone().any(|(written, _)| written == field);
        if chained && was_row {
            self.unchain(slot, written);
        }
        let (chunk, at) = (self.chunks.get_mut(index(slot)), offset(slot));
        if as_row && !was_row {
            chunk.set_row(at, true);
            self.rows += 1;
        }
        for (field, cell) in cells.clone() {
            if !was_row || chunk.cell(at, field, &self.layout) != cell {
                chunk.set(at, field, cell, &self.layout);
            }
        }
        if chained && as_row {
            self.enchain(slot, written);
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

    fn chunk(&self, slot: Slot) -> &Chunk {
        self.chunks.get(index(slot))
    }
}

fn index(slot: Slot) -> usize {
    slot.0 as usize / CHUNK
}

fn offset(slot: Slot) -> usize {
    slot.0 as usize % CHUNK
}
