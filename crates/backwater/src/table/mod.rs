//! Rows in memory: versions of all tables that share what they have in common.
//!
//! A [`State`] is one version of every table. Cloning it is cheap, and a clone that is written to
//! copies only the chunks that it touches, so that readers keep what they hold. This room knows
//! slots and cells; it must not know why something is written, nor who reads it.

mod chunk;
mod dictionary;
mod ids;
mod layout;
mod snapshot;
mod texts;
mod trie;

use std::hash::RandomState;
use std::sync::Arc;

use crate::schema::{FieldNo, Kind, Schema, TableNo};
use crate::value::{IdRef, Json, Timestamp, Value};
use chunk::Chunk;
pub(crate) use chunk::{Bits, CHUNK};
use ids::Ids;
use layout::Layout;
pub(crate) use snapshot::field_no;
pub use snapshot::{Row, Snapshot, TableSummary};
use trie::Trie;

/// A row's place in its table. It stays the row's for as long as the row is there, and after it
/// where a link may still point at it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct Slot(pub(crate) u32);

/// The slot of a one-row table's row.
pub(crate) const ONLY: Slot = Slot(0);

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
}

/// One version of all tables.
#[derive(Clone)]
pub(crate) struct State {
    pub(crate) schema: Arc<Schema>,
    tables: Vec<Arc<Table>>,
}

/// One version of one table.
#[derive(Clone)]
pub(crate) struct Table {
    chunks: Trie<Chunk>,
    ids: Ids,
    id_field: Option<FieldNo>,
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
}

/// The cells of one row.
pub(crate) struct RowCells<'a> {
    chunk: &'a Chunk,
    at: usize,
    layout: &'a Layout,
}

impl<'a> RowCells<'a> {
    #[inline]
    pub(crate) fn cell(&self, field: FieldNo) -> Cell<'a> {
        self.chunk.cell(self.at, field, self.layout)
    }
}

impl State {
    pub(crate) fn new(schema: Arc<Schema>) -> Self {
        let hasher = RandomState::new();
        let tables = schema
            .table_numbers()
            .map(|number| Arc::new(Table::new(&schema, number, hasher.clone())))
            .collect();
        Self { schema, tables }
    }

    pub(crate) fn table(&self, number: TableNo) -> &Table {
        &self.tables[number.index()]
    }

    pub(crate) fn table_mut(&mut self, number: TableNo) -> &mut Table {
        Arc::make_mut(&mut self.tables[number.index()])
    }

    /// Ends a commit: makes the slots that its deletes left free for the commits to come.
    pub(crate) fn hand_over_free_slots(&mut self) {
        for table in &mut self.tables {
            if !table.freed.is_empty() {
                Arc::make_mut(table).hand_over_free_slots();
            }
        }
    }

    pub(crate) fn id(&self, table: TableNo, slot: Slot) -> Option<IdRef<'_>> {
        self.table(table).id(slot)
    }

    /// The slot of an id, whether or not its row is there; a new one if it is met for the first
    /// time. A table that knows the id is not copied.
    pub(crate) fn refer(&mut self, table: TableNo, id: IdRef<'_>) -> Slot {
        let rows = self.table(table);
        let hash = rows.ids.hash(id);
        match rows.slot_of(id, hash) {
            Some(slot) => slot,
            None => self.table_mut(table).add(id, hash),
        }
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
            Cell::Link(target) => match self.schema.table(table).field(field).kind {
                Kind::Link(to) => self.id(to, target).map_or(Value::Null, |id| id.to_id().into()),
                _ => Value::Null,
            },
        })
    }
}

impl Table {
    fn new(schema: &Schema, number: TableNo, hasher: RandomState) -> Self {
        let definition = schema.table(number);
        let is_target = schema
            .tables
            .iter()
            .flat_map(|table| &table.fields)
            .any(|field| field.kind == Kind::Link(number));
        let mut table = Self {
            chunks: Trie::new(),
            ids: Ids::new(hasher),
            id_field: definition.id,
            layout: Arc::new(Layout::new(definition.fields.iter().map(|field| field.kind))),
            slots: 0,
            rows: 0,
            free: Trie::new(),
            free_len: 0,
            freed: Vec::new(),
            is_target,
        };
        if definition.id.is_none() {
            let only = table.new_slot();
            table.insert(only);
        }
        table
    }

