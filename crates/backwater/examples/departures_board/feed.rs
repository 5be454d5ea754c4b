//! The server's feed of live changes, from a file: one message a line.

use std::sync::mpsc::{self, RecvTimeoutError, Sender};
use std::thread;
use std::time::Duration;

use backwater::remote::{Listening, Remote, StandIn};
use backwater::{Cache, SystemClock, error::Result};

const FEED: &str = include_str!("../../../../demo/changes/feed.ndjson");

/// The feed, at some place in it. It is listened to until it is dropped.
pub(crate) struct Feed {
    server: StandIn,
    lines: std::str::Lines<'static>,
    _listening: Listening,
}

impl Feed {
    pub(crate) fn of(cache: &Cache) -> Result<Self> {
        // In a program of yours the server is somewhere else, and its transport is backwater-http's.
        let server = StandIn::new(|_| StandIn::status(200));
        let remote = Remote::builder(cache).base("https://ferries.example/api");
        let remote = remote.transport(server.clone()).clock(SystemClock::new()).build()?;
        let listening = remote.listen("changes", ())?;
        server.answer_all();
        Ok(Self { server, lines: FEED.lines(), _listening: listening })
    }

    /// The server pushes the next change. `false` at the end.
    pub(crate) fn step(&mut self) -> bool {
        let Some(line) = self.lines.next() else { return false };
        self.server.push(&format!("{line}\n"));
        true
    }

    /// The same on a thread of its own, one change every `pace`, until what this gives is dropped.
    /// Commits may be made by any thread that has a handle.
    pub(crate) fn follow(mut self, pace: Duration) -> Sender<()> {
        let (until, reported) = mpsc::channel();
        thread::spawn(move || {
            while reported.recv_timeout(pace) == Err(RecvTimeoutError::Timeout) && self.step() {}
        });
        until
    }
}
