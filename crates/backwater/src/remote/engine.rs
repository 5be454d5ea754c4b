//! Which answers there are, which are under way, and what is to be asked for next, and when.
//!
//! It decides and keeps account. It must not commit, call a transport, or read a clock.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet, VecDeque};
use std::sync::Arc;
use std::task::Waker;
use std::time::Duration;

use super::answer::{AnswerState, Failure, FailureKind, Here, SharedState, UnderWay, read};
use super::awaited::Wakers;
use super::freshness::Freshness;
use super::key::{AnswerKey, KeyRef};
use crate::schema::TableNo;
use crate::value::{Json, Timestamp};

/// What it is now: by the calendar, for what is fresh, and by a clock that never goes back, for
/// waiting.
#[derive(Debug, Clone, Copy)]
pub(super) struct Moment {
    pub(super) now: Timestamp,
    pub(super) ticks: Duration,
}

/// How much a remote may ask for.
#[derive(Debug, Clone)]
pub(super) struct Limits {
    pub(super) at_a_time: usize,
    pub(super) time_out: Duration,
    pub(super) tries: u32,
    pub(super) bytes: usize,
    /// The shortest and the longest delay before another try, without what the server asks for.
    pub(super) back_off: (Duration, Duration),
}

/// What has come is not asked for again sooner than this, however short it is fresh.
const LEAST_REVALIDATION: Duration = Duration::from_secs(1);
/// A server that asks for more time than this is asked again after it.
pub(super) const LONGEST_WAIT: Duration = Duration::from_secs(3600);

/// A request that is to be made now.
pub(super) struct DueRequest {
    pub(super) call: u64,
    pub(super) key: AnswerKey,
    /// What an answer that is here can be validated by, as it stands in its row.
    pub(super) validators: Option<Json>,
}

/// An answer that has come, or was validated.
pub(super) struct Arrival {
    pub(super) here: Here,
    pub(super) freshness: Freshness,
    /// As they are to stand in its row.
    pub(super) validators: Option<Json>,
    pub(super) next: Option<Box<str>>,
    /// Which part of its list it is, counted from 0.
    pub(super) page: u32,
    /// The commit that it came by; of one that is in doubt the one after which it was asked for.
    pub(super) commit: u64,
    /// The last commit before it.
    pub(super) after: u64,
    /// Whether the server said that what was here has not changed.
    pub(super) is_validated: bool,
    /// Whether it may have been computed before what is known by now.
    pub(super) is_doubtful: bool,
    /// The page behind it, which is to be asked for again.
    pub(super) later: Option<Later>,
}

/// A page that is to be asked for again, since the one before it has changed.
#[derive(Clone)]
pub(super) struct Later {
    pub(super) key: AnswerKey,
    pub(super) page: u32,
    /// What was behind it, and is to be asked for after it.
    pub(super) behind: Vec<AnswerKey>,
}

/// Who asks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Asker {
    /// Somebody who wants it once.
    Once,
    /// Somebody who wants it for as long as it is held.
    Holder,
    /// The remote itself, for those who hold it.
    Again,
}

/// What has come of a request.
pub(super) enum CallOutcome {
    Came(Arrival),
    Failed(Failure),
    /// The server says that what is here has not changed, and means something else.
    OtherRepresentation,
}

/// What has to be done because time has passed, or because the program says so.
#[derive(Default)]
pub(super) struct DueWork {
    /// Calls that have not been answered in time.
    pub(super) timed_out: Vec<u64>,
    /// Answers that are wanted, and whether they are asked for although they are fresh.
    pub(super) asks: Vec<(AnswerKey, bool)>,
}

/// Where the request for an answer stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Phase {
    Idle,
    /// It is about to be queued, or waits for its turn.
    Queued(u64),
    Sent(u64),
    /// It waits for the time of its next try.
    Waiting(u64),
}

impl Phase {
    fn call(self) -> Option<u64> {
        match self {
            Phase::Idle => None,
            Phase::Queued(call) | Phase::Sent(call) | Phase::Waiting(call) => Some(call),
        }
    }
}

