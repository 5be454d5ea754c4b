//! Deleting rows, and what becomes of the links that point at them.

use rustc_hash::FxHashSet;

use super::Transaction;
use super::links::Target;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldKind, FieldNo, OnDelete, TableNo, table_set};
use crate::table::{Cell, Slot};
use crate::value::RowId;

use crate::table::{Staged, StagedRow};

/// The result of a delete.
#[derive(Default)]
struct Doomed {
    /// The rows that go, in the order in which they were met.
    rows: Vec<Target>,
    known: FxHashSet<Target>,
    /// Links that become null.
    nulls: Vec<(TableNo, Slot, FieldNo)>,
    /// Entries of to-many links that go with their targets.
    entries: Vec<Target>,
    /// Links that forbid it, with the row that they point at.
    held: Vec<(TableNo, Slot, FieldNo, Target)>,
}

impl Doomed {
    fn add(&mut self, row: Target) {
        if self.known.insert(row) {
            self.rows.push(row);
        }
    }
}

impl Transaction {
    /// Deletes a row; returns whether it was there. Links that point at it follow their
    /// `on_delete`: they stay and point at nothing, become null, delete their own rows along, or
    /// forbid it.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table, [`ErrorKind::Row`] if it is a one-row
    /// table, or if a link with `on_delete = "restrict"` points at the row; then nothing is
    /// deleted.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// let cache = Cache::new(Schema::parse("s.toml", r#"
    ///     table.sailing = { id = "id", fields = { id = "int" } }
    ///     table.booking = { id = "id", fields = { id = "int", sailing = { to = "sailing", on_delete = "cascade" } } }
    /// "#)?);
    /// cache.commit("a party booked", |tx| {
    ///     tx.insert("sailing", [("id", 311)])?;
    ///     tx.insert("booking", [("id", 9000), ("sailing", 311)])
    /// })?;
    /// let report = cache.commit("a sailing taken out", |tx| {
    ///     assert!(tx.delete("sailing", 311)?);
    ///     assert!(!tx.delete("sailing", 311)?);
    ///     Ok(())
    /// })?;
    /// assert_eq!(report.changes().count(), 2); // its booking went with it
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn delete(&mut self, table: &str, id: impl Into<RowId>) -> Result<bool> {
        let number = self.writable(table)?;
        if self.definition(number).is_one_row() {
            return Err(Error::new(
                ErrorKind::Row,
                format!("the row of one-row table \"{table}\" is always there"),
            )
            .help("set its fields to null instead"));
        }
        self.need(|schema| schema.written_with(number))?;
        let id = id.into();
        let found = self.find(number, &id)?;
        found.map_or(Ok(()), |slot| self.delete_row(number, slot))?;
        self.note_gone(number, id);
        Ok(found.is_some())
    }

    /// Notes that a row was deleted, whether or not it was there: an answer that was asked for before
    /// does not bring it. If a recent commit has deleted it already, that may be withdrawn yet.
    pub(crate) fn note_gone(&mut self, table: TableNo, id: RowId) {
        if let Some((slot, by)) = self.history.gone(table, &id) {
            self.again.add_gone((table, slot), by);
        }
        if !self.writes_pending() {
            self.gone.push((table, id));
        }
    }

    /// Deletes a row that is there.
    pub(crate) fn delete_row(&mut self, table: TableNo, slot: Slot) -> Result<()> {
        let mut doomed = Doomed::default();
        doomed.add((table, slot));
        let mut next = 0;
        while let Some(row) = doomed.rows.get(next) {
            self.follow_links_to(*row, &mut doomed);
            next += 1;
        }
        let held =
            doomed.held.iter().find(|(table, slot, ..)| !doomed.known.contains(&(*table, *slot)));
        if let Some((source, at, field, target)) = held {
            return Err(self.held(*source, *at, *field, *target));
        }
        for (table, slot, field) in &doomed.nulls {
            if !doomed.known.contains(&(*table, *slot)) {
                self.set_link_null(*table, *slot, *field);
            }
        }
        for (entries, entry) in &doomed.entries {
            self.close_gap(*entries, *entry, &doomed);
        }
        let schema = self.schema();
        for (table, slot) in &doomed.rows {
            for field in &schema.table(*table).fields {
                if let FieldKind::Links(entries) = field.kind {
                    self.put_entries(entries, *slot, &[]);
                }
            }
            self.remove(*table, *slot);
        }
        Ok(())
    }

