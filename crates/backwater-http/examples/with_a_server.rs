//! A program to copy from: a list in pages, a detail, tabs with counters, and errors that are shown
//! and tried again, all from a server. It has no runtime of its own; `with_a_server_on_tokio.rs`
//! has one.
//!
//! `cargo run -p backwater-http --example with_a_server`

use std::error::Error;
use std::sync::Arc;
use std::time::Duration;

use backwater::remote::{AnswerState, Remote};
use backwater::{Cache, FromRow, Query, Schema, SystemClock};
use backwater_http::HttpTransport;
use backwater_serve::{Faults, Ferries, start};

const SCHEMA: &str = include_str!("../../../demo/backwater.toml");
/// How long the program waits for an answer before it shows what it has.
const PATIENCE: Duration = Duration::from_secs(10);

#[derive(FromRow)]
struct Tab {
    status: String,
    sailings: i64,
}

#[derive(FromRow)]
struct Line {
    id: i64,
    to: String,
    delay_min: i64,
}

fn main() -> Result<(), Box<dyn Error>> {
    // In a program of yours the server is somewhere else, and does not fail on purpose.
    let faults = Faults { fail: 0.25, seed: 4, ..Faults::default() };
    let server = start(Arc::new(Ferries::new()), faults, 0)?;

    let cache = Cache::new(Schema::parse("backwater.toml", SCHEMA)?);
    let remote = Remote::builder(&cache)
        .base(server.url())
        .transport(HttpTransport::builder().build()?)
        .clock(SystemClock::new())
        .back_off(Duration::from_millis(50), Duration::from_secs(1))
        .build()?;

    // What views show are standing queries; whatever answers come, they are up to date.
    let tabs = cache.query(
        "SELECT status, count(*) AS sailings FROM sailing GROUP BY status ORDER BY status",
        (),
    )?;
    let list = cache.query(
        "SELECT s.id, p.name AS \"to\", s.delay_min FROM sailing AS s \
         JOIN route AS r ON r.id = s.route JOIN port AS p ON p.code = r.\"to\" \
         WHERE s.status = :status ORDER BY s.departs_at LIMIT 4",
        [("status", "on time")],
    )?;
    // So is the spinner of the whole program.
    let busy = cache.query("SELECT count(*) AS n FROM backwater_answer WHERE is_under_way", ())?;

    // The list's page is opened. It is kept fresh for as long as `departures` is held.
    let departures = remote.want("departures", [("port", "SAL")])?;
    println!("busy with {} request", busy.read()?.row(0).ok_or("no row")?.values()[0]);
    println!("departures: {}", said(&departures.wait(PATIENCE)));
    show(&tabs, &list)?;

    // The user scrolls down.
    if let Some(page) = departures.more()? {
        println!("\nthe second page: {}", said(&page.wait(PATIENCE)));
        show(&tabs, &list)?;
    }

    // Another tab is a parameter, and no request.
    cache.rebind("the tab of those delayed", &list, [("status", "delayed")])?;
    println!("\nthe other tab");
    show(&tabs, &list)?;

    // A sailing is opened: what the list knows of it is shown at once, the rest comes.
    let bookings = cache.query("SELECT id FROM booking WHERE sailing = 311", ())?;
    let detail = remote.want("bookings", [("sailing", 311)])?;
    println!("\nbookings of 311: {}", said(&detail.wait(PATIENCE)));
    println!("  {} are here", bookings.read()?.len());
    drop(detail);

    // Back to the list, which is fresh: no request is made.
    let back = remote.want("departures", [("port", "SAL")])?;
    println!("\nback to the list: {}", said(&back.state()));

    // What fails for good is said, and asked for again by hand.
    let gone = remote.ask("sailing", [("id", 9999)])?;
    println!("sailing 9999: {}", said(&gone.wait(PATIENCE)));
    let again = remote.reload("sailing", [("id", 9999)])?;
    println!("and again: {}", said(&again.wait(PATIENCE)));
    Ok(())
}

fn show(tabs: &Query, list: &Query) -> Result<(), backwater::Error> {
    let tabs: Vec<Tab> = tabs.typed()?.rows()?;
    let tabs = tabs.iter().map(|tab| format!("{} {}", tab.status, tab.sailings));
    println!("  [{}]", tabs.collect::<Vec<_>>().join(" | "));
    for line in list.typed::<Line>()?.rows()? {
        println!("  {} to {}, {} min late", line.id, line.to, line.delay_min);
    }
    Ok(())
}

/// What a view says of an answer beside its rows.
fn said(state: &AnswerState) -> String {
    let here = if state.here.is_some() { "here" } else { "not here" };
    match (&state.under_way, &state.failed) {
        (Some(way), Some(failed)) => format!("{here}, try {} after {failed}", way.tries),
        (Some(_), None) => format!("{here}, under way"),
        (None, Some(failed)) => format!("{here}, failed ({failed})"),
        (None, None) => here.to_owned(),
    }
}
