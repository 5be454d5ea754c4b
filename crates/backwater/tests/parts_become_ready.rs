//! A cache whose tables come later does what one does that had them from the start.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use backwater::{
    Cache, ErrorKind, Found, Link, Schema, SqliteFile, Transaction, Value,
    error::Result,
    storage::{Batch, Damage, Header, Loader, MemoryStorage, Storage, StoredTable, WhenDamaged},
};
use proptest::prelude::*;

#[path = "shared/ferries.rs"]
mod ferries;

use ferries::{QUERIES, TABLES, Write, commit, commits, exported, schema, write};

#[derive(Debug, Clone)]
enum Step {
    Commit(Vec<Write>),
    Rehydrate(usize),
    Flush,
    Clear,
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        8 => prop::collection::vec(write(), 1..4).prop_map(Step::Commit),
        2 => (0..TABLES.len()).prop_map(Step::Rehydrate),
        1 => Just(Step::Flush),
        1 => Just(Step::Clear),
    ];
    prop::collection::vec(step, 0..12)
}

/// `BACKWATER_CASES=20000 cargo test --release -p backwater --test parts_become_ready` is a long
/// run.
fn cases() -> u32 {
    std::env::var("BACKWATER_CASES").map_or(100, |cases| cases.parse().unwrap())
}

/// A storage with what some commits left.
fn filled(commits: &[Vec<Write>]) -> MemoryStorage {
    let memory = MemoryStorage::new();
    let cache = Cache::open_with(schema(), memory.clone()).unwrap();
    commits.iter().for_each(|writes| drop(commit(&cache, writes)));
    memory
}

fn rows(query: &backwater::Query) -> Vec<Vec<Value>> {
    query.read().unwrap().rows().map(|row| row.values().to_vec()).collect()
}

/// A watched query, and the rows that its deltas have led to.
fn watched(
    cache: &Cache,
    sql: &str,
) -> (backwater::Query, Arc<Mutex<Vec<Vec<Value>>>>, backwater::Watch) {
    let query = cache.query(sql, ()).unwrap();
    let shown = Arc::new(Mutex::new(Vec::new()));
    let view = shown.clone();
    // Where a thread reads, a delta may be delivered before what it begins with is here.
    let mut rows = shown.lock().unwrap();
    let watch = cache.read_and_watch(&query, move |reached| {
        if let Some(delta) = reached.delta() {
            delta.apply(&mut view.lock().unwrap()).unwrap();
        }
    });
    let (start, watch) = watch.unwrap();
    *rows = start.rows().map(|row| row.values().to_vec()).collect();
    drop(rows);
    (query, shown, watch)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_comes_later_makes_no_difference(
        before in commits(12),
        first in prop::collection::vec(0..TABLES.len(), 0..4),
        by_thread in any::<bool>(),
        steps in steps(),
    ) {
        let (one, other) = (filled(&before), filled(&before));
        let whole = Cache::open_with(schema(), one.clone()).unwrap();
        let builder = Cache::builder().schema(schema()).storage(other.clone());
        let builder = builder.load_first(first.iter().map(|table| TABLES[*table]));
        let parts = if by_thread { builder } else { builder.load_rest_on_demand() }.build().unwrap();
        let views = QUERIES.map(|sql| watched(&parts, sql));
        for step in &steps {
            match step {
                Step::Commit(writes) => prop_assert_eq!(commit(&parts, writes), commit(&whole, writes)),
                Step::Rehydrate(table) => parts.rehydrate([TABLES[*table]]).unwrap(),
                Step::Flush => parts.flush().unwrap(),
                Step::Clear => {
                    parts.clear("signed out").unwrap();
                    whole.clear("signed out").unwrap();
                }
            }
        }
        parts.rehydrate(..).unwrap();
        prop_assert!(parts.readiness().is_ready());
        prop_assert_eq!(exported(&parts), exported(&whole));
        for (sql, (query, shown, _watch)) in QUERIES.iter().zip(&views) {
            let reported = rows(&whole.query(sql, ()).unwrap());
            prop_assert_eq!(&rows(query), &reported);
            prop_assert_eq!(&*shown.lock().unwrap(), &reported);
        }
        drop((parts, whole, views));
        let [one, other] = [one, other].map(|memory| exported(&Cache::open(memory).unwrap()));
        prop_assert_eq!(one, other);
    }
}

/// What a program does while a table is read.
type Meanwhile = Arc<Mutex<Option<Box<dyn FnMut() + Send>>>>;

/// A storage in memory during whose reading a program commits.
struct Slow {
    memory: MemoryStorage,
    meanwhile: Meanwhile,
}

