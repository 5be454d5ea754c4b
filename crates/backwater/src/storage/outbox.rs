//! What goes to the storage: the dirty rows since the last batch that it took.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::batch::{Batch, BatchSide, Put, TableWrites};
use super::expired::{Gone, LeftOut};
use super::form::{Form, Hash};
use super::load::{Rows, set_times};
use super::loaded::{LoadedTables, TableDigest};
use super::{migrate, retained};
use crate::error::Result;
use crate::schema::TableNo;
use crate::sorting;
use crate::table::{ONLY, Slot, State, Times, row_key};

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
    left_out: Vec<(TableNo, usize)>,
}

/// Tables, and what the storage holds of them.
struct Side {
    form: Arc<Form>,
    /// What the storage holds.
    stored: Arc<State>,
    digests: Vec<TableDigest>,
    /// For tables that have them, the times that the storage has of each slot's row.
    times: Vec<Vec<Times>>,
    /// Rows that the storage has, and that were left out when they were read.
    gone: Vec<(TableNo, Vec<Gone>)>,
    /// Rows that changed since; one may stand here more than once.
    dirty: Vec<(TableNo, Slot)>,
    /// Rows of `stored` that the storage does not have all the same.
    missing: BTreeSet<(TableNo, Slot)>,
    /// Tables that are rewritten as a whole.
    rebuilt: BTreeSet<TableNo>,
}

/// Rows of tables that were loaded from the storage.
pub(super) struct Loaded {
    /// The version with these rows, as the storage has them.
    pub(super) state: Arc<State>,
    /// The rows that commits had changed until then.
    pub(super) changed: Vec<(TableNo, Slot)>,
}

impl Side {
    fn new(held: LoadedTables) -> Self {
        let LoadedTables { form, state: stored, digests, times } = held;
        let (missing, rebuilt, gone) = (BTreeSet::new(), BTreeSet::new(), Vec::new());
        Self { form, stored, digests, times, gone, dirty: Vec::new(), missing, rebuilt }
    }

    fn note_missing(&mut self, table: TableNo, slot: Slot) {
        if self.form.table(table).persists {
            self.dirty.push((table, slot));
            self.missing.insert((table, slot));
        }
    }

