//! How a cache is put together, where the plain ways leave too little choice.

use std::fmt;
use std::sync::Arc;

use crate::cache::Cache;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::Schema;
use crate::storage::{Storage, rehydrate};
use crate::table::State;
use crate::value::Clock;

/// What a cache may be given, besides its schema and storage.
pub(crate) struct Settings {
    pub(crate) clock: Option<Arc<dyn Clock>>,
    /// How many commits are remembered, and how many changed rows of them.
    pub(crate) commits: (usize, usize),
    /// Bytes that results may take which nobody asks for any more.
    pub(crate) recent: usize,
}

impl Default for Settings {
    fn default() -> Self {
        Self { clock: None, commits: (16, 1 << 16), recent: 16 << 20 }
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

    /// The clock by which reports tell times; without it, they tell none.
    ///
    /// See [`CacheBuilder`] for an example.
    pub fn clock(mut self, clock: impl Clock + 'static) -> Self {
        self.settings.clock = Some(Arc::new(clock));
        self
    }

    /// Of how many commits the reports are kept for [`Cache::commits`]. A report keeps what the
    /// tables held before and after. If nothing is said, these are 16 commits, and fewer if they
    /// changed more than 65,536 rows together; so many that one commit changes are not remembered.
    ///
    /// See [`CacheBuilder`] for an example.
    pub fn remember_commits(mut self, commits: usize) -> Self {
        self.settings.commits = (commits, usize::MAX);
        self
    }

    /// How many bytes results may take, roughly, that are kept for a query which was given other
    /// values and may come back to them; 16 MiB, if nothing is said.
    ///
    /// See [`CacheBuilder`] for an example.
    pub fn keep_results(mut self, bytes: usize) -> Self {
        self.settings.recent = bytes;
        self
    }

    /// The cache.
    ///
    /// # Errors
    /// As [`Cache::open_with`]; [`ErrorKind::Schema`] if there is neither a schema nor a storage.
    ///
    /// See [`CacheBuilder`] for an example.
    pub fn build(self) -> Result<Cache> {
        match (self.schema, self.storage) {
            (schema, Some(mut storage)) => {
                let (state, commit, outbox) = rehydrate(schema, &mut *storage)?;
                Ok(Cache::with(state, commit, Some((outbox, storage)), self.settings))
            }
            (Some(schema), None) => {
                let state = Arc::new(State::new(Arc::new(schema)));
                Ok(Cache::with(state, 0, None, self.settings))
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
