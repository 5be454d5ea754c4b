//! Watchers that need not be sent to other threads: they are called on the thread that made them.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::fmt;
use std::marker::PhantomData;
use std::rc::Rc;
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{self, ThreadId};

use super::watch::{Watch, Watchers};
use super::{ReachedQuery, Report};
use crate::error::Result;
use crate::query::{BindingNo, Query, QueryResult};

type Callback = Rc<RefCell<dyn FnMut(&ReachedQuery<'_>)>>;

thread_local! {
    static CALLBACKS: RefCell<HashMap<u64, Callback>> = RefCell::default();
    static LAST: Cell<u64> = const { Cell::new(0) };
}

/// A watcher of a query that is called on one thread alone; see
/// [`Cache::watch_local`](crate::Cache::watch_local).
#[must_use = "the query is watched only as long as this lives"]
pub struct LocalWatch {
    number: u64,
    waiting: Waiting,
    watch: Watch,
    /// It belongs to the thread whose callback it is.
    here: PhantomData<*const ()>,
}

/// What is to be told: a report, and of which binding.
type Waiting = Arc<Mutex<Vec<(Report, BindingNo)>>>;

impl LocalWatch {
    pub(crate) fn of(
        watchers: &Arc<Watchers>,
        query: &Query,
        callback: impl FnMut(&ReachedQuery<'_>) + 'static,
    ) -> Result<(QueryResult, Self)> {
        let number = LAST.with(|last| last.replace(last.get() + 1));
        let (waiting, owner) = (Waiting::default(), thread::current().id());
        let hears = waiting.clone();
        let told = move |reached: &ReachedQuery<'_>| {
            let news = (reached.report.clone(), reached.reached.node.number);
            lock(&hears).push(news);
            deliver_if(owner, number, &hears);
        };
        CALLBACKS.with_borrow_mut(|all| all.insert(number, Rc::new(RefCell::new(callback))));
        match watchers.add(query, Box::new(told)) {
            Ok((start, watch)) => Ok((start, Self { number, waiting, watch, here: PhantomData })),
            Err(error) => {
                forget(number);
                Err(error)
            }
        }
    }

    /// Tells what commits on other threads did; those on this thread tell it by themselves. A program
    /// of several threads calls this where its event loop comes by.
    ///
    /// See [`Cache::watch_local`](crate::Cache::watch_local) for an example.
    pub fn deliver(&self) {
        deliver_if(thread::current().id(), self.number, &self.waiting);
    }
}

impl Drop for LocalWatch {
    fn drop(&mut self) {
        forget(self.number);
    }
}

/// Drops a callback, which may hold a watch itself.
fn forget(number: u64) {
    let gone = CALLBACKS.try_with(|all| all.borrow_mut().remove(&number));
    drop(gone);
}

/// Tells what waits, if this is the thread to tell it on.
fn deliver_if(owner: ThreadId, number: u64, waiting: &Waiting) {
    if thread::current().id() != owner {
        return;
    }
    let callback = CALLBACKS.try_with(|all| all.borrow().get(&number).cloned());
    let Ok(Some(callback)) = callback else { return };
    // Called by itself: it goes on with what has come when it comes back.
    let Ok(mut callback) = callback.try_borrow_mut() else { return };
    loop {
        let news = std::mem::take(&mut *lock(waiting));
        if news.is_empty() {
            return;
        }
        for (report, binding) in news {
            let reached = report.reached().find(|of| of.reached.node.number == binding);
            reached.iter().for_each(&mut *callback);
        }
    }
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl fmt::Debug for LocalWatch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Local{:?}", self.watch)
    }
}
