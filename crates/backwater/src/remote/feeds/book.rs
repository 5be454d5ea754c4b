//! Which feeds are listened to, where their connections stand, and what is to be done next, and
//! when.
//!
//! It decides and keeps account, as the engine does for answers.

use std::sync::Arc;
use std::task::Waker;
use std::time::Duration;

use super::batch::Batch;
use super::decoder::Decoder;
use super::{Connection, FeedShared};
use crate::remote::answer::Failure;
use crate::remote::awaited::Wakers;
use crate::remote::engine::{Moment, later};
use crate::remote::key::AnswerKey;
use crate::schema::FeedRule;
use crate::value::Timestamp;

/// Where a feed's connection stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum FeedPhase {
    /// It is to be opened.
    Due,
    Connecting(u64),
    Open(u64),
    /// It waits for the time of its next try.
    Later,
    /// It waits until the program says that something has changed.
    Held,
}

/// A feed that somebody listens to.
pub(super) struct FeedEntry {
    pub(super) key: AnswerKey,
    pub(super) shared: Arc<FeedShared>,
    /// How many listen.
    holders: u32,
    pub(super) phase: FeedPhase,
    /// The rule that it was opened by.
    pub(super) rule: Arc<FeedRule>,
    pub(super) decoder: Decoder,
    /// What has come and is not committed.
    pub(super) batch: Batch,
    /// Whether a thread is committing what has come.
    is_committing: bool,
    /// No commit is made before this, unless too much has come.
    commit_after: Duration,
    /// Where the feed is to go on: behind what is committed.
    pub(super) position: Option<String>,
    /// How many tries have failed since something came.
    pub(super) failures: u32,
    timer: Option<Duration>,
    unwanted: Option<Waker>,
    /// How many events were read, were skipped, and did not fit.
    pub(super) counts: (u64, u64, u64),
}

impl FeedEntry {
    pub(super) fn call(&self) -> Option<u64> {
        match self.phase {
            FeedPhase::Connecting(call) | FeedPhase::Open(call) => Some(call),
            FeedPhase::Due | FeedPhase::Later | FeedPhase::Held => None,
        }
    }

    /// Something has come by its connection.
    pub(super) fn has_heard(&mut self, ticks: Duration) {
        self.failures = 0;
        self.await_more(ticks);
    }

    /// If nothing comes for as long as its rule says, the connection counts as lost.
    fn await_more(&mut self, ticks: Duration) {
        let silence = self.rule.silence.map(|silence| Duration::from_secs(silence.into()));
        self.timer = silence.map(|silence| ticks.saturating_add(silence));
    }

    fn has_work(&self, ticks: Duration, most: usize) -> bool {
        let is_time = self.commit_after <= ticks || self.batch.len() > most / 2;
        // What came before the connection was lost is committed before it is opened again.
        !self.batch.is_empty() && (is_time || !matches!(self.phase, FeedPhase::Open(_)))
    }
}

/// What has to be done for a feed because time has passed.
pub(in crate::remote) enum FeedWork {
    /// Nothing has come in time.
    Silent(u64, &'static str, Duration),
    /// What has come is to be committed.
    Commit(AnswerKey),
}

/// The feeds of one remote. There are few.
#[derive(Default)]
pub(in crate::remote) struct FeedBook(Vec<FeedEntry>);

impl FeedBook {
    pub(super) fn get(&mut self, key: &AnswerKey) -> Option<&mut FeedEntry> {
        self.0.iter_mut().find(|entry| entry.key == *key)
    }

    pub(super) fn of_call(&mut self, call: u64) -> Option<&mut FeedEntry> {
        self.0.iter_mut().find(|entry| entry.call() == Some(call))
    }

    pub(in crate::remote) fn is_wanted(&self, call: u64) -> bool {
        self.0.iter().any(|entry| entry.call() == Some(call))
    }

    /// Wakes a task once a connection is no longer wanted; returns whether it is.
    pub(in crate::remote) fn wake_if_unwanted(&mut self, call: u64, waker: &Waker) -> bool {
        let Some(entry) = self.of_call(call) else { return false };
        if entry.unwanted.as_ref().is_none_or(|known| !known.will_wake(waker)) {
            entry.unwanted = Some(waker.clone());
        }
        true
    }

