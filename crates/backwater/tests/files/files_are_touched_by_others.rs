//! What others do to a cache's file while it is open is noticed before the next write and reported,
//! and nothing that is in memory is lost: it is all in the file once the path can be used again.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use backwater::{
    Cache, ErrorKind, Schema, SqliteFile,
    storage::{Damage, JsonLines, Storage, WhenDamaged},
};
use rusqlite::Connection;

fn schema() -> Schema {
    let text = "table.port = { id = 'code', fields = { code = 'text', name = 'text' } }";
    Schema::parse("s.toml", text).unwrap()
}

struct World {
    cache: Cache,
    path: PathBuf,
    reported: Arc<Mutex<Vec<String>>>,
    folder: tempfile::TempDir,
}

fn storage(path: &Path) -> Box<dyn Storage> {
    match path.extension().is_some_and(|ending| ending == "db") {
        true => Box::new(SqliteFile::new(path)),
        false => Box::new(JsonLines::new(path)),
    }
}

/// A driver behind a pointer.
struct Any(Box<dyn Storage>);

impl Storage for Any {
    fn name(&self) -> String {
        self.0.name()
    }
    fn header(&mut self) -> Result<Option<backwater::storage::Header>, backwater::Error> {
        self.0.header()
    }
    fn is_read_only(&self) -> bool {
        self.0.is_read_only()
    }
    fn load(
        &mut self,
        table: &backwater::storage::StoredTable<'_>,
        loader: &mut backwater::storage::Loader<'_>,
    ) -> Result<(), backwater::Error> {
        self.0.load(table, loader)
    }
    fn digest(
        &mut self,
        table: &backwater::storage::StoredTable<'_>,
    ) -> Result<Option<(u64, backwater::storage::Hash)>, backwater::Error> {
        self.0.digest(table)
    }
    fn loaded(&mut self) -> Result<(), backwater::Error> {
        self.0.loaded()
    }
    fn set_aside(&mut self) -> Result<String, backwater::Error> {
        self.0.set_aside()
    }
    fn is_there(&mut self) -> Result<bool, backwater::Error> {
        self.0.is_there()
    }
    fn compact(&mut self) -> Result<(), backwater::Error> {
        self.0.compact()
    }
    fn write(&mut self, batch: &backwater::storage::Batch) -> Result<(), backwater::Error> {
        self.0.write(batch)
    }
}

impl World {
    fn new(ending: &str, when: WhenDamaged) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(format!("ports.{ending}"));
        let reported = Arc::new(Mutex::new(Vec::new()));
        let seen = reported.clone();
        let cache = Cache::builder()
            .schema(schema())
            .storage(Any(storage(&path)))
            .when_damaged(when)
            .on_storage_error(move |error| seen.lock().unwrap().push(error.to_string()))
            .write_when_flushed()
            .build()
            .unwrap();
        let world = Self { cache, path, reported, folder };
        for number in 0..300 {
            world.open(number);
        }
        world.cache.flush().unwrap();
        world
    }

    fn open(&self, number: usize) {
        let row =
            [("code", format!("P{number}")), ("name", format!("port {number} {}", "x".repeat(60)))];
        self.cache.commit("a port opened", |tx| tx.merge("port", row)).unwrap();
    }

    /// The file has all that is in memory.
    fn end_whole(self) -> tempfile::TempDir {
        let Self { cache, path, folder, .. } = self;
        let count = cache.snapshot().count("port").unwrap();
        drop(cache);
        let stored = Cache::open(Any(storage(&path))).unwrap();
        assert_eq!(stored.snapshot().count("port").unwrap(), count);
        folder
    }
}

#[test]
fn a_file_that_is_gone_is_written_anew() {
    for ending in ["db", "ndjson"] {
        for is_renamed in [false, true] {
            let world = World::new(ending, WhenDamaged::Refuse);
            let elsewhere = world.folder.path().join("elsewhere");
            match is_renamed {
                true => fs::rename(&world.path, &elsewhere).unwrap(),
                false => fs::remove_file(&world.path).unwrap(),
            }
            world.open(1000);
            world.cache.flush().unwrap();
            let reported = world.reported.lock().unwrap().join("\n");
            assert!(reported.contains("it was removed or renamed while it was open"), "{reported}");
            world.open(1001);
            let folder = world.end_whole();
            if is_renamed {
                let there = fs::read(folder.path().join("elsewhere")).unwrap();
                assert!(!there.windows(5).any(|text| text == b"P1000"), "nothing goes on there");
            }
        }
    }
}

/// The folder is gone, and comes back.
#[test]
fn a_path_that_can_be_used_again_is() {
    let world = World::new("db", WhenDamaged::Refuse);
    let (folder, away) =
        (world.path.parent().unwrap().to_owned(), world.folder.path().with_extension("away"));
    fs::rename(&folder, &away).unwrap();
    world.open(1000);
    let error = world.cache.flush().unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Storage, "{error}");
    fs::create_dir(&folder).unwrap();
    world.cache.flush().unwrap();
    world.end_whole();
    fs::remove_dir_all(away).unwrap();
}

type Touch = fn(&Path);

