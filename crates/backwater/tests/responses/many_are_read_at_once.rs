//! Responses that are read in one transaction are read as in a commit each: what fails leaves
//! nothing behind, and each says of itself what it did.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use backwater::{Cache, Request, Schema, Transaction, report::Ingested};
use proptest::prelude::*;

const SCHEMA: &str = r#"
    [table.port]
    id = "code"
    unique = "berth"
    fields = { code = "text", name = "text", berth = "int" }
    [table.sailing]
    id = "id"
    tombstone = "gone"
    version = "version"
    [table.sailing.fields]
    id = "int"
    version = "int"
    from = { to = "port", on_delete = "restrict" }
    stops = { to_many = "port", record = "/port", on_delete = "cascade", fields = { due = "int" } }
    after = { to = "sailing", on_delete = "set null" }
    note = { type = "text", values = ["fog", "ice"] }
    extra = "json"
    [table.booking]
    id = ["sailing", "number"]
    fields = { sailing = { to = "sailing", on_delete = "cascade" }, number = "int", cars = "int" }
    [table.board]
    one_row = true
    fields = { total = "int", first = { to = "sailing" } }

    [response.page]
    url = "/sailings{?page}"
    table = "sailing"
    records = "/sailings"
    list = "page_list"
    part = "page"
    beside.board = { total = "/total", first = "/first" }
    [response.lenient]
    table = "sailing"
    on_error = "skip"
    beside.port = "/ports"
    records = "/sailings"
    [response.ports]
    table = "port"
    complete = true
    [response.bookings]
    url = "/sailings/{sailing}/bookings"
    table = "booking"
    fields = { sailing = ":sailing" }
    complete = { sailing = ":sailing" }
    [response.cancelled]
    method = "DELETE"
    url = "/sailings/{id}"
    table = "sailing"
    fields = { id = ":id" }
    deletes = true
"#;

#[derive(Debug, Clone)]
enum Response {
    Page(i64, Vec<String>, bool),
    Lenient(Vec<String>, Vec<String>),
    Ports(Vec<String>),
    Bookings(i64, Vec<i64>),
    Cancelled(i64),
}

impl Response {
    fn ingest(&self, tx: &mut Transaction) -> Result<Ingested, String> {
        self.ingest_as(tx, |text| text)
    }

