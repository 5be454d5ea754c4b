//! Rows that were received too long ago are left out at the next start, and are deleted from the
//! storage; when a row was received or read is no change.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;
use std::time::Duration;

use backwater::{
    Cache, ErrorKind, Schema, SqliteFile,
    clock::SetClock,
    storage::{JsonLines, MemoryStorage, Storage},
};
use proptest::prelude::*;

/// A time is recorded in steps of a sixty-fourth of a row's life, here a second.
const SCHEMA: &str = r#"
    table.port = { id = "code", fields = { code = "text" } }
    table.vessel = { id = "name", expires_after = "64 s", fields = { name = "text", home = { to = "port" } } }
    table.sailing = { id = "id", expires_after = "64 s", fields = { id = "int", vessel = { to = "vessel" }, stops = { to_many = "port" } } }
    response.sailings = { table = "sailing" }
"#;
const LIFE: u64 = 64;

#[derive(Debug, Clone)]
enum Step {
    Wait(u64),
    Sailing(i64),
    Ingest(i64, i64),
    Vessel(i64),
    Port(i64),
    Delete(i64),
    Ask(i64),
    Flush,
    Reopen(bool),
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let id = 0..4_i64;
    let step = prop_oneof![
        4 => (0..40_u64).prop_map(Step::Wait),
        2 => id.clone().prop_map(Step::Sailing),
        3 => (id.clone(), id.clone()).prop_map(|(id, to)| Step::Ingest(id, to)),
        1 => id.clone().prop_map(Step::Vessel),
        1 => id.clone().prop_map(Step::Port),
        1 => id.clone().prop_map(Step::Delete),
        1 => id.prop_map(Step::Ask),
        1 => Just(Step::Flush),
        4 => any::<bool>().prop_map(Step::Reopen),
    ];
    prop::collection::vec(step, 1..30)
}

/// The rows that a program should see: by their table and id, when they were received.
#[derive(Default)]
struct Model {
    now: u64,
    received: BTreeMap<(&'static str, String), u64>,
}

impl Model {
    fn bring(&mut self, table: &'static str, id: impl ToString) {
        self.received.insert((table, id.to_string()), self.now);
    }

    fn leave_out(&mut self) {
        let now = self.now;
        self.received.retain(|(table, _), received| *table == "port" || now - *received < LIFE);
    }

