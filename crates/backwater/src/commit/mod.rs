//! How a commit of any kind is made: from its changes to queries, storage, reports and watchers, in
//! one function.
//!
//! It knows what follows a commit, and in which order. It must not know how a transaction gathers
//! writes, nor where they come from. A commit is whole or has not been made: calls of a program's
//! own code come before its first step, or after its last one. Should a step fail all the same,
//! readers keep the last whole commit, and every later call says so.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use crate::caught::{caught, step};
use crate::change::{Changes, History, Ingested, Remembered, Withdrawal};
use crate::derived::Evaluation;
use crate::error::{Error, ErrorKind, Result};
use crate::query::{Engine, Published, Reached, ReachedList};
use crate::schema::TableNo;
use crate::storage::Persister;
#[cfg(feature = "threads")]
use crate::storage::WriterThread;
use crate::sync::{InTurn, Turn};
use crate::table::{Slot, State};
use crate::trace::{self, Done, HandleMove, Report, Ring, Watchers};
use crate::value::{Clock, Stopwatch};

/// What all handles of a cache share.
pub(crate) struct Core {
    pub(crate) published: Arc<Published>,
    writer: Mutex<Writer>,
    /// Whose commit it is. The writer itself is not held while a commit's closure runs.
    turn: InTurn,
    pub(crate) watchers: Arc<Watchers>,
    pub(crate) evaluation: Arc<Evaluation>,
    pub(crate) ring: Ring,
    pub(crate) clock: Option<Arc<dyn Clock>>,
    pub(crate) persister: Option<Arc<Persister>>,
    #[cfg(feature = "threads")]
    thread: Option<WriterThread>,
    /// Whether that thread writes soon after each commit.
    #[cfg(feature = "threads")]
    writes_by_itself: bool,
}

/// Closing writes what waits; with a writer thread, that does.
#[cfg(not(feature = "threads"))]
impl Drop for Core {
    fn drop(&mut self) {
        self.persister.iter().for_each(|persister| drop(persister.write_or_report()));
    }
}

/// What a commit is made on.
pub(crate) struct Writer {
    pub(crate) engine: Engine,
    pub(crate) state: Arc<State>,
    pub(crate) commit: u64,
    pub(crate) history: Arc<History>,
    /// The last commit that changed rows of which the history does not know all.
    unremembered: u64,
    pub(crate) remembered: Remembered,
}

impl Writer {
    /// Makes the indexes that queries need to follow the commit that is about to be made. Their
    /// first results did without, and many are not kept for longer than that.
    pub(crate) fn complete_indexes(&mut self) {
        self.engine.complete_indexes(&mut self.state);
    }

    /// The rows that were changed after a commit, as far as these are remembered.
    pub(crate) fn rows_since(&self, commit: u64) -> Option<impl Iterator<Item = (TableNo, Slot)>> {
        self.history.rows_since(commit).filter(|_| self.unremembered <= commit)
    }
}

/// What a commit is.
pub(crate) enum CommitKind<'k> {
    /// Writes that a program gathered.
    Written(ProgramWrites),
    /// Rows of these tables were loaded from the storage. That is no news: an answer that is on its
    /// way is newer.
    Loaded(&'k [TableNo]),
    /// Another program wrote to the storage, under this number.
    Followed(u64),
    /// A query was given other values.
    Rebound(Box<Reached>, HandleMove),
    /// Tables were declared.
    Declared,
}

pub(crate) struct ProgramWrites {
    pub(crate) ingested: Vec<Ingested>,
    pub(crate) withdrawal: Option<Withdrawal>,
    /// Rows that were merged, whether or not that changed them.
    pub(crate) received: Vec<(TableNo, Slot)>,
    /// Whether it is the library's own, which is not remembered.
    pub(crate) is_bookkeeping: bool,
}

