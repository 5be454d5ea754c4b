//! A unique key is one row's, as SQLite has it; what a server says takes it from the row that had it.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use backwater::{
    Cache, Error, ErrorKind, Query, Report, Request, Schema, Table, Value, storage::MemoryStorage,
};
use proptest::prelude::*;
use rusqlite::{Connection, OptionalExtension, params};

const SCHEMA: &str = r#"
    [table.crew]
    id = "id"
    unique = [["badge"], ["vessel", "number"]]
    fields = { id = "int", badge = "text", vessel = { to = "vessel" }, number = "int" }
    [table.vessel]
    id = "name"
    fields = { name = "text" }
    [table.note]
    id = "id"
    fields = { id = "int", by = { to = "crew", by = "badge", on_delete = "set null" } }
    [table.berth]
    id = "id"
    fields = { id = "int", vessel = { to = "vessel" }, berth = { to = "crew", by = "number", on_delete = "cascade" } }

    [response]
    crew = { url = "/crew", table = "crew" }
    badge = { url = "/badges/{badge}", table = "crew", fields = { badge = ":badge" } }
    left = { method = "DELETE", url = "/badges/{badge}", table = "crew", fields = { badge = ":badge" }, deletes = true }
    event = { table = "crew", deletes = { "/what" = "left" }, records = "/crew" }
    note = { url = "/notes", table = "note" }
    berth = { url = "/berths", table = "berth" }
"#;

const TABLES: &str = "
    CREATE TABLE crew (id INTEGER PRIMARY KEY, badge TEXT UNIQUE, vessel TEXT, number INTEGER, UNIQUE (vessel, number));
    CREATE TABLE note (id INTEGER PRIMARY KEY, by TEXT);
    CREATE TABLE berth (id INTEGER PRIMARY KEY, vessel TEXT, berth INTEGER);
";

/// A member of the crew as a response or a program gives it: what it leaves out, and nulls.
type Given = (Option<Option<String>>, Option<Option<String>>, Option<Option<i64>>);

#[derive(Debug, Clone)]
enum Step {
    /// A response, perhaps without the id.
    Answer(Option<i64>, Given),
    /// The answer to a request that names the badge.
    OfBadge(String, Option<i64>),
    Insert(i64, Given),
    Update(i64, Given),
    DeleteByBadge(String),
    /// An event that says by a key who left.
    Left(String, i64),
    /// A note by a badge alone, or by the whole member of the crew.
    Note(i64, String, Option<i64>),
    Berth(i64, String, i64),
}

fn badge() -> impl Strategy<Value = String> {
    "[a-d]"
}

fn given() -> impl Strategy<Value = Given> {
    let vessel = prop::option::weighted(0.9, "[MN]");
    let number = prop::option::weighted(0.9, 0..3_i64);
    (
        prop::option::of(prop::option::weighted(0.8, badge())),
        prop::option::of(vessel),
        prop::option::of(number),
    )
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        6 => (prop::option::weighted(0.8, 0..6_i64), given()).prop_map(|(id, given)| Step::Answer(id, given)),
        1 => (badge(), prop::option::of(0..6_i64)).prop_map(|(badge, id)| Step::OfBadge(badge, id)),
        2 => (0..6_i64, given()).prop_map(|(id, given)| Step::Insert(id, given)),
        2 => (0..6_i64, given()).prop_map(|(id, given)| Step::Update(id, given)),
        1 => badge().prop_map(Step::DeleteByBadge),
        1 => ("[MN]", 0..3_i64).prop_map(|(vessel, number)| Step::Left(vessel, number)),
        2 => (0..9_i64, badge(), prop::option::of(0..6_i64)).prop_map(|(id, badge, of)| Step::Note(id, badge, of)),
        2 => (0..9_i64, "[MN]", 0..3_i64).prop_map(|(id, vessel, number)| Step::Berth(id, vessel, number)),
    ]
}

