//! A transaction: writes applied to a version of its own, which is kept or dropped as a whole.

use std::sync::Arc;

use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use super::{Changes, Ingested};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldNo, Kind, Schema, Table, TableNo};
use crate::table::{Bits, CHUNK, Cell, ONLY, Row, Slot, State, field_no};
use crate::value::{Id, IdRef, Named, Timestamp, Value};

/// Writes gathered for one commit. What it reads is what it wrote.
///
/// A transaction is handed to the closure of [`Cache::commit`](crate::Cache::commit); when the
/// closure fails or panics, nothing of it is left.
///
/// ```
/// # use backwater::{Cache, Schema, Value};
/// # let cache = Cache::new(Schema::parse("s.toml", r#"
/// #     table.sailing = { id = "id", fields = { id = "int", status = "text", delay_min = "int" } }
/// # "#)?);
/// cache.commit("sailing announced", |tx| {
///     tx.insert("sailing", [("id", Value::from(311)), ("status", "on time".into())])
/// })?;
/// let report = cache.commit("delay reported", |tx| {
///     tx.update("sailing", 311, [("status", Value::from("delayed")), ("delay_min", 15.into())])
/// })?;
/// assert_eq!(report.changes().count(), 1);
///
/// let failed = cache.commit("never", |tx| {
///     tx.delete("sailing", 311)?;
///     tx.update("sailing", 999, [("status", "gone")])
/// });
/// assert!(failed.is_err());
/// assert_eq!(cache.snapshot().count("sailing")?, 1);
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct Transaction {
    before: Arc<State>,
    pub(crate) state: State,
    touched: Vec<Touched>,
    pub(crate) ingested: Vec<Ingested>,
}

/// The slots of one table that were written to.
#[derive(Clone, Default)]
pub(crate) struct Touched {
    /// A bit for each slot of the chunks that were met.
    chunks: SmallVec<[(u32, Bits); 1]>,
    /// Where each of them is, once there are more than a few.
    places: FxHashMap<u32, u32>,
}

/// So many chunks are looked through one by one.
const FEW: usize = 8;

impl Touched {
    /// Adds a slot; tells whether it is new here.
    pub(crate) fn insert(&mut self, slot: Slot) -> bool {
        let place = self.place(slot.0 / CHUNK as u32);
        let bits = &mut self.chunks[place].1;
        let at = slot.0 as usize % CHUNK;
        let is_new = !bits.get(at);
        bits.set(at, true);
        is_new
    }

    fn place(&mut self, chunk: u32) -> usize {
        // Neighbours come one after the other.
        let len = self.chunks.len();
        if self.chunks.last().is_some_and(|(last, _)| *last == chunk) {
            return len - 1;
        }
        let known = match self.places.is_empty() {
            true => self.chunks.iter().position(|(other, _)| *other == chunk),
            false => self.places.get(&chunk).map(|place| *place as usize),
        };
        known.unwrap_or_else(|| {
            self.chunks.push((chunk, Bits::default()));
            match len {
                ..FEW => {}
                FEW => {
                    let places = self.chunks.iter().enumerate();
                    self.places =
                        places.map(|(place, (chunk, _))| (*chunk, place as u32)).collect();
                }
                _ => drop(self.places.insert(chunk, len as u32)),
            }
            len
        })
    }

    /// How many slots there are.
    pub(crate) fn len(&self) -> usize {
        self.chunks.iter().map(|(_, bits)| bits.len()).sum()
    }

    /// The slots in their order.
    pub(crate) fn slots(&self) -> impl Iterator<Item = Slot> + use<> {
        let mut chunks = self.chunks.clone();
        chunks.sort_unstable_by_key(|(chunk, _)| *chunk);
        chunks.into_iter().flat_map(|(chunk, bits)| {
            bits.ones().map(move |at| Slot(chunk * CHUNK as u32 + at as u32))
        })
    }
}

/// What merging fields into a row did.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Merged {
    pub(crate) is_new: bool,
    /// Whether a field of a row that was there has another value now.
    pub(crate) changed: bool,
    /// Whether that field had one before.
    pub(crate) overwrote: bool,
}