struct Entry {
    shared: Arc<SharedState>,
    here: Option<Here>,
    /// As they stand in its row.
    validators: Option<Json>,
    no_store: bool,
    next: Option<Box<str>>,
    page: u32,
    /// How many hold it as wanted.
    wanted: u32,
    /// Whether somebody asked who does not have to hold it until its request is made.
    is_asked: bool,
    /// Whether it has a row for what is known of it, or had one that was deleted.
    is_noted: bool,
    /// The commit by which it has a row, or a later one, since it was last asked for.
    noted_by: u64,
    phase: Phase,
    /// The number of the try that is under way, or of the last one.
    tries: u32,
    /// How many tries have failed since the last that did not.
    failures: u32,
    /// When something has to be done: a time-out, another try, a revalidation.
    timer: Option<Duration>,
    /// Fresh for no time at all, as when the server says nothing and neither does the rule.
    is_fleeting: bool,
    is_immutable: bool,
    /// The commit that it came by.
    came: u64,
    /// The last commit before the server last said something of it.
    heard: u64,
    /// Whether a request by the remote's own header fields would be answered by it.
    is_selected: bool,
    /// Seconds after which it is asked for again while it is wanted, fresh or not.
    reload_every: Option<u32>,
}

impl Entry {
    fn of(shared: Arc<SharedState>, reload_every: Option<u32>) -> Self {
        Self {
            shared,
            here: None,
            validators: None,
            no_store: false,
            next: None,
            page: 0,
            wanted: 0,
            is_asked: false,
            is_noted: false,
            noted_by: 0,
            phase: Phase::Idle,
            tries: 0,
            failures: 0,
            timer: None,
            is_fleeting: false,
            is_immutable: false,
            came: 0,
            heard: 0,
            is_selected: true,
            reload_every,
        }
    }

    fn is_fresh(&self, now: Timestamp) -> bool {
        self.is_selected && self.here.is_some_and(|here| here.is_fresh(now))
    }
}

/// The answers of one remote.
pub(super) struct Engine {
    /// Boxed, since a map has room for more than it holds.
    answers: hashbrown::HashMap<AnswerKey, Box<Entry>>,
    /// The requests that wait for their turn.
    queue: VecDeque<u64>,
    /// The answers that requests are for, from when they are noted until they end.
    calls: HashMap<u64, CallEntry>,
    timers: BTreeSet<(Duration, TimerKey)>,
    /// The pages that are to be asked for again once another one has come.
    behind: HashMap<AnswerKey, Vec<AnswerKey>>,
    /// For each table the commit before which answers may have been computed too early: without a
    /// change that was settled, or events that were missed.
    overtaken: BTreeMap<TableNo, u64>,
    under_way: usize,
    /// Whether a thread is starting requests. Those that become due meanwhile are left to it.
    is_driven: bool,
    is_online: bool,
    /// The server has said that it gets too many requests.
    paused_until: Option<Duration>,
    last: u64,
    pub(super) limits: Limits,
    random: fastrand::Rng,
}

struct CallEntry {
    key: AnswerKey,
    /// Wakes the transport if nobody wants it any more.
    unwanted: Option<Waker>,
}

/// Orders timers of one time; the number is the place of the shared state in memory, which is the
/// entry's own.
#[derive(Debug, Clone)]
struct TimerKey(usize, AnswerKey);

impl PartialEq for TimerKey {
    fn eq(&self, other: &Self) -> bool {
        self.0 == other.0
    }
}

impl Eq for TimerKey {}

impl PartialOrd for TimerKey {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for TimerKey {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        self.0.cmp(&other.0)
    }
}

impl Engine {
    pub(super) fn new(limits: Limits, seed: u64) -> Self {
        Self {
            answers: hashbrown::HashMap::new(),
            queue: VecDeque::new(),
            calls: HashMap::new(),
            timers: BTreeSet::new(),
            behind: HashMap::new(),
            overtaken: BTreeMap::new(),
            under_way: 0,
            is_driven: false,
            is_online: true,
            paused_until: None,
            last: 0,
            limits,
            random: fastrand::Rng::with_seed(seed),
        }
    }

    /// Takes up an answer from before a restart.
    pub(super) fn recall(
        &mut self,
        shared: Arc<SharedState>,
        arrival: Arrival,
        reload_every: Option<u32>,
    ) {
        let state = AnswerState { here: Some(arrival.here), ..AnswerState::default() };
        let _nobody = shared.show(state);
        let key = shared.key.clone();
        let mut entry = Entry::of(shared, reload_every);
        entry.take(arrival);
        entry.is_noted = true;
        self.answers.insert(key, Box::new(entry));
    }

