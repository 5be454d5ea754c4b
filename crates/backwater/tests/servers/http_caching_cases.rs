//! The published test cases for HTTP caches, as far as they are about a private cache, requests by
//! GET, and what a program cannot say in a request itself. `http_caching/LICENSE` is theirs.
//!
//! Cases that say what a cache may do are counted: most of those that do not hold want a lifetime to
//! be guessed, or several answers for one URL to be kept.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::{Arc, Mutex};
use std::time::Duration;

use backwater::clock::{Clock, SetClock};
use backwater::remote::{Remote, StandIn};
use backwater::{Cache, Schema};
use serde_json::Value as Json;

const CASES: &str = include_str!("http_caching/cases.json");

/// What the server does with the next request, and what it saw.
#[derive(Default)]
struct Server {
    /// The cases' requests, of which this one is the next.
    requests: Vec<Json>,
    number: usize,
    now: i64,
    was_asked: bool,
    was_validated: bool,
}

/// A date in a format of RFC 9110, section 5.6.7: the usual one, or that of RFC 850.
fn date(seconds: i64, is_rfc850: bool) -> String {
    let time = std::time::UNIX_EPOCH + Duration::from_secs(seconds as u64);
    let usual = httpdate::fmt_http_date(time);
    if !is_rfc850 {
        return usual;
    }
    let parts: Vec<&str> = usual.split(' ').collect();
    let day = match &parts[0][..3] {
        "Mon" => "Monday",
        "Tue" => "Tuesday",
        "Wed" => "Wednesday",
        "Thu" => "Thursday",
        "Fri" => "Friday",
        "Sat" => "Saturday",
        _ => "Sunday",
    };
    format!("{day}, {}-{}-{} {} GMT", parts[1], parts[2], &parts[3][2..], parts[4])
}

fn text(value: &Json, name: &str, now: i64, is_rfc850: bool) -> String {
    let is_date = ["expires", "date", "last-modified"].contains(&&*name.to_lowercase());
    match (value, value.as_i64()) {
        (_, Some(seconds)) if is_date => date(now + seconds, is_rfc850),
        (Json::String(text), _) => text.clone(),
        (other, _) => other.to_string(),
    }
}

/// The header fields of a request or response of a case.
fn fields(of: &Json, member: &str, now: i64) -> Vec<(String, String)> {
    let pairs = of.get(member).and_then(Json::as_array).cloned().unwrap_or_default();
    let rfc850 = of.get("rfc850").and_then(Json::as_array).cloned().unwrap_or_default();
    let pairs = pairs.iter().map(|pair| {
        let name = pair[0].as_str().unwrap().to_owned();
        let is_rfc850 = rfc850.iter().any(|known| *known == *name.to_lowercase());
        let value = text(&pair[1], &name, now, is_rfc850);
        (name, value)
    });
    pairs.collect()
}

fn answer(server: &mut Server, request: &http::Request<Vec<u8>>) -> http::Response<Vec<u8>> {
    server.was_asked = true;
    let own = server.requests[server.number].clone();
    let mut status = own.get("status").and_then(Json::as_u64).unwrap_or(200) as u16;
    if own.get("expected").and_then(Json::as_str).is_some_and(|of| of.ends_with("validated")) {
        let before = &server.requests[server.number - 1];
        let before = fields(before, "fields", server.now);
        let is_same = |name: &str, by: &str| {
            let known = before.iter().find(|(known, _)| known.eq_ignore_ascii_case(name));
            let sent = request.headers().get(by).and_then(|sent| sent.to_str().ok());
            known.is_some_and(|(_, value)| Some(value.as_str()) == sent)
        };
        let by_time = request.headers().contains_key("if-modified-since");
        if is_same("etag", "if-none-match") || by_time {
            (status, server.was_validated) = (304, true);
        }
    }
    let mut response = http::Response::new(if status == 304 { vec![] } else { b"[]".to_vec() });
    *response.status_mut() = http::StatusCode::from_u16(status).unwrap();
    for (name, value) in fields(&own, "fields", server.now) {
        let (Ok(name), Ok(value)) =
            (name.parse::<http::HeaderName>(), http::HeaderValue::from_bytes(value.as_bytes()))
        else {
            continue;
        };
        response.headers_mut().append(name, value);
    }
    response
}

/// Plays a case; the first request that does not go as expected is its failure.
fn play(case: &Json) -> Result<(), String> {
    let schema = "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.t = { url = '/t', table = 't' }";
    let cache = Cache::new(Schema::parse("s.toml", schema).unwrap());
    let requests = case["requests"].as_array().unwrap().clone();
    let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
    let state = Arc::new(Mutex::new(Server { requests: requests.clone(), ..Server::default() }));
    let its = state.clone();
    let server = StandIn::new(move |request| answer(&mut its.lock().unwrap(), request));
    let remote = Remote::builder(&cache).base("https://x.example").tries(1);
    let remote = remote.transport(server.clone()).clock(clock.clone()).build().unwrap();
    let mut sent: Vec<String> = Vec::new();
    for (number, request) in requests.iter().enumerate() {
        for name in sent.drain(..) {
            remote.set_field(&name, None).unwrap();
        }
        for (name, value) in fields(request, "sent", 0) {
            remote.set_field(&name, value.as_str()).map_err(|error| error.to_string())?;
            sent.push(name);
        }
        {
            let mut server = state.lock().unwrap();
            server.number = number;
            server.now = clock.now().as_micros() / 1_000_000;
            (server.was_asked, server.was_validated) = (false, false);
        }
        remote.ask("t", ()).unwrap();
        server.answer_all();
        let seen = state.lock().unwrap();
        let expected = request.get("expected").and_then(Json::as_str);
        let went = match expected {
            Some("cached") => !seen.was_asked,
            Some("not_cached") => seen.was_asked,
            Some(_) => seen.was_validated,
            None => true,
        };
        if !went {
            let was = if seen.was_asked { "asked" } else { "not asked" };
            return Err(format!(
                "request {} is to be {}, but was {was}",
                number + 1,
                expected.unwrap()
            ));
        }
        drop(seen);
        if request.get("pause").is_some() {
            clock.advance(Duration::from_secs(3));
        }
    }
    Ok(())
}

/// Cases that are older than RFC 9111, whose section 5.1 ignores an `Age` that is no number and takes
/// the first one of several.
const NOT_SO: [&str; 10] = [
    "age-parse-nonnumeric",
    "age-parse-negative",
    "age-parse-float",
    "age-parse-suffix",
    "age-parse-prefix-twoline",
    "age-parse-dup-0",
    "age-parse-dup-0-twoline",
    "age-parse-dup-old",
    "age-parse-parameter",
    "age-parse-numeric-parameter",
];
/// How many of the cases hold that say what a cache may do.
const OPTIONAL: usize = 30;

#[test]
fn the_published_cases_hold() {
    let cases: Vec<Json> = serde_json::from_str(CASES).unwrap();
    let (mut wrong, mut optional) = (Vec::new(), 0);
    for case in &cases {
        let id = case["id"].as_str().unwrap();
        let outcome = play(case);
        if case["kind"] == "required" {
            match (outcome, NOT_SO.contains(&id)) {
                (Err(why), false) => wrong.push(format!("{id}: {why}")),
                (Ok(()), true) => wrong.push(format!("{id} holds by now")),
                _ => {}
            }
        } else {
            optional += usize::from(outcome.is_ok());
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert_eq!((cases.len(), optional), (169, OPTIONAL));
}