fn members((badge, vessel, number): &Given) -> serde_json::Map<String, serde_json::Value> {
    let badge = badge.as_ref().map(|badge| ("badge".to_owned(), badge.clone().into()));
    let vessel = vessel.as_ref().map(|vessel| ("vessel".to_owned(), vessel.clone().into()));
    let number = number.as_ref().map(|number| ("number".to_owned(), (*number).into()));
    [badge, vessel, number].into_iter().flatten().collect()
}

fn fields(id: Option<i64>, (badge, vessel, number): &Given) -> Vec<(&'static str, Value)> {
    let id = id.map(|id| ("id", id.into()));
    let badge = badge.as_ref().map(|badge| ("badge", badge.clone().into()));
    let vessel = vessel.as_ref().map(|vessel| ("vessel", vessel.clone().into()));
    let number = number.as_ref().map(|number| ("number", (*number).into()));
    [id, badge, vessel, number].into_iter().flatten().collect()
}

/// The same with SQL.
struct Model(Connection);

impl Model {
    fn new() -> Self {
        let sqlite = Connection::open_in_memory().unwrap();
        sqlite.execute_batch(TABLES).unwrap();
        Self(sqlite)
    }

    fn run(&self, sql: &str, params: impl rusqlite::Params) -> bool {
        self.0.execute(sql, params).is_ok_and(|rows| rows > 0)
    }

    fn id_of(&self, condition: &str, params: impl rusqlite::Params) -> Option<i64> {
        let sql = format!("SELECT id FROM crew WHERE {condition}");
        self.0.query_row(&sql, params, |row| row.get(0)).optional().unwrap()
    }

    /// What a row is once these fields are written.
    fn merged(&self, id: i64, given: &Given) -> (Option<String>, Option<String>, Option<i64>) {
        let sql = "SELECT badge, vessel, number FROM crew WHERE id = ?";
        let row = self.0.query_row(sql, [id], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)));
        let (badge, vessel, number) = row.optional().unwrap().unwrap_or_default();
        (
            given.0.clone().unwrap_or(badge),
            given.1.clone().unwrap_or(vessel),
            given.2.unwrap_or(number),
        )
    }

    /// What a server says: rows that have its keys lose them.
    fn receive(&self, id: Option<i64>, given: &Given) -> bool {
        let by_badge = || match &given.0 {
            Some(Some(badge)) => self.id_of("badge = ?", [badge]),
            _ => None,
        };
        let by_number = || match (&given.1, &given.2) {
            (Some(Some(vessel)), Some(Some(number))) => {
                self.id_of("vessel = ? AND number = ?", params![vessel, number])
            }
            _ => None,
        };
        let Some(id) = id.or_else(by_badge).or_else(by_number) else { return false };
        let (badge, vessel, number) = self.merged(id, given);
        if given.0.is_some() {
            self.run(
                "UPDATE crew SET badge = NULL WHERE badge = ? AND id <> ?",
                params![badge, id],
            );
        }
        if given.1.is_some() || given.2.is_some() {
            let sql = "UPDATE crew SET number = NULL WHERE vessel = ? AND number = ? AND id <> ?";
            self.run(sql, params![vessel, number, id]);
        }
        self.run(
            "INSERT OR REPLACE INTO crew VALUES (?, ?, ?, ?)",
            params![id, badge, vessel, number],
        )
    }

    fn delete(&self, id: Option<i64>) {
        let Some(id) = id else { return };
        self.run(
            "UPDATE note SET by = NULL WHERE by = (SELECT badge FROM crew WHERE id = ?)",
            [id],
        );
        let sql = "DELETE FROM berth WHERE (vessel, berth) = (SELECT vessel, number FROM crew WHERE id = ?)";
        self.run(sql, [id]);
        self.run("DELETE FROM crew WHERE id = ?", [id]);
    }
}

fn ingest(cache: &Cache, request: Request, text: &str) -> Result<Report, Error> {
    cache.commit("a response", |tx| tx.ingest(request, text).map(drop)).map(|done| done.report)
}

