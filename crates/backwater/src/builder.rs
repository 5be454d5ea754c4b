//! How a cache is put together, where the plain ways leave too little choice.

use std::fmt;
use std::sync::Arc;
#[cfg(feature = "threads")]
use std::time::Duration;

use crate::cache::Cache;
use crate::change::Transaction;
use crate::commit::Core;
use crate::error::{Error, ErrorKind, Result};
use crate::query::Engine;
use crate::schema::Schema;
use crate::storage::{
    Damage, Handler, How, MigrationStep, Opened, Persister, SchemaChange, StepFn, Storage,
    WhenDamaged, open,
};
use crate::table::{Snapshot, State};
use crate::trace::{PanicHandler, Ring, Watchers};
use crate::value::{Clock, GuardedClock, Named};

/// What a cache may be given, besides its schema and storage.
struct Settings {
    clock: Option<Arc<dyn Clock>>,
    /// How many commits are remembered, and how many changed rows of them.
    commits: (usize, usize),
    /// Bytes that results without a handle may take.
    recent: usize,
    /// Whether a thread writes to the storage soon after each commit.
    writes_by_itself: bool,
    /// Called with panics in watchers.
    on_panic: Option<PanicHandler>,
}

impl Default for Settings {
    fn default() -> Self {
        let commits = (16, 1 << 16);
        Self { clock: None, commits, recent: 16 << 20, writes_by_itself: true, on_panic: None }
    }
}

impl Settings {
    /// A cache with these settings.
    fn cache(
        self,
        state: Arc<State>,
        commit: u64,
        persister: Option<Persister>,
        schema_changes: Vec<SchemaChange>,
    ) -> Cache {
        let engine = Engine::new(&state.schema, self.recent);
        let ring = Ring::new(self.commits.0, self.commits.1);
        let persister = (persister.map(Arc::new), self.writes_by_itself);
        let watchers = Watchers::new(self.on_panic);
        let core = Core::new((state, commit), engine, ring, self.clock, persister, watchers);
        Cache::of(core, schema_changes)
    }
}

/// How a cache is begun or opened.
impl Cache {
    /// An empty cache in memory.
    ///
    /// ```
    /// use backwater::{Cache, Schema};
    ///
    /// let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// assert_eq!(cache.snapshot().count("port")?, 0);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn new(schema: Schema) -> Self {
        Settings::default().cache(Arc::new(State::new(Arc::new(schema))), 0, None, Vec::new())
    }

    /// The cache that a storage holds, with the schema that it was written with.
    ///
    /// # Errors
    /// [`ErrorKind::Storage`] if there is none or it cannot be read, [`ErrorKind::Foreign`] if it
    /// is something else, [`ErrorKind::Damaged`] if what is read is not what was written.
    ///
    /// See [`SqliteFile`](crate::SqliteFile) for an example.
    pub fn open(storage: impl Storage + 'static) -> Result<Self> {
        Self::builder().storage(storage).build()
    }

    /// The cache that a storage holds, or a new one with that schema, which the storage then keeps.
    ///
    /// If the storage was written with another schema, its rows are migrated: what is new is
    /// absent, what is renamed (`was = "…"`) moves, a type changes if no value is lost, and what is
    /// no longer named is retained in the storage, unused, unless the schema says `drop = ["…"]`.
    /// All of that is one write, and [`Cache::opening`] has a list of it.
    ///
    /// # Errors
    /// As [`Cache::open`]; [`ErrorKind::Version`] if a value does not fit any more, or if a newer
    /// version of the program wrote it. Then the storage stays as it is.
    ///
    /// See [`SqliteFile`](crate::SqliteFile) for an example.
    pub fn open_with(schema: Schema, storage: impl Storage + 'static) -> Result<Self> {
        Self::builder().schema(schema).storage(storage).build()
    }

    /// A cache with a clock, or with other settings than the plain ones.
    ///
    /// See [`CacheBuilder`] for an example.
    pub fn builder() -> CacheBuilder {
        CacheBuilder::default()
    }
}

/// Puts a cache together; see [`Cache::builder`].
///
/// ```
/// use backwater::{Cache, Schema, SystemClock};
///
/// let cache = Cache::builder()
///     .schema(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?)
///     .clock(SystemClock::new())
///     .remember_commits(2)
///     .keep_results(1 << 20)
///     .build()?;
/// for id in 1..4 {
///     cache.commit("one came", |tx| tx.insert("t", [("id", id)]))?;
/// }
/// let numbers: Vec<u64> = cache.commits().iter().map(|report| report.number()).collect();
/// assert_eq!(numbers, [2, 3]);
/// assert!(cache.commits()[0].took().is_some());
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Default)]
pub struct CacheBuilder {
    schema: Option<Schema>,
    storage: Option<Box<dyn Storage>>,
    handler: Option<Handler>,
    how: How,
    /// Whether tables that are not read at first wait until they are needed.
    load_rest_on_demand: bool,
    #[cfg(feature = "threads")]
    follow_every: Option<Duration>,
    settings: Settings,
}

