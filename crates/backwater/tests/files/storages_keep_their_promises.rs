//! Every storage does what the public suite asks, and the suite notices one that does not.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use backwater::{
    Cache, ErrorKind, Schema, SqliteFile,
    error::Result,
    storage::{Batch, Header, JsonLines, Loader, MemoryStorage, Storage, StoredTable},
    suite::check_storage,
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

/// Two caches that began on an empty storage: the second one gets an error each time that it tries,
/// and nothing of the first one's is overwritten, also when that is closed.
#[test]
fn who_comes_second_writes_nothing_over() {
    let folder = tempfile::tempdir().unwrap();
    let schema = || {
        Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }").unwrap()
    };
    let [db, lines] = ["two.db", "two.ndjson"].map(|name| folder.path().join(name));
    let open = |is_lines: bool| match is_lines {
        true => Cache::open_with(schema(), JsonLines::new(&lines)).unwrap(),
        false => Cache::open_with(schema(), SqliteFile::new(&db)).unwrap(),
    };
    for is_lines in [false, true] {
        let (first, second) = (open(is_lines), open(is_lines));
        first.commit("opened", |tx| tx.insert("port", [("code", "SAL")])).unwrap();
        first.flush().unwrap();
        drop(first);
        second.commit("opened", |tx| tx.insert("port", [("code", "EEL")])).unwrap();
        for _ in 0..3 {
            assert!(second.flush().is_err());
        }
        drop(second);
        let found = open(is_lines);
        assert!(found.snapshot().get("port", "SAL").unwrap().is_some());
        assert_eq!(found.snapshot().count("port").unwrap(), 1);
    }
}
