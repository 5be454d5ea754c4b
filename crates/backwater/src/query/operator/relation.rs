//! What a statement reads, as of one commit: rows of tables, and rows of other statements.

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use crate::change::FieldSet;
use crate::query::expr::scalar::{Key, Scalar};
use crate::query::expr::{ColumnNo, Columns};
use crate::query::operator::aggregate::AggregateFunction;
use crate::query::operator::filter::Filter;
use crate::query::plan::{Access, Plan, Relation, Source};
use crate::query::result::edit::Failure;
use crate::schema::{FieldNo, Kind, TableNo};
use crate::table::{Cell, ChunkRows, RowCells, Slot, State};
use crate::value::Value;

/// In the place of a partner that a left join did not find.
pub(crate) const NONE: Slot = Slot(u32::MAX);

/// One row of each source of a statement.
pub(crate) type Tuple = SmallVec<[Slot; 4]>;

/// The rows that make up a tuple's key.
pub(crate) fn key_slots(sources: &[Source], tuple: &[Slot]) -> Tuple {
    let slots = sources.iter().zip(tuple).filter(|(source, _)| !source.is_determined);
    slots.map(|(_, slot)| *slot).collect()
}

/// The rows of a statement's result, for statements that read it.
#[derive(Debug, Clone, Default)]
pub(crate) struct Derived {
    rows: Vec<Option<Arc<DerivedRow>>>,
    places: HashMap<Box<[Key]>, Slot>,
    free: Vec<Slot>,
    indexes: Vec<DerivedIndex>,
    /// How many rows cannot be computed, and why one that was needed cannot.
    failed: usize,
    needed: RefCell<Option<Failure>>,
}

#[derive(Debug, Clone)]
struct DerivedIndex {
    fields: Vec<FieldNo>,
    slots: HashMap<Box<[Key]>, Vec<Slot>>,
}