impl Core {
    pub(crate) fn new(
        (state, commit): (Arc<State>, u64),
        engine: Engine,
        ring: Ring,
        clock: Option<Arc<dyn Clock>>,
        (persister, writes_by_itself): (Option<Arc<Persister>>, bool),
        watchers: Watchers,
    ) -> Self {
        #[cfg(not(feature = "threads"))]
        let _ = writes_by_itself;
        let published = Arc::new(Published::new(state.clone(), commit, clock.clone()));
        let (history, remembered) = (Arc::new(History::after(commit)), Remembered::default());
        let unremembered = commit;
        let writer = Writer { engine, state, commit, history, unremembered, remembered };
        let writer = Mutex::new(writer);
        Self {
            #[cfg(feature = "threads")]
            thread: persister.clone().map(WriterThread::new),
            #[cfg(feature = "threads")]
            writes_by_itself,
            published,
            writer,
            turn: InTurn::default(),
            watchers: Arc::new(watchers),
            evaluation: Arc::default(),
            ring,
            clock,
            persister,
        }
    }

    /// What the remembered commits did. It waits for a commit that is being made.
    #[cfg(feature = "remote")]
    pub(crate) fn history(&self) -> Arc<History> {
        self.writer.lock().unwrap_or_else(PoisonError::into_inner).history.clone()
    }

    pub(crate) fn clock(&self) -> Option<&dyn Clock> {
        self.clock.as_deref()
    }

    /// Whether a commit is being made on this thread.
    pub(crate) fn is_writing(&self) -> bool {
        self.turn.is_mine()
    }

