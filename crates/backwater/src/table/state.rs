//! One version of all tables.

use std::cmp::Ordering;
use std::collections::BTreeSet;
use std::hash::RandomState;
use std::sync::Arc;

use super::index::{Index, IndexKey};
use super::tables::Tables;
use super::times::Now;
use super::{Cell, ONLY, Overlay, RowCells, Slot, Staged, StagedEntry, TARGET, TableRows};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldKind, FieldNo, IdType, Schema, TableNo};
use crate::value::{Clock, IdRef, Json, RowId, Value};

/// One version of all tables.
#[derive(Clone)]
pub(crate) struct State {
    pub(crate) schema: Arc<Schema>,
    /// The one that the cache began with.
    first: Arc<Schema>,
    tables: Tables,
    /// Tables that are not loaded from a storage yet; mostly there are none.
    unready: Option<Arc<BTreeSet<TableNo>>>,
    /// The time, if any table records when its rows were received and read.
    now: Option<Arc<Now>>,
    /// What is shown and not confirmed; mostly there is nothing.
    pub(crate) overlay: Option<Arc<Overlay>>,
}

impl State {
    pub(crate) fn new(schema: Arc<Schema>) -> Self {
        let (seed, now) = (RandomState::new(), Arc::default());
        let tables = schema
            .table_numbers()
            .map(|number| Arc::new(TableRows::new(&schema, number, &seed, &now)))
            .collect();
        let keeps = schema.table_numbers().any(|table| schema.keeps_times(table));
        let first = schema.clone();
        let (tables, now) = (Tables::new(tables), keeps.then_some(now));
        Self { schema, first, tables, unready: None, now, overlay: None }
    }

