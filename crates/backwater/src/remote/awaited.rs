//! What threads and tasks wait for: a state that comes to rest.

use std::ops::{Deref, DerefMut};
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::task::{Context, Poll, Waker};
use std::time::Duration;

/// Tasks to be woken, which is done when nothing is locked.
#[derive(Default)]
#[must_use]
pub(super) struct Wakers(pub(super) Vec<Waker>);

impl Wakers {
    pub(super) fn extend(&mut self, others: Wakers) {
        self.0.extend(others.0);
    }

    pub(super) fn wake(self) {
        self.0.into_iter().for_each(Waker::wake);
    }
}

/// A state that is waited for until it is settled.
pub(super) trait Settles {
    fn is_settled(&self) -> bool;
}

/// Such a state, and who waits for it.
#[derive(Default)]
pub(super) struct Awaited<S> {
    now: Mutex<Now<S>>,
    settled: Condvar,
}

#[derive(Default)]
pub(super) struct Now<S> {
    state: S,
    wakers: Vec<Waker>,
    /// How many threads wait: to wake none would be a call of the system.
    threads: u32,
}

impl<S> Deref for Now<S> {
    type Target = S;

    fn deref(&self) -> &S {
        &self.state
    }
}

impl<S> DerefMut for Now<S> {
    fn deref_mut(&mut self) -> &mut S {
        &mut self.state
    }
}

impl<S: Settles> Awaited<S> {
    pub(super) fn new(state: S) -> Self {
        let now = Mutex::new(Now { state, wakers: Vec::new(), threads: 0 });
        Self { now, settled: Condvar::new() }
    }

    pub(super) fn lock(&self) -> MutexGuard<'_, Now<S>> {
        self.now.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Changes the state; returns the tasks that wait for it, if it is settled by that.
    pub(super) fn change(&self, change: impl FnOnce(&mut S)) -> Wakers {
        change(&mut self.lock());
        self.tell()
    }

    /// If the state is settled, wakes threads that wait for that; returns the tasks that do.
    pub(super) fn tell(&self) -> Wakers {
        let mut now = self.lock();
        if !now.is_settled() {
            return Wakers::default();
        }
        if now.threads > 0 {
            self.settled.notify_all();
        }
        Wakers(std::mem::take(&mut now.wakers))
    }

    /// Waits on this thread until the state is settled, or for that long.
    pub(super) fn wait<T>(&self, limit: Duration, read: impl FnOnce(&S) -> T) -> T {
        let mut now = self.lock();
        now.threads += 1;
        let waits = |now: &mut Now<S>| !now.is_settled();
        let waited = self.settled.wait_timeout_while(now, limit, waits);
        let mut now = waited.unwrap_or_else(PoisonError::into_inner).0;
        now.threads -= 1;
        read(&now)
    }

    /// The same for a task.
    pub(super) fn poll<T>(&self, context: &mut Context<'_>, read: impl FnOnce(&S) -> T) -> Poll<T> {
        let mut now = self.lock();
        if now.is_settled() {
            return Poll::Ready(read(&now));
        }
        if !now.wakers.iter().any(|waker| waker.will_wake(context.waker())) {
            now.wakers.push(context.waker().clone());
        }
        Poll::Pending
    }
}