    /// Somebody listens; returns whether nobody did before.
    pub(super) fn hold(
        &mut self,
        key: &AnswerKey,
        rule: &Arc<FeedRule>,
        recall: impl FnOnce() -> (Arc<FeedShared>, Option<String>),
    ) -> (Arc<FeedShared>, bool) {
        if let Some(entry) = self.get(key) {
            entry.holders += 1;
            if matches!(entry.phase, FeedPhase::Later | FeedPhase::Held) {
                entry.open_now();
            }
            return (entry.shared.clone(), false);
        }
        let (shared, position) = recall();
        self.0.push(FeedEntry {
            key: key.clone(),
            shared: shared.clone(),
            holders: 1,
            phase: FeedPhase::Due,
            rule: rule.clone(),
            decoder: Decoder::default(),
            batch: Batch::default(),
            is_committing: false,
            commit_after: Duration::ZERO,
            position,
            failures: 0,
            timer: None,
            unwanted: None,
            counts: (0, 0, 0),
        });
        (shared, true)
    }

    /// Somebody no longer listens; gives the feed if nobody does any more.
    pub(super) fn release(&mut self, key: &AnswerKey) -> Option<(FeedEntry, Wakers)> {
        let place = self.0.iter().position(|entry| entry.key == *key)?;
        let entry = &mut self.0[place];
        entry.holders = entry.holders.saturating_sub(1);
        if entry.holders > 0 {
            return None;
        }
        let mut entry = self.0.swap_remove(place);
        let wakers = entry.close(None);
        Some((entry, wakers))
    }

    /// The next feed that is to be opened.
    pub(super) fn next(&mut self) -> Option<&mut FeedEntry> {
        let is_due = |entry: &&mut FeedEntry| {
            entry.phase == FeedPhase::Due && !entry.is_committing && entry.batch.is_empty()
        };
        self.0.iter_mut().find(is_due)
    }

    /// What has come of a feed, if it is to be committed now: the caller does, and says so by
    /// [`FeedBook::committed`].
    pub(super) fn take_batch(
        &mut self,
        key: &AnswerKey,
        (ticks, most): (Duration, usize),
    ) -> Option<(Batch, Arc<FeedRule>, Option<u64>)> {
        let entry = self.get(key)?;
        if entry.is_committing || !entry.has_work(ticks, most) {
            return None;
        }
        entry.is_committing = true;
        let pause = entry.rule.per_second.map(|most| Duration::from_secs(1) / most);
        entry.commit_after = ticks.saturating_add(pause.unwrap_or_default());
        Some((std::mem::take(&mut entry.batch), entry.rule.clone(), entry.call()))
    }

    /// A batch is committed, by which the feed has come to a position; or it is not, and is lost.
    pub(super) fn committed(&mut self, key: &AnswerKey, batch: Batch, is_written: bool) {
        let Some(entry) = self.get(key) else { return };
        entry.is_committing = false;
        if is_written {
            let (events, skipped, unreadable) = batch.counts();
            entry.counts.0 += events;
            entry.counts.1 += skipped;
            entry.counts.2 += unreadable;
            if let Some(position) = &batch.position {
                entry.position = Some(position.clone()).filter(|position| !position.is_empty());
            }
        }
        if entry.batch.is_empty() {
            entry.batch = batch.emptied();
        }
    }

    /// What is due by now.
    pub(in crate::remote) fn wake(
        &mut self,
        at: Moment,
        limit: (Duration, usize),
    ) -> Vec<FeedWork> {
        let (time_out, most) = limit;
        let mut work = Vec::new();
        for entry in &mut self.0 {
            if entry.timer.is_some_and(|due| due <= at.ticks) {
                entry.timer = None;
                let silence = Duration::from_secs(entry.rule.silence.unwrap_or(0).into());
                match entry.phase {
                    FeedPhase::Connecting(call) => {
                        work.push(FeedWork::Silent(call, "no answer within", time_out));
                    }
                    FeedPhase::Open(call) => {
                        work.push(FeedWork::Silent(call, "nothing was heard for", silence));
                    }
                    FeedPhase::Later => entry.open_now(),
                    FeedPhase::Due | FeedPhase::Held => {}
                }
            }
            if entry.has_work(at.ticks, most) && !entry.is_committing {
                work.push(FeedWork::Commit(entry.key.clone()));
            }
        }
        work
    }

