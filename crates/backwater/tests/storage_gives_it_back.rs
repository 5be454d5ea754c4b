//! What was committed is in the file, and comes back from it; what does not persist never gets
//! there; and a file that is not as it was written is never taken for one that is.
#![cfg(feature = "sqlite")]
#![cfg_attr(
    not(feature = "threads"),
    allow(dead_code, unused_imports, reason = "some tests need a thread")
)]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use backwater::{
    Cache, Error, ErrorKind, Named, Request, Schema, SqliteFile, Value,
    error::Result,
    storage::{Batch, Damage, Header, Loader, Storage, StoredTable, WhenDamaged},
};
use proptest::prelude::*;

const SCHEMA: &str = r#"
    [table.item]
    id = "id"
    fields = { id = "int", r = "float", b = "bool", "odd \"name\"" = "text", at = "timestamp", j = "json", part = { to = "part" }, secret = { type = "text", persist = false } }

    [table.part]
    id = "code"
    fields = { code = "text", back = { to = "item" } }

    [table.scratch]
    id = "id"
    persist = false
    fields = { id = "int", t = "text" }

    [table.board]
    one_row = true
    fields = { port = { to = "part" }, search = { type = "text", persist = false } }

    [response.items]
    records = "/items"
    table = "item"

    [query]
    by_part = "SELECT part, count(*) AS n, sum(r) AS r FROM item GROUP BY part"
"#;

/// A text that must not be found in a file.
const SECRET: &str = "correct-horse-battery";

fn schema() -> Schema {
    Schema::parse("test.toml", SCHEMA).unwrap()
}

fn folder() -> (tempfile::TempDir, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("cache.db");
    (folder, path)
}

/// All rows of the tables that persist, without what does not, as text.
fn dump(cache: &Cache) -> Vec<String> {
    let snapshot = cache.snapshot();
    let mut rows = Vec::new();
    for table in ["item", "part", "board"] {
        for row in snapshot.rows(table).unwrap() {
            let fields = row.fields().filter(|(name, _)| !["secret", "search"].contains(name));
            rows.push(format!("{table} {:?}", fields.collect::<Vec<_>>()));
        }
    }
    rows.sort();
    rows
}