impl CacheBuilder {
    /// The schema; without it, the one that the storage has.
    ///
    /// See [`CacheBuilder`] for an example.
    pub fn schema(mut self, schema: Schema) -> Self {
        self.schema = Some(schema);
        self
    }

    /// Where the cache persists; without it, nowhere.
    ///
    /// See [`SqliteFile`](crate::SqliteFile) for an example of a storage.
    pub fn storage(mut self, storage: impl Storage + 'static) -> Self {
        self.storage = Some(Box::new(storage));
        self
    }

    /// A numbered step that rows of an earlier version of the program go through once, for what a
    /// schema alone does not say: `run` reads the rows as the storage has them, with the tables
    /// that these were written with, and writes into the tables of the schema, to which everything
    /// else is carried over already. The storage keeps the number of the last step that was done;
    /// one with a higher number than any step here is of a newer version, and is refused.
    ///
    /// ```
    /// use backwater::{Cache, Schema, Value, storage::MemoryStorage};
    ///
    /// let memory = MemoryStorage::new();
    /// let first = Schema::parse("s.toml", "table.crew = { id = 'id', fields = { id = 'int', name = 'text' } }")?;
    /// let cache = Cache::open_with(first, memory.clone())?;
    /// cache.commit("hired", |tx| tx.insert("crew", (("id", 7), ("name", "Ada Quill"))))?;
    /// drop(cache);
    ///
    /// let second = "table.crew = { id = 'id', fields = { id = 'int', first = 'text', last = 'text' } }";
    /// let cache = Cache::builder()
    ///     .schema(Schema::parse("s.toml", second)?)
    ///     .storage(memory)
    ///     .step(1, "names are split", |old, tx| {
    ///         for crew in old.rows("crew")? {
    ///             let (id, name) = (crew.id().unwrap(), crew.get("name")?.unwrap_or(Value::Null));
    ///             if let Some((first, last)) = name.as_str().and_then(|name| name.split_once(' ')) {
    ///                 tx.update("crew", id, [("first", first), ("last", last)])?;
    ///             }
    ///         }
    ///         Ok(())
    ///     })
    ///     .build()?;
    /// assert_eq!(cache.snapshot().get("crew", 7)?.unwrap().get("last")?, Some("Quill".into()));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn step(
        mut self,
        number: u32,
        name: impl Into<String>,
        run: impl Fn(&Snapshot, &mut Transaction) -> Result<()> + Send + Sync + 'static,
    ) -> Self {
        let run: StepFn = Box::new(run);
        self.how.steps.add(MigrationStep { number, name: name.into(), run });
        self
    }

    /// A step in SQL: the rows that a statement gives on the tables as the storage has them are
    /// merged into a table, by the names of its columns.
    ///
    /// ```
    /// use backwater::{Cache, Schema, storage::MemoryStorage};
    ///
    /// let memory = MemoryStorage::new();
    /// let first = Schema::parse("s.toml", "table.crew = { id = 'id', fields = { id = 'int', name = 'text' } }")?;
    /// let cache = Cache::open_with(first, memory.clone())?;
    /// cache.commit("hired", |tx| tx.insert("crew", (("id", 7), ("name", "Ada Quill"))))?;
    /// drop(cache);
    ///
    /// let second = "table.crew = { id = 'id', fields = { id = 'int', initial = 'text' } }";
    /// let cache = Cache::builder()
    ///     .schema(Schema::parse("s.toml", second)?)
    ///     .storage(memory)
    ///     .step_sql(1, "initials", "crew", "SELECT id, substr(name, 1, 1) AS initial FROM crew")
    ///     .build()?;
    /// assert_eq!(cache.snapshot().get("crew", 7)?.unwrap().get("initial")?, Some("A".into()));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn step_sql(
        self,
        number: u32,
        name: impl Into<String>,
        table: impl Into<String>,
        sql: impl Into<String>,
    ) -> Self {
        let (table, sql) = (table.into(), sql.into());
        self.step(number, name, move |old, tx| {
            let old = Settings::default().cache(old.state.clone(), 0, None, Vec::new());
            let rows = old.query(&sql, ())?.read()?;
            let names: Vec<&str> = rows.columns().collect();
            rows.rows().try_for_each(|row| {
                let values = names.iter().copied().zip(row.values().iter().cloned());
                tx.merge(&table, values.collect::<Named>())
            })
        })
    }

    /// The tables that [`CacheBuilder::build`] reads from the storage before it returns, together
    /// with one-row tables, so that a program can show its first view at once. A thread reads the
    /// others one by one, and each appears whole, in a commit called `rehydrated …`; without the
    /// `threads` feature, the first use reads them.
    ///
    /// [`Query::is_ready`](crate::Query::is_ready), [`Snapshot::is_ready`] and [`Cache::readiness`]
    /// say what is loaded; [`Cache::rehydrate`] waits for it. A commit that writes to a table that
    /// is not loaded waits for that one: what it does is as if the rows had been there from the
    /// start.
    ///
    /// If the rows have to be migrated to another schema first, all of them are before this
    /// returns.
    ///
    /// ```
    /// use backwater::{Cache, Schema, storage::MemoryStorage};
    ///
    /// let memory = MemoryStorage::new();
    /// let schema = Schema::parse("s.toml", r#"
    ///     table.port = { id = "code", fields = { code = "text" } }
    ///     table.sailing = { id = "id", fields = { id = "int", to = { to = "port" } } }
    /// "#)?;
    /// let cache = Cache::open_with(schema, memory.clone())?;
    /// cache.commit("announced", |tx| tx.merge_patch(r#"{ "port": { "SAL": {} }, "sailing": { "311": { "to": "SAL" } } }"#))?;
    /// drop(cache);
    ///
    /// let cache = Cache::builder().storage(memory).load_first(["port"]).build()?;
    /// assert_eq!(cache.snapshot().count("port")?, 1); // for the first view
    /// let sailings = cache.query("SELECT id FROM sailing", ())?;
    /// cache.rehydrate(&sailings)?;
    /// assert!(sailings.is_ready());
    /// assert_eq!(sailings.read()?.len(), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn load_first<T: Into<String>>(mut self, tables: impl IntoIterator<Item = T>) -> Self {
        self.how.first = Some(tables.into_iter().map(Into::into).collect());
        self
    }

    /// Leaves tables that are not [loaded first](CacheBuilder::load_first) in the storage until
    /// they are needed. So that all of them are of one commit, an SQLite file that is opened
    /// read-only is locked until all are loaded, and its writer waits.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, storage::MemoryStorage};
    /// # let memory = MemoryStorage::new();
    /// # let schema = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?;
    /// # let cache = Cache::open_with(schema, memory.clone())?;
    /// # cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// # drop(cache);
    /// let cache = Cache::builder().storage(memory).load_first([""; 0]).load_rest_on_demand().build()?;
    /// assert!(!cache.snapshot().is_ready("port")?);
    /// cache.rehydrate(["port"])?;
    /// assert_eq!(cache.snapshot().count("port")?, 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn load_rest_on_demand(mut self) -> Self {
        self.load_rest_on_demand = true;
        self
    }

    /// Follows what another program writes to the storage, which this one only reads: a thread
    /// calls [`Cache::follow`] at this interval. Errors go to [`CacheBuilder::on_storage_error`].
    ///
    /// ```
    /// use std::time::Duration;
    ///
    /// use backwater::{Cache, Schema, SqliteFile};
    ///
    /// # let folder = tempfile::tempdir().unwrap();
    /// let path = folder.path().join("ports.db");
    /// let schema = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?;
    /// let writer = Cache::open_with(schema, SqliteFile::new(&path))?;
    /// writer.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// writer.flush()?;
    ///
    /// let every = Duration::from_millis(20);
    /// let reader = Cache::builder().storage(SqliteFile::read_only(&path)).follow_every(every).build()?;
    /// writer.commit("another opened", |tx| tx.insert("port", [("code", "EEL")]))?;
    /// while reader.snapshot().count("port")? < 2 {
    ///     std::thread::sleep(every);
    /// }
    /// # Ok::<(), backwater::Error>(())
    /// ```
    #[cfg(feature = "threads")]
    pub fn follow_every(mut self, period: Duration) -> Self {
        self.follow_every = Some(period);
        self
    }

    /// What to do with a storage that is damaged or was edited by another program; by default that
    /// is an error. [`Cache::opening`] has what was done.
    ///
    /// See [`WhenDamaged`] for an example.
    pub fn when_damaged(mut self, what: WhenDamaged) -> Self {
        self.how.when_damaged = what;
        self
    }

    /// A handler for failed writes to the storage, other than those of [`Cache::flush`], which
    /// returns its error. The cache goes on in memory and tries again, soon at first, then every
    /// ten seconds, and whenever there is more to write.
    ///
    /// It is called on the writer thread, or on the thread that drops the last handle.
    ///
    /// ```
    /// use backwater::{Cache, Schema, SqliteFile};
    ///
    /// # let folder = tempfile::tempdir().unwrap();
    /// let cache = Cache::builder()
    ///     .schema(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?)
    ///     .storage(SqliteFile::new(folder.path().join("t.db")))
    ///     .on_storage_error(|error| eprintln!("not on disk yet: {error}"))
    ///     .build()?;
    /// cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
    /// cache.flush()?; // now it is
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn on_storage_error(mut self, handler: impl Fn(&Error) + Send + Sync + 'static) -> Self {
        self.handler = Some(Box::new(handler));
        self
    }

    /// A handler for panics in watchers, called on the thread that called the watcher. The panic
    /// ends that call alone, and is a `tracing` event of level `ERROR` as well.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// let schema = Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?;
    /// let cache = Cache::builder().schema(schema).on_watcher_panic(|error| eprintln!("{error}")).build()?;
    /// let _watch = cache.watch_commits(|_| panic!("out of ink"))?;
    /// cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?; // commits: a watcher has panicked: out of ink
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn on_watcher_panic(mut self, handler: impl Fn(&Error) + Send + Sync + 'static) -> Self {
        self.settings.on_panic = Some(Arc::new(handler));
        self
    }

    /// The clock that gives reports their times; without it they have none.
    ///
    /// See [`CacheBuilder`] for an example.
    pub fn clock(mut self, clock: impl Clock + 'static) -> Self {
        let clock: Arc<dyn Clock> = Arc::new(GuardedClock::new(clock));
        self.how.clock = Some(clock.clone());
        self.settings.clock = Some(clock);
        self
    }

    /// The number of commits whose reports are kept for [`Cache::commits`]. A report keeps what the
    /// tables held before and after. The default is 16 commits, and fewer if they wrote more than
    /// 65,536 rows together; a single commit of more rows is not remembered.
    ///
    /// See [`CacheBuilder`] for an example.
    pub fn remember_commits(mut self, commits: usize) -> Self {
        self.settings.commits = (commits, usize::MAX);
        self
    }

    /// How many bytes results may take, roughly, that are kept for a query which was rebound and
    /// may come back to them; 16 MiB by default.
    ///
    /// See [`CacheBuilder`] for an example.
    pub fn keep_results(mut self, bytes: usize) -> Self {
        self.settings.recent = bytes;
        self
    }

    /// Leaves what is committed in memory until [`Cache::flush`] is called, or the last handle is
    /// dropped; a thread would write it soon after each commit. For a program that commits very
    /// much at once, and has no use for a part of it.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, storage::MemoryStorage};
    /// let (memory, schema) = (MemoryStorage::new(), Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let cache = Cache::builder().schema(schema).storage(memory.clone()).write_when_flushed().build()?;
    /// for id in 0..100 {
    ///     cache.commit("one more", |tx| tx.insert("t", [("id", id)]))?;
    /// }
    /// cache.flush()?; // one write
    /// assert_eq!(Cache::open(memory)?.snapshot().count("t")?, 100);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn write_when_flushed(mut self) -> Self {
        self.settings.writes_by_itself = false;
        self
    }

    /// The cache.
    ///
    /// # Errors
    /// As [`Cache::open_with`]; [`ErrorKind::Schema`] if there is neither a schema nor a storage.
    ///
    /// See [`CacheBuilder`] for an example.
    pub fn build(self) -> Result<Cache> {
        #[cfg(feature = "remote")]
        let how = How { with_library_tables: Some(crate::remote::with_tables_of), ..self.how };
        #[cfg(not(feature = "remote"))]
        let how = self.how;
        match (self.schema, self.storage) {
            (schema, Some(mut storage)) => {
                let Opened { state, commit, outbox, changes, damage } =
                    open(schema, &mut *storage, &how)?;
                let may_write = !storage.is_read_only();
                let is_changed =
                    !changes.is_empty() || matches!(damage, Some(Damage::Accepted { .. }));
                let damage = (how.when_damaged, damage);
                let persister =
                    Persister::new(outbox, storage, state.clone(), commit, self.handler, damage);
                if is_changed && may_write {
                    persister.write()?;
                }
                #[cfg_attr(
                    not(feature = "threads"),
                    expect(unused_mut, reason = "only a thread is added")
                )]
                let mut cache = self.settings.cache(state, commit, Some(persister), changes);
                #[cfg(feature = "threads")]
                cache.begin_background(!self.load_rest_on_demand, self.follow_every);
                cache.trim_if_ready()?;
                Ok(cache)
            }
            (Some(schema), None) => {
                let state = Arc::new(State::new(Arc::new(schema)));
                Ok(self.settings.cache(state, 0, None, Vec::new()))
            }
            (None, None) => {
                Err(Error::new(ErrorKind::Schema, "a cache needs a schema, or a storage with one")
                    .help("call `schema` or `storage` before `build`"))
            }
        }
    }
}

impl fmt::Debug for CacheBuilder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("CacheBuilder")
    }
}
