//! Who is told of what commits did to queries.
//!
//! Reports wait in a queue, in the order of their commits, until one thread at a time tells them.
//! So a watcher may commit: that is applied at once, and told when its turn comes.

use std::collections::VecDeque;
use std::fmt;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use rustc_hash::FxHashMap;

use super::{ReachedQuery, Report};
use crate::error::Result;
use crate::query::{BindingNo, KeptUp, Outcome, Query, QueryResult};

type Callback = Box<dyn FnMut(&ReachedQuery<'_>) + Send>;

/// All watchers of a cache.
#[derive(Default)]
pub(crate) struct Watchers {
    by_binding: Mutex<FxHashMap<BindingNo, Vec<Arc<Watcher>>>>,
    count: AtomicUsize,
    queue: Mutex<Queue>,
}

#[derive(Default)]
struct Queue {
    reports: VecDeque<Report>,
    /// Whether a thread is telling them.
    telling: bool,
}

struct Watcher {
    hears: Mutex<Hears>,
    ended: AtomicBool,
}

struct Hears {
    callback: Callback,
    /// The commit whose result it began with.
    from: u64,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Watchers {
    /// Adds a watcher of a query, which is told of the commits after the result that it begins
    /// with.
    pub(crate) fn add(self: &Arc<Self>, query: &Query, callback: Callback) -> Result<Watch> {
        let binding = query.node().number;
        let hears = Mutex::new(Hears { callback, from: u64::MAX });
        let watcher = Arc::new(Watcher { hears, ended: AtomicBool::new(false) });
        // Whoever tells a commit that is made meanwhile waits until it is known where this begins.
        let mut hears = lock(&watcher.hears);
        lock(&self.by_binding).entry(binding).or_default().push(watcher.clone());
        self.count.fetch_add(1, Ordering::AcqRel);
        let kept = query.keep_up();
        let read = query.read_as_of();
        hears.from = read.as_ref().map_or(u64::MAX, |(_, commit)| *commit);
        drop(hears);
        // From here on it ends as every watch ends, also if there is no result to begin with.
        let mut watch =
            Watch { watchers: self.clone(), watcher, binding, start: None, _kept: kept };
        watch.start = Some(read?.0);
        Ok(watch)
    }

    /// Takes in a commit's report, to be told. Whoever calls makes sure of the commits' order.
    pub(crate) fn push(&self, report: &Report) {
        if self.count.load(Ordering::Acquire) > 0 {
            lock(&self.queue).reports.push_back(report.clone());
        }
    }

    /// Tells what waits, unless another thread, or a caller further up on this one, does so.
    pub(crate) fn tell(&self) {
        loop {
            let report = {
                let mut queue = lock(&self.queue);
                if queue.telling {
                    return;
                }
                let Some(report) = queue.reports.pop_front() else { return };
                queue.telling = true;
                report
            };
            self.tell_one(&report);
            lock(&self.queue).telling = false;
        }
    }

    fn tell_one(&self, report: &Report) {
        for reached in report.reached() {
            let anew = matches!(reached.outcome(), Outcome::Failed | Outcome::Recomputed);
            if reached.delta().is_none() && !anew {
                continue;
            }
            let known = lock(&self.by_binding).get(&reached.reached.node.number).cloned();
            for watcher in known.into_iter().flatten() {
                if watcher.ended.load(Ordering::Acquire) {
                    continue;
                }
                let mut hears = lock(&watcher.hears);
                if report.number() > hears.from {
                    // The panic was reported where it happened; the others are told all the same.
                    drop(catch_unwind(AssertUnwindSafe(|| (hears.callback)(&reached))));
                }
            }
        }
    }
}

/// A watcher, for as long as it lives; see [`Cache::watch`](crate::Cache::watch).
#[must_use = "the query is watched only as long as this lives"]
pub struct Watch {
    watchers: Arc<Watchers>,
    watcher: Arc<Watcher>,
    binding: BindingNo,
    start: Option<QueryResult>,
    _kept: KeptUp,
}

impl Watch {
    /// The result that it began with: what is told are the deltas from here on.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
    /// let watch = cache.watch(&all, |told| println!("{}", told.why()))?;
    /// assert_eq!(watch.start().len(), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn start(&self) -> &QueryResult {
        match &self.start {
            Some(start) => start,
            None => unreachable!("a watch is given out with the result that it began with"),
        }
    }
}

impl Drop for Watch {
    fn drop(&mut self) {
        self.watcher.ended.store(true, Ordering::Release);
        self.watchers.count.fetch_sub(1, Ordering::AcqRel);
        let mut by_binding = lock(&self.watchers.by_binding);
        if let Some(watchers) = by_binding.get_mut(&self.binding) {
            watchers.retain(|other| !Arc::ptr_eq(other, &self.watcher));
            if watchers.is_empty() {
                by_binding.remove(&self.binding);
            }
        }
    }
}

impl fmt::Debug for Watch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Watch({:?})", self.start)
    }
}
