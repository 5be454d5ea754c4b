//! What waits for the storage: the dirty rows since the last batch that it took.

use std::collections::BTreeSet;
use std::fmt;
use std::sync::Arc;

use super::form::{Form, Hash, Stored, stored};
use crate::change::Changes;
use crate::schema::{Schema, TableNo};
use crate::table::{Cell, ONLY, Slot, State};
use crate::value::RowId;

/// The dirty rows of a cache, and the version of the tables that its storage holds.
pub(crate) struct Outbox {
    form: Arc<Form>,
    /// What the storage holds.
    stored: Arc<State>,
    totals: Vec<Total>,
    stored_commit: u64,
    /// Whether the storage was ever written.
    exists: bool,
    /// Whether the storage has this very schema, text and all.
    knows_schema: bool,
    dirty: BTreeSet<(TableNo, Slot)>,
    /// Rows of `stored` that the storage does not have all the same.
    missing: BTreeSet<(TableNo, Slot)>,
}

/// How many rows a stored table has, and their hash.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Total {
    pub(crate) rows: u64,
    pub(crate) hash: Hash,
}

impl Outbox {
    /// For a storage that holds this version, with `commit` as its last; `None` if it holds
    /// nothing yet.
    pub(crate) fn new(
        form: Arc<Form>,
        stored: Arc<State>,
        totals: Vec<Total>,
        commit: Option<u64>,
        knows_schema: bool,
    ) -> Self {
        Self {
            form,
            stored,
            totals,
            stored_commit: commit.unwrap_or(0),
            exists: commit.is_some(),
            knows_schema,
            dirty: BTreeSet::new(),
            missing: BTreeSet::new(),
        }
    }

    /// Takes note of tables that were declared.
    pub(crate) fn extend(&mut self, schema: &Arc<Schema>) {
        let known = self.totals.len();
        self.form = Arc::new(Form::of(schema));
        self.stored = Arc::new(self.stored.extended(schema.clone()));
        self.totals.resize(schema.tables.len(), Total::default());
        self.knows_schema = false;
        for table in schema.table_numbers().skip(known) {
            if schema.table(table).is_one_row() {
                self.note_missing(table, ONLY);
            }
        }
    }

    /// Takes note of what a commit changed.
    pub(crate) fn note(&mut self, changes: &Changes) {
        let persists = changes.rows.iter().filter(|row| self.form.table(row.table).persists);
        self.dirty.extend(persists.map(|row| (row.table, row.slot)));
    }

    /// Takes note of a row that the storage does not have, although it has the version around it.
    pub(crate) fn note_missing(&mut self, table: TableNo, slot: Slot) {
        if self.form.table(table).persists {
            self.dirty.insert((table, slot));
            self.missing.insert((table, slot));
        }
    }

    /// The batch that takes the storage to a commit, unless it lacks nothing.
    pub(crate) fn batch(&self, now: &Arc<State>, commit: u64) -> Option<Batch> {
        let mut batch = Batch {
            form: self.form.clone(),
            now: now.clone(),
            stored_commit: self.stored_commit,
            commit,
            first: !self.exists,
            schema_changed: !self.knows_schema,
            totals: self.totals.clone(),
            tables: Vec::new(),
        };
        for table in now.schema.table_numbers() {
            let mut writes = TableWrites { table, ..TableWrites::default() };
            for &(_, slot) in self.dirty.range((table, Slot(0))..=(table, Slot(u32::MAX))) {
                self.compare(now, table, slot, &mut writes, &mut batch.totals[table.index()]);
            }
            if !writes.puts.is_empty() || !writes.deletes.is_empty() {
                batch.tables.push(writes);
            }
        }
        (batch.schema_changed || !batch.tables.is_empty()).then_some(batch)
    }

    /// What a dirty slot needs to be written, if anything.
    fn compare(
        &self,
        now: &State,
        table: TableNo,
        slot: Slot,
        writes: &mut TableWrites,
        total: &mut Total,
    ) {
        let is_stored =
            self.stored.table(table).is_row(slot) && !self.missing.contains(&(table, slot));
        let was = is_stored.then(|| self.form.hash(&self.stored, table, slot));
        let is = now.table(table).is_row(slot).then(|| self.form.hash(now, table, slot));
        if was == is {
            return;
        }
        let old_id = self.stored.id(table, slot).map(|id| id.to_id());
        let new_id = now.id(table, slot).map(|id| id.to_id());
        if let Some(hash) = was {
            total.rows -= 1;
            total.hash.subtract(hash);
            if let Some(id) = old_id
                && (is.is_none() || new_id != Some(id.clone()))
            {
                writes.deletes.push(id);
            }
        }
        if let Some(hash) = is {
            total.rows += 1;
            total.hash.add(hash);
            writes.puts.push(slot);
        }
    }

    /// What changed does not persist: the storage holds this version as well as the one before.
    pub(crate) fn nothing_to_write(&mut self, now: &Arc<State>) {
        debug_assert!(self.missing.is_empty(), "a missing row is something to write");
        self.stored = now.clone();
        self.dirty.clear();
    }

