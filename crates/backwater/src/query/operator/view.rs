//! What a statement reads, as of one commit: rows of tables, and rows of other statements.

use smallvec::SmallVec;

use crate::query::expr::scalar::{Key, KeyValues, Scalar};
use crate::query::expr::{ColumnNo, Columns};
use crate::query::operator::input::Input;
use crate::query::operator::statement_input::StatementInput;
use crate::query::operator::statement_rows::StatementView;
use crate::query::operator::table_input::TableInput;
use crate::query::plan::{Plan, Relation, Source};
use crate::query::work::Failure;
use crate::schema::FieldKind;
use crate::table::{Prefetch, RowCells, Slot, State};
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
/// All that a statement reads, as of one commit.
#[derive(Clone, Copy)]
pub(crate) struct View<'a> {
    pub(crate) plan: &'a Plan,
    pub(crate) state: &'a State,
    /// For each source that is another statement, its rows, in the order of these sources.
    pub(crate) derived: &'a [Option<StatementView<'a>>],
}

impl<'a> View<'a> {
    pub(crate) fn row<'s>(&'s self, slots: &'s [Slot]) -> TupleRow<'a, 's> {
        TupleRow { view: self, slots }
    }

    /// The rows of a source.
    #[inline]
    pub(crate) fn input(&self, source: usize) -> Input<'a> {
        match &self.plan.sources[source].relation {
            Relation::Table(table) => Input::Table(TableInput { state: self.state, table: *table }),
            Relation::Statement(plan, _) => {
                Input::Statement(StatementInput { plan, rows: self.derived(source) })
            }
        }
    }

    /// Adds the rows of a tuple to those that are prefetched together.
    pub(crate) fn prefetch(&self, slots: &[Slot], prefetch: &mut Prefetch<'a>) {
        let rows = slots.iter().enumerate();
        rows.for_each(|(source, slot)| self.input(source).prefetch(*slot, prefetch));
    }

    fn derived(&self, source: usize) -> Option<StatementView<'a>> {
        self.derived.get(source).copied().flatten()
    }

    /// Why something that was needed since the last call cannot be computed.
    pub(crate) fn take_needed(&self) -> Option<Failure> {
        let derived = self.derived.iter().flatten();
        derived.fold(None, |failure, derived| derived.rows.take_needed().or(failure))
    }

    /// Whether it reads statements of which some rows cannot be computed.
    pub(crate) fn has_failed(&self) -> bool {
        self.derived.iter().flatten().any(StatementView::has_failed)
    }

    #[inline]
    pub(crate) fn value(&self, column: ColumnNo, slot: Slot) -> Scalar<'a> {
        if slot == NONE {
            return Scalar::Null;
        }
        self.input(column.source()).value(column.field(), slot)
    }

    /// The values by which bindings are found from a tuple; `None` if one of them is NULL.
    pub(crate) fn binding_key(&self, tuple: &[Slot]) -> Option<KeyValues> {
        let keys = self.plan.keys.iter().map(|part| {
            match self.value(part.column, tuple[part.column.source()]) {
                Scalar::Null => None,
                value => Some(Key::from(value)),
            }
        });
        keys.collect()
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
        let sources = &self.plan.sources;
        if let Some(branch) = self.plan.combine.branch(slots) {
            // What a shorter key lacks is NULL.
            let len = 1 + sources[branch].relation.key_len(&self.state.schema);
            found(Scalar::Int(branch as i64));
            self.each_of_row_key(branch, slots[branch], &mut found);
            return (len..self.plan.tuple_key_len).for_each(|_| found(Scalar::Null));
        }
        for (number, (source, slot)) in sources.iter().zip(slots).enumerate() {
            if !source.is_determined {
                self.each_of_row_key(number, *slot, &mut found);
            }
        }
    }

    /// Calls `found` with each of the values that identify a row of a source.
    fn each_of_row_key(&self, source: usize, slot: Slot, found: &mut impl FnMut(Scalar<'_>)) {
        if slot == NONE {
            let len = self.plan.sources[source].relation.key_len(&self.state.schema);
            return (0..len).for_each(|_| found(Scalar::Null));
        }
        self.input(source).each_of_key(slot, found);
    }

    /// The first of the values by which [`View::compare`] orders a tuple.
    pub(crate) fn tie(&self, slots: &[Slot]) -> Option<Scalar<'a>> {
        let first = self.plan.sources.iter().position(|source| !source.is_determined)?;
        match slots[first] {
            NONE => Some(Scalar::Null),
            slot => self.input(first).tie(slot),
        }
    }

    /// The order of two tuples by their keys; a missing partner comes first.
    pub(crate) fn compare(&self, a: &[Slot], b: &[Slot]) -> std::cmp::Ordering {
        let pairs = self.plan.sources.iter().zip(a.iter().zip(b)).enumerate();
        for (number, (source, (a, b))) in pairs {
            if a == b || source.is_determined {
                continue;
            }
            let order = match (*a, *b) {
                (NONE, _) | (_, NONE) => (*a != NONE).cmp(&(*b != NONE)),
                (a, b) => self.input(number).compare(a, b),
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
        if let Some(branch) = self.view.plan.combine.branch(self.slots) {
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

/// A tuple whose rows are each found once for all columns that show something of them.
pub(crate) struct ShownTuple<'a, 's> {
    row: TupleRow<'a, 's>,
    cells: SmallVec<[Option<RowCells<'a>>; 2]>,
}

impl<'a, 's> ShownTuple<'a, 's> {
    pub(crate) fn new(row: TupleRow<'a, 's>) -> Self {
        Self { row, cells: SmallVec::from_elem(None, row.slots.len()) }
    }

    /// The value that a column shows. A text that repeats is shared with the table, where an
    /// expression would copy it.
    pub(crate) fn value(&mut self, column: ColumnNo, declared: Option<FieldKind>) -> Value {
        let TupleRow { view: View { plan, state, .. }, slots } = self.row;
        let (source, field) = (column.source(), column.field());
        let slot = slots.get(source).copied().filter(|slot| *slot != NONE);
        if let Some((slot, table)) = slot.zip(plan.sources[source].relation.table()) {
            let known = &mut self.cells[source];
            *known = known.or_else(|| state.table(table).cells(slot));
            if let Some(cells) = *known {
                return match state.shared_text_in(cells, table, field) {
                    Some(text) => Value::Text(text),
                    None => Scalar::of(state, table, field, cells.cell(field)).into_value(declared),
                };
            }
        }
        self.row.column(column).into_value(declared)
    }
}
