//! Which changes wait, in which order they go, and what is to be done next, and when.
//!
//! It decides and keeps account, as the engine does for answers.

use std::collections::{BTreeSet, HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;

use compact_str::CompactString;
use rustc_hash::FxHashSet;

use super::{SendState, SentState};
use crate::remote::answer::Failure;
use crate::remote::awaited::Wakers;
use crate::remote::engine::{Moment, later};
use crate::table::{Edit, PendingChange, RenamedRow, RowAt, State};

/// Where a change stands that has not arrived.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::remote) enum SendPhase {
    /// It waits for its turn.
    Waiting,
    Sent(u64),
    /// It waits for the time of its next try.
    Later,
    /// It waits until the program says that something has changed: credentials, a decision.
    Held,
    /// It is about to begin or to end: the commit is being made that says so.
    Committing,
}

/// What the request of a change is, once it has been made for the first time: another try is the
/// same.
#[derive(Debug, Clone, PartialEq)]
pub(in crate::remote) struct MadeRequest {
    pub(in crate::remote) url: String,
    pub(in crate::remote) body: Option<String>,
    pub(in crate::remote) if_match: Option<String>,
}

/// What tells a request from all others, as 22 characters.
pub(in crate::remote) type SendKey = CompactString;

/// What is to be sent.
#[derive(Clone)]
pub(in crate::remote) struct SendOrder {
    pub(in crate::remote) rule: Arc<str>,
    pub(in crate::remote) change: Arc<PendingChange>,
    /// The row that it is about.
    pub(in crate::remote) about: Option<RowAt>,
    pub(in crate::remote) variables: Vec<(String, String)>,
    pub(in crate::remote) key: SendKey,
    pub(in crate::remote) label: CompactString,
}

/// A change that has not arrived.
pub(in crate::remote) struct SendEntry {
    pub(in crate::remote) shared: Arc<SentState>,
    pub(in crate::remote) order: Arc<SendOrder>,
    /// The rows that its links are to point at.
    pub(in crate::remote) points: Vec<RowAt>,
    /// The commit before the one that made it, in this run of the program.
    pub(in crate::remote) after: u64,
    /// The commit after which it was sent for the first time; 0 if another run of the program did.
    pub(in crate::remote) first_sent: Option<u64>,
    pub(in crate::remote) request: Option<MadeRequest>,
    pub(in crate::remote) phase: SendPhase,
    pub(in crate::remote) tries: u32,
    pub(in crate::remote) failures: u32,
    timer: Option<Duration>,
}

/// The commits before a change was made, and before it was sent for the first time; 0 if another run
/// of the program did that.
#[derive(Clone, Copy)]
pub(in crate::remote) struct SendCommits {
    pub(in crate::remote) made: u64,
    pub(in crate::remote) sent: u64,
}

impl SendEntry {
    pub(in crate::remote) fn commits(&self) -> SendCommits {
        SendCommits { made: self.after, sent: self.first_sent.unwrap_or(0) }
    }

    /// One that waits for its turn.
    pub(in crate::remote) fn new(
        shared: Arc<SentState>,
        order: Arc<SendOrder>,
        points: Vec<RowAt>,
    ) -> Self {
        Self {
            shared,
            order,
            points,
            after: 0,
            first_sent: None,
            request: None,
            phase: SendPhase::Waiting,
            tries: 0,
            failures: 0,
            timer: None,
        }
    }

    /// It waits for the program.
    pub(in crate::remote) fn hold(&mut self) {
        self.phase = SendPhase::Held;
    }

    /// The rows that it changes.
    pub(in crate::remote) fn rows(&self) -> impl Iterator<Item = RowAt> + '_ {
        let rows = self.order.change.rows.iter().map(|row| (row.table, row.slot));
        rows.chain(self.order.about)
    }

    /// The rows that it makes.
    fn inserts(&self) -> impl Iterator<Item = RowAt> + '_ {
        let rows = self.order.change.rows.iter();
        rows.filter(|row| matches!(row.edit, Edit::Insert(_))).map(|row| (row.table, row.slot))
    }
}

