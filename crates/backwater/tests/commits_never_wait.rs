//! A commit waits for no other's work: not for the disk, and not for a first result that takes
//! long.

#![cfg_attr(
    not(feature = "threads"),
    allow(dead_code, unused_imports, reason = "some tests need a thread")
)]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex};
use std::thread;

use backwater::{
    Cache, Schema, Value,
    error::Result,
    storage::{Batch, Header, Loader, MemoryStorage, Storage, StoredTable},
};

const SCHEMA: &str = r#"
    table.a = { id = "id", fields = { id = "int", n = "int" } }
    table.b = { id = "id", fields = { id = "int", n = "int" } }
"#;

fn schema() -> Schema {
    Schema::parse("s.toml", SCHEMA).unwrap()
}

/// A storage whose writes wait until they may go on.
struct Blocked(MemoryStorage, Arc<(Mutex<bool>, Condvar)>, Arc<AtomicUsize>);

impl Storage for Blocked {
    fn name(&self) -> String {
        "blocked".to_owned()
    }

    fn header(&mut self) -> Result<Option<Header>> {
        self.0.header()
    }

    fn load(&mut self, table: &StoredTable<'_>, loader: &mut Loader<'_>) -> Result<()> {
        self.0.load(table, loader)
    }

    fn write(&mut self, batch: &Batch) -> Result<()> {
        self.2.fetch_add(1, Ordering::SeqCst);
        let (may, changed) = &*self.1;
        drop(changed.wait_while(may.lock().unwrap(), |may| !*may).unwrap());
        self.0.write(batch)
    }
}

#[test]
#[cfg(feature = "threads")]
fn for_the_disk() {
    let (memory, may, writes) = (MemoryStorage::new(), Arc::default(), Arc::default());
    let storage = Blocked(memory.clone(), Arc::clone(&may), Arc::clone(&writes));
    let cache = Cache::open_with(schema(), storage).unwrap();
    let count = cache.query("SELECT count(*) FROM a", ()).unwrap();
    for id in 0..500 {
        cache.commit("one more", |tx| tx.insert("a", [("id", id)])).unwrap();
        if id == 100 {
            while writes.load(Ordering::SeqCst) == 0 {
                thread::yield_now();
            }
        }
    }
    // All of that was made, and is seen, while the first write has not come back.
    assert_eq!(count.read().unwrap().row(0).unwrap().values(), [Value::Int(500)]);
    assert_eq!(writes.load(Ordering::SeqCst), 1);
    *may.0.lock().unwrap() = true;
    may.1.notify_all();
    drop(cache);
    assert_eq!(Cache::open(memory).unwrap().snapshot().count("a").unwrap(), 500);
}

#[test]
fn for_a_first_result() {
    let cache = Cache::new(schema());
    cache
        .commit("loaded", |tx| {
            (0..11_000_i64).try_for_each(|id| tx.insert("a", [("id", id), ("n", id % 97)]))?;
            (0..40_i64).try_for_each(|id| tx.insert("b", [("id", id), ("n", id)]))
        })
        .unwrap();
    let statements = [
        "SELECT count(*), sum(b.n) FROM a JOIN b ON a.n < b.n",
        "SELECT a.id, b.id FROM a JOIN b ON a.n > b.n ORDER BY b.n, a.id LIMIT 20",
        "SELECT a.id, b.n FROM a LEFT JOIN b ON b.id = a.n WHERE b.n IS NULL ORDER BY a.id",
        "SELECT n, count(*) FROM a GROUP BY n",
    ];
    for sql in statements {
        let defined = AtomicBool::new(false);
        let query = thread::scope(|scope| {
            let defining = scope.spawn(|| {
                let query = cache.query(sql, ()).unwrap();
                defined.store(true, Ordering::SeqCst);
                query
            });
            let mut id = 0_i64;
            while !defined.load(Ordering::SeqCst) {
                id += 1;
                cache
                    .commit("meanwhile", |tx| {
                        tx.merge("a", [("id", id * 37 % 11_000), ("n", id % 113)])?;
                        tx.delete("b", id % 40)?;
                        tx.merge("b", [("id", (id + 7) % 40), ("n", id % 90)])
                    })
                    .unwrap();
                thread::sleep(std::time::Duration::from_millis(2));
            }
            if sql.contains("sum(") {
                assert!(id > 3, "only {id} commits were made while the result was computed");
            }
            defining.join().unwrap()
        });
        let (fresh, mut lines) = (Cache::new(schema()), Vec::new());
        cache.snapshot().export(&mut lines).unwrap();
        fresh.commit("copied", |tx| tx.import(&lines)).unwrap();
        let reported = fresh.query(sql, ()).unwrap().read().unwrap();
        assert_eq!(query.read().unwrap(), reported, "{sql}");
        cache.commit("after that", |tx| tx.merge("a", [("id", 5), ("n", 1000)])).unwrap();
        fresh.commit("after that", |tx| tx.merge("a", [("id", 5), ("n", 1000)])).unwrap();
        assert_eq!(query.read().unwrap(), fresh.query(sql, ()).unwrap().read().unwrap(), "{sql}");
    }
}
