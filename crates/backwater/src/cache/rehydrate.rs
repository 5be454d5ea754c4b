//! Tables that are loaded from the storage while the cache is already in use.

use std::fmt;
use std::ops::RangeFull;
use std::sync::Arc;
#[cfg(feature = "threads")]
use std::{thread, time::Duration};

use super::Cache;
use crate::change::{Changes, Happened, OnDemand, RowChange};
use crate::commit::{CommitKind, Writer};
use crate::error::{Error, ErrorKind, Result};
use crate::query::Query;
use crate::schema::{TableNo, table_set};
use crate::storage::{Damage, Persister, SchemaChange, beyond, expired};
#[cfg(feature = "threads")]
use crate::sync::{Signal, Woken};
use crate::table::{Slot, State};
use crate::trace::Report;
use crate::typed::TypedQuery;
use crate::value::Stopwatch;

/// How often a table is read again because a commit used its ids meanwhile. After that, commits
/// wait.
const ATTEMPTS: usize = 3;

/// How far a cache is that reads some of its tables later; see [`Cache::readiness`]. Its `Display`
/// says it in words.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct Readiness {
    /// The tables that are not loaded yet.
    pub not_loaded: Vec<String>,
    /// How many rows these have; `None` if the storage does not know.
    pub rows: Option<u64>,
    /// How many of them are read so far.
    pub read: u64,
}

impl Readiness {
    /// Whether all tables are loaded.
    ///
    /// See [`Cache::readiness`] for an example.
    pub fn is_ready(&self) -> bool {
        self.not_loaded.is_empty()
    }
}

impl fmt::Display for Readiness {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let tables = match self.not_loaded.as_slice() {
            [] => return f.write_str("ready"),
            [only] => only.clone(),
            more => format!("{} tables", more.len()),
        };
        write!(f, "{tables} not loaded, {}", self.read)?;
        self.rows.iter().try_for_each(|rows| write!(f, " of {rows}"))?;
        f.write_str(" rows read")
    }
}

/// Tables to wait for in [`Cache::rehydrate`](crate::Cache::rehydrate): all of them (`..`), some by
/// their names, or those that a query reads.
///
/// ```
/// # use backwater::{Cache, Schema, storage::MemoryStorage};
/// # let schema = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?;
/// # let cache = Cache::open_with(schema, MemoryStorage::new())?;
/// let ports = cache.query("SELECT code FROM port", ())?;
/// cache.rehydrate(&ports)?;
/// cache.rehydrate(["port"])?;
/// cache.rehydrate(..)?;
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone)]
pub struct TableSet(Tables);

#[derive(Debug, Clone)]
enum Tables {
    All,
    Named(Vec<String>),
    ReadBy(Query),
}

impl From<RangeFull> for TableSet {
    fn from(_: RangeFull) -> Self {
        Self(Tables::All)
    }
}

impl From<&str> for TableSet {
    fn from(name: &str) -> Self {
        Self(Tables::Named(vec![name.to_owned()]))
    }
}

impl<const N: usize> From<[&str; N]> for TableSet {
    fn from(names: [&str; N]) -> Self {
        names[..].into()
    }
}

impl From<&[&str]> for TableSet {
    fn from(names: &[&str]) -> Self {
        Self(Tables::Named(names.iter().map(|name| (*name).to_owned()).collect()))
    }
}

impl From<Vec<String>> for TableSet {
    fn from(names: Vec<String>) -> Self {
        Self(Tables::Named(names))
    }
}

impl From<&Query> for TableSet {
    fn from(query: &Query) -> Self {
        Self(Tables::ReadBy(query.clone()))
    }
}

impl<T> From<&TypedQuery<T>> for TableSet {
    fn from(query: &TypedQuery<T>) -> Self {
        Self(Tables::ReadBy((**query).clone()))
    }
}

