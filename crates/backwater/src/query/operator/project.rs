//! Rows that keep the values of one tuple each: where these are not versions, as rows of other
//! statements are none, or are long texts.

use std::sync::Arc;

use smallvec::SmallVec;

use crate::query::expr::Expr;
use crate::query::expr::scalar::Scalar;
use crate::query::operator::join::TupleDelta;
use crate::query::operator::rows::{KeptRow, MadeRows, RowEdits, RowOperator, RowPairs, RowsState};
use crate::query::operator::view::View;
use crate::query::operator::walk::Walk;
use crate::query::plan::Projection;
use crate::query::plan::explain::Operator;
use crate::query::plan::text::PlanNames;
use crate::query::work;
use crate::table::Slot;

impl Projection {
    fn row(&self, view: &View<'_>, params: &[Scalar<'static>], tuple: &[Slot]) -> KeptRow {
        let mut values = SmallVec::new();
        view.each_of_key(tuple, |part| values.push(part.into_owned()));
        let keys = values.len();
        let row = view.row(tuple);
        values.extend(self.values.iter().map(|value| value.eval(&row, params).into_owned()));
        KeptRow { values, keys, failed: None, number: 0 }
    }
}

impl RowOperator for Projection {
    fn compute(&self, view: &View<'_>, params: &[Scalar<'static>], empty: bool) -> MadeRows {
        let mut rows = Vec::new();
        if !empty {
            Walk { view, params }.all(&mut |tuple| {
                let row = self.row(view, params, tuple);
                if work::take_row(row.bytes()) {
                    rows.push(Arc::new(row));
                }
            });
        }
        MadeRows { rows, state: RowsState::default() }
    }

    fn apply(
        &self,
        _state: &mut RowsState,
        (before, after): (&View<'_>, &View<'_>),
        params: &[Scalar<'static>],
        tuples: &[TupleDelta],
    ) -> Option<RowEdits> {
        // Another row of a subquery makes another tuple, but not another row.
        let mut pairs = RowPairs::default();
        for tuple in tuples {
            if tuple.before {
                pairs.before(self.row(before, params, &tuple.tuple));
            }
            if tuple.after {
                pairs.after(self.row(after, params, &tuple.tuple));
            }
        }
        Some(pairs.edits(after.plan, params))
    }

    fn each_expr<'e>(&'e self, each: &mut dyn FnMut(&'e Expr)) {
        self.values.iter().for_each(each);
    }

    fn is_by_tuple(&self) -> bool {
        true
    }

    fn value_name(&self, names: &PlanNames<'_>, value: usize, keys: usize) -> String {
        let value_of = value.checked_sub(keys).and_then(|place| self.values.get(place));
        value_of.map_or_else(|| format!("key {value}"), |of| names.text_of(of))
    }

    fn keeps(&self) -> &'static str {
        "its rows' values"
    }

    fn describe(&self, _names: &PlanNames<'_>) -> Option<Operator> {
        None
    }
}
