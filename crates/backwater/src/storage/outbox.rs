//! What goes to the storage: the dirty rows since the last batch that it took.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::sync::Arc;

use super::dirty_log::Loaded;
use super::expired::{Gone, LeftOut};
use super::form::{Form, Hash, Stored, StoredTable, stored, stored_times};
use super::load::{Rows, set_times};
use super::{migrate, retained};
use crate::error::Result;
use crate::schema::{FieldNo, Schema, TableNo};
use crate::table::{Cell, ONLY, Slot, State, Times};
use crate::value::RowId;

/// The dirty rows of a cache, and the version of the tables that its storage holds.
pub(crate) struct Outbox {
    main: Side,
    /// What is retained, which no version of the tables has.
    retained: Side,
    retained_rows: Arc<State>,
    stored_commit: u64,
    /// The number of the last step that was applied to the stored rows.
    step: u32,
    /// Whether the storage was ever written.
    exists: bool,
    /// Whether the storage has this very schema, text and all.
    knows_schema: bool,
    /// Stored tables that are to go as a whole.
    dropped: Vec<String>,
    /// How many rows were left out of each table when it was read.
    left_out: BTreeMap<TableNo, usize>,
}

/// Tables, and what the storage holds of them.
struct Side {
    form: Arc<Form>,
    /// What the storage holds.
    stored: Arc<State>,
    totals: Vec<Total>,
    /// For tables that have them, the times that the storage has of each slot's row.
    times: Vec<Vec<Times>>,
    /// Rows that the storage has, and that were left out when they were read.
    gone: BTreeMap<TableNo, Vec<Gone>>,
    /// Rows that changed since; one may stand here more than once.
    dirty: Vec<(TableNo, Slot)>,
    /// Rows of `stored` that the storage does not have all the same.
    missing: BTreeSet<(TableNo, Slot)>,
    /// Tables that are rewritten as a whole.
    rebuilt: BTreeSet<TableNo>,
}

/// How many rows a stored table has, and their hash.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Total {
    pub(crate) rows: u64,
    pub(crate) hash: Hash,
}

/// Tables as they are read from a storage.
pub(crate) struct Held {
    pub(crate) form: Arc<Form>,
    pub(crate) state: Arc<State>,
    pub(crate) totals: Vec<Total>,
    pub(crate) times: Vec<Vec<Times>>,
}

impl Side {
    fn new(held: Held) -> Self {
        let Held { form, state: stored, totals, times } = held;
        let (missing, rebuilt, gone) = (BTreeSet::new(), BTreeSet::new(), BTreeMap::new());
        Self { form, stored, totals, times, gone, dirty: Vec::new(), missing, rebuilt }
    }

    fn note_missing(&mut self, table: TableNo, slot: Slot) {
        if self.form.table(table).persists {
            self.dirty.push((table, slot));
            self.missing.insert((table, slot));
        }
    }

    /// What takes the stored tables to a version.
    fn batch(&mut self, now: &Arc<State>) -> BatchSide {
        let (form, totals) = (self.form.clone(), self.totals.clone());
        let mut batch = BatchSide { form, now: now.clone(), totals, tables: Vec::new() };
        self.dirty.sort_unstable();
        self.dirty.dedup();
        for dirty in self.dirty.chunk_by(|a, b| a.0 == b.0) {
            let table = dirty[0].0;
            if self.rebuilt.contains(&table) {
                continue;
            }
            let mut writes = TableWrites { table, deletes: Vec::new(), puts: Vec::new() };
            for &(_, slot) in dirty {
                self.compare(now, table, slot, &mut writes, &mut batch.totals[table.index()]);
            }
            if !writes.puts.is_empty() || !writes.deletes.is_empty() {
                batch.tables.push(writes);
            }
        }
        for (&table, gone) in self.gone.iter().filter(|(table, _)| !self.rebuilt.contains(table)) {
            let total = &mut batch.totals[table.index()];
            for row in gone {
                total.rows -= 1;
                total.hash.subtract(row.hash);
            }
            let deletes = gone.iter().map(|row| row.id.clone());
            match batch.tables.iter_mut().find(|writes| writes.table == table) {
                Some(writes) => writes.deletes.extend(deletes),
                None => {
                    let (deletes, puts) = (deletes.collect(), Vec::new());
                    batch.tables.push(TableWrites { table, deletes, puts });
                }
            }
        }
        for table in &self.rebuilt {
            let rows = now.table(*table);
            let puts: Vec<Put> = rows.iter().map(|slot| (slot, rows.times(slot))).collect();
            let total = &mut batch.totals[table.index()];
            *total = Total { rows: puts.len() as u64, hash: Hash::default() };
            let hash = |(slot, times): &Put| self.form.hash(now, *table, *slot, *times);
            puts.iter().for_each(|put| total.hash.add(hash(put)));
            if !puts.is_empty() {
                batch.tables.push(TableWrites { table: *table, deletes: Vec::new(), puts });
            }
        }
        batch
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
        let known = self.times[table.index()].get(slot.0 as usize).copied().unwrap_or_default();
        let was = is_stored.then(|| self.form.hash(&self.stored, table, slot, known));
        // They may move on while the batch is written.
        let times = now.table(table).times(slot);
        let is = now.table(table).is_row(slot).then(|| self.form.hash(now, table, slot, times));
        if was == is {
            return;
        }
        if let Some(hash) = was {
            total.rows -= 1;
            total.hash.subtract(hash);
            let old = self.stored.id(table, slot);
            if is.is_none() || now.id(table, slot) != old {
                writes.deletes.extend(old.map(|id| id.to_id()));
            }
        }
        if let Some(hash) = is {
            total.rows += 1;
            total.hash.add(hash);
            writes.puts.push((slot, times));
        }
    }

