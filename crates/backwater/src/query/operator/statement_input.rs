//! Another statement as an input: the rows of its result, of which some may not be computable.

use std::cmp::Ordering;

use crate::query::expr::scalar::{Key, Scalar};
use crate::query::operator::statement_rows::StatementView;
use crate::query::plan::Plan;
use crate::query::work::Failure;
use crate::schema::FieldNo;
use crate::table::Slot;

#[derive(Clone, Copy)]
pub(crate) struct StatementInput<'a> {
    pub(super) plan: &'a Plan,
    /// Its rows, where they are at hand.
    pub(super) rows: Option<StatementView<'a>>,
}

impl<'a> StatementInput<'a> {
    pub(super) fn is_row(self, slot: Slot) -> bool {
        self.rows.is_some_and(|rows| rows.row(slot).is_some())
    }

    #[inline]
    pub(super) fn value(self, column: FieldNo, slot: Slot) -> Scalar<'a> {
        let Some(rows) = self.rows else { return Scalar::Null };
        let Some(row) = rows.row(slot) else { return Scalar::Null };
        if let Some(failure) = &row.failed
            && !self.is_sure(column)
        {
            rows.fail(failure);
        }
        row.values[column.index()].lend()
    }

    pub(super) fn len(self) -> usize {
        self.slots().len()
    }

    pub(super) fn each(self, found: &mut dyn FnMut(Slot)) {
        let slots = self.slots();
        self.note_needed(&slots, true);
        slots.into_iter().for_each(found);
    }

    pub(super) fn equal(self, columns: &[FieldNo], values: &[Scalar<'_>]) -> Vec<Slot> {
        let key = values.iter().map(|value| match value {
            Scalar::Null => None,
            value => Some(Key::from(value.clone())),
        });
        let key: Option<Box<[Key]>> = key.collect();
        let found = key.and_then(|key| Some(self.rows?.equal(columns, &key))).unwrap_or_default();
        self.note_needed(&found, columns.iter().all(|column| self.is_sure(*column)));
        found
    }

    pub(super) fn each_of_key(self, slot: Slot, found: &mut impl FnMut(Scalar<'_>)) {
        let row = self.rows.and_then(|rows| rows.row(slot));
        row.into_iter().flat_map(|row| &row.key).for_each(|part| found(part.lend()));
    }

    pub(super) fn tie(self, _slot: Slot) -> Option<Scalar<'a>> {
        None
    }

    pub(super) fn compare(self, _a: Slot, _b: Slot) -> Ordering {
        Ordering::Equal
    }

    pub(super) fn doubt(self, slot: Slot) -> Option<Failure> {
        self.plan.rows.operator()?.condition()?;
        self.rows?.row(slot)?.failed.clone()
    }

    fn slots(self) -> Vec<Slot> {
        self.rows.map(|rows| rows.slots()).unwrap_or_default()
    }

    /// Whether a column is known of each of its rows.
    fn is_sure(self, column: FieldNo) -> bool {
        let Some(rows) = self.plan.rows.operator() else { return true };
        let columns = self.plan.outputs.get(column.index()).map(|output| output.expr.columns());
        columns.into_iter().flatten().all(|column| rows.is_sure(column.column as usize))
    }

    /// Notes if rows are looked for and it is unknown of one whether it is there; `is_sure` if the
    /// look-up itself uses known values only.
    fn note_needed(self, slots: &[Slot], is_sure: bool) {
        let Some(rows) = self.rows.filter(StatementView::has_failed) else { return };
        let is_filtered = self.plan.rows.operator().is_some_and(|rows| rows.condition().is_some());
        let failed = |slot: &Slot| rows.row(*slot).and_then(|row| row.failed.as_ref());
        let failure = match is_sure {
            false => rows.slots().iter().find_map(failed),
            true if is_filtered => slots.iter().find_map(failed),
            true => None,
        };
        failure.into_iter().for_each(|failure| rows.fail(failure));
    }
}
