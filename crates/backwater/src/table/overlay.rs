//! Pending changes over base values: what of a version the remote has not confirmed.
//!
//! It knows which rows are covered, what lies below them, and what lies over them. How a commit
//! writes below them is the matter of the change room.

#![cfg_attr(
    not(feature = "remote"),
    allow(dead_code, reason = "only a remote makes changes that are pending")
)]

use std::sync::{Arc, OnceLock};

use smallvec::SmallVec;

use super::{Cell, Slot, Staged, StagedEntry, StagedRow, State};
use crate::schema::{FieldKind, FieldNo, Schema, TableNo};
use crate::value::RowId;

/// The pending changes of a version, in their order, and the base values of the rows that they
/// cover.
#[derive(Default)]
pub(crate) struct Overlay {
    pub(crate) pending: Shared<Arc<PendingChange>>,
    pub(crate) base: BaseRows,
    /// What the version has yet to note of them.
    unnoted: Option<Arc<dyn Unnoted>>,
    /// The version with that, once somebody has looked.
    noted: OnceLock<Noted>,
}

/// What is to be noted of pending changes.
pub(crate) trait Unnoted: Send + Sync {
    /// Of how many it is.
    fn len(&self) -> usize;

    /// Writes it all into a version.
    fn write(&self, state: State) -> Noted;
}

/// A version in which all is noted.
pub(crate) struct Noted {
    pub(crate) state: Arc<State>,
    /// The rows that were written for that.
    pub(crate) rows: Vec<(TableNo, Slot)>,
}

/// A list that versions share: what was added last stands apart, so that a version with one more
/// copies little of it.
#[derive(Clone)]
pub(crate) struct Shared<T: Clone> {
    most: Arc<Vec<T>>,
    last: SmallVec<[T; LAST]>,
}

/// This many stand apart at most.
const LAST: usize = 8;

impl<T: Clone> Default for Shared<T> {
    fn default() -> Self {
        Vec::new().into()
    }
}

impl<T: Clone> From<Vec<T>> for Shared<T> {
    fn from(all: Vec<T>) -> Self {
        Self { most: Arc::new(all), last: SmallVec::new() }
    }
}

impl<T: Clone> Shared<T> {
    pub(crate) fn iter(&self) -> impl Iterator<Item = &T> {
        self.most.iter().chain(&self.last)
    }

    pub(crate) fn push(&mut self, one: T) {
        if self.last.len() == LAST {
            *self = self.iter().cloned().collect::<Vec<_>>().into();
        }
        self.last.push(one);
    }
}

/// A row, and a version that has it as it is below.
type BaseRow = ((TableNo, Slot), Arc<State>);

/// For each covered row, entries of to-many links among them, a version that has it as it is below:
/// with its base values, or without it. Both parts of the list are in the order of rows: each commit
/// looks for its own here.
#[derive(Clone, Default)]
pub(crate) struct BaseRows(Shared<BaseRow>);

impl BaseRows {
    /// Rows in their order, all of them as a version has them.
    pub(crate) fn of(rows: impl Iterator<Item = (TableNo, Slot)>, base: &Arc<State>) -> Self {
        let rows: Vec<BaseRow> = rows.map(|row| (row, base.clone())).collect();
        debug_assert!(rows.is_sorted_by(|(row, _), (next, _)| row < next));
        Self(rows.into())
    }

    fn parts(&self) -> [&[BaseRow]; 2] {
        [&self.0.last, &self.0.most]
    }

    pub(crate) fn contains(&self, row: (TableNo, Slot)) -> bool {
        self.get(row).is_some()
    }

    pub(crate) fn get(&self, row: (TableNo, Slot)) -> Option<&Arc<State>> {
        self.parts().into_iter().find_map(|part| {
            let place = part.binary_search_by_key(&row, |(known, _)| *known).ok()?;
            Some(&part[place].1)
        })
    }

    /// Whether there is a row of that table.
    fn has_any_of(&self, table: TableNo) -> bool {
        self.parts().into_iter().any(|part| {
            let first = part.partition_point(|((of, _), _)| *of < table);
            part.get(first).is_some_and(|((of, _), _)| *of == table)
        })
    }

    /// Adds a row, if it is not there.
    pub(crate) fn add(&mut self, row: (TableNo, Slot), base: &Arc<State>) {
        if self.contains(row) {
            return;
        }
        if self.0.last.len() == LAST {
            let mut all = Vec::clone(&self.0.most);
            for one in &self.0.last {
                let place = all.partition_point(|(known, _)| *known < one.0);
                all.insert(place, one.clone());
            }
            self.0 = all.into();
        }
        let place = self.0.last.partition_point(|(known, _)| *known < row);
        self.0.last.insert(place, (row, base.clone()));
    }

