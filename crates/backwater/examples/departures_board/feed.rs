//! The server's feed of live changes, from a file: one line a change, with the time at which it
//! comes and a merge patch of the tables.

use std::sync::mpsc::{self, RecvTimeoutError, Sender};
use std::thread;
use std::time::Duration;

use backwater::{Cache, Error, ErrorKind, Timestamp, error::Result};
use serde_json::value::RawValue;

use crate::tables::Board;

const FEED: &str = include_str!("../../../../demo/changes/feed.ndjson");

#[derive(serde::Deserialize)]
struct Step<'f> {
    at: &'f str,
    label: &'f str,
    #[serde(borrow)]
    merge_patch: &'f RawValue,
}

/// The feed, at some place in it.
pub(crate) struct Feed {
    lines: std::str::Lines<'static>,
}

impl Feed {
    pub(crate) fn new() -> Self {
        Self { lines: FEED.lines() }
    }

    /// Applies the next change, and moves the clock to its time, in one commit. `false` at the end.
    pub(crate) fn step(&mut self, cache: &Cache) -> Result<bool> {
        let Some(line) = self.lines.next() else { return Ok(false) };
        let step: Step<'_> = serde_json::from_str(line)
            .map_err(|error| Error::new(ErrorKind::Caller, error.to_string()).at("feed.ndjson"))?;
        let now: Timestamp = step.at.parse()?;
        cache.commit(step.label, |tx| {
            tx.table::<Board>()?.set(|board| board.now = now)?;
            tx.merge_patch(step.merge_patch.get())
        })?;
        Ok(true)
    }

    /// Applies the changes on a thread of its own, one every `pace`, until what this gives is
    /// dropped. Commits may be made by any thread that has a handle.
    pub(crate) fn follow(mut self, cache: Cache, pace: Duration) -> Sender<()> {
        let (until, reported) = mpsc::channel();
        thread::spawn(move || {
            while reported.recv_timeout(pace) == Err(RecvTimeoutError::Timeout) {
                match self.step(&cache) {
                    Ok(true) => {}
                    Ok(false) => return,
                    // A change that does not fit is left out; the next ones may.
                    Err(_) => {}
                }
            }
        });
        until
    }
}
