//! Asks for exactly what a query reads and the cache lacks.

use std::collections::{HashMap, HashSet};
use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError, Weak};
use std::task::{Context, Poll, Waker};
use std::time::{Duration, Instant};

use super::answer::{Answer, AnswerRow, Failure, Wanted};
use super::cover::{Cover, Covered, Covering, FillPlan, MOST_SCOPES, Presence};
use super::engine::Asker;
use super::inner::RemoteInner;
use super::key::AnswerKey;
use crate::cache::Cache;
use crate::error::Result;
use crate::query::{Outcome, Query};
use crate::schema::{Rule, TableNo};
use crate::trace::Report;
use crate::typed::Found;
use crate::value::RowId;

/// How far the answers have come that a query needs; see [`Remote::fill`](super::Remote::fill).
///
/// See [`Remote::fill`](super::Remote::fill) for an example.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct FillState {
    /// Whether answers cover all that the query reads.
    pub is_whole: bool,
    /// How many of its answers are under way.
    pub under_way: usize,
    /// How requests failed, with what they were for.
    pub failed: Vec<(String, Failure)>,
    /// What no rule can bring, in words.
    pub impossible: Vec<String>,
}

/// A handle on the filling of a query's result. Clones are of the same one.
///
/// See [`Remote::fill`](super::Remote::fill) for an example.
#[derive(Clone)]
pub struct Fill(Arc<FillInner>);

/// Keeps a query's result filled for as long as it is held.
///
/// It can be used wherever a [`Fill`] can. See
/// [`Remote::keep_filled`](super::Remote::keep_filled) for an example.
#[must_use = "the result is kept filled for as long as it is held"]
pub struct KeptFilled {
    fill: Fill,
    remote: Arc<RemoteInner>,
}

pub(super) struct FillInner {
    query: Query,
    remote: Weak<RemoteInner>,
    /// Whether it goes on when all is here.
    is_kept: bool,
    work: Mutex<Work>,
    now: Mutex<FillNow>,
    settled: Condvar,
}

/// What is known, and who waits for more.
#[derive(Default)]
struct FillNow {
    state: FillState,
    /// Whether it is about to be looked at anew, so that the state says nothing yet.
    is_pending: bool,
    wakers: Vec<Waker>,
}

impl FillNow {
    fn is_settled(&self) -> bool {
        !self.is_pending && self.state.under_way == 0
    }

    fn state(&self) -> FillState {
        let is_whole = self.state.is_whole && !self.is_pending;
        FillState { is_whole, ..self.state.clone() }
    }
}

