//! Files: written, read back, and a program's start, against SQLite used by hand.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use backwater::{
    Cache, Error, ErrorKind, Schema, SqliteFile,
    error::Result,
    storage::{Batch, Header, Loader, Storage, StoredTable},
};
use rusqlite::{Connection, params};

use crate::hand::{Maps, Port, Route, Sailing, Status, Vessel};
use crate::ingest::figure;
use crate::measure::{Figure, alternate};
use crate::world::{SCHEMA, World};

const NOW: &str = "2031-07-01T00:00:00.000000Z";
/// How many commits one run makes, as the committing thread feels them, and to durable.
const FELT: usize = 2000;
const SUSTAINED: usize = 100_000;

/// The same tables by hand: the same columns and types.
const TABLES: &str = "
    PRAGMA foreign_keys = OFF;
    CREATE TABLE port (code TEXT PRIMARY KEY, name TEXT, island TEXT) STRICT, WITHOUT ROWID;
    CREATE TABLE route (id TEXT PRIMARY KEY, \"from\" TEXT REFERENCES port (code),
        \"to\" TEXT REFERENCES port (code), minutes INTEGER) STRICT, WITHOUT ROWID;
    CREATE TABLE vessel (id TEXT PRIMARY KEY, name TEXT, cars_max INTEGER, speed_kn REAL, built INTEGER,
        home TEXT REFERENCES port (code)) STRICT, WITHOUT ROWID;
    CREATE TABLE sailing (id INTEGER PRIMARY KEY, route TEXT REFERENCES route (id),
        vessel TEXT REFERENCES vessel (id), status TEXT, departs_at TEXT, delay_min INTEGER,
        cars_booked INTEGER, note TEXT) STRICT;";

/// A folder that goes with the run.
pub(crate) struct Folder(PathBuf);

impl Folder {
    pub(crate) fn new() -> std::io::Result<Self> {
        let path = std::env::temp_dir().join(format!("backwater-bench-{}", std::process::id()));
        drop(std::fs::remove_dir_all(&path));
        std::fs::create_dir_all(&path)?;
        Ok(Self(path))
    }

    pub(crate) fn file(&self, name: &str) -> PathBuf {
        self.0.join(name)
    }
}

impl Drop for Folder {
    fn drop(&mut self) {
        drop(std::fs::remove_dir_all(&self.0));
    }
}

/// A storage that takes nothing until it may, and counts what it takes.
struct Held {
    file: SqliteFile,
    may_write: Arc<AtomicBool>,
    writes: Arc<AtomicUsize>,
    refused: Arc<AtomicUsize>,
}

impl Storage for Held {
    fn name(&self) -> String {
        self.file.name()
    }

    fn header(&mut self) -> Result<Option<Header>> {
        self.file.header()
    }

    fn load(&mut self, table: &StoredTable<'_>, loader: &mut Loader<'_>) -> Result<()> {
        self.file.load(table, loader)
    }

    fn loaded(&mut self) -> Result<()> {
        self.file.loaded()
    }

    fn write(&mut self, batch: &Batch) -> Result<()> {
        if !self.may_write.load(Ordering::Acquire) {
            self.refused.fetch_add(1, Ordering::Release);
            return Err(Error::new(ErrorKind::Storage, "not yet"));
        }
        self.writes.fetch_add(1, Ordering::Relaxed);
        self.file.write(batch)
    }
}

fn page(size: usize) -> String {
    let mut world = World::new(size, 1);
    let sailings = world.sailings(size);
    world.page(&sailings, false)
}

fn text(micros: i64) -> anyhow::Result<String> {
    Ok(format!("{:.6}", jiff::Timestamp::from_microsecond(micros)?))
}

fn write_by_hand(path: &Path, maps: &Maps) -> anyhow::Result<()> {
    let mut connection = Connection::open(path)?;
    connection.execute_batch(TABLES)?;
    let transaction = connection.transaction()?;
    {
        let mut put = transaction.prepare("INSERT INTO port VALUES (?, ?, ?)")?;
        for (code, port) in &maps.ports {
            put.execute(params![code, port.name, port.island])?;
        }
        let mut put = transaction.prepare("INSERT INTO route VALUES (?, ?, ?, ?)")?;
        for (id, route) in &maps.routes {
            put.execute(params![id, route.from, route.to, route.minutes])?;
        }
        let mut put =
            transaction.prepare("INSERT INTO vessel (id, name, cars_max) VALUES (?, ?, ?)")?;
        for (id, vessel) in &maps.vessels {
            put.execute(params![id, vessel.name, vessel.cars_max])?;
        }
        let mut put = transaction.prepare("INSERT INTO sailing VALUES (?, ?, ?, ?, ?, ?, ?, ?)")?;
        let mut ids: Vec<&i64> = maps.sailings.keys().collect();
        ids.sort_unstable();
        for id in ids {
            put_sailing(&mut put, *id, &maps.sailings[id])?;
        }
    }
    Ok(transaction.commit()?)
}

fn put_sailing(put: &mut rusqlite::Statement<'_>, id: i64, row: &Sailing) -> anyhow::Result<()> {
    put.execute(params![
        id,
        row.route,
        row.vessel,
        row.status.text(),
        text(row.departs_at)?,
        row.delay_min,
        row.cars_booked,
        row.note,
    ])?;
    Ok(())
}

fn boxed(row: &rusqlite::Row<'_>, at: usize) -> rusqlite::Result<Box<str>> {
    Ok(row.get_ref(at)?.as_str()?.into())
}

fn read_vessels(connection: &Connection, maps: &mut Maps) -> anyhow::Result<()> {
    let mut rows = connection.prepare("SELECT id, name, cars_max FROM vessel")?;
    let mut rows = rows.query([])?;
    while let Some(row) = rows.next()? {
        let vessel = Vessel { id: boxed(row, 0)?, name: boxed(row, 1)?, cars_max: row.get(2)? };
        maps.vessels.insert(vessel.id.clone(), vessel);
    }
    Ok(())
}

fn read_by_hand(path: &Path) -> anyhow::Result<Maps> {
    let connection = Connection::open(path)?;
    let mut maps = Maps::default();
    let mut rows = connection.prepare("SELECT code, name, island FROM port")?;
    let mut rows = rows.query([])?;
    while let Some(row) = rows.next()? {
        let port = Port { code: boxed(row, 0)?, name: boxed(row, 1)?, island: boxed(row, 2)? };
        maps.ports.insert(port.code.clone(), port);
    }
    let mut rows = connection.prepare("SELECT id, \"from\", \"to\", minutes FROM route")?;
    let mut rows = rows.query([])?;
    while let Some(row) = rows.next()? {
        let route = Route { from: boxed(row, 1)?, to: boxed(row, 2)?, minutes: row.get(3)? };
        maps.routes.insert(boxed(row, 0)?, route);
    }
    read_vessels(&connection, &mut maps)?;
    let mut rows = connection.prepare(
        "SELECT id, route, vessel, status, departs_at, delay_min, cars_booked, note FROM sailing",
    )?;
    let mut rows = rows.query([])?;
    while let Some(row) = rows.next()? {
        let time: jiff::Timestamp = row.get_ref(4)?.as_str()?.parse()?;
        let note = row.get_ref(7)?.as_str_or_null()?;
        let sailing = Sailing {
            route: boxed(row, 1)?,
            vessel: boxed(row, 2)?,
            status: Status::of(row.get_ref(3)?.as_str()?)?,
            departs_at: time.as_microsecond(),
            delay_min: row.get(5)?,
            cars_booked: row.get(6)?,
            note: note.map(Into::into),
        };
        maps.sailings.insert(row.get(0)?, sailing);
    }
    Ok(maps)
}

/// A file of ours and one by hand, with the same rows.
fn files(folder: &Folder, size: usize) -> anyhow::Result<(PathBuf, PathBuf)> {
    let (ours, hand, page) = (folder.file("ours.db"), folder.file("hand.db"), page(size));
    let cache = Cache::open_with(Schema::parse("backwater.toml", SCHEMA)?, SqliteFile::new(&ours))?;
    cache.commit("departures loaded", |tx| tx.ingest("departures", &page))?;
    cache.flush()?;
    let mut maps = Maps::with_room(size);
    maps.ingest(page.as_bytes())?;
    write_by_hand(&hand, &maps)?;
    anyhow::ensure!(read_by_hand(&hand)?.sailings.len() == cache.snapshot().count("sailing")?);
    Ok((ours, hand))
}

/// Rows read back from a file, and how large it is.
pub(crate) fn rehydrate(size: usize) -> anyhow::Result<Vec<Figure>> {
    let folder = Folder::new()?;
    let (ours, hand) = files(&folder, size)?;
    let (all, by_hand) =
        alternate(|| (), |()| Cache::open(SqliteFile::read_only(&ours)), |()| read_by_hand(&hand));
    // A view that needs the vessels, and a program that goes on while the rest is read.
    let schema = Schema::parse("backwater.toml", SCHEMA)?;
    let (first, by_hand_first) = alternate(
        || schema.clone(),
        |schema| -> Result<(usize, Cache)> {
            let builder = Cache::builder().schema(schema.clone()).storage(SqliteFile::new(&ours));
            let cache = builder.load_first(["vessel"]).build()?;
            Ok((cache.snapshot().count("vessel")?, cache))
        },
        |_| -> anyhow::Result<(usize, Connection)> {
            let (connection, mut maps) = (Connection::open(&hand)?, Maps::default());
            read_vessels(&connection, &mut maps)?;
            Ok((maps.vessels.len(), connection))
        },
    );
    let bytes = |path: &Path| -> anyhow::Result<f64> { Ok(std::fs::metadata(path)?.len() as f64) };
    let mut file = figure("persist/file-size", size, bytes(&ours)?, "by hand", bytes(&hand)?, 1.2);
    file.unit = "bytes";
    let start = |which: &str, path: &Path| -> anyhow::Result<()> {
        let mut child = Command::new(std::env::current_exe()?);
        let done = child.env(CHILD, which).env(PATH, path).output()?;
        anyhow::ensure!(done.status.success(), "the program that was started failed");
        anyhow::ensure!(done.stdout.starts_with(b"6 rows"), "other rows: {:?}", done.stdout);
        Ok(())
    };
    start("ours", &ours)?;
    start("hand", &hand)?;
    let (started, by_hand_started) =
        alternate(|| (), |()| start("ours", &ours), |()| start("hand", &hand));
    Ok(vec![
        figure("rehydrate/all", size, all, "SQLite into HashMaps", by_hand, 0.6),
        figure("rehydrate/first-table", size, first, "SQLite, that table", by_hand_first, 3.0),
        figure("start", size, started, "maps loaded", by_hand_started, 1.0),
        file,
    ])
}

/// 200,000 rows written for the first time.
pub(crate) fn first_write(size: usize) -> anyhow::Result<Vec<Figure>> {
    let folder = Folder::new()?;
    let page = page(size);
    let mut maps = Maps::with_room(size);
    maps.ingest(page.as_bytes())?;
    let schema = Schema::parse("backwater.toml", SCHEMA)?;
    let mut number = 0;
    let (ours, hand) = alternate(
        || -> anyhow::Result<(Cache, PathBuf, Arc<AtomicBool>)> {
            number += 1;
            let may_write = Arc::new(AtomicBool::new(false));
            let file = SqliteFile::new(folder.file(&format!("first {number}.db")));
            let refused: Arc<AtomicUsize> = Arc::default();
            let (writes, tried) = (Arc::default(), refused.clone());
            let held = Held { file, may_write: may_write.clone(), writes, refused };
            let cache = Cache::open_with(schema.clone(), held)?;
            cache.commit("departures loaded", |tx| tx.ingest("departures", &page))?;
            // The writer thread has tried in vain, and will not try again for a while.
            while tried.load(Ordering::Acquire) == 0 {
                std::thread::sleep(Duration::from_millis(1));
            }
            std::thread::sleep(Duration::from_millis(5));
            Ok((cache, folder.file(&format!("hand {number}.db")), may_write))
        },
        |made| -> anyhow::Result<()> {
            let (cache, _, may_write) =
                made.as_ref().map_err(|error| anyhow::anyhow!("{error}"))?;
            may_write.store(true, Ordering::Release);
            Ok(cache.flush()?)
        },
        |made| -> anyhow::Result<()> {
            let (_, path, _) = made.as_ref().map_err(|error| anyhow::anyhow!("{error}"))?;
            write_by_hand(path, &maps)
        },
    );
    Ok(vec![figure("persist/first-write", size, ours, "one transaction", hand, 1.2)])
}

/// Commits with a storage behind them: as the committing thread feels them, and until all is
/// durable.
pub(crate) fn commits(size: usize) -> anyhow::Result<Vec<Figure>> {
    let folder = Folder::new()?;
    let page = page(size);
    let schema = Schema::parse("backwater.toml", SCHEMA)?;
    let writes = Arc::new(AtomicUsize::new(0));
    let held = Held {
        file: SqliteFile::new(folder.file("commits.db")),
        may_write: Arc::new(AtomicBool::new(true)),
        writes: writes.clone(),
        refused: Arc::default(),
    };
    let stored = Cache::open_with(schema.clone(), held)?;
    let alone = Cache::new(schema);
    for cache in [&stored, &alone] {
        cache.commit("departures loaded", |tx| tx.ingest("departures", &page))?;
    }
    stored.flush()?;
    let mut maps = Maps::with_room(size);
    maps.ingest(page.as_bytes())?;
    let hand = folder.file("commits by hand.db");
    write_by_hand(&hand, &maps)?;
    let ids =
        |count: usize| -> Vec<i64> { (0..count).map(|_| fastrand::i64(1..=size as i64)).collect() };
    let commit = |cache: &Cache, ids: &[i64], from: usize| -> Result<()> {
        ids.iter().enumerate().try_for_each(|(number, id)| {
            let delay = (from + number) as i64;
            cache
                .commit("delay reported", |tx| tx.update("sailing", *id, [("delay_min", delay)]))
                .map(drop)
        })
    };
    let mut from = 0;
    let (felt, without) = alternate(
        || {
            // Nothing waits from the run before.
            drop(stored.flush());
            from += FELT;
            (ids(FELT), from)
        },
        |(ids, from)| commit(&stored, ids, *from),
        |(ids, from)| commit(&alone, ids, *from),
    );
    stored.flush()?;
    let count = SUSTAINED.min(size * 10);
    let (mut ours, mut by_hand) = (Vec::new(), Vec::new());
    for run in 0..5_usize {
        let ids = ids(count);
        let before = writes.load(Ordering::Relaxed);
        let start = Instant::now();
        commit(&stored, &ids, run * count)?;
        stored.flush()?;
        ours.push(start.elapsed().as_secs_f64());
        let groups = (writes.load(Ordering::Relaxed) - before).max(1);
        let start = Instant::now();
        sustain_by_hand(&hand, &mut maps, &ids, groups, run * count)?;
        by_hand.push(start.elapsed().as_secs_f64());
    }
    let median = |mut times: Vec<f64>| {
        times.sort_by(f64::total_cmp);
        times[times.len() / 2]
    };
    let each = |seconds: f64| seconds / FELT as f64;
    Ok(vec![
        figure("persist/commit", size, each(felt), "no storage", each(without), 1.3),
        figure(
            "persist/sustained",
            size,
            median(ours),
            "by hand, same grouping",
            median(by_hand),
            1.5,
        ),
    ])
}

/// The same changes to the maps, written in as many transactions, each row once in each.
fn sustain_by_hand(
    path: &Path,
    maps: &mut Maps,
    ids: &[i64],
    groups: usize,
    from: usize,
) -> anyhow::Result<()> {
    let mut connection = Connection::open(path)?;
    for (group, some) in ids.chunks(ids.len().div_ceil(groups)).enumerate() {
        let mut dirty: HashMap<i64, ()> = HashMap::new();
        for (number, id) in some.iter().enumerate() {
            if let Some(sailing) = maps.sailings.get_mut(id) {
                sailing.delay_min = Some((from + group * some.len() + number) as i64);
                dirty.insert(*id, ());
            }
        }
        let transaction = connection.transaction()?;
        {
            let mut put = transaction
                .prepare_cached("INSERT OR REPLACE INTO sailing VALUES (?, ?, ?, ?, ?, ?, ?, ?)")?;
            for id in dirty.keys() {
                put_sailing(&mut put, *id, &maps.sailings[id])?;
            }
        }
        transaction.commit()?;
    }
    Ok(())
}

const CHILD: &str = "BACKWATER_BENCH_CHILD";
const PATH: &str = "BACKWATER_BENCH_PATH";

/// Does what a program does at its start, if this process was started for that: it gets to the rows
/// of the next departures.
pub(crate) fn child() -> anyhow::Result<bool> {
    let (Ok(which), Some(path)) = (std::env::var(CHILD), std::env::var_os(PATH)) else {
        return Ok(false);
    };
    let rows = if which == "ours" {
        let cache = Cache::open(SqliteFile::read_only(&path))?;
        cache.query("next_departures", [("now", NOW)])?.read()?.len()
    } else {
        let maps = read_by_hand(Path::new(&path))?;
        let now = NOW.parse::<jiff::Timestamp>()?.as_microsecond();
        let mut next: Vec<(i64, i64)> = maps
            .sailings
            .iter()
            .filter(|(_, sailing)| sailing.departs_at >= now && sailing.status != Status::Cancelled)
            .map(|(id, sailing)| (sailing.departs_at, *id))
            .collect();
        next.sort_unstable();
        next.truncate(6);
        next.len()
    };
    println!("{rows} rows");
    Ok(true)
}
