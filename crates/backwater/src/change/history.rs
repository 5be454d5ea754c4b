//! What the last commits changed, so that a response to an older request overwrites none of it.

use std::collections::VecDeque;
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use super::changes::{Changes, FieldSet, Happened, RowChange};
use super::staged::StagedRow;
use crate::schema::{FieldNo, Made, TableNo};
use crate::table::{Cell, OWNER, Slot, State};
use crate::value::RowId;

/// How many changed rows are remembered at most, and of how many commits.
const ROWS: usize = 1 << 16;
const COMMITS: usize = 1024;

/// The last commits, the oldest first.
#[derive(Clone, Default)]
pub(crate) struct History {
    commits: VecDeque<Past>,
    rows: usize,
    /// The last commit that is not remembered.
    forgotten: u64,
}

/// What one commit changed.
#[derive(Clone)]
struct Past {
    number: u64,
    rows: Arc<Vec<RowChange>>,
    /// To-many links of which an entry changed.
    links: Vec<(TableNo, Slot, FieldNo)>,
    deleted: Vec<(TableNo, RowId)>,
}

impl History {
    /// Begins behind a commit of which nothing is known.
    pub(crate) fn after(commit: u64) -> Self {
        Self { forgotten: commit, ..Self::default() }
    }

    pub(crate) fn push(&mut self, number: u64, changes: &Changes) {
        if changes.rows.len() > ROWS {
            *self = Self::after(number);
            return;
        }
        let rows = changes.rows.clone();
        let mut past = Past { number, rows, links: Vec::new(), deleted: Vec::new() };
        for row in changes.rows.iter() {
            past.add(changes, row);
        }
        self.rows += past.rows.len();
        self.commits.push_back(past);
        while self.rows > ROWS || self.commits.len() > COMMITS {
            let Some(oldest) = self.commits.pop_front() else { break };
            self.rows -= oldest.rows.len();
            self.forgotten = oldest.number;
        }
    }

    /// What was changed after a commit.
    pub(crate) fn since(&self, commit: u64) -> Later {
        let mut later = Later { known: commit >= self.forgotten, ..Later::default() };
        for past in self.commits.iter().filter(|past| past.number > commit) {
            for row in past.rows.iter() {
                let changed = later.fields.entry((row.table, row.slot));
                match &row.happened {
                    Happened::Updated(fields) => changed.or_default().fields.add(fields),
                    Happened::Inserted => changed.or_default().all = true,
                    Happened::Deleted => {}
                }
            }
            for (table, slot, field) in &past.links {
                later.fields.entry((*table, *slot)).or_default().fields.insert(*field);
            }
            later.deleted.extend(past.deleted.iter().cloned());
        }
        later
    }
}

impl Past {
    /// Notes what the row itself does not tell later.
    fn add(&mut self, changes: &Changes, row: &RowChange) {
        let is_gone = row.happened == Happened::Deleted;
        let state = if is_gone { &changes.before } else { &changes.after };
        if let Made::Entries { owner, field } = state.schema.table(row.table).made {
            // An entry of a to-many link is a part of its owner.
            if let Cell::Link(slot) = state.table(row.table).cell(row.slot, OWNER) {
                self.links.push((owner, slot, field));
            }
        } else if is_gone {
            self.deleted.extend(state.id(row.table, row.slot).map(|id| (row.table, id.to_id())));
        }
    }
}

/// What was changed since a request began.
#[derive(Default)]
pub(crate) struct Later {
    fields: FxHashMap<(TableNo, Slot), Changed>,
    deleted: FxHashSet<(TableNo, RowId)>,
    /// Whether all of it is remembered. If not, whatever is there counts as newer.
    known: bool,
}

/// Which fields of a row were changed.
#[derive(Default)]
struct Changed {
    /// The row is new, with all that it has.
    all: bool,
    fields: FieldSet,
}

impl Later {
    /// Whether a row has changed since; one that was deleted and is not there must not come back.
    pub(crate) fn has_changed(&self, state: &State, table: TableNo, slot: Slot) -> bool {
        let deleted = || {
            let id = state.id(table, slot).map(|id| (table, id.to_id()));
            id.is_some_and(|id| self.deleted.contains(&id))
        };
        match state.table(table).is_row(slot) {
            true => !self.known || self.fields.contains_key(&(table, slot)),
            false => deleted(),
        }
    }

    /// Leaves out of a row's staged fields what has changed since; gives how many values that are
    /// now others that kept.
    pub(crate) fn leave_out(
        &self,
        state: &State,
        table: TableNo,
        slot: Slot,
        staged: &mut StagedRow<'_>,
    ) -> usize {
        let (Some(row), mut kept) = (state.table(table).row(slot), 0) else { return 0 };
        let changed = self.fields.get(&(table, slot));
        staged.retain(|(field, value)| {
            let newer =
                !self.known || changed.is_some_and(|it| it.all || it.fields.contains(*field));
            let keep = newer && row.cell(*field) != Cell::Absent;
            kept += usize::from(keep && row.cell(*field) != value.cell());
            !keep
        });
        kept
    }
}