#[derive(Default)]
struct Work {
    /// What was asked for: each once.
    asked: HashSet<AnswerKey>,
    /// What was asked for again since rows of it were deleted after that commit.
    reloaded: HashSet<(AnswerKey, u64)>,
    /// The answers that cover what is read, with the reason.
    needed: Vec<(AnswerKey, String)>,
    /// How many of them were under way when it was last looked at what is needed.
    were_under_way: usize,
    /// The answers that are kept fresh.
    wanted: HashMap<AnswerKey, Wanted>,
    /// Of which result it was last looked at what it needs.
    result: u64,
    /// Whether a thread is looking at what is needed, and has to look once more.
    is_checked: bool,
    again: bool,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl RemoteInner {
    pub(super) fn fill(self: &Arc<Self>, query: &Query, is_kept: bool) -> Result<Fill> {
        // One that is not done yet serves all who want it.
        let same = |known: &&Arc<FillInner>| !known.is_kept && known.query == *query;
        let known = self.fills().iter().find(same).filter(|_| !is_kept).cloned();
        if let Some(known) = known {
            known.check();
            return Ok(Fill(known));
        }
        let fill = Arc::new(FillInner {
            query: query.clone(),
            remote: Arc::downgrade(self),
            is_kept,
            work: Mutex::default(),
            now: Mutex::default(),
            settled: Condvar::new(),
        });
        // An error that a reader would get is the caller's.
        self.cover(query)?;
        self.fills().push(fill.clone());
        fill.check();
        Ok(Fill(fill))
    }

    fn cover(&self, query: &Query) -> Result<Cover> {
        let (scopes, state) = query.reads(MOST_SCOPES)?;
        let schema = self.schema();
        let key = |rule: &Rule, variables: Vec<(String, String)>| {
            self.key(&rule.name, variables, &rule.asking.secret)
        };
        let presence = |key: &AnswerKey| self.presence(key);
        let is_deleted = |key: &AnswerKey, table: TableNo, id: &RowId| {
            let Ok(Some(slot)) = state.slot(table, id) else { return false };
            let came = self.engine().came(key);
            self.cache().history().since(came).has_changed(&state, table, slot)
        };
        let (schema, state) = (&schema, &*state);
        let (key, presence, is_deleted) = (&key, &presence, &is_deleted);
        let covering = Covering { schema, state, key, presence, is_deleted };
        Ok(covering.cover(&scopes))
    }

    fn presence(&self, key: &AnswerKey) -> Presence {
        let shared = self.engine().shared(key);
        let Some(state) = shared.map(|shared| shared.state()) else { return Presence::Unknown };
        match (state.here, state.failed.and_then(|failed| failed.status)) {
            (Some(_), _) => Presence::Here,
            (None, Some(404 | 410)) => Presence::Absent,
            _ => Presence::Unknown,
        }
    }

    /// An answer has come or failed: those who need it look again.
    pub(super) fn check_fills(&self, key: &AnswerKey) {
        let fills: Vec<Arc<FillInner>> = self.fills().clone();
        for fill in fills {
            let is_asked = lock(&fill.work).asked.contains(key);
            if is_asked {
                fill.hear(self);
            }
        }
    }

    fn forget_fill(&self, fill: &FillInner) {
        self.fills().retain(|known| !std::ptr::eq(&**known, fill));
    }

    /// A commit has changed what a query reads, or its parameters.
    pub(super) fn follow_fills(&self, report: &Report) {
        if self.fills().is_empty() {
            return;
        }
        let fills: Vec<Arc<FillInner>> = self.fills().clone();
        for fill in fills.iter().filter(|fill| fill.is_kept) {
            if report.outcome(&fill.query) != Outcome::Untouched {
                fill.check();
            }
        }
    }
}

impl FillInner {
    /// Asks for what is needed and was not asked for yet. One thread at a time does so, and once
    /// more if something has come meanwhile.
    fn check(&self) {
        let mut work = lock(&self.work);
        lock(&self.now).is_pending = true;
        if std::mem::replace(&mut work.is_checked, true) {
            work.again = true;
            return;
        }
        drop(work);
        loop {
            self.check_once();
            let mut work = lock(&self.work);
            if std::mem::take(&mut work.again) {
                continue;
            }
            work.is_checked = false;
            lock(&self.now).is_pending = false;
            drop(work);
            return self.tell();
        }
    }

    /// A watcher may not have been called yet of the commit that has moved the query.
    fn catch_up(&self) {
        let result = self.query.result_serial();
        let is_behind = result.is_ok_and(|result| result != lock(&self.work).result);
        if self.is_kept && is_behind {
            self.check();
        }
    }

    /// Wakes those who wait, if nothing is under way.
    fn tell(&self) {
        let mut now = lock(&self.now);
        if !now.is_settled() {
            return;
        }
        self.settled.notify_all();
        let wakers = std::mem::take(&mut now.wakers);
        drop(now);
        if let Some(remote) = self.remote.upgrade().filter(|_| !self.is_kept) {
            remote.forget_fill(self);
        }
        wakers.into_iter().for_each(Waker::wake);
    }