#[derive(Debug, PartialEq)]
pub(crate) struct DerivedRow {
    pub(crate) values: Box<[Scalar<'static>]>,
    /// The row's key, which also orders rows.
    pub(crate) key: Box<[Scalar<'static>]>,
    /// Why its values, except for a group's key, cannot be computed.
    pub(crate) failed: Option<Failure>,
}

/// What became of one row of a statement's result.
#[derive(Debug, Clone)]
pub(crate) struct DerivedChange {
    pub(crate) slot: Slot,
    pub(crate) before: Option<Arc<DerivedRow>>,
}

impl Derived {
    /// Puts a row in, or another one in its place; `None` takes it out.
    pub(crate) fn set(&mut self, key: &[Key], row: Option<Arc<DerivedRow>>) -> DerivedChange {
        let slot = match self.places.get(key) {
            Some(slot) => *slot,
            None => {
                let slot = self.free.pop().unwrap_or_else(|| {
                    self.rows.push(None);
                    Slot(self.rows.len() as u32 - 1)
                });
                self.places.insert(key.into(), slot);
                slot
            }
        };
        if row.is_none() {
            self.places.remove(key);
            self.free.push(slot);
        }
        let before = std::mem::replace(&mut self.rows[slot.0 as usize], row.clone());
        self.failed = self.failed + failures(row.as_ref()) - failures(before.as_ref());
        for index in &mut self.indexes {
            if let Some(key) = before.as_ref().and_then(|row| row.key_of(&index.fields))
                && let Some(slots) = index.slots.get_mut(&key)
            {
                slots.retain(|other| *other != slot);
                if slots.is_empty() {
                    index.slots.remove(&key);
                }
            }
            if let Some(key) = row.as_ref().and_then(|row| row.key_of(&index.fields)) {
                index.slots.entry(key).or_default().push(slot);
            }
        }
        DerivedChange { slot, before }
    }

    /// Replaces all rows by these; returns what that changes.
    pub(crate) fn replace_all(
        &mut self,
        fresh: impl Iterator<Item = (Box<[Key]>, DerivedRow)>,
    ) -> Vec<DerivedChange> {
        let mut gone: HashMap<Box<[Key]>, Slot> = self.places.clone();
        let mut changes = Vec::new();
        for (key, row) in fresh {
            let known = gone.remove(&key).and_then(|slot| self.row(slot));
            if known.is_none_or(|known| **known != row) {
                changes.push(self.set(&key, Some(Arc::new(row))));
            }
        }
        changes.extend(gone.into_keys().map(|key| self.set(&key, None)));
        changes
    }

    /// Makes sure that rows can be found by the values of these columns.
    pub(crate) fn index(&mut self, fields: &[FieldNo]) {
        if self.indexes.iter().any(|index| index.fields == fields) {
            return;
        }
        let rows = (0..).map(Slot).zip(&self.rows);
        self.indexes.push(DerivedIndex::of(fields, rows));
    }

    pub(crate) fn row(&self, slot: Slot) -> Option<&Arc<DerivedRow>> {
        self.rows.get(slot.0 as usize)?.as_ref()
    }

    /// How the rows have changed since they were these.
    pub(crate) fn changes_since(&self, then: &Self) -> Vec<DerivedChange> {
        let slots = (0..self.rows.len().max(then.rows.len()) as u32).map(Slot);
        let changed = slots.filter(|slot| self.row(*slot) != then.row(*slot));
        changed.map(|slot| DerivedChange { slot, before: then.row(slot).cloned() }).collect()
    }

    /// Why a row that was needed since the last call cannot be computed.
    pub(crate) fn take_needed(&self) -> Option<Failure> {
        self.needed.borrow_mut().take()
    }
}

impl DerivedIndex {
    fn of<'r>(
        fields: &[FieldNo],
        rows: impl Iterator<Item = (Slot, &'r Option<Arc<DerivedRow>>)>,
    ) -> Self {
        let mut slots: HashMap<Box<[Key]>, Vec<Slot>> = HashMap::new();
        for (slot, row) in rows {
            if let Some(key) = row.as_ref().and_then(|row| row.key_of(fields)) {
                slots.entry(key).or_default().push(slot);
            }
        }
        Self { fields: fields.to_vec(), slots }
    }
}

/// What some rows of a statement were at an earlier commit.
#[derive(Debug, Default)]
pub(crate) struct Undo {
    rows: FxHashMap<Slot, Option<Arc<DerivedRow>>>,
    /// Whether one of them cannot be computed.
    has_failed: bool,
    /// Made when they are looked for.
    indexes: RefCell<Vec<DerivedIndex>>,
}

impl Undo {
    /// What a row was, unless something earlier is known of it.
    pub(crate) fn add(&mut self, slot: Slot, row: &Option<Arc<DerivedRow>>) {
        self.rows.entry(slot).or_insert_with(|| row.clone());
        self.has_failed |= failures(row.as_ref()) > 0;
        self.indexes.get_mut().clear();
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = (Slot, &Option<Arc<DerivedRow>>)> {
        self.rows.iter().map(|(slot, row)| (*slot, row))
    }

    /// Those that had these values in these columns.
    fn equal(&self, fields: &[FieldNo], key: &[Key]) -> Vec<Slot> {
        let mut indexes = self.indexes.borrow_mut();
        let known = indexes.iter().position(|index| index.fields == fields);
        let known = known.unwrap_or_else(|| {
            indexes.push(DerivedIndex::of(fields, self.iter()));
            indexes.len() - 1
        });
        indexes[known].slots.get(key).cloned().unwrap_or_default()
    }
}

fn failures(row: Option<&Arc<DerivedRow>>) -> usize {
    usize::from(row.is_some_and(|row| row.failed.is_some()))
}

impl DerivedRow {
    fn key_of(&self, fields: &[FieldNo]) -> Option<Box<[Key]>> {
        let keys = fields.iter().map(|field| match &self.values[field.index()] {
            Scalar::Null => None,
            value => Some(Key::from(value.clone())),
        });
        keys.collect()
    }
}

/// The columns in which two versions of a row differ; all of them, if it entered or left.
pub(crate) fn changed_columns(
    before: Option<&DerivedRow>,
    after: Option<&DerivedRow>,
) -> Option<FieldSet> {
    let (before, after) = (before?, after?);
    let values = before.values.iter().zip(&after.values).enumerate();
    let all = before.failed != after.failed;
    Some(values.filter(|(_, (a, b))| all || a != b).map(|(n, _)| FieldNo(n as u32)).collect())
}

/// The rows of another statement as of one commit: as they are, or with what has changed since put
/// back.
#[derive(Clone, Copy)]
pub(crate) struct DerivedView<'a> {
    pub(crate) rows: &'a Derived,
    pub(crate) undo: Option<&'a Undo>,
}

impl<'a> DerivedView<'a> {
    pub(crate) fn row(&self, slot: Slot) -> Option<&'a DerivedRow> {
        match self.undo.and_then(|undo| undo.rows.get(&slot)) {
            Some(before) => before.as_deref(),
            None => self.rows.row(slot).map(|row| &**row),
        }
    }

    /// Whether there are rows that cannot be computed.
    fn has_failed(&self) -> bool {
        self.rows.failed > 0 || self.undo.is_some_and(|undo| undo.has_failed)
    }

    /// Notes that something was needed that cannot be computed.
    #[cold]
    fn fail(&self, failure: &Failure) {
        self.rows.needed.replace(Some(failure.clone()));
    }

    fn slots(&self) -> Vec<Slot> {
        let all = (0..self.rows.rows.len() as u32).map(Slot);
        all.filter(|slot| self.row(*slot).is_some()).collect()
    }

    /// The rows with these values in these columns.
    fn equal(&self, fields: &[FieldNo], key: &[Key]) -> Vec<Slot> {
        let index = self.rows.indexes.iter().find(|index| index.fields == fields);
        debug_assert!(index.is_some(), "its readers have this index made");
        let now = index.and_then(|index| index.slots.get(key)).into_iter().flatten();
        let Some(undo) = self.undo else {
            return now.copied().collect();
        };
        let now = now.filter(|slot| !undo.rows.contains_key(slot)).copied();
        now.chain(undo.equal(fields, key)).collect()
    }
}

/// All that a statement reads, as of one commit.
#[derive(Clone, Copy)]
pub(crate) struct View<'a> {
    pub(crate) plan: &'a Plan,
    pub(crate) state: &'a State,
    /// For each source that is another statement, its rows, in the order of these sources.
    pub(crate) derived: &'a [Option<DerivedView<'a>>],
}