    pub(in crate::remote) fn next_wake(&self) -> Option<Duration> {
        let timers = self.0.iter().filter_map(|entry| entry.timer);
        let commits = self.0.iter().filter(|entry| !entry.batch.is_empty() && !entry.is_committing);
        timers.chain(commits.map(|entry| entry.commit_after)).min()
    }

    /// What waits is opened now.
    pub(in crate::remote) fn resume(&mut self) {
        for entry in &mut self.0 {
            if matches!(entry.phase, FeedPhase::Later | FeedPhase::Held) {
                entry.open_now();
            }
        }
    }

    pub(in crate::remote) fn has_waiting(&self) -> bool {
        self.0.iter().any(|entry| entry.phase == FeedPhase::Due)
    }

    /// Closes feeds whose rows were deleted.
    pub(super) fn close(&mut self, is_meant: impl Fn(&AnswerKey) -> bool) -> Wakers {
        let mut wakers = Wakers::default();
        for entry in self.0.iter_mut().filter(|entry| is_meant(&entry.key)) {
            wakers.extend(entry.close(None));
        }
        wakers
    }

    /// The remote is dropped: returns the tasks that wait.
    pub(in crate::remote) fn end(&mut self) -> Wakers {
        let mut wakers = Wakers::default();
        for mut entry in std::mem::take(&mut self.0) {
            wakers.extend(entry.close(None));
        }
        wakers
    }
}

impl FeedEntry {
    fn open_now(&mut self) {
        self.phase = FeedPhase::Due;
        self.timer = None;
        let _nobody = self.shared.change(|state| state.connection = Connection::Connecting);
    }

    /// A connection is begun.
    pub(super) fn begin(&mut self, call: u64, rule: Arc<FeedRule>, due: Duration) {
        self.phase = FeedPhase::Connecting(call);
        self.timer = Some(due);
        self.decoder = Decoder::behind(self.position.as_deref().unwrap_or(""));
        self.rule = rule;
        let _nobody = self.shared.change(|state| state.connection = Connection::Connecting);
    }

    /// It is open.
    pub(super) fn opened(&mut self, call: u64, at: Moment) -> Wakers {
        self.phase = FeedPhase::Open(call);
        // A server that accepts and hangs up is to be left alone for longer and longer: that it
        // answers is no end of its failures.
        self.await_more(at.ticks);
        self.shared.change(|state| {
            state.connection = Connection::Connected;
            state.since = Some(at.now);
            state.failed = None;
        })
    }

    /// Its connection is lost, or there was none; when it is opened again, if it is.
    pub(super) fn lost(
        &mut self,
        mut failure: Failure,
        at: Moment,
        delay: Option<Duration>,
    ) -> Wakers {
        let was_open = matches!(self.phase, FeedPhase::Open(_));
        self.failures += 1;
        let least = self.decoder.retry.unwrap_or_default();
        let delay = delay.map(|delay| delay.max(least));
        failure.again_at = delay.map(|delay| later(at.now, delay));
        self.phase = if delay.is_some() { FeedPhase::Later } else { FeedPhase::Held };
        self.timer = delay.map(|delay| at.ticks.saturating_add(delay));
        let mut wakers = self.shared.change(|state| {
            let waits = delay.is_some();
            state.connection = if waits { Connection::Waiting } else { Connection::Closed };
            state.since = None;
            state.lost += u32::from(was_open);
            state.failed = Some(failure);
        });
        wakers.0.extend(self.unwanted.take());
        wakers
    }

    /// It is closed, until the program says otherwise.
    pub(super) fn close(&mut self, failure: Option<Failure>) -> Wakers {
        self.phase = FeedPhase::Held;
        self.timer = None;
        self.batch = Batch::default();
        self.position = None;
        let mut wakers = self.shared.change(|state| {
            state.connection = Connection::Closed;
            state.since = None;
            state.failed = failure;
        });
        wakers.0.extend(self.unwanted.take());
        wakers
    }

    /// When an event came last.
    pub(super) fn heard_event(&self, now: Timestamp) {
        let _nobody = self.shared.change(|state| state.last_event = Some(now));
    }
}