    /// The answer, if asking for it takes no request: it is fresh, or under way.
    pub(super) fn settled_ask(
        &mut self,
        key: &KeyRef<'_>,
        now: impl FnOnce() -> Timestamp,
    ) -> Option<Arc<SharedState>> {
        let entry = self.answers.get_mut(key)?;
        if entry.phase == Phase::Idle {
            return entry.is_fresh(now()).then(|| entry.shared.clone());
        }
        entry.is_asked = true;
        Some(entry.shared.clone())
    }

    /// Asks for an answer: a request, which [`Engine::enqueue`] takes, if it is not fresh, or
    /// `anyway`; never two for one.
    pub(super) fn ask(
        &mut self,
        shared: impl FnOnce() -> Arc<SharedState>,
        key: &AnswerKey,
        (now, anyway, asker): (Moment, bool, Asker),
        (reload_every, page): (Option<u32>, Option<u32>),
    ) -> (Arc<SharedState>, Option<u64>) {
        let entry = self.answers.entry(key.clone());
        let entry = entry.or_insert_with(|| Box::new(Entry::of(shared(), reload_every)));
        entry.page = page.unwrap_or(entry.page);
        match asker {
            Asker::Holder => entry.wanted += 1,
            Asker::Once => entry.is_asked = true,
            // They have let it go meanwhile.
            Asker::Again if entry.wanted == 0 => return (entry.shared.clone(), None),
            Asker::Again => {}
        }
        let shared = entry.shared.clone();
        let is_due = !entry.is_fresh(now.now) || (anyway && !entry.is_immutable);
        match entry.phase {
            // Who asks for it again does not want to wait any longer.
            Phase::Waiting(call) if anyway => {
                entry.phase = Phase::Queued(call);
                self.set_timer(key, None);
                self.queue.push_back(call);
                (shared, None)
            }
            Phase::Idle if is_due => {
                self.last += 1;
                let call = self.last;
                self.calls.insert(call, CallEntry { key: key.clone(), unwanted: None });
                entry.phase = Phase::Queued(call);
                entry.is_noted = false;
                entry.tries = 1;
                let under_way = UnderWay { is_first: entry.here.is_none(), tries: 1 };
                let _nobody = entry.shared.change(|state| state.under_way = Some(under_way));
                self.set_timer(key, None);
                (shared, Some(call))
            }
            _ => {
                self.plan_revalidation(key, now);
                (shared, None)
            }
        }
    }

    /// Somebody no longer holds an answer as wanted; returns whether its request is taken back,
    /// which was not made yet and which nobody else wants.
    pub(super) fn release(&mut self, key: &AnswerKey) -> (Wakers, Option<u64>) {
        let none = (Wakers::default(), None);
        let Some(entry) = self.answers.get_mut(key) else { return none };
        entry.wanted = entry.wanted.saturating_sub(1);
        if entry.wanted > 0 {
            return none;
        }
        match entry.phase {
            Phase::Queued(call) | Phase::Waiting(call) if !entry.is_asked => {
                (self.cancel(call), Some(call))
            }
            Phase::Idle => {
                self.set_timer(key, None);
                none
            }
            _ => none,
        }
    }

    /// Lets a request wait for its turn, whose answer has a row by that commit.
    pub(super) fn enqueue(&mut self, call: u64, commit: u64) {
        self.queue.push_back(call);
        let key = self.calls.get(&call).map(|call| &call.key);
        if let Some(entry) = key.and_then(|key| self.answers.get_mut(key)) {
            (entry.is_noted, entry.noted_by) = (true, commit);
        }
    }

    /// Whether an answer has a row, or had one that was deleted.
    pub(super) fn is_noted(&self, key: &AnswerKey) -> bool {
        self.answers.get(key).is_some_and(|entry| entry.is_noted)
    }

