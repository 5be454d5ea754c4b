//! What commits have changed since the last look, noted as cheaply as possible.

use std::sync::Arc;

use rustc_hash::FxHashSet;

use super::outbox::{Loaded, Outbox};
use crate::change::{ChangedRows, Changes, Happened, RowChange};
use crate::schema::TableNo;
use crate::table::{Slot, State};

/// This many changed rows, of so many commits, are kept commit by commit; beyond, each row is kept
/// once. The history remembers more than that: a commit that it forgets while somebody has it may
/// still be withdrawn, and takes note of all that follows.
const ROWS: usize = 1 << 15;
const COMMITS: usize = 512;

/// The rows that commits changed, up to the last one.
pub(super) struct DirtyLog {
    commits: Vec<Arc<ChangedRows>>,
    rows: usize,
    /// Of earlier commits, each row once.
    known: FxHashSet<(TableNo, Slot)>,
    /// Of these, the ones that a commit deleted.
    deleted: FxHashSet<(TableNo, Slot)>,
    /// Tables that were loaded from the storage in between.
    loaded: Vec<Loaded>,
    now: Arc<State>,
    commit: u64,
}

impl DirtyLog {
    pub(super) fn new(now: Arc<State>, commit: u64) -> Self {
        let (known, deleted) = (FxHashSet::default(), FxHashSet::default());
        let (commits, loaded) = (Vec::new(), Vec::new());
        Self { commits, rows: 0, known, deleted, loaded, now, commit }
    }

    /// Notes that some tables were loaded from the storage, in a commit.
    pub(super) fn note_loaded(&mut self, state: Arc<State>, commit: u64) {
        let changed = all(&self.commits).map(place).chain(self.known.iter().copied()).collect();
        self.loaded.push(Loaded { state: state.clone(), changed });
        self.go_on_with(state, commit);
    }

    pub(super) fn note(&mut self, changes: &Changes, commit: u64) {
        self.rows += changes.rows.len();
        self.commits.push(changes.rows.clone());
        // What was to be noted is part of this version, unless it is still to be.
        if self.now.unnoted() > 0
            && changes.after.unnoted() <= self.now.unnoted()
            && let Some(noted) = self.now.noted()
        {
            self.known.extend(noted.rows.iter().copied());
        }
        self.go_on_with(changes.after.clone(), commit);
        if (self.rows > ROWS && self.commits.len() > 1) || self.commits.len() > COMMITS {
            self.rows = 0;
            let commits = std::mem::take(&mut self.commits);
            self.known.extend(all(&commits).map(place));
            self.deleted.extend(all(&commits).filter(is_deleted).map(place));
        }
    }

    /// Takes note of rows of which something else is to be written.
    pub(super) fn note_rows(&mut self, rows: Vec<(TableNo, Slot)>) {
        self.known.extend(rows);
    }

    /// The tables are another version now, with the same rows.
    pub(super) fn go_on_with(&mut self, now: Arc<State>, commit: u64) {
        (self.now, self.commit) = (now, commit);
    }

    /// Hands over all that waits; gives the version and the commit up to which that is.
    pub(super) fn take_into(&mut self, outbox: &mut Outbox) -> (Arc<State>, u64) {
        self.rows = 0;
        let commits = std::mem::take(&mut self.commits);
        for loaded in std::mem::take(&mut self.loaded) {
            outbox.note_loaded(loaded);
        }
        outbox.note_deleted(all(&commits).filter(is_deleted).map(place));
        outbox.note_deleted(std::mem::take(&mut self.deleted));
        outbox.note(all(&commits).map(place));
        outbox.note(std::mem::take(&mut self.known));
        if let Some(noted) = self.now.noted() {
            outbox.note(noted.rows.iter().copied());
            self.now = noted.state.clone();
        }
        (self.now.clone(), self.commit)
    }
}

fn all(commits: &[Arc<ChangedRows>]) -> impl Iterator<Item = &RowChange> {
    commits.iter().flat_map(|rows| rows.iter())
}

fn is_deleted(row: &&RowChange) -> bool {
    row.happened == Happened::Deleted
}

fn place(row: &RowChange) -> (TableNo, Slot) {
    (row.table, row.slot)
}