/// Does a step on both sides; returns whether each of them took it.
fn both(cache: &Cache, model: &Model, step: &Step) -> (bool, bool) {
    let ingest = |rule: &str, text: String| ingest(cache, Request::rule(rule), &text);
    let request = |method: &str, badge: &str| Request::new(method, format!("/badges/{badge}"));
    match step {
        Step::Answer(id, given) => {
            let mut object = members(given);
            object.extend(id.map(|id| ("id".to_owned(), id.into())));
            let object = serde_json::Value::from(object).to_string();
            (ingest("crew", object).is_ok(), model.receive(*id, given))
        }
        Step::OfBadge(badge, id) => {
            let text = serde_json::json!({ "id": id }).to_string();
            let text = if id.is_some() { text } else { "{}".to_owned() };
            let given = (Some(Some(badge.clone())), None, None);
            let ours = self::ingest(cache, request("GET", badge), &text);
            (ours.is_ok(), model.receive(*id, &given))
        }
        Step::Insert(id, given) => {
            let ours = cache.commit("insert", |tx| tx.insert("crew", fields(Some(*id), given)));
            let (badge, vessel, number) = given.clone();
            let (badge, vessel) = (badge.flatten(), vessel.flatten());
            let row = params![id, badge, vessel, number.flatten()];
            (ours.is_ok(), model.run("INSERT INTO crew VALUES (?, ?, ?, ?)", row))
        }
        Step::Update(id, given) => {
            let ours = cache.commit("update", |tx| tx.update("crew", *id, fields(None, given)));
            let (badge, vessel, number) = model.merged(*id, given);
            let sql = "UPDATE crew SET badge = ?, vessel = ?, number = ? WHERE id = ?";
            (ours.is_ok(), model.run(sql, params![badge, vessel, number, id]))
        }
        Step::DeleteByBadge(badge) => {
            model.delete(model.id_of("badge = ?", [badge]));
            (self::ingest(cache, request("DELETE", badge), "").is_ok(), true)
        }
        Step::Left(vessel, number) => {
            let text = serde_json::json!({ "what": "left", "crew": { "vessel": vessel, "number": number } });
            model.delete(model.id_of("vessel = ? AND number = ?", params![vessel, number]));
            (ingest("event", text.to_string()).is_ok(), true)
        }
        Step::Note(id, badge, None) => {
            let text = serde_json::json!({ "id": id, "by": badge }).to_string();
            model.run("INSERT OR REPLACE INTO note VALUES (?, ?)", params![id, badge]);
            (ingest("note", text).is_ok(), true)
        }
        Step::Note(id, badge, Some(of)) => {
            let text = serde_json::json!({ "id": id, "by": { "id": of, "badge": badge } });
            model.receive(Some(*of), &(Some(Some(badge.clone())), None, None));
            model.run("INSERT OR REPLACE INTO note VALUES (?, ?)", params![id, badge]);
            (ingest("note", text.to_string()).is_ok(), true)
        }
        Step::Berth(id, vessel, number) => {
            let text = serde_json::json!({ "id": id, "vessel": vessel, "berth": number });
            let row = params![id, vessel, number];
            model.run("INSERT OR REPLACE INTO berth VALUES (?, ?, ?)", row);
            (ingest("berth", text.to_string()).is_ok(), true)
        }
    }
}

const QUERIES: [&str; 4] = [
    "SELECT id, badge, vessel, number FROM crew ORDER BY id",
    "SELECT id, by FROM note ORDER BY id",
    "SELECT id, vessel, berth FROM berth ORDER BY id",
    "SELECT note.id, crew.id FROM note JOIN crew ON crew.badge = note.by ORDER BY note.id",
];

fn ours(cache: &Cache, sql: &str) -> Vec<Vec<Value>> {
    rows(&cache.query(sql, ()).unwrap())
}

fn rows(query: &Query) -> Vec<Vec<Value>> {
    query.read().unwrap().rows().map(|row| row.values().to_vec()).collect()
}

