//! The living state of a binding: a result in order, kept true by the deltas of each commit.

use std::cmp::Ordering;
use std::sync::Arc;

use super::edit::{Edit, Failure, RowDelta, TableRow};
use super::group::{GroupRow, Groups, order_groups};
use super::order::{Moved, follow, order_by};
use super::plan::{Plan, Window};
use super::ranked::Ranked;
use super::scalar::Scalar;
use crate::change::Changes;
use crate::table::{Slot, State};

/// A result in order, all of it: the window is cut out where it is read.
#[derive(Clone)]
pub(crate) enum Ordered {
    Rows(Ranked<Slot>),
    Groups(Ranked<Arc<GroupRow>>),
}

impl Ordered {
    pub(crate) fn len(&self) -> usize {
        match self {
            Ordered::Rows(ranked) => ranked.len(),
            Ordered::Groups(ranked) => ranked.len(),
        }
    }
}

/// A binding's state: what its operators keep, and the result.
pub(crate) struct Live {
    groups: Option<Groups>,
    pub(crate) ordered: Ordered,
}

impl Live {
    /// Computes a result from all rows that may belong to it.
    pub(crate) fn compute(
        plan: &Plan,
        params: &[Scalar<'static>],
        state: &State,
        slots: impl Iterator<Item = Slot>,
    ) -> Result<Self, Failure> {
        let slots = slots.filter(|slot| passes(plan, params, state, *slot));
        let Some(grouping) = &plan.grouping else {
            let mut slots: Vec<Slot> = slots.collect();
            slots.sort_by(|a, b| order_rows(plan, params, state, *a, *b));
            return Ok(Self { groups: None, ordered: Ordered::Rows(Ranked::from_sorted(&slots)) });
        };
        let mut groups = Groups::new(grouping);
        let mut rows = groups.fill(plan, grouping, params, state, slots)?;
        rows.sort_by(|a, b| order_groups(plan, params, a, b));
        Ok(Self { groups: Some(groups), ordered: Ordered::Groups(Ranked::from_sorted(&rows)) })
    }

    /// Follows a commit; tells how the rows in the window moved.
    pub(crate) fn apply(
        &mut self,
        plan: &Plan,
        params: &[Scalar<'static>],
        window: Window,
        changes: &Changes,
        rows: &[RowDelta],
    ) -> Result<Vec<Moved>, Failure> {
        let rows: Vec<RowDelta> = rows
            .iter()
            .map(|row| RowDelta {
                before: row.before && passes(plan, params, &changes.before, row.slot),
                after: row.after && passes(plan, params, &changes.after, row.slot),
                ..*row
            })
            .filter(|row| row.before || row.after)
            .collect();
        match (&mut self.ordered, &plan.grouping, &mut self.groups) {
            (Ordered::Groups(ranked), Some(grouping), Some(groups)) => {
                let edits = groups.apply(plan, grouping, params, changes, &rows)?;
                let order = |a: &Arc<GroupRow>, b: &Arc<GroupRow>| order_groups(plan, params, a, b);
                Ok(follow(ranked, window, &edits, order, order))
            }
            (Ordered::Rows(ranked), ..) => {
                let edits: Vec<_> =
                    rows.iter().filter_map(|row| edit(plan, params, changes, row)).collect();
                let old = |a: &Slot, b: &Slot| order_rows(plan, params, &changes.before, *a, *b);
                let new = |a: &Slot, b: &Slot| order_rows(plan, params, &changes.after, *a, *b);
                Ok(follow(ranked, window, &edits, old, new))
            }
            _ => Ok(Vec::new()),
        }
    }
}

fn passes(plan: &Plan, params: &[Scalar<'static>], state: &State, slot: Slot) -> bool {
    let row = TableRow { state, table: plan.table, slot };
    plan.filter.as_ref().is_none_or(|filter| filter.eval(&row, params).as_truth() == Some(true))
}

/// What a changed row means for the order of a plain result; nothing, if nothing of it shows.
fn edit(
    plan: &Plan,
    params: &[Scalar<'static>],
    changes: &Changes,
    row: &RowDelta,
) -> Option<Edit<Slot>> {
    let slot = row.slot;
    match (row.before, row.after) {
        (false, _) => Some(Edit::Enter(slot)),
        (true, false) => Some(Edit::Leave(slot)),
        (true, true) => {
            let old = TableRow { state: &changes.before, table: plan.table, slot };
            let new = TableRow { state: &changes.after, table: plan.table, slot };
            let reorder = row.changed_any(changes, &plan.order_fields)
                && plan
                    .order
                    .iter()
                    .any(|key| key.expr.eval(&old, params) != key.expr.eval(&new, params));
            let changed = row.changed_any(changes, &plan.content)
                && plan
                    .outputs
                    .iter()
                    .any(|output| output.expr.eval(&old, params) != output.expr.eval(&new, params));
            (reorder || changed).then_some(Edit::Replace { old: slot, new: slot, reorder, changed })
        }
    }
}

/// The order of two rows: by ORDER BY, and by their ids where that leaves it open.
fn order_rows(
    plan: &Plan,
    params: &[Scalar<'static>],
    state: &State,
    a: Slot,
    b: Slot,
) -> Ordering {
    let row = |slot| TableRow { state, table: plan.table, slot };
    order_by(plan, params, &row(a), &row(b)).then_with(|| state.compare_ids(plan.table, a, b))
}
