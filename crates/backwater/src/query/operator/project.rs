//! Rows that keep the values of one tuple each: where these are not versions, as rows of other
//! statements are none, or are long texts.

use smallvec::SmallVec;

use crate::query::expr::Expr;
use crate::query::expr::scalar::Scalar;
use crate::query::operator::join::TupleDelta;
use crate::query::operator::rows::{
    KeptRow, MadeRows, RowEdits, RowOperator, RowsOfTuple, RowsState,
};
use crate::query::operator::view::View;
use crate::query::plan::Projection;
use crate::query::plan::explain::Operator;
use crate::query::plan::text::PlanNames;
use crate::table::Slot;

impl RowsOfTuple for Projection {
    fn rows_of(
        &self,
        view: &View<'_>,
        params: &[Scalar<'static>],
        tuple: &[Slot],
        each: &mut dyn FnMut(KeptRow),
    ) {
        let mut values = SmallVec::new();
        view.each_of_key(tuple, |part| values.push(part.into_owned()));
        let keys = values.len();
        let row = view.row(tuple);
        values.extend(self.values.iter().map(|value| value.eval(&row, params).into_owned()));
        each(KeptRow::new(values, keys));
    }
}

impl RowOperator for Projection {
    fn compute(&self, view: &View<'_>, params: &[Scalar<'static>], empty: bool) -> MadeRows {
        self.all_rows(view, params, empty)
    }

    fn apply(
        &self,
        _state: &mut RowsState,
        views: (&View<'_>, &View<'_>),
        params: &[Scalar<'static>],
        tuples: &[TupleDelta],
    ) -> Option<RowEdits> {
        Some(self.changed_rows(views, params, tuples))
    }

    fn each_expr<'e>(&'e self, each: &mut dyn FnMut(&'e Expr)) {
        self.values.iter().for_each(each);
    }

    fn is_by_tuple(&self) -> bool {
        true
    }

    fn value_name(&self, names: &PlanNames<'_>, value: usize, keys: usize) -> String {
        let value_of = value.checked_sub(keys).and_then(|place| self.values.get(place));
        value_of.map_or_else(|| names.key(value), |of| names.text_of(of))
    }

    fn keeps(&self) -> &'static str {
        "its rows' values"
    }

    fn describe(&self, _names: &PlanNames<'_>) -> Option<Operator> {
        None
    }
}
