//! What the last commits wrote, so that a response to an older request overwrites none of it, and a
//! commit that is withdrawn takes nothing along that a later one wrote.

use std::collections::VecDeque;
use std::collections::hash_map::Entry;
use std::sync::{Arc, Weak};

use rustc_hash::{FxHashMap, FxHashSet};

use super::changes::{ChangedRows, Changes, FieldSet, Happened, RowChange};
use super::since::written;
use crate::schema::{FieldNo, TableNo, TableOrigin};
use crate::table::StagedRow;
use crate::table::{Cell, OWNER, Slot, State};
use crate::value::{RowId, Value};

/// How many changed rows are remembered at most, and of how many commits.
const ROWS: usize = 1 << 16;
const COMMITS: usize = 1024;

/// The last commits, the oldest first.
#[derive(Clone, Default)]
pub(crate) struct History {
    commits: VecDeque<Past>,
    /// How many rows these changed, and wrote again.
    rows: usize,
    again: usize,
    /// The last commit that is not remembered.
    forgotten: u64,
    /// For each table a bit for each slot whose row may be one of them.
    recent: Vec<Vec<u64>>,
    /// How many commits were forgotten since these bits were made.
    stale: usize,
    /// The rows that they deleted, and in which slots these lay.
    gone: Gone,
    /// Commits that are not remembered and that may still be withdrawn, the oldest first.
    held: Vec<(u64, Weak<ChangedRows>)>,
    /// Rows of these that were deleted, by commits that are not remembered either.
    missed: Vec<(TableNo, RowId)>,
}

/// Rows that were deleted.
type Gone = FxHashMap<(TableNo, RowId), GoneRow>;

#[derive(Clone)]
struct GoneRow {
    /// Where it lay.
    slot: Slot,
    by: u64,
    /// Whether it was deleted because the commit that had inserted it was withdrawn.
    is_withdrawn: bool,
    /// The version that it had, if its table has versions.
    version: Option<Value>,
}

/// What one commit changed.
#[derive(Clone)]
pub(super) struct Past {
    pub(super) number: u64,
    pub(super) rows: Arc<ChangedRows>,
    /// To-many links of which an entry changed.
    pub(super) links: Vec<(TableNo, Slot, FieldNo)>,
    deleted: Vec<(TableNo, RowId)>,
    /// Rows that were deleted and are back, by where they lie now.
    pub(super) back: FxHashMap<(TableNo, Slot), Back>,
    /// Whether it withdrew another commit, or restored one: then it wrote nothing of its own.
    pub(super) is_withdrawal: bool,
}

/// A row that was deleted and is back.
#[derive(Clone)]
pub(super) struct Back {
    /// Where it lay, and which commit had deleted it.
    pub(super) then: (Slot, u64),
    /// The fields that were written with it.
    pub(super) fields: FieldSet,
}

impl History {
    /// Begins behind a commit of which nothing is known.
    pub(crate) fn after(commit: u64) -> Self {
        Self { forgotten: commit, ..Self::default() }
    }

    /// Remembers a commit; `gone` are rows that it deleted, whether or not they were there.
    pub(crate) fn push(
        &mut self,
        number: u64,
        changes: &Changes,
        gone: &[(TableNo, RowId)],
        is_withdrawal: bool,
    ) {
        let rows = changes.rows.clone();
        let (links, deleted, back) = Default::default();
        let mut past = Past { number, rows, links, deleted, back, is_withdrawal };
        for row in changes.rows.iter() {
            self.set_recent(row.table, row.slot);
            past.add(changes, row, &mut self.gone);
        }
        for (table, id) in gone {
            let is_known = self.gone.get(&(*table, id.clone())).is_some_and(|of| of.by == number);
            if !is_known {
                past.deleted.push((*table, id.clone()));
            }
        }
        if past.weight() > ROWS {
            // Of this many nothing is remembered but that they were written.
            while self.forget_oldest() {}
            self.forget(past);
            return self.make_recent();
        }
        self.rows += past.weight();
        self.again += past.rows.again().len();
        self.commits.push_back(past);
        while (self.rows > ROWS || self.commits.len() > COMMITS || self.again > ROWS)
            && self.forget_oldest()
        {}
        if self.stale > COMMITS {
            self.make_recent();
        }
    }

