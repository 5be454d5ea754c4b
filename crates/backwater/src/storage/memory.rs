//! A storage in memory: for tests, and for caches that are closed and opened again in one program.

use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::held::Held;
use super::{Batch, Hash, Header, Loader, Storage, Stored, StoredTable};
use crate::error::Result;

/// A storage in memory. Clones are the same storage, so that a cache can be opened from it again.
///
/// ```
/// use backwater::{Cache, Schema, storage::MemoryStorage};
///
/// let memory = MemoryStorage::new();
/// let schema = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?;
/// let cache = Cache::open_with(schema, memory.clone())?;
/// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
/// drop(cache);
/// assert_eq!(Cache::open(memory)?.snapshot().count("port")?, 1);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Clone, Default)]
pub struct MemoryStorage(Arc<Mutex<Held<MemoryRow>>>);

/// A row as it was given: its values, and the names of the columns whose fields are absent.
struct MemoryRow {
    values: Vec<Stored<'static>>,
    absent: Vec<String>,
}

impl MemoryStorage {
    /// An empty storage.
    ///
    /// See [`MemoryStorage`] for an example.
    pub fn new() -> Self {
        Self::default()
    }

    fn held(&self) -> MutexGuard<'_, Held<MemoryRow>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Storage for MemoryStorage {
    fn name(&self) -> String {
        "memory".to_owned()
    }

    fn header(&mut self) -> Result<Option<Header>> {
        Ok(self.held().header.clone())
    }

    fn digest(&mut self, table: &StoredTable<'_>) -> Result<Option<(u64, Hash)>> {
        Ok(self.held().tables.get(table.name()).map(|table| table.digest))
    }

    fn load(&mut self, table: &StoredTable<'_>, loader: &mut Loader<'_>) -> Result<()> {
        let held = self.held();
        let Some(table) = held.tables.get(table.name()) else { return Ok(()) };
        table.rows.values().try_for_each(|row| loader.row(&row.values, &row.absent))?;
        loader.digest(table.digest.0, table.digest.1);
        Ok(())
    }

    fn write(&mut self, batch: &Batch) -> Result<()> {
        self.held().take(batch, |_, row| MemoryRow {
            values: row.values().map(Stored::into_owned).collect(),
            absent: row.absent().map(str::to_owned).collect(),
        })
    }
}

impl fmt::Debug for MemoryStorage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "MemoryStorage({} tables)", self.held().tables.len())
    }
}
