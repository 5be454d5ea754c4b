//! What a transaction does with many rows at once: goes through them, and updates or deletes those
//! that a condition holds for.

use super::Transaction;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{TableNo, table_set};
use crate::table::{Row, Slot};
use crate::value::Named;

impl Transaction {
    /// The rows of a table as they are in this transaction, its own writes included, in no
    /// particular order.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.booking = { id = 'id', fields = { id = 'int', cars = 'int' } }")?);
    /// let cars = cache.commit("booked", |tx| {
    ///     tx.insert("booking", [("id", 7), ("cars", 2)])?;
    ///     tx.insert("booking", [("id", 8), ("cars", 3)])?;
    ///     tx.rows("booking")?.map(|row| Ok(row.get("cars")?.and_then(|cars| cars.as_int()).unwrap_or(0))).sum::<Result<i64, _>>()
    /// })?;
    /// assert_eq!(cars.value, 5);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn rows(&mut self, table: &str) -> Result<impl Iterator<Item = Row<'_>>> {
        let table = self.readable(table)?;
        let state = &self.state;
        Ok(state.table(table).iter().map(move |slot| Row { state, table, slot }))
    }

    /// How many rows a table has in this transaction.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// let ports = cache.commit("a port opened", |tx| {
    ///     tx.insert("port", [("code", "SAL")])?;
    ///     tx.count("port")
    /// })?;
    /// assert_eq!(ports.value, 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn count(&mut self, table: &str) -> Result<usize> {
        let table = self.readable(table)?;
        Ok(self.state.table(table).rows() as usize)
    }

    /// Writes fields of each row for which a condition holds, and returns their number.
    ///
    /// # Errors
    /// What the condition returns, or as [`Transaction::update`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.todo = { id = 'id', fields = { id = 'int', done = 'bool' } }")?);
    /// # cache.commit("noted", |tx| (1..=3).try_for_each(|id| tx.insert("todo", [("id", Value::from(id)), ("done", (id == 2).into())])))?;
    /// let open = |row: &backwater::Row<'_>| Ok(row.get("done")? == Some(Value::from(false)));
    /// let done = cache.commit("all done", |tx| tx.update_where("todo", open, [("done", true)]))?;
    /// assert_eq!(done.value, 2);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn update_where(
        &mut self,
        table: &str,
        holds: impl FnMut(&Row<'_>) -> Result<bool>,
        fields: impl Into<Named>,
    ) -> Result<usize> {
        let (number, fields) = (self.writable(table)?, fields.into());
        self.lift_any_of(|_| table_set([number]));
        let slots = self.slots_where(number, holds)?;
        slots.iter().try_for_each(|slot| self.write(number, *slot, &fields))?;
        Ok(slots.len())
    }

    /// Deletes each row for which a condition holds, and returns their number; rows that an
    /// `on_delete` deletes along are not counted.
    ///
    /// # Errors
    /// What the condition returns, or as [`Transaction::delete`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.booking = { id = 'id', fields = { id = 'int', cars = 'int' } }")?);
    /// # cache.commit("booked", |tx| (0..4).try_for_each(|id| tx.insert("booking", [("id", id), ("cars", id)])))?;
    /// let large = |row: &backwater::Row<'_>| Ok(row.get("cars")?.and_then(|cars| cars.as_int()) > Some(1));
    /// assert_eq!(cache.commit("no room", |tx| tx.delete_where("booking", large))?.value, 2);
    /// // All of them:
    /// assert_eq!(cache.commit("closed", |tx| tx.delete_where("booking", |_| Ok(true)))?.value, 2);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn delete_where(
        &mut self,
        table: &str,
        holds: impl FnMut(&Row<'_>) -> Result<bool>,
    ) -> Result<usize> {
        let number = self.writable(table)?;
        if self.definition(number).is_one_row() {
            let message = format!("the row of one-row table \"{table}\" is always there");
            return Err(Error::new(ErrorKind::Row, message).help("set its fields to null instead"));
        }
        self.need(|schema| schema.written_with(number))?;
        let slots = self.slots_where(number, holds)?;
        for slot in &slots {
            // It may have been deleted with one before it, which counts as well.
            let id = self.state.id(number, *slot).map(|id| id.to_id());
            if let Some(id) = id.filter(|_| self.state.table(number).is_row(*slot)) {
                self.delete_row(number, *slot)?;
                self.note_gone(number, id);
            }
        }
        Ok(slots.len())
    }

    /// The number of a table, which is loaded.
    fn readable(&mut self, name: &str) -> Result<TableNo> {
        let number = self.state.schema.table_no(name)?;
        self.need(|_| table_set([number]))?;
        Ok(number)
    }

    fn slots_where(
        &self,
        table: TableNo,
        mut holds: impl FnMut(&Row<'_>) -> Result<bool>,
    ) -> Result<Vec<Slot>> {
        let mut slots = Vec::new();
        for slot in self.state.table(table).iter() {
            if holds(&Row { state: &self.state, table, slot })? {
                slots.push(slot);
            }
        }
        Ok(slots)
    }
}
