//! An order that follows edits, and who of its rows has moved.

use std::cmp::Ordering;

use super::edit::Edit;
use super::expr::Columns;
use super::plan::{OrderKey, Plan, Window};
use super::ranked::Ranked;
use super::scalar::Scalar;

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

/// The order of two values of one of the keys of an order.
pub(crate) fn compare_key(key: &OrderKey, a: &Scalar<'_>, b: &Scalar<'_>) -> Ordering {
    match (a.is_null(), b.is_null()) {
        (true, true) => Ordering::Equal,
        (true, false) if key.nulls_first => Ordering::Less,
        (false, true) if !key.nulls_first => Ordering::Less,
        (true, false) | (false, true) => Ordering::Greater,
        (false, false) if key.descending => key.collation.compare(b, a),
        (false, false) => key.collation.compare(a, b),
    }
}

/// The order of two rows as far as ORDER BY tells it.
pub(crate) fn order_by<'a>(
    plan: &'a Plan,
    params: &'a [Scalar<'static>],
    a: &impl Columns<'a>,
    b: &impl Columns<'a>,
) -> Ordering {
    for key in &plan.order {
        let order = compare_key(key, &key.expr.eval(a, params), &key.expr.eval(b, params));
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
pub(crate) fn follow<E: Clone>(
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