    /// The storage took a batch.
    pub(crate) fn done(&mut self, batch: Batch) {
        self.stored = batch.now;
        self.totals = batch.totals;
        self.stored_commit = batch.commit;
        self.exists = true;
        self.knows_schema = true;
        self.dirty.clear();
        self.missing.clear();
    }
}

/// What takes a storage from one commit boundary to a later one.
///
/// See [`Loader`](super::Loader) for an example of a whole storage.
pub struct Batch {
    form: Arc<Form>,
    now: Arc<State>,
    stored_commit: u64,
    commit: u64,
    first: bool,
    schema_changed: bool,
    totals: Vec<Total>,
    tables: Vec<TableWrites>,
}

struct TableWrites {
    table: TableNo,
    deletes: Vec<RowId>,
    puts: Vec<Slot>,
}

impl Default for TableWrites {
    fn default() -> Self {
        Self { table: TableNo(0), deletes: Vec::new(), puts: Vec::new() }
    }
}

impl Batch {
    #[cfg(all(test, feature = "sqlite"))]
    pub(crate) fn image(state: &Arc<State>) -> Self {
        let form = Arc::new(Form::whole(&state.schema));
        let puts = |table: TableNo| TableWrites {
            table,
            deletes: Vec::new(),
            puts: state.table(table).iter().collect(),
        };
        Self {
            form,
            now: state.clone(),
            stored_commit: 0,
            commit: 1,
            first: true,
            schema_changed: true,
            totals: vec![Total::default(); state.schema.tables.len()],
            tables: state.schema.table_numbers().map(puts).collect(),
        }
    }

    /// The commit that the storage holds now, 0 for none.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn from_commit(&self) -> u64 {
        self.stored_commit
    }

    /// The commit that the storage holds afterwards.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn commit(&self) -> u64 {
        self.commit
    }

    /// Whether the storage holds nothing yet.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn is_first(&self) -> bool {
        self.first
    }

    /// The schema, if the storage does not have it in this text yet.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn new_schema(&self) -> Option<&Schema> {
        self.schema_changed.then_some(&*self.now.schema)
    }

    /// The tables in which rows are written or deleted.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn tables(&self) -> impl Iterator<Item = TableBatch<'_>> {
        self.tables.iter().map(|writes| TableBatch { batch: self, writes })
    }

    #[cfg(feature = "sqlite")]
    pub(crate) fn schema(&self) -> &Schema {
        &self.now.schema
    }

    #[cfg(feature = "sqlite")]
    pub(crate) fn form(&self) -> &Form {
        &self.form
    }
}

impl fmt::Debug for Batch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Batch({} -> {}, {} tables)", self.stored_commit, self.commit, self.tables.len())
    }
}

/// The rows of one table that a [`Batch`] deletes and writes. The deletes come first.
#[derive(Clone, Copy)]
pub struct TableBatch<'b> {
    batch: &'b Batch,
    writes: &'b TableWrites,
}

impl<'b> TableBatch<'b> {
    /// The table's name.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn name(&self) -> &'b str {
        &self.batch.now.schema.table(self.writes.table).name
    }

    /// The ids of the rows to delete.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn deletes(&self) -> &'b [RowId] {
        &self.writes.deletes
    }

    /// The rows to write, in the place of any with the same id; a one-row table's row in the place
    /// of the one that is there.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn puts(&self) -> impl Iterator<Item = StoredRow<'b>> + use<'b> {
        let (batch, table) = (self.batch, self.writes.table);
        self.writes.puts.iter().map(move |slot| StoredRow { batch, table, slot: *slot })
    }

    /// How many rows the table has afterwards.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn rows(&self) -> u64 {
        self.batch.totals[self.writes.table.index()].rows
    }

    /// The table's hash afterwards.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn hash(&self) -> Hash {
        self.batch.totals[self.writes.table.index()].hash
    }

    #[cfg(feature = "sqlite")]
    pub(crate) fn number(&self) -> TableNo {
        self.writes.table
    }
}

/// A row to write, in the storage form.
#[derive(Clone, Copy)]
pub struct StoredRow<'b> {
    batch: &'b Batch,
    table: TableNo,
    slot: Slot,
}

impl<'b> StoredRow<'b> {
    /// The row's id; a one-row table's row has none.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn id(&self) -> Option<Stored<'b>> {
        self.batch.now.id(self.table, self.slot).map(Stored::from)
    }

    /// The values of the fields that persist, in the schema's order, each with the field's name.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn values(&self) -> impl Iterator<Item = (&'b str, Stored<'b>)> + use<'b> {
        let row = *self;
        let state = &row.batch.now;
        row.batch.form.table(row.table).fields.iter().map(move |field| {
            let cell = state.table(row.table).cell(row.slot, *field);
            (
                &*state.schema.table(row.table).field(*field).name,
                stored(state, row.table, *field, cell),
            )
        })
    }

    /// The names of the fields that persist but are absent in this row.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn absent(&self) -> impl Iterator<Item = &'b str> + use<'b> {
        let row = *self;
        let state = &row.batch.now;
        let fields = row.batch.form.table(row.table).fields.iter();
        let absent = fields
            .filter(move |field| state.table(row.table).cell(row.slot, **field) == Cell::Absent);
        absent.map(move |field| &*state.schema.table(row.table).field(*field).name)
    }
}
