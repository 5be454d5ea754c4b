//! A cache that only reads a storage follows its writer, commit by commit or several at once.

#![cfg_attr(
    not(feature = "threads"),
    allow(dead_code, unused_imports, reason = "some tests need a thread")
)]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

#[path = "../shared/ferries.rs"]
mod ferries;

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use backwater::{
    Cache, ErrorKind, Schema, SqliteFile, Value,
    storage::{JsonLines, Storage},
};
use ferries::{QUERIES, Write, commit, commits, exported, schema};
use proptest::prelude::*;

/// The notes that a reader has made of its own, which persist nowhere.
fn notes(cache: &Cache) -> BTreeMap<String, Value> {
    let snapshot = cache.snapshot();
    let rows = snapshot.rows("sailing").unwrap();
    let notes = rows.filter_map(|row| Some((row.id()?.to_string(), row.get("remark").unwrap()?)));
    notes.collect()
}

fn follow<S: Storage + 'static>(
    commits: &[(Vec<Write>, bool)],
    open: impl Fn() -> S,
    look: impl Fn() -> S,
) {
    let writer = Cache::open_with(schema(), open()).unwrap();
    commit(&writer, &[Write::Search(0)]);
    writer.flush().unwrap();
    let reader = Cache::open(look()).unwrap();
    let views = QUERIES.map(|sql| {
        let query = reader.query(sql, ()).unwrap();
        let shown: Arc<Mutex<Vec<Vec<Value>>>> = Arc::default();
        let view = shown.clone();
        let watch = reader.watch(&query, move |reached| {
            if let Some(delta) = reached.delta() {
                delta.apply(&mut view.lock().unwrap()).unwrap();
            }
        });
        (query, shown, watch.unwrap())
    });
    let mut own: BTreeMap<String, Value> = BTreeMap::new();
    for (writes, is_seen) in commits {
        commit(&writer, writes);
        if !is_seen {
            continue;
        }
        writer.flush().unwrap();
        let before = reader.snapshot().commit();
        let report = reader.follow("the writer wrote").unwrap();
        let strip = |text: String| {
            text.replace(",\"remark\":\"now\"", "").replace(",\"remark\":\"mine\"", "")
        };
        assert_eq!(strip(exported(&reader)), strip(exported(&writer)));
        match report {
            Some(report) => assert!(report.number() > before && report.changes().count() > 0),
            None => assert_eq!(reader.snapshot().commit(), before),
        }
        assert!(reader.follow("nothing new").unwrap().is_none());
        for (query, shown, _watch) in &views {
            let read: Vec<_> =
                query.read().unwrap().rows().map(|row| row.values().to_vec()).collect();
            assert_eq!(*shown.lock().unwrap(), read);
        }
        // What persists nowhere stays, as long as its row does.
        own.retain(|id, _| {
            reader.snapshot().get("sailing", id.parse::<i64>().unwrap()).unwrap().is_some()
        });
        assert_eq!(notes(&reader), own);
        let first = reader.snapshot().rows("sailing").unwrap().next().and_then(|row| row.id());
        if let Some(id) = first {
            reader
                .commit("a note", |tx| tx.update("sailing", id.clone(), [("remark", "mine")]))
                .unwrap();
            own.insert(id.to_string(), "mine".into());
        }
    }
    if !own.is_empty() {
        assert_eq!(reader.flush().unwrap_err().kind(), ErrorKind::Storage);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_is_written_is_followed(commits in commits(12), seen in prop::collection::vec(any::<bool>(), 12)) {
        let commits: Vec<_> = commits.into_iter().zip(seen).collect();
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("followed.db");
        follow(&commits, || SqliteFile::new(&path), || SqliteFile::read_only(&path));
        let path = folder.path().join("followed.ndjson");
        follow(&commits, || JsonLines::new(&path), || JsonLines::read_only(&path));
    }
}

/// `BACKWATER_CASES=5000 cargo test --release -p backwater --test readers_follow_writers` is a long
/// run.
fn cases() -> u32 {
    std::env::var("BACKWATER_CASES").map_or(25, |cases| cases.parse().unwrap())
}

/// A read-only cache holds nothing up, however its tables were loaded.
#[test]
fn a_reader_lets_go_of_the_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("read.db");
    let writer = Cache::open_with(schema(), SqliteFile::new(&path)).unwrap();
    commit(&writer, &[Write::Merge(0, 1, 0), Write::Merge(2, 7, 2)]);
    writer.flush().unwrap();
    let builder = Cache::builder().storage(SqliteFile::read_only(&path));
    let reader = builder.load_first(["port"]).load_rest_on_demand().build().unwrap();
    // A change of its own, for which all the rest has to come.
    let own = r#"{ "vessel": {}, "sailing": {}, "booking": {}, "seat": {}, "departure_list": {} }"#;
    reader.commit("looked at", |tx| tx.merge_patch(own)).unwrap();
    assert!(reader.readiness().is_ready());
    commit(&writer, &[Write::Merge(0, 2, 0)]);
    let start = Instant::now();
    writer.flush().unwrap();
    // It would wait five seconds for a reader that does not let go.
    assert!(start.elapsed() < Duration::from_secs(4));
    assert!(reader.follow("the writer wrote").unwrap().is_some());
}

/// A thread follows by itself, and ends with the cache; a writer with another schema is reported.
#[test]
#[cfg(feature = "threads")]
fn a_thread_follows_and_reports_another_schema() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("followed.db");
    let writer = Cache::open_with(schema(), SqliteFile::new(&path)).unwrap();
    commit(&writer, &[Write::Merge(0, 1, 0)]);
    writer.flush().unwrap();
    let reported: Arc<Mutex<Vec<ErrorKind>>> = Arc::default();
    let errors = reported.clone();
    let builder = Cache::builder().storage(SqliteFile::read_only(&path));
    let builder = builder.on_storage_error(move |error| errors.lock().unwrap().push(error.kind()));
    let reader =
        builder.load_first(["port"]).follow_every(Duration::from_millis(5)).build().unwrap();
    let wait = |is_so: &dyn Fn() -> bool| {
        let start = Instant::now();
        while !is_so() {
            assert!(start.elapsed() < Duration::from_secs(20));
            std::thread::sleep(Duration::from_millis(2));
        }
    };
    commit(&writer, &[Write::Merge(0, 2, 0), Write::Merge(3, 7, 2)]);
    wait(&|| reader.snapshot().count("port").unwrap() == 2);
    assert_eq!(reader.snapshot().count("booking").unwrap(), 1);
    drop(writer);
    assert!(reported.lock().unwrap().is_empty());
    let other = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }");
    drop(Cache::open_with(other.unwrap(), SqliteFile::new(&path)).unwrap());
    wait(&|| reported.lock().unwrap().contains(&ErrorKind::Version));
    drop(reader);
    let writer = Cache::open(SqliteFile::new(&path)).unwrap();
    let error = writer.follow("oneself").unwrap_err();
    assert!(error.to_string().contains("no other program writes"), "{error}");
}