/// A value that fits its field, on its way into a row.
#[derive(Debug, Clone)]
pub(crate) enum Staged<'a> {
    Null,
    Int(i64),
    Float(f64),
    Bool(bool),
    Text(std::borrow::Cow<'a, str>),
    Timestamp(Timestamp),
    Json(std::borrow::Cow<'a, str>),
    Link(Slot),
}

impl Staged<'_> {
    pub(crate) fn cell(&self) -> Cell<'_> {
        match self {
            Staged::Null => Cell::Null,
            Staged::Int(number) => Cell::Int(*number),
            Staged::Float(number) => Cell::Float(*number),
            Staged::Bool(flag) => Cell::Bool(*flag),
            Staged::Text(text) => Cell::Text(text),
            Staged::Timestamp(time) => Cell::Timestamp(*time),
            Staged::Json(json) => Cell::Json(json),
            Staged::Link(slot) => Cell::Link(*slot),
        }
    }
}

impl Transaction {
    pub(crate) fn new(before: Arc<State>) -> Self {
        let state = State::clone(&before);
        let touched = vec![Touched::default(); state.schema.tables.len()];
        Self { before, state, touched, ingested: Vec::new() }
    }

    /// Ends the transaction: what it changed, between the version it began from and its own.
    pub(crate) fn finish(mut self) -> (Changes, Vec<Ingested>) {
        self.state.hand_over_free_slots();
        let changes = Changes::between(self.before, Arc::new(self.state), &self.touched);
        (changes, self.ingested)
    }

    pub(crate) fn schema(&self) -> Arc<Schema> {
        self.state.schema.clone()
    }

    /// Adds a row. Fields that are not given are absent.
    ///
    /// # Errors
    /// [`ErrorKind::Row`] if a row with that id is there already, or no id is given;
    /// [`ErrorKind::Type`] and [`ErrorKind::UnknownName`] for fields that do not fit the table.
    ///
    /// See [`Transaction`] for an example.
    pub fn insert(&mut self, table: &str, fields: impl Into<Named>) -> Result<()> {
        let (number, fields) = (self.state.schema.table_no(table)?, fields.into());
        let id = self.id_in(number, &fields)?;
        if self.find(number, id.borrow()).is_some() {
            return Err(Error::new(ErrorKind::Row, format!("{table} {id} is there already"))
                .help("change it with `update`, or use `merge`"));
        }
        self.merge_fields(number, id, &fields)
    }

