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

use super::parts::Parts;
use super::{Cell, RowAt, Slot, Staged, StagedEntry, State, row_key};
use crate::schema::{FieldKind, FieldNo, Schema, TableNo};
use crate::sorting::{self, Numbered};
use crate::value::RowId;

/// The pending changes of a version, in their order, and for each row that they cover, entries of
/// to-many links among them, a version that has it as it is below: with its base values, or without
/// it. Each commit looks for its own rows here.
#[derive(Default)]
pub(crate) struct Overlay {
    /// The newest change, if it stands apart.
    newest: Option<Arc<Layer>>,
    /// The others.
    older: Arc<Layers>,
    /// Of tables that differ from the last version below, how often their rows had been written when
    /// only covered ones were others.
    written: Written,
    /// What the version has yet to note of them.
    unnoted: Option<Arc<dyn Unnoted>>,
    /// The version with that, once somebody has looked.
    noted: OnceLock<Noted>,
}

type Written = SmallVec<[(TableNo, u64); 1]>;

/// A change that stands apart, so that a version with it copies nothing.
struct Layer {
    change: Arc<PendingChange>,
    /// The rows that no change before it covers, in their order.
    covers: SmallVec<[RowAt; 1]>,
    /// They are below as this version has them.
    below: Arc<State>,
    is_entangled: bool,
    before: Option<Arc<Layer>>,
    /// How many there are.
    depth: usize,
}

/// This many stand apart at most; in tests fewer, since these make few changes.
const APART: usize = if cfg!(test) { 2 } else { 8 };

/// Where more rows than that have to do with each other, it is not looked for which.
const MUCH: usize = 64;

#[derive(Clone, Default)]
struct Layers {
    /// Whether some do not stand by themselves: see [`Overlay::apart`].
    are_entangled: bool,
    pending: Parts<Arc<PendingChange>>,
    /// The rows that they edit, and which of them does.
    edited: Parts<Numbered>,
    /// The rows that are covered, and which of the versions has them.
    covered: Parts<Numbered>,
    /// Versions without pending changes.
    below: Parts<Arc<State>>,
}

impl Layers {
    /// The same with other changes, and further rows that are covered.
    fn with_all(
        mut self,
        pending: Vec<Arc<PendingChange>>,
        covered: &[RowAt],
        below: Arc<State>,
    ) -> Self {
        let edited = edited_rows(&pending, 0);
        let is_edited =
            |row: &RowAt| edited.binary_search_by_key(&row_key(*row), |(known, _)| *known).is_ok();
        self.are_entangled |= !covered.iter().all(is_edited)
            || !pending.iter().all(|change| change.is_by_itself(&below.schema));
        (self.edited, self.pending) = (Parts::default(), Parts::default());
        self.edited.add(edited);
        self.pending.append(pending);
        let version = self.below.len() as u32;
        self.covered.add(sorted(covered.iter().map(|row| (row_key(*row), version)).collect()));
        self.below.append(vec![below]);
        self
    }

    /// The same without some changes, and without some rows, in their order, that are covered.
    fn without(&self, numbers: &[i64], rows: &[RowAt]) -> Self {
        let pending = self.pending.iter().filter(|change| !numbers.contains(&change.number));
        let pending: Vec<_> = pending.cloned().collect();
        let covered =
            self.covered.iter().filter(|(row, _)| rows.binary_search(&row_of(*row)).is_err());
        let mut covered: Vec<Numbered> = covered.copied().collect();
        // Versions that are of no use any more would be kept for as long as any change is pending.
        let (mut renumbered, mut below) = (vec![None; self.below.len()], Vec::new());
        for (_, version) in &mut covered {
            let old = *version as usize;
            *version = *renumbered[old].get_or_insert_with(|| {
                below.extend(self.below.get(old).cloned());
                below.len() as u32 - 1
            });
        }
        let mut all = Self { are_entangled: self.are_entangled, ..Self::default() };
        all.edited.add(edited_rows(&pending, 0));
        all.pending.append(pending);
        all.covered.add(sorted(covered));
        all.below.append(below);
        all
    }