fn theirs(model: &Model, sql: &str) -> Vec<Vec<Value>> {
    let mut statement = model.0.prepare(sql).unwrap();
    let columns = statement.column_count();
    let rows = statement.query_map([], |row| {
        let value = |column| {
            Ok(match row.get::<_, rusqlite::types::Value>(column)? {
                rusqlite::types::Value::Integer(number) => Value::Int(number),
                rusqlite::types::Value::Text(text) => text.into(),
                _ => Value::Null,
            })
        };
        (0..columns).map(value).collect()
    });
    rows.unwrap().map(Result::unwrap).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn keys_are_unique_as_in_sqlite(steps in prop::collection::vec(step(), 1..50), withdrawn in any::<prop::sample::Index>()) {
        let storage = MemoryStorage::new();
        let schema = Schema::parse("s.toml", SCHEMA).unwrap();
        let open = || Cache::builder().schema(schema.clone()).storage(storage.clone()).build().unwrap();
        let (cache, model) = (open(), Model::new());
        let queries = QUERIES.map(|sql| (sql, cache.query(sql, ()).unwrap()));
        for step in &steps {
            let (mine, theirs) = both(&cache, &model, step);
            prop_assert_eq!(mine, theirs, "{:?}", step);
            for (sql, query) in &queries {
                prop_assert_eq!(rows(query), self::theirs(&model, sql), "{} after {:?}", sql, step);
            }
            for row in rows(&queries[0].1) {
                if !row[1].is_null() {
                    let snapshot = cache.snapshot();
                    let found = snapshot.get_by("crew", [("badge", row[1].clone())]).unwrap();
                    prop_assert_eq!(found.and_then(|found| found.get("id").unwrap()), Some(row[0].clone()));
                }
            }
        }
        cache.flush().unwrap();
        drop((queries, cache));
        let cache = open();
        for sql in QUERIES {
            prop_assert_eq!(ours(&cache, sql), theirs(&model, sql), "{} after a restart", sql);
        }
        // What a withdrawn commit gives back is unique too.
        for step in &steps {
            _ = both(&cache, &model, step);
        }
        let commits = cache.commits();
        if !commits.is_empty() {
            cache.withdraw("withdrawn", &commits[withdrawn.index(commits.len())]).unwrap();
        }
        let twice = "SELECT badge FROM crew WHERE badge IS NOT NULL GROUP BY badge HAVING count(*) > 1
            UNION ALL SELECT vessel FROM crew WHERE vessel IS NOT NULL AND number IS NOT NULL GROUP BY vessel, number HAVING count(*) > 1";
        prop_assert_eq!(ours(&cache, twice), Vec::<Vec<Value>>::new());
    }
}

