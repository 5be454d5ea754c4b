//! Keys that a table declares unique beside its id.
//!
//! What a server says last is right: a row that it names by a key takes that from the row that had
//! it, of which it is then unknown what it has. What a program writes must not do so.

use super::{Later, RowAt, Transaction};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{ByKey, FieldKind, FieldNo, TableDef, TableNo};
use crate::table::{Cell, IndexKey, Row, Slot, Staged, StagedRow, State};
use crate::value::{Named, RowId, Value};

impl Transaction {
    /// The row that has these values in the fields of a unique key or of the id, as this transaction
    /// has left it.
    ///
    /// # Errors
    /// As [`Snapshot::get_by`](crate::Snapshot::get_by).
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// let cache = Cache::new(Schema::parse("s.toml", r#"
    ///     table.vessel = { id = "id", unique = "name", fields = { id = "int", name = "text", note = "text" } }
    /// "#)?);
    /// cache.commit("a vessel heard of", |tx| {
    ///     tx.insert("vessel", [("id", 7.into()), ("name", backwater::Value::from("Marram"))])?;
    ///     let id = tx.get_by("vessel", [("name", "Marram")])?.and_then(|row| row.id()).unwrap();
    ///     tx.update("vessel", id, [("note", "in dock")])
    /// })?;
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn get_by(&self, table: &str, key: impl Into<Named>) -> Result<Option<Row<'_>>> {
        let number = self.state.schema.table_no(table)?;
        self.state.need_ready(number).map_err(|error| {
            error.help("call `Cache::rehydrate` before the commit, or write to the table first")
        })?;
        let slot = self.state.slot_by(number, &key.into())?;
        Ok(slot.map(|slot| Row { state: self.version_of(number, slot), table: number, slot }))
    }

    /// Refuses fields by which a row would have a key that another one has.
    pub(super) fn check_keys(
        &self,
        table: TableNo,
        slot: Slot,
        fields: &StagedRow<'_>,
    ) -> Result<()> {
        let definition = self.definition(table);
        for key in &definition.unique {
            if let Some(other) = self.others_with(table, slot, key, fields).first() {
                let names: Vec<&str> =
                    key.iter().map(|field| &*definition.field(*field).name).collect();
                let (names, other) = (names.join(" and "), self.subject(table, *other));
                let message = format!("{other} has this {names} already");
                return Err(Error::new(ErrorKind::Row, message)
                    .at(format!("{}.{}", definition.name, names))
                    .help("write another value, or change or delete that row first"));
            }
        }
        Ok(())
    }

    /// The rows that have the key which a row has once these fields are written, if some of its
    /// fields are among them or it is new.
    fn others_with(
        &self,
        table: TableNo,
        slot: Slot,
        key: &[FieldNo],
        fields: &StagedRow<'_>,
    ) -> Vec<Slot> {
        let rows = self.state.table(table);
        let staged = |field: &FieldNo| fields.iter().rev().find(|(other, _)| other == field);
        if rows.is_row(slot) && key.iter().all(|field| staged(field).is_none()) {
            return Vec::new();
        }
        let cells = key.iter().map(|field| {
            let cell = staged(field).map_or(rows.cell(slot, *field), |(_, staged)| staged.cell());
            (!matches!(cell, Cell::Absent | Cell::Null)).then_some(cell)
        });
        let Some(cells) = cells.collect::<Option<IndexKey<'_>>>() else { return Vec::new() };
        let mut others = rows.indexed_rows(key, &cells);
        others.retain(|other| *other != slot);
        others
    }

    /// The other rows that have a key which a row has.
    fn alike(&self, table: TableNo, slot: Slot, key: &[FieldNo]) -> Vec<Slot> {
        let rows = self.state.table(table);
        let alike = rows.key(slot, key).map(|cells| rows.indexed_rows(key, &cells));
        let mut alike = alike.unwrap_or_default();
        alike.retain(|other| *other != slot);
        alike
    }

    /// Takes the keys that a row has from the rows that had them before; returns whether there were
    /// such.
    pub(super) fn take_keys(
        &mut self,
        table: TableNo,
        slot: Slot,
        written: &[(FieldNo, Staged<'_>)],
    ) -> bool {
        let schema = self.schema();
        let definition = schema.table(table);
        let mut takes = false;
        for key in &definition.unique {
            if written.iter().any(|(field, _)| key.contains(field)) {
                for other in self.alike(table, slot, key) {
                    self.give_up(definition, (table, other), key);
                    takes = true;
                }
            }
        }
        takes
    }

    /// Lets a row forget a key, as another one has it by now.
    fn give_up(&mut self, definition: &TableDef, (table, slot): (TableNo, Slot), key: &[FieldNo]) {
        if let Some(field) = given_up(definition, key) {
            self.merge_row(table, slot, &[(field, Staged::Absent)]);
        }
    }

    /// Leaves out of a record's fields what would take a key from a row that is newer; returns how
    /// many values that were.
    pub(crate) fn leave_out_taken_keys(
        &self,
        table: TableNo,
        slot: Slot,
        fields: &mut StagedRow<'_>,
        later: Option<&Later>,
    ) -> usize {
        let definition = self.definition(table);
        let before = fields.len();
        for key in &definition.unique {
            let others = self.others_with(table, slot, key, fields);
            let version = definition.version.map(|version| {
                let staged = fields.iter().rev().find(|(field, _)| *field == version);
                let own = self.state.table(table).cell(slot, version);
                (version, staged.map_or(own, |(_, staged)| staged.cell()))
            });
            let is_newer = |other: &Slot| {
                let by_version = version.is_some_and(|(version, own)| {
                    own.is_before(&self.state.table(table).cell(*other, version))
                });
                by_version || later.is_some_and(|it| it.has_changed(&self.state, table, *other))
            };
            if others.iter().any(is_newer)
                && let Some(field) = given_up(definition, key)
            {
                fields.retain(|(other, _)| *other != field);
            }
        }
        before - fields.len()
    }

    /// Lets rows forget keys that a withdrawn commit gave them back, and that others have by now.
    pub(super) fn leave_keys(&mut self, fields: &[(RowAt, FieldNo)]) {
        let schema = self.schema();
        for ((table, slot), field) in fields {
            let definition = schema.table(*table);
            for key in definition.unique.iter().filter(|key| key.contains(field)) {
                if !self.alike(*table, *slot, key).is_empty() {
                    self.give_up(definition, (*table, *slot), key);
                }
            }
        }
    }
}

/// The field of a key that a row forgets which has it no longer: the last that is no part of its id.
fn given_up(definition: &TableDef, key: &[FieldNo]) -> Option<FieldNo> {
    key.iter().rev().find(|field| !definition.id.contains(field)).copied()
}

impl State {
    /// The row that alone has these values in the fields of a unique key.
    pub(crate) fn row_by_key(
        &self,
        table: TableNo,
        key: &[FieldNo],
        cells: &[Cell<'_>],
    ) -> Option<Slot> {
        match *self.table(table).indexed_rows(key, cells) {
            [only] => Some(only),
            // Which of several is meant is not known: they were there before the key was declared,
            // or a pending change has made them alike.
            _ => None,
        }
    }

    /// The row that a link of a row points at which goes by a key, if it is there.
    pub(crate) fn target_by(&self, table: TableNo, slot: Slot, by: &ByKey) -> Option<Slot> {
        let key = self.table(table).key(slot, &by.here())?;
        self.row_by_key(by.table, &by.there(), &key)
    }

    /// The rows whose link points at a row by a key of it.
    pub(crate) fn pointing_by(&self, table: TableNo, by: &ByKey, target: Slot) -> Vec<Slot> {
        let (rows, here) = (self.table(table), by.here());
        let Some(key) = self.table(by.table).key(target, &by.there()) else { return Vec::new() };
        match self.has_index(table, &here) {
            true => rows.indexed_rows(&here, &key),
            false => {
                rows.iter().filter(|slot| rows.key(*slot, &here).as_ref() == Some(&key)).collect()
            }
        }
    }

    /// The row that has these values in the fields of a unique key or of the id.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if these fields are no key, [`ErrorKind::Type`] if a value does
    /// not fit its field.
    pub(crate) fn slot_by(&self, table: TableNo, key: &Named) -> Result<Option<Slot>> {
        let definition = self.schema.table(table);
        let mut given: Vec<(FieldNo, &Value)> = Vec::new();
        for (name, value) in key.iter() {
            given.push((crate::table::field_no(definition, name)?, value));
        }
        let value = |field: &FieldNo| given.iter().rev().find(|(it, _)| it == field).map(|it| it.1);
        let fits = |fields: &&Vec<FieldNo>| {
            !fields.is_empty()
                && fields.iter().all(|field| value(field).is_some())
                && given.iter().all(|(field, _)| fields.contains(field))
        };
        let mut keys = std::iter::once(&definition.id).chain(&definition.unique);
        let Some(fields) = keys.find(fits) else {
            let name = |field: &FieldNo| &*definition.field(*field).name;
            let named = |fields: &Vec<FieldNo>| fields.iter().map(name).collect::<Vec<_>>();
            let keys = std::iter::once(&definition.id).chain(&definition.unique);
            let known: Vec<String> =
                keys.filter(|key| !key.is_empty()).map(|key| named(key).join(" and ")).collect();
            let help = match known.is_empty() {
                true => "read its row with `only`".to_owned(),
                false => format!("its keys are {}", known.join("; ")),
            };
            let message =
                format!("these fields are no unique key of table \"{}\"", definition.name);
            return Err(Error::new(ErrorKind::UnknownName, message).help(help));
        };
        let mut cells = IndexKey::new();
        for field in fields {
            let declared = definition.field(*field);
            let cell = match (declared.kind, value(field)) {
                (FieldKind::Int, Some(Value::Int(number))) => Cell::Int(*number),
                (FieldKind::Text, Some(Value::Text(text))) => Cell::Text(text),
                (_, None | Some(Value::Null)) => return Ok(None),
                (FieldKind::Link(to), Some(of)) => match self.slot(to, &RowId::of_value(of)?)? {
                    Some(slot) => Cell::Link(slot),
                    None => return Ok(None),
                },
                (_, Some(value)) => {
                    let (found, expected) = (value.kind(), self.schema.kind_of(declared));
                    let message = format!("found {found} ({value}), expected {expected}");
                    return Err(Error::new(ErrorKind::Type, message)
                        .at(format!("{}.{}", definition.name, declared.name)));
                }
            };
            cells.push(cell);
        }
        if *fields == definition.id {
            return Ok(self
                .table(table)
                .slot(&cells)
                .filter(|slot| self.table(table).is_row(*slot)));
        }
        Ok(self.row_by_key(table, fields, &cells))
    }
}
