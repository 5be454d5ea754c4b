//! A disk for tests in which programs are killed.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use backwater::error::Result;
use backwater::storage::{Batch, Hash, Header, Loader, MemoryStorage, Storage, StoredTable};

/// A disk that a killed program can no longer write to.
#[derive(Clone)]
pub(crate) struct Disk(MemoryStorage, Arc<AtomicBool>);

impl Default for Disk {
    fn default() -> Self {
        Self(MemoryStorage::new(), Arc::default())
    }
}

impl Disk {
    /// What the program writes from now on is lost.
    pub(crate) fn kill(&self) {
        self.1.store(true, Ordering::Relaxed);
    }

    /// The same disk for the next program.
    #[must_use]
    pub(crate) fn of_next_program(&self) -> Self {
        Self(self.0.clone(), Arc::default())
    }
}

impl Storage for Disk {
    fn name(&self) -> String {
        self.0.name()
    }

    fn header(&mut self) -> Result<Option<Header>> {
        self.0.header()
    }

    fn digest(&mut self, table: &StoredTable<'_>) -> Result<Option<(u64, Hash)>> {
        self.0.digest(table)
    }

    fn load(&mut self, table: &StoredTable<'_>, loader: &mut Loader<'_>) -> Result<()> {
        self.0.load(table, loader)
    }

    fn write(&mut self, batch: &Batch) -> Result<()> {
        if self.1.load(Ordering::Relaxed) { Ok(()) } else { self.0.write(batch) }
    }
}