    /// Reads it with its text written in another way.
    fn ingest_as(
        &self,
        tx: &mut Transaction,
        written: impl FnOnce(String) -> String,
    ) -> Result<Ingested, String> {
        let list = |all: &[String]| all.join(",");
        let (request, text) = match self {
            Response::Page(page, sailings, is_cut) => {
                let text =
                    format!(r#"{{"sailings":[{}],"total":{page},"first":{page}}}"#, list(sailings));
                let text = if *is_cut { text[..text.len() - 3].to_owned() } else { text };
                // Some are long enough to look up their own objects in another way.
                let text = if *page == 2 { text + &" ".repeat(17_000) } else { text };
                (Request::get(format!("/sailings?page={page}")), text)
            }
            Response::Lenient(sailings, ports) => {
                let text =
                    format!(r#"{{"sailings":[{}],"ports":[{}]}}"#, list(sailings), list(ports));
                (Request::rule("lenient"), text)
            }
            Response::Ports(ports) => (Request::rule("ports"), format!("[{}]", list(ports))),
            Response::Bookings(sailing, numbers) => {
                let bookings: Vec<String> = numbers
                    .iter()
                    .map(|it| format!(r#"{{"number":{},"cars":{it}}}"#, it % 3))
                    .collect();
                (
                    Request::get(format!("/sailings/{sailing}/bookings")),
                    format!("[{}]", list(&bookings)),
                )
            }
            Response::Cancelled(id) => {
                (Request::new("DELETE", format!("/sailings/{id}")), String::new())
            }
        };
        tx.ingest(request, written(text)).map_err(|error| {
            let text = error.to_string();
            // Of several rows that cannot go, and of several that point at one, any may be named.
            match text.split_once(" cannot be deleted: ") {
                Some((row, _)) => format!("{} cannot be deleted", &row[..row.find(' ').unwrap()]),
                None => text,
            }
        })
    }
}

fn port() -> impl Strategy<Value = String> {
    ("[A-C]", prop::option::of(0..3_i64), 0..20_u8).prop_map(|(code, berth, name)| match name {
        0 => format!(r#"{{"code":"{code}","name":5}}"#),
        _ => {
            let berth = berth.map(|berth| format!(r#","berth":{berth}"#)).unwrap_or_default();
            format!(
                r#"{{"code":"{code}","name":"{}"{berth}}}"#,
                "long name ".repeat(usize::from(name % 3))
            )
        }
    })
}

fn sailing() -> impl Strategy<Value = String> {
    let member = prop_oneof![
        4 => port().prop_map(|port| format!(r#""from":{port}"#)),
        3 => prop::collection::vec((port(), 0..3_i64), 0..3).prop_map(|stops| {
            let stops = stops.iter().map(|(port, due)| format!(r#"{{"port":{port},"due":{due}}}"#));
            format!(r#""stops":[{}]"#, stops.collect::<Vec<_>>().join(","))
        }),
        2 => (0..4_i64).prop_map(|id| format!(r#""after":{{"id":{id},"note":"ice"}}"#)),
        2 => prop::sample::select(vec!["fog", "ice", "ice", "sun"]).prop_map(|note| format!(r#""note":"{note}""#)),
        1 => Just(r#""gone":true"#.to_owned()),
        1 => (0..4_i64).prop_map(|n| format!(r#""extra":{{"n":{n}}}"#)),
        1 => (0..4_i64).prop_map(|n| format!(r#""version":{n}"#)),
        1 => Just(r#""odd":1"#.to_owned()),
    ];
    (0..4_i64, prop::collection::vec(member, 0..4)).prop_map(|(id, members)| {
        let members: String = members.iter().map(|member| format!(",{member}")).collect();
        format!(r#"{{"id":{id}{members}}}"#)
    })
}

fn response() -> impl Strategy<Value = Response> {
    let sailings = || prop::collection::vec(sailing(), 0..4);
    prop_oneof![
        4 => (0..3_i64, sailings(), prop::bool::weighted(0.1)).prop_map(|(page, all, cut)| Response::Page(page, all, cut)),
        4 => (sailings(), prop::collection::vec(port(), 0..3)).prop_map(|(all, ports)| Response::Lenient(all, ports)),
        1 => prop::collection::vec(port(), 0..4).prop_map(Response::Ports),
        2 => (0..4_i64, prop::collection::vec(0..9_i64, 0..4)).prop_map(|(of, all)| Response::Bookings(of, all)),
        1 => (0..4_i64).prop_map(Response::Cancelled),
    ]
}

fn image(cache: &Cache) -> String {
    let mut text = Vec::new();
    cache.snapshot().export(&mut text).unwrap();
    let text = String::from_utf8(text).unwrap();
    // Which commit the rows are of is not the same.
    let mut lines: Vec<&str> = text.lines().filter(|line| !line.contains("\"commit\"")).collect();
    lines.sort_unstable();
    lines.join("\n")
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn one_transaction_reads_what_many_commits_read(responses in prop::collection::vec(response(), 1..16)) {
        let schema = Schema::parse("s.toml", SCHEMA).unwrap();
        let [together, apart, unalike] = [schema.clone(), schema.clone(), schema].map(Cache::new);
        let mut objects = 0;
        let mut at_once = Vec::new();
        together
            .commit("all", |tx| {
                at_once = responses.iter().map(|response| response.ingest(tx)).collect();
                Ok(())
            })
            .unwrap();
        for (response, together) in responses.iter().zip(at_once) {
            let mut read = None;
            let done = apart.commit("one", |tx| {
                read = Some(response.ingest(tx));
                Ok(())
            });
            let read = read.unwrap();
            if let Ok(read) = &read {
                prop_assert!(read.is_news || done.unwrap().report.changes().count() == 0, "{:?}", response);
            }
            // Where no object has the text of another one, none is passed over that was read before.
            let mut unlike = None;
            let spaced = |text: String| {
                let parts = text.split('{').map(|part| {
                    objects += 1;
                    format!("{{{}{part}", " ".repeat(objects))
                });
                parts.collect::<String>()[1..].trim_start().to_owned()
            };
            let done = unalike.commit("one", |tx| {
                unlike = Some(response.ingest_as(tx, spaced));
                Ok(())
            });
            prop_assert!(done.is_ok());
            if let (Ok(read), Ok(unlike)) = (&read, unlike.unwrap()) {
                let did = |of: &Ingested| (of.tables.clone(), of.records, of.skipped.len(), of.kept, of.is_news);
                prop_assert_eq!(did(read), did(&unlike), "{:?}", response);
            }
            prop_assert_eq!(read, together, "{:?}", response);
        }
        prop_assert_eq!(image(&together), image(&apart));
        prop_assert_eq!(image(&together), image(&unalike));
        // What was taken back is in no index either.
        let by_berth = "SELECT code, berth FROM port WHERE berth = 1";
        let rows = |cache: &Cache| -> Vec<String> {
            let result = cache.query(by_berth, ()).unwrap().read().unwrap();
            result.rows().map(|row| format!("{:?}", row.values())).collect()
        };
        prop_assert_eq!(rows(&together), rows(&apart));
        for cache in [&together, &apart] {
            cache.commit("and on", |tx| responses[0].ingest(tx).map(drop).or(Ok(()))).unwrap();
        }
        prop_assert_eq!(image(&together), image(&apart));
    }
}

/// An object that an earlier response had is passed over; what has no place in it is still said.
#[test]
fn each_response_says_what_of_it_has_no_place() {
    let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
    let text = r#"{"sailings":[{"id":1,"from":{"code":"A","name":"Saltmere Quay","lat":54.1}}]}"#;
    for _ in 0..3 {
        let done = cache.commit("loaded", |tx| tx.ingest("lenient", text)).unwrap();
        let unplaced: Vec<String> = done.value.unplaced.iter().map(ToString::to_string).collect();
        assert_eq!(unplaced, ["1 at /lat of port"]);
    }
    let strict = Request::rule("lenient").strict();
    assert!(cache.commit("loaded", |tx| tx.ingest(strict, text).map(drop)).is_err());
}

/// An object that stands in a response again is merged again if another one took its key.
#[test]
fn a_key_that_another_object_took_is_taken_back() {
    let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
    let port = |code: &str| format!(r#"{{"code":"{code}","name":"Saltmere Quay","berth":1}}"#);
    let sailing = |id: i64, code: &str| format!(r#"{{"id":{id},"from":{}}}"#, port(code));
    let list = [sailing(1, "A"), sailing(2, "B"), sailing(3, "A")].join(",");
    for space in [0, 2_000, 20_000] {
        let text = format!(r#"{{"sailings":[{list}]}}{}"#, " ".repeat(space));
        cache.commit("loaded", |tx| tx.ingest("lenient", text)).unwrap();
        let snapshot = cache.snapshot();
        let berth = |code: &str| snapshot.get("port", code).unwrap().unwrap().get("berth").unwrap();
        assert_eq!((berth("A"), berth("B")), (Some(1.into()), None), "with {space} spaces");
    }
}
