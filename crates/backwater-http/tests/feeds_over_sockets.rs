//! Feeds of a real server in each format, cut again and again while both sides write: in the end the
//! cache has what the server has.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::Arc;
use std::time::{Duration, Instant};

use backwater::remote::{Connection, Remote};
use backwater::{Cache, Schema, SystemClock};
use backwater_http::HttpTransport;
use backwater_serve::{Answers, Faults, Ferries, start};

const SCHEMA: &str = r#"
    table.sailing = { id = "id", fields = { id = "int", status = "text", delay_min = "int", note = "text" } }
    table.booking = { id = "id", fields = { id = "int", party = "text", sailing = "int" } }
    response.sailing = { url = "/sailings/{id}", table = "sailing" }
    response.booking = { url = "/bookings/{id}", table = "booking" }
    send.report = { table = "sailing", url = "/sailings/{id}", answer = "sailing" }

    [feed.events]
    url = "/feed"
    events = { sailing = "sailing", booking = "booking", booking_cancelled = { delete = "booking" }, reset = { gap = true } }

    [feed.lines]
    url = "/feed.ndjson{?since}"
    format = "ndjson"
    kind = "/kind"
    position = "/seq"
    resume = ":since"
    events = { sailing = "sailing", booking = "booking", booking_cancelled = { delete = "booking" }, reset = { gap = true } }

    [feed.messages]
    url = "/live{?since}"
    format = "websocket"
    kind = "/kind"
    position = "/seq"
    resume = ":since"
    events = { sailing = "sailing", booking = "booking", booking_cancelled = { delete = "booking" }, reset = { gap = true } }
"#;

fn ask(ferries: &Ferries, method: &str, path: &str, body: &str) -> serde_json::Value {
    let request = http::Request::builder().method(method).uri(path);
    let response = ferries.answer(&request.body(body.as_bytes().to_vec()).unwrap());
    serde_json::from_slice(response.body()).unwrap_or_default()
}

fn until(what: &str, is_so: impl Fn() -> bool) {
    let end = Instant::now() + Duration::from_secs(60);
    while !is_so() {
        assert!(Instant::now() < end, "{what}");
        std::thread::sleep(Duration::from_millis(5));
    }
}

#[test]
fn each_format_brings_all_that_happens_though_it_is_cut() {
    for (seed, feed) in ["events", "lines", "messages"].into_iter().enumerate() {
        let ferries = Arc::new(Ferries::new());
        let faults = Faults { cut: 0.2, fail: 0.1, seed: seed as u64, ..Faults::default() };
        let server = start(ferries.clone(), faults, 0).unwrap();
        let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
        let transport = HttpTransport::builder().build().unwrap();
        let remote = Remote::builder(&cache).base(server.url()).transport(transport);
        let remote = remote.clock(SystemClock::new());
        let quick = (Duration::from_millis(1), Duration::from_millis(10));
        let remote = remote.back_off(quick.0, quick.1).build().unwrap();
        let listening = remote.listen(feed, ()).unwrap();
        until("it connects", || {
            listening.wait(Duration::from_secs(60)).connection == Connection::Connected
        });
        // The first event brings a row that is then edited from both sides.
        ask(&ferries, "PATCH", "/sailings/311", r#"{ "delay_min": 1 }"#);
        let has = || cache.snapshot().get("sailing", 311).unwrap().is_some();
        until("the first event comes", || {
            // A cut may have lost it before there was a position to go on from.
            if !has() {
                ask(&ferries, "PATCH", "/sailings/311", r#"{ "delay_min": 1 }"#);
            }
            has()
        });
        for step in 0..60 {
            let note = format!(r#"{{ "note": "theirs {step}" }}"#);
            ask(&ferries, "PATCH", &format!("/sailings/{}", 300 + step % 12), &note);
            let mine = format!("mine {step}");
            remote
                .send("report", "noted", |tx| tx.update("sailing", 311, [("note", mine)]))
                .unwrap();
            let booked = ask(
                &ferries,
                "POST",
                "/sailings/305/bookings",
                r#"{ "party": "Tern", "cars": 1 }"#,
            );
            if step % 2 == 0 {
                ask(&ferries, "DELETE", &format!("/bookings/{}", booked["id"]), "");
            }
        }
        assert_eq!(remote.wait_until_sent(Duration::from_secs(60)), 0);
        // A last event for each table, behind which nothing is missing.
        ask(&ferries, "PATCH", "/sailings/311", r#"{ "delay_min": 77 }"#);
        let delay =
            || cache.snapshot().get("sailing", 311).unwrap().unwrap().get("delay_min").unwrap();
        until("the last event comes", || delay() == Some(77.into()));
        let state = listening.state();
        assert!(state.lost > 3, "{feed}: {state:?}");
        let sailings = cache.query("SELECT id, note FROM sailing", ()).unwrap();
        for row in sailings.read().unwrap().rows() {
            let id = &row.values()[0];
            let theirs = ask(&ferries, "GET", &format!("/sailings/{id}"), "");
            assert_eq!(row.values()[1].as_str(), theirs["note"].as_str(), "{feed}: sailing {id}");
        }
        let known =
            cache.query("SELECT id FROM booking WHERE party = 'Tern' ORDER BY id", ()).unwrap();
        let known: Vec<String> =
            known.read().unwrap().rows().map(|row| row.values()[0].to_string()).collect();
        let theirs = ask(&ferries, "GET", "/sailings/305/bookings", "");
        let theirs = theirs["bookings"].as_array().unwrap().iter();
        let theirs = theirs.filter(|row| row["party"] == "Tern").map(|row| row["id"].to_string());
        assert_eq!(known, theirs.collect::<Vec<_>>(), "{feed}");
        assert!(!known.is_empty());
        drop(listening);
        until("the row says so", || {
            let closed = cache.query("SELECT state FROM backwater_feed", ()).unwrap();
            closed.read().unwrap().row(0).unwrap().values()[0].as_str() == Some("closed")
        });
    }
}