    /// Whether both are versions of one cache.
    pub(crate) fn is_of_cache_of(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.first, &other.first)
    }

    /// The same rows under a schema that has further tables behind the present ones.
    pub(crate) fn extended(&self, schema: Arc<Schema>) -> Self {
        let mut extended = Self { schema, ..self.clone() };
        if extended.schema.table_numbers().any(|table| extended.schema.keeps_times(table)) {
            extended.now.get_or_insert_default();
        }
        let now = extended.now.clone().unwrap_or_default();
        let (schema, seed) = (extended.schema.clone(), RandomState::new());
        for number in schema.table_numbers() {
            if number.index() >= extended.tables.len() {
                extended.tables.push(TableRows::new(&schema, number, &seed, &now));
                continue;
            }
            if is_target(&schema, number) && !extended.table(number).is_target {
                extended.table_mut(number).is_target = true;
            }
            extended.index(number, &schema.indexes(number));
        }
        extended
    }

    /// Whether any table records when its rows were received and read.
    pub(crate) fn keeps_times(&self) -> bool {
        self.now.is_some()
    }

    /// Sets the time, where it is recorded.
    pub(crate) fn set_time(&self, clock: &dyn Clock) {
        if let Some(now) = &self.now {
            now.set(clock.now());
        }
    }

    /// The time, in seconds since 1970, if it was set.
    pub(crate) fn seconds(&self) -> Option<u32> {
        self.now.as_ref().map(|now| now.seconds()).filter(|seconds| *seconds > 0)
    }

    /// Rows are received; returns those of which that is to be recorded.
    pub(crate) fn receive(
        &self,
        rows: impl IntoIterator<Item = (TableNo, Slot)>,
    ) -> Vec<(TableNo, Slot)> {
        rows.into_iter().filter(|(table, slot)| self.table(*table).receive(*slot)).collect()
    }

    /// The rows that were read since the last call.
    pub(crate) fn take_read(&self) -> Vec<(TableNo, Slot)> {
        let tables = self.schema.table_numbers().filter(|table| self.table(*table).keeps_times());
        let read = tables.flat_map(|table| {
            let read = self.table(table).seen.iter().flat_map(|seen| seen.take_read());
            read.map(move |slot| (table, slot)).collect::<Vec<_>>()
        });
        read.collect()
    }

    /// Whether a table is loaded.
    pub(crate) fn is_ready(&self, table: TableNo) -> bool {
        self.unready.as_ref().is_none_or(|unready| !unready.contains(&table))
    }

    /// Makes sure that a table is loaded: else a row that is not here may be in the storage.
    pub(crate) fn need_ready(&self, table: TableNo) -> Result<()> {
        if self.is_ready(table) {
            return Ok(());
        }
        let name = &self.schema.table(table).name;
        let message = format!("the rows of \"{name}\" are not loaded from the storage yet");
        Err(Error::new(ErrorKind::NotReady, message)
            .help("wait for them with `Cache::rehydrate`, or check `is_ready` first"))
    }

    /// The tables that are not loaded yet.
    pub(crate) fn unready(&self) -> impl Iterator<Item = TableNo> + '_ {
        self.unready.iter().flat_map(|unready| unready.iter().copied())
    }

    /// Whether there are any.
    pub(crate) fn has_unready(&self) -> bool {
        self.unready.is_some()
    }

    /// Sets which tables are not loaded yet.
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
            state.take_row(older, number, slot);
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
                *state.tables.get_mut(number) = Arc::new(read.clone());
                let known = |indexes: &Index| now.has_index(&indexes.fields);
                state.table_mut(number).indexes.retain(known);
                state.index(number, now.indexes.iter().map(|index| &index.fields));
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

    #[inline]
    pub(crate) fn table(&self, number: TableNo) -> &TableRows {
        self.tables.get(number)
    }

    /// The tables that are others in a version of the same schema, without those in which the library
    /// notes something itself.
    pub(super) fn differing<'s>(&'s self, other: &'s Self) -> impl Iterator<Item = TableNo> + 's {
        let both = self.tables.iter().zip(other.tables.iter()).zip((0..).map(TableNo));
        let differing = both.filter(|((one, other), _)| !Arc::ptr_eq(one, other));
        let tables = differing.map(|(_, table)| table);
        tables.filter(|table| !other.schema.table(*table).is_own())
    }

    /// Takes a table from another version.
    pub(super) fn share_table(&mut self, other: &Self, table: TableNo) {
        *self.tables.get_mut(table) = other.tables.get(table).clone();
    }

    pub(crate) fn table_mut(&mut self, number: TableNo) -> &mut TableRows {
        Arc::make_mut(self.tables.get_mut(number))
    }

    pub(crate) fn has_index(&self, table: TableNo, fields: &[FieldNo]) -> bool {
        self.table(table).has_index(fields)
    }

    /// Makes it possible to find a table's rows by the values of some fields, of each of these.
    pub(crate) fn index<'f>(
        &mut self,
        table: TableNo,
        all: impl IntoIterator<Item = &'f Vec<FieldNo>>,
    ) {
        let definition = self.schema.table(table);
        let missing = all.into_iter().filter(|fields| !self.has_index(table, fields));
        let missing = missing.map(|fields| (fields.clone(), is_one_link(definition, fields)));
        let missing: Vec<_> = missing.collect();
        if !missing.is_empty() {
            self.table_mut(table).add_indexes(missing);
        }
    }

    /// Forgets an index that the schema itself does not need.
    pub(crate) fn drop_index(&mut self, table: TableNo, fields: &[FieldNo]) {
        if !self.schema.indexes(table).iter().any(|index| index == fields) {
            self.table_mut(table).indexes.retain(|indexes| indexes.fields != fields);
        }
    }

    /// Ends a commit: makes the slots that its deletes left free for later commits.
    /// One that is covered stays its row's, which may show again.
    pub(crate) fn hand_over_free_slots(&mut self) {
        let overlay = self.overlay.clone();
        for number in (0..self.tables.len() as u32).map(TableNo) {
            if !self.table(number).freed.is_empty() {
                let overlay = overlay.as_deref();
                let is_covered = |slot| overlay.is_some_and(|overlay| overlay.covers(number, slot));
                self.table_mut(number).hand_over_free_slots(is_covered);
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

    /// The id that the values of its fields make.
    pub(crate) fn id_of_key(&self, table: TableNo, key: &[Cell<'_>]) -> Option<RowId> {
        let fields = &self.schema.table(table).id;
        let part = |(field, cell): (&FieldNo, &Cell<'_>)| {
            Some(self.id_of_cell(table, *field, *cell)?.to_id())
        };
        let mut parts: Vec<RowId> = fields.iter().zip(key).map(part).collect::<Option<_>>()?;
        match parts.len() {
            0 | 1 => parts.pop(),
            _ => Some(RowId::Parts(parts.into())),
        }
    }

    fn id_part(&self, table: TableNo, slot: Slot, field: FieldNo) -> Option<IdRef<'_>> {
        self.id_of_cell(table, field, self.table(table).cell(slot, field))
    }

    fn id_of_cell<'s>(
        &'s self,
        table: TableNo,
        field: FieldNo,
        cell: Cell<'s>,
    ) -> Option<IdRef<'s>> {
        match cell {
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
        field.kind == FieldKind::OneOf && self.schema.linked_id_type(field) == Some(IdType::Text)
    }

    /// Where a link points, whether or not a row is there.
    pub(crate) fn target(
        &self,
        table: TableNo,
        field: FieldNo,
        cell: Cell<'_>,
    ) -> Option<(TableNo, Slot)> {
        match (cell, self.schema.table(table).field(field).kind) {
            (Cell::Link(slot), FieldKind::Link(to)) => Some((to, slot)),
            (Cell::OneOf(to, slot), _) => Some((to, slot)),
            _ => None,
        }
    }

    /// The slot of a key, whether or not its row is there; a new one if it is met for the first
    /// time. A table that has the key is not copied.
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
        let mut key = IndexKey::new();
        for (field, part) in definition.id.iter().zip(parts(id, definition.id.len())) {
            key.push(match definition.field(*field).kind {
                FieldKind::Link(to) => Cell::Link(self.refer_id(to, part)?),
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
            let is_only = matches!(id, RowId::Parts(parts) if parts.is_empty());
            return Ok(is_only.then_some(ONLY));
        }
        self.check_id(table, id)?;
        let mut key = IndexKey::new();
        for (field, part) in definition.id.iter().zip(parts(id, definition.id.len())) {
            key.push(match (definition.field(*field).kind, part) {
                (FieldKind::Link(to), part) => match self.slot(to, part)? {
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
            (FieldKind::Int, RowId::Int(_)) | (FieldKind::Text, RowId::Text(_)) => true,
            (FieldKind::Link(to), part) => self.fits(to, part),
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

    /// The rows whose to-one link points at a row; those of the whole table are scanned, unless
    /// there is an index.
    pub(crate) fn pointing_at(
        &self,
        table: TableNo,
        link: FieldNo,
        to: TableNo,
        target: &RowId,
    ) -> Vec<Slot> {
        let Ok(Some(target)) = self.slot(to, target) else { return Vec::new() };
        let cell = match self.schema.table(table).field(link).kind {
            FieldKind::Link(of) if of == to => Cell::Link(target),
            FieldKind::OneOf => Cell::OneOf(to, target),
            _ => return Vec::new(),
        };
        let rows = self.table(table);
        let mut slots = Vec::new();
        if self.has_index(table, &[link]) {
            rows.each_indexed(&[link], &[cell], &mut |slot| slots.push(slot));
        } else if let Cell::Link(target) = cell {
            let mut reader = rows.reader();
            slots.extend(rows.iter().filter(|slot| reader.row(*slot).link(link) == Some(target)));
        } else {
            slots.extend(rows.iter().filter(|slot| rows.cell(*slot, link) == cell));
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
        self.shared_text_in(self.table(table).cells(slot)?, table, field)
    }

    /// The same of a row that is found already.
    #[inline]
    pub(crate) fn shared_text_in(
        &self,
        cells: RowCells<'_>,
        table: TableNo,
        field: FieldNo,
    ) -> Option<Arc<str>> {
        match self.schema.table(table).field(field).kind {
            FieldKind::Text => cells.shared_text(field),
            FieldKind::Link(to) => match *self.schema.table(to).id {
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

    /// The entries of a to-many link, in its order, with all of the link's own fields.
    pub(crate) fn entries_of(
        &self,
        entries: TableNo,
        owner: Slot,
    ) -> impl Iterator<Item = StagedEntry> + '_ {
        let own = self.schema.table(entries).entry_fields();
        let slots = (0..).map_while(move |position| self.entry(entries, owner, position));
        slots.filter_map(move |slot| {
            let row = self.table(entries);
            let target = self.target(entries, TARGET, row.cell(slot, TARGET))?;
            let fields = own
                .clone()
                .map(|field| (field, Staged::of_cell(row.cell(slot, field)).into_owned()));
            let fields = (own.len() > 0).then(|| fields.collect());
            Some(StagedEntry { fields, ..target.into() })
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
pub(super) fn is_one_link(definition: &crate::schema::TableDef, fields: &[FieldNo]) -> bool {
    matches!(fields, [field] if matches!(definition.field(*field).kind, FieldKind::Link(_)))
}

/// The parts of an id of `count` parts. The only part of one may have parts itself, if it is a
/// link.
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
pub(super) fn is_target(schema: &Schema, number: TableNo) -> bool {
    let points_here = |table: &crate::schema::TableDef| {
        table.fields.iter().any(|field| {
            let is_one_of = |to: &[(Arc<str>, TableNo)]| to.iter().any(|(_, to)| *to == number);
            field.kind == FieldKind::Link(number)
                || field.one_of().is_some_and(|of| is_one_of(&of.tables))
        })
    };
    schema.tables.iter().any(points_here)
}