/// What was done to the stored rows when a cache was opened; see
/// [`Cache::opening`](crate::Cache::opening).
///
/// ```
/// use std::time::Duration;
///
/// use backwater::{Cache, Schema, clock::SetClock, storage::MemoryStorage};
///
/// let (memory, clock) = (MemoryStorage::new(), SetClock::at("2031-05-04T12:00:00Z".parse()?));
/// let schema = Schema::parse("s.toml", r#"
///     table.port = { id = "code", expires_after = "7 days", fields = { code = "text" } }
/// "#)?;
/// let open = || Cache::builder().schema(schema.clone()).storage(memory.clone()).clock(clock.clone()).build();
/// open()?.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
///
/// clock.advance(Duration::from_secs(7 * 86_400));
/// let cache = open()?;
/// assert_eq!(cache.snapshot().count("port")?, 0);
/// assert_eq!(cache.opening().left_out, [("port".to_owned(), 1)]);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone)]
#[non_exhaustive]
pub struct Opening {
    /// What was done to the rows because the cache's schema is another one than that which they
    /// were written with.
    pub schema_changes: Vec<SchemaChange>,
    /// What was found damaged, and what was done about it.
    pub damage: Option<Damage>,
    /// Of which tables rows were left out because they were received longer ago than the table's
    /// `expires_after`, and how many.
    pub left_out: Vec<(String, usize)>,
}