    /// Forgets an answer whose row a commit has deleted, unless it was asked for again since, and has
    /// another row or will have one.
    pub(super) fn forget_before(&mut self, key: &AnswerKey, commit: u64) -> Wakers {
        let known = self.find(key).and_then(|key| self.answers.get(&key));
        match known.is_some_and(|entry| !entry.is_noted || entry.noted_by >= commit) {
            true => Wakers::default(),
            false => self.forget(key),
        }
    }

    /// Whether the caller is to start what is due, one [`Engine::next`] after the other: not if a
    /// thread does already, which may be this one, as when a transport answers at once.
    pub(super) fn drive(&mut self) -> bool {
        !std::mem::replace(&mut self.is_driven, true)
    }

    pub(super) fn is_online(&self) -> bool {
        self.is_online
    }

    /// A number for a call that is no answer's.
    pub(super) fn new_call(&mut self) -> u64 {
        self.last += 1;
        self.last
    }

    pub(super) fn random_number(&mut self) -> u64 {
        self.random.u64(..)
    }

    /// No request begins before this.
    pub(super) fn pause(&mut self, until: Duration) {
        self.paused_until = self.paused_until.max(Some(until));
    }

    /// Whether a request may begin now.
    pub(super) fn may_begin(&self, ticks: Duration) -> bool {
        self.is_online && self.paused_until.is_none_or(|until| until <= ticks)
    }

    /// The next request that may begin. `None` ends the turn of the thread that drives.
    pub(super) fn next(&mut self, ticks: Duration) -> Option<DueRequest> {
        let is_paused = self.paused_until.is_some_and(|until| ticks < until);
        while self.is_online && !is_paused && self.under_way < self.limits.at_a_time {
            let Some(call) = self.queue.pop_front() else { break };
            let Some(CallEntry { key, .. }) = self.calls.get(&call) else { continue };
            let key = key.clone();
            let Some(entry) = self.answers.get_mut(&key) else { continue };
            entry.phase = Phase::Sent(call);
            self.under_way += 1;
            let validators = entry.validators.as_ref().filter(|_| entry.is_selected).cloned();
            let due = ticks.saturating_add(self.limits.time_out);
            self.set_timer(&key, Some(due));
            return Some(DueRequest { call, key, validators });
        }
        self.is_driven = false;
        None
    }

    /// Takes back a request that was not made.
    pub(super) fn cancel(&mut self, call: u64) -> Wakers {
        let Some(ended) = self.calls.remove(&call) else { return Wakers::default() };
        let Some(entry) = self.answers.get_mut(&ended.key) else { return Wakers::default() };
        entry.phase = Phase::Idle;
        entry.is_asked = false;
        entry.is_noted |= entry.here.is_some();
        let wakers = entry.shared.change(|state| state.under_way = None);
        self.set_timer(&ended.key, None);
        wakers
    }

    /// Forgets the answer that a call is for, unless that was forgotten, and asked for again, since.
    pub(super) fn forget_call(&mut self, call: u64) -> Wakers {
        let key = self.calls.get(&call).map(|call| call.key.clone());
        key.map_or(Wakers::default(), |key| self.forget(&key))
    }

    /// Forgets an answer, and what is under way for it.
    pub(super) fn forget(&mut self, key: &AnswerKey) -> Wakers {
        let Some(key) = self.find(key) else { return Wakers::default() };
        self.set_timer(&key, None);
        self.behind.remove(&key);
        let Some(entry) = self.answers.remove(&key) else { return Wakers::default() };
        let mut wakers = entry.shared.show(AnswerState::default());
        if let Some(ended) = entry.phase.call().and_then(|call| self.calls.remove(&call)) {
            wakers.0.extend(ended.unwanted);
            self.under_way -= usize::from(matches!(entry.phase, Phase::Sent(_)));
        }
        if entry.wanted > 0 {
            // Those who hold it go on to want it, and have to be counted when they let it go.
            let mut again = Entry::of(entry.shared, entry.reload_every);
            again.wanted = entry.wanted;
            self.answers.insert(key, Box::new(again));
        }
        wakers
    }

    /// The key that a row's key is of, in which secret values are covered.
    fn find(&self, of_row: &AnswerKey) -> Option<AnswerKey> {
        let same = self.answers.get_key_value(of_row).map(|(key, _)| key);
        let same = same.filter(|key| key.shown() == of_row.shown());
        let shown = || {
            let is_shown =
                |key: &&AnswerKey| key.shown() == of_row.shown() && key.rule() == of_row.rule();
            self.answers.keys().find(is_shown)
        };
        same.or_else(shown).cloned()
    }

