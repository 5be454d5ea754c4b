//! A list that comes in pages has the server's order, however a page says what follows it, and a
//! page that is reloaded does to those behind it what the rule says.

#![cfg(feature = "remote")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};

use backwater::clock::SetClock;
use backwater::remote::{Remote, StandIn};
use backwater::storage::MemoryStorage;
use backwater::{Cache, ErrorKind, Schema, Value};
use proptest::prelude::*;

const SIZE: usize = 2;

/// How a page says what follows it.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Style {
    Cursor,
    Url,
    Page,
    Offset,
    Link,
    PlainLink,
}

impl Style {
    /// The rule's lines on it.
    fn rule(self) -> &'static str {
        match self {
            Style::Cursor => "url = '/list{?of,at}'\npart = 'at'\nnext = '/paging/1/next'",
            Style::Url => "url = '/list{?of,at}'\npart = 'at'\nnext = '/paging/1/next'",
            Style::Page => "url = '/list{?of,at}'\npart = 'at'\nnext = 'page'",
            Style::Offset => "url = '/list{?of,at}'\npart = 'at'\nnext = 'offset'",
            Style::Link => "url = '/list{?of,at}'\npart = 'at'\nnext = 'link'",
            Style::PlainLink => "url = '/list{?of,at}'\npart = 'at'",
        }
    }
}

