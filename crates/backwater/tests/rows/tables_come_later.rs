//! A cache that learned of some of its tables while it ran is the same as one that knew them all
//! from the beginning: rows, queries and their deltas, derived values, the file.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::{Arc, Mutex};

use backwater::{Cache, Query, Schema, SqliteFile, Value};
use proptest::prelude::*;

#[path = "../shared/every_kind.rs"]
mod every_kind;

use every_kind::{FIRST, SECOND, Write, image, whole, write};

/// A query, and a view of it that only ever heard deltas.
struct Shown {
    query: Query,
    view: Arc<Mutex<Vec<Vec<Value>>>>,
    _watch: backwater::Watch,
}

impl Shown {
    fn new(cache: &Cache, name: &str) -> Self {
        let query = cache.query(name, ()).unwrap();
        let view = Arc::new(Mutex::new(Vec::new()));
        let hears = view.clone();
        let watch = cache
            .watch(&query, move |reached| {
                reached
                    .delta()
                    .into_iter()
                    .for_each(|delta| delta.apply(&mut hears.lock().unwrap()).unwrap());
            })
            .unwrap();
        *view.lock().unwrap() = rows(&query);
        Self { query, view, _watch: watch }
    }

    fn assert_is(&self, other: &Query) {
        assert_eq!(rows(&self.query), rows(other));
        assert_eq!(*self.view.lock().unwrap(), rows(other));
    }
}

fn rows(query: &Query) -> Vec<Vec<Value>> {
    query.read().unwrap().rows().map(|row| row.values().to_vec()).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    #[test]
    fn later_is_as_good_as_at_once(
        before in prop::collection::vec(prop::collection::vec(any::<Write>(), 1..4), 0..6),
        after in prop::collection::vec(prop::collection::vec(any::<Write>(), 1..4), 1..10),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let file = || SqliteFile::new(folder.path().join("later.db"));
        let first = Schema::parse("first", FIRST).unwrap();
        let (later, known) = (Cache::open_with(first, file()).unwrap(), Cache::new(whole()));
        let late = Shown::new(&later, "late");
        // A value that cannot be computed before the table is there.
        let bookings = later.derived("bookings", |read| Ok(read.table::<Booking>()?.len()));
        let both = |writes: &[Write], all: bool| {
            let made = [&later, &known].map(|cache| {
                let made = cache.commit("written", |tx| {
                    writes.iter().try_for_each(|of| write(tx, *of, all))
                });
                made.map(|report| report.changes().map(|of| of.to_string()).collect::<Vec<_>>())
                    .map_err(|error| error.to_string())
            });
            assert_eq!(made[0].as_ref().map(|of| of.len()), made[1].as_ref().map(|of| of.len()));
        };
        before.iter().for_each(|writes| both(writes, false));
        let before_it = later.snapshot();
        prop_assert!(bookings.get().is_err());
        later.declare("the desk opens", |schema| schema.text("second", SECOND)).unwrap();
        prop_assert!(later.schema() == whole() && later.schema() != Schema::parse("first", FIRST).unwrap());
        prop_assert_eq!(*bookings.get().unwrap(), 0);
        let booked = Shown::new(&later, "booked");
        for writes in &after {
            both(writes, true);
            late.assert_is(&known.query("late", ()).unwrap());
            booked.assert_is(&known.query("booked", ()).unwrap());
            prop_assert_eq!(image(&later), image(&known));
            prop_assert_eq!(*bookings.get().unwrap(), known.snapshot().count("booking").unwrap());
        }
        prop_assert!(before_it.count("booking").is_err());
        later.flush().unwrap();
        drop((late, booked, bookings, later));
        prop_assert_eq!(image(&Cache::open(file()).unwrap()), image(&known));
    }
}

#[derive(backwater::Table)]
#[allow(dead_code, reason = "only counted")]
struct Sailing {
    #[table(id)]
    id: i64,
}

#[derive(backwater::Table)]
#[allow(dead_code, reason = "only counted")]
struct Booking {
    #[table(id)]
    sailing: backwater::Link<Sailing>,
    #[table(id)]
    number: i64,
}

#[test]
fn what_cannot_be_declared_leaves_everything_as_it_was() {
    let cache = Cache::new(Schema::parse("first", FIRST).unwrap());
    for (text, reported) in [
        (
            "table.port = { id = 'id', fields = { id = 'int' } }",
            "table.port is declared by another text already",
        ),
        (
            "table.crew = { id = 'id', fields = { id = 'int', on = { to = 'vessel' } } }",
            "there is no table \"vessel\"",
        ),
        ("table.crew = ", "later:1:14: this is not TOML"),
    ] {
        let error = cache.declare("more", |schema| schema.text("later", text)).unwrap_err();
        assert!(error.to_string().contains(reported), "{error}");
        assert!(cache.schema() == Schema::parse("first", FIRST).unwrap());
        assert_eq!(cache.snapshot().commit(), 0);
    }
}
