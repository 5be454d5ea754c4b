//! A result lists what it would have needed: absent fields, and rows that are missing.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use backwater::{Cache, Named, Schema};

const SCHEMA: &str = r#"
    table.sailing = { id = "id", fields = { id = "int", route = { to = "route" }, vessel = { to = "vessel" }, delay = "int", note = "text" } }
    table.route = { id = "id", fields = { id = "text", port = "text" } }
    table.vessel = { id = "name", fields = { name = "text", cars = "int" } }
    table.booking = { id = "id", fields = { id = "int", sailing = { to = "sailing" }, paid = "bool" } }
"#;

/// Sailings 1 to 4: 1 has all, 2 an unknown delay, 3 a route that is missing, 4 a vessel that is
/// not.
fn cache() -> Cache {
    let cache = Cache::new(Schema::parse("test.toml", SCHEMA).unwrap());
    let patch = r#"{
        "route": { "A": { "port": "SAL" }, "B": { "port": "NOR" }, "C": {} },
        "vessel": { "Marram": { "cars": 40 } },
        "sailing": {
            "1": { "route": "A", "vessel": "Marram", "delay": 7, "note": "calm" },
            "2": { "route": "A", "vessel": "Marram", "note": "fog" },
            "3": { "route": "Z", "vessel": "Marram", "delay": 9 },
            "4": { "route": "B", "vessel": "Lantern", "delay": 0 },
            "5": { "route": "C", "vessel": "Marram", "delay": 1, "note": "" }
        },
        "booking": { "10": { "sailing": 1 }, "11": { "sailing": 2, "paid": true } }
    }"#;
    cache.commit("loaded", |tx| tx.merge_patch(patch)).unwrap();
    let nulls = r#"[{ "op": "add", "path": "/sailing/5/delay", "value": null }]"#;
    cache.commit("known to be unknown", |tx| tx.json_patch(nulls)).unwrap();
    cache
}

fn missing(cache: &Cache, sql: &str, params: impl Into<Named>) -> Vec<String> {
    let missing = cache.query(sql, params).unwrap().missing(100).unwrap();
    assert_eq!(missing.count, missing.cells.len());
    missing.cells.iter().map(ToString::to_string).collect()
}

#[test]
fn rows_that_show_or_might_show_count_and_no_others() {
    let cache = cache();
    let of = |sql: &str| missing(&cache, sql, ());
    // 5 has a null: that is a value, and says that it does not belong.
    assert_eq!(of("SELECT id FROM sailing WHERE delay > 5"), ["sailing 2: delay is absent"]);
    assert_eq!(
        of("SELECT id FROM sailing WHERE delay > 5 AND note = 'calm'"),
        ["sailing 3: note is absent"]
    );
    assert_eq!(of("SELECT id, note FROM sailing WHERE id < 3"), [""; 0]);
    assert_eq!(
        of("SELECT count(note) FROM sailing"),
        ["sailing 3: note is absent", "sailing 4: note is absent"]
    );
    // What the window leaves out needs no note; the order needs every delay.
    assert_eq!(
        of("SELECT id, note FROM sailing ORDER BY delay DESC LIMIT 1"),
        ["sailing 2: delay is absent", "sailing 3: note is absent",]
    );
}

#[test]
fn links_to_missing_rows_count_with_the_fields_that_are_read() {
    let cache = cache();
    let at = "SELECT s.id, v.cars FROM sailing s JOIN route r ON r.id = s.route JOIN vessel v ON v.name = s.vessel \
              WHERE r.port = :port";
    let route_z = ["route Z is missing: id", "route Z is missing: port"];
    assert_eq!(
        missing(&cache, at, [("port", "SAL")]),
        [&["route C: port is absent"][..], &route_z].concat()
    );
    assert_eq!(
        missing(&cache, at, [("port", "NOR")]),
        [
            &["route C: port is absent"][..],
            &route_z,
            &["vessel Lantern is missing: name", "vessel Lantern is missing: cars"],
        ]
        .concat()
    );
    let unpaid = "SELECT id, (SELECT count(*) FROM booking b WHERE b.sailing = s.id AND b.paid = 0) AS unpaid FROM sailing s";
    assert_eq!(missing(&cache, unpaid, ()), ["booking 10: paid is absent"]);
    let both = "SELECT note AS text FROM sailing WHERE id > 3 UNION ALL SELECT port FROM route";
    assert_eq!(missing(&cache, both, ()), ["sailing 4: note is absent", "route C: port is absent"]);
}

#[test]
fn what_is_loaded_is_missing_no_more() {
    let cache = cache();
    let query = cache
        .query("SELECT v.cars FROM sailing s LEFT JOIN vessel v ON v.name = s.vessel", ())
        .unwrap();
    let missing = |most: usize| query.missing(most).unwrap();
    assert_eq!((missing(1).count, missing(1).cells.len()), (2, 1));
    let before = query.read().unwrap();
    let vessel = r#"{ "vessel": { "Lantern": { "cars": 18 } } }"#;
    cache.commit("fleet loaded", |tx| tx.merge_patch(vessel)).unwrap();
    assert_eq!(missing(1).count, 0);
    // A row that was out of reach for want of a port has one now: the result is the same object.
    let of_port = cache.query("SELECT id FROM route WHERE port = 'SAL'", ()).unwrap();
    assert_eq!(of_port.missing(9).unwrap().cells[0].to_string(), "route C: port is absent");
    let same = of_port.read().unwrap();
    cache.commit("port set", |tx| tx.update("route", "C", [("port", "NOR")])).unwrap();
    assert_eq!(of_port.missing(9).unwrap().count, 0);
    assert!(of_port.read().unwrap().is_same(&same) && !query.read().unwrap().is_same(&before));
}
