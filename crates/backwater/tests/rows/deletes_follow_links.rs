//! A deleted row's links follow their `on_delete`, as foreign keys do in SQLite.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use backwater::{Cache, ErrorKind, Schema, Value};
use proptest::prelude::*;
use rusqlite::Connection;

const SCHEMA: &str = r#"
    table.a = { id = "id", fields = { id = "int", x = { to = "b", on_delete = "cascade" }, y = { to = "c", on_delete = "set null" }, z = { to = "a", on_delete = "restrict" } } }
    table.b = { id = "id", fields = { id = "int", x = { to = "a", on_delete = "cascade" }, y = { to = "b", on_delete = "set null" }, z = { to = "c", on_delete = "restrict" } } }
    table.c = { id = "id", fields = { id = "int", x = { to = "c", on_delete = "cascade" }, y = { to = "a", on_delete = "set null" }, z = { to = "b", on_delete = "restrict" } } }
"#;

/// Restrict is asked when all has followed, as SQLite's NO ACTION is.
const TABLES: &str = "
    PRAGMA foreign_keys = ON;
    CREATE TABLE a (id INTEGER PRIMARY KEY, x REFERENCES b ON DELETE CASCADE, y REFERENCES c ON DELETE SET NULL, z REFERENCES a);
    CREATE TABLE b (id INTEGER PRIMARY KEY, x REFERENCES a ON DELETE CASCADE, y REFERENCES b ON DELETE SET NULL, z REFERENCES c);
    CREATE TABLE c (id INTEGER PRIMARY KEY, x REFERENCES c ON DELETE CASCADE, y REFERENCES a ON DELETE SET NULL, z REFERENCES b);
";

const ROWS: i64 = 12;