    /// Recomputes the bits, for the rows that still count, and drops those that are deleted and
    /// count no more.
    fn make_recent(&mut self) {
        self.stale = 0;
        self.recent.clear();
        let commits: Vec<_> = self.commits.iter().map(|past| past.rows.clone()).collect();
        let held: Vec<_> = self.held.iter().filter_map(|(_, rows)| rows.upgrade()).collect();
        for rows in commits.iter().chain(&held) {
            rows.for_each_place(|(table, slot)| self.set_recent(table, slot));
        }
        let gone = &mut self.gone;
        self.missed.retain(|(table, id)| {
            let Entry::Occupied(row) = gone.entry((*table, id.clone())) else { return false };
            let GoneRow { slot, by, .. } = row.get();
            let (slot, by) = (*slot, *by);
            let is_missed = held.iter().any(|rows| rows.misses((*table, slot), by));
            if !is_missed && by <= self.forgotten {
                row.remove();
            }
            is_missed
        });
    }

    /// Whether there was a commit to forget.
    fn forget_oldest(&mut self) -> bool {
        let Some(oldest) = self.commits.pop_front() else { return false };
        self.rows -= oldest.weight();
        self.again -= oldest.rows.again().len();
        self.forget(oldest);
        true
    }

    /// Forgets a commit; those that may still be withdrawn take note of what it wrote.
    fn forget(&mut self, past: Past) {
        self.forgotten = past.number;
        self.stale += 1;
        self.held.retain(|(_, rows)| rows.strong_count() > 0);
        let mut held: Vec<_> = self.held.iter().filter_map(|(_, rows)| rows.upgrade()).collect();
        if !held.is_empty() {
            let wrote = written(&past);
            held.iter().for_each(|rows| rows.note_later(&past, &wrote));
        }
        // Others than this one have it as well.
        if Arc::strong_count(&past.rows) > 1 {
            past.rows.hold(&past);
            self.held.push((past.number, Arc::downgrade(&past.rows)));
            held.push(past.rows);
        }
        for (table, id) in past.deleted {
            let Entry::Occupied(gone) = self.gone.entry((table, id.clone())) else { continue };
            let GoneRow { slot, by, .. } = gone.get();
            let (slot, by) = (*slot, *by);
            if by != past.number {
                continue;
            }
            match held.iter().any(|rows| rows.misses((table, slot), by)) {
                true => self.missed.push((table, id)),
                false => drop(gone.remove()),
            }
        }
    }

    fn set_recent(&mut self, table: TableNo, slot: Slot) {
        let (word, bit) = (slot.0 as usize / 64, slot.0 % 64);
        if self.recent.len() <= table.index() {
            self.recent.resize_with(table.index() + 1, Vec::new);
        }
        let bits = &mut self.recent[table.index()];
        if bits.len() <= word {
            bits.resize(word + 1, 0);
        }
        bits[word] |= 1 << bit;
    }