    /// The storage took a batch.
    fn done(&mut self, batch: BatchSide) {
        for writes in batch.tables {
            let has_times = self.form.table(writes.table).has_times;
            for (slot, said) in writes.puts.into_iter().filter(|_| has_times) {
                set_times(&mut self.times[writes.table.index()], slot, said);
            }
        }
        self.stored = batch.now;
        self.totals = batch.totals;
        self.gone.clear();
        self.dirty.clear();
        self.missing.clear();
        self.rebuilt.clear();
    }
}

impl Outbox {
    /// For a storage that holds this, with `commit` as its last; `None` if it holds nothing yet.
    pub(crate) fn new(
        main: Held,
        retained: Held,
        commit: Option<u64>,
        step: u32,
        knows_schema: bool,
    ) -> Self {
        let mut outbox = Self {
            retained_rows: retained.state.clone(),
            main: Side::new(main),
            retained: Side::new(retained),
            stored_commit: commit.unwrap_or(0),
            step,
            exists: commit.is_some(),
            knows_schema,
            dropped: Vec::new(),
            left_out: BTreeMap::new(),
        };
        // The row of a one-row table is always there, also when the storage has never had it.
        let schema = outbox.main.stored.schema.clone();
        for table in schema.table_numbers() {
            if schema.table(table).is_one_row() && outbox.main.totals[table.index()].rows == 0 {
                outbox.main.note_missing(table, ONLY);
            }
        }
        outbox
    }

    /// How the tables are stored.
    pub(super) fn form(&self) -> Arc<Form> {
        self.main.form.clone()
    }

    /// Notes that stored tables have another form now: these are dropped, those are rewritten.
    pub(crate) fn rebuild(&mut self, dropped: Vec<String>, rebuilt: BTreeSet<TableNo>, step: u32) {
        self.main.missing.retain(|(table, _)| !rebuilt.contains(table));
        (self.dropped, self.main.rebuilt, self.step) = (dropped, rebuilt, step);
        self.knows_schema = false;
    }

    /// Notes that what is retained was edited, and is to be rewritten.
    pub(crate) fn rebuild_retained(&mut self) {
        self.retained.rebuilt.insert(retained::TABLE);
        self.dropped.push(retained::NAME.to_owned());
        self.knows_schema = false;
    }

    /// Takes note that something else is retained.
    pub(crate) fn set_retained(&mut self, retained_rows: Arc<State>) {
        // There are few: all that were and all that are may have changed.
        let slots = |state: &State| -> Vec<Slot> { state.table(retained::TABLE).iter().collect() };
        let all = slots(&self.retained_rows).into_iter().chain(slots(&retained_rows));
        self.retained.dirty.extend(all.map(|slot| (retained::TABLE, slot)));
        self.retained_rows = retained_rows;
    }