impl Storage for Slow {
    fn name(&self) -> String {
        "slow".to_owned()
    }
    fn header(&mut self) -> Result<Option<Header>> {
        self.memory.header()
    }
    fn load(&mut self, table: &StoredTable<'_>, loader: &mut Loader<'_>) -> Result<()> {
        self.memory.load(table, loader)?;
        if let Some(meanwhile) = &mut *self.meanwhile.lock().unwrap() {
            meanwhile();
        }
        Ok(())
    }
    fn write(&mut self, batch: &Batch) -> Result<()> {
        self.memory.write(batch)
    }
}

/// While a table is read, commits go on; those that meet new ids of it have it read again, and it
/// is put in place in the end all the same.
#[test]
fn commits_go_on_while_a_table_is_read() {
    for meets_ids in [false, true] {
        let memory = filled(&[
            vec![Write::Merge(1, 0, 1), Write::Merge(2, 1, 0), Write::Merge(2, 2, 0)],
            vec![Write::Merge(3, 7, 2)],
        ]);
        let meanwhile: Meanwhile = Arc::default();
        let slow = Slow { memory: memory.clone(), meanwhile: meanwhile.clone() };
        let cache = Cache::builder().schema(schema()).storage(slow);
        let cache = cache.load_first(["booking"]).load_rest_on_demand().build().unwrap();
        let (writer, made) = (cache.clone(), Arc::new(Mutex::new(0)));
        let count = made.clone();
        *meanwhile.lock().unwrap() = Some(Box::new(move || {
            let number = 100 + *count.lock().unwrap();
            let sailing = if meets_ids { number } else { 2 };
            let made = writer.commit("booked meanwhile", |tx| {
                tx.insert("booking", [("id", number), ("sailing", sailing)])
            });
            // In the end commits wait: this one is on the thread that reads.
            *count.lock().unwrap() += i64::from(made.is_ok());
        }));
        cache.rehydrate(["sailing"]).unwrap();
        *meanwhile.lock().unwrap() = None;
        assert_eq!(*made.lock().unwrap(), if meets_ids { 6 } else { 2 });
        let sailings = cache.query("SELECT id, vessel FROM sailing ORDER BY id", ()).unwrap();
        assert_eq!(sailings.read().unwrap().row(1).unwrap().values(), [2.into(), "P0".into()]);
        cache.commit("and later", |tx| tx.delete("sailing", 2).map(drop)).unwrap();
        cache.rehydrate(..).unwrap();
        let now = exported(&cache);
        drop(cache);
        assert_eq!(exported(&Cache::open(memory).unwrap()), now);
    }
}

/// Damage in a table that is loaded later is reported to the calls that wait for it and to those
/// that write to it; or the file is set aside then, with what was read kept.
#[test]
fn damage_is_met_when_a_table_comes() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("parts.db");
    let fill = || {
        let cache = Cache::open_with(schema(), SqliteFile::new(&path)).unwrap();
        let writes = [Write::Merge(0, 1, 0), Write::Merge(1, 2, 1), Write::Merge(3, 7, 2)];
        commit(&cache, &writes);
        drop(cache);
        let file = rusqlite::Connection::open(&path).unwrap();
        file.execute("UPDATE booking SET cars = 3", ()).unwrap();
    };
    fill();
    let open = |what: WhenDamaged| {
        let builder = Cache::builder().schema(schema()).storage(SqliteFile::new(&path));
        builder.when_damaged(what).load_first(["port"]).load_rest_on_demand().build().unwrap()
    };
    let cache = open(WhenDamaged::Refuse);
    let reported = cache.rehydrate(..).unwrap_err().to_string();
    assert!(reported.contains("booking"), "{reported}");
    let written = cache.commit("booked", |tx| tx.merge("booking", [("id", 8)])).unwrap_err();
    assert_eq!(written.kind(), backwater::ErrorKind::Damaged);
    cache.commit("elsewhere", |tx| tx.merge("port", [("code", "P9")])).unwrap();
    drop(cache);

    let cache = open(WhenDamaged::AcceptEdits);
    cache.rehydrate(..).unwrap();
    assert!(
        matches!(cache.opening().damage, Some(Damage::Accepted { tables }) if tables == ["booking"])
    );
    assert_eq!(
        cache.snapshot().get("booking", 7).unwrap().unwrap().get("cars").unwrap(),
        Some(3.into())
    );
    drop(cache);
    drop(Cache::open(SqliteFile::new(&path)).unwrap());

    std::fs::remove_file(&path).unwrap();
    fill();
    let cache = open(WhenDamaged::SetAside);
    cache.rehydrate(..).unwrap();
    let Some(Damage::SetAside { name, .. }) = cache.opening().damage else { panic!() };
    assert!(std::fs::exists(name).unwrap());
    assert_eq!(cache.snapshot().count("port").unwrap(), 1);
    drop(cache);
    let again = Cache::open(SqliteFile::new(&path)).unwrap();
    assert_eq!(
        (again.snapshot().count("port").unwrap(), again.snapshot().count("booking").unwrap()),
        (1, 0)
    );
}

