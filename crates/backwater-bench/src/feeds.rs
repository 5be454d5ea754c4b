//! Feeds: from the bytes of server-sent events to what watchers hear.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use anyhow::Context;
use backwater::remote::{FeedCall, Listening, Remote, http};
use backwater::{Cache, Schema, SystemClock, Watch};

use crate::ingest::figure;
use crate::measure::{Figure, alternate};
use crate::remote::Kept;
use crate::world::{SCHEMA, STATUSES, World};

const RULES: &str = r#"
    [feed.told]
    url = "/feed"
    events.sailing = "sailing"
"#;
const EVENTS: usize = 50_000;
/// What has come together, in bytes: as much as `backwater-http` gives on at once when events come
/// faster than they are committed.
const PIECE: usize = 1 << 20;
/// How many events a burst has.
const BURST: usize = 200;

/// A cache with sailings, a watcher of a counter, and an open feed.
struct Ours {
    cache: Cache,
    call: FeedCall,
    heard: Arc<AtomicUsize>,
    counter: backwater::Query,
    _held: (Remote, Listening, Watch),
}

impl Ours {
    fn new(size: usize) -> anyhow::Result<Self> {
        let schema = format!("{SCHEMA}{RULES}");
        let cache = Cache::new(Schema::parse("backwater.toml", &schema)?);
        let mut world = World::new(size, 1);
        let sailings = world.sailings(size);
        let page = world.page(&sailings, false);
        cache.commit("departures loaded", |tx| tx.ingest("departures", &page))?;
        let boarding = "SELECT count(*) AS n FROM sailing WHERE status = 'boarding'";
        let counter = cache.query(boarding, ())?;
        let heard = Arc::new(AtomicUsize::new(0));
        let told = heard.clone();
        let watch = cache.watch(&counter, move |reached| {
            told.fetch_add(usize::from(reached.delta().is_some()), Ordering::Relaxed);
        })?;
        let kept = Kept::default();
        let remote = Remote::builder(&cache).base("https://ferries.example/api");
        let remote = remote.transport(kept.clone()).clock(SystemClock::new()).build()?;
        let listening = remote.listen("told", ())?;
        let call = kept.feed().context("the feed is opened")?;
        let response = http::Response::builder().header("content-type", "text/event-stream");
        call.opened(&response.body(Vec::new())?);
        Ok(Self { cache, call, heard, counter, _held: (remote, listening, watch) })
    }

    fn count(&self) -> anyhow::Result<Option<i64>> {
        let result = self.counter.read()?;
        Ok(result.row(0).and_then(|row| row.values()[0].as_int()))
    }
}

/// The same by hand: rows by id, and how many are boarding.
#[derive(Default)]
struct Hand {
    rows: HashMap<i64, (String, i64)>,
    boarding: i64,
    rest: Vec<u8>,
    heard: usize,
}

#[derive(serde::Deserialize)]
struct Event<'e> {
    id: i64,
    status: &'e str,
    delay_min: i64,
}

impl Hand {
    fn received(&mut self, bytes: &[u8]) -> Option<()> {
        self.rest.extend_from_slice(bytes);
        let rest = std::mem::take(&mut self.rest);
        let text = std::str::from_utf8(&rest).ok()?;
        let whole = text.rfind("\n\n").map_or(0, |end| end + 2);
        let before = self.boarding;
        for event in text[..whole].split("\n\n") {
            let (mut name, mut data) = ("message", "");
            for line in event.lines() {
                match line.split_once(": ") {
                    Some(("event", value)) => name = value,
                    Some(("data", value)) => data = value,
                    _ => {}
                }
            }
            if name != "sailing" {
                continue;
            }
            let Event { id, status, delay_min } = serde_json::from_str(data).ok()?;
            let row = self.rows.entry(id).or_default();
            let (was, is) = (row.0 == "boarding", status == "boarding");
            self.boarding += i64::from(is) - i64::from(was);
            if row.0 != status {
                status.clone_into(&mut row.0);
            }
            row.1 = delay_min;
        }
        self.heard += usize::from(before != self.boarding);
        self.rest.extend_from_slice(&rest[whole..]);
        Some(())
    }
}

fn events(size: usize, count: usize) -> String {
    let mut text = String::new();
    for number in 0..count {
        let (id, status) = (fastrand::usize(1..=size), STATUSES[fastrand::usize(..5)]);
        let delay = fastrand::usize(..90);
        text.push_str(&format!(
            "id: {number}\nevent: sailing\ndata: {{\"id\":{id},\"status\":\"{status}\",\"delay_min\":{delay}}}\n\n"
        ));
    }
    text
}

/// 50,000 events, or one for each sailing where there are fewer, and bursts of 200.
pub(crate) fn events_and_bursts(size: usize) -> anyhow::Result<Vec<Figure>> {
    let size = size.max(1000);
    let ours = Ours::new(size)?;
    let mut hand = Hand::default();
    let page = ours.cache.query("SELECT id, status, delay_min FROM sailing", ())?;
    for row in page.read()?.rows() {
        let [id, status, delay] = row.values() else { continue };
        let status = status.as_str().unwrap_or_default().to_owned();
        hand.boarding += i64::from(status == "boarding");
        hand.rows.insert(id.as_int().unwrap_or(0), (status, delay.as_int().unwrap_or(0)));
    }
    drop(page);
    let hand = std::cell::RefCell::new(hand);
    let (ours_took, hand_took) = alternate(
        || events(size, EVENTS.min(size)),
        |text| text.as_bytes().chunks(PIECE).for_each(|piece| ours.call.received(piece)),
        |text| {
            let mut hand = hand.borrow_mut();
            text.as_bytes().chunks(PIECE).all(|piece| hand.received(piece).is_some())
        },
    );
    let hand = hand.into_inner();
    anyhow::ensure!(ours.count()? == Some(hand.boarding), "another count than by hand");
    let (heard, by_hand) = (ours.heard.load(Ordering::Relaxed), hand.heard);
    anyhow::ensure!(heard == by_hand, "{heard} deltas, by hand {by_hand}");
    let of_events = figure("feed/events", size, ours_took, "by hand", hand_took, 3.0);
    let before = ours.cache.snapshot().commit();
    let bursts = 50;
    (0..bursts).for_each(|_| ours.call.received(events(size, BURST).as_bytes()));
    let commits = (ours.cache.snapshot().commit() - before) as f64;
    let of_bursts = figure("feed/merge", size, commits, "bursts", f64::from(bursts), 1.0);
    Ok(vec![of_events, Figure { unit: "x", ..of_bursts }])
}