impl<'a> View<'a> {
    pub(crate) fn row<'s>(&'s self, slots: &'s [Slot]) -> TupleRow<'a, 's> {
        TupleRow { view: self, slots }
    }

    fn derived(&self, source: usize) -> Option<DerivedView<'a>> {
        self.derived.get(source).copied().flatten()
    }

    /// Why something that was needed since the last call cannot be computed.
    pub(crate) fn take_needed(&self) -> Option<Failure> {
        let derived = self.derived.iter().flatten();
        derived.fold(None, |failure, derived| derived.rows.take_needed().or(failure))
    }

    /// Whether it reads statements of which some rows cannot be computed.
    pub(crate) fn has_failed(&self) -> bool {
        self.derived.iter().flatten().any(DerivedView::has_failed)
    }

    /// Why it is unknown whether a row of another statement is there.
    pub(crate) fn doubt(&self, source: usize, slot: Slot) -> Option<Failure> {
        let Relation::Statement(plan, _) = &self.plan.sources[source].relation else { return None };
        plan.grouping.as_ref()?.having.as_ref()?;
        self.derived(source)?.row(slot)?.failed.clone()
    }

    /// Notes if rows of another statement are looked for and it is unknown of one whether it is
    /// there; `is_sure` if the look-up itself uses known values only.
    fn note_needed(&self, source: usize, slots: &[Slot], is_sure: bool) {
        let Relation::Statement(plan, _) = &self.plan.sources[source].relation else { return };
        let Some(derived) = self.derived(source).filter(DerivedView::has_failed) else { return };
        let has_having = plan.grouping.as_ref().is_some_and(|grouping| grouping.having.is_some());
        let failed = |slot: &Slot| derived.row(*slot).and_then(|row| row.failed.as_ref());
        if !is_sure {
            let mut all = derived.slots().into_iter();
            all.find_map(|slot| failed(&slot))
                .into_iter()
                .for_each(|failure| derived.fail(failure));
        } else if has_having {
            slots.iter().find_map(failed).into_iter().for_each(|failure| derived.fail(failure));
        }
    }

    #[inline]
    pub(crate) fn value(&self, column: ColumnNo, slot: Slot) -> Scalar<'a> {
        if slot == NONE {
            return Scalar::Null;
        }
        match &self.plan.sources[column.source()].relation {
            Relation::Table(table) => Scalar::of_cell(self.state, *table, slot, column.field()),
            Relation::Statement(..) => {
                let Some(derived) = self.derived(column.source()) else { return Scalar::Null };
                let Some(row) = derived.row(slot) else { return Scalar::Null };
                if let Some(failure) = &row.failed
                    && !self.is_sure(column.source(), column.field())
                {
                    derived.fail(failure);
                }
                row.values[column.column as usize].lend()
            }
        }
    }

    /// Whether a column of another statement is known for each of its groups: no sum is part of it.
    fn is_sure(&self, source: usize, column: FieldNo) -> bool {
        let Relation::Statement(plan, _) = &self.plan.sources[source].relation else { return true };
        let Some(grouping) = &plan.grouping else { return true };
        let columns = plan.outputs.get(column.index()).map(|output| output.expr.columns());
        columns.into_iter().flatten().all(|column| {
            let aggregate = (column.column as usize).checked_sub(grouping.keys.len());
            let aggregate = aggregate.and_then(|number| grouping.aggregates.get(number));
            aggregate.is_none_or(|aggregate| aggregate.function != AggregateFunction::Sum)
        })
    }

    pub(crate) fn is_row(&self, source: usize, slot: Slot) -> bool {
        match &self.plan.sources[source].relation {
            Relation::Table(table) => self.state.table(*table).is_row(slot),
            Relation::Statement(..) => {
                self.derived(source).is_some_and(|derived| derived.row(slot).is_some())
            }
        }
    }

    /// Calls `found` with all rows of a source.
    pub(crate) fn scan(&self, source: usize, found: &mut dyn FnMut(Slot)) {
        match &self.plan.sources[source].relation {
            Relation::Table(table) => self.state.table(*table).iter().for_each(found),
            Relation::Statement(..) => {
                let slots = self.derived(source).map(|derived| derived.slots()).unwrap_or_default();
                self.note_needed(source, &slots, true);
                slots.into_iter().for_each(found);
            }
        }
    }

    /// The rows of a source with these values in these fields.
    pub(crate) fn equal(
        &self,
        source: usize,
        fields: &[FieldNo],
        values: &[Scalar<'_>],
    ) -> Vec<Slot> {
        match &self.plan.sources[source].relation {
            Relation::Table(table) => {
                // A time is a text where it meets texts.
                let values: SmallVec<[Scalar<'_>; 2]> = fields
                    .iter()
                    .zip(values)
                    .map(|(field, value)| {
                        let kind = self.state.schema.table(*table).field(*field).kind;
                        match value {
                            Scalar::Time(time) if kind != Kind::Timestamp => {
                                Scalar::Text(time.text().as_str().into())
                            }
                            other => other.clone(),
                        }
                    })
                    .collect();
                let cells = fields.iter().zip(&values);
                let cells: Option<SmallVec<[_; 2]>> =
                    cells.map(|(field, value)| value.as_cell(self.state, *table, *field)).collect();
                let mut found = Vec::new();
                if let Some(cells) = cells {
                    let add = &mut |slot| found.push(slot);
                    self.state.table(*table).each_indexed(fields, &cells, add);
                }
                found
            }
            Relation::Statement(..) => {
                let key = values.iter().map(|value| match value {
                    Scalar::Null => None,
                    value => Some(Key::from(value.clone())),
                });
                let key: Option<Box<[Key]>> = key.collect();
                let found = key.and_then(|key| Some(self.derived(source)?.equal(fields, &key)));
                let found = found.unwrap_or_default();
                let is_sure = fields.iter().all(|field| self.is_sure(source, *field));
                self.note_needed(source, &found, is_sure);
                found
            }
        }
    }

    /// A tuple's key, which orders tuples where nothing else does: the ids of those sources that
    /// are not functionally determined by others.
    pub(crate) fn key(&self, slots: &[Slot]) -> Vec<Scalar<'static>> {
        let mut key = Vec::new();
        self.each_of_key(slots, |part| key.push(part.into_owned()));
        key
    }

    /// Calls `found` with each of the values of [`View::key`].
    pub(crate) fn each_of_key(&self, slots: &[Slot], mut found: impl FnMut(Scalar<'_>)) {
        if self.plan.is_union {
            let branch = slots.iter().position(|slot| *slot != NONE).unwrap_or(0);
            found(Scalar::Int(branch as i64));
        }
        for (number, (source, slot)) in self.plan.sources.iter().zip(slots).enumerate() {
            match &source.relation {
                _ if source.is_determined => {}
                _ if *slot == NONE => {
                    let len = source.key_len(&self.state.schema);
                    (0..len).for_each(|_| found(Scalar::Null));
                }
                Relation::Table(table) => {
                    for field in self.state.schema.table(*table).id.iter() {
                        found(Scalar::of_cell(self.state, *table, *slot, *field));
                    }
                }
                Relation::Statement(..) => {
                    let row = self.derived(number).and_then(|derived| derived.row(*slot));
                    row.into_iter().flat_map(|row| &row.key).for_each(|part| found(part.lend()));
                }
            }
        }
    }

    /// The first of the values by which [`View::compare`] orders a tuple.
    pub(crate) fn tie(&self, slots: &[Slot]) -> Option<Scalar<'a>> {
        let first = self.plan.sources.iter().position(|source| !source.is_determined)?;
        match &self.plan.sources[first].relation {
            _ if slots[first] == NONE => Some(Scalar::Null),
            Relation::Table(table) => {
                let field = *self.state.schema.table(*table).id.first()?;
                Some(Scalar::of_cell(self.state, *table, slots[first], field))
            }
            Relation::Statement(..) => None,
        }
    }

    /// The order of two tuples by their keys; a missing partner comes first.
    pub(crate) fn compare(&self, a: &[Slot], b: &[Slot]) -> std::cmp::Ordering {
        let pairs = self.plan.sources.iter().zip(a.iter().zip(b));
        for (source, (a, b)) in pairs {
            if a == b || source.is_determined {
                continue;
            }
            let order = match &source.relation {
                Relation::Table(table) if *a != NONE && *b != NONE => {
                    self.state.compare_ids(*table, *a, *b)
                }
                // Statements that read others keep what orders their rows.
                _ => (*a != NONE).cmp(&(*b != NONE)),
            };
            if order.is_ne() {
                return order;
            }
        }
        std::cmp::Ordering::Equal
    }
}