/// The server's list, and its response to a request for a page.
fn page(style: Style, list: &[i64], query: &str) -> http::Response<Vec<u8>> {
    let at = query.split('&').find_map(|pair| pair.strip_prefix("at="));
    let start = match style {
        Style::Page => at.map_or(0, |at| (at.parse::<usize>().unwrap() - 1) * SIZE),
        // A cursor names the row that comes next; it has nothing of a number.
        Style::Cursor | Style::Url | Style::Link => at.map_or(0, |at| {
            let at: i64 = at.strip_prefix("k").unwrap().parse().unwrap();
            list.iter().position(|id| *id == at).unwrap_or(list.len())
        }),
        Style::Offset | Style::PlainLink => at.map_or(0, |at| at.parse().unwrap()),
    };
    let rows = &list[start.min(list.len())..(start + SIZE).min(list.len())];
    let next = list.get(start + SIZE).map(|next| match style {
        Style::PlainLink => format!("at={}", start + SIZE),
        _ => format!("at=k{next}"),
    });
    let mut response = http::Response::builder();
    let next = match (style, next) {
        (Style::Cursor, Some(next)) => format!("{:?}", next.strip_prefix("at=").unwrap()),
        (Style::Url, Some(next)) => format!("\"/api/list?of=x&{next}\""),
        (Style::Link | Style::PlainLink, Some(next)) => {
            let link = format!(
                "<https://x.example/a>; rel=\"prev a,b\", <list?of=x&{next}> ; rel=\"last next\""
            );
            response = response.header("link", link);
            "null".to_owned()
        }
        _ => "null".to_owned(),
    };
    let rows: Vec<String> = rows.iter().map(|id| format!(r#"{{"id": {id}}}"#)).collect();
    let body = format!(r#"{{"rows": [{}], "paging": [{{}}, {{"next": {next}}}]}}"#, rows.join(","));
    response.body(body.into_bytes()).unwrap()
}

#[derive(Debug, Clone)]
enum Act {
    More,
    Reload,
    Restart,
    /// The server's list is another one.
    Edit(Vec<i64>),
}

fn act() -> impl Strategy<Value = Act> {
    let list = prop::collection::vec(1..9_i64, 0..8).prop_map(|mut list| {
        let mut seen = Vec::new();
        list.retain(|id| {
            !seen.contains(id) && {
                seen.push(*id);
                true
            }
        });
        Act::Edit(list)
    });
    prop_oneof![5 => Just(Act::More), 2 => Just(Act::Reload), 1 => Just(Act::Restart), 2 => list]
}

/// The list as the slow and obvious way knows it.
#[derive(Default)]
struct Model {
    /// Where each target is: a target has one place.
    places: BTreeMap<i64, (usize, usize)>,
    pages: usize,
    /// Which request follows the last page, as the server said it then.
    next: Vec<Option<String>>,
    /// The requests of the pages.
    queries: Vec<String>,
}

impl Model {
    fn load(&mut self, style: Style, list: &[i64], number: usize, query: &str) {
        let response = page(style, list, query);
        let body: serde_json::Value = serde_json::from_slice(response.body()).unwrap();
        let ids = body["rows"].as_array().unwrap().iter().map(|row| row["id"].as_i64().unwrap());
        let ids: Vec<i64> = ids.collect();
        self.places.retain(|id, place| place.0 != number || ids.contains(id));
        for (position, id) in ids.iter().enumerate() {
            self.places.insert(*id, (number, position));
        }
        let next = &body["paging"][1]["next"];
        let next = match style {
            Style::Cursor => next.as_str().map(|next| format!("of=x&at={next}")),
            Style::Url => next.as_str().map(|url| url.split('?').nth(1).unwrap().to_owned()),
            Style::Link | Style::PlainLink => response.headers().get("link").map(|link| {
                let link = link.to_str().unwrap().split("<list?").nth(1).unwrap();
                link.split('>').next().unwrap().to_owned()
            }),
            Style::Page => (!ids.is_empty()).then(|| format!("of=x&at={}", number + 2)),
            Style::Offset => {
                let from: usize = query.split("at=").nth(1).map_or(0, |at| at.parse().unwrap());
                (!ids.is_empty()).then(|| format!("of=x&at={}", from + ids.len()))
            }
        };
        self.next.truncate(number);
        self.next.push(next);
        self.queries.truncate(number);
        self.queries.push(query.to_owned());
        self.pages = self.pages.max(number + 1);
    }

    fn drop_behind(&mut self, number: usize) {
        self.places.retain(|_, place| place.0 <= number);
        self.pages = number + 1;
        self.next.truncate(number + 1);
        self.queries.truncate(number + 1);
    }

    /// The first page is loaded again, and what was behind it follows or goes.
    fn reload(&mut self, style: Style, list: &[i64], later: &str) {
        let (pages, mut query) = (self.pages, Some("of=x".to_owned()));
        for number in 0..pages {
            let Some(of) = query else { break };
            self.load(style, list, number, &of);
            query = self.next[number].clone();
            if query.is_none() || later == "drop" {
                return self.drop_behind(number);
            }
        }
    }

    fn order(&self) -> Vec<i64> {
        let mut order: Vec<_> = self.places.iter().map(|(id, place)| (*place, *id)).collect();
        order.sort();
        order.into_iter().map(|(_, id)| id).collect()
    }
}

fn open(style: Style, later: &str, storage: &MemoryStorage, server: &StandIn) -> (Cache, Remote) {
    let text = format!(
        "table.row = {{ id = 'id', fields = {{ id = 'int' }} }}\n[response.list]\n{}\n\
         records = '/rows'\ntable = 'row'\nlist = 'listed'\nlater_pages = '{later}'",
        style.rule()
    );
    let cache = Cache::open_with(Schema::parse("s.toml", &text).unwrap(), storage.clone()).unwrap();
    let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
    let remote = Remote::builder(&cache).base("https://x.example/api").transport(server.clone());
    let remote = remote.clock(clock).build().unwrap();
    (cache, remote)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(
        std::env::var("BACKWATER_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(100)
    ))]

    #[test]
    fn pages_equal_a_model(
        style in prop::sample::select(vec![
            Style::Cursor, Style::Url, Style::Page, Style::Offset, Style::Link, Style::PlainLink,
        ]),
        later in prop::sample::select(vec!["reload", "drop"]),
        acts in prop::collection::vec(act(), 1..25),
    ) {
        run(style, later, acts)?;
    }
}

/// What a server names as the next page is asked for on the same host and by the same rule alone.
#[test]
fn a_next_page_is_one_of_the_rule() {
    for (next, is_refused) in [
        ("https://elsewhere.example/api/list?at=2", true),
        ("//elsewhere.example/api/list?at=2", true),
        ("/other?at=2", true),
        ("/api/list?at=2", false),
        ("https://x.example/api/list?at=2", false),
    ] {
        let server = StandIn::new(move |_| {
            let response = http::Response::builder().header("link", format!("<{next}>; rel=next"));
            response.body(br#"{"rows": [{"id": 1}]}"#.to_vec()).unwrap()
        });
        let (_cache, remote) = open(Style::PlainLink, "reload", &MemoryStorage::new(), &server);
        let first = remote.ask("list", ()).unwrap();
        server.answer();
        match is_refused {
            true => assert_eq!(first.more().unwrap_err().kind(), ErrorKind::Parameter, "{next}"),
            false => {
                assert!(first.more().unwrap().is_some());
                server.answer();
                // The second page names itself as the next one.
                assert!(first.more().unwrap().is_none());
            }
        }
    }
}

fn run(style: Style, later: &str, acts: Vec<Act>) -> Result<(), TestCaseError> {
    let list = Arc::new(Mutex::new((1..=5_i64).collect::<Vec<_>>()));
    let its = list.clone();
    let server = StandIn::new(move |request| {
        page(style, &its.lock().unwrap(), request.uri().query().unwrap())
    });
    let storage = MemoryStorage::new();
    let (mut cache, mut remote) = open(style, later, &storage, &server);
    let mut model = Model::default();
    let mut first = remote.ask("list", [("of", "x")]).unwrap();
    server.answer_all();
    model.load(style, &list.lock().unwrap(), 0, "of=x");
    for act in acts {
        let now = list.lock().unwrap().clone();
        match act {
            Act::More => {
                let more = first.more().unwrap();
                server.answer_all();
                let next = model.next.last().unwrap().clone();
                // A circle ends where it closes.
                let is_known = |next: &String| model.queries.contains(next);
                let next = next.filter(|next| !is_known(next));
                prop_assert_eq!(more.is_some(), next.is_some());
                if let Some(query) = next {
                    model.load(style, &now, model.next.len(), &query);
                }
            }
            Act::Reload => {
                remote.reload("list", [("of", "x")]).unwrap();
                server.answer_all();
                model.reload(style, &now, later);
            }
            Act::Restart => {
                drop((first, remote, cache));
                (cache, remote) = open(style, later, &storage, &server);
                first = remote.ask("list", [("of", "x")]).unwrap();
                server.answer_all();
                // Nothing says how long it is fresh, so that it is as a reload.
                model.reload(style, &now, later);
            }
            Act::Edit(edited) => *list.lock().unwrap() = edited,
        }
        let order = cache.query("SELECT target FROM listed ORDER BY part, position", ()).unwrap();
        let order: Vec<Value> =
            order.read().unwrap().rows().map(|row| row.values()[0].clone()).collect();
        let expected: Vec<Value> = model.order().into_iter().map(Value::from).collect();
        prop_assert_eq!(order, expected, "{:?}, then {}", style, later);
    }
    Ok(())
}