    fn check_once(&self) {
        let Some(remote) = self.remote.upgrade() else { return };
        if let Ok(result) = self.query.result_serial() {
            lock(&self.work).result = result;
        }
        let cover = match remote.cover(&self.query) {
            Ok(cover) => cover,
            Err(error) => {
                tracing::error!(%error, query = self.query.name(), "what it needs is not known");
                return;
            }
        };
        for Covered { key, presence, .. } in &cover.answers {
            // Once for each time that it came: it may fail.
            let is_incomplete = *presence == Presence::Incomplete
                && lock(&self.work).reloaded.insert((key.clone(), remote.engine().came(key)));
            let is_new = lock(&self.work).asked.insert(key.clone());
            let is_held = lock(&self.work).wanted.contains_key(key);
            let asker = match self.is_kept {
                true if !is_held => Asker::Holder,
                false if is_new => Asker::Once,
                _ if is_incomplete => Asker::Once,
                _ => continue,
            };
            if is_incomplete {
                let now = remote.clock.now();
                remote.engine().doubt(key, now);
            }
            match remote.ask_key(key, (false, asker), None) {
                Ok(shared) if asker == Asker::Holder => {
                    let wanted = Wanted::new(Answer::of(shared), remote.clone());
                    lock(&self.work).wanted.insert(key.clone(), wanted);
                }
                Ok(_) => {}
                Err(error) => {
                    tracing::error!(%error, answer = key.words(), "it cannot be asked for");
                }
            }
        }
        // What is no longer needed, as after a rebind, is let go without a lock.
        let is_needed = |key: &AnswerKey| cover.answers.iter().any(|covered| covered.key == *key);
        let mut work = lock(&self.work);
        let gone: Vec<AnswerKey> =
            work.wanted.keys().filter(|key| !is_needed(key)).cloned().collect();
        let gone: Vec<Option<Wanted>> = gone.iter().map(|key| work.wanted.remove(key)).collect();
        drop(work);
        drop(gone);
        let needed = cover.answers.into_iter().map(|covered| (covered.key, covered.why)).collect();
        let mut work = lock(&self.work);
        work.needed = needed;
        drop(work);
        let (is_whole, impossible) = (cover.is_whole, cover.impossible);
        let state = FillState { is_whole, impossible, ..FillState::default() };
        let under_way = self.show(&remote, state);
        lock(&self.work).were_under_way = under_way;
    }

    /// One of its answers has come or failed. What is needed is looked at again once half of what was
    /// under way has, so that many answers do not make it look many times.
    fn hear(&self, remote: &RemoteInner) {
        let state = FillState { failed: Vec::new(), ..lock(&self.now).state.clone() };
        let were = lock(&self.work).were_under_way;
        if self.count(remote) * 2 <= were {
            return self.check();
        }
        self.show(remote, state);
        self.tell();
    }

    fn count(&self, remote: &RemoteInner) -> usize {
        let work = lock(&self.work);
        let engine = remote.engine();
        work.needed.iter().filter(|(key, _)| engine.is_under_way(key)).count()
    }

    /// Shows how far its answers are; returns how many are under way.
    fn show(&self, remote: &RemoteInner, mut state: FillState) -> usize {
        let needed = lock(&self.work).needed.clone();
        state.under_way = 0;
        for (key, why) in needed {
            let known = remote.engine().shared(&key).map(|shared| shared.state());
            let Some(known) = known else { continue };
            state.under_way += usize::from(known.under_way.is_some());
            if let (None, Some(failed)) = (known.under_way, known.failed) {
                state.failed.push((why, failed));
            }
        }
        let under_way = state.under_way;
        lock(&self.now).state = state;
        under_way
    }
}

impl Fill {
    /// How far it is.
    ///
    /// See [`Remote::fill`](super::Remote::fill) for an example.
    pub fn state(&self) -> FillState {
        self.0.catch_up();
        lock(&self.0.now).state()
    }

    /// Waits until nothing that it needs is under way, as a future of any runtime.
    ///
    /// See [`Answer::settled`], which is the same for one answer.
    pub fn settled(&self) -> FillSettled {
        FillSettled(self.clone())
    }

    /// Waits on this thread until nothing that it needs is under way, or for that long.
    ///
    /// See [`Answer::wait`], which is the same for one answer.
    pub fn wait(&self, limit: Duration) -> FillState {
        self.0.catch_up();
        let end = Instant::now().checked_add(limit);
        let mut now = lock(&self.0.now);
        while !now.is_settled() {
            let rest = end.map(|end| end.saturating_duration_since(Instant::now()));
            if rest.is_some_and(|rest| rest.is_zero()) {
                break;
            }
            let rest = rest.unwrap_or(Duration::from_secs(3600));
            now = self.0.settled.wait_timeout(now, rest).unwrap_or_else(PoisonError::into_inner).0;
        }
        now.state()
    }
}

impl KeptFilled {
    pub(super) fn new(fill: Fill, remote: Arc<RemoteInner>) -> Self {
        Self { fill, remote }
    }
}

impl Drop for KeptFilled {
    fn drop(&mut self) {
        self.remote.forget_fill(&self.fill.0);
        let wanted = std::mem::take(&mut lock(&self.fill.0.work).wanted);
        drop(wanted);
    }
}

impl std::ops::Deref for KeptFilled {
    type Target = Fill;