/// A tuple as expressions read it.
#[derive(Clone, Copy)]
pub(crate) struct TupleRow<'a, 's> {
    pub(crate) view: &'s View<'a>,
    pub(crate) slots: &'s [Slot],
}

impl<'a> Columns<'a> for TupleRow<'a, '_> {
    #[inline]
    fn column(&self, number: ColumnNo) -> Scalar<'a> {
        if self.view.plan.is_union {
            // The one source whose row this is.
            let branch = self.slots.iter().position(|slot| *slot != NONE).unwrap_or(0);
            let column = ColumnNo::new(branch, number.column as usize);
            return self.view.value(column, self.slots[branch]);
        }
        self.view.value(number, self.slots[number.source()])
    }

    #[inline]
    fn may_fail(&self) -> bool {
        self.view.has_failed()
    }

    fn take_failure(&self) -> Option<Failure> {
        self.view.take_needed()
    }

    fn note_failure(&self, failure: Option<Failure>) {
        let derived = self.view.derived.iter().flatten().next();
        if let (Some(derived), Some(failure)) = (derived, &failure) {
            derived.fail(failure);
        }
    }
}

impl TupleRow<'_, '_> {
    /// The value that a column shows. A text that repeats is shared with the table, where an
    /// expression would copy it.
    pub(crate) fn shown(&self, column: ColumnNo, declared: Option<Kind>) -> Value {
        let view = self.view;
        let slot = self.slots.get(column.source()).copied().filter(|slot| *slot != NONE);
        if let (Some(slot), false) = (slot, view.plan.is_union)
            && let Relation::Table(table) = view.plan.sources[column.source()].relation
            && let Some(text) = view.state.shared_text(table, slot, column.field())
        {
            return Value::Text(text);
        }
        self.column(column).into_value(declared)
    }
}