    /// How many rows there are.
    pub(crate) fn rows(&self) -> u32 {
        self.rows
    }

    /// Whether a row lies in that slot; a slot without one is only referred to, or free.
    pub(crate) fn is_row(&self, slot: Slot) -> bool {
        slot.0 < self.slots && self.chunk(slot).is_row(offset(slot))
    }

    pub(crate) fn cell(&self, slot: Slot, field: FieldNo) -> Cell<'_> {
        if slot.0 >= self.slots {
            return Cell::Absent;
        }
        self.chunk(slot).cell(offset(slot), field, &self.layout)
    }

    /// The row in a slot, found once for all of its fields.
    #[inline]
    pub(crate) fn row(&self, slot: Slot) -> Option<RowCells<'_>> {
        if slot.0 >= self.slots {
            return None;
        }
        let (chunk, at) = (self.chunk(slot), offset(slot));
        chunk.is_row(at).then_some(RowCells { chunk, at, layout: &self.layout })
    }

    pub(crate) fn id(&self, slot: Slot) -> Option<IdRef<'_>> {
        match self.cell(slot, self.id_field?) {
            Cell::Int(number) => Some(IdRef::Int(number)),
            Cell::Text(text) => Some(IdRef::Text(text)),
            _ => None,
        }
    }

    /// The slot of an id, whether or not its row is there.
    pub(crate) fn slot(&self, id: IdRef<'_>) -> Option<Slot> {
        self.slot_of(id, self.ids.hash(id))
    }

    fn slot_of(&self, id: IdRef<'_>, hash: u32) -> Option<Slot> {
        self.ids.find(hash, |slot| self.id(slot) == Some(id))
    }

    /// The slots of all rows, in slot order.
    pub(crate) fn iter(&self) -> impl Iterator<Item = Slot> + '_ {
        self.chunks.iter().enumerate().flat_map(|(number, chunk)| {
            chunk.rows().map(move |row| Slot((number * CHUNK + row) as u32))
        })
    }

    /// The slot of an id; a new one, without a row, if the id is met for the first time.
    pub(crate) fn slot_or_new(&mut self, id: IdRef<'_>) -> Slot {
        let hash = self.ids.hash(id);
        self.slot_of(id, hash).unwrap_or_else(|| self.add(id, hash))
    }

    fn add(&mut self, id: IdRef<'_>, hash: u32) -> Slot {
        let slot = self.new_slot();
        if let Some(field) = self.id_field {
            let cell = match id {
                IdRef::Int(number) => Cell::Int(number),
                IdRef::Text(text) => Cell::Text(text),
            };
            self.set(slot, field, cell);
        }
        self.ids.insert(hash, slot);
        slot
    }

    /// Puts a row without any field but its id into a slot that has none.
    pub(crate) fn insert(&mut self, slot: Slot) {
        debug_assert!(!self.is_row(slot));
        self.chunks.get_mut(index(slot)).set_row(offset(slot), true);
        self.rows += 1;
    }

    /// Takes a row out of its slot.
    pub(crate) fn delete(&mut self, slot: Slot) {
        debug_assert!(self.is_row(slot));
        let kept = self.id_field.as_slice();
        self.chunks.get_mut(index(slot)).clear(offset(slot), kept, &self.layout);
        self.rows -= 1;
        if !self.is_target {
            self.freed.push(slot);
        }
    }

    fn hand_over_free_slots(&mut self) {
        for slot in std::mem::take(&mut self.freed) {
            let Some(id) = self.id(slot).map(IdRef::to_id) else {
                continue;
            };
            if self.is_row(slot) {
                continue;
            }
            self.ids.remove(id.borrow(), slot);
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
        self.chunks.get_mut(index(slot)).set(offset(slot), field, cell, &self.layout);
    }

    /// Writes some fields of one row, which is made if it is not there.
    pub(crate) fn merge<'c>(
        &mut self,
        slot: Slot,
        cells: impl Iterator<Item = (FieldNo, Cell<'c>)>,
    ) {
        let (chunk, at) = (self.chunks.get_mut(index(slot)), offset(slot));
        let is_new = !chunk.is_row(at);
        if is_new {
            chunk.set_row(at, true);
            self.rows += 1;
        }
        for (field, cell) in cells {
            if is_new || chunk.cell(at, field, &self.layout) != cell {
                chunk.set(at, field, cell, &self.layout);
            }
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
            self.chunks.push(Chunk::default());
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
