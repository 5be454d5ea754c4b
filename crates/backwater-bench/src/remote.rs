//! Asking a server: what is fresh, what is shared, what comes, and what stands by.

use std::collections::HashMap;
use std::hint::black_box;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use anyhow::Context;
use backwater::remote::{Alarm, Call, FeedCall, Remote, Transport, Wanted, http};
use backwater::{Cache, Report, Schema, SystemClock};
use peak_alloc::PeakAlloc;

use crate::ingest::figure;
use crate::measure::{Figure, alternate};
use crate::world::{SCHEMA, World};

const RULES: &str = r#"
    [response.board]
    url = "/board{?port}"
    records = "/sailings"
    table = "sailing"
    max_age = "1 hour"
"#;
/// How many sailings a response of 30 kB has.
const RESPONSE: usize = 85;
const ANSWERS: usize = 1000;
/// How many answers are wanted, and how many commits are made beside them, where there are as many
/// sailings.
const WANTED: usize = 10_000;
const TIMES: usize = 2000;

/// Keeps the calls, to be answered by hand.
#[derive(Clone, Default)]
pub(crate) struct Kept(Arc<Mutex<Vec<Call>>>, Arc<Mutex<Vec<FeedCall>>>);

impl Kept {
    pub(crate) fn take(&self) -> Vec<Call> {
        std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// A feed that is to be opened.
    pub(crate) fn feed(&self) -> Option<FeedCall> {
        self.1.lock().unwrap_or_else(PoisonError::into_inner).pop()
    }
}

impl Transport for Kept {
    fn start(&self, _: http::Request<Vec<u8>>, call: Call) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(call);
    }

    fn open(&self, _: http::Request<Vec<u8>>, call: FeedCall) {
        self.1.lock().unwrap_or_else(PoisonError::into_inner).push(call);
    }

    fn wake_after(&self, _: Duration, _: Alarm) {}
}

fn cache() -> anyhow::Result<Cache> {
    Ok(Cache::new(Schema::parse("backwater.toml", format!("{SCHEMA}{RULES}").as_str())?))
}

fn remote(cache: &Cache) -> anyhow::Result<(Remote, Kept)> {
    let kept = Kept::default();
    let remote = Remote::builder(cache).base("https://ferries.example/api").at_a_time(usize::MAX);
    let remote = remote.transport(kept.clone()).clock(SystemClock::new()).build()?;
    Ok((remote, kept))
}

fn answer_all(kept: &Kept) {
    for call in kept.take() {
        let body = br#"{"sailings": []}"#.to_vec();
        let response = http::Response::builder().header("etag", "\"a1b2c3d4e5f60718\"");
        let response = response.header("cache-control", "max-age=3600");
        call.respond(response.body(body).unwrap_or_default());
    }
}

fn ports(count: usize) -> Vec<String> {
    (0..count).map(|port| format!("P{port:05}")).collect()
}

/// A fresh answer asked for again, and a thousand asks for one that is under way.
pub(crate) fn asks(size: usize) -> anyhow::Result<Vec<Figure>> {
    let cache = cache()?;
    let (remote, kept) = remote(&cache)?;
    let ports = ports(ANSWERS);
    let mut by_hand: HashMap<String, (Instant, Arc<str>)> = HashMap::new();
    for port in &ports {
        remote.ask("board", [("port", port.as_str())])?;
        let until = Instant::now() + Duration::from_secs(3600);
        by_hand.insert(format!("/board?port={port}"), (until, Arc::from(port.as_str())));
    }
    answer_all(&kept);
    let by_hand = Mutex::new(by_hand);
    let asked = || -> anyhow::Result<()> {
        for port in &ports {
            black_box(remote.ask("board", [("port", port.as_str())])?);
        }
        Ok(())
    };
    asked()?;
    anyhow::ensure!(kept.take().is_empty(), "what is fresh was asked for");
    let (fresh, lookup) = alternate(
        || (),
        |()| asked(),
        |()| {
            for port in &ports {
                let url = format!("/board?port={port}");
                let known = by_hand.lock().unwrap_or_else(PoisonError::into_inner);
                let known = known.get(&url).filter(|(until, _)| Instant::now() < *until);
                black_box(known.map(|(_, shared)| shared.clone()));
            }
        },
    );

    let (shared, pushed) = alternate(
        || {
            let asked = remote.reload("board", [("port", "P00000")]);
            (asked, Mutex::new(Vec::<Box<dyn Fn() -> usize + Send>>::new()))
        },
        |_| {
            for _ in 0..ANSWERS {
                black_box(remote.ask("board", [("port", "P00000")]).is_ok());
            }
        },
        |prepared| {
            let (_, closures) = &*prepared;
            for number in 0..ANSWERS {
                let who = ports[0].clone();
                let closure = Box::new(move || who.len() + number);
                closures.lock().unwrap_or_else(PoisonError::into_inner).push(closure);
            }
        },
    );
    anyhow::ensure!(kept.take().len() == 1, "one thing was asked for more than once");
    let each = |seconds: f64| seconds / ANSWERS as f64;
    Ok(vec![
        figure("remote/ask-fresh", size, each(fresh), "HashMap by URL, expiry", each(lookup), 3.0),
        figure("remote/shared", size, each(shared), "a boxed closure pushed", each(pushed), 3.0),
    ])
}

