//! A transaction: writes applied to a version of its own, which is kept or dropped as a whole.

use std::sync::Arc;

use smallvec::SmallVec;

use super::again::WrittenAgain;
use super::on_demand::OnDemand;
use super::overlay::Covering;
use super::savepoint::{SavedRows, Savepoint};
use super::touched::TouchedRows;
use super::withdraw::Withdrawal;
use super::{Changes, History, Ingested, Remembered};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldNo, Schema, TableDef, TableNo, TableOrigin, table_set};
use crate::table::{Cell, ONLY, Row, Slot, State};
use crate::table::{Staged, StagedRow};
use crate::value::{Named, RowId};

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
    pub(super) before: Arc<State>,
    pub(crate) state: State,
    pub(super) touched: TouchedRows,
    pub(crate) ingested: Vec<Ingested>,
    pub(crate) history: Arc<History>,
    /// What ingest of short responses remembers from commit to commit.
    pub(crate) remembered: Remembered,
    pub(super) on_demand: Option<Arc<dyn OnDemand>>,
    /// The tables that were loaded while it went on.
    pub(super) rehydrated: Vec<TableNo>,
    /// Rows that were merged, whether or not that changed them, of tables that keep it when that
    /// was.
    pub(crate) received: Vec<(TableNo, Slot)>,
    pub(crate) again: WrittenAgain,
    /// The commit that it withdraws, or restores.
    pub(super) withdrawal: Option<Withdrawal>,
    /// Whether rows get what they had before a withdrawn commit.
    pub(super) withdraws: bool,
    pub(super) covering: Covering,
    /// What it goes back to if the response that is read fails.
    pub(super) saved: Option<Savepoint>,
    pub(super) saved_rows: SavedRows,
    /// Whether a row was written since.
    pub(crate) has_written: bool,
    /// Rows that were deleted, whether or not they were there.
    pub(crate) gone: Vec<(TableNo, RowId)>,
}

/// What merging fields into a row did.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Merged {
    pub(crate) is_new: bool,
    /// Whether a field of a row that was there has another value now.
    pub(crate) changed: bool,
    /// Whether that field had one before, or another row has lost a key to this one.
    pub(crate) overwrote: bool,
}

impl Transaction {
    pub(crate) fn new(before: Arc<State>, history: Arc<History>, remembered: Remembered) -> Self {
        let state = State::clone(&before);
        let (ingested, on_demand) = (Vec::new(), None);
        let (rehydrated, received) = (Vec::new(), Vec::new());
        let (again, withdrawal) = (WrittenAgain::default(), None);
        let covering = Covering::default();
        Self {
            before,
            state,
            touched: TouchedRows::default(),
            ingested,
            history,
            remembered,
            on_demand,
            rehydrated,
            received,
            again,
            withdrawal,
            withdraws: false,
            covering,
            saved: None,
            saved_rows: SavedRows::default(),
            has_written: false,
            gone: Vec::new(),
        }
    }

    /// The rows that it received, of tables that record when that was.
    pub(crate) fn take_received(&mut self) -> Vec<(TableNo, Slot)> {
        std::mem::take(&mut self.received)
    }

    /// What it withdraws, if it does.
    pub(crate) fn take_withdrawal(&mut self) -> Option<Withdrawal> {
        self.withdrawal.take()
    }

    /// Keeps the rows from being stored that were not there when the tables were saved.
    pub(crate) fn keep_back(&mut self) {
        for (table, slot) in self.inserted_since_saved() {
            self.state.table_mut(table).set_unstored(slot, true);
        }
    }

    /// Whether rows of a table are kept from being stored.
    pub(crate) fn has_unstored(&self, table: TableNo) -> bool {
        self.state.table(table).has_unstored()
    }

    /// Rows that were kept from being stored may be from now on.
    pub(crate) fn let_be_stored(&mut self, number: TableNo, slots: impl Iterator<Item = Slot>) {
        let kept: Vec<Slot> =
            slots.filter(|slot| self.state.table(number).is_unstored(*slot)).collect();
        for slot in kept {
            self.about_to_write((number, slot));
            self.state.table_mut(number).set_unstored(slot, false);
        }
    }

