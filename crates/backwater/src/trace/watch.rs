//! Watchers: which callback hears of which query, derived value or commit.
//!
//! Reports wait in a queue in the order of their commits, and one thread at a time delivers them. A
//! watcher may commit: that commit is applied at once, and delivered in its turn.

use std::fmt;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};

use rustc_hash::FxHashMap;

use super::{ReachedQuery, Report};
use crate::caught::caught;
use crate::error::{Error, ErrorKind, Result};
use crate::query::{BindingNo, HandleNo, KeepCurrent, Outcome, Query, QueryResult};
use crate::sync::Queue;

type Callback = Box<dyn FnMut(&ReachedQuery<'_>) + Send>;
type CommitCallback = Box<dyn FnMut(&Report) + Send>;

/// All watchers of a cache.
#[derive(Default)]
pub(crate) struct Watchers {
    /// Emptied while the watchers of a binding are being called.
    by_binding: Mutex<FxHashMap<BindingNo, Vec<Watcher>>>,
    of_commits: Mutex<Arc<Vec<Arc<CommitWatcher>>>>,
    count: AtomicUsize,
    queue: Queue<Notice>,
    /// How many reports wait, or are being delivered.
    undelivered: AtomicUsize,
    on_panic: Option<PanicHandler>,
}

/// Hears of panics in watchers.
pub(crate) type PanicHandler = Arc<dyn Fn(&Error) + Send + Sync>;

/// What is to be delivered.
struct Notice {
    report: Report,
    /// A handle was rebound: which one, from where, to where.
    rebound: Option<HandleMove>,
}

/// A handle that moved from one binding to another.
#[derive(Clone, Copy)]
pub(crate) struct HandleMove {
    pub(crate) handle: HandleNo,
    pub(crate) from: BindingNo,
    pub(crate) to: BindingNo,
}

/// A watcher of a query. The delivering thread owns it while it calls it, so that no lock is
/// needed.
struct Watcher {
    callback: Callback,
    watched: Arc<Watched>,
}

/// What a watcher and its [`Watch`] both know.
struct Watched {
    handle: HandleNo,
    /// Under which binding it is found; written and read while these are locked.
    binding: Mutex<BindingNo>,
    /// The commit whose result it began with.
    from: OnceLock<u64>,
    ended: AtomicBool,
}

/// Which commits a watcher is to hear of.
pub(crate) type WantsCommit = Box<dyn Fn(&Report) -> bool + Send + Sync>;

/// A watcher of whole commits.
struct CommitWatcher {
    /// Mostly all.
    wants: Option<WantsCommit>,
    callback: Mutex<CommitCallback>,
    /// The last commit before it began.
    from: u64,
    ended: AtomicBool,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Watchers {
    pub(crate) fn new(on_panic: Option<PanicHandler>) -> Self {
        Self { on_panic, ..Self::default() }
    }

    /// Calls a watcher. A panic in it ends that call alone, and is reported.
    fn call(&self, what: &str, call: impl FnOnce()) {
        let Err(message) = caught(call) else { return };
        tracing::error!(watcher = what, panic = message, "a watcher has panicked");
        if let Some(on_panic) = &self.on_panic {
            let message = format!("a watcher has panicked: {message}");
            let error = Error::new(ErrorKind::Caller, message).at(what);
            drop(caught(|| on_panic(&error)));
        }
    }

    /// Adds a watcher of a query, which hears of the commits after the result that it begins with.
    pub(crate) fn add(
        self: &Arc<Self>,
        query: &Query,
        callback: Callback,
    ) -> Result<(QueryResult, Watch)> {
        let binding = query.node().number;
        let (from, ended) = (OnceLock::new(), AtomicBool::new(false));
        let (handle, known) = (query.handle(), Mutex::new(binding));
        let watched = Arc::new(Watched { handle, binding: known, from, ended });
        let watcher = Watcher { callback, watched: watched.clone() };
        // A delivery of a commit that is made meanwhile waits until it is known where this begins.
        let mut begins = Begins { watched: &watched, from: u64::MAX };
        lock(&self.by_binding).entry(binding).or_default().push(watcher);
        self.count.fetch_add(1, Ordering::AcqRel);
        let kept = query.subscribe();
        let read = query.read_as_of();
        begins.from = read.as_ref().map_or(u64::MAX, |(_, commit)| *commit);
        drop(begins);
        // From here on it ends as every watch ends, also if there is no result to begin with.
        let watch = QueryWatch { watchers: self.clone(), watched: watched.clone(), kept };
        Ok((read?.0, Watch(Watching::Query(watch))))
    }

    /// Adds a watcher that hears of the commits after that one.
    pub(crate) fn add_of_commits(
        self: &Arc<Self>,
        from: u64,
        wants: Option<WantsCommit>,
        callback: CommitCallback,
    ) -> Watch {
        let (callback, ended) = (Mutex::new(callback), AtomicBool::new(false));
        let watcher = Arc::new(CommitWatcher { wants, callback, from, ended });
        Arc::make_mut(&mut lock(&self.of_commits)).push(watcher.clone());
        self.count.fetch_add(1, Ordering::AcqRel);
        Watch(Watching::Commits(CommitWatch { watchers: self.clone(), watcher }))
    }

    /// Queues a commit's report for delivery. The caller keeps the order of commits.
    pub(crate) fn push(&self, report: &Report, rebound: Option<HandleMove>) {
        if self.count.load(Ordering::Acquire) > 0 {
            self.undelivered.fetch_add(1, Ordering::AcqRel);
            self.queue.push(Notice { report: report.clone(), rebound });
        }
    }

    /// Delivers what waits, unless another thread, or a caller further up on this one, does so.
    pub(crate) fn deliver(&self) {
        self.queue.deliver(|delivered| {
            match delivered.rebound {
                Some(rebound) => self.deliver_rebound(&delivered.report, rebound),
                None => self.deliver_one(&delivered.report),
            }
            let of_commits = lock(&self.of_commits).clone();
            of_commits.iter().for_each(|watcher| watcher.deliver(self, &delivered.report));
            self.undelivered.fetch_sub(1, Ordering::AcqRel);
        });
    }

    /// Whether watchers have yet to hear of a commit: another thread delivers, or this one does.
    #[cfg(feature = "remote")]
    pub(crate) fn has_undelivered(&self) -> bool {
        self.undelivered.load(Ordering::Acquire) > 0
    }

    fn deliver_one(&self, report: &Report) {
        for reached in report.reached().filter(is_news) {
            let binding = reached.reached.node.number;
            let known = lock(&self.by_binding).get_mut(&binding).map(std::mem::take);
            let Some(mut known) = known else { continue };
            known.iter_mut().for_each(|watcher| watcher.deliver(self, &reached));
            self.put_back(binding, known);
        }
    }

    /// Puts watchers back after they were called, less those that have ended meanwhile.
    fn put_back(&self, binding: BindingNo, mut delivered: Vec<Watcher>) {
        let mut by_binding = lock(&self.by_binding);
        let here = by_binding.entry(binding).or_default();
        // Those that were added meanwhile stand behind those that were there.
        delivered.append(here);
        let has_ended = |watcher: &Watcher| watcher.watched.ended.load(Ordering::Acquire);
        let mut gone = Vec::new();
        if delivered.iter().any(has_ended) {
            (gone, delivered) = delivered.into_iter().partition(has_ended);
        }
        *here = delivered;
        if here.is_empty() {
            by_binding.remove(&binding);
        }
        drop(by_binding);
        // What they hold may be a watch itself.
        drop(gone);
    }

    /// Delivers to the watchers of a handle how the result moved when it was rebound, and files
    /// them under its new binding.
    fn deliver_rebound(&self, report: &Report, rebound: HandleMove) {
        let mut by_binding = lock(&self.by_binding);
        let Some(all) = by_binding.remove(&rebound.from) else { return };
        let (mut mine, others): (Vec<_>, Vec<_>) =
            all.into_iter().partition(|watcher| watcher.watched.handle == rebound.handle);
        if !others.is_empty() {
            by_binding.insert(rebound.from, others);
        }
        mine.iter().for_each(|watcher| *lock(&watcher.watched.binding) = rebound.to);
        drop(by_binding);
        for reached in report.reached().filter(is_news) {
            mine.iter_mut().for_each(|watcher| watcher.deliver(self, &reached));
        }
        self.put_back(rebound.to, mine);
    }
}

/// Says where a watcher begins, also when reading its first result panics.
struct Begins<'w> {
    watched: &'w Watched,
    from: u64,
}

impl Drop for Begins<'_> {
    fn drop(&mut self) {
        let _ = self.watched.from.set(self.from);
    }
}

