//! What keeps a cache on its storage: dirty rows wait here until a flush or the writer thread moves
//! them.
//!
//! Commits only note what they changed. A flush, or the writer thread, takes all that waits as one
//! batch, so that neighbouring commits become one write when they come fast.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::dirty_log::DirtyLog;
use super::follow::{self, Followed};
use super::form::StoredTable;
use super::load::Rows;
use super::outbox::Outbox;
use super::progress::Progress;
use super::{Damage, Storage, WhenDamaged, expired, retained};
use crate::caught::caught;
use crate::change::{Changes, OnDemand};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::TableNo;
use crate::table::{Slot, State};

/// Called when a storage cannot be written.
pub(crate) type Handler = Box<dyn Fn(&Error) + Send + Sync>;

/// Keeps a cache on its storage.
pub(crate) struct Persister {
    waiting: Mutex<DirtyLog>,
    io: Mutex<Io>,
    handler: Option<Handler>,
    is_read_only: bool,
    /// Whether commits were made that a storage which is only read does not get.
    has_own: AtomicBool,
    when_damaged: WhenDamaged,
    damage: Mutex<Option<Damage>>,
    progress: Arc<Progress>,
    /// How many rows tables have that are not loaded when the cache is opened.
    not_loaded: Vec<(TableNo, u64)>,
}

/// The storage, and what it holds. It is taken for as long as a write takes, or reading a table.
struct Io {
    outbox: Outbox,
    storage: Box<dyn Storage>,
    /// Tables that were read and whose rows are not those that were written, as was chosen.
    edited: BTreeSet<TableNo>,
    /// Whether the storage was set aside before all of it was read.
    is_lost: bool,
}

