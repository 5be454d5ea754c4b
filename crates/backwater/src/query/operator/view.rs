//! What a statement reads, as of one commit: rows of tables, and rows of other statements.

use smallvec::SmallVec;

use crate::query::expr::scalar::{Key, KeyValues, Scalar};
use crate::query::expr::{ColumnNo, Columns};
use crate::query::operator::statement_rows::StatementView;
use crate::query::plan::{Plan, Relation, Source};
use crate::query::result::edit::Failure;
use crate::schema::{FieldKind, FieldNo};
use crate::table::{Slot, State};
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

    /// Has the rows of a tuple come from memory; see [`each_fetched`](crate::table::each_fetched).
    pub(crate) fn fetch(&self, slots: &[Slot]) {
        for (source, slot) in self.plan.sources.iter().zip(slots) {
            if let Relation::Table(table) = source.relation {
                self.state.table(table).fetch(*slot);
            }
        }
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

    /// Why it is unknown whether a row of another statement is there.
    pub(crate) fn doubt(&self, source: usize, slot: Slot) -> Option<Failure> {
        let Relation::Statement(plan, _) = &self.plan.sources[source].relation else { return None };
        plan.rows.operator()?.condition()?;
        self.derived(source)?.row(slot)?.failed.clone()
    }

    /// Notes if rows of another statement are looked for and it is unknown of one whether it is
    /// there; `is_sure` if the look-up itself uses known values only.
    fn note_needed(&self, source: usize, slots: &[Slot], is_sure: bool) {
        let Relation::Statement(plan, _) = &self.plan.sources[source].relation else { return };
        let Some(derived) = self.derived(source).filter(StatementView::has_failed) else { return };
        let is_filtered = plan.rows.operator().is_some_and(|rows| rows.condition().is_some());
        let failed = |slot: &Slot| derived.row(*slot).and_then(|row| row.failed.as_ref());
        if !is_sure {
            let mut all = derived.slots().into_iter();
            all.find_map(|slot| failed(&slot))
                .into_iter()
                .for_each(|failure| derived.fail(failure));
        } else if is_filtered {
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

    /// Whether a column of another statement is known of each of its rows.
    fn is_sure(&self, source: usize, column: FieldNo) -> bool {
        let Relation::Statement(plan, _) = &self.plan.sources[source].relation else { return true };
        let Some(rows) = plan.rows.operator() else { return true };
        let columns = plan.outputs.get(column.index()).map(|output| output.expr.columns());
        columns.into_iter().flatten().all(|column| rows.is_sure(column.column as usize))
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
                            Scalar::Time(time) if kind != FieldKind::Timestamp => {
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
            let len = 1 + sources[branch].key_len(&self.state.schema);
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
    fn each_of_row_key(&self, number: usize, slot: Slot, found: &mut impl FnMut(Scalar<'_>)) {
        let source = &self.plan.sources[number];
        match &source.relation {
            _ if slot == NONE => {
                let len = source.key_len(&self.state.schema);
                (0..len).for_each(|_| found(Scalar::Null));
            }
            Relation::Table(table) => {
                for field in self.state.schema.table(*table).id.iter() {
                    found(Scalar::of_cell(self.state, *table, slot, *field));
                }
            }
            Relation::Statement(..) => {
                let row = self.derived(number).and_then(|derived| derived.row(slot));
                row.into_iter().flat_map(|row| &row.key).for_each(|part| found(part.lend()));
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

impl TupleRow<'_, '_> {
    /// The value that a column shows. A text that repeats is shared with the table, where an
    /// expression would copy it.
    pub(crate) fn shown(&self, column: ColumnNo, declared: Option<FieldKind>) -> Value {
        let view = self.view;
        let slot = self.slots.get(column.source()).copied().filter(|slot| *slot != NONE);
        if let Some(slot) = slot
            && let Relation::Table(table) = view.plan.sources[column.source()].relation
            && let Some(text) = view.state.shared_text(table, slot, column.field())
        {
            return Value::Text(text);
        }
        self.column(column).into_value(declared)
    }
}