/// A response of 30 kB from the transport to the watcher's delta, against ingest with the same
/// watcher.
pub(crate) fn answer(size: usize) -> anyhow::Result<Vec<Figure>> {
    // How many responses come, where there are enough sailings.
    let rounds = size.div_ceil(20).min(200);
    let mut world = World::new(size, 1);
    let sailings = world.sailings(size.min(10_000));
    let page = world.page(&sailings, false);
    let (cache, plain) = (cache()?, cache()?);
    let (remote, kept) = remote(&cache)?;
    let seen = Arc::new(AtomicUsize::new(0));
    let mut watches = Vec::new();
    for cache in [&cache, &plain] {
        cache.commit("departures loaded", |tx| tx.ingest("board", &page))?;
        let query = cache.query("SELECT status, count(*) AS n FROM sailing GROUP BY status", ())?;
        let seen = seen.clone();
        watches.push(cache.watch(&query, move |_| {
            seen.fetch_add(1, Ordering::Relaxed);
        })?);
    }
    let mut responses = || -> Vec<Vec<u8>> {
        let mut response = || {
            let some = (0..RESPONSE).map(|_| {
                let id = fastrand::i64(1..=sailings.len() as i64);
                world.sailing(id)
            });
            let some: Vec<_> = some.collect();
            world.page(&some, false).into_bytes()
        };
        (0..rounds).map(|_| response()).collect()
    };
    let bytes = responses()[0].len();
    anyhow::ensure!((25_000..36_000).contains(&bytes), "a response has {bytes} bytes");
    let (ours, alone) = alternate(
        // Each side has bytes of its own, as a transport has: none finds them in the cache of the
        // processor because of the other.
        || {
            let some = responses();
            (some.clone(), some)
        },
        |(responses, _)| -> anyhow::Result<()> {
            for response in responses.drain(..) {
                remote.reload("board", [("port", "SAL")])?;
                let call = kept.take().pop().context("no request was made")?;
                call.respond(http::Response::new(response));
            }
            Ok(())
        },
        |(_, responses)| -> anyhow::Result<()> {
            for response in responses.drain(..) {
                plain.commit("board loaded", |tx| tx.ingest("board", &response))?;
            }
            Ok(())
        },
    );
    anyhow::ensure!(seen.load(Ordering::Relaxed) > rounds, "the watchers saw nothing");
    let each = |seconds: f64| seconds / rounds as f64;
    Ok(vec![figure("remote/answer", size, each(ours), "ingest alone", each(alone), 1.15)])
}

/// A commit beside ten thousand wanted answers, none of them touched.
pub(crate) fn idle(size: usize) -> anyhow::Result<Vec<Figure>> {
    let mut world = World::new(size, 1);
    let sailings = world.sailings(size);
    let page = world.page(&sailings, false);
    let (cache, plain) = (cache()?, cache()?);
    let (remote, kept) = remote(&cache)?;
    for cache in [&cache, &plain] {
        cache.commit("departures loaded", |tx| tx.ingest("departures", &page))?;
    }
    let wanted =
        ports(WANTED.min(size)).into_iter().map(|port| remote.want("board", [("port", port)]));
    let _wanted: Vec<Wanted> = wanted.collect::<Result<_, _>>()?;
    answer_all(&kept);
    let commit = |cache: &Cache, id: i64, delay: i64| -> Result<Report, backwater::Error> {
        let update = cache.commit("delay", |tx| tx.update("sailing", id, [("delay_min", delay)]));
        Ok(update?.report)
    };
    let ids = || -> Vec<(i64, i64)> {
        let id = |_| (fastrand::i64(1..=size as i64), fastrand::i64(0..90));
        (0..TIMES.min(size)).map(id).collect()
    };
    let (with, without) = alternate(
        ids,
        |ids| ids.iter().filter(|(id, delay)| commit(&cache, *id, *delay).is_ok()).count(),
        |ids| ids.iter().filter(|(id, delay)| commit(&plain, *id, *delay).is_ok()).count(),
    );
    let each = |seconds: f64| seconds / TIMES.min(size) as f64;
    Ok(vec![figure("remote/idle", size, each(with), "without a remote", each(without), 1.05)])
}

/// What a thousand answers take, once the last commits are as many as are remembered.
pub(crate) fn memory(size: usize, alloc: &PeakAlloc) -> anyhow::Result<Vec<Figure>> {
    let cache = cache()?;
    let (remote, kept) = remote(&cache)?;
    let ports = ports(ANSWERS);
    for minutes in 0..5 * ANSWERS as i64 {
        let route = [("id", backwater::Value::from("SAL-EEL")), ("minutes", minutes.into())];
        cache.commit("another time", |tx| tx.merge("route", route))?;
    }
    let start = alloc.current_usage();
    for port in &ports {
        remote.ask("board", [("port", port.as_str())])?;
    }
    answer_all(&kept);
    let took = alloc.current_usage() - start;
    let case = figure("remote/memory", size, took as f64, "1 MB", 1e6, 1.0);
    Ok(vec![Figure { unit: "bytes", ..case }])
}
