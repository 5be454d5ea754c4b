//! A transaction: writes applied to a version of its own, which is kept or dropped as a whole.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::again::WrittenAgain;
use super::staged::{Staged, StagedRow, checked_text};
use super::touched::Touched;
use super::withdraw::Withdrawal;
use super::{Changes, History, Ingested, Remembered};
use crate::error::{Error, ErrorKind, Result, either};
use crate::schema::{Field, FieldNo, IdType, Kind, Made, OneOf, Schema, Table, TableNo};
use crate::table::{Cell, ONLY, Row, Slot, State, field_no};
use crate::value::{Json, Named, RowId, Value};

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
    pub(super) touched: Vec<Touched>,
    pub(crate) ingested: Vec<Ingested>,
    pub(crate) history: Arc<History>,
    /// What ingest of short responses remembers from commit to commit.
    pub(crate) remembered: Remembered,
    on_demand: Option<Arc<dyn OnDemand>>,
    /// The tables that were loaded while it went on.
    rehydrated: Vec<TableNo>,
    /// Rows that were merged, whether or not that changed them, of tables that keep it when that was.
    pub(crate) received: Vec<(TableNo, Slot)>,
    pub(crate) again: WrittenAgain,
    /// The commit that it withdraws, or restores.
    pub(super) withdrawal: Option<Withdrawal>,
}

/// Loads rows that a transaction needs and that are not there yet.
pub(crate) trait OnDemand: Send + Sync {
    /// Reads all rows of some tables into a version that has none of them.
    fn read(&self, state: &mut State, tables: &[TableNo]) -> Result<()>;
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

impl Transaction {
    pub(crate) fn new(before: Arc<State>, history: Arc<History>, remembered: Remembered) -> Self {
        let state = State::clone(&before);
        let touched = state.schema.tables.iter().map(|_| Touched::default()).collect();
        let (ingested, on_demand) = (Vec::new(), None);
        let (rehydrated, received) = (Vec::new(), Vec::new());
        let (again, withdrawal) = (WrittenAgain::default(), None);
        Self {
            before,
            state,
            touched,
            ingested,
            history,
            remembered,
            on_demand,
            rehydrated,
            received,
            again,
            withdrawal,
        }
    }

    /// The same, where tables are not loaded yet.
    pub(crate) fn with_on_demand(mut self, on_demand: Arc<dyn OnDemand>) -> Self {
        self.on_demand = Some(on_demand);
        self
    }

    /// Loads tables that are not loaded yet, as if their rows had been there from the start.
    ///
    /// # Errors
    /// If they cannot be read.
    pub(crate) fn need(&mut self, tables: impl FnOnce(&Schema) -> BTreeSet<TableNo>) -> Result<()> {
        if !self.state.has_unready() {
            return Ok(());
        }
        let tables = tables(&self.state.schema).into_iter();
        let tables: Vec<_> = tables.filter(|table| !self.state.is_ready(*table)).collect();
        let Some(on_demand) = self.on_demand.as_ref().filter(|_| !tables.is_empty()) else {
            return Ok(());
        };
        let mut state = self.state.clone();
        on_demand.read(&mut state, &tables)?;
        state.set_ready(&tables);
        let written = self.touched.iter().enumerate().flat_map(|(number, touched)| {
            touched.slots().map(move |slot| (TableNo(number as u32), slot))
        });
        self.before = Arc::new(state.with_rows_of(&self.before, written));
        self.state = state;
        self.rehydrated.extend(tables);
        Ok(())
    }

    /// The tables that were loaded while it went on, if there are any, and the version with these
    /// and without what it wrote.
    pub(crate) fn take_rehydrated(&mut self) -> Option<(Arc<State>, Vec<TableNo>)> {
        let tables = std::mem::take(&mut self.rehydrated);
        (!tables.is_empty()).then(|| (self.before.clone(), tables))
    }

    /// The rows that it received, of tables that record when that was.
    pub(crate) fn take_received(&mut self) -> Vec<(TableNo, Slot)> {
        std::mem::take(&mut self.received)
    }

    /// What it withdraws, if it does.
    pub(crate) fn take_withdrawal(&mut self) -> Option<Withdrawal> {
        self.withdrawal.take()
    }

    /// The tables as it has them by now.
    pub(crate) fn version(&self) -> Arc<State> {
        match self.touched.iter().all(Touched::is_empty) {
            true => self.before.clone(),
            false => Arc::new(self.state.clone()),
        }
    }