/// Letting go of a cache does not wait until all is read, and leaves its file to the next one.
#[test]
fn closing_ends_what_is_being_read() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("closed.db");
    let cache = Cache::open_with(schema(), SqliteFile::new(&path)).unwrap();
    let rows =
        |tx: &mut Transaction| (0..20_000).try_for_each(|id| tx.insert("booking", [("id", id)]));
    cache.commit("many", rows).unwrap();
    drop(cache);
    for _ in 0..20 {
        let builder = Cache::builder().schema(schema()).storage(SqliteFile::new(&path));
        let failed = Arc::new(AtomicBool::new(false));
        let reported = failed.clone();
        let builder = builder.on_storage_error(move |_| reported.store(true, Ordering::Relaxed));
        let cache = builder.load_first(["port"]).build().unwrap();
        cache.commit("elsewhere", |tx| tx.merge("port", [("code", "P9")])).unwrap();
        drop(cache);
        assert!(!failed.load(Ordering::Relaxed));
    }
    let cache = Cache::open(SqliteFile::new(&path)).unwrap();
    assert_eq!(cache.snapshot().count("booking").unwrap(), 20_000);
}

#[derive(Debug, PartialEq, backwater::Table)]
struct Port {
    #[table(id)]
    code: String,
}

#[derive(Debug, PartialEq, backwater::Table)]
struct Call {
    #[table(id)]
    id: i64,
    port: Link<Port>,
}

/// A part of a call, with its port.
#[derive(Debug, PartialEq, backwater::Table)]
#[table(of = Call)]
struct CallAtPort {
    id: i64,
    port: Found<Port>,
}

/// "There is none" and "not known yet" are two answers, in every way of asking.
#[test]
fn what_is_still_to_come_is_not_missing() {
    let declared = || Schema::builder().table::<Port>().table::<Call>().build().unwrap();
    let memory = MemoryStorage::new();
    let cache = Cache::open_with(declared(), memory.clone()).unwrap();
    cache
        .commit("loaded", |tx| {
            tx.table::<Port>()?.insert(&Port { code: "SAL".into() })?;
            tx.table::<Call>()?.insert(&Call { id: 1, port: Link::to("SAL") })?;
            tx.table::<Call>()?.insert(&Call { id: 2, port: Link::to("EEL") })
        })
        .unwrap();
    drop(cache);
    let builder = Cache::builder().schema(declared()).storage(memory);
    let cache = builder.load_first(["call"]).load_rest_on_demand().build().unwrap();
    let runs = Arc::new(Mutex::new(Vec::new()));
    let seen = runs.clone();
    let ports = cache.derived("ports of calls", move |read| {
        let calls: Vec<_> = read.table::<CallAtPort>()?.iter().filter_map(Found::here).collect();
        let ports: Vec<_> = calls.into_iter().map(|call| (call.id, call.port)).collect();
        seen.lock().unwrap().push(ports.len());
        Ok(ports)
    });
    let named = cache
        .query("SELECT c.id, p.code FROM call AS c LEFT JOIN port AS p ON p.code = c.port", ())
        .unwrap();

    let snapshot = cache.snapshot();
    let not_ready = |error: backwater::Error| {
        assert_eq!(error.kind(), ErrorKind::NotReady);
        assert!(error.to_string().contains("the rows of \"port\" are not loaded"), "{error}");
    };
    not_ready(snapshot.get("port", "SAL").unwrap_err());
    not_ready(snapshot.count("port").unwrap_err());
    not_ready(snapshot.rows("port").err().unwrap());
    not_ready(snapshot.table::<Port>().unwrap_err());
    not_ready(snapshot.get("call", 1).unwrap().unwrap().follow("port").unwrap_err());
    not_ready(cache.commit("asked", |tx| tx.get("port", "SAL").map(|_| ())).unwrap_err());
    not_ready(named.missing(9).unwrap_err());
    assert!(!named.is_ready());
    let calls = snapshot.table::<CallAtPort>().unwrap();
    let Found::Here(call) = calls.get(1) else { panic!() };
    assert_eq!(call.port, Found::NotReady);
    assert!(!snapshot.tables().iter().find(|table| table.name == "port").unwrap().is_ready);
    assert_eq!(ports.get().unwrap().as_slice(), [(1, Found::NotReady), (2, Found::NotReady)]);

    cache.rehydrate(["port"]).unwrap();
    let snapshot = cache.snapshot();
    assert!(snapshot.get("port", "SAL").unwrap().is_some());
    assert!(snapshot.get("port", "EEL").unwrap().is_none());
    assert!(snapshot.get("call", 2).unwrap().unwrap().follow("port").unwrap().is_none());
    let port = |code: &str| Found::Here(Port { code: code.into() });
    assert_eq!(ports.get().unwrap().as_slice(), [(1, port("SAL")), (2, Found::Missing)]);
    assert_eq!(named.missing(9).unwrap().count, 1);
}
