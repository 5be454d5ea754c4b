//! An async program on `tokio`: responses arrive on a channel, a query's deltas on a stream, and a
//! view gets what moved.
//!
//! `cargo run --manifest-path crates/backwater-examples/Cargo.toml --bin follow`

use std::time::Duration;

use backwater::delta::Step;
use backwater::{Cache, Request, Schema};
use futures_util::StreamExt as _;
use tokio::sync::mpsc;

const SCHEMA: &str = include_str!("../../../../demo/backwater.toml");

/// What a server answers to a request, as an HTTP client would give it.
type Answer = (Request, &'static str);

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let cache = Cache::new(Schema::parse("demo/backwater.toml", SCHEMA)?);
    let by_status = cache.query("by_status", ())?.typed::<(String, i64, i64)>()?;
    let (start, mut deltas) = cache.deltas(&by_status)?;
    println!("{} statuses to begin with", start.len());

    let (send, mut answers) = mpsc::channel::<Answer>(8);
    tokio::spawn(play_server(send));

    loop {
        tokio::select! {
            answer = answers.recv() => {
                let Some((request, body)) = answer else { break };
                let loaded = cache.commit("loaded", |tx| tx.ingest(request, body))?;
                println!("commit {}: {} rows of {} objects", loaded.number(), loaded.value.rows(), loaded.value.objects());
            }
            Some(delta) = deltas.next() => {
                // For a list of any kind: what to remove, insert and set, in order.
                for step in by_status.steps(&delta?)? {
                    match step {
                        Step::Remove { at } => println!("  line {at} goes"),
                        Step::Insert { at, row: (status, sailings, cars) } => {
                            println!("  line {at}: {status}, {sailings} sailings, {cars} cars");
                        }
                        Step::Set { at, row: (status, sailings, cars) } => {
                            println!("  line {at} is now {status}, {sailings} sailings, {cars} cars");
                        }
                    }
                }
            }
        }
    }
    Ok(())
}

/// The page, and a little later one sailing that is late.
async fn play_server(send: mpsc::Sender<Answer>) -> Result<(), mpsc::error::SendError<Answer>> {
    let page = include_str!("../../../../demo/responses/departures.json");
    send.send((Request::get("/departures?port=SAL"), page)).await?;
    tokio::time::sleep(Duration::from_millis(200)).await;
    let late = r#"{ "id": 311, "status": "delayed", "delay_min": 25, "cars_booked": 40 }"#;
    send.send((Request::get("/sailings/311"), late)).await?;
    tokio::time::sleep(Duration::from_millis(200)).await;
    Ok(())
}
