//! What stands beside the target in the entries of a to-many link is fields of the link's own.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use backwater::{Cache, Schema, Value};

const SCHEMA: &str = r#"
    [table.yard]
    id = "id"
    names = "camelCase"
    [table.yard.fields]
    id = "int"
    name = "text"
    crew = { to_many = "person", record = "/who", fields = { role = { type = "text", values = ["mate", "cook"], required = true }, since = { type = "timestamp", unit = "seconds" }, boat_name = "text" } }
    about = { to_many = { Yard = "yard", Person = "person" }, record = "/node/it", other_types = "skip", fields = { cursor = { type = "text", from = "/page/cursor" } } }
    [table.person]
    id = "id"
    fields = { id = "int", name = "text" }
    [response.yard]
    url = "/yards/{id}"
    table = "yard"
    [response.document]
    table = "yard"
    format = "json:api"
    [query]
    crew = "SELECT c.position, c.target, p.name, c.role, c.since, c.boat_name FROM yard_crew c LEFT JOIN person p ON p.id = c.target WHERE c.owner = 1 ORDER BY c.position"
    about = "SELECT position, target_type, target, cursor FROM yard_about WHERE owner = 1 ORDER BY position"
"#;

fn cache() -> Cache {
    Cache::new(Schema::parse("s.toml", SCHEMA).unwrap())
}

fn rows(cache: &Cache, query: &str) -> Vec<String> {
    let result = cache.query(query, ()).unwrap().read().unwrap();
    let text = |row: &[Value]| row.iter().map(Value::to_string).collect::<Vec<_>>().join(" ");
    result.rows().map(|row| text(row.values())).collect()
}

fn ingest(cache: &Cache, rule: &str, text: &str) -> Result<backwater::Report, backwater::Error> {
    cache.commit("loaded", |tx| tx.ingest(rule, text).map(drop)).map(|done| done.report)
}

#[test]
fn members_beside_the_target_are_fields_of_the_entry() {
    let cache = cache();
    let text = r#"{ "id": 1, "crew": [
        { "role": "mate", "who": { "id": 7, "name": "Ida" }, "since": 60, "boatName": "Marram", "odd": 5 },
        { "who": 8, "role": "cook" }
    ] }"#;
    let mut unplaced = Vec::new();
    let report = cache.commit("loaded", |tx| {
        let read = tx.ingest("yard", text)?;
        unplaced = read.unplaced.iter().map(|it| format!("{it:?}")).collect();
        Ok(())
    });
    assert_eq!(report.unwrap().changes().count(), 4);
    assert_eq!(unplaced.len(), 1);
    assert!(unplaced[0].contains("yard_crew") && unplaced[0].contains("odd"), "{unplaced:?}");
    assert_eq!(
        rows(&cache, "crew"),
        ["0 7 Ida mate 1970-01-01T00:01:00.000000Z Marram", "1 8 NULL cook NULL NULL"]
    );
    let nested = cache.snapshot().get("yard", 1).unwrap().unwrap().nested(0);
    assert_eq!(
        nested.as_str(),
        r#"{"id":1,"crew":[{"target":7,"role":"mate","since":"1970-01-01T00:01:00.000000Z","boat_name":"Marram"},{"target":8,"role":"cook"}]}"#
    );

    // The same again is no change; another order moves the fields with their targets, and what an
    // entry does not say stays.
    assert_eq!(ingest(&cache, "yard", text).unwrap().changes().count(), 0);
    let turned = r#"{ "id": 1, "crew": [
        { "who": { "id": 8 }, "role": "cook", "since": 1 }, { "who": { "id": 7 }, "role": "cook", "boatName": null }
    ] }"#;
    assert_eq!(ingest(&cache, "yard", turned).unwrap().changes().count(), 3);
    assert_eq!(
        rows(&cache, "crew"),
        [
            "0 8 NULL cook 1970-01-01T00:00:01.000000Z NULL",
            "1 7 Ida cook 1970-01-01T00:01:00.000000Z NULL"
        ]
    );
    cache.commit("by hand", |tx| tx.set_links("yard", 1, "crew", [7])).unwrap();
    assert_eq!(rows(&cache, "crew"), ["0 7 Ida cook 1970-01-01T00:01:00.000000Z NULL"]);
    let given = [(9, [("role", "mate")]), (7, [("role", "mate")])];
    cache.commit("by hand", |tx| tx.set_entries("yard", 1, "crew", given)).unwrap();
    assert_eq!(
        rows(&cache, "crew"),
        ["0 9 NULL mate NULL NULL", "1 7 Ida mate 1970-01-01T00:01:00.000000Z NULL"]
    );
}