    /// Waits for other threads' commits, and releases what was dropped since the last one.
    pub(crate) fn begin(&self) -> Result<Writing<'_>> {
        let mut writing = self.begin_over()?;
        self.note(&mut writing);
        Ok(writing)
    }

    /// The same on a version that may have something to be noted of pending changes.
    pub(crate) fn begin_over(&self) -> Result<Writing<'_>> {
        self.published.check()?;
        self.turn.free_if_cut_off();
        if self.is_writing() {
            return Err(Error::new(
                ErrorKind::Nested,
                "a commit is being made on this thread already",
            )
            .help("write and read through its transaction, or wait until it is done"));
        }
        if self.evaluation.is_here() {
            let message = "a derived value's function may not commit, nor define queries";
            return Err(Error::new(ErrorKind::Nested, message)
                .help("define queries before it, and commit in a watcher or after `get`"));
        }
        let turn = self.turn.begin();
        // A commit that was waited for may have failed in its middle.
        self.published.check()?;
        let mut writing = Paused { core: self, turn }.go_on();
        for binding in self.published.take_released() {
            let Writer { engine, state, .. } = &mut *writing;
            engine.release(binding, state);
        }
        Ok(writing)
    }

    /// Notes what is to be noted of pending changes.
    pub(crate) fn note(&self, writer: &mut Writer) {
        let Some(noted) = writer.state.noted() else { return };
        let (state, rows) = (noted.state.clone(), noted.rows.clone());
        if let Some(persister) = &self.persister {
            persister.note_rows(rows, (state.clone(), writer.commit));
        }
        self.published.publish(state.clone(), writer.commit);
        writer.state = state;
        // This version may be from before an index was made.
        writer.engine.recheck_indexes();
    }

    /// Makes a commit. `watch` measures how long it took.
    pub(crate) fn make(
        &self,
        writer: &mut Writer,
        (label, mut watch): (String, Stopwatch<'_>),
        changes: Changes,
        kind: CommitKind<'_>,
    ) -> Report {
        let clock = self.clock();
        let at = clock.map(Clock::now);
        if let Some(clock) = clock {
            changes.after.set_time(clock);
        }
        let whole = self.published.begin();
        writer.commit = match kind {
            CommitKind::Followed(number) => number.max(writer.commit + 1),
            _ => writer.commit + 1,
        };
        writer.state = changes.after.clone();
        let number = writer.commit;
        let withdraws =
            matches!(&kind, CommitKind::Written(written) if written.withdrawal.is_some());
        let is_bookkeeping = matches!(&kind, CommitKind::Written(writes) if writes.is_bookkeeping);
        // The history is of what is below pending changes.
        let is_remembered = matches!(kind, CommitKind::Written(_) | CommitKind::Followed(_))
            && !is_bookkeeping
            && !changes.is_above_only();
        let (base, gone) = (changes.of_base(), changes.gone());
        if is_remembered {
            Arc::make_mut(&mut writer.history).push(number, base, gone, withdraws);
        }
        let has_all = is_remembered && Arc::ptr_eq(&base.rows, &changes.rows);
        if !has_all && !changes.rows.is_empty() || changes.after.unnoted() > 0 {
            writer.unremembered = number;
        }
        step("history");
        let (reached, ingested) = match &kind {
            CommitKind::Rebound(..) | CommitKind::Declared => (ReachedList::new(), Vec::new()),
            _ => (writer.engine.apply(&changes, number, clock), Vec::new()),
        };
        let (mut reached, mut ingested, mut rebound) = (reached, ingested, None);
        step("queries");
        match &kind {
            CommitKind::Loaded(tables) => self.published.publish_commit(&changes, number, tables),
            CommitKind::Declared => self.published.publish_tables(changes.after.clone(), number),
            _ => self.published.publish_commit(&changes, number, &[]),
        }
        let took = watch.lap();
        step("published");
        match kind {
            CommitKind::Written(written) => {
                if let Some(withdrawal) = written.withdrawal {
                    withdrawal.take_effect(changes.of_base(), &writer.history);
                }
                ingested = written.ingested;
                // When that was is only known with a clock.
                let received = if clock.is_some() { written.received } else { Vec::new() };
                let received = changes.after.receive(received);
                if let Some(persister) = &self.persister {
                    persister.note(&changes, number);
                    persister.note_received(received);
                }
            }
            CommitKind::Loaded(_) => {
                let persister = self.persister.iter();
                persister
                    .for_each(|persister| persister.note_loaded(changes.after.clone(), number));
            }
            CommitKind::Followed(_) => {}
            CommitKind::Rebound(mut one, over) => {
                one.took = took;
                reached.push(*one);
                rebound = Some(over);
            }
            // What it remembers is in terms of the old schema.
            CommitKind::Declared => writer.remembered = Remembered::default(),
        }
        step("stored");
        let later = writer.engine.next_binding();
        let report =
            Report::new(number, label, Done { changes, ingested, reached, later, at, took });
        if !is_bookkeeping {
            self.ring.push(&report);
        }
        self.watchers.push(&report, rebound);
        step("delivered");
        whole.end();
        report
    }

    /// Ends a turn, and delivers what was committed in it.
    pub(crate) fn deliver(&self, writing: Writing<'_>, reports: &[&Report]) {
        drop(writing);
        for report in reports {
            // Callbacks are a program's own code, too.
            drop(caught(|| trace::emit(report)));
        }
        self.watchers.deliver();
    }

    /// Has the writer thread write, if there is one.
    pub(crate) fn wake_writer(&self) {
        #[cfg(feature = "threads")]
        if self.writes_by_itself
            && self.persister.as_ref().is_some_and(|persister| !persister.is_read_only())
        {
            self.thread.iter().for_each(WriterThread::wake);
        }
    }
}

/// A thread that writes. No other one begins to until it is done.
pub(crate) struct Writing<'c> {
    writer: MutexGuard<'c, Writer>,
    turn: Paused<'c>,
}

/// The same while a program's own code runs: nothing is locked.
pub(crate) struct Paused<'c> {
    core: &'c Core,
    turn: Turn<'c>,
}

impl<'c> Writing<'c> {
    pub(crate) fn pause(self) -> Paused<'c> {
        self.turn
    }
}

impl<'c> Paused<'c> {
    pub(crate) fn go_on(self) -> Writing<'c> {
        let writer = self.core.writer.lock().unwrap_or_else(PoisonError::into_inner);
        Writing { writer, turn: self }
    }

    /// Whether the turn is still this one's: see [`InTurn::free_if_cut_off`].
    pub(crate) fn is_current(&self) -> bool {
        self.turn.is_current()
    }
}

impl std::ops::Deref for Writing<'_> {
    type Target = Writer;

    fn deref(&self) -> &Writer {
        &self.writer
    }
}

impl std::ops::DerefMut for Writing<'_> {
    fn deref_mut(&mut self) -> &mut Writer {
        &mut self.writer
    }
}
