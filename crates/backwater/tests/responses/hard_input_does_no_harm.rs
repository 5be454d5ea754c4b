//! Input that was never meant to be: a clear error that leaves nothing behind, or the right rows.
#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test that cannot go on has failed")]

use backwater::{Cache, Schema, Value};
use proptest::prelude::*;

/// The same as what the fuzz targets ask.
#[path = "../../../../fuzz/properties.rs"]
mod properties;

/// A text with pieces of it replaced, doubled or cut away.
fn changed(text: &str, edits: &[(prop::sample::Index, u8, String)]) -> String {
    let mut letters: Vec<char> = text.chars().collect();
    for (at, what, with) in edits {
        let at = at.index(letters.len().max(1));
        let end = (at + usize::from(*what % 7)).min(letters.len());
        match what % 4 {
            0 => drop(letters.splice(at..end, with.chars())),
            1 => {
                let piece: Vec<char> = letters[at..end].to_vec();
                letters.splice(at..at, piece);
            }
            2 => drop(letters.drain(at..end)),
            _ => letters.truncate(letters.len().saturating_sub(usize::from(*what))),
        }
    }
    letters.into_iter().collect()
}

fn edits() -> impl Strategy<Value = Vec<(prop::sample::Index, u8, String)>> {
    let with = prop_oneof![
        prop::sample::select(vec![
            "null",
            "{}",
            "[]",
            "\"",
            "1e999",
            "-0",
            "99999999999999999999",
            "\\ud800",
            "\u{feff}",
            "\u{0}",
            "id",
            "[[",
            "}"
        ])
        .prop_map(str::to_owned),
        "\\PC{0,4}",
    ];
    prop::collection::vec((any::<prop::sample::Index>(), any::<u8>(), with), 0..6)
}

/// `BACKWATER_CASES=100000 cargo test --release -p backwater --test hard_input_does_no_harm` is a
/// long run.
fn cases() -> u32 {
    std::env::var("BACKWATER_CASES").map_or(300, |cases| cases.parse().unwrap())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn any_response_is_taken_or_refused_whole(
        which in prop::sample::select(properties::RESPONSES.to_vec()),
        edits in edits(),
        noise in prop::collection::vec(any::<u8>(), 0..40),
    ) {
        properties::ingest(changed(which, &edits).as_bytes());
        properties::ingest(&noise);
        properties::infer(changed(which, &edits).as_bytes());
        properties::infer(&noise);
    }

    #[test]
    fn any_schema_is_right_or_says_what_is_not(edits in edits(), noise in "\\PC{0,60}") {
        properties::schema(&changed(properties::SCHEMA, &edits));
        properties::schema(&changed(include_str!("../../../../demo/backwater.toml"), &edits));
        properties::schema(&noise);
    }
}

#[test]
fn every_truncation_is_taken_or_refused_whole() {
    for response in properties::RESPONSES {
        for end in 0..response.len() {
            properties::ingest(&response.as_bytes()[..end]);
            properties::infer(&response.as_bytes()[..end]);
        }
    }
}

#[test]
fn the_large_and_the_deep_are_read_or_refused() {
    let schema = "table.t = { id = 'id', fields = { id = 'text', n = 'int', j = 'json' } }\nresponse.r.table = 't'";
    let cache = Cache::new(Schema::parse("s.toml", schema).unwrap());
    let read = |response: &str| cache.commit("read", |tx| tx.ingest("r", response));
    // What is skipped may be of any depth, and so may a json value.
    let deep = format!("{}1{}", "[".repeat(100_000), "]".repeat(100_000));
    read(&format!(r#"{{"id": "deep", "j": {deep}, "x": {deep}}}"#)).unwrap();
    let objects = format!("{}null{}", "{\"a\":".repeat(100_000), "}".repeat(100_000));
    let way = format!("{}\"a\"", "\"a\",".repeat(99_998));
    let answer = format!(r#"{{"data":{objects},"errors":[{{"message":"no","path":[{way}]}}]}}"#);
    properties::ingest(answer.as_bytes());
    properties::infer(answer.as_bytes());
    properties::infer(deep.as_bytes());
    properties::infer(format!("{}1{}", "{\"a\":".repeat(100_000), "}".repeat(100_000)).as_bytes());
    let row = cache.snapshot().get("t", "deep").unwrap().unwrap().get("j").unwrap();
    assert!(matches!(row, Some(Value::Json(json)) if json.as_str() == deep));
    assert!(
        read(&deep)
            .unwrap_err()
            .to_string()
            .contains("/0: found an array, expected a \"t\" object")
    );

    let long = "tide ".repeat(4_000_000);
    read(&format!(r#"[{{"id": "{long}"}}, {{"id": "long", "j": "{long}"}}]"#)).unwrap();
    assert!(cache.snapshot().get("t", long.as_str()).unwrap().is_some());

    let many: Vec<String> =
        (0..100_000_i64).map(|n| format!(r#"{{"id": "{}", "n": {n}}}"#, n * 65_536)).collect();
    read(&format!("[{}]", many.join(","))).unwrap();
    assert_eq!(cache.snapshot().count("t").unwrap(), 100_003);
    assert_eq!(
        cache.snapshot().get("t", "6553534464").unwrap().unwrap().get("n").unwrap(),
        Some(Value::Int(99_999))
    );

    // Half of a surrogate pair is no text: it may be passed over, but not kept.
    for (half, fits) in
        [("\\ud83d", false), ("\\ude00", false), ("\\ud83d\\ude00", true), ("\\\\ud83d", true)]
    {
        read(&format!(r#"{{"id": "s", "x": "{half}"}}"#)).unwrap();
        let kept = read(&format!(r#"{{"id": "s", "j": ["{half}"]}}"#));
        assert_eq!(kept.is_ok(), fits, "{half}");
        assert_eq!(backwater::Json::parse(&format!("\"{half}\"")).is_ok(), fits, "{half}");
    }

    // Of members of one name the last one wins.
    read(r#"{"id": "a", "n": 1, "id": "b", "n": 2, "n": null}"#).unwrap();
    assert!(cache.snapshot().get("t", "a").unwrap().is_none());
    assert_eq!(
        cache.snapshot().get("t", "b").unwrap().unwrap().get("n").unwrap(),
        Some(Value::Null)
    );
    for beyond in ["9223372036854775808", "-9223372036854775809", "1e19", "1.5"] {
        assert!(read(&format!(r#"{{"id": "n", "n": {beyond}}}"#)).is_err(), "{beyond}");
    }
}