    /// Whether the answer to a request is still wanted.
    pub(super) fn is_wanted(&self, call: u64) -> bool {
        self.calls.contains_key(&call)
    }

    /// Wakes a task once a request is no longer wanted; returns whether it is.
    pub(super) fn wake_if_unwanted(&mut self, call: u64, waker: &Waker) -> bool {
        let Some(entry) = self.calls.get_mut(&call) else { return false };
        if entry.unwanted.as_ref().is_none_or(|known| !known.will_wake(waker)) {
            entry.unwanted = Some(waker.clone());
        }
        true
    }

    /// The answer that a call is for, while it is under way.
    pub(super) fn of_call(&self, call: u64) -> Option<(AnswerKey, Option<Json>)> {
        let key = &self.calls.get(&call)?.key;
        let entry = self.answers.get(key)?;
        Some((key.clone(), entry.validators.clone()))
    }

    /// What is known of an answer, and the request for it.
    pub(super) fn known(&self, key: &AnswerKey) -> Option<KnownAnswer> {
        let entry = self.answers.get(key)?;
        Some(KnownAnswer {
            state: entry.shared.state(),
            call: entry.phase.call(),
            validators: entry.validators.clone(),
            no_store: entry.no_store,
            next: entry.next.clone(),
            page: entry.page,
        })
    }

    /// What follows a page, as the server says it, and which part of its list the page is.
    pub(super) fn page_of(&self, key: &AnswerKey) -> (Option<Box<str>>, u32) {
        self.answers.get(key).map_or((None, 0), |entry| (entry.next.clone(), entry.page))
    }

    /// The pages that are to be asked for again once this one has come, if it is asked for since
    /// the one before it has changed.
    pub(super) fn behind(&self, key: &AnswerKey) -> Option<Vec<AnswerKey>> {
        self.behind.get(key).cloned()
    }

    pub(super) fn set_behind(&mut self, key: &AnswerKey, behind: Vec<AnswerKey>) {
        self.behind.insert(key.clone(), behind);
    }

    /// Whether what is here of an answer must not be stored.
    pub(super) fn is_unstored(&self, key: &AnswerKey) -> bool {
        self.answers.get(key).is_some_and(|entry| entry.no_store)
    }

    /// The answers of which something was heard after a commit; all, if that was in another run.
    pub(super) fn heard_since(&self, commit: u64) -> HashSet<AnswerKey> {
        let heard = self.answers.iter().filter(|(_, entry)| commit == 0 || entry.heard > commit);
        heard.map(|(key, _)| key.clone()).collect()
    }

    /// The commit that an answer came by.
    pub(super) fn came(&self, key: &AnswerKey) -> u64 {
        self.answers.get(key).map_or(0, |entry| entry.came)
    }

    pub(super) fn is_here(&self, key: &AnswerKey) -> bool {
        self.answers.get(key).is_some_and(|entry| entry.here.is_some())
    }

    pub(super) fn shared(&self, key: &AnswerKey) -> Option<Arc<SharedState>> {
        self.answers.get(key).map(|entry| entry.shared.clone())
    }

    /// The remote is dropped: returns the tasks that wait, and the answers that were under way.
    pub(super) fn end(&mut self) -> (Wakers, Vec<AnswerKey>) {
        let (mut wakers, mut busy) = (Wakers::default(), Vec::new());
        for (_, ended) in std::mem::take(&mut self.calls) {
            wakers.0.extend(ended.unwanted);
            let Some(entry) = self.answers.get_mut(&ended.key) else { continue };
            entry.phase = Phase::Idle;
            let failure = Failure::new(FailureKind::Network, "the remote was dropped");
            wakers.extend(entry.shared.fail(failure, None));
            busy.push(ended.key);
        }
        (wakers, busy)
    }

    /// What will be known of a call's answer once this outcome is settled: for the commit that
    /// writes its rows.
    pub(super) fn would_be(arrival: &Arrival) -> KnownAnswer {
        KnownAnswer {
            state: AnswerState { here: Some(arrival.here), ..AnswerState::default() },
            call: None,
            validators: arrival.validators.clone(),
            no_store: arrival.freshness.no_store,
            next: arrival.next.clone(),
            page: arrival.page,
        }
    }