#[test]
fn entries_may_point_at_several_tables() {
    let cache = cache();
    let text = r#"{ "id": 1, "about": [
        { "node": { "it": { "type": "Person", "id": 7 }, "more": 1 }, "page": { "cursor": "a" } },
        { "node": { "it": { "type": "Boat", "id": 7 } }, "page": { "cursor": "b" } },
        { "node": { "it": { "type": "Yard", "id": 2 } }, "page": { "cursor": "c" } }
    ] }"#;
    ingest(&cache, "yard", text).unwrap();
    assert_eq!(rows(&cache, "about"), ["0 Person 7 a", "1 Yard 2 c"]);
    let given = [(3, [("target_type", "Yard"), ("cursor", "d")])];
    cache.commit("by hand", |tx| tx.set_entries("yard", 1, "about", given)).unwrap();
    assert_eq!(rows(&cache, "about"), ["0 Yard 3 d"]);
}

#[test]
fn json_api_has_them_in_the_meta_of_the_linkage() {
    let cache = cache();
    ingest(
        &cache,
        "yard",
        r#"{ "id": 1, "name": "North", "crew": [{ "who": 7, "role": "mate", "since": 60 }] }"#,
    )
    .unwrap();
    let mut document = Vec::new();
    cache.snapshot().export_jsonapi(Some("yard"), &mut document).unwrap();
    let document = String::from_utf8(document).unwrap();
    let expected = r#"{"type":"person","id":"7","meta":{"role":"mate","since":"1970-01-01T00:01:00.000000Z"}}"#;
    assert!(document.contains(expected), "{document}");
    let copy = self::cache();
    ingest(&copy, "document", &document).unwrap();
    assert_eq!(rows(&copy, "crew"), rows(&cache, "crew"));
}

#[test]
fn what_does_not_fit_says_where() {
    let cache = cache();
    for (text, says) in [
        (
            r#"{ "id": 1, "crew": [{ "who": 7 }] }"#,
            "/crew/0: found no \"/role\", expected every entry of this link to have it",
        ),
        (
            r#"{ "id": 1, "crew": [{ "who": 7, "role": "owner" }] }"#,
            "/crew/0/role: found string \"owner\", expected \"mate\" or \"cook\"",
        ),
        (
            r#"{ "id": 1, "crew": [{ "who": 7, "role": "cook", "boatName": 4 }] }"#,
            "/crew/0/boatName: found integer `4`, expected text",
        ),
        (
            r#"{ "id": 1, "crew": [{ "role": "cook" }] }"#,
            "/crew/0: found an object, expected an object with the target at \"who\"",
        ),
        (
            r#"{ "id": 1, "crew": [7] }"#,
            "/crew/0: found integer `7`, expected an object with the target at \"who\"",
        ),
    ] {
        let refused = ingest(&cache, "yard", text).unwrap_err().to_string();
        assert!(refused.contains(says), "{refused}");
    }
    assert_eq!(cache.snapshot().count("yard").unwrap(), 0);
    cache.commit("by hand", |tx| tx.insert("yard", [("id", 1)])).unwrap();
    let write = |fields: [(&str, Value); 1]| {
        let written =
            cache.commit("by hand", |tx| tx.set_entries("yard", 1, "crew", [(7, fields)]));
        written.unwrap_err().to_string()
    };
    assert!(write([("role", 4.into())]).contains("yard_crew.role"));
    assert!(write([("position", 4.into())]).contains("the link's own fields"));
    assert!(write([("rank", 4.into())]).contains("rank"));
}