#[derive(Debug, Clone)]
enum Write {
    Link(&'static str, i64, &'static str, Option<i64>),
    Delete(&'static str, i64),
}

fn write() -> impl Strategy<Value = Write> {
    let table = || prop::sample::select(vec!["a", "b", "c"]);
    let field = prop::sample::select(vec!["x", "x", "x", "y", "z"]);
    prop_oneof![
        5 => (table(), 0..ROWS, field, prop::option::weighted(0.9, 0..ROWS))
            .prop_map(|(table, id, field, to)| Write::Link(table, id, field, to)),
        2 => (table(), 0..ROWS).prop_map(|(table, id)| Write::Delete(table, id)),
    ]
}

fn ours(cache: &Cache, table: &str) -> Vec<Vec<Value>> {
    let result =
        cache.query(&format!("SELECT id, x, y, z FROM {table}"), ()).unwrap().read().unwrap();
    result.rows().map(|row| row.values().to_vec()).collect()
}

fn theirs(sqlite: &Connection, table: &str) -> Vec<Vec<Value>> {
    let mut statement =
        sqlite.prepare(&format!("SELECT id, x, y, z FROM {table} ORDER BY id")).unwrap();
    let rows = statement.query_map([], |row| {
        (0..4).map(|column| Ok(row.get::<_, Option<i64>>(column)?.into())).collect()
    });
    rows.unwrap().map(Result::unwrap).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn deletes_do_what_foreign_keys_do(writes in prop::collection::vec(write(), 1..120)) {
        let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
        let sqlite = Connection::open_in_memory().unwrap();
        sqlite.execute_batch(TABLES).unwrap();
        for table in ["a", "b", "c"] {
            for id in 0..ROWS {
                cache.commit("a row", |tx| tx.insert(table, [("id", id)])).unwrap();
                sqlite.execute(&format!("INSERT INTO {table} (id) VALUES (?)"), [id]).unwrap();
            }
        }
        // What links do by themselves shows at the latest with the next delete.
        let is_delete = |write: &Write| matches!(write, Write::Delete(..));
        for write in writes.into_iter().chain([Write::Delete("a", 0)]) {
            let compare = is_delete(&write);
            match write {
                Write::Link(table, id, field, to) => {
                    let sql = format!("UPDATE {table} SET {field} = ? WHERE id = ?");
                    // SQLite lets nothing point at a row that is not there; neither does this test.
                    if sqlite.execute(&sql, (to, id)).is_ok_and(|rows| rows == 1) {
                        cache.commit("a link", |tx| tx.update(table, id, [(field, to)])).unwrap();
                    }
                }
                Write::Delete(table, id) => {
                    let theirs = sqlite.execute(&format!("DELETE FROM {table} WHERE id = ?"), [id]);
                    let mut there = None;
                    let ours = cache.commit("a delete", |tx| {
                        there = Some(tx.delete(table, id)?);
                        Ok(())
                    });
                    prop_assert_eq!(ours.is_ok(), theirs.is_ok(), "{:?} {:?}", ours.err(), theirs);
                    prop_assert!(theirs.is_err() || there == Some(theirs == Ok(1)));
                }
            }
            for table in ["a", "b", "c"].into_iter().filter(|_| compare) {
                prop_assert_eq!(ours(&cache, table), theirs(&sqlite, table), "table {}", table);
            }
        }
    }
}

/// Entries of a to-many link leave no gap, go with their owner, and name the owner that holds a
/// row.
#[test]
fn entries_of_a_to_many_link_follow_too() {
    let schema = Schema::parse(
        "s.toml",
        r#"
        table.port = { id = "code", fields = { code = "text" } }
        table.route = { id = "id", fields = { id = "int", stops = { to_many = "port", on_delete = "cascade" }, base = { to_many = "port", on_delete = "restrict", link_table = "route_base" } } }
        table.note = { id = "id", fields = { id = "int", about = { to = ["port", "route"], on_delete = "cascade" } } }
    "#,
    );
    let cache = Cache::new(schema.unwrap());
    let stops =
        cache.query("SELECT position, target FROM route_stops WHERE owner = 4", ()).unwrap();
    let reported = || {
        stops
            .read()
            .unwrap()
            .rows()
            .map(|row| row.get("target").unwrap().to_string())
            .collect::<Vec<_>>()
    };
    cache
        .commit("a route opened", |tx| {
            for code in ["SAL", "EEL", "NOR"] {
                tx.insert("port", [("code", code)])?;
            }
            tx.insert("route", [("id", 4)])?;
            tx.set_links("route", 4, "stops", ["EEL", "SAL", "EEL", "NOR"])?;
            tx.set_links("route", 4, "base", ["SAL"])?;
            tx.insert(
                "note",
                [("id", Value::from(1)), ("about", "NOR".into()), ("about_type", "port".into())],
            )
        })
        .unwrap();
    assert_eq!(reported(), ["EEL", "SAL", "EEL", "NOR"]);

    let held = cache.commit("a port closed", |tx| tx.delete("port", "SAL")).unwrap_err();
    assert_eq!(held.kind(), ErrorKind::Row);
    assert!(
        held.to_string().starts_with(
            "port SAL cannot be deleted: route 4 points at it; route.base is on_delete"
        )
    );

    cache
        .commit("two ports closed", |tx| tx.delete("port", "EEL").and(tx.delete("port", "NOR")))
        .unwrap();
    assert_eq!(reported(), ["SAL"]);
    assert_eq!(
        cache.snapshot().get("route", 4).unwrap().unwrap().get("stops").unwrap(),
        Some(Value::Int(1))
    );
    assert_eq!(cache.snapshot().count("note").unwrap(), 0);

    let refused = cache.commit("by hand", |tx| tx.delete("route_stops", (4, 0))).unwrap_err();
    assert!(refused.to_string().contains("write them with `set_links`"));
    cache
        .commit("a route closed", |tx| tx.delete("route", 4).and(tx.delete("port", "SAL")))
        .unwrap();
    let left: usize = cache.snapshot().tables().iter().map(|table| table.rows).sum();
    assert_eq!(left, 0);
}
