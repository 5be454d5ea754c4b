//! Writing structs into a table.

use std::marker::PhantomData;
use std::sync::Arc;

use super::read::{places, read_at};
use super::shape::{Field, FieldWrites, Fields, OneRowTable, Table};
use super::{FieldType, Found, Id, IntoId, Key, TableRows};
use crate::change::Transaction;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::FieldPlaces;
use crate::table::{ONLY, Slot};
use crate::value::{Named, RowId};

/// A table in a transaction, written with structs.
///
/// ```
/// use backwater::{Cache, Schema, Table};
///
/// #[derive(Table)]
/// struct Vessel {
///     #[table(id)]
///     name: String,
///     cars_max: i64,
///     #[table(default)]
///     note: Option<String>,
/// }
///
/// #[derive(Table)]
/// #[table(of = Vessel)]
/// struct Room {
///     name: String,
///     cars_max: i64,
/// }
///
/// let cache = Cache::new(Schema::builder().table::<Vessel>().build()?);
/// cache.commit("fleet changed", |tx| {
///     let mut vessels = tx.table::<Vessel>()?;
///     vessels.insert(&Vessel { name: "Marram".into(), cars_max: 40, note: None })?;
///     vessels.merge(&Room { name: "Lantern".into(), cars_max: 12 })?; // the rest is absent, or stays
///     vessels.update("Marram", |vessel| vessel.cars_max += 2)?;
///     vessels.write("Lantern", Vessel::NOTE, Some("in dock".to_owned()))?;
///     assert_eq!(vessels.get("Marram").here().unwrap().cars_max, 42);
///     vessels.delete("Lantern").map(drop)
/// })?;
/// assert_eq!(cache.snapshot().table::<Vessel>()?.len(), 1);
/// # let _ = Room { name: String::new(), cars_max: 1 }.cars_max;
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct TableWriter<'t, T> {
    tx: &'t mut Transaction,
    places: Arc<FieldPlaces>,
    of: PhantomData<fn(T)>,
}

impl Transaction {
    /// The table of a struct, to be written and read with it.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if the schema has no such table or field, [`ErrorKind::Type`] if
    /// it has one of another type.
    ///
    /// See [`TableWriter`] for an example.
    pub fn table<T: Table>(&mut self) -> Result<TableWriter<'_, T>> {
        let places = places::<T>(&self.state.schema)?;
        if self.state.schema.table(places.table).is_own() {
            self.write_notes();
        }
        if self.state.has_unready() {
            let number = self.state.schema.table_no(T::TABLE)?;
            self.load(|schema| schema.written_with(number))?;
        }
        Ok(TableWriter { tx: self, places, of: PhantomData })
    }
}