type Write = (u8, i64, Vec<(&'static str, Value)>);

fn write() -> impl Strategy<Value = Write> {
    let field = prop_oneof![
        (-4..9_i32).prop_map(|n| ("r", (f64::from(n) / 4.0).into())),
        any::<bool>().prop_map(|b| ("b", b.into())),
        "[a-zé'\" ]{0,50}".prop_map(|t| ("odd \"name\"", t.into())),
        (0..9_i64)
            .prop_map(|n| ("at", backwater::Timestamp::from_micros(n * 1_234_567).unwrap().into())),
        (0..9_i64)
            .prop_map(|n| ("j", backwater::Json::parse(&format!("[{n}, 1.0]")).unwrap().into())),
        prop::sample::select(vec!["P", "Q"]).prop_map(|code| ("part", code.into())),
        Just(("secret", SECRET.into())),
        prop::sample::select(vec!["r", "b", "at", "j", "part"])
            .prop_map(|name| (name, Value::Null)),
    ];
    (0..6_u8, 0..300_i64, prop::collection::vec(field, 0..5))
}

fn apply(cache: &Cache, writes: &[Write]) -> Result<()> {
    let report = cache.commit("random writes", |tx| {
        for (what, id, fields) in writes {
            match what {
                0 => drop(tx.delete("item", *id)?),
                1 => tx.merge("part", [("code", Value::from("P")), ("back", (*id).into())])?,
                2 => tx.set("board", [("port", "Q"), ("search", SECRET)])?,
                3 => tx.merge("scratch", [("id", Value::from(*id)), ("t", SECRET.into())])?,
                _ => {
                    let fields = fields.iter().cloned().chain([("id", (*id).into())]);
                    tx.merge("item", fields.collect::<Named>())?;
                }
            }
        }
        Ok(())
    });
    report?;
    cache.flush()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn every_commit_is_in_the_file_and_comes_back(commits in prop::collection::vec(prop::collection::vec(write(), 0..40), 1..8)) {
        let (_folder, path) = folder();
        let mut cache = Cache::open_with(schema(), SqliteFile::new(&path)).unwrap();
        for (number, writes) in commits.iter().enumerate() {
            apply(&cache, writes).unwrap();
            let again = Cache::open(SqliteFile::read_only(&path)).unwrap();
            prop_assert_eq!(dump(&again), dump(&cache));
            let by_part = again.query("by_part", ()).unwrap().read().unwrap();
            prop_assert_eq!(by_part, cache.query("by_part", ()).unwrap().read().unwrap());
            prop_assert_eq!(again.snapshot().count("scratch").unwrap(), 0);
            if number % 2 == 1 {
                drop(cache);
                cache = Cache::open(SqliteFile::new(&path)).unwrap();
            }
        }
        let bytes = fs::read(&path).unwrap();
        prop_assert!(!bytes.windows(SECRET.len()).any(|window| window == SECRET.as_bytes()));
        // Any SQLite program finds the same rows.
        let sqlite = rusqlite::Connection::open(&path).unwrap();
        let count: i64 = sqlite.query_row("SELECT count(*) FROM item WHERE r IS NOT NULL", [], |row| row.get(0)).unwrap();
        let ours = cache.query("SELECT count(*) FROM item WHERE r IS NOT NULL", ()).unwrap().read().unwrap();
        prop_assert_eq!(ours.row(0).unwrap().values(), [Value::Int(count)]);
    }
}

/// A small cache file with a few rows.
fn small(path: &Path) -> Vec<String> {
    let cache = Cache::open_with(schema(), SqliteFile::new(path)).unwrap();
    let fields = |n: i64| {
        [
            ("id", Value::from(n)),
            ("r", 1.5.into()),
            ("part", "P".into()),
            ("b", (n % 2 == 0).into()),
        ]
    };
    cache.commit("items", |tx| (0..5).try_for_each(|n| tx.insert("item", fields(n)))).unwrap();
    cache.flush().unwrap();
    dump(&cache)
}

fn opens_as(path: &Path, rows: &[String]) -> Result<()> {
    let cache = Cache::open(SqliteFile::read_only(path))?;
    assert_eq!(dump(&cache), rows, "other rows than were written");
    Ok(())
}

/// Bits are flipped all over a file, and it is cut at many lengths: an error, or the right rows.
#[test]
fn a_damaged_file_is_an_error_or_gives_the_right_rows() {
    let (_folder, path) = folder();
    let rows = small(&path);
    let whole = fs::read(&path).unwrap();
    // A file of its own each time: writing over one would wait for the disk.
    let opened = |number: usize, bytes: &[u8]| {
        let copy = path.with_file_name(format!("copy {number}.db"));
        fs::write(&copy, bytes).unwrap();
        let opened = opens_as(&copy, &rows);
        assert_eq!(fs::read(&copy).unwrap(), bytes, "left as it is");
        fs::remove_file(&copy).unwrap();
        opened
    };
    let mut refused = 0;
    // `BACKWATER_EVERY_BYTE=1` makes it a long run.
    let every = std::env::var_os("BACKWATER_EVERY_BYTE").is_some();
    for at in (0..whole.len()).filter(|at| every || whole[*at] != 0 || at % 61 == 0) {
        let mut damaged = whole.clone();
        damaged[at] ^= 1 << (at % 8);
        refused += usize::from(opened(at, &damaged).is_err());
    }
    assert!(refused > 200, "{refused}");
    for len in (1..whole.len()).step_by(if every { 1 } else { 509 }) {
        assert!(opened(len, &whole[..len]).is_err(), "cut at {len}");
    }
}

#[test]
fn an_edit_by_another_program_is_noticed() {
    for edit in [
        "UPDATE item SET r = 2.5 WHERE id = 3",
        "DELETE FROM item WHERE id = 3",
        "INSERT INTO part VALUES ('Z', NULL)",
        "UPDATE backwater_null SET is_absent = 1 - is_absent WHERE table_name = 'item' AND field = 'at'",
        "UPDATE item SET b = NULL WHERE id = 2",
    ] {
        let (_folder, path) = folder();
        small(&path);
        rusqlite::Connection::open(&path).unwrap().execute(edit, []).unwrap();
        let error = Cache::open(SqliteFile::new(&path)).unwrap_err();
        assert_eq!(error.kind(), ErrorKind::Damaged, "{edit}: {error}");
        // With that option the edit is accepted, and then it is as good as written by us.
        let accepting = Cache::builder().storage(SqliteFile::new(&path));
        let cache = accepting.when_damaged(WhenDamaged::AcceptEdits).build().unwrap();
        assert!(
            matches!(cache.opening().damage, Some(Damage::Accepted { tables }) if tables.len() == 1)
        );
        let rows = dump(&cache);
        drop(cache);
        opens_as(&path, &rows).unwrap();
    }
}

/// What a cleared cache held is in no byte of its file any more.
#[test]
fn signing_out_leaves_nothing_to_find() {
    let (_folder, path) = folder();
    let cache = Cache::open_with(schema(), SqliteFile::new(&path)).unwrap();
    for round in 0..3_i64 {
        cache
            .commit("items", |tx| {
                (0..300_i64).try_for_each(|n| {
                    let text = format!(
                        "{SECRET} of {n} in {round} {}",
                        "and more ".repeat(n as usize % 90)
                    );
                    tx.merge("item", (("id", n), ("odd \"name\"", text)))
                })
            })
            .unwrap();
        cache.flush().unwrap();
    }
    let has_secret =
        || fs::read(&path).unwrap().windows(SECRET.len()).any(|of| of == SECRET.as_bytes());
    assert!(has_secret());
    cache.clear("signed out").unwrap();
    assert!(!has_secret());
}

/// A damaged file is given another name, its journal too, and a new one is begun; a whole one is
/// not.
#[test]
fn a_damaged_file_is_set_aside_and_nothing_of_it_is_lost() {
    let (folder, path) = folder();
    small(&path);
    let open = || {
        let builder = Cache::builder().schema(schema()).storage(SqliteFile::new(&path));
        builder.when_damaged(WhenDamaged::SetAside).build().unwrap()
    };
    assert!(open().opening().damage.is_none());
    for number in 1..3 {
        let mut bytes = fs::read(&path).unwrap();
        let at = bytes
            .windows(4)
            .rposition(|window| *window == 1.5_f64.to_be_bytes()[..4])
            .unwrap_or(bytes.len() - 9);
        bytes[at] ^= 8;
        fs::write(&path, &bytes).unwrap();
        let cache = open();
        let Some(Damage::SetAside { name, error }) = cache.opening().damage else {
            panic!("not set aside")
        };
        assert_eq!(
            (name.as_str(), error.kind()),
            (format!("{}.damaged-{number}", path.display()).as_str(), ErrorKind::Damaged)
        );
        assert_eq!(fs::read(name).unwrap(), bytes);
        assert_eq!(cache.snapshot().count("item").unwrap(), 0);
        drop(cache);
        fs::remove_file(&path).unwrap_or_default();
        small(&path);
    }
    drop(folder);
}

/// Pages of the file are of the write before the last, as when a disk has lost some after it said
/// that they were safe: an error, or the rows of one of the two.
#[test]
fn pages_that_a_disk_has_lost_never_give_wrong_rows() {
    let (folder, path) = folder();
    let cache = Cache::open_with(schema(), SqliteFile::new(&path)).unwrap();
    let mut versions = Vec::new();
    let text = "x".repeat(300);
    for round in 0..4_i64 {
        cache
            .commit("items", |tx| {
                (0..120_i64).filter(|n| n % 4 >= round % 3).try_for_each(|n| {
                    tx.merge(
                        "item",
                        (("id", n), ("r", (n + round) as f64), ("odd \"name\"", text.as_str())),
                    )
                })?;
                tx.delete("item", round * 7).map(drop)
            })
            .unwrap();
        cache.flush().unwrap();
        versions.push((fs::read(&path).unwrap(), dump(&cache)));
    }
    drop(cache);
    let (mut refused, mut opened) = (0, 0);
    let copy = folder.path().join("copy.db");
    for (number, pair) in versions.windows(2).enumerate() {
        let [(old, old_rows), (new, new_rows)] = pair else { unreachable!("pairs") };
        let pages = new.len() / 4096;
        for trial in 0..200_usize {
            let mut mixed = new.clone();
            let mut dice = (trial + 1) * 0x9E37_79B9 + number;
            for page in 0..pages {
                dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                let (from, to) = (page * 4096, (page + 1) * 4096);
                let is_lost = if trial < pages { trial == page } else { dice >> 60 < 4 };
                if is_lost && to <= old.len() {
                    mixed[from..to].copy_from_slice(&old[from..to]);
                }
            }
            fs::write(&copy, &mixed).unwrap();
            match Cache::open(SqliteFile::read_only(&copy)) {
                Ok(cache) => {
                    let rows = dump(&cache);
                    assert!(rows == *old_rows || rows == *new_rows, "trial {trial}");
                    opened += 1;
                }
                Err(error) => {
                    assert_eq!(error.kind(), ErrorKind::Damaged, "{error}");
                    refused += 1;
                }
            }
        }
    }
    assert!(refused > 100 && opened > 5, "{refused} refused, {opened} opened");
}

#[test]
fn what_is_no_cache_or_not_ours_to_read_is_refused_and_left_alone() {
    let (_folder, path) = folder();
    let refused = |kind: ErrorKind, said: &str| {
        let before = fs::read(&path).unwrap();
        let error = Cache::open_with(schema(), SqliteFile::new(&path)).unwrap_err();
        assert_eq!(error.kind(), kind, "{error}");
        assert!(error.to_string().contains(said), "{error}");
        assert_eq!(fs::read(&path).unwrap(), before);
    };
    fs::write(&path, "just a text, longer than sixteen bytes").unwrap();
    refused(ErrorKind::Foreign, "it is no SQLite file");
    fs::remove_file(&path).unwrap();
    rusqlite::Connection::open(&path).unwrap().execute("CREATE TABLE t (x)", []).unwrap();
    refused(ErrorKind::Foreign, "an SQLite file of another program");
    fs::remove_file(&path).unwrap();
    small(&path);
    rusqlite::Connection::open(&path).unwrap().execute_batch("PRAGMA user_version = 9").unwrap();
    refused(ErrorKind::Version, "file format 9");

    let missing = Cache::open(SqliteFile::new(path.with_file_name("none.db"))).unwrap_err();
    assert!(missing.to_string().contains("there is no cache here"), "{missing}");
    let nowhere =
        Cache::open_with(schema(), SqliteFile::new(path.join("no/folder.db"))).unwrap_err();
    assert_eq!(nowhere.kind(), ErrorKind::Storage, "{nowhere}");
}

/// A program is stopped in the middle of a write: the next one, also one that only looks, finds the
/// commit before it.
#[test]
fn half_a_write_is_taken_back_by_whoever_comes_next() {
    let (folder, path) = folder();
    let cache = Cache::open_with(schema(), SqliteFile::new(&path)).unwrap();
    let text = "x".repeat(400);
    let fill = cache.commit("items", |tx| {
        (0..400_i64).try_for_each(|n| {
            tx.insert("item", [("id", Value::from(n)), ("odd \"name\"", text.as_str().into())])
        })
    });
    fill.unwrap();
    cache.flush().unwrap();
    let rows = dump(&cache);
    let whole = fs::read(&path).unwrap();
    let mut other = rusqlite::Connection::open(&path).unwrap();
    other.execute_batch("PRAGMA cache_size = 1").unwrap();
    let half = other.transaction().unwrap();
    half.execute("UPDATE item SET r = 1.0", []).unwrap();
    let copy = folder.path().join("copy.db");
    let journal = |path: &Path| PathBuf::from(format!("{}-journal", path.display()));
    fs::copy(&path, &copy).unwrap();
    fs::copy(journal(&path), journal(&copy)).unwrap();
    assert_ne!(fs::read(&copy).unwrap(), whole, "half of the write is in the file");
    opens_as(&copy, &rows).unwrap();
    assert!(!journal(&copy).exists());
}

/// A cache that was flushed before its first commit is one like any other.
#[test]
fn a_cache_without_a_commit_is_a_cache() {
    let (_folder, path) = folder();
    Cache::open_with(schema(), SqliteFile::new(&path)).unwrap().flush().unwrap();
    let grown =
        Schema::parse("test.toml", &format!("{SCHEMA}\nmore = 'SELECT id FROM item'")).unwrap();
    let cache = Cache::open_with(grown, SqliteFile::new(&path)).unwrap();
    cache.commit("one", |tx| tx.insert("item", [("id", 1)])).unwrap();
    drop(cache);
    assert_eq!(
        Cache::open(SqliteFile::new(&path))
            .unwrap()
            .query("more", ())
            .unwrap()
            .read()
            .unwrap()
            .len(),
        1
    );
}

/// An empty file is a place to begin; a schema may gain rules, queries and tables, and no more. Ids
/// of several parts, links of every kind, lists with variables and without.
#[test]
fn every_kind_of_table_comes_back() {
    let schema = r#"
        table.port = { id = "code", fields = { code = "text", seats = { to_many = "seat" } } }
        table.ship = { id = "id", fields = { id = "int" } }
        table.seat = { id = ["ship", "no"], fields = { ship = { to = "ship" }, no = "int", of = { to = "port" } } }
        [table.note]
        id = "id"
        fields = { id = "text", about = { to = ["port", "ship", "seat"] }, more = { to_many = ["port", "ship"] } }
        [response]
        ports = { table = "port", list = "all_ports" }
        pages = { url = "/ports{?page}", table = "port", list = "paged", part = "page" }
        seats = { url = "/ships/{ship}{?of}", table = "seat", fields = { ship = ":ship", of = ":of" }, list = "seat_list" }
        notes = { table = "note", list = "all_notes" }
    "#;
    let (_folder, path) = folder();
    let schema = Schema::parse("kinds.toml", schema).unwrap();
    let reported = |cache: &Cache| -> Vec<String> {
        let snapshot = cache.snapshot();
        let tables: Vec<String> =
            snapshot.tables().iter().map(|table| table.name.clone()).collect();
        let rows = tables.iter().flat_map(|table| {
            snapshot
                .rows(table)
                .unwrap()
                .map(move |row| format!("{table} {}", row.nested(2).as_str()))
        });
        let mut rows: Vec<String> = rows.collect();
        rows.sort();
        rows
    };
    let cache = Cache::open_with(schema, SqliteFile::new(&path)).unwrap();
    let ingest =
        |request: Request, body: &str| cache.commit("", |tx| tx.ingest(request, body)).unwrap();
    ingest(
        Request::rule("ports"),
        r#"[{"code": "SAL", "seats": [[1, 7]]}, {"code": "NOR", "seats": []}]"#,
    );
    ingest(Request::get("/ports?page=2"), r#"[{"code": "EEL"}]"#);
    ingest(Request::get("/ships/1?of=SAL"), r#"[{"no": 8}, {"no": 7}]"#);
    let notes = r#"[{"id": "a", "about": {"type": "seat", "ship": 1, "no": 8}, "more": [{"type": "ship", "id": 1}]},
        {"id": "b", "about": null}]"#;
    ingest(Request::rule("notes"), notes);
    let before = reported(&cache);
    assert_eq!(before.len(), 3 + 1 + 2 + 2 + 1 + 1 + 2 + 1 + 2 + 2, "{before:#?}");
    drop(cache);
    assert_eq!(reported(&Cache::open(SqliteFile::new(&path)).unwrap()), before);
}

/// One program at a time writes to a file; the second one learns which program that is, and may
/// read. Where another program wrote in between all the same, nothing is overwritten.
#[test]
fn a_file_that_another_program_writes_to_is_not_written_over() {
    let (_folder, path) = folder();
    let insert = |cache: &Cache, id: i64| {
        cache.commit("insert", |tx| tx.insert("item", [("id", id)])).unwrap();
        cache.flush()
    };
    let one = Cache::open_with(schema(), SqliteFile::new(&path)).unwrap();
    let not_yet = Cache::open_with(schema(), SqliteFile::new(&path)).unwrap();
    insert(&one, 1).unwrap();
    for error in
        [Cache::open(SqliteFile::new(&path)).unwrap_err(), insert(&not_yet, 2).unwrap_err()]
    {
        assert!(
            error.to_string().contains("another cache of this program writes to it"),
            "{error}"
        );
    }
    assert_eq!(not_yet.snapshot().count("item").unwrap(), 1, "memory stands");
    let read_only = Cache::open(SqliteFile::read_only(&path)).unwrap();
    assert_eq!(read_only.snapshot().count("item").unwrap(), 1);
    assert!(insert(&read_only, 3).unwrap_err().to_string().contains("only to be read"));
    // A program that does not ask for the lock.
    let other = rusqlite::Connection::open(&path).unwrap();
    other.execute("UPDATE backwater_cache SET last_commit = 7", []).unwrap();
    let error = insert(&one, 4).unwrap_err();
    assert!(error.to_string().contains("another program has written to it"), "{error}");
    #[cfg(unix)]
    for name in ["cache.db", "cache.db-lock"] {
        use std::os::unix::fs::PermissionsExt;
        let mode = fs::metadata(path.with_file_name(name)).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600, "{name} is its owner's alone");
    }
    drop((one, not_yet));
    drop(read_only);
}

/// A storage that can be made to fail, and remembers what it took.
#[derive(Clone, Default)]
struct Moody {
    fails: Arc<AtomicBool>,
    taken: Arc<Mutex<Vec<(u64, u64, usize)>>>,
}

impl Storage for Moody {
    fn name(&self) -> String {
        "moody".to_owned()
    }

    fn header(&mut self) -> Result<Option<Header>> {
        Ok(None)
    }

    fn load(&mut self, _: &StoredTable<'_>, _: &mut Loader<'_>) -> Result<()> {
        Ok(())
    }

    fn write(&mut self, batch: &Batch) -> Result<()> {
        if self.fails.load(Ordering::Relaxed) {
            return Err(Error::new(ErrorKind::Storage, "no mood for it"));
        }
        let rows = batch.tables().map(|table| table.puts().count() + table.deletes().len()).sum();
        self.taken.lock().unwrap().push((batch.from_commit(), batch.commit(), rows));
        Ok(())
    }
}

/// What the disk did not take is written again, with all that came to it: at a flush, and by
/// itself.
#[test]
#[cfg(feature = "threads")]
fn what_a_failing_storage_did_not_take_is_given_to_it_again() {
    let moody = Moody::default();
    let reported = Arc::new(Mutex::new(0));
    let hears = reported.clone();
    let cache = Cache::builder()
        .schema(schema())
        .storage(moody.clone())
        .on_storage_error(move |_| *hears.lock().unwrap() += 1)
        .build()
        .unwrap();
    let insert = |id: i64| cache.commit("insert", |tx| tx.merge("item", [("id", id)])).unwrap();
    insert(1);
    cache.flush().unwrap();
    moody.fails.store(true, Ordering::Relaxed);
    insert(2);
    insert(3);
    assert!(cache.flush().is_err());
    let waits = |done: &dyn Fn() -> bool| {
        let until = std::time::Instant::now() + std::time::Duration::from_secs(20);
        while !done() {
            assert!(std::time::Instant::now() < until, "it takes too long");
            std::thread::yield_now();
        }
    };
    waits(&|| *reported.lock().unwrap() > 1);
    assert_eq!(cache.snapshot().count("item").unwrap(), 3);
    moody.fails.store(false, Ordering::Relaxed);
    waits(&|| moody.taken.lock().unwrap().last().unwrap().1 == 3);
    cache.flush().unwrap();
    cache.commit("nothing to store", |tx| tx.merge("scratch", [("id", 1)])).unwrap();
    cache.commit("nor this", |tx| tx.update("item", 1, [("secret", SECRET)])).unwrap();
    cache.flush().unwrap();
    // The first batch has the row of the one-row table too.
    assert_eq!(*moody.taken.lock().unwrap(), [(0, 1, 2), (1, 3, 2)]);
    // The last handle takes what waits along.
    insert(4);
    drop(cache);
    assert_eq!(moody.taken.lock().unwrap().last().unwrap().1, 6);
}