    /// Ends a call, or one try of it; returns the key of its answer.
    pub(super) fn settle(
        &mut self,
        call: u64,
        outcome: CallOutcome,
        at: Moment,
    ) -> Option<(AnswerKey, Wakers)> {
        let ended = self.calls.remove(&call)?;
        if self.calls.len() < self.calls.capacity() / 8 {
            self.calls.shrink_to(2 * self.calls.len());
            self.queue.shrink_to(2 * self.queue.len());
        }
        let (key, mut wakers) = (ended.key, Wakers(ended.unwanted.into_iter().collect()));
        let entry = self.answers.get_mut(&key)?;
        self.under_way -= usize::from(matches!(entry.phase, Phase::Sent(_)));
        entry.phase = Phase::Idle;
        let (mut timer, mut has_come) = (None, false);
        match outcome {
            CallOutcome::Came(arrival) => {
                has_come = true;
                (entry.failures, entry.is_asked) = (0, false);
                self.behind.remove(&key);
                let state = AnswerState { here: Some(arrival.here), ..AnswerState::default() };
                entry.take(arrival);
                wakers.extend(entry.shared.show(state));
            }
            CallOutcome::Failed(mut failure) => {
                entry.failures += 1;
                let (failures, tries) = (entry.failures, entry.tries);
                if failure.is_passing() {
                    let delay = self.delay(failures, failure.retry_after);
                    let due = at.ticks.saturating_add(delay);
                    if failure.status == Some(429) && failure.retry_after.is_some() {
                        self.pause(due);
                    }
                    failure.again_at = Some(later(at.now, delay));
                    timer = Some(due);
                }
                let entry = self.answers.get_mut(&key)?;
                // While there is no network, tries are not counted: it waits for it.
                let has_tries = tries < self.limits.tries || !self.is_online;
                let is_wanted = entry.wanted > 0 || entry.is_asked;
                if timer.is_some() && has_tries && is_wanted {
                    self.last += 1;
                    entry.phase = Phase::Waiting(self.last);
                    entry.tries += u32::from(self.is_online);
                    let again = CallEntry { key: key.clone(), unwanted: None };
                    self.calls.insert(self.last, again);
                    let under_way = UnderWay { is_first: entry.here.is_none(), tries: entry.tries };
                    wakers.extend(entry.shared.fail(failure, Some(under_way)));
                } else {
                    entry.is_asked = false;
                    // One that is wanted is tried once more after a while.
                    let every = entry.reload_every.map(|every| Duration::from_secs(every.into()));
                    let every = every.map(|every| at.ticks.saturating_add(every));
                    timer = timer.or(every).filter(|_| entry.wanted > 0);
                    if timer.is_none() {
                        failure.again_at =
                            failure.again_at.filter(|_| failure.retry_after.is_some());
                    }
                    wakers.extend(entry.shared.fail(failure, None));
                }
            }
            CallOutcome::OtherRepresentation => {
                entry.validators = None;
                self.last += 1;
                entry.phase = Phase::Queued(self.last);
                self.calls.insert(self.last, CallEntry { key: key.clone(), unwanted: None });
                self.queue.push_front(self.last);
            }
        }
        self.set_timer(&key, timer);
        if has_come {
            self.plan_revalidation(&key, at);
        }
        Some((key, wakers))
    }

    /// What is due by now. Requests whose time for another try has come are queued.
    pub(super) fn wake(&mut self, at: Moment) -> DueWork {
        let mut work = DueWork::default();
        if self.paused_until.is_some_and(|until| until <= at.ticks) {
            self.paused_until = None;
        }
        while let Some((due, _)) = self.timers.first()
            && *due <= at.ticks
        {
            let Some((_, TimerKey(_, key))) = self.timers.pop_first() else { break };
            let Some(entry) = self.answers.get_mut(&key) else { continue };
            entry.timer = None;
            match entry.phase {
                Phase::Sent(call) => work.timed_out.push(call),
                Phase::Waiting(call) if self.is_online => {
                    entry.phase = Phase::Queued(call);
                    self.queue.push_back(call);
                }
                Phase::Idle if entry.wanted > 0 => {
                    let every = entry.reload_every.map(|every| Duration::from_secs(every.into()));
                    let anyway = entry.here.zip(every).is_some_and(|(here, every)| {
                        later(here.since, every) <= at.now || here.since > at.now
                    });
                    match anyway || !entry.is_fresh(at.now) {
                        true => work.asks.push((key, anyway)),
                        // The clock was set back.
                        false => self.plan_revalidation(&key, at),
                    }
                }
                _ => {}
            }
        }
        work
    }