#[test]
fn an_older_answer_takes_no_key() {
    let text = r#"
        [table.crew]
        id = "id"
        unique = "badge"
        version = "at"
        fields = { id = "int", badge = "text", at = "int" }
        [response.crew]
        url = "/crew"
        table = "crew"
    "#;
    let cache = Cache::new(Schema::parse("s.toml", text).unwrap());
    ingest(&cache, Request::rule("crew"), r#"{ "id": 1, "badge": "a", "at": 5 }"#).unwrap();
    ingest(&cache, Request::rule("crew"), r#"{ "id": 2, "badge": "a", "at": 4 }"#).unwrap();
    let rows = ours(&cache, "SELECT id, badge FROM crew ORDER BY id");
    assert_eq!(rows, [vec![Value::Int(1), "a".into()], vec![Value::Int(2), Value::Null]]);

    // Nor one that was asked for before the badge changed hands.
    let began = cache.snapshot().commit();
    ingest(&cache, Request::rule("crew"), r#"{ "id": 3, "badge": "a", "at": 6 }"#).unwrap();
    let late = Request::rule("crew").began_at(began);
    ingest(&cache, late, r#"{ "id": 4, "badge": "a" }"#).unwrap();
    let rows = ours(&cache, "SELECT id FROM crew WHERE badge = 'a'");
    assert_eq!(rows, [vec![Value::Int(3)]]);

    let refused = cache.commit("taken", |tx| tx.update("crew", 4, [("badge", "a")])).unwrap_err();
    assert_eq!(refused.kind(), ErrorKind::Row);
    assert!(refused.to_string().contains("crew 3 has this badge already"), "{refused}");
}

#[derive(Table)]
#[table(unique = "badge", unique = ["vessel", "number"])]
struct Crew {
    #[table(id)]
    id: i64,
    badge: String,
    vessel: String,
    number: i64,
}

#[derive(Table)]
struct Note {
    #[table(id)]
    id: i64,
    #[table(to = "crew", by = "badge", on_delete = "cascade")]
    by: String,
}

#[test]
fn structs_declare_keys_and_links_by_them() {
    let schema = Schema::builder().table::<Crew>().table::<Note>().build().unwrap();
    let cache = Cache::new(schema);
    cache
        .commit("a note", |tx| {
            let crew = Crew { id: 1, badge: "a".into(), vessel: "Marram".into(), number: 4 };
            tx.table::<Crew>()?.insert(&crew)?;
            tx.table::<Note>()?.insert(&Note { id: 7, by: "a".into() })?;
            assert!(tx.table::<Crew>()?.insert(&Crew { id: 2, ..crew }).is_err());
            Ok(())
        })
        .unwrap();
    let note = cache.snapshot().table::<Note>().unwrap().get(7).here().unwrap();
    assert_eq!((note.id, note.by.as_str()), (7, "a"));
    cache.commit("left", |tx| tx.table::<Crew>()?.delete(1)).unwrap();
    assert_eq!(cache.snapshot().count("note").unwrap(), 0);
}

#[test]
fn links_by_a_key_are_followed_and_exported() {
    let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
    let read = |rule: &str, text: &str| drop(ingest(&cache, Request::rule(rule), text).unwrap());
    read("note", r#"{ "id": 7, "by": "a" }"#);
    read("berth", r#"{ "id": 3, "vessel": "M", "berth": 2 }"#);
    let snapshot = cache.snapshot();
    assert!(snapshot.get("note", 7).unwrap().unwrap().follow("by").unwrap().is_none());
    read("crew", r#"{ "id": 1, "badge": "a", "vessel": "M", "number": 2 }"#);
    let snapshot = cache.snapshot();
    for (table, id, link) in [("note", 7, "by"), ("berth", 3, "berth")] {
        let target = snapshot.get(table, id).unwrap().unwrap().follow(link).unwrap().unwrap();
        assert_eq!(target.get("id").unwrap(), Some(Value::Int(1)));
        assert_eq!(target.linked_from(table, link).unwrap().count(), 1);
    }
    let mut document = Vec::new();
    snapshot.export_jsonapi(Some("note"), &mut document).unwrap();
    let document = String::from_utf8(document).unwrap();
    assert!(document.contains(r#""attributes":{"by":"a"}"#), "{document}");
}

/// What an id is made of cannot be lacking, not even in an object that stands for it.
#[test]
fn a_key_in_an_id_is_there() {
    let text = r#"
        table.crew = { id = "id", unique = "badge", fields = { id = "int", badge = "text" } }
        table.shift = { id = ["day", "by"], fields = { day = "int", by = { to = "crew", by = "badge" } } }
        response.shift = { table = "shift" }
    "#;
    let cache = Cache::new(Schema::parse("s.toml", text).unwrap());
    let read = |text: &str| ingest(&cache, Request::rule("shift"), text);
    read(r#"{ "day": 4, "by": { "id": 1, "badge": "a" } }"#).unwrap();
    let refused = read(r#"{ "day": 5, "by": { "id": 2 } }"#).unwrap_err().to_string();
    assert!(refused.contains("/by: found an object without it"), "{refused}");
    assert_eq!(ours(&cache, "SELECT day, by FROM shift"), [vec![Value::Int(4), "a".into()]]);
}