/// What a program gave for a request, once rows have other ids. Local ids are like nothing else.
pub(super) fn with_new_ids(
    given: &[(String, String)],
    renamed: &[RenamedRow],
) -> Vec<(String, String)> {
    let value = |value: &String| {
        let row = renamed.iter().find(|row| row.old.to_string() == *value);
        row.map_or_else(|| value.clone(), |row| row.new.to_string())
    };
    given.iter().map(|(name, given)| (name.clone(), value(given))).collect()
}

/// The changes of one remote that have not arrived, in the order in which they were made.
#[derive(Default)]
pub(in crate::remote) struct SendQueue {
    /// In the order of their numbers; most come behind all others.
    entries: VecDeque<(i64, SendEntry)>,
    calls: HashMap<u64, i64>,
    timers: BTreeSet<(Duration, i64)>,
    under_way: usize,
}

impl SendQueue {
    pub(in crate::remote) fn add(&mut self, number: i64, entry: SendEntry) {
        let place = match self.entries.back() {
            Some((last, _)) if *last >= number => {
                self.entries.partition_point(|(known, _)| *known < number)
            }
            _ => self.entries.len(),
        };
        self.entries.insert(place, (number, entry));
    }

    fn place(&self, number: i64) -> Option<usize> {
        self.entries.binary_search_by_key(&number, |(known, _)| *known).ok()
    }

    pub(in crate::remote) fn get(&self, number: i64) -> Option<&SendEntry> {
        self.place(number).map(|place| &self.entries[place].1)
    }

    pub(in crate::remote) fn get_mut(&mut self, number: i64) -> Option<&mut SendEntry> {
        self.place(number).map(|place| &mut self.entries[place].1)
    }

    pub(in crate::remote) fn len(&self) -> usize {
        self.entries.len()
    }

    pub(in crate::remote) fn numbers(&self) -> Vec<i64> {
        self.entries.iter().map(|(number, _)| *number).collect()
    }

    /// The change that a call carries.
    pub(in crate::remote) fn of_call(&self, call: u64) -> Option<i64> {
        self.calls.get(&call).copied()
    }

    /// A change that waits, of which no request was made, and that takes up a later one of the same
    /// row: the last one of that row. Its turn does not come from here on.
    pub(in crate::remote) fn claim_open(&mut self, rule: &str, about: RowAt) -> Option<i64> {
        let mut of_row = self.entries.iter_mut().rev();
        let (number, last) = of_row.find(|(_, entry)| entry.rows().any(|at| at == about))?;
        let is_open = last.phase == SendPhase::Waiting && last.request.is_none();
        if !is_open || &*last.order.rule != rule || last.order.about != Some(about) {
            return None;
        }
        last.phase = SendPhase::Committing;
        Some(*number)
    }

    /// The next change whose turn it is: none before it changes one of its rows, or makes a row that
    /// it points at.
    pub(in crate::remote) fn next(&mut self, at_a_time: usize) -> Option<i64> {
        if self.under_way >= at_a_time {
            return None;
        }
        let mut before: FxHashSet<RowAt> = FxHashSet::default();
        for (number, entry) in &self.entries {
            let is_free =
                !entry.rows().chain(entry.points.iter().copied()).any(|at| before.contains(&at));
            if is_free && entry.phase == SendPhase::Waiting {
                return Some(*number);
            }
            before.extend(entry.rows());
        }
        None
    }

    /// A request is made.
    pub(in crate::remote) fn sent(
        &mut self,
        number: i64,
        (call, commit): (u64, u64),
        due: Duration,
    ) {
        self.set_timer(number, Some(due));
        let Some(entry) = self.get_mut(number) else { return };
        entry.first_sent.get_or_insert(commit);
        entry.phase = SendPhase::Sent(call);
        entry.tries += 1;
        self.under_way += 1;
        self.calls.insert(call, number);
    }

    /// A call has come to its end; gives the change that it carried, if that still waits for it.
    pub(in crate::remote) fn returned(&mut self, call: u64) -> Option<i64> {
        let number = self.calls.remove(&call)?;
        self.under_way -= 1;
        self.set_timer(number, None);
        let entry = self.get_mut(number)?;
        entry.phase = SendPhase::Committing;
        Some(number)
    }

