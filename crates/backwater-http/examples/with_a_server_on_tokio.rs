//! The same as `with_a_server.rs` for a program on tokio: answers are awaited, deltas are a stream.
//!
//! `cargo run -p backwater-http --example with_a_server_on_tokio`

use std::error::Error;
use std::sync::Arc;

use backwater::remote::Remote;
use backwater::{Cache, Schema, SystemClock};
use backwater_http::HttpTransport;
use backwater_serve::{Faults, Ferries, start};
use tokio::runtime::Handle;

const SCHEMA: &str = include_str!("../../../demo/backwater.toml");

#[tokio::main]
async fn main() -> Result<(), Box<dyn Error>> {
    let server = start(Arc::new(Ferries::new()), Faults::default(), 0)?;
    let cache = Cache::new(Schema::parse("backwater.toml", SCHEMA)?);
    let remote = Remote::builder(&cache)
        .base(server.url())
        .transport(HttpTransport::builder().runtime(Handle::current()).build()?)
        .clock(SystemClock::new())
        .build()?;

    // Two answers side by side.
    let fleet = remote.ask("fleet", ())?;
    let departures = remote.ask("departures", [("port", "SAL")])?;
    let (fleet, departures) = tokio::join!(fleet.settled(), departures.settled());
    for state in [fleet, departures] {
        if let Some(failed) = state.failed {
            println!("failed: {failed}");
        }
    }
    let sql = "SELECT v.name, count(s.id) AS sailings FROM vessel AS v \
        LEFT JOIN sailing AS s ON s.vessel = v.id GROUP BY v.id, v.name ORDER BY v.name";
    for row in cache.query(sql, ())?.read()?.rows() {
        println!("{:14} {}", row.values()[0].to_string(), row.values()[1]);
    }
    Ok(())
}