    fn rows(&self) -> Vec<String> {
        self.received.keys().map(|(table, id)| format!("{table} {id}")).collect()
    }
}

fn rows(cache: &Cache) -> Vec<String> {
    let snapshot = cache.snapshot();
    let mut rows = Vec::new();
    for table in ["port", "sailing", "vessel"] {
        let ids = snapshot.rows(table).unwrap().map(|row| format!("{table} {}", row.id().unwrap()));
        rows.extend(ids);
    }
    // Each sailing has two stops, which go with it.
    let sailings = snapshot.count("sailing").unwrap();
    assert_eq!(snapshot.count("sailing_stops").unwrap(), sailings * 2);
    rows.sort_unstable();
    rows
}

fn check<S: Storage + 'static>(steps: &[Step], storage: impl Fn() -> S) {
    let schema = Schema::parse("s.toml", SCHEMA).unwrap();
    let clock = SetClock::at("2031-05-04T05:00:00Z".parse().unwrap());
    let open = |in_parts: bool| {
        let builder = Cache::builder().schema(schema.clone()).clock(clock.clone());
        let builder = builder.storage(storage());
        let builder =
            if in_parts { builder.load_first(["vessel"]).load_rest_on_demand() } else { builder };
        builder.build().unwrap()
    };
    let mut model = Model::default();
    let mut cache = open(false);
    for step in steps {
        match *step {
            Step::Wait(seconds) => {
                model.now += seconds;
                clock.advance(Duration::from_secs(seconds));
            }
            Step::Sailing(id) => {
                let write = cache.commit("announced", |tx| {
                    tx.merge("sailing", [("id", id)])?;
                    tx.set_links("sailing", id, "stops", ["A", "B"])
                });
                write.unwrap();
                model.bring("sailing", id);
            }
            Step::Ingest(id, to) => {
                let text = format!(
                    r#"[{{"id":{id},"vessel":{{"name":"V{to}","home":{{"code":"P{to}"}}}},"stops":["A","B"]}}]"#
                );
                let report = cache.commit("loaded", |tx| tx.ingest("sailings", &text)).unwrap();
                let again = cache.commit("loaded", |tx| tx.ingest("sailings", &text)).unwrap();
                assert!(report.changes().count() < 6 && again.changes().count() == 0);
                model.bring("sailing", id);
                model.bring("vessel", format!("V{to}"));
                model.bring("port", format!("P{to}"));
            }
            Step::Vessel(id) => {
                let name = format!("V{id}");
                cache
                    .commit("launched", |tx| tx.merge("vessel", [("name", name.as_str())]))
                    .unwrap();
                model.bring("vessel", name);
            }
            Step::Port(id) => {
                let code = format!("P{id}");
                cache.commit("opened", |tx| tx.merge("port", [("code", code.as_str())])).unwrap();
                model.bring("port", code);
            }
            Step::Delete(id) => {
                cache.commit("taken out", |tx| tx.delete("sailing", id).map(drop)).unwrap();
                model.received.remove(&("sailing", id.to_string()));
            }
            // Asking is no news.
            Step::Ask(id) => drop(cache.snapshot().get("sailing", id).unwrap().map(|row| row.id())),
            Step::Flush => cache.flush().unwrap(),
            Step::Reopen(in_parts) => {
                drop(cache);
                model.leave_out();
                cache = open(in_parts);
                cache.rehydrate(..).unwrap();
                assert_eq!(rows(&cache), model.rows());
            }
        }
    }
    // Without a clock, what a storage holds is seen: only what was written.
    drop(cache);
    model.leave_out();
    drop(open(false));
    let held = Cache::open(storage()).unwrap();
    assert_eq!(rows(&held), model.rows());
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(150), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_is_too_old_is_left_out(steps in steps()) {
        let memory = MemoryStorage::new();
        check(&steps, || memory.clone());
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(12), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn files_keep_the_times(steps in steps()) {
        let folder = tempfile::tempdir().unwrap();
        check(&steps, || SqliteFile::new(folder.path().join("old.db")));
        check(&steps, || JsonLines::new(folder.path().join("old.ndjson")));
    }
}

/// `BACKWATER_CASES=20000 cargo test --release -p backwater --test rows_grow_old` is a long run.
fn cases(otherwise: u32) -> u32 {
    std::env::var("BACKWATER_CASES").map_or(otherwise, |cases| cases.parse().unwrap())
}

/// A table that begins to record times has none until its rows are received again, and one that has
/// them keeps them where its rows are migrated to another schema.
#[test]
fn another_schema_keeps_what_is_known() {
    let memory = MemoryStorage::new();
    let clock = SetClock::at("2031-05-04T05:00:00Z".parse().unwrap());
    let open = |text: &str| {
        let builder = Cache::builder().schema(Schema::parse("s.toml", text).unwrap());
        builder.clock(clock.clone()).storage(memory.clone()).build().unwrap()
    };
    let count = |cache: &Cache| cache.snapshot().count("vessel").unwrap();
    let without = "table.vessel = { id = 'name', fields = { name = 'text' } }";
    let with =
        "table.vessel = { id = 'name', expires_after = '1 day', fields = { name = 'text' } }";
    let renamed = "table.ship = { id = 'name', was = 'vessel', expires_after = '1 day', fields = { name = 'text', cars = 'int' } }";
    let launch = |cache: Cache, name: &str| {
        cache.commit("launched", |tx| tx.merge("vessel", [("name", name)])).unwrap();
        drop(cache);
        clock.advance(Duration::from_secs(50_000));
    };
    launch(open(without), "Marram");
    // From here on it is known: they count as received now.
    launch(open(with), "Lantern");
    assert_eq!(count(&open(with)), 2);
    launch(open(with), "Lantern");
    let cache = open(renamed);
    assert_eq!(cache.snapshot().count("ship").unwrap(), 1);
    assert!(cache.snapshot().get("ship", "Lantern").unwrap().is_some());
    drop(cache);
    clock.advance(Duration::from_secs(50_000));
    assert_eq!(open(renamed).snapshot().count("ship").unwrap(), 0);
}

/// What is recorded beside the rows is not seen by statements, ours or SQLite's.
#[test]
fn statements_see_no_times() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("seen.db");
    let schema = r#"
        table.vessel = { id = "name", expires_after = "1 day", fields = { name = "text", remark = { type = "text", persist = false } } }
        table.note = { id = "id", persist = false, fields = { id = "int" } }
        query.all = "SELECT * FROM vessel LEFT JOIN note ON note.id = length(vessel.name)"
    "#;
    let clock = SetClock::at("2031-05-04T05:00:00Z".parse().unwrap());
    let builder = Cache::builder().schema(Schema::parse("s.toml", schema).unwrap());
    let cache = builder.clock(clock).storage(SqliteFile::new(&path)).build().unwrap();
    cache.commit("launched", |tx| tx.insert("vessel", [("name", "Marram")])).unwrap();
    assert_eq!(cache.query("all", ()).unwrap().read().unwrap().columns().count(), 3);
    drop(cache);
    let found = SqliteFile::verify(&path).unwrap();
    let all = &found.queries[0];
    assert_eq!((all.rows, &all.difference, &all.not_tried), (1, &None, &None));
    let file = rusqlite::Connection::open(&path).unwrap();
    let sql = "SELECT datetime(backwater_received_at, 'unixepoch') FROM vessel";
    let received: String = file.query_row(sql, (), |row| row.get(0)).unwrap();
    assert_eq!(received, "2031-05-04 05:00:00");
}

#[test]
fn what_cannot_expire_is_reported() {
    for (text, reported) in [
        (
            "table.b = { one_row = true, expires_after = '1 day', fields = { s = 'text' } }",
            "one-row table",
        ),
        (
            "table.b = { id = 'i', persist = false, expires_after = '1 day', fields = { i = 'int' } }",
            "not rehydrated",
        ),
        (
            "table.b = { id = 'i', expires_after = 'soon', fields = { i = 'int' } }",
            "found \"soon\", expected how long",
        ),
        (
            "table.b = { id = 'i', expires_after = '0 days', fields = { i = 'int' } }",
            "found \"0 days\"",
        ),
        ("table.b = { id = 'i', expires_after = 7, fields = { i = 'int' } }", "such as \"30 min\""),
    ] {
        let error = Schema::parse("s.toml", text).unwrap_err();
        assert_eq!(error.kind(), ErrorKind::Schema);
        assert!(error.to_string().contains(reported), "{error}");
    }
}
