//! What is exported as NDJSON can be imported again, row by row, whatever is in the tables;
//! JSON:API and the storages hold the same.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

#[path = "../shared/every_kind.rs"]
mod every_kind;

use backwater::{Cache, ErrorKind, Schema, storage::MemoryStorage};
use every_kind::{Write, image, whole, write};
use proptest::prelude::*;

fn export(cache: &Cache) -> Vec<u8> {
    let mut text = Vec::new();
    cache.snapshot().export(&mut text).unwrap();
    text
}

fn commit(cache: &Cache, writes: &[Write]) {
    // What does not fit is left out whole.
    drop(cache.commit("written", |tx| writes.iter().try_for_each(|of| write(tx, *of, true))));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn an_export_taken_in_is_the_same_cache(
        commits in prop::collection::vec(prop::collection::vec(any::<Write>(), 1..6), 1..8),
        others in prop::collection::vec(any::<Write>(), 0..6),
    ) {
        let cache = Cache::new(whole());
        commits.iter().for_each(|writes| commit(&cache, writes));
        let text = export(&cache);
        let schema = Schema::of_export(&text).unwrap().unwrap();
        prop_assert!(schema == whole());
        let memory = MemoryStorage::new();
        let copy = Cache::open_with(schema, memory.clone()).unwrap();
        copy.commit("taken in", |tx| tx.import(&text).map(drop)).unwrap();
        prop_assert_eq!(image(&copy), image(&cache));
        // Again, and on top of other rows: those of the export are as it says.
        let report = copy.commit("again", |tx| tx.import(&text).map(drop)).unwrap();
        prop_assert_eq!(report.changes().count(), 0);
        let full = Cache::new(whole());
        commit(&full, &others);
        full.commit("on top", |tx| tx.import(&text).map(drop)).unwrap();
        for (table, rows) in image(&cache) {
            // An entry of another link stays; all rows of the export are there.
            let there = image(&full).remove(&table).unwrap();
            let lacking: Vec<_> = rows.iter().filter(|row| !there.contains(row)).collect();
            prop_assert!(lacking.is_empty() || table.ends_with("_list"), "{}: {:?}", table, lacking);
        }
        drop(copy);
        prop_assert_eq!(image(&Cache::open(memory).unwrap()), image(&cache));
        // JSON:API has every row of an ordinary table once.
        let mut document = Vec::new();
        cache.snapshot().export_jsonapi(None, &mut document).unwrap();
        let document: serde_json::Value = serde_json::from_slice(&document).unwrap();
        let mut reported: Vec<String> = document["data"].as_array().unwrap().iter()
            .map(|row| format!("{} {}", row["type"].as_str().unwrap(), row["id"].as_str().unwrap()))
            .collect();
        let snapshot = cache.snapshot();
        let mut expected: Vec<String> = ["port", "sailing", "booking"].iter()
            .flat_map(|table| snapshot.rows(table).unwrap().map(move |row| format!("{table} {}", row.id().unwrap())))
            .collect();
        reported.sort();
        expected.sort();
        prop_assert_eq!(reported, expected);
    }
}

#[test]
fn what_is_no_export_is_refused_with_its_line_and_leaves_nothing() {
    let cache = Cache::new(whole());
    for (text, said) in [
        ("{\"port\":{\"code\":\"SAL\"}}\nnot this", "line 2: this is no row"),
        (
            "{\"port\":{\"code\":\"SAL\"}}\n\n{\"harbour\":{}}",
            "line 3: there is no table \"harbour\"",
        ),
        ("{\"port\":{\"name\":\"Quay\"}}", "line 1: the row has no \"code\", which is its id"),
        ("{\"port\":{\"code\":\"SAL\"},\"sailing\":{}}", "line 1: this is not one row"),
        ("{\"sailing\":{\"id\":1,\"delay\":\"late\"}}", "line 1: sailing.delay: "),
        ("{\"sailing\":{\"id\":{}}}", "line 1: found {}, expected an id"),
        ("{\"sailing\":[]}", "line 1: a row is an object"),
    ] {
        let error = cache.commit("taken in", |tx| tx.import(text)).unwrap_err();
        assert!(error.to_string().starts_with(said), "{error}");
        assert_eq!(cache.snapshot().count("port").unwrap(), 0);
    }
    let newer = "{\"backwater\":{\"format\":9,\"schema_name\":\"\",\"schema\":\"\"}}";
    assert_eq!(Schema::of_export(newer).unwrap_err().kind(), ErrorKind::Version);
    assert!(Schema::of_export("{}").unwrap().is_none());
}