    /// The commits that may still be withdrawn.
    pub(super) fn all(&self) -> impl Iterator<Item = Arc<ChangedRows>> + '_ {
        let held = self.held.iter().filter_map(|(_, rows)| rows.upgrade());
        self.commits.iter().map(|past| past.rows.clone()).chain(held)
    }

    /// Whether one of the last commits may have changed any row.
    pub(crate) fn has_recent(&self) -> bool {
        !self.recent.is_empty()
    }

    /// Whether one of the last commits may have changed a row.
    pub(crate) fn is_recent(&self, table: TableNo, slot: Slot) -> bool {
        let bits = self.recent.get(table.index()).and_then(|bits| bits.get(slot.0 as usize / 64));
        bits.is_some_and(|word| word >> (slot.0 % 64) & 1 == 1)
    }

    /// The slot of a row that one of the last commits deleted, and which commit that was.
    pub(super) fn gone(&self, table: TableNo, id: &RowId) -> Option<(Slot, u64)> {
        match self.gone.is_empty() {
            true => None,
            false => self.gone.get(&(table, id.clone())).map(|gone| (gone.slot, gone.by)),
        }
    }

    /// Whether one of the last commits deleted a row that had this version, or a later one.
    pub(crate) fn has_deleted(&self, table: TableNo, id: &RowId, version: &Cell<'_>) -> bool {
        if self.gone.is_empty() {
            return false;
        }
        let gone = self.gone.get(&(table, id.clone()));
        match (gone.and_then(|gone| gone.version.as_ref()), version) {
            (Some(Value::Int(gone)), Cell::Int(news)) => news <= gone,
            (Some(Value::Text(gone)), Cell::Text(news)) => **news <= **gone,
            (Some(Value::Timestamp(gone)), Cell::Timestamp(news)) => news <= gone,
            _ => false,
        }
    }

    /// The commit that deleted a row, if it is remembered; a commit that withdrew another one, or
    /// is withdrawn itself, deletes nothing.
    pub(super) fn deleted_by(&self, table: TableNo, id: RowId) -> Option<Option<Arc<ChangedRows>>> {
        let Some(gone) = self.gone.get(&(table, id)) else { return Some(None) };
        let place = self.commits.binary_search_by_key(&gone.by, |past| past.number);
        let held = || {
            let place = self.held.binary_search_by_key(&gone.by, |(number, _)| *number).ok()?;
            self.held[place].1.upgrade()
        };
        let by = place.map_or_else(|_| held(), |place| Some(self.commits[place].rows.clone()));
        (!gone.is_withdrawn && !by.as_ref().is_some_and(|by| by.is_withdrawn())).then_some(by)
    }

    /// The commit that changed these rows, if it is remembered, and those behind it.
    pub(super) fn behind(
        &self,
        rows: &Arc<ChangedRows>,
    ) -> (Option<&Past>, impl Iterator<Item = &Past>) {
        let place = self.commits.iter().position(|past| Arc::ptr_eq(&past.rows, rows));
        let behind = self.commits.iter().skip(place.map_or(0, |place| place + 1));
        (place.map(|place| &self.commits[place]), behind)
    }

    /// The rows that were changed after a commit, unless they are not remembered.
    pub(crate) fn rows_since(&self, commit: u64) -> Option<impl Iterator<Item = (TableNo, Slot)>> {
        let later = self.commits.iter().filter(move |past| past.number > commit);
        let rows = later.flat_map(|past| past.rows.iter().map(|row| (row.table, row.slot)));
        self.remembers_since(commit).then_some(rows)
    }

    /// Whether all that was changed after a commit is remembered.
    pub(crate) fn remembers_since(&self, commit: u64) -> bool {
        commit >= self.forgotten
    }

    /// What was changed after a commit.
    pub(crate) fn since(&self, commit: u64) -> Later {
        let mut later = Later { known: self.remembers_since(commit), ..Later::default() };
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
            for (at, fields) in past.rows.below() {
                later.below.entry(*at).or_default().add(fields);
            }
            later.deleted.extend(past.deleted.iter().cloned());
        }
        later
    }
}

impl Past {
    /// How many rows it remembers, those included that it deleted and that were not there.
    fn weight(&self) -> usize {
        self.rows.len().max(self.deleted.len()).max(self.rows.below().len())
    }

