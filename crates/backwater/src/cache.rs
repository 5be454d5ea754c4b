//! The handle of a cache, and what opening and loading it say.

// The public handle: a table of contents of the rooms. It has no logic of its own.

mod define;
mod follow;
mod rehydrate;

#[cfg(feature = "remote")]
use std::collections::BTreeSet;
use std::fmt;
use std::hash::Hash;
use std::sync::Arc;
#[cfg(feature = "remote")]
use std::sync::atomic::{AtomicI64, Ordering};
#[cfg(feature = "remote")]
use std::sync::{Mutex, PoisonError};

#[cfg(feature = "remote")]
use crate::change::MOST_UNNOTED;
use crate::change::{Changes, Transaction};
use crate::commit::{CommitKind, Core, ProgramWrites, Writing};
use crate::derived::{Derived, DerivedBy, Reader};
use crate::error::{Error, ErrorKind, Result, of_another_cache};
#[cfg(feature = "remote")]
use crate::query::AsOf;
use crate::query::{Delta, Query, QueryResult};
use crate::schema::Schema;
#[cfg(feature = "remote")]
use crate::schema::TableNo;
use crate::storage::SchemaChange;
use crate::sync::{Again, InTurn};
use crate::table::Snapshot;
#[cfg(feature = "remote")]
use crate::trace::WantsCommit;
use crate::trace::{self, Committed, DeltaStream, LocalWatch, Origin, ReachedQuery, Report, Watch};
use crate::typed::{FromRow, LiveRows, OneRowTable, SchemaBuilder, TypedQuery};
use crate::value::{Clock, Named, RowId, Stopwatch};
pub use rehydrate::{Opening, Readiness, TableSet};

