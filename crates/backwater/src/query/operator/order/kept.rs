//! An order of rows that keep their values.

use std::cmp::Ordering;
use std::sync::Arc;

use super::rank_tree::{Prefix, RankTree, Sought};
use super::sort_keys;
use super::sort_prefix::prefix;
use super::unordered::Unordered;
use crate::query::expr::scalar::Scalar;
use crate::query::operator::rows::{Kept, KeptRow, order_kept};
use crate::query::operator::window_values::WindowValues;
use crate::query::plan::Plan;

/// Makes the long texts that a group's row shows, so that one that is too long is reported.
pub(super) fn check_outputs(plan: &Plan, params: &[Scalar<'static>], row: Kept<'_>) {
    for output in plan.outputs.iter().filter(|output| output.expr.may_grow()) {
        output.expr.eval(&row, params);
    }
}

pub(super) fn sorted_kept(
    plan: &Plan,
    params: &[Scalar<'static>],
    (rows, given): (Vec<Arc<KeptRow>>, &WindowValues),
    few: Option<usize>,
) -> RankTree<Arc<KeptRow>> {
    let mut entries = Unordered::new();
    for row in rows {
        entries.push(kept_prefix(plan, params, given.of(&row)), row);
    }
    entries.in_order(few, &|one, other| order_kept(plan, params, given.of(one), given.of(other)))
}

fn kept_prefix(plan: &Plan, params: &[Scalar<'static>], kept: Kept<'_>) -> Prefix {
    let tie = || kept.row.key().first().map(Scalar::lend);
    match plan.order.is_empty() {
        true => prefix(&[], &[], &tie),
        false => prefix(&plan.order, &sort_keys(plan, params, &kept), &tie),
    }
}

/// Where a row that keeps its values stands, and what compares others with it.
pub(super) fn sought_kept<'k>(
    plan: &'k Plan,
    params: &'k [Scalar<'static>],
    row: &Arc<KeptRow>,
    given: &'k WindowValues,
) -> Sought<impl Fn(&Arc<KeptRow>) -> Ordering + use<'k>> {
    let (row, prefix) = (row.clone(), kept_prefix(plan, params, given.of(row)));
    let against = move |other: &Arc<KeptRow>| match Arc::ptr_eq(other, &row) {
        true => Ordering::Equal,
        false => order_kept(plan, params, given.of(other), given.of(&row)),
    };
    Sought { prefix, against }
}