    /// Notes tables that were declared. What was retained of them is restored: returns the version
    /// with it.
    ///
    /// # Errors
    /// If it does not fit.
    pub(crate) fn extend(&mut self, now: &Arc<State>) -> Result<Arc<State>> {
        let schema = &now.schema;
        let known = self.main.totals.len();
        self.main.form = Arc::new(Form::of(schema));
        self.main.stored = Arc::new(self.main.stored.extended(schema.clone()));
        self.main.totals.resize(schema.tables.len(), Total::default());
        self.main.times.resize(schema.tables.len(), Vec::new());
        self.knows_schema = false;
        for table in schema.table_numbers().skip(known) {
            if schema.table(table).is_one_row() {
                self.main.note_missing(table, ONLY);
            }
        }
        if retained::is_empty(&self.retained_rows) {
            return Ok(now.clone());
        }
        let (woken, retained_rows) = migrate::wake(now, known, &self.retained_rows)?;
        for table in schema.table_numbers().skip(known) {
            self.note(woken.table(table).iter().map(|slot| (table, slot)).collect::<Vec<_>>());
        }
        self.set_retained(Arc::new(retained_rows));
        Ok(Arc::new(woken))
    }

    /// Notes what the storage has of a table that is not loaded yet.
    pub(super) fn note_read(&mut self, table: TableNo, (total, times): (Total, Vec<Times>)) {
        self.main.totals[table.index()] = total;
        self.main.times[table.index()] = times;
        self.main.gone.remove(&table);
    }

    /// Takes note of rows that were left out when tables were read.
    pub(super) fn note_left_out(&mut self, left: LeftOut) {
        self.left_out.extend(left.gone.iter().map(|(table, rows)| (*table, rows.len())));
        self.main.gone.extend(left.gone);
        self.main.dirty.extend(left.dated);
    }

    /// How many rows were left out of each table when it was read.
    pub(super) fn left_out(&self) -> impl Iterator<Item = (TableNo, usize)> {
        self.left_out.iter().map(|(table, rows)| (*table, *rows))
    }

    /// The last commit that the storage holds.
    pub(super) fn stored_commit(&self) -> u64 {
        self.stored_commit
    }

    /// What the storage holds of a table: how many rows, and their hash.
    pub(super) fn total(&self, table: TableNo) -> (u64, Hash) {
        let Total { rows, hash } = self.main.totals[table.index()];
        (rows, hash)
    }

    /// Takes note that another program has written, and of the version with that.
    pub(super) fn note_followed(&mut self, state: Arc<State>, commit: u64) {
        (self.main.stored, self.stored_commit) = (state, commit);
    }

    /// Notes rows that were loaded from the storage: what it holds is the version that has them,
    /// but for what commits had changed by then.
    pub(super) fn note_loaded(&mut self, loaded: Loaded) {
        let changed = self.main.dirty.iter().copied().chain(loaded.changed);
        self.main.stored = Arc::new(loaded.state.with_rows_of(&self.main.stored, changed));
    }

    /// Notes tables that are to be rewritten, as their rows are not those that were written.
    pub(super) fn rebuild_tables(&mut self, tables: impl IntoIterator<Item = TableNo>) {
        for table in tables {
            self.dropped.push(self.main.stored.schema.table(table).name.to_string());
            self.main.rebuilt.insert(table);
            self.knows_schema = false;
        }
    }

    /// Notes that the storage is empty, as its content was set aside: all is rewritten.
    pub(super) fn forget_stored(&mut self) {
        let schema = self.main.stored.schema.clone();
        let persists = |table: &TableNo| self.main.form.table(*table).persists;
        self.main.rebuilt = schema.table_numbers().filter(persists).collect();
        self.main.totals.fill(Total::default());
        self.main.gone.clear();
        self.main.missing.clear();
        self.retained_rows = Arc::new(retained::nothing());
        self.retained = Side::new(Rows::new(retained::schema()).into_held());
        self.dropped.clear();
        (self.stored_commit, self.exists, self.knows_schema) = (0, false, false);
    }

    /// The same where all that the storage held is known here, and what is retained as well.
    pub(super) fn rewrite_all(&mut self) {
        let retained_rows = self.retained_rows.clone();
        self.forget_stored();
        self.retained_rows = retained_rows;
        self.retained.rebuilt.insert(retained::TABLE);
    }

    /// Whether the storage holds nothing yet.
    pub(super) fn is_new(&self) -> bool {
        !self.exists
    }

    /// Takes note of rows that changed.
    pub(super) fn note(&mut self, rows: impl IntoIterator<Item = (TableNo, Slot)>) {
        let persists = rows.into_iter().filter(|(table, _)| self.main.form.table(*table).persists);
        self.main.dirty.extend(persists);
    }