/// A row of the only source of a statement, a table, found once for all of its columns.
pub(crate) struct ScannedRow<'a> {
    state: &'a State,
    table: TableNo,
    cells: RowCells<'a>,
}

/// Rows of a table that lie together.
#[derive(Clone, Copy)]
pub(crate) struct ScannedRows<'a> {
    state: &'a State,
    table: TableNo,
    rows: ChunkRows<'a>,
}

impl<'a> ScannedRows<'a> {
    #[inline]
    pub(crate) fn iter(self) -> impl Iterator<Item = (Slot, ScannedRow<'a>)> {
        let Self { state, table, rows } = self;
        rows.iter().map(move |(slot, cells)| (slot, ScannedRow { state, table, cells }))
    }
}

impl<'a> ScannedRow<'a> {
    /// What a field holds, as it lies in memory: rows of which that is the same hold the same.
    #[inline]
    pub(crate) fn in_memory(&self, field: FieldNo) -> Option<(u64, u64)> {
        self.cells.in_memory(field)
    }

    /// See [`RowCells::link`].
    #[inline]
    pub(crate) fn link(&self, field: FieldNo) -> Option<Slot> {
        self.cells.link(field)
    }

    /// See [`RowCells::whole`].
    #[inline]
    pub(crate) fn number(&self, field: FieldNo) -> Option<i64> {
        self.cells.whole(field)
    }