    /// Deletes rows with the entries of their to-many links, whatever links to them.
    pub(crate) fn let_rows_go(&mut self, rows: impl IntoIterator<Item = (TableNo, Slot)>) {
        let schema = self.schema();
        for (table, slot) in rows {
            for field in &schema.table(table).fields {
                if let FieldKind::Links(entries) = field.kind {
                    self.put_entries(entries, slot, &[]);
                }
            }
            // Entries may have been deleted with their owner.
            if self.state.table(table).is_row(slot) {
                self.remove(table, slot);
            }
        }
    }

    /// Deletes all rows, whatever links to them.
    ///
    /// # Errors
    /// If a table is not loaded, and cannot be read.
    pub(crate) fn clear(&mut self) -> Result<()> {
        self.need(|schema| table_set(schema.table_numbers()))?;
        // Nothing of them is shown, nor sent.
        self.set_pending(Vec::new());
        let schema = self.schema();
        for table in schema.table_numbers() {
            let slots: Vec<Slot> = self.state.table(table).iter().collect();
            if schema.table(table).is_one_row() {
                let absent =
                    schema.table(table).field_numbers().map(|field| (field, Staged::Absent));
                let absent: StagedRow<'_> = absent.collect();
                for slot in slots {
                    self.merge_row(table, slot, &absent);
                }
            } else {
                slots.into_iter().for_each(|slot| self.remove(table, slot));
            }
        }
        Ok(())
    }

    /// Notes what becomes of the links that point at a row.
    fn follow_links_to(&self, row: Target, doomed: &mut Doomed) {
        for link in self.state.schema.links_to(row.0) {
            let rows = self.state.table(link.table);
            let sources = match link.by {
                Some(by) => self.state.pointing_by(link.table, by, row.1),
                None if link.one_of => {
                    rows.indexed_rows(&[link.field], &[Cell::OneOf(row.0, row.1)])
                }
                None => rows.indexed_rows(&[link.field], &[Cell::Link(row.1)]),
            };
            for source in sources {
                let entries = self.link_of(link.table).is_some();
                match link.on_delete {
                    OnDelete::Keep => {}
                    OnDelete::Cascade if entries => doomed.entries.push((link.table, source)),
                    OnDelete::Cascade => doomed.add((link.table, source)),
                    OnDelete::SetNull => doomed.nulls.push((link.table, source, link.field)),
                    OnDelete::Restrict => {
                        // The row that would be left with a link to nothing.
                        let owner =
                            self.link_of(link.table).zip(self.entries_beside(link.table, source));
                        doomed.held.push(match owner {
                            Some(((table, field), (owner, _))) => (table, owner, field, row),
                            None => (link.table, source, link.field, row),
                        });
                    }
                }
            }
        }
    }

    fn held(&self, source: TableNo, at: Slot, field: FieldNo, target: Target) -> Error {
        let definition = self.definition(source);
        let link = format!("{}.{}", definition.name, definition.field(field).name);
        let (from, to) = (self.subject(source, at), self.subject(target.0, target.1));
        Error::new(ErrorKind::Row, format!("{to} cannot be deleted: {from} points at it"))
            .help(format!("{link} is on_delete = \"restrict\": change or delete that row first"))
    }

    fn set_link_null(&mut self, table: TableNo, slot: Slot, field: FieldNo) {
        let schema = self.schema();
        let link = schema.table(table).field(field).link.as_ref();
        let type_field = link.and_then(|link| link.one_of.as_ref()).map(|one_of| one_of.type_field);
        let fields: Vec<_> = [Some(field), type_field]
            .into_iter()
            .flatten()
            .map(|field| (field, Staged::Null))
            .collect();
        self.merge_row(table, slot, &fields);
    }

    /// Leaves those targets out of a to-many link that are deleted.
    fn close_gap(&mut self, entries: TableNo, entry: Slot, doomed: &Doomed) {
        // An entry that went with another one of its owner's is not there any more.
        let Some((owner, mut targets)) = self.entries_beside(entries, entry) else { return };
        let Some((table, field)) = self.link_of(entries) else { return };
        if doomed.known.contains(&(table, owner)) {
            return;
        }
        targets.retain(|entry| !doomed.known.contains(&entry.target()));
        self.merge_row(table, owner, &[(field, Staged::Links(targets))]);
    }
}