    /// When [`Engine::wake`] has something to do next; `waits` says whether something else waits for
    /// its turn.
    pub(super) fn next_wake(&self, waits: bool) -> Option<Duration> {
        let first = self.timers.first().map(|(due, _)| *due);
        let paused = self.paused_until.filter(|_| waits || !self.queue.is_empty());
        first.into_iter().chain(paused).min()
    }

    /// Says whether there is a network. Without one no request is made.
    pub(super) fn set_online(&mut self, is_online: bool, at: Moment) -> DueWork {
        let was = std::mem::replace(&mut self.is_online, is_online);
        match is_online && !was {
            true => self.resume(at),
            false => DueWork::default(),
        }
    }

    /// What waits for another try has it now, and what is wanted and stale is asked for.
    pub(super) fn resume(&mut self, at: Moment) -> DueWork {
        let mut work = DueWork::default();
        let keys: Vec<AnswerKey> = self.answers.keys().cloned().collect();
        for key in keys {
            let Some(entry) = self.answers.get_mut(&key) else { continue };
            match entry.phase {
                Phase::Waiting(call) => {
                    entry.phase = Phase::Queued(call);
                    self.queue.push_back(call);
                    self.set_timer(&key, None);
                }
                Phase::Idle if entry.wanted > 0 && !entry.is_fresh(at.now) => {
                    work.asks.push((key, false));
                }
                _ => {}
            }
        }
        work
    }

    /// Makes answers stale; returns those that are asked for again because they are wanted.
    pub(super) fn make_stale(
        &mut self,
        now: Timestamp,
        is_meant: impl Fn(&AnswerKey) -> bool,
    ) -> (Vec<AnswerKey>, Vec<AnswerKey>) {
        let (mut stale, mut wanted) = (Vec::new(), Vec::new());
        for (key, entry) in &mut self.answers {
            if entry.here.is_none() || !is_meant(key) {
                continue;
            }
            entry.grow_stale(now);
            stale.push(key.clone());
            if entry.wanted > 0 {
                wanted.push(key.clone());
            }
        }
        (stale, wanted)
    }

    /// Makes an answer stale of which rows are gone, and forgets by what it could be validated: that
    /// it has not changed would not bring them back.
    pub(super) fn doubt(&mut self, key: &AnswerKey, now: Timestamp) {
        let Some(entry) = self.answers.get_mut(key) else { return };
        entry.validators = None;
        entry.grow_stale(now);
    }

    /// Notes that what was asked of some tables before a commit may be answered as of an earlier time
    /// than is known here.
    pub(super) fn overtake(&mut self, tables: impl Iterator<Item = TableNo>, commit: u64) {
        self.overtaken.extend(tables.map(|table| (table, commit)));
    }

    /// Whether an answer that was asked for after a commit may be of such an earlier time.
    pub(super) fn is_overtaken(
        &self,
        began: u64,
        tables: impl FnOnce() -> BTreeSet<TableNo>,
    ) -> bool {
        // Most programs send little.
        if self.overtaken.values().all(|commit| began >= *commit) {
            return false;
        }
        let later = |table: &TableNo| self.overtaken.get(table).is_some_and(|at| began < *at);
        tables().iter().any(later)
    }

    /// The remote's own header fields are others: which answers are chosen by them?
    pub(super) fn select(&mut self, fields: &http::HeaderMap) -> Vec<AnswerKey> {
        let mut wanted = Vec::new();
        for (key, entry) in &mut self.answers {
            let Some(validators) = entry.validators.as_ref().and_then(read) else { continue };
            entry.is_selected = validators.is_selected_by(fields);
            if !entry.is_selected && entry.wanted > 0 {
                wanted.push(key.clone());
            }
        }
        wanted
    }