    /// Notes rows that commits deleted: what is retained of a row goes with it, whether or not
    /// another one has taken its place.
    pub(super) fn note_deleted(&mut self, rows: impl IntoIterator<Item = (TableNo, Slot)>) {
        if retained::is_empty(&self.retained_rows) {
            return;
        }
        for (table, slot) in rows {
            let Some(id) = self.main.stored.id(table, slot) else { continue };
            let name = &self.main.stored.schema.table(table).name;
            let row = retained::row_id(Some(id.to_id()));
            if let Some(slot) = retained::find(&self.retained_rows, name, &row) {
                Arc::make_mut(&mut self.retained_rows).table_mut(retained::TABLE).delete(slot);
                self.retained.dirty.push((retained::TABLE, slot));
            }
        }
    }

    /// The batch that takes the storage to a commit, unless it lacks nothing.
    pub(crate) fn batch(&mut self, now: &Arc<State>, commit: u64) -> Option<Batch> {
        let main = self.main.batch(now);
        let batch = Batch {
            main,
            retained: self.retained.batch(&self.retained_rows),
            stored_commit: self.stored_commit,
            commit,
            step: self.step,
            first: !self.exists,
            schema_changed: !self.knows_schema,
            dropped: self.dropped.clone(),
        };
        (batch.schema_changed || batch.tables().next().is_some()).then_some(batch)
    }

    /// What changed does not persist: the storage holds this version as well as the one before.
    pub(crate) fn nothing_to_write(&mut self, now: &Arc<State>) {
        debug_assert!(self.main.missing.is_empty(), "a missing row is something to write");
        self.main.stored = now.clone();
        self.main.dirty.clear();
    }

    /// The storage took a batch.
    pub(crate) fn done(&mut self, batch: Batch) {
        self.main.done(batch.main);
        self.retained.done(batch.retained);
        self.stored_commit = batch.commit;
        self.exists = true;
        self.knows_schema = true;
        self.dropped.clear();
    }
}

/// What takes a storage from one commit boundary to a later one.
///
/// A driver does, in this order and all or nothing: it removes the tables that are
/// [dropped](Batch::dropped), with all their rows; takes the new schema, if there is one; deletes and
/// puts the rows of [each table](Batch::tables), and notes how many rows it has then and their hash;
/// and notes [the commit](Batch::commit) and [the step](Batch::step).
///
/// See [`MemoryStorage`](crate::storage::MemoryStorage) for a storage that does so.
pub struct Batch {
    main: BatchSide,
    retained: BatchSide,
    stored_commit: u64,
    commit: u64,
    step: u32,
    first: bool,
    schema_changed: bool,
    dropped: Vec<String>,
}

struct BatchSide {
    form: Arc<Form>,
    now: Arc<State>,
    totals: Vec<Total>,
    tables: Vec<TableWrites>,
}

struct TableWrites {
    table: TableNo,
    deletes: Vec<RowId>,
    puts: Vec<Put>,
}

/// A row to write, with the times that go with it.
type Put = (Slot, Times);

impl Batch {
    #[cfg(all(test, feature = "sqlite"))]
    pub(crate) fn image(state: &Arc<State>) -> Self {
        let side = |form: Form, state: &Arc<State>| {
            let puts = |table: TableNo| TableWrites {
                table,
                deletes: Vec::new(),
                puts: state.table(table).iter().map(|slot| (slot, Times::default())).collect(),
            };
            BatchSide {
                form: Arc::new(form),
                now: state.clone(),
                totals: vec![Total::default(); state.schema.tables.len()],
                tables: state.schema.table_numbers().map(puts).collect(),
            }
        };
        let nothing = Arc::new(retained::nothing());
        Self {
            main: side(Form::whole(&state.schema), state),
            retained: side(Form::of(&nothing.schema), &nothing),
            stored_commit: 0,
            commit: 1,
            step: 0,
            first: true,
            schema_changed: true,
            dropped: Vec::new(),
        }
    }

    /// The commit that the storage holds now, 0 for none. If it holds another one, another program
    /// was there, and nothing must be written.
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

    /// The number of the last [step](crate::CacheBuilder::step) that was applied to the rows; the
    /// storage gives it back in its [`Header`](super::Header).
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn step(&self) -> u32 {
        self.step
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
        self.schema_changed.then_some(&*self.main.now.schema)
    }