    fn deref(&self) -> &Fill {
        &self.fill
    }
}

impl fmt::Debug for Fill {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Fill").field(&self.state()).finish()
    }
}

impl fmt::Debug for KeptFilled {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("KeptFilled").field(&self.fill.state()).finish()
    }
}

/// The future of [`Fill::settled`].
#[derive(Debug)]
#[must_use = "it waits when it is awaited"]
pub struct FillSettled(Fill);

impl Future for FillSettled {
    type Output = FillState;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<FillState> {
        self.0.0.catch_up();
        let mut now = lock(&self.0.0.now);
        if now.is_settled() {
            return Poll::Ready(now.state());
        }
        if !now.wakers.iter().any(|waker| waker.will_wake(context.waker())) {
            now.wakers.push(context.waker().clone());
        }
        Poll::Pending
    }
}

/// The requests that would make a query's result whole, and why; nothing is asked for. The answers
/// that are here are those that the cache has rows of, as in a file that is only looked at.
///
/// # Errors
/// As a read of the query.
///
/// ```
/// use backwater::{Cache, Schema, remote};
///
/// let cache = Cache::new(Schema::parse("backwater.toml", r#"
///     table.sailing = { id = "id", fields = { id = "int", vessel = { to = "vessel" } } }
///     table.vessel = { id = "id", fields = { id = "text", name = "text" } }
///     table.booking = { id = "id", fields = { id = "int", sailing = { to = "sailing" } } }
///
///     [response.sailing]
///     url = "/sailings/{id}"
///     table = "sailing"
///
///     [response.bookings]
///     url = "/sailings/{sailing}/bookings"
///     table = "booking"
///     fields = { sailing = ":sailing" }
///     complete = { sailing = ":sailing" }
/// "#)?);
/// let bookings = cache.query("SELECT id FROM booking WHERE sailing = :sailing", [("sailing", 311)])?;
/// let plan = remote::fill_plan(&cache, &bookings)?;
/// assert_eq!(plan.to_string(), "GET /sailings/311/bookings, by rule \"bookings\": rows of booking with sailing = 311 are read\n");
///
/// let vessels = cache.query("SELECT name FROM vessel", ())?;
/// assert_eq!(remote::fill_plan(&cache, &vessels)?.to_string(), "no rule brings it: all rows of vessel are read\n");
/// # Ok::<(), backwater::Error>(())
/// ```
pub fn fill_plan(cache: &Cache, query: &Query) -> Result<FillPlan> {
    let (scopes, state) = query.reads(MOST_SCOPES)?;
    let schema = cache.schema();
    let mut known: HashMap<AnswerKey, Presence> = HashMap::new();
    if schema.table_names().any(|name| name == AnswerRow::TABLE_NAME) {
        let snapshot = cache.snapshot();
        for row in snapshot.table::<AnswerRow>()?.iter().filter_map(Found::known) {
            known.extend(row.presence());
        }
    }
    let key = |rule: &Rule, variables: Vec<(String, String)>| {
        let mut variables: Vec<_> =
            variables.into_iter().map(|(name, value)| (name.into(), value.into())).collect();
        variables.sort();
        AnswerKey::new(&rule.name, variables.into(), &rule.asking.secret, |_| "secret".to_owned())
    };
    let presence = |key: &AnswerKey| known.get(key).copied().unwrap_or(Presence::Unknown);
    let is_deleted = |_: &AnswerKey, _: TableNo, _: &RowId| false;
    let (schema, state) = (&schema, &*state);
    let (key, presence, is_deleted) = (&key, &presence, &is_deleted);
    let covering = Covering { schema, state, key, presence, is_deleted };
    Ok(covering.cover(&scopes).plan(&covering, ""))
}