    /// An answer that is wanted is asked for when it grows stale.
    fn plan_revalidation(&mut self, key: &AnswerKey, at: Moment) {
        let Some(entry) = self.answers.get(key) else { return };
        let (true, Phase::Idle, Some(here)) = (entry.wanted > 0, entry.phase, entry.here) else {
            return;
        };
        let every = entry.reload_every.map(|every| Duration::from_secs(every.into()));
        let by_rule = every.map(|every| later(here.since, every));
        let stale = (!entry.is_fleeting).then_some(here.fresh_until);
        let Some(when) = stale.into_iter().chain(by_rule).min() else { return };
        let rest = when.as_micros().saturating_sub(at.now.as_micros()).max(0);
        // What is stale already has been asked for; if the answer was late, not at once again.
        let rest = Duration::from_micros(rest.unsigned_abs()).max(LEAST_REVALIDATION);
        self.set_timer(key, Some(at.ticks.saturating_add(rest)));
    }

    fn set_timer(&mut self, key: &AnswerKey, due: Option<Duration>) {
        let Some(entry) = self.answers.get_mut(key) else { return };
        let place = Arc::as_ptr(&entry.shared) as usize;
        if let Some(old) = entry.timer.take() {
            self.timers.remove(&(old, TimerKey(place, key.clone())));
        }
        if let Some(due) = due {
            entry.timer = Some(due);
            self.timers.insert((due, TimerKey(place, key.clone())));
        }
    }

    /// How long to wait before another try: twice as long each time, with jitter, and not less than
    /// the server asks for (RFC 9110, section 10.2.3).
    pub(super) fn delay(&mut self, failures: u32, retry_after: Option<Duration>) -> Duration {
        let (least, most) = self.limits.back_off;
        let full = least.saturating_mul(1 << failures.saturating_sub(1).min(16)).min(most);
        let jitter = self.random.f64();
        let delay = match retry_after.map(|asked| asked.min(LONGEST_WAIT)) {
            Some(asked) if asked >= full / 2 => asked + full.mul_f64(jitter / 10.0),
            _ => full / 2 + (full / 2).mul_f64(jitter),
        };
        // A time of day has microseconds.
        Duration::from_micros(u64::try_from(delay.as_micros()).unwrap_or(u64::MAX))
    }
}

impl Entry {
    fn grow_stale(&mut self, now: Timestamp) {
        self.is_immutable = false;
        if let Some(here) = &mut self.here {
            here.fresh_until = here.fresh_until.min(now);
        }
        let _nobody = self.shared.change(|state| state.here = self.here);
    }

    fn take(&mut self, arrival: Arrival) {
        let Arrival { here, freshness, validators, next, page, is_doubtful, .. } = arrival;
        (self.came, self.heard) = (arrival.commit, arrival.after);
        self.page = page;
        self.here = Some(here);
        self.is_immutable = freshness.is_immutable;
        // One that is in doubt is asked for again, however long it may be used.
        self.is_fleeting = freshness.lifetime == 0 && !is_doubtful;
        self.is_selected = true;
        self.validators = validators;
        self.no_store = freshness.no_store;
        self.next = next;
    }
}

/// What is known of an answer, for its row.
pub(super) struct KnownAnswer {
    pub(super) state: AnswerState,
    pub(super) call: Option<u64>,
    pub(super) validators: Option<Json>,
    pub(super) no_store: bool,
    pub(super) next: Option<Box<str>>,
    pub(super) page: u32,
}

impl Failure {
    /// Whether the same request may go well a little later: RFC 9110, section 9.2.2, for requests
    /// that are safe.
    pub(super) fn is_passing(&self) -> bool {
        match self.kind {
            FailureKind::Network | FailureKind::TimeOut => !self.is_final,
            FailureKind::Status => {
                matches!(self.status, Some(408 | 425 | 429 | 500 | 502 | 503 | 504))
            }
            FailureKind::Unreadable => false,
        }
    }
}

pub(super) fn later(time: Timestamp, by: Duration) -> Timestamp {
    let micros = i64::try_from(by.as_micros()).unwrap_or(i64::MAX);
    Timestamp::nearest(time.as_micros().saturating_add(micros))
}
