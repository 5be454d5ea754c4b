//! The living state of a binding: a result in order, kept true by the deltas of each commit.

use std::cmp::Ordering;
use std::sync::Arc;

use super::expr::Columns;
use super::group::{GroupRow, Groups};
use super::plan::{Plan, Window};
use super::ranked::Ranked;
use super::scalar::Scalar;
use crate::change::{Changes, FieldSet, Happened};
use crate::schema::{FieldNo, TableNo};
use crate::table::{Slot, State};

/// Why a result cannot be told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Failure(pub(crate) Arc<str>);

/// A row of a table as expressions read it.
pub(crate) struct TableRow<'a> {
    pub(crate) state: &'a State,
    pub(crate) table: TableNo,
    pub(crate) slot: Slot,
}

impl<'a> Columns<'a> for TableRow<'a> {
    fn column(&self, number: usize) -> Scalar<'a> {
        Scalar::of_cell(self.state, self.table, self.slot, FieldNo(number as u32))
    }
}

/// A changed row on its way through a binding's operators: whether it belongs to the binding
/// before and after the commit.
#[derive(Debug, Clone, Copy)]
pub(crate) struct RowDelta {
    /// The row's number among the commit's changes.
    pub(crate) change: u32,
    pub(crate) slot: Slot,
    pub(crate) before: bool,
    pub(crate) after: bool,
}

impl RowDelta {
    /// Whether the commit changed one of these fields of the row.
    pub(crate) fn changed_any(&self, changes: &Changes, fields: &FieldSet) -> bool {
        match &changes.rows[self.change as usize].happened {
            Happened::Updated(changed) => changed.meets(fields),
            Happened::Inserted | Happened::Deleted => true,
        }
    }
}

/// What happens to one entry of the order.
#[derive(Debug, Clone)]
pub(crate) enum Edit<E> {
    Enter(E),
    Leave(E),
    Replace {
        old: E,
        new: E,
        /// Whether its place in the order may be another one.
        reorder: bool,
        /// Whether its visible columns changed.
        changed: bool,
    },
}

impl Edit<Arc<GroupRow>> {
    pub(crate) fn replace_group(
        plan: &Plan,
        params: &[Scalar<'static>],
        old: Arc<GroupRow>,
        new: Arc<GroupRow>,
    ) -> Self {
        let changed = plan.outputs.iter().any(|output| {
            output.expr.eval(&&*old.values, params) != output.expr.eval(&&*new.values, params)
        });
        let reorder = order_groups(plan, params, &old, &new).is_ne();
        Edit::Replace { old, new, reorder, changed }
    }
}

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

/// How a row of a result moved; positions are those in the old and in the new result.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Moved {
    pub(crate) before: Option<usize>,
    pub(crate) after: Option<usize>,
    /// Whether its columns changed.
    pub(crate) changed: bool,
    /// Whether it changed places with a row that stayed.
    pub(crate) moved: bool,
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
    order_by(plan, params, &row(a), &row(b))
        .then_with(|| state.id(plan.table, a).cmp(&state.id(plan.table, b)))
}

/// The order of two groups: by ORDER BY, and by their keys where that leaves it open.
fn order_groups(plan: &Plan, params: &[Scalar<'static>], a: &GroupRow, b: &GroupRow) -> Ordering {
    order_by(plan, params, &&*a.values, &&*b.values).then_with(|| {
        let keys = a.values.iter().zip(b.values.iter()).take(a.keys);
        keys.map(|(a, b)| a.order(b)).find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
    })
}

fn order_by<'a>(
    plan: &'a Plan,
    params: &'a [Scalar<'static>],
    a: &impl Columns<'a>,
    b: &impl Columns<'a>,
) -> Ordering {
    for key in &plan.order {
        let (a, b) = (key.expr.eval(a, params), key.expr.eval(b, params));
        let order = match (a.is_null(), b.is_null()) {
            (true, true) => Ordering::Equal,
            (true, false) if key.nulls_first => Ordering::Less,
            (false, true) if !key.nulls_first => Ordering::Less,
            (true, false) | (false, true) => Ordering::Greater,
            (false, false) if key.descending => b.order(&a),
            (false, false) => a.order(&b),
        };
        if order.is_ne() {
            return order;
        }
    }
    Ordering::Equal
}

