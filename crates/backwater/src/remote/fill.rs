//! Asks for exactly what a query reads and the cache lacks.

use std::collections::{HashMap, HashSet};
use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use std::task::{Context, Poll};
use std::time::Duration;

use super::answer::{Answer, AnswerRow, Failure, Wanted};
use super::awaited::{Awaited, Settles};
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
    /// What is not asked for, and why: no rule brings it, or it is too much at once.
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
    now: Awaited<FillNow>,
}

/// What is known, and who waits for more.
#[derive(Default)]
struct FillNow {
    state: FillState,
    /// Whether it is about to be looked at anew, so that the state says nothing yet.
    is_pending: bool,
}

impl Settles for FillNow {
    fn is_settled(&self) -> bool {
        !self.is_pending && self.state.under_way == 0
    }
}

impl FillNow {
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
    /// Whether a thread is looking, and has to look once more.
    has_turn: bool,
    again: bool,
    /// Whether what is needed has to be looked at, however many answers are under way.
    is_due: bool,
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
            now: Awaited::default(),
        });
        // An error that a reader would get is the caller's.
        self.cover(query)?;
        self.keeps_fills.fetch_or(is_kept, Ordering::AcqRel);
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
                fill.hear();
            }
        }
    }

    /// Answers were forgotten.
    pub(super) fn hear_of_all(&self) {
        let fills: Vec<Arc<FillInner>> = self.fills().clone();
        fills.iter().for_each(|fill| fill.hear());
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
    /// Looks at what is needed, and asks for what was not asked for yet.
    fn check(&self) {
        let mut work = lock(&self.work);
        work.is_due = true;
        self.now.lock().is_pending = true;
        self.turn(work);
    }

    /// One of its answers has come, failed or been forgotten.
    fn hear(&self) {
        self.turn(lock(&self.work));
    }

    /// One thread at a time looks, and once more if something has come meanwhile: what it shows is
    /// never older than what another one has shown.
    fn turn<'w>(&'w self, mut work: MutexGuard<'w, Work>) {
        work.again = true;
        if std::mem::replace(&mut work.has_turn, true) {
            return;
        }
        while std::mem::take(&mut work.again) {
            let is_due = std::mem::take(&mut work.is_due);
            drop(work);
            if let Some(remote) = self.remote.upgrade() {
                // Of many answers half have to have come before what is needed is looked at anew.
                let under_way = self.show(&remote);
                if is_due || under_way * 2 <= lock(&self.work).were_under_way {
                    self.check_once(&remote);
                }
            }
            work = lock(&self.work);
        }
        work.has_turn = false;
        self.now.lock().is_pending = false;
        drop(work);
        self.tell();
    }

    /// The remote is dropped, or it is kept no longer: nothing is heard any more.
    pub(super) fn end(&self) {
        let mut now = self.now.lock();
        (now.state.under_way, now.is_pending) = (0, false);
        drop(now);
        self.tell();
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
        if !self.now.lock().is_settled() {
            return;
        }
        let wakers = self.now.tell();
        if let Some(remote) = self.remote.upgrade().filter(|_| !self.is_kept) {
            remote.forget_fill(self);
        }
        wakers.wake();
    }

    fn check_once(&self, remote: &Arc<RemoteInner>) {
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
        let needed = cover.answers.into_iter().map(|covered| (covered.key, covered.why));
        lock(&self.work).needed = needed.collect();
        let mut now = self.now.lock();
        (now.state.is_whole, now.state.impossible) = (cover.is_whole, cover.impossible);
        drop(now);
        let under_way = self.show(remote);
        lock(&self.work).were_under_way = under_way;
    }

    /// Shows how far its answers are; returns how many are under way.
    fn show(&self, remote: &RemoteInner) -> usize {
        let needed = lock(&self.work).needed.clone();
        let (mut under_way, mut failed) = (0, Vec::new());
        for (key, why) in needed {
            let known = remote.engine().shared(&key).map(|shared| shared.state());
            match known.map(|known| (known.under_way, known.failed)) {
                Some((Some(_), _)) => under_way += 1,
                Some((None, Some(failure))) => failed.push((why, failure)),
                _ => {}
            }
        }
        let mut now = self.now.lock();
        (now.state.under_way, now.state.failed) = (under_way, failed);
        under_way
    }
}

impl Fill {
    /// How far it is.
    ///
    /// See [`Remote::fill`](super::Remote::fill) for an example.
    pub fn state(&self) -> FillState {
        self.0.catch_up();
        self.0.now.lock().state()
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
        self.0.now.wait(limit, FillNow::state)
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
        // Clones of it hear nothing any more.
        self.fill.0.end();
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
        self.0.0.now.poll(context, FillNow::state)
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
/// assert_eq!(remote::fill_plan(&cache, &vessels)?.to_string(), "not asked for: all rows of vessel are read, which no rule brings\n");
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