    /// Ends the transaction: what it changed, between the version it began from and its own.
    pub(crate) fn finish(mut self) -> (Changes, Vec<Ingested>) {
        self.state.hand_over_free_slots();
        let after = Arc::new(self.state);
        let changes = Changes::between(self.before, after, &self.touched, self.again);
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
        let (number, fields) = (self.writable(table)?, fields.into());
        let slot = self.slot_in(number, &fields)?;
        if self.state.table(number).is_row(slot) {
            let message = format!("{} is there already", self.subject(number, slot));
            return Err(
                Error::new(ErrorKind::Row, message).help("change it with `update`, or use `merge`")
            );
        }
        self.write(number, slot, &fields)
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
        let (number, fields) = (self.writable(table)?, fields.into());
        let slot = self.slot_in(number, &fields)?;
        self.write(number, slot, &fields)
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
        id: impl Into<RowId>,
        fields: impl Into<Named>,
    ) -> Result<()> {
        let (number, id) = (self.writable(table)?, id.into());
        let Some(slot) = self.find(number, &id)? else {
            return Err(not_there(table, &id).help("add it with `insert` or `merge`"));
        };
        self.write(number, slot, &fields.into())
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
        if !self.definition(number).is_one_row() {
            return Err(Error::new(ErrorKind::Row, format!("\"{table}\" is not a one-row table"))
                .help("name the row with `update`"));
        }
        self.need(|schema| schema.with_entries(number).into_iter().collect())?;
        self.write(number, ONLY, &fields.into())
    }

    /// The row with that id, as this transaction has left it.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table; [`ErrorKind::Storage`] if it cannot be
    /// loaded (see [`CacheBuilder::load_first`](crate::CacheBuilder::load_first)).
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
    pub fn get(&self, table: &str, id: impl Into<RowId>) -> Result<Option<Row<'_>>> {
        let number = self.state.schema.table_no(table)?;
        self.state.need_ready(number).map_err(|error| {
            error.help("call `Cache::rehydrate` before the commit, or write to the table first")
        })?;
        let slot = self.find(number, &id.into())?;
        Ok(slot.map(|slot| Row { state: &self.state, table: number, slot }))
    }

    /// The slot of a row that is there.
    pub(super) fn find(&self, table: TableNo, id: &RowId) -> Result<Option<Slot>> {
        let slot = self.state.slot(table, id)?;
        Ok(slot.filter(|slot| self.state.table(table).is_row(*slot)))
    }