/// What a driver says; what it did not finish as it panicked is done once more.
fn guarded<T>(call: impl FnOnce() -> Result<T>) -> Result<T> {
    caught(call).unwrap_or_else(|panic| {
        Err(Error::new(ErrorKind::Storage, format!("its driver panicked: {panic}")))
    })
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Persister {
    pub(crate) fn new(
        outbox: Outbox,
        mut storage: Box<dyn Storage>,
        state: Arc<State>,
        commit: u64,
        handler: Option<Handler>,
        (when_damaged, damage): (WhenDamaged, Option<Damage>),
    ) -> Self {
        let form = outbox.form();
        let not_loaded = state.unready().filter_map(|number| {
            let table = StoredTable::new(&state.schema, &form, number);
            // A storage that does not know gives the reason when the table is read.
            storage.digest(&table).ok().flatten().map(|(rows, _)| (number, rows))
        });
        let not_loaded = not_loaded.collect();
        let waiting = Mutex::new(DirtyLog::new(state, commit));
        let (is_read_only, has_own) = (storage.is_read_only(), AtomicBool::new(false));
        let io = Io { outbox, storage, edited: BTreeSet::new(), is_lost: false };
        let (io, damage, progress) = (Mutex::new(io), Mutex::new(damage), Arc::default());
        Self {
            waiting,
            io,
            handler,
            is_read_only,
            has_own,
            when_damaged,
            damage,
            progress,
            not_loaded,
        }
    }

    /// Of which tables rows were left out when they were read, and how many.
    pub(crate) fn left_out(&self) -> Vec<(TableNo, usize)> {
        lock(&self.io).outbox.left_out().collect()
    }

    /// Whether nothing is ever written.
    pub(crate) fn is_read_only(&self) -> bool {
        self.is_read_only
    }

    /// What was found damaged so far.
    pub(crate) fn damage(&self) -> Option<Damage> {
        lock(&self.damage).clone()
    }

    /// How much is read of tables that are not loaded yet.
    pub(crate) fn progress(&self) -> &Progress {
        &self.progress
    }

    /// How many rows the storage has of tables that are not loaded yet; `None` if it does not know.
    pub(crate) fn rows_not_loaded(&self, tables: &[TableNo]) -> Option<u64> {
        let rows = |table: &TableNo| self.not_loaded.iter().find(|(of, _)| of == table);
        tables.iter().map(|table| rows(table).map(|(_, rows)| rows)).sum()
    }

    /// Passes an error that no call returns to the handler.
    pub(crate) fn report(&self, error: &Error) {
        if let Some(handler) = &self.handler {
            // The panic was reported where it happened; writing goes on.
            drop(caught(|| handler(error)));
        }
    }

    /// Notes that some tables were loaded from the storage, in a commit of their own.
    pub(crate) fn note_loaded(&self, state: Arc<State>, commit: u64) {
        if !self.is_read_only {
            lock(&self.waiting).note_loaded(state, commit);
        }
    }

    /// Nothing more will be read: what was held open for that is released.
    ///
    /// # Errors
    /// If the storage cannot be read.
    pub(crate) fn loaded(&self) -> Result<()> {
        let mut io = lock(&self.io);
        io.storage.loaded().map_err(|error| error.at(io.storage.name()))
    }

    /// Forgets what is retained in the storage.
    pub(crate) fn forget_retained(&self) {
        lock(&self.io).outbox.set_retained(Arc::new(retained::nothing()));
    }

    /// Takes note of a commit. It never waits for the storage.
    pub(crate) fn note(&self, changes: &Changes, commit: u64) {
        if self.is_read_only {
            self.has_own.store(true, Ordering::Relaxed);
            return;
        }
        lock(&self.waiting).note(changes, commit);
    }

    /// What another program has written since this one last looked, on top of a version; `None` if
    /// that is nothing.
    ///
    /// # Errors
    /// If it cannot be read, or if it has another schema now. Then it is looked at again the next
    /// time.
    pub(crate) fn follow(&self, now: &State) -> Result<Option<Followed>> {
        let mut io = lock(&self.io);
        let Io { outbox, storage, .. } = &mut *io;
        let name = storage.name();
        let followed = follow::follow(now, outbox, &mut **storage);
        // Whatever the result, writers must not wait for this any longer.
        let ended = storage.loaded();
        let followed = followed.and_then(|followed| ended.map(|()| followed));
        followed.map_err(|error| error.at(name))
    }

    /// Notes rows that a version has beyond those of its commit.
    pub(crate) fn note_rows(&self, rows: Vec<(TableNo, Slot)>, (state, commit): (Arc<State>, u64)) {
        if !self.is_read_only {
            let mut waiting = lock(&self.waiting);
            waiting.note_rows(rows);
            waiting.go_on_with(state, commit);
        }
    }

    /// Notes rows that were received again, whether or not that changed them.
    pub(crate) fn note_received(&self, rows: Vec<(TableNo, Slot)>) {
        if !rows.is_empty() && !self.is_read_only {
            lock(&self.waiting).note_rows(rows);
        }
    }

    /// Takes note of tables that were declared; gives the version with what was retained of them.
    ///
    /// # Errors
    /// If that does not fit.
    pub(crate) fn extend(&self, state: &Arc<State>, commit: u64) -> Result<Arc<State>> {
        // No other thread writes in between, with more tables than the version has.
        let mut io = lock(&self.io);
        lock(&self.waiting).take_into(&mut io.outbox);
        let state = io.outbox.extend(state)?;
        lock(&self.waiting).go_on_with(state.clone(), commit);
        Ok(state)
    }

    /// Writes all that waits, in one piece. What could not be written waits for the next time.
    ///
    /// # Errors
    /// What the storage says.
    pub(crate) fn write(&self) -> Result<()> {
        if self.is_read_only {
            return self.own_is_lost();
        }
        let mut io = lock(&self.io);
        match self.write_once(&mut io) {
            Err(error)
                if error.kind() == ErrorKind::Damaged
                    && self.when_damaged != WhenDamaged::Refuse =>
            {
                // What others did to it stays, under another name, and all is rewritten: what is in
                // memory is whole.
                let Io { outbox, storage, is_lost, .. } = &mut *io;
                let name = storage.set_aside().map_err(|error| error.at(storage.name()))?;
                self.report(&error);
                *lock(&self.damage) = Some(Damage::SetAside { name, error });
                outbox.rewrite_all();
                *is_lost = true;
                self.write_once(&mut io)
            }
            written => written,
        }
    }

    fn write_once(&self, io: &mut Io) -> Result<()> {
        let Io { outbox, storage, edited, is_lost } = io;
        let (now, commit) = lock(&self.waiting).take_into(outbox);
        if !outbox.is_new()
            && !guarded(|| storage.is_there()).map_err(|error| error.at(storage.name()))?
        {
            let what = "it was removed or renamed while it was open";
            let error = Error::new(ErrorKind::Storage, what).at(storage.name());
            self.report(&error.help("all of it is rewritten"));
            outbox.rewrite_all();
            *is_lost = true;
        }
        outbox.note(now.take_read());
        // What is not loaded yet cannot be rewritten yet.
        let (here, not_loaded): (BTreeSet<_>, BTreeSet<_>) =
            std::mem::take(edited).into_iter().partition(|table| now.is_ready(*table));
        *edited = not_loaded;
        outbox.rebuild_tables(here);
        let Some(batch) = outbox.batch(&now, commit) else {
            outbox.nothing_to_write(&now);
            return Ok(());
        };
        guarded(|| storage.write(&batch)).map_err(|error| error.at(storage.name()))?;
        outbox.done(batch);
        Ok(())
    }

    /// Writes all that waits, and makes sure that nothing is left of what was deleted.
    ///
    /// # Errors
    /// What the storage says.
    pub(crate) fn compact(&self) -> Result<()> {
        self.write()?;
        if self.is_read_only {
            return Ok(());
        }
        let mut io = lock(&self.io);
        let Io { storage, .. } = &mut *io;
        guarded(|| storage.compact()).map_err(|error| error.at(storage.name()))
    }

    /// What is committed where a storage is opened read-only is not kept, and a program must learn
    /// that.
    fn own_is_lost(&self) -> Result<()> {
        if !self.has_own.load(Ordering::Relaxed) {
            return Ok(());
        }
        let name = lock(&self.io).storage.name();
        Err(Error::new(ErrorKind::Storage, "it was opened only to be read").at(name).help(
            "what was committed here is in memory only: open it to be written, or do not flush",
        ))
    }

    /// The same, where no call returns the answer: an error goes to the handler.
    pub(crate) fn write_or_report(&self) -> Result<()> {
        if self.is_read_only {
            return Ok(());
        }
        self.write().inspect_err(|error| self.report(error))
    }
}

impl OnDemand for Persister {
    fn read(&self, state: &mut State, tables: &[TableNo]) -> Result<()> {
        let mut io = lock(&self.io);
        let Io { outbox, storage, edited, is_lost } = &mut *io;
        if *is_lost {
            return Ok(());
        }
        let mut rows = Rows::going_on(state.clone(), outbox.form());
        rows.accepts_edits = self.when_damaged == WhenDamaged::AcceptEdits;
        rows.progress = Some(self.progress.clone());
        let read = tables.iter().try_for_each(|table| -> Result<()> {
            self.progress.begin();
            rows.load(&mut **storage, *table)?;
            outbox.note_read(*table, rows.digests(*table));
            Ok(())
        });
        match read {
            Ok(()) => {
                if !rows.edited.is_empty() {
                    let name = |table: &TableNo| state.schema.table(*table).name.to_string();
                    let mut damage = lock(&self.damage);
                    let known = match damage.take() {
                        Some(Damage::Accepted { tables }) => tables,
                        _ => Vec::new(),
                    };
                    let tables = known.into_iter().chain(rows.edited.iter().map(name)).collect();
                    *damage = Some(Damage::Accepted { tables });
                    edited.extend(rows.edited.iter().copied());
                }
                outbox.note_left_out(expired::leave_out(&mut rows.state, &rows.form, tables));
                *state = rows.state;
                Ok(())
            }
            Err(error)
                if error.kind() == ErrorKind::Damaged
                    && self.when_damaged == WhenDamaged::SetAside =>
            {
                let name = storage.set_aside().map_err(|error| error.at(storage.name()))?;
                *lock(&self.damage) = Some(Damage::SetAside { name, error });
                outbox.forget_stored();
                *is_lost = true;
                Ok(())
            }
            Err(error) => Err(error.at(storage.name())),
        }
    }
}
