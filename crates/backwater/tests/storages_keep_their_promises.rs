//! Every storage does what the public suite asks, and the suite notices one that does not.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use backwater::{
    Batch, ErrorKind, Header, JsonLines, Loader, MemoryStorage, Result, SqliteFile, Storage,
    StoredTable, check_storage,
};

#[test]
fn all_that_come_with_the_library() {
    let folder = tempfile::tempdir().unwrap();
    check_storage(|| SqliteFile::new(folder.path().join("suite.db"))).unwrap();
    check_storage(|| JsonLines::new(folder.path().join("suite.ndjson"))).unwrap();
    let memory = MemoryStorage::new();
    check_storage(|| memory.clone()).unwrap();
}

/// A storage that does one thing wrong, once.
#[derive(Clone)]
struct Wrong {
    memory: MemoryStorage,
    other: MemoryStorage,
    kind: usize,
    writes: Arc<AtomicUsize>,
}

impl Storage for Wrong {
    fn name(&self) -> String {
        "wrong".to_owned()
    }

    fn header(&mut self) -> Result<Option<Header>> {
        let header = self.memory.header()?;
        Ok(header
            .map(|header| Header { commit: header.commit + u64::from(self.kind == 2), ..header }))
    }

    fn load(&mut self, table: &StoredTable<'_>, loader: &mut Loader<'_>) -> Result<()> {
        // One table of an earlier time: whole, but not of this commit.
        if self.kind == 0 && table.name() == "sailing" && self.writes.load(Ordering::Relaxed) > 20 {
            return self.other.load(table, loader);
        }
        self.memory.load(table, loader)
    }

    fn write(&mut self, batch: &Batch) -> Result<()> {
        let number = self.writes.fetch_add(1, Ordering::Relaxed);
        if number < 15 {
            self.other.write(batch)?;
        }
        // A batch is lost after a false success.
        if self.kind == 1 && number == 17 {
            return Ok(());
        }
        self.memory.write(batch)
    }
}

#[test]
fn a_storage_that_does_wrong_is_noticed() {
    for kind in 0..3 {
        let wrong = Wrong {
            memory: MemoryStorage::new(),
            other: MemoryStorage::new(),
            kind,
            writes: Arc::default(),
        };
        let error = check_storage(|| wrong.clone()).unwrap_err();
        assert_eq!(error.kind(), ErrorKind::Caller, "kind {kind}: {error}");
    }
}