    /// The same with those that stood apart.
    fn with<'l>(&self, layers: impl Iterator<Item = &'l Layer>) -> Self {
        let mut all = self.clone();
        let (mut changes, mut covered) = (Vec::with_capacity(APART), Vec::with_capacity(APART));
        for layer in layers {
            all.are_entangled |= layer.is_entangled;
            changes.push(layer.change.clone());
            if all.below.last().is_none_or(|last| !Arc::ptr_eq(last, &layer.below)) {
                all.below.append(vec![layer.below.clone()]);
            }
            let version = all.below.len() as u32 - 1;
            covered.extend(layer.covers.iter().map(|row| (row_key(*row), version)));
        }
        all.covered.add(sorted(covered));
        all.edited.add(edited_rows(&changes, all.pending.len()));
        all.pending.append(changes);
        all
    }

    fn below(&self, row: RowAt) -> Option<&Arc<State>> {
        let version = self.covered.parts().find_map(|part| {
            let place = part.binary_search_by_key(&row_key(row), |(known, _)| *known).ok()?;
            Some(part[place].1)
        });
        self.below.get(version? as usize)
    }

    /// The changes that edit a row, in their order.
    fn editing(&self, row: RowAt) -> impl Iterator<Item = &Arc<PendingChange>> {
        let row = row_key(row);
        let places = self.edited.parts().flat_map(move |part| {
            let of_row = &part[part.partition_point(|(known, _)| *known < row)..];
            of_row.iter().take_while(move |(known, _)| *known == row)
        });
        places.filter_map(|(_, place)| self.pending.get(*place as usize))
    }
}

/// The rows that changes edit, in their order, and which of them does; the first one is known by that
/// number.
fn edited_rows(changes: &[Arc<PendingChange>], first: usize) -> Vec<Numbered> {
    let mut edited = Vec::with_capacity(changes.len());
    for (change, number) in changes.iter().zip(first as u32..) {
        edited.extend(change.rows.iter().map(|row| (row_key((row.table, row.slot)), number)));
    }
    sorted(edited)
}

fn sorted(mut rows: Vec<Numbered>) -> Vec<Numbered> {
    sorting::numbers(&mut rows, &|one, other| one.cmp(&other));
    rows
}