    /// The slot of a key that something refers to, whether or not its row is there.
    pub(crate) fn refer(&mut self, table: TableNo, key: &[Cell<'_>]) -> Slot {
        self.state.refer(table, key)
    }

    pub(super) fn definition(&self, table: TableNo) -> &Table {
        self.state.schema.table(table)
    }

    /// A row in a few words: `sailing 311`.
    pub(super) fn subject(&self, table: TableNo, slot: Slot) -> String {
        let name = &self.definition(table).name;
        match self.state.id(table, slot) {
            Some(id) => format!("{name} {}", id.to_id()),
            None => name.to_string(),
        }
    }

    /// A table whose rows a caller may write, and that has all of them.
    pub(super) fn writable(&mut self, name: &str) -> Result<TableNo> {
        let number = self.state.schema.table_no(name)?;
        match self.definition(number).made {
            Made::Declared => self
                .need(|schema| schema.with_entries(number).into_iter().collect())
                .map(|()| number),
            Made::List => {
                let message = format!("\"{name}\" is the list that responses of a rule fill");
                Err(Error::new(ErrorKind::Row, message).help("ingest a response by that rule"))
            }
            Made::Entries { owner, field } => {
                let owner = self.definition(owner);
                let link = format!("{}.{}", owner.name, owner.field(field).name);
                let message = format!("\"{name}\" holds the entries of the to-many link {link}");
                Err(Error::new(ErrorKind::Row, message).help("write them with `set_links`"))
            }
        }
    }

    /// Merges fields into a row, which is made if it is not there.
    pub(crate) fn merge_row(
        &mut self,
        table: TableNo,
        slot: Slot,
        fields: &[(FieldNo, Staged<'_>)],
    ) -> Merged {
        let cells = fields.iter().map(|(field, staged)| (*field, staged.cell()));
        let mut merged = Merged { is_new: false, changed: false, overwrote: false };
        if self.state.table(table).keeps_times() {
            self.received.push((table, slot));
        }
        let old = self.state.table(table).row(slot);
        match &old {
            None => merged.is_new = true,
            Some(old) => cells.clone().for_each(|(field, cell)| {
                let old = old.cell(field);
                if old != cell {
                    merged.changed = true;
                    merged.overwrote |= old != Cell::Absent;
                }
            }),
        }
        if self.state.schema.table(table).checks.links {
            let differs = self.write_entries(table, slot, fields);
            merged.changed |= differs && !merged.is_new;
            merged.overwrote |= differs && !merged.is_new;
        }
        if self.history.is_recent(table, slot) && !self.state.schema.is_entries(table) {
            self.again.add((table, slot), fields.iter().map(|(field, _)| *field).collect());
        }
        if merged.is_new || merged.changed {
            self.touched[table.index()].insert(slot);
            self.state.table_mut(table).merge(slot, cells);
        }
        merged
    }

    /// Leaves out of a row's staged fields what is older than the row: older news fills only
    /// fields that are absent.
    pub(crate) fn leave_out_older(
        &self,
        table: TableNo,
        slot: Slot,
        version: FieldNo,
        fields: &mut StagedRow<'_>,
    ) {
        let Some(row) = self.state.table(table).row(slot) else { return };
        let news = fields.iter().rev().find(|(field, _)| *field == version);
        let older = news.is_some_and(|(_, news)| match (news.cell(), row.cell(version)) {
            (Cell::Int(news), Cell::Int(row)) => news < row,
            (Cell::Text(news), Cell::Text(row)) => news < row,
            (Cell::Timestamp(news), Cell::Timestamp(row)) => news < row,
            _ => false,
        });
        if older {
            fields.retain(|(field, _)| row.cell(*field) == Cell::Absent);
        }
    }

    /// The slot of the id that is among the given fields.
    fn slot_in(&mut self, table: TableNo, fields: &Named) -> Result<Slot> {
        let schema = self.schema();
        let definition = schema.table(table);
        if definition.is_one_row() {
            return Err(Error::new(
                ErrorKind::Row,
                format!("\"{}\" is a one-row table, whose row is always there", definition.name),
            )
            .help("write its fields with `set`"));
        }
        let mut parts = Vec::new();
        for field in &definition.id {
            let given = fields.iter().filter(|(name, _)| definition.field_no(name) == Some(*field));
            let place = place(definition, *field);
            let Some((_, value)) = given.last() else {
                return Err(Error::new(ErrorKind::Row, "a row needs its id")
                    .at(place)
                    .help("give this field too"));
            };
            let part = self.id_of(definition.field(*field), value);
            let part = part.map_err(|error| error.at(&place))?;
            match self.misfit(definition.field(*field), value, &part) {
                Some(message) => return Err(Error::new(ErrorKind::Type, message).at(place)),
                None => parts.push(part),
            }
        }
        let id = match <[RowId; 1]>::try_from(parts) {
            Ok([only]) => only,
            Err(parts) => RowId::Parts(parts.into()),
        };
        self.state.refer_id(table, &id)
    }

    /// What is wrong with a part of an id in its field.
    fn misfit(&self, field: &Field, value: &Value, part: &RowId) -> Option<String> {
        let fits = matches!(
            (field.kind, part),
            (Kind::Int, RowId::Int(_)) | (Kind::Text, RowId::Text(_)) | (Kind::Link(_), _)
        );
        if !fits {
            let expected = if field.kind == Kind::Int { "int" } else { "text" };
            let found = value.kind();
            return Some(format!("found {found} ({value}), expected an id of type {expected}"));
        }
        match part {
            RowId::Int(number) => Staged::Int(*number).misfit(field),
            RowId::Text(text) => Staged::Text((**text).into()).misfit(field),
            RowId::Parts(_) => None,
        }
    }

    /// The id that a value is in a field.
    fn id_of(&self, field: &Field, value: &Value) -> Result<RowId> {
        match value {
            Value::Text(id) => match self.state.schema.linked_id_type(field) {
                // The text of a link to a row with an id of several parts, as SQL gives it.
                Some(IdType::Parts) => RowId::from_json(&Json::parse(id)?),
                _ => Ok(RowId::Text(checked_text(id)?.into())),
            },
            other => RowId::of_value(other),
        }
    }

    /// Writes the given fields into a row, all or none of them.
    pub(crate) fn write(&mut self, table: TableNo, slot: Slot, fields: &Named) -> Result<()> {
        let schema = self.schema();
        let definition = schema.table(table);
        let mut staged = StagedRow::new();
        for (name, value) in fields.iter() {
            let number = field_no(definition, name)?;
            let field = definition.field(number);
            let place = || place(definition, number);
            if definition.id.contains(&number) {
                let id = self.id_of(field, value).map_err(|error| error.at(place()))?;
                if self.state.value(table, slot, number) != Some(id.into()) {
                    return Err(Error::new(ErrorKind::Row, "a row keeps its id")
                        .at(place())
                        .help("delete the row and insert another"));
                }
                continue;
            }
            let value = match field.link.as_ref().and_then(|link| link.one_of.as_ref()) {
                Some(one_of) if !value.is_null() => {
                    let to = self.one_of(definition, one_of, fields, (table, slot));
                    let (name, to) = to.map_err(|error| error.at(place()))?;
                    staged.push((one_of.type_field, Staged::Text(name.to_string().into())));
                    self.id_of(field, value)
                        .and_then(|id| self.state.refer_id(to, &id))
                        .map(|slot| Staged::OneOf(to, slot))
                }
                Some(one_of) => {
                    staged.push((one_of.type_field, Staged::Null));
                    Ok(Staged::Null)
                }
                None if definition.link_typed_by(number).is_some() => {
                    self.check_type_field(definition, number, fields, (table, slot), value)?;
                    continue;
                }
                None => self.stage(&schema, field, value),
            };
            let value = value.map_err(|error| error.at(place()))?;
            if let Some(message) = value.misfit(field) {
                return Err(Error::new(ErrorKind::Type, message).at(place()));
            }
            staged.push((number, value));
        }
        self.merge_row(table, slot, &staged);
        Ok(())
    }

    /// At which table a link points that may point at one of several: as given beside it, or else
    /// as before.
    fn one_of<'s>(
        &self,
        definition: &Table,
        one_of: &'s OneOf,
        fields: &Named,
        (table, slot): (TableNo, Slot),
    ) -> Result<(&'s Arc<str>, TableNo)> {
        let given =
            fields.iter().filter(|(name, _)| definition.field_no(name) == Some(one_of.type_field));
        let named = match given.last() {
            Some((_, value)) => value.as_str().map(str::to_owned),
            None => match self.state.table(table).cell(slot, one_of.type_field) {
                Cell::Text(name) => Some(name.to_owned()),
                _ => None,
            },
        };
        let to = named.as_deref().and_then(|name| one_of.table(name));
        to.map(|to| (one_of.name(to), to)).ok_or_else(|| {
            let field = &definition.field(one_of.type_field).name;
            let message = format!("\"{field}\" does not say at which table this points");
            Error::new(ErrorKind::Type, message)
                .help(format!("give it {} too", either(&one_of.names())))
        })
    }

    /// The name of the table that a link points at is written with the link only.
    fn check_type_field(
        &self,
        definition: &Table,
        number: FieldNo,
        fields: &Named,
        (table, slot): (TableNo, Slot),
        value: &Value,
    ) -> Result<()> {
        let Some(link) = definition.link_typed_by(number) else { return Ok(()) };
        let with_link = fields.iter().any(|(name, _)| definition.field_no(name) == Some(link));
        let before = self.state.value(table, slot, number).unwrap_or(Value::Null);
        if with_link || before == *value {
            return Ok(());
        }
        let link = &definition.field(link).name;
        let message = format!("this says at which table \"{link}\" points");
        Err(Error::new(ErrorKind::Type, message)
            .at(place(definition, number))
            .help(format!("give \"{link}\" with it")))
    }

    /// A value in the type of its field.
    pub(crate) fn stage<'v>(
        &mut self,
        schema: &Schema,
        field: &Field,
        value: &'v Value,
    ) -> Result<Staged<'v>> {
        Ok(match (field.kind, value) {
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
                let id = self.id_of(field, value)?;
                Staged::Link(self.state.refer_id(to, &id)?)
            }
            (Kind::Links(_), _) => {
                return Err(Error::new(ErrorKind::Type, "a to-many link takes a list of ids")
                    .help("write it with `set_links`"));
            }
            (_, value) => {
                let (found, expected) = (value.kind(), schema.kind_of(field));
                let message = format!("found {found} ({value}), expected {expected}");
                return Err(Error::new(ErrorKind::Type, message));
            }
        })
    }
}

fn place(table: &Table, field: FieldNo) -> String {
    format!("{}.{}", table.name, table.field(field).name)
}

pub(super) fn not_there(table: &str, id: &RowId) -> Error {
    Error::new(ErrorKind::Row, format!("{table} {id} is not there"))
}