/// Applies edits to an order and tells how the rows in the window moved.
///
/// What leaves or moves is taken out under the old order and put in under the new one, so that no
/// comparison ever meets an entry under the wrong one.
fn follow<E: Clone>(
    ranked: &mut Ranked<E>,
    window: Window,
    edits: &[Edit<E>],
    old_order: impl Fn(&E, &E) -> Ordering,
    new_order: impl Fn(&E, &E) -> Ordering,
) -> Vec<Moved> {
    let before = ranked.clone();
    for edit in edits {
        if let Edit::Leave(old) | Edit::Replace { old, reorder: true, .. } = edit {
            let found = ranked.remove(&|other: &E| old_order(other, old));
            debug_assert!(found, "what leaves a result was in it");
        }
    }
    for edit in edits {
        match edit {
            Edit::Enter(new) | Edit::Replace { new, reorder: true, .. } => {
                ranked.insert(new.clone(), &|other: &E| new_order(other, new));
            }
            Edit::Replace { new, .. } => {
                ranked.replace(new.clone(), &|other: &E| new_order(other, new))
            }
            Edit::Leave(_) => {}
        }
    }
    let mut candidates: Vec<Moved> = edits
        .iter()
        .map(|edit| {
            let old_rank = |old: &E| before.rank(|other| old_order(other, old)).ok();
            let new_rank = |new: &E| ranked.rank(|other| new_order(other, new)).ok();
            let (before, after, changed, moved) = match edit {
                Edit::Enter(new) => (None, new_rank(new), false, false),
                Edit::Leave(old) => (old_rank(old), None, false, false),
                Edit::Replace { old, new, changed, reorder } => {
                    (old_rank(old), new_rank(new), *changed, *reorder)
                }
            };
            Moved { before, after, changed, moved }
        })
        .collect();
    if !window.is_whole() {
        push_neighbours(&mut candidates, &before, ranked, window, edits, &new_order);
        for row in &mut candidates {
            row.before = row.before.and_then(|rank| window.position(rank));
            row.after = row.after.and_then(|rank| window.position(rank));
        }
        candidates.retain(|row| row.before.is_some() || row.after.is_some());
    }
    mark_moved(&mut candidates);
    candidates
        .retain(|row| row.changed || row.moved || row.before.is_none() || row.after.is_none());
    candidates.sort_by_key(|row| (row.after.is_some(), row.after, row.before));
    candidates
}

/// Adds the rows that others pushed over an end of the window. An edit shifts ranks by one, so
/// they lie within as many ranks of that end as there are edits.
fn push_neighbours<E: Clone>(
    candidates: &mut Vec<Moved>,
    before: &Ranked<E>,
    after: &Ranked<E>,
    window: Window,
    edits: &[Edit<E>],
    new_order: &impl Fn(&E, &E) -> Ordering,
) {
    let shifts =
        edits.iter().filter(|edit| !matches!(edit, Edit::Replace { reorder: false, .. })).count();
    let mut known: Vec<usize> = candidates.iter().filter_map(|row| row.before).collect();
    known.sort_unstable();
    let ends = [window.offset, window.offset.saturating_add(window.limit)];
    let mut last = 0;
    for end in ends {
        let from = end.saturating_sub(shifts).max(last);
        let to = end.saturating_add(shifts).min(before.len());
        for rank in from..to {
            if known.binary_search(&rank).is_ok() {
                continue;
            }
            let Some(entry) = before.get(rank) else {
                continue;
            };
            let now = after.rank(|other| new_order(other, entry)).ok();
            candidates.push(Moved { before: Some(rank), after: now, changed: false, moved: false });
        }
        last = to.max(last);
    }
}

/// Tells who has moved: of the rows in both results that may have (`moved` is set), as few as can
/// be, so that the rest stands in the same order in both. A row that others pushed along has not
/// moved.
fn mark_moved(rows: &mut [Moved]) {
    // A row that could not move stands in the same order in both results as all the others that
    // nothing happened to. Between which of these another row stands is its position less the
    // rows in front of it that came, went or may have moved.
    let loose = |row: &&Moved| row.moved || row.before.is_none() || row.after.is_none();
    let mut olds: Vec<usize> = rows.iter().filter(loose).filter_map(|row| row.before).collect();
    let mut news: Vec<usize> = rows.iter().filter(loose).filter_map(|row| row.after).collect();
    olds.sort_unstable();
    news.sort_unstable();
    let gap =
        |position: usize, all: &[usize]| position - all.partition_point(|other| *other < position);
    let mut stayers: Vec<usize> = Vec::new();
    for (number, row) in rows.iter_mut().enumerate() {
        if let (true, Some(before), Some(after)) = (row.moved, row.before, row.after)
            && gap(before, &olds) == gap(after, &news)
        {
            stayers.push(number);
        }
        row.moved &= row.before.is_some() && row.after.is_some();
    }
    stayers.sort_unstable_by_key(|number| rows[*number].after);
    // Among those between the same two, all but a longest run in the old order have moved.
    let mut tails: Vec<usize> = Vec::new();
    let mut links: Vec<Option<usize>> = vec![None; rows.len()];
    for &number in &stayers {
        let place = tails.partition_point(|tail| rows[*tail].before < rows[number].before);
        links[number] = place.checked_sub(1).map(|previous| tails[previous]);
        if place == tails.len() {
            tails.push(number);
        } else {
            tails[place] = number;
        }
    }
    let mut stays = tails.last().copied();
    while let Some(number) = stays {
        rows[number].moved = false;
        stays = links[number];
    }
}