impl Cache {
    /// How far the cache is with loading its tables. Without
    /// [`CacheBuilder::load_first`](crate::CacheBuilder::load_first), all are loaded from the
    /// start.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, storage::MemoryStorage};
    /// # let memory = MemoryStorage::new();
    /// # let schema = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?;
    /// # let cache = Cache::open_with(schema, memory.clone())?;
    /// # cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// # drop(cache);
    /// let cache = Cache::builder().storage(memory).load_first([""; 0]).load_rest_on_demand().build()?;
    /// assert_eq!(cache.readiness().to_string(), "port not loaded, 0 of 1 rows read");
    /// cache.rehydrate(..)?;
    /// assert!(cache.readiness().is_ready());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn readiness(&self) -> Readiness {
        let state = self.snapshot().state;
        let tables: Vec<TableNo> = state.unready().collect();
        let name = |table: &TableNo| state.schema.table(*table).name.to_string();
        let not_loaded = tables.iter().map(name).collect();
        let (rows, read) = match &self.0.core.persister {
            Some(persister) if !tables.is_empty() => {
                let rows = persister.rows_not_loaded(&tables);
                (rows, persister.progress().rows().min(rows.unwrap_or(u64::MAX)))
            }
            _ => (Some(0), 0),
        };
        Readiness { not_loaded, rows, read }
    }

    /// Returns when some tables are loaded: all of them (`..`), some by their names, or those that
    /// a query reads. What no other thread is loading, this one loads.
    ///
    /// # Errors
    /// As [`Cache::open`](crate::Cache::open); [`ErrorKind::UnknownName`] if there is no such
    /// table; [`ErrorKind::Result`] if the query is another cache's; [`ErrorKind::Nested`] if it is
    /// called inside of a commit's closure. What could not be read is tried again at the next call.
    ///
    /// See [`Cache::readiness`] and [`CacheBuilder::load_first`](crate::CacheBuilder::load_first)
    /// for examples.
    pub fn rehydrate(&self, tables: impl Into<TableSet>) -> Result<()> {
        let state = self.snapshot().state;
        let tables = match tables.into().0 {
            Tables::All => state.unready().collect(),
            Tables::Named(names) => {
                let tables = names.iter().map(|name| state.schema.table_no(name));
                tables.collect::<Result<Vec<_>>>()?
            }
            Tables::ReadBy(query) => {
                self.check_own(&query)?;
                query.tables()
            }
        };
        self.load(tables)
    }

    /// Deletes what is too old or too much: rows that were received longer ago than their table's
    /// `expires_after`, and then, until what persists takes at most `limits.stored_bytes`, rows
    /// that nothing links to, those first that were received or read least recently; a list goes as
    /// a whole. A row counts as read when it is looked up by its id or along a link, or when a
    /// query's result shows it.
    ///
    /// What is too old is left out whenever a table is rehydrated, and what is too much is deleted
    /// when all are; a program that runs for long calls this now and then. It is a commit, if there
    /// is anything to delete.
    ///
    /// # Errors
    /// As [`Cache::rehydrate`], since all rows have to be here.
    ///
    /// ```
    /// use backwater::{Cache, Schema, clock::SetClock};
    ///
    /// let clock = SetClock::at("2031-05-04T12:00:00Z".parse()?);
    /// let schema = Schema::parse("s.toml", r#"
    ///     table.port = { id = "code", expires_after = "7 days", fields = { code = "text" } }
    /// "#)?;
    /// let cache = Cache::builder().schema(schema).clock(clock.clone()).build()?;
    /// cache.commit("ports loaded", |tx| { tx.insert("port", [("code", "SAL")])?; tx.insert("port", [("code", "EEL")]) })?;
    ///
    /// clock.set("2031-05-09T12:00:00Z".parse()?);
    /// cache.commit("received again", |tx| tx.merge("port", [("code", "EEL")]))?; // no change, but news
    /// clock.set("2031-05-11T12:00:00Z".parse()?);
    /// let report = cache.trim("a new day")?.unwrap();
    /// assert_eq!(report.changes().next().unwrap().to_string(), "port SAL deleted");
    /// assert!(cache.trim("once more")?.is_none());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn trim(&self, label: impl Into<String>) -> Result<Option<Report>> {
        self.rehydrate(..)?;
        // Most often there is nothing, and then there is no commit.
        let rows = self.to_trim(&self.snapshot().state);
        if rows.is_empty() {
            return Ok(None);
        }
        let report = self.commit(label, |tx| {
            let rows = self.to_trim(&tx.state);
            #[cfg(feature = "remote")]
            tx.forget_answers_of(&rows.iter().map(|(table, _)| *table).collect());
            tx.let_rows_go(rows);
            Ok(())
        });
        Ok(Some(report?.report))
    }

    fn to_trim(&self, state: &State) -> Vec<(TableNo, Slot)> {
        if let Some(clock) = self.clock() {
            state.set_time(clock);
        }
        let tables = state.schema.table_numbers().filter(|table| state.table(*table).keeps_times());
        let old = tables.flat_map(|table| {
            let rows = expired(state, table).into_iter();
            rows.map(move |slot| (table, slot)).collect::<Vec<_>>()
        });
        let old: Vec<_> = old.collect();
        let trimmed = match state.schema.limits.stored_bytes {
            // What is too old goes anyway; what is too much is judged by the rest.
            Some(most) if !old.is_empty() => {
                let nothing = State::new(state.schema.clone());
                let rest = state.with_rows_of(&nothing, old.iter().copied());
                old.into_iter().chain(beyond(&rest, most as u64)).collect()
            }
            Some(most) => beyond(state, most as u64),
            None => old,
        };
        // What is to go to a remote stays until it is there.
        let overlay = state.overlay.as_ref();
        let is_free = |(table, slot): &(TableNo, Slot)| {
            overlay.is_none_or(|overlay| !overlay.covers(*table, *slot))
        };
        trimmed.into_iter().filter(is_free).collect()
    }

    /// Deletes what is too much, once all rows are loaded.
    pub(crate) fn trim_if_ready(&self) -> Result<()> {
        let state = self.snapshot().state;
        let is_limited = state.schema.limits.stored_bytes.is_some();
        let may_write =
            self.0.core.persister.as_ref().is_some_and(|persister| !persister.is_read_only());
        if !is_limited || state.has_unready() || !may_write {
            return Ok(());
        }
        self.trim("deleted what is too much").map(drop)
    }

    /// Loads some tables, one after the other.
    fn load(&self, tables: Vec<TableNo>) -> Result<()> {
        if self.0.core.is_writing() {
            return Err(Error::new(ErrorKind::Nested, "a commit is being made on this thread")
                .help("load tables before the commit; those that it writes to are loaded for it"));
        }
        match &self.0.core.persister {
            Some(persister) => {
                tables.into_iter().try_for_each(|table| self.load_one(persister, table))
            }
            None => Ok(()),
        }
    }

    /// Loads a table, with the entries of its to-many links: read apart from everything else, then
    /// put in place.
    fn load_one(&self, persister: &Persister, table: TableNo) -> Result<()> {
        let turn = self.0.rehydrating.begin();
        let mut attempts = 0;
        loop {
            let base = self.snapshot().state;
            let tables = base.schema.with_entries(table);
            let tables: Vec<_> =
                tables.into_iter().filter(|table| !base.is_ready(*table)).collect();
            if tables.is_empty() {
                return Ok(());
            }
            attempts += 1;
            let mut read = State::clone(&base);
            persister.read(&mut read, &tables)?;
            let mut writer = self.0.core.begin()?;
            if tables.iter().any(|table| writer.state.is_ready(*table)) {
                // A commit needed it meanwhile.
                continue;
            }
            writer.complete_indexes();
            let mut here = match writer.state.grafted(&base, &read, &tables) {
                Some(here) => here,
                None if attempts < ATTEMPTS => continue,
                None => {
                    let mut here = State::clone(&writer.state);
                    persister.read(&mut here, &tables)?;
                    here
                }
            };
            here.set_ready(&tables);
            let report = self.put_in_place(&mut writer, Arc::new(here), &tables);
            drop(turn);
            self.0.core.deliver(writer, &[&report]);
            return self.end_coming(persister);
        }
    }

    /// Once all rows are loaded, releases the storage's reader and deletes what is too much.
    fn end_coming(&self, persister: &Persister) -> Result<()> {
        if self.snapshot().state.has_unready() {
            return Ok(());
        }
        persister.loaded()?;
        self.trim_if_ready()
    }

    /// The same behind a commit for which rows were loaded: nothing waits for that.
    pub(super) fn end_loading_or_report(&self) {
        if let Some(persister) = &self.0.core.persister
            && let Err(error) = self.end_coming(persister)
        {
            persister.report(&error);
        }
    }

    /// A commit of its own, by which tables are loaded.
    pub(super) fn put_in_place(
        &self,
        writer: &mut Writer,
        here: Arc<State>,
        tables: &[TableNo],
    ) -> Report {
        let core = &self.0.core;
        let watch = Stopwatch::start(core.clock());
        let schema = here.schema.clone();
        let owners = tables.iter().filter(|table| !schema.is_entries(**table));
        let names: Vec<&str> = owners.map(|table| &*schema.table(*table).name).collect();
        let label = format!("rehydrated {}", names.join(", "));
        let ordered = table_set(tables.iter().copied());
        let rows = ordered.into_iter().flat_map(|table| {
            let inserted = move |slot| RowChange { table, slot, happened: Happened::Inserted };
            here.table(table).iter().map(inserted)
        });
        let rows = Arc::new(rows.collect::<Vec<_>>().into());
        let changes = Changes { before: writer.state.clone(), after: here, rows };
        let report = core.make(writer, (label, watch), changes, CommitKind::Loaded(tables));
        if core.persister.as_ref().is_some_and(|persister| persister.damage().is_some()) {
            // What became of it may be something to write.
            core.wake_writer();
        }
        report
    }

    /// Starts a thread that loads the remaining tables, and then follows what another program
    /// writes, as far as the builder says so.
    #[cfg(feature = "threads")]
    pub(crate) fn begin_background(&mut self, reads_rest: bool, follow: Option<Duration>) {
        let Some(persister) = self.0.core.persister.clone() else { return };
        let reads_rest = reads_rest && self.snapshot().state.has_unready();
        if !reads_rest && follow.is_none() {
            return;
        }
        let signal = Arc::new(Signal::default());
        // The thread is none of those whose handles keep the cache open.
        let (cache, ends) = (Cache(self.0.clone(), None), signal.clone());
        let named = thread::Builder::new().name("backwater reader".to_owned());
        let thread = named.spawn(move || {
            if reads_rest {
                cache.load_rest();
            }
            while let Some(period) = follow
                && ends.wait(Some(period), Duration::ZERO) != Woken::End
            {
                if let Err(error) = cache.follow("another program wrote") {
                    cache.0.core.persister.iter().for_each(|persister| persister.report(&error));
                }
            }
        });
        // Without a thread, all is read on demand.
        self.1 = Some(Arc::new(Background { persister, signal, thread: thread.ok() }));
    }

    #[cfg(feature = "threads")]
    fn load_rest(&self) {
        let Some(persister) = &self.0.core.persister else { return };
        for table in self.snapshot().state.unready().collect::<Vec<_>>() {
            if let Err(error) = self.load_one(persister, table)
                && !persister.progress().is_over()
            {
                persister.report(&error);
            }
        }
    }
}

/// The thread that reads, which ends with the last handle.
#[cfg(feature = "threads")]
pub(super) struct Background {
    persister: Arc<Persister>,
    signal: Arc<Signal>,
    thread: Option<thread::JoinHandle<()>>,
}

#[cfg(feature = "threads")]
impl Drop for Background {
    fn drop(&mut self) {
        self.persister.progress().end();
        self.signal.end();
        let thread = self.thread.take();
        // The last handle may be dropped by the thread itself, in a watcher.
        if let Some(thread) = thread.filter(|thread| thread.thread().id() != thread::current().id())
        {
            drop(thread.join());
        }
    }
}
