//! A storage in memory: for tests, and for caches that are closed and opened again in one program.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::{Batch, Hash, Header, Loader, Storage, Stored, StoredTable, asleep};
use crate::error::{Error, ErrorKind, Result};

/// A storage in memory. Clones are the same storage, so that a cache can be opened from it again.
///
/// ```
/// use backwater::{Cache, MemoryStorage, Schema};
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
pub struct MemoryStorage(Arc<Mutex<Held>>);

/// What a storage of whole rows holds.
#[derive(Debug, Clone, Default)]
pub(super) struct Held {
    pub(super) header: Option<Header>,
    pub(super) tables: BTreeMap<String, HeldTable>,
}

#[derive(Debug, Clone, Default)]
pub(super) struct HeldTable {
    /// By id, as it is written.
    pub(super) rows: BTreeMap<String, HeldRow>,
    pub(super) told: (u64, Hash),
}

#[derive(Debug, Clone, Default)]
pub(super) struct HeldRow {
    pub(super) values: Vec<Stored<'static>>,
    pub(super) absent: Vec<String>,
}

impl Held {
    pub(super) fn load(&self, table: &StoredTable<'_>, loader: &mut Loader<'_>) -> Result<()> {
        let Some(table) = self.tables.get(table.name()) else { return Ok(()) };
        table.rows.values().try_for_each(|row| loader.row(&row.values, &row.absent))?;
        loader.told(table.told.0, table.told.1);
        Ok(())
    }

    /// Takes a batch.
    ///
    /// # Errors
    /// If it goes on from another commit than the one that is held; then nothing is taken.
    pub(super) fn take(&mut self, batch: &Batch) -> Result<()> {
        let held = self.header.as_ref().map(|header| header.commit);
        if held.is_none() != batch.is_first() || held.unwrap_or(0) != batch.from_commit() {
            return Err(overtaken());
        }
        for table in batch.dropped() {
            self.tables.remove(table);
        }
        for rows in batch.tables() {
            let table = self.tables.entry(rows.table().name().to_owned()).or_default();
            for id in rows.deletes() {
                table.rows.remove(&asleep::row_id(Some(id.clone())));
            }
            for row in rows.puts() {
                let values = row.values().map(Stored::into_owned).collect();
                let absent = row.absent().map(str::to_owned).collect();
                table.rows.insert(asleep::row_id(row.id()), HeldRow { values, absent });
            }
            table.told = (rows.rows(), rows.hash());
        }
        match (batch.new_schema(), &mut self.header) {
            (Some(schema), header) => *header = Some(Header::of(schema, batch)),
            (None, Some(header)) => header.commit = batch.commit(),
            (None, None) => debug_assert!(false, "the first batch has a schema"),
        }
        Ok(())
    }
}

pub(super) fn overtaken() -> Error {
    Error::new(ErrorKind::Storage, "another program has written to it since it was opened")
        .help("open the cache again; nothing was written")
}

impl MemoryStorage {
    /// A storage that nothing was ever written to.
    ///
    /// See [`MemoryStorage`] for an example.
    pub fn new() -> Self {
        Self::default()
    }

    fn held(&self) -> MutexGuard<'_, Held> {
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

    fn load(&mut self, table: &StoredTable<'_>, loader: &mut Loader<'_>) -> Result<()> {
        self.held().load(table, loader)
    }

    fn write(&mut self, batch: &Batch) -> Result<()> {
        self.held().take(batch)
    }
}

impl fmt::Debug for MemoryStorage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "MemoryStorage({} tables)", self.held().tables.len())
    }
}
