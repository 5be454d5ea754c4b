//! A list that follows what others do, with edits from both sides: the server pushes its changes,
//! and the program sends its own.
//!
//! `cargo run -p backwater --example list_live`

use std::sync::{Arc, Mutex};
use std::time::Duration;

use backwater::clock::SetClock;
use backwater::remote::{Connection, Remote, SendState, StandIn};
use backwater::{Cache, DeltaKind, FromRow, Schema, error::Result};

const SCHEMA: &str = r#"
    [table.sailing]
    id = "id"
    fields = { id = "int", to = "text", status = "text", berth = "int" }

    [response.sailings]
    url = "/sailings"
    table = "sailing"
    max_age = "1 day" # for as long as the feed says what changes

    [response.sailing]
    url = "/sailings/{id}"
    table = "sailing"

    [send.berth]
    table = "sailing"
    url = "/sailings/{id}"
    answer = "sailing"
    makes_stale = [] # the feed says what else a change has changed

    [feed.changes]
    url = "/feed"
    events.sailing = "sailing"
    events.withdrawn = { delete = "sailing" }
    events.reset = { gap = true }

    [query]
    boarding = "SELECT id, \"to\", berth FROM sailing WHERE status = 'boarding' ORDER BY id"
"#;

#[derive(FromRow)]
struct Line {
    id: i64,
    to: String,
    berth: Option<i64>,
}

#[derive(FromRow)]
struct Live {
    state: String,
    lost: i64,
}

fn main() -> Result<()> {
    // In a program of yours the server is somewhere else, and its transport is backwater-http's.
    let server = StandIn::new(|request| match (request.method().as_str(), request.uri().path()) {
        ("GET", "/sailings") => StandIn::json(
            r#"[
                { "id": 303, "to": "Norrin", "status": "boarding", "berth": 1 },
                { "id": 307, "to": "Eelgrass", "status": "on time" },
                { "id": 311, "to": "Osterhaven", "status": "on time" }
            ]"#,
        ),
        ("GET", "/feed") => StandIn::events(),
        _ => StandIn::status(204),
    });
    let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    let cache = Cache::new(Schema::parse("list_live.toml", SCHEMA)?);
    let remote = Remote::builder(&cache).base("https://ferries.example");
    let remote = remote.transport(server.clone()).clock(clock.clone()).build()?;

    // The view: its query, and what happens to the rows that it shows.
    let boarding = cache.query("boarding", ())?.typed::<Line>()?;
    let happened = Arc::new(Mutex::new(Vec::new()));
    let seen = happened.clone();
    let _watch = cache.watch(&boarding, move |reached| {
        for row in reached.delta().into_iter().flat_map(|delta| delta.rows()) {
            let id = row.row().values()[0].clone();
            if let Ok(mut seen) = seen.lock() {
                seen.push((row.kind(), id.to_string()));
            }
        }
    })?;
    let heard = || happened.lock().map(|mut seen| std::mem::take(&mut *seen)).unwrap_or_default();

    // What is asked for once the feed is there lacks nothing, and is not asked for again.
    let listening = remote.listen("changes", ())?;
    server.answer_all();
    let _sailings = remote.want("sailings", ())?;
    server.answer_all();
    show("Loaded, and live", &boarding.rows()?);
    heard();

    // A change, to the server; to this view a row that enters.
    server.push(event(1, "sailing", r#"{ "id": 307, "status": "boarding", "berth": 2 }"#).as_str());
    assert_eq!(heard(), [(DeltaKind::Enter, "307".to_owned())]);
    // And one that leaves, though it is still there.
    server.push(event(2, "sailing", r#"{ "id": 303, "status": "departed" }"#).as_str());
    assert_eq!(heard(), [(DeltaKind::Leave, "303".to_owned())]);
    show("307 boards, 303 has departed", &boarding.rows()?);

    // An edit of one's own: shown at once, and the echo of it moves nothing.
    let moved =
        remote.send("berth", "307 at berth 3", |tx| tx.update("sailing", 307, [("berth", 3)]))?;
    assert_eq!(heard(), [(DeltaKind::Change, "307".to_owned())]);
    server.push(event(3, "sailing", r#"{ "id": 307, "berth": 3 }"#).as_str());
    server.answer_all();
    assert_eq!(moved.state(), SendState::Confirmed);
    assert_eq!(heard(), []);

    // The connection is lost; meanwhile something happens, which comes when it is back.
    server.cut();
    let live = cache.query("SELECT state, lost FROM backwater_feed", ())?.typed::<Live>()?;
    println!("\n  {}", words(&live.rows()?));
    server.pass(&clock, Duration::from_secs(2));
    server.answer_all();
    server.push(event(4, "withdrawn", r#"{ "id": 307 }"#).as_str());
    server.push(event(5, "sailing", r#"{ "id": 311, "status": "boarding", "berth": 1 }"#).as_str());
    assert_eq!(listening.state().connection, Connection::Connected);
    show("307 is withdrawn, 311 boards", &boarding.rows()?);
    println!("\n  {}", words(&live.rows()?));
    Ok(())
}

fn event(id: u32, kind: &str, data: &str) -> String {
    format!("id: {id}\nevent: {kind}\ndata: {data}\n\n")
}

fn show(what: &str, lines: &[Line]) {
    println!("\n{what}");
    for Line { id, to, berth } in lines {
        let berth = berth.map(|berth| format!("berth {berth}")).unwrap_or_default();
        println!("  {id}  {to:12} {berth}");
    }
}

fn words(live: &[Live]) -> String {
    live.first().map_or_else(String::new, |live| match live.lost {
        0 => format!("feed: {}", live.state),
        lost => format!("feed: {}, lost {lost} time(s)", live.state),
    })
}