/// Whether there is something to deliver about a query.
fn is_news(reached: &ReachedQuery<'_>) -> bool {
    let is_fresh = matches!(reached.outcome(), Outcome::Failed | Outcome::Recomputed);
    is_fresh || reached.delta().is_some()
}

impl Watcher {
    fn deliver(&mut self, all: &Watchers, reached: &ReachedQuery<'_>) {
        let Watched { from, ended, .. } = &*self.watched;
        if !ended.load(Ordering::Acquire) && reached.report.number() > *from.wait() {
            all.call(reached.name(), || (self.callback)(reached));
        }
    }
}

impl CommitWatcher {
    fn deliver(&self, all: &Watchers, report: &Report) {
        let is_wanted = || self.wants.as_ref().is_none_or(|wants| wants(report));
        if self.ended.load(Ordering::Acquire) || report.number() <= self.from || !is_wanted() {
            return;
        }
        all.call("commits", || (lock(&self.callback))(report));
    }
}

/// Something that is watched, or kept up to date, for as long as this lives: it is given by
/// [`Cache::watch`](crate::Cache::watch) and the calls beside it, and by [`Query::keep_current`].
#[must_use = "it is watched only as long as this lives"]
pub struct Watch(Watching);

enum Watching {
    Query(QueryWatch),
    Commits(CommitWatch),
    Current(KeepCurrent),
}