    /// Ends the transaction: what it changed, between the version it began from and its own.
    pub(crate) fn finish(mut self) -> (Changes, Vec<Ingested>) {
        let renamed = self.take_renamed();
        let (base, known) = self.end_covering();
        self.state.hand_over_free_slots();
        let after = Arc::new(self.state);
        let changes = match known {
            Some(rows) => Changes::of(rows, self.before, after, self.again),
            None => Changes::between(self.before, after, &self.touched, self.again),
        };
        (changes.over(base).with_renamed(renamed).with_gone(self.gone), self.ingested)
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
        self.lift_at(number, slot);
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
        let Some(slot) = self.find_uncovered(number, &id)? else {
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
        self.load(|schema| table_set(schema.with_entries(number)))?;
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
        let id = id.into();
        if self.definition(number).is_own()
            && let Some(noted) = self.before.noted()
        {
            let (state, slot) = (&*noted.state, noted.state.slot(number, &id)?);
            let slot = slot.filter(|slot| state.table(number).is_row(*slot));
            return Ok(slot.map(|slot| Row { state, table: number, slot }));
        }
        let slot = self.state.slot(number, &id)?;
        Ok(slot.and_then(|slot| {
            let state = self.version_of(number, slot);
            state.table(number).is_row(slot).then_some(Row { state, table: number, slot })
        }))
    }

    /// The slot of a row that is there.
    pub(crate) fn find(&self, table: TableNo, id: &RowId) -> Result<Option<Slot>> {
        let slot = self.state.slot(table, id)?;
        Ok(slot.filter(|slot| self.state.table(table).is_row(*slot)))
    }

    /// The same of a row that is about to be written, with no pending changes over it.
    pub(super) fn find_uncovered(&mut self, table: TableNo, id: &RowId) -> Result<Option<Slot>> {
        let Some(slot) = self.state.slot(table, id)? else { return Ok(None) };
        self.lift_at(table, slot);
        Ok(Some(slot).filter(|slot| self.state.table(table).is_row(*slot)))
    }

    /// The slot of a key that something refers to, whether or not its row is there.
    pub(crate) fn refer(&mut self, table: TableNo, key: &[Cell<'_>]) -> Slot {
        self.state.refer(table, key)
    }

    pub(super) fn definition(&self, table: TableNo) -> &TableDef {
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
        if self.definition(number).is_own() {
            self.write_notes();
        }
        match self.definition(number).made {
            TableOrigin::Declared => {
                self.load(|schema| table_set(schema.with_entries(number))).map(|()| number)
            }
            TableOrigin::List => {
                let message = format!("\"{name}\" is the list that responses of a rule fill");
                Err(Error::new(ErrorKind::Row, message).help("ingest a response by that rule"))
            }
            TableOrigin::Entries { owner, field } => {
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
        if self.state.overlay.is_some() {
            self.lift_for(table, slot, fields);
        }
        self.note_below((table, slot), fields);
        let cells: SmallVec<[(FieldNo, Cell<'_>); 8]> =
            fields.iter().map(|(field, staged)| (*field, staged.cell())).collect();
        let mut merged = Merged { is_new: false, changed: false, overwrote: false };
        if self.state.table(table).keeps_times() && !self.writes_pending() {
            self.received.push((table, slot));
        }
        let old = self.state.table(table).row(slot);
        match &old {
            None => merged.is_new = true,
            Some(old) => cells.iter().for_each(|(field, cell)| {
                let old = old.cell(*field);
                if old != *cell {
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
        if self.history.is_recent(table, slot)
            && !self.state.schema.is_entries(table)
            && !self.writes_pending()
        {
            self.again.add((table, slot), fields.iter().map(|(field, _)| *field).collect());
        }
        if merged.is_new || merged.changed {
            self.about_to_write((table, slot));
            self.state.table_mut(table).merge(slot, &cells);
            if !self.state.schema.table(table).unique.is_empty()
                && !self.writes_pending()
                && !self.withdraws
            {
                merged.overwrote |= self.take_keys(table, slot, fields);
            }
        }
        merged
    }

    /// Leaves out of a row's staged fields what is older than the row: older news fills only
    /// fields that are absent. Returns whether they are older.
    pub(crate) fn leave_out_older(
        &mut self,
        table: TableNo,
        slot: Slot,
        version: FieldNo,
        fields: &mut StagedRow<'_>,
    ) -> bool {
        let Some(row) = self.state.table(table).row(slot) else { return false };
        let news = fields.iter().rev().find(|(field, _)| *field == version);
        let older = news.is_some_and(|(_, news)| news.cell().is_before(&row.cell(version)));
        if older {
            fields.retain(|(field, _)| row.cell(*field) == Cell::Absent);
            self.note_older(table, slot);
        }
        older
    }

    /// Whether all that was changed after a commit is remembered.
    #[cfg(feature = "remote")]
    pub(crate) fn remembers_since(&self, commit: u64) -> bool {
        self.history.remembers_since(commit)
    }

    /// Whether a row is not there, and was deleted after a commit.
    #[cfg(feature = "remote")]
    pub(crate) fn is_deleted_since(&self, commit: u64, (table, slot): (TableNo, Slot)) -> bool {
        !self.state.table(table).is_row(slot)
            && self.history.since(commit).has_changed(&self.state, table, slot)
    }

    /// Whether staged fields are of a version that their row had, or had left behind, when it was
    /// deleted.
    pub(crate) fn is_before_deletion(
        &self,
        table: TableNo,
        slot: Slot,
        fields: &StagedRow<'_>,
    ) -> bool {
        let Some(version) = self.definition(table).version else { return false };
        if self.state.table(table).is_row(slot) {
            return false;
        }
        let news = fields.iter().rev().find(|(field, _)| *field == version);
        let id = self.state.id(table, slot).map(|id| id.to_id());
        news.zip(id)
            .is_some_and(|((_, news), id)| self.history.has_deleted(table, &id, &news.cell()))
    }
}

pub(super) fn not_there(table: &str, id: &RowId) -> Error {
    Error::new(ErrorKind::Row, format!("{table} {id} is not there"))
}
