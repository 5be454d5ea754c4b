//! Where a cache persists: SQLite files, files of JSON lines, memory, and what it takes to write a
//! storage of your own; see [`Storage`].

// The protocol between the core and a driver, and the drivers. The core does no I/O: it emits batches
// of dirty rows up to a commit and takes stored rows back through a loader; a driver moves them. This
// room knows tables and their storage form; it must not know queries.

#[cfg(any(feature = "sqlite", feature = "json-lines"))]
mod aside;
mod batch;
mod budget;
mod convert;
mod dirty_log;
mod expired;
mod follow;
mod form;
mod held;
#[cfg(any(feature = "sqlite", feature = "json-lines"))]
mod identity;
#[cfg(feature = "json-lines")]
mod json_lines;
mod load;
mod loaded;
#[cfg(any(feature = "sqlite", feature = "json-lines"))]
mod lock;
mod memory;
mod migrate;
mod open;
mod opening;
mod outbox;
mod persister;
mod progress;
mod retained;
#[cfg(feature = "sqlite")]
mod sqlite;
mod steps;
#[cfg(feature = "threads")]
mod thread;

pub use batch::{Batch, StoredRow, TableBatch};
pub(crate) use budget::beyond;
pub(crate) use expired::expired;
pub use form::{Hash, Stored, StoredTable};
#[cfg(feature = "json-lines")]
pub use json_lines::JsonLines;
pub use load::Loader;
pub use memory::MemoryStorage;
pub(crate) use open::{How, Opened, open};
pub use opening::{Damage, SchemaChange, WhenDamaged};
pub(crate) use persister::{Handler, Persister};
#[cfg(feature = "sqlite")]
pub use sqlite::SqliteFile;
#[cfg(all(test, feature = "sqlite", feature = "unicode"))]
pub(crate) use sqlite::image;
#[cfg(feature = "sqlite")]
pub(crate) use sqlite::quoted;
pub(crate) use steps::{MigrationStep, StepFn};
#[cfg(feature = "threads")]
pub(crate) use thread::WriterThread;

use crate::error::{Error, ErrorKind, Result};
use crate::schema::Schema;

/// What a storage says of itself before its rows are read.
///
/// ```
/// let header = backwater::storage::Header { schema: String::new(), schema_name: "s.toml".into(), commit: 12, step: 0 };
/// assert_eq!(header.commit, 12);
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Header {
    /// The schema's text.
    pub schema: String,
    /// What the schema was called when it was read, such as the path of its file.
    pub schema_name: String,
    /// The number of the last commit that the storage holds.
    pub commit: u64,
    /// The number of the last step that was applied to its rows.
    pub step: u32,
}

impl Header {
    /// What a storage reports after a batch that contained a schema.
    ///
    /// See [`Loader`] for an example.
    pub fn of(schema: &Schema, batch: &Batch) -> Self {
        Self {
            schema: schema.text().to_owned(),
            schema_name: schema.name.to_string(),
            commit: batch.commit(),
            step: batch.step(),
        }
    }

    /// A hash of all of it, by which a file notices damage.
    #[cfg(any(feature = "sqlite", feature = "json-lines"))]
    pub(crate) fn guard(&self) -> Hash {
        let Self { schema, schema_name, commit, step } = self;
        let (commit, step) = (commit.to_be_bytes(), step.to_be_bytes());
        Hash::of(&[&commit, &step, schema_name.as_bytes(), schema.as_bytes()])
    }
}

/// A place where a cache persists. [`SqliteFile`] is one.
///
/// A driver gets everything as [`Batch`]es, each of which takes the storage from one commit
/// boundary to another; it must apply a batch as a whole or not at all.
///
/// ```
/// use backwater::{Cache, Schema, error::Result, storage::{Batch, Header, Loader, Storage, StoredTable}};
///
/// /// A storage that only counts what it is given.
/// #[derive(Default)]
/// struct Counter {
///     rows: usize,
/// }
///
/// impl Storage for Counter {
///     fn name(&self) -> String {
///         "a counter".to_owned()
///     }
///     fn header(&mut self) -> Result<Option<Header>> {
///         Ok(None)
///     }
///     fn load(&mut self, _: &StoredTable, _: &mut Loader) -> Result<()> {
///         Ok(())
///     }
///     fn write(&mut self, batch: &Batch) -> Result<()> {
///         self.rows += batch.tables().map(|table| table.puts().count()).sum::<usize>();
///         assert_eq!(self.rows, 1);
///         Ok(())
///     }
/// }
///
/// let schema = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?;
/// let cache = Cache::open_with(schema, Counter::default())?;
/// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
/// cache.flush()?;
/// # Ok::<(), backwater::Error>(())
/// ```
pub trait Storage: Send {
    /// What messages call it, such as the path of its file.
    fn name(&self) -> String;

    /// What it holds; `None` if nothing was ever written to it.
    ///
    /// # Errors
    /// If it cannot be read, or is no Backwater storage.
    fn header(&mut self) -> Result<Option<Header>>;

    /// Whether nothing can be written to it, as it was opened only to be read.
    ///
    /// See [`SqliteFile::read_only`](crate::SqliteFile::read_only) for one.
    fn is_read_only(&self) -> bool {
        false
    }

    /// Gives all rows of a table, in any order, and the hash that was last recorded for it;
    /// nothing, if it has no such table. The table has the columns that it had when it was written.
    /// It may be called at any time, also between batches, and more than once.
    ///
    /// # Errors
    /// If it cannot be read.
    fn load(&mut self, table: &StoredTable<'_>, loader: &mut Loader<'_>) -> Result<()>;

    /// How many rows a table has and their hash, as last recorded, without a look at the rows;
    /// `None` if it has no such table, or does not know.
    ///
    /// # Errors
    /// If it cannot be read.
    ///
    /// See [`Loader`] for an example.
    fn digest(&mut self, table: &StoredTable<'_>) -> Result<Option<(u64, Hash)>> {
        let _ = table;
        Ok(None)
    }

    /// Everything that is wanted was loaded, or nothing more will be: what was held open for that,
    /// so that all tables are of one commit, may be released.
    ///
    /// # Errors
    /// If it cannot be read.
    fn loaded(&mut self) -> Result<()> {
        Ok(())
    }

    /// Whether what was written is still there, as far as that can be found out without reading it:
    /// called before each write. If it is not, and nothing has taken its place, all is rewritten.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`] if something else has taken its place, or it was changed.
    fn is_there(&mut self) -> Result<bool> {
        Ok(true)
    }

    /// Makes sure that nothing remains of what was deleted or overwritten, and that no more room is
    /// taken than needed; a storage that leaves nothing need not do anything.
    ///
    /// # Errors
    /// If it cannot be written.
    fn compact(&mut self) -> Result<()> {
        Ok(())
    }

    /// Gives what it holds another name, which it returns, so that a new storage can be begun under
    /// its own. Nothing of it is lost.
    ///
    /// # Errors
    /// If it cannot; so does a storage that does not say how.
    ///
    /// See [`WhenDamaged`] for an example.
    fn set_aside(&mut self) -> Result<String> {
        Err(Error::new(ErrorKind::Storage, "it cannot be set aside"))
    }

    /// Makes a batch durable, all of it or nothing.
    ///
    /// # Errors
    /// If it cannot be written; the batch is then given again, with what was added to it since.
    fn write(&mut self, batch: &Batch) -> Result<()>;
}