    /// What takes the stored tables to a version.
    fn batch(&mut self, now: &Arc<State>) -> BatchSide {
        let (form, digests) = (self.form.clone(), self.digests.clone());
        let mut batch = BatchSide { form, now: now.clone(), digests, tables: Vec::new() };
        // A row that was not to be stored may be by now, without having changed.
        self.dirty.extend(&self.missing);
        sorting::by_key(&mut self.dirty, |row| row_key(*row));
        self.dirty.dedup();
        for dirty in self.dirty.chunk_by(|a, b| a.0 == b.0) {
            let table = dirty[0].0;
            if self.rebuilt.contains(&table) {
                continue;
            }
            let mut writes = TableWrites { table, deletes: Vec::new(), puts: Vec::new() };
            for &(_, slot) in dirty {
                self.compare(now, table, slot, &mut writes, &mut batch.digests[table.index()]);
            }
            if !writes.puts.is_empty() || !writes.deletes.is_empty() {
                batch.tables.push(writes);
            }
        }
        for (table, gone) in self.gone.iter().filter(|(table, _)| !self.rebuilt.contains(table)) {
            let table = *table;
            let digest = &mut batch.digests[table.index()];
            for row in gone {
                digest.rows -= 1;
                digest.hash.subtract(row.hash);
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
            let stored = rows.iter().filter(|slot| !rows.is_unstored(*slot));
            let puts: Vec<Put> = stored.map(|slot| (slot, rows.times(slot))).collect();
            let digest = &mut batch.digests[table.index()];
            *digest = TableDigest { rows: puts.len() as u64, hash: Hash::default() };
            let hash = |(slot, times): &Put| self.form.hash(now, *table, *slot, *times);
            puts.iter().for_each(|put| digest.hash.add(hash(put)));
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
        digest: &mut TableDigest,
    ) {
        let is_stored =
            self.stored.table(table).is_row(slot) && !self.missing.contains(&(table, slot));
        let known = self.times[table.index()].get(slot.0 as usize).copied().unwrap_or_default();
        let was = is_stored.then(|| self.form.hash(&self.stored, table, slot, known));
        // They may move on while the batch is written.
        let times = now.table(table).times(slot);
        let is_to_be = now.table(table).is_row(slot) && !now.table(table).is_unstored(slot);
        let is = is_to_be.then(|| self.form.hash(now, table, slot, times));
        if was == is {
            return;
        }
        if let Some(hash) = was {
            digest.rows -= 1;
            digest.hash.subtract(hash);
            let old = self.stored.id(table, slot);
            if is.is_none() || now.id(table, slot) != old {
                writes.deletes.extend(old.map(|id| id.to_id()));
            }
        }
        if let Some(hash) = is {
            digest.rows += 1;
            digest.hash.add(hash);
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
        self.digests = batch.digests;
        self.gone.clear();
        self.rebuilt.clear();
        self.holds(batch.now);
    }

    /// The storage holds this version, without the rows that must not be stored.
    fn holds(&mut self, now: Arc<State>) {
        self.dirty.clear();
        self.missing.clear();
        for table in now.schema.table_numbers() {
            let rows = now.table(table);
            self.missing.extend(rows.unstored().map(|slot| (table, slot)));
        }
        self.stored = now;
    }
}

impl Outbox {
    /// For a storage that holds this, with `commit` as its last; `None` if it holds nothing yet.
    pub(crate) fn new(
        main: LoadedTables,
        retained: LoadedTables,
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
            left_out: Vec::new(),
        };
        // The row of a one-row table is always there, also when the storage has never had it.
        let schema = outbox.main.stored.schema.clone();
        for table in schema.table_numbers() {
            if schema.table(table).is_one_row() && outbox.main.digests[table.index()].rows == 0 {
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
        let known = self.main.digests.len();
        self.main.form = Arc::new(Form::of(schema));
        self.main.stored = Arc::new(self.main.stored.extended(schema.clone()));
        self.main.digests.resize(schema.tables.len(), TableDigest::default());
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
        let (restored, retained_rows) = migrate::restore(now, known, &self.retained_rows)?;
        for table in schema.table_numbers().skip(known) {
            self.note(restored.table(table).iter().map(|slot| (table, slot)).collect::<Vec<_>>());
        }
        self.set_retained(Arc::new(retained_rows));
        Ok(Arc::new(restored))
    }

    /// Notes what the storage has of a table that is not loaded yet.
    pub(super) fn note_read(&mut self, table: TableNo, (digest, times): (TableDigest, Vec<Times>)) {
        self.main.digests[table.index()] = digest;
        self.main.times[table.index()] = times;
        self.main.gone.retain(|(of, _)| *of != table);
    }

    /// Takes note of rows that were left out when tables were read.
    pub(super) fn note_left_out(&mut self, left: LeftOut) {
        for (table, rows) in left.gone {
            self.left_out.retain(|(of, _)| *of != table);
            self.left_out.push((table, rows.len()));
            self.main.gone.retain(|(of, _)| *of != table);
            self.main.gone.push((table, rows));
        }
        sorting::few(&mut self.left_out, |(a, _), (b, _)| a < b);
        self.main.dirty.extend(left.dated);
    }

    /// How many rows were left out of each table when it was read.
    pub(super) fn left_out(&self) -> impl Iterator<Item = (TableNo, usize)> {
        self.left_out.iter().copied()
    }

    /// The last commit that the storage holds.
    pub(super) fn stored_commit(&self) -> u64 {
        self.stored_commit
    }

    /// What the storage holds of a table: how many rows, and their hash.
    pub(super) fn digest(&self, table: TableNo) -> (u64, Hash) {
        let TableDigest { rows, hash } = self.main.digests[table.index()];
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
        self.main.digests.fill(TableDigest::default());
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
        let is_kept_back = |(table, slot): &(TableNo, Slot)| {
            !now.table(*table).is_row(*slot) || now.table(*table).is_unstored(*slot)
        };
        debug_assert!(
            self.main.missing.iter().all(is_kept_back),
            "a missing row is something to write"
        );
        self.main.holds(now.clone());
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