    #[inline]
    pub(crate) fn cell(&self, field: FieldNo) -> Cell<'a> {
        self.cells.cell(field)
    }
}

impl<'a> Columns<'a> for ScannedRow<'a> {
    #[inline]
    fn column(&self, number: ColumnNo) -> Scalar<'a> {
        let field = number.field();
        Scalar::of(self.state, self.table, field, self.cells.cell(field))
    }

    #[inline]
    fn whole(&self, number: ColumnNo) -> Option<i64> {
        self.cells.whole(number.field())
    }
}

impl<'a> View<'a> {
    /// The table that a statement reads from one end to the other, if it reads nothing else.
    pub(crate) fn scanned(&self) -> Option<TableNo> {
        match (self.plan.sources.as_slice(), &self.plan.scratch.access) {
            ([source], Access::Scan) => match source.relation {
                Relation::Table(table) => Some(table),
                Relation::Statement(..) => None,
            },
            _ => None,
        }
    }

    /// How many slots a source's rows lie in, of a table.
    pub(crate) fn slots(&self, source: usize) -> Option<usize> {
        match self.plan.sources[source].relation {
            Relation::Table(table) => Some(self.state.table(table).slots()),
            Relation::Statement(..) => None,
        }
    }

    /// What reads rows of a table one after the other.
    pub(crate) fn row_reader(
        &self,
        table: TableNo,
    ) -> impl FnMut(Slot) -> ScannedRow<'a> + use<'a> {
        let state = self.state;
        let mut rows = state.table(table).reader();
        move |slot| ScannedRow { state, table, cells: rows.row(slot) }
    }

    /// Calls `found` with all rows of a table that meet conditions.
    pub(crate) fn each_row(
        &self,
        table: TableNo,
        mut filter: Filter<'a>,
        mut found: impl FnMut(Slot, ScannedRow<'a>),
    ) {
        let state = self.state;
        let plain = filter.take_plain(state.table(table));
        let unfiltered = filter.is_empty();
        state.table(table).each_row_in(&plain.selection(), |slot, cells| {
            let row = ScannedRow { state, table, cells };
            if unfiltered || filter.holds(&row) {
                found(slot, row);
            }
        });
    }

    /// The same with rows that lie together, a few dozen at most.
    pub(crate) fn each_chunk(
        &self,
        table: TableNo,
        mut filter: Filter<'a>,
        mut found: impl FnMut(ScannedRows<'a>),
    ) {
        let state = self.state;
        let plain = filter.take_plain(state.table(table));
        let unfiltered = filter.is_empty();
        state.table(table).each_chunk_in(&plain.selection(), |rows| {
            let holds = |cells| filter.holds(&ScannedRow { state, table, cells });
            let rows = if unfiltered { rows } else { rows.filtered(holds) };
            found(ScannedRows { state, table, rows });
        });
    }
}