    /// Adds a row, or writes the given fields of it if it is there.
    ///
    /// # Errors
    /// As [`Transaction::insert`], except that the row may be there.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text', name = 'text' } }")?);
    /// cache.commit("a port heard of", |tx| {
    ///     tx.merge("port", [("code", "SAL")])?;
    ///     tx.merge("port", [("code", "SAL"), ("name", "Saltmere Quay")])
    /// })?;
    /// assert_eq!(cache.snapshot().count("port")?, 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn merge(&mut self, table: &str, fields: impl Into<Named>) -> Result<()> {
        let (number, fields) = (self.state.schema.table_no(table)?, fields.into());
        let id = self.id_in(number, &fields)?;
        self.merge_fields(number, id, &fields)
    }

    /// Writes some fields of a row; the others stay as they are.
    ///
    /// # Errors
    /// [`ErrorKind::Row`] if the row is not there, or its id would change; [`ErrorKind::Type`] and
    /// [`ErrorKind::UnknownName`] for fields that do not fit the table.
    ///
    /// See [`Transaction`] for an example.
    pub fn update(
        &mut self,
        table: &str,
        id: impl Into<Id>,
        fields: impl Into<Named>,
    ) -> Result<()> {
        let (number, id) = (self.state.schema.table_no(table)?, id.into());
        let Some(slot) = self.find(number, id.borrow()) else {
            return Err(not_there(table, &id).help("add it with `insert` or `merge`"));
        };
        self.put_named(number, slot, &fields.into())
    }

    /// Writes some fields of a one-row table's row.
    ///
    /// # Errors
    /// [`ErrorKind::Row`] if the table has more than one row; [`ErrorKind::Type`] and
    /// [`ErrorKind::UnknownName`] for fields that do not fit the table.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// let cache = Cache::new(Schema::parse("s.toml", "table.board = { one_row = true, fields = { search = 'text' } }")?);
    /// cache.commit("search typed", |tx| tx.set("board", [("search", "eel")]))?;
    /// assert_eq!(cache.snapshot().only("board")?.get("search")?, Some(Value::from("eel")));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn set(&mut self, table: &str, fields: impl Into<Named>) -> Result<()> {
        let number = self.state.schema.table_no(table)?;
        if self.definition(number).id.is_some() {
            return Err(Error::new(ErrorKind::Row, format!("\"{table}\" is not a one-row table"))
                .help("name the row with `update`"));
        }
        self.put_named(number, ONLY, &fields.into())
    }

    /// Deletes a row; tells whether it was there. Links to it stay, and point at nothing.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table, [`ErrorKind::Row`] if it is a one-row
    /// table.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// cache.commit("a port closed", |tx| {
    ///     assert!(tx.delete("port", "SAL")?);
    ///     assert!(!tx.delete("port", "SAL")?);
    ///     Ok(())
    /// })?;
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn delete(&mut self, table: &str, id: impl Into<Id>) -> Result<bool> {
        let (number, id) = (self.state.schema.table_no(table)?, id.into());
        if self.definition(number).id.is_none() {
            return Err(Error::new(
                ErrorKind::Row,
                format!("the row of one-row table \"{table}\" is always there"),
            )
            .help("set its fields to null instead"));
        }
        let Some(slot) = self.find(number, id.borrow()) else {
            return Ok(false);
        };
        self.touched[number.index()].insert(slot);
        self.state.table_mut(number).delete(slot);
        Ok(true)
    }

    /// The row with that id, as this transaction has left it.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.sailing = { id = 'id', fields = { id = 'int', cars_booked = 'int' } }")?);
    /// # cache.commit("sailing announced", |tx| tx.insert("sailing", [("id", 311), ("cars_booked", 4)]))?;
    /// cache.commit("one more car", |tx| {
    ///     let booked = tx.get("sailing", 311)?.and_then(|row| row.get("cars_booked").ok()?);
    ///     let booked = booked.and_then(|value| value.as_int()).unwrap_or(0);
    ///     tx.update("sailing", 311, [("cars_booked", booked + 1)])
    /// })?;
    /// assert_eq!(cache.snapshot().get("sailing", 311)?.unwrap().get("cars_booked")?, Some(Value::Int(5)));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn get(&self, table: &str, id: impl Into<Id>) -> Result<Option<Row<'_>>> {
        let number = self.state.schema.table_no(table)?;
        let slot = self.find(number, id.into().borrow());
        Ok(slot.map(|slot| Row { state: &self.state, table: number, slot }))
    }

    /// The slot of a row that is there.
    fn find(&self, table: TableNo, id: IdRef<'_>) -> Option<Slot> {
        let table = self.state.table(table);
        table.slot(id).filter(|slot| table.is_row(*slot))
    }

    /// The slot of an id that something refers to, whether or not its row is there.
    pub(crate) fn refer(&mut self, table: TableNo, id: IdRef<'_>) -> Slot {
        self.state.refer(table, id)
    }

    /// Makes sure that a slot has a row.
    fn ensure_row(&mut self, table: TableNo, slot: Slot) {
        if !self.state.table(table).is_row(slot) {
            self.touched[table.index()].insert(slot);
            self.state.table_mut(table).insert(slot);
        }
    }

    /// Merges fields into a row, which is made if it is not there.
    pub(crate) fn merge_row(
        &mut self,
        table: TableNo,
        slot: Slot,
        fields: &[(FieldNo, Staged<'_>)],
    ) -> Merged {
        let cells = || fields.iter().map(|(field, staged)| (*field, staged.cell()));
        let mut merged = Merged { is_new: false, changed: false, overwrote: false };
        let old = self.state.table(table).row(slot);
        match &old {
            None => merged.is_new = true,
            Some(old) => cells().for_each(|(field, cell)| {
                let old = old.cell(field);
                merged.changed |= old != cell;
                merged.overwrote |= old != cell && old != Cell::Absent;
            }),
        }
        if merged.is_new || merged.changed {
            self.touched[table.index()].insert(slot);
            self.state.table_mut(table).merge(slot, cells());
        }
        merged
    }

    /// Writes a field of a row; tells whether that changed it.
    fn put(&mut self, table: TableNo, slot: Slot, field: FieldNo, staged: &Staged<'_>) -> bool {
        let cell = staged.cell();
        let changed = self.state.table(table).cell(slot, field) != cell;
        if changed {
            self.touched[table.index()].insert(slot);
            self.state.table_mut(table).set(slot, field, cell);
        }
        changed
    }

    fn definition(&self, table: TableNo) -> &Table {
        self.state.schema.table(table)
    }

    fn id_in(&self, table: TableNo, fields: &Named) -> Result<Id> {
        let definition = self.definition(table);
        let Some(id_field) = definition.id else {
            return Err(Error::new(
                ErrorKind::Row,
                format!("\"{}\" is a one-row table, whose row is always there", definition.name),
            )
            .help("write its fields with `set`"));
        };
        let name = &definition.field(id_field).name;
        let given =
            fields.iter().filter(|(field, _)| definition.field_no(field) == Some(id_field)).last();
        let place = format!("{}.{name}", definition.name);
        match given {
            None => Err(Error::new(ErrorKind::Row, "a row needs its id")
                .at(place)
                .help("give this field too")),
            Some((_, value)) => {
                id_from(value, definition.has_text_id()).map_err(|error| error.at(place))
            }
        }
    }

    fn merge_fields(&mut self, table: TableNo, id: Id, fields: &Named) -> Result<()> {
        let slot = self.refer(table, id.borrow());
        self.ensure_row(table, slot);
        self.put_named(table, slot, fields)
    }

    fn put_named(&mut self, table: TableNo, slot: Slot, fields: &Named) -> Result<()> {
        let schema = self.schema();
        let definition = schema.table(table);
        for (name, value) in fields.iter() {
            let field = field_no(definition, name)?;
            let place = || format!("{}.{}", definition.name, definition.field(field).name);
            if definition.id == Some(field) {
                let id =
                    id_from(value, definition.has_text_id()).map_err(|error| error.at(place()))?;
                if self.state.id(table, slot) != Some(id.borrow()) {
                    return Err(Error::new(ErrorKind::Row, "a row keeps its id")
                        .at(place())
                        .help("delete the row and insert another"));
                }
                continue;
            }
            let staged = self
                .stage(&schema, definition.field(field).kind, value)
                .map_err(|error| error.at(place()))?;
            self.put(table, slot, field, &staged);
        }
        Ok(())
    }

    fn stage<'v>(&mut self, schema: &Schema, kind: Kind, value: &'v Value) -> Result<Staged<'v>> {
        Ok(match (kind, value) {
            (_, Value::Null) => Staged::Null,
            (Kind::Int, Value::Int(number)) => Staged::Int(*number),
            (Kind::Float, Value::Int(number)) => Staged::Float(*number as f64),
            (Kind::Float, Value::Float(number)) if number.is_finite() => Staged::Float(*number),
            (Kind::Float, Value::Float(number)) => {
                return Err(Error::new(
                    ErrorKind::Type,
                    format!("found {number}, expected a finite number"),
                ));
            }
            (Kind::Bool, Value::Bool(flag)) => Staged::Bool(*flag),
            (Kind::Text, Value::Text(text)) => Staged::Text(checked_text(text)?.into()),
            (Kind::Timestamp, Value::Timestamp(time)) => Staged::Timestamp(*time),
            (Kind::Timestamp, Value::Text(text)) => Staged::Timestamp(text.parse()?),
            (Kind::Json, Value::Json(json)) => Staged::Json(json.as_str().into()),
            (Kind::Link(to), value) => {
                let id = id_from(value, schema.table(to).has_text_id())?;
                Staged::Link(self.refer(to, id.borrow()))
            }
            (kind, value) => {
                return Err(Error::new(
                    ErrorKind::Type,
                    format!(
                        "found {} ({value}), expected {}",
                        value.kind(),
                        schema.kind_name(kind)
                    ),
                ));
            }
        })
    }
}

/// The id that a value is, in the type that a table declares for its ids.
fn id_from(value: &Value, text: bool) -> Result<Id> {
    match value {
        Value::Int(number) if !text => Ok(Id::Int(*number)),
        Value::Text(id) if text => Ok(Id::Text(checked_text(id)?.into())),
        other => Err(Error::new(
            ErrorKind::Type,
            format!(
                "found {} ({other}), expected an id of type {}",
                other.kind(),
                if text { "text" } else { "int" }
            ),
        )),
    }
}

/// A text that can be stored: without U+0000, which SQL shells and C programs cut texts at.
pub(crate) fn checked_text(text: &str) -> Result<&str> {
    if memchr::memchr(0, text.as_bytes()).is_some() {
        return Err(Error::new(
            ErrorKind::Type,
            "this text holds U+0000, which a stored text cannot",
        ));
    }
    Ok(text)
}

fn not_there(table: &str, id: &Id) -> Error {
    Error::new(ErrorKind::Row, format!("{table} {id} is not there"))
}