impl<T: Table> TableWriter<'_, T> {
    /// Adds a row.
    ///
    /// # Errors
    /// As [`Transaction::insert`].
    ///
    /// See [`TableWriter`] for an example.
    pub fn insert(&mut self, row: &T) -> Result<()> {
        let writes = FieldWrites::of(row);
        self.tx.insert(T::TABLE, self.named(&writes))?;
        self.links(&row.row_id().into(), writes)
    }

    /// Adds a row, or writes these fields of it if it is there. A part of the table's struct will
    /// do, if it has the id.
    ///
    /// # Errors
    /// As [`Transaction::merge`].
    ///
    /// See [`TableWriter`] for an example.
    pub fn merge<P: Fields<Of = T>>(&mut self, row: &P) -> Result<()> {
        let writes = FieldWrites::of(row);
        self.tx.merge(T::TABLE, self.named(&writes))?;
        if writes.links.is_empty() {
            return Ok(());
        }
        let part = |name: &&str| writes.fields.iter().find(|(field, _)| field == name);
        let parts = T::SHAPE.id.iter().filter_map(part).map(|(_, value)| RowId::of_value(value));
        let parts = parts.collect::<Result<Vec<_>>>()?;
        let id = match <[RowId; 1]>::try_from(parts) {
            Ok([only]) => only,
            Err(parts) => RowId::Parts(parts.into()),
        };
        self.links(&id, writes)
    }

    /// Changes a row: the closure runs at once on the row as this transaction has left it, and what
    /// it changed is written, field by field.
    ///
    /// # Errors
    /// [`ErrorKind::Row`] if the row is not there, or not all of it that the struct needs, or if
    /// its id would change.
    ///
    /// See [`TableWriter`] for an example.
    pub fn update(&mut self, id: impl IntoId<T>, change: impl FnOnce(&mut T)) -> Result<()> {
        let id = id.into_id();
        let subject = format!("{} {id}", T::TABLE);
        let mut row = match self.get(&id) {
            Found::Here(row) => row,
            Found::Partly(partly) => {
                let lacking: Vec<&str> = partly.problems().iter().map(|(name, _)| *name).collect();
                partly.row.ok_or_else(|| {
                    let message = format!("{subject} lacks {}", lacking.join(", "));
                    Error::new(ErrorKind::Row, message)
                        .help("write single fields with `write`, or make these an Option")
                })?
            }
            Found::Missing | Found::NotReady => {
                return Err(Error::new(ErrorKind::Row, format!("{subject} is not there"))
                    .help("add it with `insert` or `merge`"));
            }
        };
        let before = FieldWrites::of(&row);
        change(&mut row);
        let writes = FieldWrites::of(&row).since(&before);
        let id = RowId::from(&id);
        if !writes.is_empty() {
            self.tx.update(T::TABLE, &id, self.named(&writes))?;
        }
        self.links(&id, writes)
    }

    /// Writes one field of a row.
    ///
    /// # Errors
    /// As [`Transaction::update`].
    ///
    /// See [`TableWriter`] for an example.
    pub fn write<'v, V: FieldType<'v>>(
        &mut self,
        id: impl IntoId<T>,
        field: Field<T, V>,
        value: V,
    ) -> Result<()> {
        let (id, mut writes) = (RowId::from(id.into_id()), FieldWrites::default());
        writes.put(field.name, &value);
        if !writes.is_empty() {
            self.tx.update(T::TABLE, &id, self.named(&writes))?;
        }
        self.links(&id, writes)
    }

    /// Deletes a row, and says whether it was there.
    ///
    /// # Errors
    /// As [`Transaction::delete`].
    ///
    /// See [`TableWriter`] for an example.
    pub fn delete(&mut self, id: impl IntoId<T>) -> Result<bool> {
        self.tx.delete(T::TABLE, RowId::from(id.into_id()))
    }

    /// The row with that id, as this transaction has left it.
    ///
    /// See [`TableWriter`] for an example.
    pub fn get(&self, id: impl IntoId<T>) -> Found<T> {
        match self.slot(&id.into_id()) {
            Some(slot) => {
                let version = self.tx.version_of(self.places.table, slot);
                read_at(version, &self.places, slot)
            }
            None => Found::Missing,
        }
    }

    /// The rows as they are in this transaction, its own writes included: to go through them, to
    /// count them, or to follow a link back.
    ///
    /// ```
    /// # use backwater::{Cache, Link, Schema, Table};
    /// # #[derive(Table)]
    /// # struct Sailing { #[table(id)] id: i64 }
    /// # #[derive(Table)]
    /// # struct Booking { #[table(id)] id: i64, sailing: Link<Sailing> }
    /// # let cache = Cache::new(Schema::builder().table::<Sailing>().table::<Booking>().build()?);
    /// let booked = cache.commit("booked", |tx| {
    ///     let mut bookings = tx.table::<Booking>()?;
    ///     bookings.insert(&Booking { id: 7, sailing: Link::to(311) })?;
    ///     Ok(bookings.rows().pointing_at(Booking::SAILING, 311).count())
    /// })?;
    /// assert_eq!(booked.value, 1);
    /// # let _ = (Sailing { id: 1 }.id, Booking { id: 1, sailing: Link::to(1) }.sailing);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn rows(&self) -> TableRows<'_, T> {
        TableRows::at(&self.tx.state, self.places.clone())
    }

    /// Changes each row for which a condition holds, and returns their number. A row that lacks a
    /// field for which the struct has no default is left as it is.
    ///
    /// # Errors
    /// As [`TableWriter::update`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Table};
    /// # #[derive(Table)]
    /// # struct Todo { #[table(id)] id: i64, done: bool }
    /// # let cache = Cache::new(Schema::builder().table::<Todo>().build()?);
    /// # cache.commit("noted", |tx| { let mut todos = tx.table::<Todo>()?; (1..=3).try_for_each(|id| todos.insert(&Todo { id, done: id == 2 })) })?;
    /// let done = cache.commit("all done", |tx| {
    ///     tx.table::<Todo>()?.update_where(|todo| !todo.done, |todo| todo.done = true)
    /// })?;
    /// assert_eq!(done.value, 2);
    /// # let _ = Todo { id: 1, done: true }.id;
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn update_where(
        &mut self,
        holds: impl FnMut(&T) -> bool,
        mut change: impl FnMut(&mut T),
    ) -> Result<usize> {
        let ids = self.ids_where(holds);
        ids.iter().try_for_each(|id| self.update(id, &mut change))?;
        Ok(ids.len())
    }

    /// Deletes each row for which a condition holds, and returns their number; rows that an
    /// `on_delete` deletes along are not counted. A row that lacks a field for which the struct has
    /// no default stays.
    ///
    /// # Errors
    /// As [`TableWriter::delete`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Table};
    /// # #[derive(Table)]
    /// # struct Todo { #[table(id)] id: i64, done: bool }
    /// # let cache = Cache::new(Schema::builder().table::<Todo>().build()?);
    /// # cache.commit("noted", |tx| { let mut todos = tx.table::<Todo>()?; (1..=3).try_for_each(|id| todos.insert(&Todo { id, done: id == 2 })) })?;
    /// assert_eq!(cache.commit("tidied", |tx| tx.table::<Todo>()?.delete_where(|todo| todo.done))?.value, 1);
    /// # let _ = Todo { id: 1, done: true }.id;
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn delete_where(&mut self, holds: impl FnMut(&T) -> bool) -> Result<usize> {
        let ids = self.ids_where(holds);
        ids.iter().try_for_each(|id| self.delete(id).map(drop))?;
        Ok(ids.len())
    }

    fn ids_where(&self, mut holds: impl FnMut(&T) -> bool) -> Vec<Id<T>> {
        let rows = self.rows().iter().filter_map(Found::known);
        rows.filter(|row| holds(row)).map(|row| row.row_id()).collect()
    }

    fn slot(&self, id: &Id<T>) -> Option<Slot> {
        self.tx.state.slot(self.places.table, &id.key().to_row_id()).ok().flatten()
    }

    fn named(&self, writes: &FieldWrites) -> Named {
        let schema = &self.tx.state.schema;
        writes.named(schema.table(self.places.table), schema)
    }

    fn links(&mut self, id: &RowId, writes: FieldWrites) -> Result<()> {
        // A struct calls tables by their names, whatever the link calls them.
        writes.links.into_iter().try_for_each(|(link, targets)| {
            let targets = targets.into_iter().map(|(name, to)| (name, to, None)).collect();
            self.tx.write_links(T::TABLE, id, link, targets, |schema, _, name| {
                schema.table_no(name).ok()
            })
        })
    }
}

impl<T: OneRowTable> TableWriter<'_, T> {
    /// Changes the row of a one-row table: the closure runs at once, and what it changed is
    /// written, field by field.
    ///
    /// # Errors
    /// As [`Transaction::set`].
    ///
    /// See [`OneRowTable`] for an example.
    pub fn set(&mut self, change: impl FnOnce(&mut T)) -> Result<()> {
        let mut row = self.only();
        let before = FieldWrites::of(&row);
        change(&mut row);
        let writes = FieldWrites::of(&row).since(&before);
        self.tx.set(T::TABLE, self.named(&writes))
    }

    /// The row of a one-row table, as this transaction has left it.
    ///
    /// See [`OneRowTable`] for an example of the same on a snapshot.
    pub fn only(&self) -> T {
        read_at(&self.tx.state, &self.places, ONLY).known().unwrap_or_default()
    }
}

impl<T> std::fmt::Debug for TableWriter<'_, T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let schema = &self.tx.state.schema;
        write!(f, "TableWriter({})", schema.table(self.places.table).name)
    }
}
