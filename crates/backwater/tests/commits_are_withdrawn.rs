//! A commit is taken back field by field: at once, nothing of it is left; after others, what they
//! wrote stays. And a cache that is cleared is as it began, in the file too.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;

use backwater::{Cache, Report, Result, Schema, SqliteFile, Transaction, Value};
use proptest::prelude::*;

const SCHEMA: &str = r#"
    [table.port]
    id = "code"
    fields = { code = "text", name = "text", size = "int" }
    [table.sailing]
    id = "id"
    [table.sailing.fields]
    id = "int"
    from = { to = "port", on_delete = "set null" }
    stops = { to_many = "port", on_delete = "cascade" }
    about = { to = ["port", "sailing"] }
    status = "text"
    delay = "int"
    [table.booking]
    id = ["sailing", "number"]
    [table.booking.fields]
    sailing = { to = "sailing", on_delete = "cascade" }
    number = "int"
    cars = "int"
    [table.board]
    one_row = true
    fields = { search = "text", port = { to = "port" } }
"#;

const PORTS: [&str; 3] = ["SAL", "EEL", "NOR"];

/// One write, told by numbers so that it shrinks.
type Write = (u8, u8, u8, u8);

fn write(tx: &mut Transaction, (what, which, field, value): Write) -> Result<()> {
    let port = PORTS[usize::from(which) % 3];
    let other = PORTS[usize::from(value) % 3];
    let sailing = i64::from(which % 3);
    let number = Value::from(i64::from(value % 4));
    match what % 9 {
        0 => tx.merge(
            "port",
            [
                ("code", port.into()),
                (
                    ["name", "size"][usize::from(field) % 2],
                    match field % 2 {
                        0 => Value::from(format!("name {value}")),
                        _ => number,
                    },
                ),
            ],
        ),
        1 => tx.merge("sailing", [("id", Value::from(sailing)), ("from", other.into())]),
        2 => tx.merge(
            "sailing",
            [
                ("id", Value::from(sailing)),
                (
                    ["delay", "status"][usize::from(field) % 2],
                    match field % 2 {
                        0 => number,
                        _ => Value::from(format!("status {value}")),
                    },
                ),
            ],
        ),
        3 => tx.merge(
            "booking",
            [
                ("sailing", Value::from(sailing)),
                ("number", Value::from(i64::from(field % 2))),
                ("cars", number),
            ],
        ),
        4 => tx.delete("sailing", sailing).map(drop),
        5 => tx.delete("port", port).map(drop),
        6 => {
            tx.merge("sailing", [("id", sailing)])?;
            let stops = PORTS.iter().cycle().skip(value.into()).take(usize::from(field) % 4);
            tx.set_links("sailing", sailing, "stops", stops.copied())
        }
        7 => {
            let (table, id) =
                if field % 2 == 0 { ("port", Value::from(other)) } else { ("sailing", number) };
            tx.merge(
                "sailing",
                [("id", Value::from(sailing)), ("about", id), ("about_type", table.into())],
            )
        }
        _ => tx.set("board", [("search", Value::from(format!("{value}"))), ("port", other.into())]),
    }
}

fn commit(cache: &Cache, writes: &[Write]) -> Report {
    cache.commit("written", |tx| writes.iter().try_for_each(|of| write(tx, *of))).unwrap()
}

/// All fields of all rows.
fn image(cache: &Cache) -> BTreeMap<(String, String), BTreeMap<String, String>> {
    let snapshot = cache.snapshot();
    let mut out = BTreeMap::new();
    for table in ["port", "sailing", "booking", "sailing_stops", "board"] {
        for row in snapshot.rows(table).unwrap() {
            let fields = row.fields().map(|(name, value)| (name.to_owned(), format!("{value:?}")));
            let id = row.id().map(|id| id.to_string()).unwrap_or_default();
            out.insert((table.to_owned(), id), fields.collect());
        }
    }
    out
}

fn writes() -> impl Strategy<Value = Vec<Write>> {
    prop::collection::vec(any::<Write>(), 0..8)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn at_once_nothing_of_it_is_left(first in prop::collection::vec(any::<Write>(), 0..20), shown in writes()) {
        let cache = Cache::new(Schema::parse("test.toml", SCHEMA).unwrap());
        commit(&cache, &first);
        let before = image(&cache);
        let report = commit(&cache, &shown);
        let taken = cache.withdraw("withdrawn", &report).unwrap();
        prop_assert_eq!(image(&cache), before);
        // Once more there is nothing left to take back, unless it had deleted what came before.
        prop_assert_eq!(taken.changes().count(), report.changes().count());
    }

    /// Of rows that were there all the time, each field is told by itself.
    #[test]
    fn what_others_wrote_since_stays(
        first in prop::collection::vec(any::<Write>(), 0..20),
        shown in writes(),
        others in writes(),
    ) {
        let cache = Cache::new(Schema::parse("test.toml", SCHEMA).unwrap());
        commit(&cache, &first);
        let before = image(&cache);
        let report = commit(&cache, &shown);
        let after = image(&cache);
        commit(&cache, &others);
        let now = image(&cache);
        cache.withdraw("withdrawn", &report).unwrap();
        let withdrawn = image(&cache);
        let together = |name: &str| ["about", "about_type"].contains(&name);
        for (row, then) in &before {
            let (Some(after), Some(now), Some(is)) = (after.get(row), now.get(row), withdrawn.get(row)) else { continue };
            if row.0 == "sailing_stops" {
                continue;
            }
            for name in ["name", "size", "from", "status", "delay", "cars", "search", "port", "about", "about_type"] {
                let still = |name: &str| now.get(name) == after.get(name);
                let is_still = still(name) && (!together(name) || still("about") && still("about_type"));
                let expected = if is_still { then } else { now };
                prop_assert_eq!(is.get(name), expected.get(name), "{:?} {}", row, name);
            }
        }
        // What only others brought stays.
        for (row, fields) in now.iter().filter(|(row, _)| !before.contains_key(*row) && !after.contains_key(*row)) {
            prop_assert_eq!(withdrawn.get(row), Some(fields), "{:?}", row);
        }
    }
}

#[test]
fn cleared_is_empty_in_memory_and_in_the_file() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("cache.db");
    let cache =
        Cache::open_with(Schema::parse("test.toml", SCHEMA).unwrap(), SqliteFile::new(&file))
            .unwrap();
    let count = cache.query("SELECT count(*) FROM port", ()).unwrap();
    commit(&cache, &[(0, 0, 0, 1), (6, 1, 3, 1), (3, 1, 1, 2), (8, 0, 0, 7), (7, 1, 0, 0)]);
    let began = image(&Cache::new(Schema::parse("test.toml", SCHEMA).unwrap()));
    let report = cache.clear("signed out").unwrap();
    assert!(report.changes().count() >= 5);
    assert_eq!(image(&cache), began);
    assert_eq!(count.read().unwrap().row(0).unwrap().values(), [Value::Int(0)]);
    drop((cache, count));
    assert_eq!(image(&Cache::open(SqliteFile::new(&file)).unwrap()), began);
}