    /// The rows, in no particular order.
    pub(crate) fn rows(&self) -> impl Iterator<Item = (TableNo, Slot)> + '_ {
        self.0.iter().map(|(row, _)| *row)
    }
}

/// A change that is shown, and that the remote has not confirmed.
#[derive(Debug, Clone)]
pub(crate) struct PendingChange {
    /// Its number, by which its row is known.
    pub(crate) number: i64,
    /// Mostly one.
    pub(crate) rows: SmallVec<[EditedRow; 1]>,
}

/// A row that got another id.
#[derive(Debug, Clone)]
pub(crate) struct RenamedRow {
    pub(crate) table: TableNo,
    /// Where it lay, and where it lies.
    pub(crate) from: Slot,
    pub(crate) to: Slot,
    pub(crate) old: RowId,
    pub(crate) new: RowId,
}

/// What a pending change does to one row.
#[derive(Debug, Clone)]
pub(crate) struct EditedRow {
    pub(crate) table: TableNo,
    pub(crate) slot: Slot,
    pub(crate) edit: Edit,
    /// Whether it makes a row whose id the remote will give.
    pub(crate) is_local: bool,
}

/// To-many links are among the fields, as lists.
#[derive(Debug, Clone)]
pub(crate) enum Edit {
    /// The row is made; one that the remote has made meanwhile is given these fields.
    Insert(StagedRow<'static>),
    /// The row is given these fields, if it is there.
    Update(StagedRow<'static>),
    /// The row is deleted, with what follows it.
    Delete,
}

/// What was noted was that of one version.
impl Clone for Overlay {
    fn clone(&self) -> Self {
        let (pending, base) = (self.pending.clone(), self.base.clone());
        Self { pending, base, unnoted: self.unnoted.clone(), noted: OnceLock::new() }
    }
}

impl Overlay {
    pub(crate) fn new(pending: Vec<Arc<PendingChange>>, base: BaseRows) -> Self {
        Self { pending: pending.into(), base, ..Self::default() }
    }

    /// Of how many changes something is yet to be noted.
    pub(crate) fn unnoted(&self) -> usize {
        self.unnoted.as_ref().map_or(0, |unnoted| unnoted.len())
    }

    pub(crate) fn take_unnoted(&mut self) -> Option<Arc<dyn Unnoted>> {
        self.unnoted.take()
    }

    pub(crate) fn set_unnoted(&mut self, unnoted: Arc<dyn Unnoted>) {
        self.unnoted = Some(unnoted);
    }

    pub(crate) fn covers(&self, table: TableNo, slot: Slot) -> bool {
        self.base.contains((table, slot))
    }

    /// Whether a row of that table is covered.
    pub(crate) fn covers_any_of(&self, table: TableNo) -> bool {
        self.base.has_any_of(table)
    }

    /// The edits of a row, in their order.
    pub(crate) fn edits_of(&self, table: TableNo, slot: Slot) -> impl Iterator<Item = &Edit> {
        // Most rows are not covered.
        let pending = self.covers(table, slot).then(|| self.pending.iter());
        let rows = pending.into_iter().flatten().flat_map(|change| &change.rows);
        rows.filter(move |row| (row.table, row.slot) == (table, slot)).map(|row| &row.edit)
    }
}

impl PendingChange {
    /// The row that it makes and whose id the remote will give, if there is one.
    pub(crate) fn local_row(&self) -> Option<(TableNo, Slot)> {
        let mut rows = self.rows.iter().filter(|row| row.is_local);
        rows.next().map(|row| (row.table, row.slot))
    }

    /// The same change once a row has another id: what it does to it, and what points at it.
    pub(crate) fn moved(&self, schema: &Schema, renamed: &RenamedRow) -> Self {
        let slot = |of: TableNo, slot: &mut Slot| {
            if of == renamed.table && *slot == renamed.from {
                *slot = renamed.to;
            }
        };
        let mut rows = self.rows.clone();
        for row in &mut rows {
            slot(row.table, &mut row.slot);
            let (Edit::Insert(fields) | Edit::Update(fields)) = &mut row.edit else { continue };
            for (field, staged) in fields {
                match (staged, schema.table(row.table).field(*field).kind) {
                    (Staged::Link(at), FieldKind::Link(of)) => slot(of, at),
                    (Staged::OneOf(of, at), _) => slot(*of, at),
                    (Staged::Links(entries), _) => {
                        entries.iter_mut().for_each(|entry| slot(entry.table, &mut entry.slot));
                    }
                    _ => {}
                }
            }
        }
        Self { number: self.number, rows }
    }

    /// Both changes as one.
    pub(crate) fn followed_by(&self, later: &Self) -> Self {
        let mut rows = self.rows.clone();
        for row in &later.rows {
            let known = rows.iter_mut().find(|of| (of.table, of.slot) == (row.table, row.slot));
            match known {
                Some(known) => known.edit.follow(&row.edit),
                None => rows.push(row.clone()),
            }
        }
        Self { number: self.number, rows }
    }
}

impl Edit {
    fn follow(&mut self, later: &Edit) {
        match (&mut *self, later) {
            (Edit::Insert(fields) | Edit::Update(fields), Edit::Update(more)) => {
                fields.retain(|(field, _)| !more.iter().any(|(written, _)| written == field));
                fields.extend(more.iter().cloned());
            }
            _ => *self = later.clone(),
        }
    }

    /// The fields that it writes.
    pub(crate) fn fields(&self) -> &[(FieldNo, Staged<'static>)] {
        match self {
            Edit::Insert(fields) | Edit::Update(fields) => fields,
            Edit::Delete => &[],
        }
    }
}

impl State {
    /// This version, which was committed, with all that is to be noted of pending changes; `None` if
    /// it has that.
    pub(crate) fn noted(&self) -> Option<&Noted> {
        // Only a remote makes such changes.
        let overlay = self.overlay.as_deref().filter(|_| cfg!(feature = "remote"))?;
        let unnoted = overlay.unnoted.as_ref()?;
        Some(overlay.noted.get_or_init(|| {
            let mut state = self.clone();
            let rest = Overlay { unnoted: None, ..overlay.clone() };
            state.overlay = Some(Arc::new(rest));
            unnoted.write(state)
        }))
    }

    /// Takes the library's own tables from another version.
    pub(crate) fn take_own_tables(&mut self, other: &Self) {
        let schema = other.schema.clone();
        for table in schema.table_numbers().filter(|table| schema.table(*table).is_own()) {
            self.share_table(other, table);
        }
    }

    /// Of how many changes there is something.
    pub(crate) fn unnoted(&self) -> usize {
        self.overlay.as_ref().map_or(0, |overlay| overlay.unnoted())
    }

    /// Whether somebody has asked for that.
    pub(crate) fn is_noted(&self) -> bool {
        self.overlay.as_ref().is_some_and(|overlay| overlay.noted.get().is_some())
    }

    /// The rows at which the rows of a change are to point, by fields or as parts of their ids.
    pub(crate) fn points_of(&self, change: &PendingChange) -> Vec<(TableNo, Slot)> {
        let mut points = Vec::new();
        for row in &change.rows {
            let definition = self.schema.table(row.table);
            let kind = |field: FieldNo| definition.field(field).kind;
            for field in &definition.id {
                if let FieldKind::Link(to) = kind(*field)
                    && let Cell::Link(slot) = self.table(row.table).cell(row.slot, *field)
                {
                    points.push((to, slot));
                }
            }
            for (field, staged) in row.edit.fields() {
                match (staged, kind(*field)) {
                    (Staged::Link(slot), FieldKind::Link(to)) => points.push((to, *slot)),
                    (Staged::OneOf(to, slot), _) => points.push((*to, *slot)),
                    (Staged::Links(entries), _) => {
                        points.extend(entries.iter().map(StagedEntry::target));
                    }
                    _ => {}
                }
            }
        }
        points
    }

    /// Gives a row what another version of the same cache has in its slot.
    pub(crate) fn take_row(&mut self, other: &Self, table: TableNo, slot: Slot) {
        match other.table(table).row(slot) {
            Some(row) => {
                let fields = self.schema.table(table).field_numbers();
                let cells: Vec<(FieldNo, Cell<'_>)> =
                    fields.map(|field| (field, row.cell(field))).collect();
                let rows = self.table_mut(table);
                rows.merge(slot, &cells);
                // What must not be stored must not after it was hidden, either.
                let is_unstored = other.table(table).is_unstored(slot);
                if is_unstored != rows.is_unstored(slot) {
                    rows.set_unstored(slot, is_unstored);
                }
            }
            None if self.table(table).is_row(slot) => self.table_mut(table).delete(slot),
            None => {}
        }
    }

    /// Gives each covered row its base values.
    pub(crate) fn uncover(&mut self, overlay: &Overlay) {
        for ((table, slot), base) in overlay.base.0.iter() {
            self.take_row(base, *table, *slot);
        }
        self.overlay = None;
    }
}
