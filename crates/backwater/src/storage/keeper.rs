//! What keeps a cache on its storage: dirty rows wait here, and somebody moves them.
//!
//! Commits only note what they changed. Whoever flushes, or the writer thread, takes all that waits
//! as one batch, so that neighbouring commits become one write when they come fast.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::outbox::Outbox;
use super::waiting::Waiting;
use super::{Storage, asleep};
use crate::change::Changes;
use crate::error::{Error, Result};
use crate::table::State;

/// Who is told of a storage that cannot be written.
pub(crate) type Handler = Box<dyn Fn(&Error) + Send + Sync>;

/// Keeps a cache on its storage.
pub(crate) struct Keeper {
    waiting: Mutex<Waiting>,
    io: Mutex<Io>,
    handler: Option<Handler>,
}

/// The storage, and what it holds. It is taken for as long as a write takes.
struct Io {
    outbox: Outbox,
    storage: Box<dyn Storage>,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Keeper {
    pub(crate) fn new(
        outbox: Outbox,
        storage: Box<dyn Storage>,
        state: Arc<State>,
        commit: u64,
        handler: Option<Handler>,
    ) -> Self {
        let waiting = Mutex::new(Waiting::new(state, commit));
        Self { waiting, io: Mutex::new(Io { outbox, storage }), handler }
    }

    /// Forgets what sleeps in the storage.
    pub(crate) fn forget_sleepers(&self) {
        lock(&self.io).outbox.set_sleepers(Arc::new(asleep::nothing()));
    }

    /// Takes note of a commit. It never waits for the storage.
    pub(crate) fn note(&self, changes: &Changes, commit: u64) {
        lock(&self.waiting).note(changes, commit);
    }

    /// Takes note of tables that were declared; gives the version with what slept of them.
    ///
    /// # Errors
    /// If that does not fit.
    pub(crate) fn extend(&self, state: &Arc<State>, commit: u64) -> Result<Arc<State>> {
        // Nobody writes in between, with more tables than the version has.
        let mut io = lock(&self.io);
        let state = io.outbox.extend(state)?;
        lock(&self.waiting).go_on_with(state.clone(), commit);
        Ok(state)
    }

    /// Writes all that waits, in one piece. What could not be written waits for the next time.
    ///
    /// # Errors
    /// What the storage says.
    pub(crate) fn write(&self) -> Result<()> {
        let mut io = lock(&self.io);
        let Io { outbox, storage } = &mut *io;
        let (now, commit) = lock(&self.waiting).take_into(outbox);
        let Some(batch) = outbox.batch(&now, commit) else {
            outbox.nothing_to_write(&now);
            return Ok(());
        };
        storage.write(&batch).map_err(|error| error.at(storage.name()))?;
        outbox.done(batch);
        Ok(())
    }

    /// The same, where nobody waits for the answer: an error goes to the handler.
    pub(crate) fn write_or_tell(&self) -> Result<()> {
        self.write().inspect_err(|error| {
            if let Some(handler) = &self.handler {
                handler(error);
            }
        })
    }
}