fn touches() -> Vec<(&'static str, Touch, &'static str)> {
    vec![
        (
            "db",
            |path| {
                let other = path.with_extension("other");
                drop(
                    Cache::open_with(schema(), SqliteFile::new(&other))
                        .unwrap()
                        .commit("x", |tx| tx.insert("port", [("code", "OTHER")]))
                        .unwrap(),
                );
                fs::rename(other, path).unwrap();
            },
            "another file has taken its place",
        ),
        (
            "db",
            |path| {
                fs::remove_file(path).unwrap();
                fs::write(path, "a shopping list").unwrap();
            },
            "another file has taken its place",
        ),
        (
            "db",
            |path| {
                let file = fs::OpenOptions::new().write(true).open(path).unwrap();
                file.set_len(5000).unwrap();
            },
            "it is cut short",
        ),
        (
            "db",
            |path| {
                let shell = Connection::open(path).unwrap();
                shell.execute("UPDATE port SET name = 'edited' WHERE code = 'P1'", ()).unwrap();
            },
            "another program has changed it while it was open",
        ),
        (
            "db",
            |path| {
                let shell = Connection::open(path).unwrap();
                shell.execute_batch("CREATE TRIGGER t AFTER INSERT ON port BEGIN DELETE FROM port WHERE code = 'P2'; END").unwrap();
            },
            "another program has changed it while it was open",
        ),
        (
            "ndjson",
            |path| {
                let text = fs::read_to_string(path).unwrap();
                fs::write(path, text.replace("port 7 ", "port seven ")).unwrap();
            },
            "another program has changed it while it was open",
        ),
    ]
}

#[test]
fn what_others_made_of_it_is_never_overwritten() {
    for (ending, touch, said) in touches() {
        let world = World::new(ending, WhenDamaged::Refuse);
        touch(&world.path);
        let touched = fs::read(&world.path).unwrap();
        world.open(1000);
        for _ in 0..2 {
            let error = world.cache.flush().unwrap_err();
            assert!(error.to_string().contains(said), "{error}\nshould say: {said}");
            assert_eq!(fs::read(&world.path).unwrap(), touched, "{said}");
        }
        // After a look at it, the user moves it away.
        fs::rename(&world.path, world.folder.path().join("looked at")).unwrap();
        world.cache.flush().unwrap();
        world.end_whole();
    }
}

#[test]
fn what_others_made_of_it_is_set_aside_by_choice() {
    for (ending, touch, said) in touches() {
        let world = World::new(ending, WhenDamaged::SetAside);
        touch(&world.path);
        let touched = fs::read(&world.path).unwrap();
        world.open(1000);
        world.cache.flush().unwrap();
        let reported = world.reported.lock().unwrap().join("\n");
        assert!(reported.contains(said), "{reported}");
        let Some(Damage::SetAside { name, .. }) = world.cache.opening().damage else { panic!() };
        assert_eq!(fs::read(name).unwrap(), touched);
        world.end_whole();
    }
}

/// A path is a path, and no name that SQLite takes for something else.
#[test]
fn a_path_is_a_path() {
    let folder = tempfile::tempdir().unwrap();
    std::env::set_current_dir(folder.path()).unwrap();
    for name in [":memory:", "file:x.db?mode=memory", "file:y.db", "z.db"] {
        let cache = Cache::open_with(schema(), SqliteFile::new(name)).unwrap();
        cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")])).unwrap();
        drop(cache);
        assert_eq!(
            Cache::open(SqliteFile::new(name)).unwrap().snapshot().count("port").unwrap(),
            1
        );
        let found = fs::metadata(folder.path().join(name)).unwrap();
        #[cfg(unix)]
        assert_eq!(std::os::unix::fs::PermissionsExt::mode(&found.permissions()) & 0o777, 0o600);
        let _ = found;
    }
    let error = Cache::open_with(schema(), SqliteFile::new("")).unwrap_err();
    assert!(error.to_string().contains("the path of the file is empty"), "{error}");
}

/// Of what is deleted and overwritten nothing is left, once that is asked for.
#[test]
fn nothing_is_left_of_what_was_deleted() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("secrets.db");
    let cache = Cache::open_with(schema(), SqliteFile::new(&path)).unwrap();
    let mut dice = 7_u64;
    let mut roll = |most: u64| {
        dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (dice >> 33) % most
    };
    let mut written = Vec::new();
    for turn in 0..4000 {
        let code = format!("C{}", roll(200));
        if roll(4) == 0 {
            cache.commit("gone", |tx| tx.delete("port", code)).unwrap();
        } else {
            let name = format!("secret-{turn:05}-{}", "y".repeat(roll(900) as usize));
            written.push(name[..12].to_owned());
            cache.commit("there", |tx| tx.merge("port", [("code", code), ("name", name)])).unwrap();
        }
        if turn % 7 == 0 {
            cache.flush().unwrap();
        }
    }
    cache.compact().unwrap();
    let bytes = fs::read(&path).unwrap();
    let text = String::from_utf8_lossy(&bytes).into_owned();
    let snapshot = cache.snapshot();
    let here: Vec<String> = snapshot
        .rows("port")
        .unwrap()
        .filter_map(|row| row.get("name").unwrap())
        .map(|name| name.to_string()[..12].to_owned())
        .collect();
    for name in written {
        assert_eq!(text.contains(&name), here.contains(&name), "{name}");
    }
    cache.clear("signed out").unwrap();
    assert!(!String::from_utf8_lossy(&fs::read(&path).unwrap()).contains("secret-"));
    assert!(!folder.path().join("secrets.db-journal").exists());
}
