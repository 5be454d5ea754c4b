//! A commit is whole or has not been made, whatever panics: the clock, what it calls, or a step of
//! its own. After what cannot be undone the cache says so.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use super::{fail_in, has_failed};
use crate::clock::Clock;
use crate::error::Result;
use crate::storage::MemoryStorage;
use crate::{Cache, Error, ErrorKind, Query, Report, Schema, Timestamp, Value, Watch};

const SCHEMA: &str = r#"
    [table.port]
    id = "code"
    fields = { code = "text", n = "int" }
    [table.call]
    id = "id"
    fields = { id = "int", port = { to = "port", on_delete = "cascade" }, n = "int" }
    [query]
    sums = "SELECT port AS p, sum(n) AS s FROM call GROUP BY port"
"#;

const QUERIES: &[&str] = &[
    "SELECT id, n FROM call ORDER BY n DESC LIMIT 3",
    "SELECT c.id, p.n FROM call AS c LEFT JOIN port AS p ON p.code = c.port ORDER BY c.id",
    "SELECT s.p, s.s, port.n FROM sums AS s JOIN port ON port.code = s.p",
    "SELECT count(*) AS n FROM call WHERE n > :n",
];

type Rows = Vec<Vec<Value>>;

fn rows(query: &Query) -> Result<Rows> {
    Ok(query.read()?.rows().map(|row| row.values().to_vec()).collect())
}

struct World {
    cache: Cache,
    memory: MemoryStorage,
    queries: Vec<(Query, Arc<Mutex<Rows>>)>,
    _watches: Vec<Watch>,
    reports: Vec<Report>,
}

impl World {
    fn new(clock: impl Clock + 'static) -> Self {
        let memory = MemoryStorage::new();
        let schema = Schema::parse("s.toml", SCHEMA).unwrap();
        let builder = Cache::builder().schema(schema).clock(clock);
        let cache = builder.storage(memory.clone()).build().unwrap();
        let mut reports = vec![loaded(&cache).unwrap()];
        let define = |sql: &str| {
            let n: &[(&str, Value)] =
                if sql.contains(":n") { &[("n", Value::Int(1))] } else { &[] };
            cache.query(sql, n.iter().cloned().collect::<crate::Named>()).unwrap()
        };
        let (mut queries, mut watches) = (Vec::new(), Vec::new());
        for sql in QUERIES {
            let query = define(sql);
            let shown = Arc::new(Mutex::new(rows(&query).unwrap()));
            let view = shown.clone();
            watches.push(
                cache
                    .watch(&query, move |reached| {
                        if let Some(delta) = reached.delta() {
                            delta.apply(&mut view.lock().unwrap()).unwrap();
                        }
                    })
                    .unwrap(),
            );
            queries.push((query, shown));
        }
        reports.push(step(&cache, 0).unwrap());
        Self { cache, memory, queries, _watches: watches, reports }
    }

    /// All tables, as text.
    fn image(cache: &Cache) -> String {
        let snapshot = cache.snapshot();
        let mut lines = Vec::new();
        for table in ["port", "call"] {
            let rows = snapshot.rows(table).unwrap();
            lines.extend(rows.map(|row| format!("{table} {}", row.nested(0).as_str())));
        }
        lines.sort();
        lines.join("\n")
    }

    /// Everything that knows the rows agrees about them.
    fn agrees(&self) {
        let fresh = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
        let mut lines = Vec::new();
        self.cache.snapshot().export(&mut lines).unwrap();
        fresh.commit("copied", |tx| tx.import(&lines)).unwrap();
        for ((query, shown), sql) in self.queries.iter().zip(QUERIES) {
            let params: Vec<(&str, Value)> = match query.node().bound_plan.params.first() {
                Some(n) => vec![("n", n.clone().into_value(None))],
                None => Vec::new(),
            };
            let params = params.into_iter().collect::<crate::Named>();
            let reported = rows(&fresh.query(sql, params).unwrap()).unwrap();
            assert_eq!(rows(query).unwrap(), reported, "{sql}");
            assert_eq!(*shown.lock().unwrap(), reported, "what was delivered of {sql}");
        }
        self.cache.flush().unwrap();
        let stored = Cache::open(self.memory.clone()).unwrap();
        assert_eq!(Self::image(&stored), Self::image(&self.cache));
    }
}

fn loaded(cache: &Cache) -> Result<Report> {
    let loaded = cache.commit("loaded", |tx| {
        for (code, n) in [("SAL", 1), ("EEL", 2)] {
            tx.insert("port", [("code", Value::from(code)), ("n", n.into())])?;
        }
        for id in 0..6_i64 {
            let port = if id % 2 == 0 { "SAL" } else { "EEL" };
            tx.insert(
                "call",
                [("id", Value::from(id)), ("port", port.into()), ("n", (id % 4).into())],
            )?;
        }
        Ok(())
    });
    Ok(loaded?.report)
}

fn step(cache: &Cache, number: i64) -> Result<Report> {
    let stepped = cache.commit("stepped", |tx| {
        tx.update("call", number % 6, [("n", number + 5)])?;
        tx.merge("port", [("code", Value::from("SAL")), ("n", (number + 3).into())])?;
        tx.merge(
            "call",
            [("id", Value::from(100 + number)), ("port", "NOR".into()), ("n", 9.into())],
        )
    });
    Ok(stepped?.report)
}

/// A clock that panics at one of its calls.
struct Panicking(Arc<AtomicUsize>);