/// A cache: tables, standing queries over them, and the storage where they persist.
///
/// It is a cheap handle: clones are the same cache, and can be sent to other threads. Readers do
/// not wait for writers; commits are made one at a time.
///
/// ```
/// use backwater::{Cache, Schema};
///
/// let cache = Cache::new(Schema::parse("backwater.toml", r#"
///     [table.sailing]
///     id = "id"
///     fields = { id = "int", vessel = { to = "vessel" }, delay_min = "int" }
///
///     [table.vessel]
///     id = "name"
///     fields = { name = "text" }
///
///     [response.departures]
///     records = "/sailings"
///     table = "sailing"
/// "#)?);
/// let late = cache.query("SELECT id FROM sailing WHERE delay_min > 5", ())?;
///
/// cache.commit("departures loaded", |tx| {
///     tx.ingest("departures", r#"{ "sailings": [
///         { "id": 311, "vessel": { "name": "Marram" }, "delay_min": 0 },
///         { "id": 312, "vessel": { "name": "Marram" }, "delay_min": 12 }
///     ] }"#)
/// })?;
/// assert_eq!(late.read()?.len(), 1);
/// # Ok::<(), backwater::Error>(())
/// ```
///
/// # Closing
///
/// When the last handle is dropped, what was committed is written to the storage. Where it never
/// is, as with a handle in a `static`, one that was leaked, or at `std::process::exit`, call
/// [`Cache::flush`] before. After a `fork` only one of the two processes may use the cache.
#[derive(Clone)]
pub struct Cache(Arc<CacheInner>, #[cfg(feature = "threads")] Option<Arc<rehydrate::Background>>);

struct CacheInner {
    core: Core,
    schema_changes: Vec<SchemaChange>,
    /// Loads the rows of tables.
    rehydrating: InTurn,
    /// The names of the remotes in use.
    #[cfg(feature = "remote")]
    remotes: Mutex<BTreeSet<String>>,
    /// The number of the last change that was sent, by whichever of them.
    #[cfg(feature = "remote")]
    last_sent: AtomicI64,
}

impl Cache {
    pub(crate) fn of(core: Core, schema_changes: Vec<SchemaChange>) -> Self {
        let inner = CacheInner {
            core,
            schema_changes,
            rehydrating: InTurn::default(),
            #[cfg(feature = "remote")]
            remotes: Mutex::default(),
            #[cfg(feature = "remote")]
            last_sent: AtomicI64::new(0),
        };
        #[cfg(feature = "threads")]
        return Self(Arc::new(inner), None);
        #[cfg(not(feature = "threads"))]
        Self(Arc::new(inner))
    }

    /// What was done to the stored rows when the cache was opened, and as tables were loaded later:
    /// how they were migrated to another schema, what was found damaged, and which rows were left
    /// out as too old.
    ///
    /// See [`SchemaChange`], [`WhenDamaged`](crate::storage::WhenDamaged) and [`Opening`] for
    /// examples.
    pub fn opening(&self) -> Opening {
        let schema = self.snapshot().state.schema.clone();
        let persister = self.0.core.persister.as_ref();
        let left = persister.into_iter().flat_map(|persister| persister.left_out());
        let left = left.filter(|(table, _)| !schema.is_entries(*table));
        let left = left.map(|(table, rows)| (schema.table(table).name.to_string(), rows));
        Opening {
            schema_changes: self.0.schema_changes.clone(),
            damage: persister.and_then(|persister| persister.damage()),
            left_out: left.collect(),
        }
    }

    /// The schema.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// let cache = Cache::new(Schema::parse("s.toml", "# nothing yet")?);
    /// assert_eq!(cache.schema().text(), "# nothing yet");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn schema(&self) -> Schema {
        Schema::clone(&self.0.core.published.snapshot().state.schema)
    }

    /// All tables as they are after the last commit.
    ///
    /// See [`Snapshot`] for an example.
    pub fn snapshot(&self) -> Snapshot {
        self.0.core.published.snapshot()
    }

    /// Makes a commit: the closure gathers writes in a transaction, which are then applied at once,
    /// and every standing query that they touch is brought up to date. The label says what
    /// happened, in plain words. What the closure returns comes back beside the commit's
    /// [`Report`].
    ///
    /// A commit does not wait for the storage: see [`Cache::flush`].
    ///
    /// # Errors
    /// What the closure returns, or [`ErrorKind::Nested`] if it is called inside of another
    /// commit's closure. Nothing is left of a transaction that failed, or whose closure panicked.
    /// The errors of common parsers become an [`Error`] by `?`, others by [`Error::other`];
    /// [`Cache::try_commit`] takes a closure that fails with an error type of the program's own.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.booking = { id = 'id', fields = { id = 'int', cars = 'int' } }")?);
    /// let booked = cache.commit("booked", |tx| {
    ///     let cars: i64 = "3".parse()?;
    ///     tx.insert("booking", [("id", 7), ("cars", cars)])?;
    ///     Ok(cars)
    /// })?;
    /// assert_eq!((booked.value, booked.changes().count()), (3, 1));
    /// assert!(cache.commit("cancelled", |tx| tx.delete("booking", 7))?.value);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    ///
    /// See [`Transaction`] for what a closure can do.
    pub fn commit<T>(
        &self,
        label: impl Into<String>,
        write: impl FnOnce(&mut Transaction) -> Result<T>,
    ) -> Result<Committed<T>> {
        self.try_commit(label, write)
    }

    /// The same with a closure that fails with an error type of the program's own, which is
    /// returned as it was.
    ///
    /// # Errors
    /// As [`Cache::commit`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// #[derive(Debug)]
    /// enum Failure {
    ///     Unknown(char),
    ///     Cache(backwater::Error),
    /// }
    ///
    /// impl From<backwater::Error> for Failure {
    ///     fn from(error: backwater::Error) -> Self {
    ///         Self::Cache(error)
    ///     }
    /// }
    ///
    /// fn code(letter: char) -> Result<&'static str, Failure> {
    ///     if letter == 's' { Ok("SAL") } else { Err(Failure::Unknown(letter)) }
    /// }
    ///
    /// let failed = cache.try_commit("ports opened", |tx| {
    ///     tx.insert("port", [("code", code('s')?)])?;
    ///     tx.insert("port", [("code", code('x')?)])?;
    ///     Ok(())
    /// });
    /// assert!(matches!(failed, Err(Failure::Unknown('x'))));
    /// assert_eq!(cache.snapshot().count("port")?, 0);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn try_commit<T, E: From<Error>>(
        &self,
        label: impl Into<String>,
        write: impl FnOnce(&mut Transaction) -> Result<T, E>,
    ) -> Result<Committed<T>, E> {
        self.commit_as(label.into(), false, write)
    }

    /// Whether watchers have yet to hear of a commit: another thread delivers, or this one does.
    #[cfg(feature = "remote")]
    pub(crate) fn has_undelivered(&self) -> bool {
        self.0.core.watchers.has_undelivered()
    }

    /// A commit of the library's own: it is not among the last commits, so that a program's are
    /// not crowded out.
    #[cfg(feature = "remote")]
    pub(crate) fn commit_bookkeeping<T>(
        &self,
        label: &str,
        write: impl FnOnce(&mut Transaction) -> Result<T>,
    ) -> Result<Committed<T>> {
        self.commit_as(label.to_owned(), true, write)
    }

    /// Whether a remote may have this name: no other one in use has it. It has it from now on.
    #[cfg(feature = "remote")]
    pub(crate) fn claim_remote(&self, name: &str) -> bool {
        self.0.remotes.lock().unwrap_or_else(PoisonError::into_inner).insert(name.to_owned())
    }

    /// The last commit, for those who read none of the library's own tables: there something may be
    /// yet to be noted of pending changes.
    #[cfg(feature = "remote")]
    pub(crate) fn now(&self) -> AsOf {
        self.0.core.published.now()
    }

    #[cfg(feature = "remote")]
    pub(crate) fn history(&self) -> Arc<crate::change::History> {
        self.0.core.history()
    }

    /// The number of the next change that is sent.
    #[cfg(feature = "remote")]
    pub(crate) fn next_send(&self) -> i64 {
        self.0.last_sent.fetch_add(1, Ordering::Relaxed) + 1
    }

    /// Numbers up to this one are taken.
    #[cfg(feature = "remote")]
    pub(crate) fn begin_sends_after(&self, last: i64) {
        self.0.last_sent.fetch_max(last, Ordering::Relaxed);
    }

    #[cfg(feature = "remote")]
    pub(crate) fn release_remote(&self, name: &str) {
        self.0.remotes.lock().unwrap_or_else(PoisonError::into_inner).remove(name);
    }

    fn commit_as<T, E: From<Error>>(
        &self,
        label: String,
        is_bookkeeping: bool,
        write: impl FnOnce(&mut Transaction) -> Result<T, E>,
    ) -> Result<Committed<T>, E> {
        let writing = self.0.core.begin()?;
        self.commit_in(writing, (label, is_bookkeeping), write)
    }

    /// A commit that makes a pending change. What is noted of it in some tables may wait, if nobody
    /// looks there.
    #[cfg(feature = "remote")]
    pub(crate) fn commit_pending<T>(
        &self,
        label: String,
        notes: [TableNo; 2],
        write: impl FnOnce(&mut Transaction) -> Result<T>,
    ) -> Result<Committed<T>> {
        let core = &self.0.core;
        let mut writing = core.begin_over()?;
        let is_read = notes.iter().any(|table| writing.engine.is_read(*table))
            || core.published.keeps_last_changed();
        let is_many = writing.state.unnoted() >= MOST_UNNOTED;
        if is_read || is_many || writing.state.is_noted() {
            core.note(&mut writing);
        }
        self.commit_in(writing, (label, false), |tx| {
            if !is_read {
                tx.defer_notes();
            }
            write(tx)
        })
    }

    /// Commits what a closure writes. There is one of this for each closure, so it does no more than
    /// call it.
    fn commit_in<T, E: From<Error>>(
        &self,
        writing: Writing<'_>,
        kind: (String, bool),
        write: impl FnOnce(&mut Transaction) -> Result<T, E>,
    ) -> Result<Committed<T>, E> {
        let (mut write, mut written) = (Some(write), None);
        let report = self.commit_written(writing, kind, &mut |tx| {
            written = write.take().map(|write| write(tx));
            matches!(written, Some(Ok(_)))
        })?;
        match (written, report) {
            (Some(Ok(value)), Some(report)) => Ok(Committed { value, report }),
            (Some(Err(error)), _) => Err(error),
            _ => unreachable!("a closure that is called gives a value or an error"),
        }
    }

    /// Commits what `write` writes, if it returns that it has succeeded; else there is no report.
    fn commit_written(
        &self,
        mut writing: Writing<'_>,
        (label, is_bookkeeping): (String, bool),
        write: &mut dyn FnMut(&mut Transaction) -> bool,
    ) -> Result<Option<Report>> {
        let core = &self.0.core;
        let watch = Stopwatch::start(core.clock());
        writing.complete_indexes();
        // Dropped if the closure fails or panics: what it holds belongs to a version that was
        // discarded.
        let remembered = std::mem::take(&mut writing.remembered);
        let mut tx = Transaction::new(writing.state.clone(), writing.history.clone(), remembered);
        if writing.state.has_unready()
            && let Some(persister) = &core.persister
        {
            tx = tx.with_on_demand(persister.clone());
        }
        let paused = writing.pause();
        if !write(&mut tx) {
            return Ok(None);
        }
        if !paused.is_current() {
            let message = "another commit was made inside of this one";
            return Err(
                Error::new(ErrorKind::Nested, message).help("write through its transaction")
            );
        }
        let mut writing = paused.go_on();
        writing.remembered = std::mem::take(&mut tx.remembered);
        let (received, withdrawal) = (tx.take_received(), tx.take_withdrawal());
        let loaded = tx.take_rehydrated();
        let (changes, ingested) = tx.finish();
        let loaded = loaded.map(|(here, tables)| self.put_in_place(&mut writing, here, &tables));
        let writes = ProgramWrites { ingested, withdrawal, received, is_bookkeeping };
        let kind = CommitKind::Written(writes);
        let report = core.make(&mut writing, (label, watch), changes, kind);
        core.wake_writer();
        core.deliver(writing, &loaded.iter().chain([&report]).collect::<Vec<_>>());
        if loaded.is_some() {
            self.end_loading_or_report();
        }
        Ok(Some(report))
    }

    /// A standing query: an SQL statement, or the name of one in the schema, with values for its
    /// parameters. Commits that touch it bring it up to date for as long as a handle lives;
    /// [`Query::typed`] reads its rows as structs.
    ///
    /// One word is a name, as no statement is one. A text given for a parameter that the statement
    /// compares with a timestamp is read as a time, in any form of RFC 3339.
    ///
    /// # Errors
    /// [`ErrorKind::Sql`] if the statement cannot be parsed or is not supported,
    /// [`ErrorKind::UnknownName`] if it names what is not there, or the schema has no query of that
    /// name, both with line and column; [`ErrorKind::Parameter`] if the values are not those that
    /// it takes; [`ErrorKind::Stopped`] if [`Stop`](crate::Stop) says so. A result that exceeds
    /// `[limits]` is an error where it is read.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// let cache = Cache::new(Schema::parse("s.toml", r#"
    ///     table.port = { id = "code", fields = { code = "text" } }
    ///     query.ports = "SELECT code FROM port"
    /// "#)?);
    /// let (named, written) = (cache.query("ports", ())?, cache.query("SELECT code FROM port", ())?);
    /// assert_eq!(named.read()?.len(), written.read()?.len());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    ///
    /// See [`Query`] for an example with parameters.
    pub fn query(&self, statement: &str, params: impl Into<Named>) -> Result<Query> {
        let (schema, params) = (self.schema(), params.into());
        let is_letter = |letter: char| letter.is_alphanumeric() || matches!(letter, '_' | '-');
        let is_word = !statement.is_empty() && statement.chars().all(is_letter);
        match schema.query(statement) {
            None if !is_word => self.define(statement, statement, &params),
            _ => {
                let sql = schema.named_sql(statement)?;
                self.define(statement, sql, &params)
                    .map_err(|error| error.at(format!("query \"{statement}\"")))
            }
        }
    }

    /// Rebinds a standing query: gives it other values for its parameters; those that are not named
    /// stay as they are. As much of the old result is reused as possible: a bound that moves a
    /// little adds or removes only the rows in between, a longer search text only looks at what it
    /// had found, another page shows other rows of the same order. All clones of the handle are
    /// rebound, and watches of it get the delta from the old result to the new one.
    ///
    /// It is a commit of its own, one that changes no row: it has a number, a label and a report.
    /// Results that would be costly to compute again are kept for a while.
    ///
    /// # Errors
    /// [`ErrorKind::Parameter`] if the values are not those that the statement takes,
    /// [`ErrorKind::Nested`] if it is called inside of a commit's closure, [`ErrorKind::Result`] if
    /// the query is another cache's.
    ///
    /// ```
    /// # use backwater::{Cache, DeltaKind, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.vessel = { id = 'name', fields = { name = 'text' } }")?);
    /// # cache.commit("fleet loaded", |tx| {
    /// #     ["Marram", "Marsh Heron", "Lantern"].into_iter().try_for_each(|name| tx.insert("vessel", [("name", name)]))
    /// # })?;
    /// let found = cache.query("SELECT name FROM vessel WHERE contains(name, :text)", [("text", "ma")])?;
    /// assert_eq!(found.read()?.len(), 2);
    /// let report = cache.rebind("letter typed", &found, [("text", "mars")])?;
    /// assert_eq!(report.why(&found), "maintained: 1 row left, because :text went from ma to mars");
    /// assert_eq!(found.read()?.row(0).unwrap().get("name")?, &Value::from("Marsh Heron"));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn rebind(
        &self,
        label: impl Into<String>,
        query: &Query,
        params: impl Into<Named>,
    ) -> Result<Report> {
        self.go_over(label.into(), query, &params.into())
    }

    /// Lets a query take its parameters from the row of a one-row table, such as a search text or
    /// the port that is shown: now, and after each commit that changes that row, for as long as the
    /// returned guard lives. The query is rebound as by [`Cache::rebind`], in a commit of its own
    /// after the one that changed the row, unless its values stay the same.
    ///
    /// # Errors
    /// As [`Cache::rebind`] and [`Snapshot::table`], for the row as it is now.
    ///
    /// ```
    /// use backwater::{Cache, Schema, Table};
    ///
    /// #[derive(Default, Table)]
    /// #[table(one_row)]
    /// struct Board {
    ///     search: String,
    /// }
    ///
    /// #[derive(Table)]
    /// struct Vessel {
    ///     #[table(id)]
    ///     name: String,
    /// }
    ///
    /// let cache = Cache::new(Schema::builder().table::<Board>().table::<Vessel>().build()?);
    /// cache.commit("fleet loaded", |tx| {
    ///     let mut vessels = tx.table::<Vessel>()?;
    ///     ["Marram", "Lantern"].iter().try_for_each(|name| vessels.insert(&Vessel { name: (*name).into() }))
    /// })?;
    /// let found = cache.query("SELECT name FROM vessel WHERE contains(name, :text)", [("text", "")])?;
    /// let _follows = cache.params_from(&found, |board: &Board| [("text", board.search.as_str())].into())?;
    /// assert_eq!(found.read()?.len(), 2);
    /// cache.commit("letter typed", |tx| tx.table::<Board>()?.set(|board| board.search.push('l')))?;
    /// assert_eq!(found.read()?.row(0).unwrap().get("name")?.as_str(), Some("Lantern"));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn params_from<T: OneRowTable>(
        &self,
        query: &Query,
        params: impl Fn(&T) -> Named + Send + 'static,
    ) -> Result<Watch> {
        let (cache, handle) = (self.clone(), query.clone());
        let label = format!("{} follows {}", query.name(), T::TABLE);
        let mut last = None;
        // Rebinding calls watchers, and so may come back here.
        let follow = Arc::new(Again::new(move || {
            let new = params(&cache.snapshot().table::<T>()?.only());
            if last.as_ref() != Some(&new) {
                cache.rebind(label.as_str(), &handle, new.clone())?;
                last = Some(new);
            }
            Ok::<_, Error>(())
        }));
        let begin = follow.clone();
        // Parameters that the row names and the statement no longer takes leave the query as it is.
        let watch = self.watch_commits(move |report| {
            if report.changes().any(|change| change.table() == T::TABLE) {
                drop(follow.run());
            }
        })?;
        // From here on no change of the row is missed.
        begin.run()?;
        Ok(watch)
    }

    /// A derived value: a Rust function over tables, queries and other derived values, whose result
    /// is kept until something that it read has changed. It runs when it is read.
    ///
    /// The function is given values as of one commit. If it commits or defines a query, that is
    /// refused with [`ErrorKind::Nested`].
    ///
    /// See [`Derived`] for an example.
    pub fn derived<T: PartialEq + Send + Sync + 'static>(
        &self,
        name: impl Into<Arc<str>>,
        function: impl Fn(&Reader) -> Result<T> + Send + Sync + 'static,
    ) -> Derived<T> {
        self.0.core.published.keep_last_changed();
        Derived::new(
            self.0.core.published.clone(),
            self.0.core.evaluation.clone(),
            name.into(),
            function,
        )
    }

    /// The same with a parameter: one derived value for each of its values.
    ///
    /// See [`DerivedBy`] for an example.
    pub fn derived_by<P, T>(
        &self,
        name: impl Into<Arc<str>>,
        function: impl Fn(&Reader, &P) -> Result<T> + Send + Sync + 'static,
    ) -> DerivedBy<P, T>
    where
        P: Clone + Eq + Hash + fmt::Debug + Send + Sync + 'static,
        T: PartialEq + Send + Sync + 'static,
    {
        self.0.core.published.keep_last_changed();
        DerivedBy::new(
            self.0.core.published.clone(),
            self.0.core.evaluation.clone(),
            name.into(),
            function,
        )
    }

    pub(crate) fn clock(&self) -> Option<&dyn Clock> {
        self.0.core.clock()
    }

    /// The reports of the last commits, the oldest first; see
    /// [`CacheBuilder::remember_commits`](crate::CacheBuilder::remember_commits).
    ///
    /// See [`CacheBuilder`](crate::CacheBuilder) for an example.
    pub fn commits(&self) -> Vec<Report> {
        self.0.core.ring.reports()
    }

    /// Why a commit did to a query what it did, in words.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there was no such commit, or if it is not remembered any more.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
    /// assert_eq!(
    ///     cache.why(&all, 1)?,
    ///     "deferred: t 1 was inserted, but it is not watched; it catches up on its next read",
    /// );
    /// assert!(cache.why(&all, 2).is_err());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn why(&self, query: &Query, commit: u64) -> Result<String> {
        match self.0.core.ring.find(commit) {
            Some(report) => Ok(report.why(query)),
            None => {
                let last = self.snapshot().commit();
                let what = if commit > last { "was not made yet" } else { "is not remembered" };
                Err(Error::new(ErrorKind::UnknownName, format!("commit {commit} {what}"))
                    .help(format!("the last commit is {last}; `remember_commits` sets of how many commits the reports are kept")))
            }
        }
    }

    /// Which commit wrote the value of each field of a row, as far as the commits are remembered.
    /// The id of a one-row table's row is `()`.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table, [`ErrorKind::Row`] if it has no such
    /// row.
    ///
    /// See [`Origin`] for an example.
    pub fn origins(&self, table: &str, id: impl Into<RowId>) -> Result<Vec<Origin>> {
        let (snapshot, id) = (self.snapshot(), id.into());
        let reports = self.reports_until(snapshot.commit());
        match snapshot.get(table, id.clone())? {
            Some(row) => Ok(trace::origins(&row, &reports)),
            None => Err(trace::no_row(table, &id, &reports)),
        }
    }

    fn reports_until(&self, commit: u64) -> Vec<Report> {
        let mut reports = self.commits();
        reports.retain(|report| report.number() <= commit);
        reports
    }

    /// Watches a query: `callback` is called after each commit that moved its result, with the
    /// delta, for as long as the returned guard lives. The query is kept up to date meanwhile.
    ///
    /// Each commit's delta is delivered once, in the order of the commits; the old result with the
    /// delta is the new one. `callback` may commit itself: that is applied at once, and its deltas
    /// are delivered after the current commit's. It runs on a thread that commits, so what takes
    /// long belongs elsewhere. A panic in it ends that call alone. A commit that is made while its
    /// thread holds a lock which `callback` takes waits for itself, and a `callback` that commits
    /// at each call may go on for ever: the cache does not look into either.
    ///
    /// # Errors
    /// [`ErrorKind::Result`] if the result that it would begin with cannot be computed, or if the
    /// query is another cache's.
    ///
    /// ```
    /// # use std::sync::{Arc, Mutex};
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.sailing = { id = 'id', fields = { id = 'int', delay_min = 'int' } }")?);
    /// let late = cache.query("SELECT id, delay_min FROM sailing WHERE delay_min > 5", ())?;
    /// let shown = Arc::new(Mutex::new(Vec::new()));
    /// let view = shown.clone();
    /// let watch = cache.watch(&late, move |news| {
    ///     if let Some(delta) = news.delta() {
    ///         delta.apply(&mut view.lock().unwrap()).unwrap();
    ///     }
    /// })?;
    /// cache.commit("delay reported", |tx| tx.insert("sailing", [("id", 311), ("delay_min", 15)]))?;
    /// assert_eq!(shown.lock().unwrap().len(), 1);
    /// drop(watch); // no further calls
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn watch(
        &self,
        query: &Query,
        callback: impl FnMut(&ReachedQuery<'_>) + Send + 'static,
    ) -> Result<Watch> {
        self.read_and_watch(query, callback).map(|(_, watch)| watch)
    }

    /// The same, with the result that it begins with: the deltas are those from there on. It is
    /// not kept by the watch, which would hold a version of the tables for as long as it lives.
    ///
    /// # Errors
    /// As [`Cache::watch`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
    /// let (start, _watch) = cache.read_and_watch(&all, |news| println!("{}", news.why()))?;
    /// assert_eq!(start.len(), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn read_and_watch(
        &self,
        query: &Query,
        callback: impl FnMut(&ReachedQuery<'_>) + Send + 'static,
    ) -> Result<(QueryResult, Watch)> {
        self.check_own(query)?;
        self.0.core.watchers.add(query, Box::new(callback))
    }

    /// Watches a query from one thread: `callback` need not be `Send`, and is called on this thread
    /// alone: after each commit on this thread that changed the result, as with [`Cache::watch`].
    /// What commits on other threads did waits as one merged delta, until [`LocalWatch::deliver`]
    /// is called or the next commit on this thread. While the result cannot be computed, the
    /// callback is given the error. The result that is returned is the one that the deltas begin
    /// with.
    ///
    /// # Errors
    /// As [`Cache::watch`].
    ///
    /// ```
    /// # use std::{cell::RefCell, rc::Rc};
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// let shown = Rc::new(RefCell::new(Vec::new()));
    /// let list = shown.clone();
    /// let (_start, watch) = cache.watch_local(&all, move |delta| {
    ///     delta.and_then(|delta| delta.apply(&mut list.borrow_mut())).unwrap();
    /// })?;
    /// cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
    /// assert_eq!(shown.borrow().len(), 1);
    ///
    /// let other = cache.clone();
    /// std::thread::spawn(move || other.commit("another came", |tx| tx.insert("t", [("id", 2)]))).join().unwrap()?;
    /// watch.deliver(); // where the event loop comes by
    /// assert_eq!(shown.borrow().len(), 2);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn watch_local(
        &self,
        query: &Query,
        callback: impl FnMut(Result<Delta>) + 'static,
    ) -> Result<(QueryResult, LocalWatch)> {
        let (start, deltas) = self.deltas(query)?;
        Ok((start, LocalWatch::of(deltas, callback)))
    }

    /// Watches a derived value: `callback` is called with the value after each commit after which
    /// it is another one, or another error, for as long as the returned guard lives. Commits that
    /// follow each other fast may be one call.
    ///
    /// The value is brought up to date on the thread that commits. What may be done in `callback`
    /// is as for [`Cache::watch`].
    ///
    /// # Errors
    /// [`ErrorKind::Nested`] if it is called inside of a commit's closure, [`ErrorKind::Result`] if
    /// the value is another cache's.
    ///
    /// ```
    /// # use std::sync::{Arc, Mutex};
    /// # use backwater::{Cache, Schema, Table};
    /// # #[derive(Table)]
    /// # struct Port { #[table(id)] code: String }
    /// # let cache = Cache::new(Schema::builder().table::<Port>().build()?);
    /// let ports = cache.derived("ports", |read| Ok(read.table::<Port>()?.len()));
    /// let shown = Arc::new(Mutex::new(Vec::new()));
    /// let list = shown.clone();
    /// let _watch = cache.watch_derived(&ports, move |ports| {
    ///     if let Ok(ports) = ports {
    ///         list.lock().unwrap().push(**ports);
    ///     }
    /// })?;
    /// for code in ["SAL", "EEL"] {
    ///     cache.commit("a port opened", |tx| tx.table::<Port>()?.insert(&Port { code: code.into() }))?;
    /// }
    /// assert_eq!(*shown.lock().unwrap(), [1, 2]);
    /// # let _ = Port { code: String::new() }.code;
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn watch_derived<T: PartialEq + Send + Sync + 'static>(
        &self,
        derived: &Derived<T>,
        mut callback: impl FnMut(&Result<Arc<T>>) + Send + 'static,
    ) -> Result<Watch> {
        if !derived.is_of(&self.0.core.published) {
            return Err(of_another_cache("the derived value").help("define it in this cache"));
        }
        let derived = derived.clone();
        let mut last: Option<Result<Arc<T>>> = None;
        // A watcher may commit, and so come back here.
        let look = Arc::new(Again::new(move || {
            let now = derived.get();
            let is_same = match (&last, &now) {
                (Some(Ok(last)), Ok(now)) => Arc::ptr_eq(last, now) || last == now,
                (Some(Err(last)), Err(now)) => last.to_string() == now.to_string(),
                (Some(_), _) => false,
                // What it begins with is no news.
                (None, _) => true,
            };
            if !is_same {
                callback(&now);
            }
            last = Some(now);
            Ok::<_, Error>(())
        }));
        let begin = look.clone();
        let watch = self.watch_commits(move |_| drop(look.run()))?;
        begin.run()?;
        Ok(watch)
    }

    /// The rows of a query as a list that follows it: `wake` is called when there is something new,
    /// on the thread that commits, and [`LiveRows::update`] applies it where the program draws.
    ///
    /// # Errors
    /// As [`Cache::watch`] and [`TypedQuery::rows`].
    ///
    /// See [`LiveRows`] for an example.
    pub fn live<T: FromRow>(
        &self,
        query: &TypedQuery<T>,
        wake: impl Fn() + Send + Sync + 'static,
    ) -> Result<LiveRows<T>> {
        LiveRows::of(self.deltas(query)?, query, wake)
    }

    /// Watches a query as a stream of deltas, each from what the last one led to, the first one
    /// from the result that is given along. A consumer that is slow gets one merged delta of what
    /// happened meanwhile, not a queue.
    ///
    /// # Errors
    /// As [`Cache::watch`].
    ///
    /// See [`DeltaStream`] for an example.
    pub fn deltas(&self, query: &Query) -> Result<(QueryResult, DeltaStream)> {
        self.check_own(query)?;
        DeltaStream::of(&self.0.core.watchers, query)
    }

    /// Watches commits as a whole: `callback` is called after each one with its report, in the
    /// order of the commits, after the watchers of queries, and for as long as the returned guard
    /// lives. It is for a toast, a log, a sound; what it may do is as for [`Cache::watch`].
    ///
    /// # Errors
    /// [`ErrorKind::Nested`] if it is called inside of a commit's closure.
    ///
    /// ```
    /// # use std::sync::{Arc, Mutex};
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// let log = Arc::new(Mutex::new(Vec::new()));
    /// let lines = log.clone();
    /// let watch = cache.watch_commits(move |report| {
    ///     lines.lock().unwrap().push(format!("{}: {} rows", report.label(), report.changes().count()));
    /// })?;
    /// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// drop(watch);
    /// cache.commit("another opened", |tx| tx.insert("port", [("code", "EEL")]))?;
    /// assert_eq!(*log.lock().unwrap(), ["a port opened: 1 rows"]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn watch_commits(&self, callback: impl FnMut(&Report) + Send + 'static) -> Result<Watch> {
        // While the writer is held, no commit is between two watchers.
        let writer = self.0.core.begin()?;
        Ok(self.0.core.watchers.add_of_commits(writer.commit, None, Box::new(callback)))
    }

    /// The same of some commits alone.
    #[cfg(feature = "remote")]
    pub(crate) fn watch_commits_if(
        &self,
        wants: WantsCommit,
        callback: impl FnMut(&Report) + Send + 'static,
    ) -> Result<Watch> {
        let writer = self.0.core.begin()?;
        let watchers = &self.0.core.watchers;
        Ok(watchers.add_of_commits(writer.commit, Some(wants), Box::new(callback)))
    }

    /// Declares further tables, response rules and named queries while the program runs, as when a
    /// part of it is started. `more` adds them to the schema: existing tables keep their fields,
    /// and all rows, queries and watchers stay as they are.
    ///
    /// It is a commit of its own, one that changes no row.
    ///
    /// # Errors
    /// As [`SchemaBuilder::build`]; [`ErrorKind::Nested`] if it is called inside of a commit's
    /// closure.
    ///
    /// ```
    /// use backwater::{Cache, Link, Schema, Table};
    ///
    /// #[derive(Table)]
    /// struct Sailing {
    ///     #[table(id)]
    ///     id: i64,
    /// }
    ///
    /// /// What the booking desk knows; it opens later.
    /// #[derive(Table)]
    /// struct Booking {
    ///     #[table(id)]
    ///     id: i64,
    ///     #[table(on_delete = "cascade")]
    ///     sailing: Link<Sailing>,
    /// }
    ///
    /// let cache = Cache::new(Schema::builder().table::<Sailing>().build()?);
    /// cache.commit("announced", |tx| tx.table::<Sailing>()?.insert(&Sailing { id: 311 }))?;
    ///
    /// cache.declare("the desk opens", |schema| schema.table::<Booking>())?;
    /// cache.commit("booked", |tx| tx.table::<Booking>()?.insert(&Booking { id: 7, sailing: Link::to(311) }))?;
    /// cache.commit("taken out", |tx| tx.table::<Sailing>()?.delete(311).map(drop))?;
    /// assert!(cache.snapshot().table::<Booking>()?.is_empty());
    /// # let _ = (Sailing { id: 1 }.id, Booking { id: 1, sailing: Link::to(1) }.sailing);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn declare(
        &self,
        label: impl Into<String>,
        more: impl FnOnce(SchemaBuilder) -> SchemaBuilder,
    ) -> Result<Report> {
        // What has a place in a storage does not change while it is read.
        self.rehydrate(..)?;
        let core = &self.0.core;
        let writing = core.begin()?;
        let watch = Stopwatch::start(core.clock());
        let beyond = SchemaBuilder::beyond(&writing.state.schema);
        let paused = writing.pause();
        let schema = Arc::new(more(beyond).build()?);
        let mut writing = paused.go_on();
        let mut state = Arc::new(writing.state.extended(schema.clone()));
        if let Some(persister) = &core.persister {
            state = persister.extend(&state, writing.commit + 1)?;
        }
        writing.engine.extend(&schema);
        let changes = Changes::none(state);
        let report = core.make(&mut writing, (label.into(), watch), changes, CommitKind::Declared);
        core.wake_writer();
        core.deliver(writing, &[&report]);
        Ok(report)
    }

    /// Withdraws a commit, in a commit of its own: the tables are as if it had not been made. A
    /// field that another commit has written since keeps what that one wrote, also if it wrote the
    /// same value, until that commit is withdrawn too; then the field has what it had before both.
    /// In the same way a row that the commit inserted is deleted, unless another one has written to
    /// it, and a row that it deleted is restored, unless another one has deleted it too. Links to a
    /// deleted row stay, and point at nothing.
    ///
    /// Commits can be withdrawn in any order, also after [`Cache::declare`]. Withdrawing one once
    /// more changes nothing; withdrawing the report of a withdrawal restores the commit.
    ///
    /// So a program shows a change at once, before the server has answered, and withdraws it if the
    /// answer is no.
    ///
    /// # Errors
    /// As [`Cache::commit`]; [`ErrorKind::Result`] if the report is another cache's.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.booking = { id = 'id', fields = { id = 'int', cars = 'int', paid = 'bool' } }")?);
    /// # cache.commit("booked", |tx| tx.insert("booking", [("id", Value::from(7)), ("cars", 1.into()), ("paid", false.into())]))?;
    /// let shown = cache.commit("two cars, unconfirmed", |tx| {
    ///     tx.update("booking", 7, [("cars", Value::from(2)), ("paid", true.into())])
    /// })?;
    /// cache.commit("live change", |tx| tx.update("booking", 7, [("cars", 3)]))?;
    /// let report = cache.withdraw("no room for two", &shown)?;
    /// assert_eq!(report.changes().next().unwrap().to_string(), "booking 7: paid true -> false");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn withdraw(&self, label: impl Into<String>, report: &Report) -> Result<Report> {
        let done = self.commit(label, |tx| {
            tx.withdraw(report.all_changes())?;
            #[cfg(feature = "remote")]
            tx.forget_answers_in(report.all_changes())?;
            Ok(())
        });
        Ok(done?.report)
    }

    /// Empties the cache, as when a user signs out: all rows go, in memory and in the storage, and
    /// one-row tables are as they began. It is a commit: queries and watchers follow.
    ///
    /// Remotes forget their answers, and ignore what comes of requests that began before.
    ///
    /// # Errors
    /// As [`Cache::commit`]; an error of the storage, if it cannot be written: then memory is
    /// empty, and the next commit or [`Cache::flush`] tries again.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// # cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// cache.clear("signed out")?;
    /// assert_eq!(cache.snapshot().count("port")?, 0);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn clear(&self, label: impl Into<String>) -> Result<Report> {
        self.clear_but(label, |_| Ok(()))
    }

    /// The same, with rows that are written once all others are gone.
    pub(crate) fn clear_but(
        &self,
        label: impl Into<String>,
        write: impl FnOnce(&mut Transaction) -> Result<()>,
    ) -> Result<Report> {
        let clear = |tx: &mut Transaction| tx.clear().and_then(|()| write(tx));
        let report = self.commit(label, clear)?.report;
        if let Some(persister) = &self.0.core.persister {
            persister.forget_retained();
            persister.compact()?;
        }
        Ok(report)
    }

    /// Writes all that waits, and makes sure that nothing remains in the storage of what was
    /// deleted or overwritten. [`Cache::clear`] does so by itself. An SQLite file is rewritten in
    /// place, which takes as long as reading and writing all of it.
    ///
    /// Elsewhere than in the file, such as in what a file system or a disk keeps of old blocks, the
    /// cache cannot look.
    ///
    /// # Errors
    /// An error of the storage.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, SqliteFile};
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("ports.db");
    /// # let schema = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?;
    /// let cache = Cache::open_with(schema, SqliteFile::new(&path))?;
    /// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SECRET HARBOUR")]))?;
    /// cache.flush()?;
    /// cache.commit("and closed", |tx| tx.delete("port", "SECRET HARBOUR"))?;
    /// cache.compact()?;
    /// let bytes = std::fs::read(&path).unwrap();
    /// assert!(!bytes.windows(6).any(|text| text == b"SECRET"));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn compact(&self) -> Result<()> {
        self.0.core.persister.as_ref().map_or(Ok(()), |persister| persister.compact())
    }

    /// Returns when everything that was committed is durable; at once, if the cache has no storage.
    ///
    /// # Errors
    /// If the storage cannot be written. Memory stays as it is, and the next call or commit tries
    /// again.
    ///
    /// See [`SqliteFile`](crate::SqliteFile) for an example.
    pub fn flush(&self) -> Result<()> {
        self.0.core.persister.as_ref().map_or(Ok(()), |persister| persister.write())
    }
}

impl fmt::Debug for Cache {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Cache(commit {})", self.snapshot().commit())
    }
}