    /// Stored tables that go as a whole, before anything else is written. One of them may be among
    /// the tables to write again.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn dropped(&self) -> &[String] {
        &self.dropped
    }

    /// The tables in which rows are written or deleted.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn tables(&self) -> impl Iterator<Item = TableBatch<'_>> {
        let of = |side: &'_ BatchSide| (0..side.tables.len()).collect::<Vec<_>>();
        let tables = [&self.main, &self.retained].map(|side| (side, of(side)));
        tables.into_iter().flat_map(|(side, tables)| {
            tables.into_iter().map(move |table| TableBatch { side, writes: &side.tables[table] })
        })
    }

    /// All tables that the storage has afterwards.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn stored_tables(&self) -> impl Iterator<Item = StoredTable<'_>> {
        [&self.main, &self.retained].into_iter().flat_map(|side| side.form.tables(&side.now.schema))
    }

    #[cfg(feature = "sqlite")]
    pub(crate) fn schema(&self) -> &Schema {
        &self.main.now.schema
    }
}

impl fmt::Debug for Batch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let tables = self.tables().count();
        write!(f, "Batch({} -> {}, {tables} tables)", self.stored_commit, self.commit)
    }
}

/// The rows of one table that a [`Batch`] deletes and writes. Deletes are first.
#[derive(Clone, Copy)]
pub struct TableBatch<'b> {
    side: &'b BatchSide,
    writes: &'b TableWrites,
}

impl<'b> TableBatch<'b> {
    /// The table.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn table(&self) -> StoredTable<'b> {
        StoredTable::new(&self.side.now.schema, &self.side.form, self.writes.table)
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
        let (side, table) = (self.side, self.writes.table);
        let row = move |(slot, times): &Put| StoredRow { side, table, slot: *slot, times: *times };
        self.writes.puts.iter().map(row)
    }

    /// How many rows the table has afterwards.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn rows(&self) -> u64 {
        self.side.totals[self.writes.table.index()].rows
    }

    /// The table's hash afterwards.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn hash(&self) -> Hash {
        self.side.totals[self.writes.table.index()].hash
    }
}

/// A row to write, in the storage form.
#[derive(Clone, Copy)]
pub struct StoredRow<'b> {
    side: &'b BatchSide,
    table: TableNo,
    slot: Slot,
    times: Times,
}

impl<'b> StoredRow<'b> {
    /// The row's id; a one-row table's row has none.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn id(&self) -> Option<RowId> {
        self.side.now.id(self.table, self.slot).map(|id| id.to_id())
    }

    /// The values of the [columns](StoredTable::columns), in their order. What is absent is NULL.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn values(&self) -> impl Iterator<Item = Stored<'b>> + use<'b> {
        self.cells().map(|(value, _)| value)
    }

    /// What the fields hold, with their numbers.
    fn fields(&self) -> impl Iterator<Item = (FieldNo, Cell<'b>)> + use<'b> {
        let row = self.side.now.table(self.table).row(self.slot);
        let fields = self.side.form.table(self.table).fields.iter();
        fields.map(move |field| (*field, row.map_or(Cell::Absent, |row| row.cell(*field))))
    }

    /// When it was received and read, if that is stored.
    fn times(&self) -> impl Iterator<Item = Stored<'b>> + use<'b> {
        let has_times = self.side.form.table(self.table).has_times;
        stored_times(self.times).into_iter().filter(move |_| has_times)
    }

    /// The values of the columns, each with whether its field is absent.
    pub(super) fn cells(&self) -> impl Iterator<Item = (Stored<'b>, bool)> + use<'b> {
        let (now, table) = (&self.side.now, self.table);
        let fields = self
            .fields()
            .map(move |(field, cell)| (stored(now, table, field, cell), cell == Cell::Absent));
        fields.chain(self.times().map(|time| (time, false)))
    }

    /// For each column whether it is NULL, and if so, whether as it is absent.
    #[cfg(feature = "sqlite")]
    pub(super) fn nulls(&self) -> impl Iterator<Item = Option<bool>> + use<'b> {
        let fields = self.fields().map(|(_, cell)| match cell {
            Cell::Absent => Some(true),
            Cell::Null => Some(false),
            _ => None,
        });
        fields.chain(self.times().map(|time| (time == Stored::Null).then_some(false)))
    }

    /// The names of the columns whose fields are absent in this row.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn absent(&self) -> impl Iterator<Item = &'b str> + use<'b> {
        let table = self.side.now.schema.table(self.table);
        let absent = self.fields().filter(|(_, cell)| *cell == Cell::Absent);
        absent.map(move |(field, _)| &*table.field(field).name)
    }
}