impl Query {
    /// Keeps the query up to date at every commit, for as long as the returned guard lives: its
    /// deltas then stand in the commits' reports. Without, commits only mark it stale
    /// ([`Outcome::Deferred`]), and it catches up on its next read.
    ///
    /// ```
    /// # use backwater::{Cache, Outcome, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// let watch = all.keep_current();
    /// let report = cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
    /// assert_eq!(report.outcome(&all), Outcome::Maintained);
    /// drop(watch);
    /// let report = cache.commit("another came", |tx| tx.insert("t", [("id", 2)]))?;
    /// assert_eq!(report.outcome(&all), Outcome::Deferred);
    /// assert_eq!(all.read()?.len(), 2);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn keep_current(&self) -> Watch {
        Watch(Watching::Current(self.subscribe()))
    }
}

impl fmt::Debug for Watch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.0 {
            Watching::Query(watch) => write!(f, "Watch({:?})", watch.kept),
            Watching::Commits(watch) => write!(f, "Watch(after commit {})", watch.watcher.from),
            Watching::Current(kept) => write!(f, "Watch({kept:?})"),
        }
    }
}

/// A watcher of commits, for as long as it lives.
struct CommitWatch {
    watchers: Arc<Watchers>,
    watcher: Arc<CommitWatcher>,
}

impl Drop for CommitWatch {
    fn drop(&mut self) {
        self.watcher.ended.store(true, Ordering::Release);
        self.watchers.count.fetch_sub(1, Ordering::AcqRel);
        let mut of_commits = lock(&self.watchers.of_commits);
        Arc::make_mut(&mut of_commits).retain(|other| !Arc::ptr_eq(other, &self.watcher));
    }
}

/// A watcher of a query, for as long as it lives.
struct QueryWatch {
    watchers: Arc<Watchers>,
    watched: Arc<Watched>,
    kept: KeepCurrent,
}

impl Drop for QueryWatch {
    fn drop(&mut self) {
        self.watched.ended.store(true, Ordering::Release);
        self.watchers.count.fetch_sub(1, Ordering::AcqRel);
        let mut by_binding = lock(&self.watchers.by_binding);
        let binding = *lock(&self.watched.binding);
        // If it is not found it is being called, and goes after that.
        let mut gone = None;
        if let Some(watchers) = by_binding.get_mut(&binding) {
            let mine = |watcher: &Watcher| Arc::ptr_eq(&watcher.watched, &self.watched);
            gone = watchers.iter().position(mine).map(|place| watchers.remove(place));
            if watchers.is_empty() {
                by_binding.remove(&binding);
            }
        }
        drop(by_binding);
        // What it holds may be a watch itself.
        drop(gone);
    }
}