/// The row of such a number.
fn row_of(key: u64) -> RowAt {
    (TableNo((key >> 32) as u32), Slot(key as u32))
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

/// What a pending change writes to a row.
pub(crate) type EditedFields = SmallVec<[(FieldNo, Staged<'static>); 1]>;

/// To-many links are among the fields, as lists.
#[derive(Debug, Clone)]
pub(crate) enum Edit {
    /// The row is made; one that the remote has made meanwhile is given these fields.
    Insert(EditedFields),
    /// The row is given these fields, if it is there.
    Update(EditedFields),
    /// The row is deleted, with what follows it.
    Delete,
}

/// What was noted was that of one version.
impl Clone for Overlay {
    fn clone(&self) -> Self {
        Self {
            newest: self.newest.clone(),
            older: self.older.clone(),
            written: self.written.clone(),
            unnoted: self.unnoted.clone(),
            noted: OnceLock::new(),
        }
    }
}

impl Overlay {
    /// Pending changes that cover rows, all of which lie below in one version; what is shown is
    /// another one.
    pub(crate) fn new(
        pending: Vec<Arc<PendingChange>>,
        covered: &[RowAt],
        below: Arc<State>,
        shown: &State,
    ) -> Self {
        Self::default().with_all(pending, covered, below, shown)
    }

    /// The same with other changes, and further rows that are covered: these lie below in that
    /// version.
    pub(crate) fn with_all(
        &self,
        pending: Vec<Arc<PendingChange>>,
        covered: &[RowAt],
        below: Arc<State>,
        shown: &State,
    ) -> Self {
        let all = self.all().with_all(pending, covered, below);
        let mut overlay = Self { older: Arc::new(all), ..Self::default() };
        overlay.note_written(shown);
        overlay
    }

    /// The same without some changes, and without some rows, in their order, that are covered.
    pub(crate) fn without(&self, numbers: &[i64], rows: &[RowAt]) -> Self {
        Self { older: Arc::new(self.all().without(numbers, rows)), ..Self::default() }
    }

    fn all(&self) -> Layers {
        self.older.with(self.layers().into_iter().rev())
    }

    /// Whether a change does not stand by itself.
    pub(crate) fn is_entangled(&self) -> bool {
        self.older.are_entangled || self.layers().iter().any(|layer| layer.is_entangled)
    }

    /// A change and rows, with all changes that have to do with them, and all rows that these edit:
    /// the numbers of the changes, and the rows in their order. `None` if that is not known to be all
    /// that depends on them, or if it is much.
    ///
    /// A change stands by itself if it covers no rows but those that it edits, and neither deletes any,
    /// nor writes to-many links, nor concerns a table with unique keys.
    pub(crate) fn apart(
        &self,
        change: Option<i64>,
        rows: &[RowAt],
    ) -> Option<(Vec<i64>, Vec<RowAt>)> {
        if self.is_entangled() {
            return None;
        }
        let rows_of = |change: &PendingChange| -> Vec<RowAt> {
            change.rows.iter().map(|row| (row.table, row.slot)).collect()
        };
        let (mut numbers, mut all) = (Vec::new(), rows.to_vec());
        if let Some(number) = change {
            let change = self.pending().find(|change| change.number == number)?;
            numbers.push(number);
            all.extend(rows_of(change));
        }
        let mut next = 0;
        while let Some(row) = all.get(next).copied() {
            next += 1;
            for change in self.editing(row) {
                if !numbers.contains(&change.number) {
                    numbers.push(change.number);
                    all.extend(rows_of(change));
                }
            }
            if all.len() > MUCH {
                return None;
            }
        }
        sorting::few_once(&mut all);
        Some((numbers, all))
    }

    /// The changes that edit a row, in their order.
    fn editing(&self, row: RowAt) -> impl Iterator<Item = &Arc<PendingChange>> {
        let apart = self.layers().into_iter().rev().map(|layer| &layer.change);
        let edits = move |change: &&Arc<PendingChange>| {
            change.rows.iter().any(|edited| (edited.table, edited.slot) == row)
        };
        self.older.editing(row).chain(apart.filter(edits))
    }

    /// Adds a change that covers rows; `before` is the version before it, and `shown` the one with
    /// it.
    pub(crate) fn push(
        &mut self,
        change: Arc<PendingChange>,
        rows: impl IntoIterator<Item = RowAt>,
        before: &Arc<State>,
        shown: &State,
    ) {
        let covers = rows.into_iter().filter(|row| self.below(*row).is_none());
        let covers: SmallVec<[RowAt; 1]> = covers.collect();
        let last = self.last_below().filter(|last| self.is_current(last, before)).cloned();
        let below = last.unwrap_or_else(|| {
            let mut below = before.clone();
            // One that had pending changes would keep all versions before it, too.
            if before.overlay.is_some() {
                Arc::make_mut(&mut below).overlay = None;
            }
            below
        });
        let mut depth = 1 + self.newest.as_ref().map_or(0, |newest| newest.depth);
        if depth > APART {
            self.older = Arc::new(self.older.with(self.layers().into_iter().rev()));
            (self.newest, depth) = (None, 1);
        }
        let before = self.newest.take();
        let is_edited = |at: &RowAt| change.rows.iter().any(|row| (row.table, row.slot) == *at);
        let is_entangled = !change.is_by_itself(&shown.schema) || !covers.iter().all(is_edited);
        let layer = Layer { change, covers, below, is_entangled, before, depth };
        self.newest = Some(Arc::new(layer));
        self.note_written(shown);
    }

    fn last_below(&self) -> Option<&Arc<State>> {
        let newest = self.newest.as_ref().map(|layer| &layer.below);
        newest.or_else(|| self.older.below.last())
    }

    /// Whether rows that are not covered are in the last version below as in a later one.
    fn is_current(&self, last: &State, later: &State) -> bool {
        let as_known = |table: TableNo| {
            let known = self.written.iter().find(|(known, _)| *known == table);
            known.is_some_and(|(_, writes)| *writes == later.table(table).writes())
        };
        Arc::ptr_eq(&last.schema, &later.schema) && last.differing(later).all(as_known)
    }

    /// Only covered rows are others in that version than in the last one below.
    fn note_written(&mut self, shown: &State) {
        let Some(last) = self.last_below() else { return };
        let mut written = Written::new();
        for table in last.differing(shown) {
            written.push((table, shown.table(table).writes()));
        }
        self.written = written;
    }

    /// The changes that stand apart, the newest one first.
    fn layers(&self) -> SmallVec<[&Layer; APART]> {
        std::iter::successors(self.newest.as_deref(), |layer| layer.before.as_deref()).collect()
    }

    /// The pending changes, in their order.
    pub(crate) fn pending(&self) -> impl Iterator<Item = &Arc<PendingChange>> {
        let apart = self.layers().into_iter().rev().map(|layer| &layer.change);
        self.older.pending.iter().chain(apart)
    }

    /// The rows that are covered, in no particular order.
    pub(crate) fn covered(&self) -> impl Iterator<Item = RowAt> {
        let older = self.older.covered.iter().map(|(row, _)| row_of(*row));
        older.chain(self.layers().into_iter().flat_map(|layer| layer.covers.iter().copied()))
    }

    /// The version that has a row as it is below; none if it is not covered.
    pub(crate) fn below(&self, row: RowAt) -> Option<&Arc<State>> {
        let mut layer = self.newest.as_deref();
        while let Some(Layer { covers, below, before, .. }) = layer {
            if covers.binary_search(&row).is_ok() {
                return Some(below);
            }
            layer = before.as_deref();
        }
        self.older.below(row)
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
        self.below((table, slot)).is_some()
    }

    /// Whether a row of that table is covered.
    pub(crate) fn covers_any_of(&self, table: TableNo) -> bool {
        let is_of = |row: RowAt| row.0 == table;
        let mut older = self.older.covered.parts();
        older.any(|part| {
            let first = part.partition_point(|(row, _)| *row < row_key((table, Slot(0))));
            part.get(first).is_some_and(|(row, _)| is_of(row_of(*row)))
        }) || self.layers().iter().any(|layer| layer.covers.iter().any(|row| is_of(*row)))
    }

    /// The edits of a row, in their order.
    pub(crate) fn edits_of(&self, table: TableNo, slot: Slot) -> impl Iterator<Item = &Edit> {
        let row = (table, slot);
        let rows = self.editing(row).flat_map(|change| &change.rows);
        rows.filter(move |edited| (edited.table, edited.slot) == row).map(|edited| &edited.edit)
    }
}

impl PendingChange {
    /// Whether what it does is said by its rows alone, whatever other rows there are.
    fn is_by_itself(&self, schema: &Schema) -> bool {
        self.rows.iter().all(|row| {
            let is_plain =
                |(_, staged): &(FieldNo, Staged<'_>)| !matches!(staged, Staged::Links(_));
            !matches!(row.edit, Edit::Delete)
                && row.edit.fields().iter().all(is_plain)
                && schema.table(row.table).unique.is_empty()
        })
    }

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
        self.uncover_rows(overlay, overlay.covered());
    }

    /// Gives some rows their base values; of others nothing is known from here on.
    pub(crate) fn uncover_rows(&mut self, overlay: &Overlay, rows: impl Iterator<Item = RowAt>) {
        for row in rows {
            if let Some(below) = overlay.below(row) {
                self.take_row(below, row.0, row.1);
            }
        }
        self.overlay = None;
    }
}
