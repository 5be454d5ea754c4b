//! Watchers that need not be sent to other threads: they are called on the thread that made them.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::fmt;
use std::marker::PhantomData;
use std::rc::Rc;
use std::task::Waker;
use std::thread::{self, ThreadId};

use super::stream::{DeltaStream, waker};
use crate::error::Result;
use crate::query::Delta;

/// A callback, and the stream that it is given the deltas of.
struct Local {
    deltas: DeltaStream,
    waker: Waker,
    callback: Box<dyn FnMut(Result<Delta>)>,
}

thread_local! {
    static LOCALS: RefCell<HashMap<u64, Rc<RefCell<Local>>>> = RefCell::default();
    static LAST: Cell<u64> = const { Cell::new(0) };
}

/// A watcher of a query that is called on one thread alone; see
/// [`Cache::watch_local`](crate::Cache::watch_local).
#[must_use = "the query is watched only as long as this lives"]
pub struct LocalWatch {
    number: u64,
    /// It belongs to the thread whose callback it is.
    here: PhantomData<*const ()>,
}

impl LocalWatch {
    pub(crate) fn of(deltas: DeltaStream, callback: impl FnMut(Result<Delta>) + 'static) -> Self {
        let number = LAST.with(|last| last.replace(last.get() + 1));
        let owner = thread::current().id();
        let waker = waker(move || deliver_on(owner, number));
        let local = Local { deltas, waker, callback: Box::new(callback) };
        LOCALS.with_borrow_mut(|all| all.insert(number, Rc::new(RefCell::new(local))));
        let watch = Self { number, here: PhantomData };
        // From here on it is woken.
        watch.deliver();
        watch
    }

    /// Calls the callback with what commits on other threads did; those on this thread deliver by
    /// themselves. A program of several threads calls this from its event loop.
    ///
    /// See [`Cache::watch_local`](crate::Cache::watch_local) for an example.
    pub fn deliver(&self) {
        deliver_on(thread::current().id(), self.number);
    }
}

impl Drop for LocalWatch {
    fn drop(&mut self) {
        // The callback may hold a watch itself, so it goes when nothing is borrowed.
        let gone = LOCALS.try_with(|all| all.borrow_mut().remove(&self.number));
        drop(gone);
    }
}

/// Delivers what waits, if this is the thread to do so.
fn deliver_on(owner: ThreadId, number: u64) {
    if thread::current().id() != owner {
        return;
    }
    let find = || LOCALS.try_with(|all| all.borrow().get(&number).cloned()).ok().flatten();
    let Some(local) = find() else { return };
    // If the callback has led here, its caller goes on with what was queued.
    let Ok(mut local) = local.try_borrow_mut() else { return };
    let Local { deltas, waker, callback } = &mut *local;
    // The callback may end the watch.
    while find().is_some()
        && let Some(delta) = deltas.next(Some(waker))
    {
        callback(delta);
    }
}

impl fmt::Debug for LocalWatch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "LocalWatch({})", self.number)
    }
}