    /// A try has failed and another one follows: when, or once the program says so.
    pub(in crate::remote) fn again(
        &mut self,
        number: i64,
        (mut failure, delay): (Failure, Option<Duration>),
        at: Moment,
    ) -> Wakers {
        let due = delay.map(|delay| at.ticks.saturating_add(delay));
        self.set_timer(number, due);
        let Some(entry) = self.get_mut(number) else { return Wakers::default() };
        entry.failures += 1;
        entry.phase = if due.is_some() { SendPhase::Later } else { SendPhase::Held };
        failure.again_at = delay.map(|delay| later(at.now, delay));
        entry.shared.show(SendState::Waiting { failed: Some(failure) })
    }

    /// A change has come to its end.
    pub(in crate::remote) fn end(&mut self, number: i64) -> Option<SendEntry> {
        self.set_timer(number, None);
        let place = self.place(number)?;
        let (_, entry) = self.entries.remove(place)?;
        if let SendPhase::Sent(call) = entry.phase {
            self.calls.remove(&call);
            self.under_way -= 1;
        }
        Some(entry)
    }

    /// The changes that depend on one: they change a row that it makes, or point at it.
    pub(in crate::remote) fn dependents(&self, number: i64) -> Vec<i64> {
        let Some(entry) = self.get(number) else { return Vec::new() };
        let mut made: FxHashSet<RowAt> = entry.inserts().collect();
        let mut dependents = Vec::new();
        let others = self.place(number).map_or(0, |place| place + 1);
        for (other, entry) in self.entries.range(others..) {
            if entry.rows().chain(entry.points.iter().copied()).any(|at| made.contains(&at)) {
                dependents.push(*other);
                made.extend(entry.inserts());
            }
        }
        dependents
    }

    /// Rows have other ids, and lie elsewhere.
    pub(in crate::remote) fn renamed(&mut self, state: &State, renamed: &[RenamedRow]) {
        for (_, entry) in &mut self.entries {
            let order = Arc::make_mut(&mut entry.order);
            for row in renamed {
                let mut change = order.change.moved(&state.schema, row);
                let named = change.rows.iter_mut();
                named
                    .filter(|of| (of.table, of.slot) == (row.table, row.to))
                    .for_each(|of| of.is_local = false);
                order.change = Arc::new(change);
                if order.about == Some((row.table, row.from)) {
                    order.about = Some((row.table, row.to));
                    entry.shared.rename(row.new.clone());
                }
            }
            entry.points = state.points_of(&order.change);
            order.variables = with_new_ids(&order.variables, renamed);
        }
    }

    /// The calls whose time is over by now; changes whose time for another try has come wait for
    /// their turn.
    pub(in crate::remote) fn wake(&mut self, at: Moment) -> Vec<u64> {
        let mut timed_out = Vec::new();
        while let Some((due, number)) = self.timers.first().copied()
            && due <= at.ticks
        {
            self.timers.pop_first();
            let Some(entry) = self.get_mut(number) else { continue };
            entry.timer = None;
            match entry.phase {
                SendPhase::Sent(call) => timed_out.push(call),
                SendPhase::Later => entry.phase = SendPhase::Waiting,
                SendPhase::Waiting | SendPhase::Held | SendPhase::Committing => {}
            }
        }
        timed_out
    }

    /// What waits for another try has it now.
    pub(in crate::remote) fn resume(&mut self) {
        for number in self.numbers() {
            let Some(entry) = self.get_mut(number) else { continue };
            let is_conflict = matches!(entry.shared.state(), SendState::Conflict { .. });
            if matches!(entry.phase, SendPhase::Later | SendPhase::Held) && !is_conflict {
                entry.phase = SendPhase::Waiting;
                self.set_timer(number, None);
            }
        }
    }

    /// Whether a change waits for its turn.
    pub(in crate::remote) fn has_waiting(&self) -> bool {
        self.entries.iter().any(|(_, entry)| entry.phase == SendPhase::Waiting)
    }

    pub(in crate::remote) fn next_wake(&self) -> Option<Duration> {
        self.timers.first().map(|(due, _)| *due)
    }

    fn set_timer(&mut self, number: i64, due: Option<Duration>) {
        let Some(entry) = self.get_mut(number) else { return };
        if let Some(old) = std::mem::replace(&mut entry.timer, due) {
            self.timers.remove(&(old, number));
        }
        if let Some(due) = due {
            self.timers.insert((due, number));
        }
    }
}
