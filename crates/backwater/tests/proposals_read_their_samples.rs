//! A proposed schema is right, reads the very samples that it was proposed from with nothing
//! edited, and finds the things that are in them.

use std::collections::BTreeMap;

use backwater::{Cache, Recording, Request, Samples, Schema};
use proptest::prelude::*;
use serde_json::{Map, Value, json};

fn config(cases: u32) -> ProptestConfig {
    let cases = std::env::var("BACKWATER_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(cases);
    ProptestConfig { cases, failure_persistence: None, ..ProptestConfig::default() }
}

/// Proposes a schema twice, which must be the same, and reads the samples by it.
fn propose(samples: &[(Request, String)]) -> Result<(String, Vec<String>, Cache), TestCaseError> {
    let once = || {
        let mut all = Samples::new();
        for (request, body) in samples {
            all.add(request.clone(), body.as_str())
                .map_err(|error| TestCaseError::fail(format!("{error}: {body}")))?;
        }
        Ok::<_, TestCaseError>(all.propose())
    };
    let (proposal, again) = (once()?, once()?);
    prop_assert_eq!(proposal.text(), again.text());
    let text = proposal.text().to_owned();
    let schema = Schema::parse("proposed", &text);
    let schema = schema.map_err(|error| TestCaseError::fail(format!("{error}\n{text}")))?;
    schema.check().map_err(|error| TestCaseError::fail(format!("{error}\n{text}")))?;
    let cache = Cache::new(schema);
    for (request, body) in samples {
        let read = cache.commit("sample", |tx| tx.ingest(request.clone(), body));
        if let Err(error) = read {
            return Err(TestCaseError::fail(format!("{error}\n{body}\n{text}")));
        }
    }
    let refused = proposal.refused().map(str::to_owned).collect();
    Ok((text, refused, cache))
}

/// JSON as no server would write it.
fn anything() -> impl Strategy<Value = String> {
    let name = prop::sample::select(vec![
        "id",
        "ID",
        "code",
        "name",
        "port",
        "port_id",
        "portId",
        "ports",
        "type",
        "__typename",
        "data",
        "items",
        "errors",
        "",
        "/a",
        "a~b",
        "from",
        "7",
        "12",
        "é é",
        "\u{1}",
        "a\"b",
        "sqlite_x",
        "order",
        "Order",
        "total",
        "position",
        "owner",
        "target",
        "attributes",
        "relationships",
        "included",
        "key",
        "on",
        "edges",
        "node",
        "\u{0}",
    ]);
    let text = prop::sample::select(vec![
        "\"\"",
        "\"SAL\"",
        "\"NOR\"",
        "\"port\"",
        "\"7\"",
        "\"2031-05-04T09:40:00Z\"",
        "\"\\u0000\"",
        "\"a\\nb\"",
        "\"#\"",
        "\"'\\\"\"",
    ]);
    let number = prop::sample::select(vec![
        "0",
        "7",
        "-0",
        "12",
        "1.5",
        "1e3",
        "9007199254740993",
        "18446744073709551615",
        "1e999",
        "7.0",
    ]);
    let scalar = prop_oneof![
        1 => Just("null".to_owned()),
        1 => Just("true".to_owned()),
        4 => text.prop_map(str::to_owned),
        4 => number.prop_map(str::to_owned),
    ];
    scalar.prop_recursive(5, 40, 5, move |inner| {
        let member = (name.clone(), inner.clone()).prop_map(|(name, value)| {
            format!("{}:{value}", serde_json::to_string(name).unwrap())
        });
        prop_oneof![
            1 => prop::collection::vec(inner.clone(), 0..4).prop_map(|of| format!("[{}]", of.join(","))),
            3 => prop::collection::vec(member, 0..5).prop_map(|of| format!("{{{}}}", of.join(","))),
            // The same again, as lists have it.
            1 => (inner.clone(), inner).prop_map(|(one, other)| format!("[{one},{other},{one}]")),
        ]
    })
}

fn request() -> impl Strategy<Value = Request> {
    let urls = prop::sample::select(vec![
        "https://ferries.example/ports",
        "https://ferries.example/ports/SAL",
        "https://ferries.example/ports/7",
        "https://ferries.example/ports/7/items?page=2&code=SAL",
        "https://ferries.example/ports/8/items?filter[a]=b",
        "https://other.example/graphql",
        "https://ferries.example/",
        "https://ferries.example/a/{b}/c%20d",
    ]);
    prop_oneof![
        2 => prop::sample::select(vec!["ports", "a b", "sqlite_x", "\u{e9}"]).prop_map(Request::rule),
        3 => urls.prop_map(Request::get),
        1 => Just(Request::new("POST", "https://ferries.example/ports")),
    ]
}

proptest! {
    #![proptest_config(config(600))]

    /// Whatever JSON it is, and whatever it answers.
    #[test]
    fn any_json_has_a_schema_that_reads_it(samples in prop::collection::vec((request(), anything()), 1..5)) {
        propose(&samples)?;
    }
}