    /// Notes what the row itself does not say later.
    fn add(&mut self, changes: &Changes, row: &RowChange, known: &mut Gone) {
        let is_gone = row.happened == Happened::Deleted;
        let state = if is_gone { &changes.before } else { &changes.after };
        if let TableOrigin::Entries { owner, field } = state.schema.table(row.table).made {
            // An entry of a to-many link is a part of its owner.
            if let Cell::Link(slot) = state.table(row.table).cell(row.slot, OWNER) {
                self.links.push((owner, slot, field));
            }
        } else if is_gone {
            if let Some(id) = state.id(row.table, row.slot).map(|id| id.to_id()) {
                let (slot, by, is_withdrawn) = (row.slot, self.number, self.is_withdrawal);
                let version = state.schema.table(row.table).version;
                let version = version.and_then(|field| state.value(row.table, row.slot, field));
                let gone = GoneRow { slot, by, is_withdrawn, version };
                known.insert((row.table, id.clone()), gone);
                self.deleted.push((row.table, id));
            }
        } else if row.happened == Happened::Inserted
            && !known.is_empty()
            && let Some(id) = state.id(row.table, row.slot).map(|id| id.to_id())
            && let Some(GoneRow { slot: then, by, .. }) = known.remove(&(row.table, id))
        {
            let cells = state.table(row.table);
            let fields = state.schema.table(row.table).field_numbers();
            let came = fields.filter(|field| cells.cell(row.slot, *field) != Cell::Absent);
            let back = Back { then: (then, by), fields: came.collect() };
            self.back.insert((row.table, row.slot), back);
        }
    }
}

/// What was changed since a request began.
#[derive(Default)]
pub(crate) struct Later {
    fields: FxHashMap<(TableNo, Slot), Changed>,
    deleted: FxHashSet<(TableNo, RowId)>,
    /// What was written to rows that pending changes covered, whether or not that changed them.
    below: FxHashMap<(TableNo, Slot), FieldSet>,
    /// Whether all of it is remembered. If not, everything counts as newer.
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
    /// Whether it is known that nothing was changed.
    pub(crate) fn is_nothing(&self) -> bool {
        self.known && self.fields.is_empty() && self.deleted.is_empty() && self.below.is_empty()
    }

    /// Whether some fields of a row that is, or was, covered were written since.
    pub(crate) fn has_written(&self, at: (TableNo, Slot), fields: &FieldSet) -> bool {
        let changed = |changed: &Changed| changed.all || changed.fields.meets(fields);
        !self.known
            || self.fields.get(&at).is_some_and(changed)
            || self.below.get(&at).is_some_and(|written| written.meets(fields))
    }

    /// Whether a row was written since; one that was deleted must not be inserted again.
    pub(crate) fn has_changed(&self, state: &State, table: TableNo, slot: Slot) -> bool {
        let deleted = || {
            let id = state.id(table, slot).map(|id| (table, id.to_id()));
            id.is_some_and(|id| self.deleted.contains(&id))
        };
        match state.table(table).is_row(slot) {
            true => {
                let at = (table, slot);
                !self.known || self.fields.contains_key(&at) || self.below.contains_key(&at)
            }
            false => deleted(),
        }
    }

    /// Leaves out of a row's staged fields what was written since; gives how many values that are
    /// now others that kept.
    pub(crate) fn leave_out(
        &self,
        state: &State,
        table: TableNo,
        slot: Slot,
        staged: &mut StagedRow<'_>,
    ) -> usize {
        let Some(row) = state.table(table).row(slot) else { return 0 };
        let changed = self.fields.get(&(table, slot));
        let below = self.below.get(&(table, slot));
        if self.known && changed.is_none() && below.is_none() {
            return 0;
        }
        let is_newer = |field: FieldNo| {
            !self.known
                || changed.is_some_and(|it| it.all || it.fields.contains(field))
                // A confirmation counts though it changes nothing.
                || below.is_some_and(|written| written.contains(field))
        };
        let (definition, mut kept) = (state.schema.table(table), 0);
        staged.retain(|(field, value)| {
            // A link may have changed, and not to which table it points.
            let newer = is_newer(*field) || definition.paired(*field).is_some_and(is_newer);
            let keep = newer && row.cell(*field) != Cell::Absent;
            kept += usize::from(keep && row.cell(*field) != value.cell());
            !keep
        });
        kept
    }
}