impl Panicking {
    fn call(&self) {
        if self.0.fetch_sub(1, Ordering::SeqCst) == 0 {
            self.0.store(usize::MAX / 2, Ordering::SeqCst);
            panic!("the clock stands still");
        }
    }
}

impl Clock for Panicking {
    fn now(&self) -> Timestamp {
        self.call();
        "2031-05-04T05:00:00Z".parse().unwrap()
    }

    fn ticks(&self) -> Duration {
        self.call();
        Duration::ZERO
    }
}

/// One commit of each kind.
type Make = fn(&World) -> Result<()>;

fn kinds() -> Vec<(&'static str, Make)> {
    vec![
        ("written", |world| step(&world.cache, 1).map(drop)),
        ("cascaded", |world| world.cache.commit("gone", |tx| tx.delete("port", "SAL")).map(drop)),
        ("rebound", |world| world.cache.rebind("more", &world.queries[3].0, [("n", 3)]).map(drop)),
        ("withdrawn", |world| world.cache.withdraw("no", &world.reports[1]).map(drop)),
        ("cleared", |world| world.cache.clear("signed out").map(drop)),
    ]
}

#[test]
fn a_clock_that_panics_harms_no_commit() {
    for (kind, make) in kinds() {
        for call in 0..12 {
            let calls = Arc::new(AtomicUsize::new(usize::MAX / 2));
            let world = World::new(Panicking(calls.clone()));
            calls.store(call, Ordering::SeqCst);
            make(&world).unwrap_or_else(|error| panic!("{kind}: {error}"));
            world.agrees();
        }
    }
}

#[test]
fn a_step_that_panics_leaves_whole_commits() {
    let clock = || crate::clock::SetClock::at("2031-05-04T05:00:00Z".parse().unwrap());
    for (kind, make) in kinds() {
        let after = {
            let world = World::new(clock());
            make(&world).unwrap();
            World::image(&world.cache)
        };
        let mut is_through = false;
        for at in 0.. {
            let world = World::new(clock());
            let before = World::image(&world.cache);
            fail_in(at);
            let made = catch_unwind(AssertUnwindSafe(|| make(&world)));
            if !has_failed() {
                assert!(made.is_ok());
                is_through = at > 3;
                break;
            }
            let now = World::image(&world.cache);
            assert!(now == before || now == after, "{kind}: a part of a commit, at {at}");
            let is_broken = |error: Error| assert_eq!(error.kind(), ErrorKind::Broken, "{error}");
            is_broken(step(&world.cache, 2).unwrap_err());
            is_broken(world.cache.query("SELECT 1 FROM port", ()).unwrap_err());
            is_broken(world.queries[1].0.read().unwrap_err());
            is_broken(world.cache.watch(&world.queries[0].0, |_| {}).unwrap_err());
            is_broken(world.cache.rebind("more", &world.queries[3].0, [("n", 9)]).unwrap_err());
            let memory = world.memory.clone();
            drop(world);
            let stored = Cache::open(memory).unwrap();
            let stored = World::image(&stored);
            assert!(stored == before || stored == after, "{kind}: a part is stored, at {at}");
        }
        assert!(is_through, "{kind}: no step was met");
    }
}

/// Where a thread writes behind the commits.
#[cfg(feature = "threads")]
mod behind {
    use super::*;
    use crate::storage::{Batch, Header, Loader, Storage, StoredTable};

    /// A storage that panics, and a handler that does, too.
    struct Falling(MemoryStorage, Arc<AtomicUsize>);

    impl Storage for Falling {
        fn name(&self) -> String {
            "falling".to_owned()
        }

        fn header(&mut self) -> Result<Option<Header>> {
            self.0.header()
        }

        fn load(&mut self, table: &StoredTable<'_>, loader: &mut Loader<'_>) -> Result<()> {
            self.0.load(table, loader)
        }

        fn write(&mut self, batch: &Batch) -> Result<()> {
            if self.1.fetch_sub(1, Ordering::SeqCst) > 0 {
                panic!("the driver falls");
            }
            self.1.store(0, Ordering::SeqCst);
            self.0.write(batch)
        }
    }

    #[test]
    fn a_driver_that_panics_is_asked_again() {
        let (memory, falls) = (MemoryStorage::new(), Arc::new(AtomicUsize::new(3)));
        let reported = Arc::new(Mutex::new(Vec::new()));
        let seen = reported.clone();
        let cache = Cache::builder()
            .schema(Schema::parse("s.toml", SCHEMA).unwrap())
            .storage(Falling(memory.clone(), falls.clone()))
            .on_storage_error(move |error| {
                seen.lock().unwrap().push(error.to_string());
                panic!("and so does a watcher");
            })
            .build()
            .unwrap();
        loaded(&cache).unwrap();
        let written = || Cache::open(memory.clone()).map(|cache| World::image(&cache));
        for _ in 0..400 {
            if written().is_ok_and(|stored| stored == World::image(&cache)) {
                break;
            }
            std::thread::sleep(Duration::from_millis(10));
        }
        assert_eq!(written().unwrap(), World::image(&cache), "the thread has gone on");
        assert!(
            reported.lock().unwrap()[0].contains("falling: its driver panicked: the driver falls")
        );
        step(&cache, 1).unwrap();
        falls.store(1, Ordering::SeqCst);
        let error = cache.flush().unwrap_err();
        assert!(error.to_string().contains("the driver falls"), "{error}");
        let last = World::image(&cache);
        drop(cache);
        assert_eq!(written().unwrap(), last, "closing writes what waits");
    }
}
