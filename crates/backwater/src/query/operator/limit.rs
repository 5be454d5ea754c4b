//! LIMIT and OFFSET: which part of an order shows.
//!
//! Nothing is kept for it: the part is cut out where a result is read.

use std::ops::Range;

use super::order::Few;
use super::order::moves::{Moved, Moves, in_order_of_report, settle};
use crate::query::expr::Expr;
use crate::query::plan::explain::Operator;
use crate::query::plan::text::PlanNames;
use crate::query::plan::{Excerpt, Plan};

/// How many of the first rows are needed: those up to the end of the excerpt, and a reserve. `None`
/// if all are. Following all rows of many excerpts takes half as long again (`commit/one-field`).
pub(super) fn first_needed(plan: &Plan, excerpt: Excerpt) -> Option<usize> {
    let end = excerpt.end();
    let more = plan.tuning.rows_beyond_excerpt;
    (end < usize::MAX && plan.keeps_first()).then(|| end.saturating_add(more))
}

/// How rows moved in the excerpt that may have moved in the whole, which had that many.
pub(super) fn shown(
    mut candidates: Moves,
    len: usize,
    excerpt: Excerpt,
    (out, into): (&[usize], &[usize]),
) -> Moves {
    if !excerpt.is_whole() {
        push_neighbours(&mut candidates, len, excerpt, out, into);
        for row in &mut candidates {
            let inside = |rank: Option<usize>| rank.and_then(|rank| excerpt.position(rank));
            let shown = Moved::between(inside(row.before()), inside(row.after()));
            *row = shown.with(row.changed, row.moved);
        }
        candidates.retain(|row| row.before().is_some() || row.after().is_some());
    }
    settle(&mut candidates);
    candidates
}

/// The place in the whole of the n-th of those that are not taken.
fn nth_free(taken: &[usize], nth: usize) -> usize {
    // Of the taken places, as many are in front of it as leave fewer than `nth` free before them.
    let (mut low, mut high) = (0, taken.len());
    while low < high {
        let middle = usize::midpoint(low, high);
        if taken[middle] - middle <= nth { low = middle + 1 } else { high = middle }
    }
    nth + low
}

/// The rank among all with `others` in place of `gone`, of what has that rank with `gone`.
pub(super) fn moved_rank(rank: usize, gone: &[usize], others: &[usize]) -> usize {
    nth_free(others, rank - gone.partition_point(|other| *other < rank))
}

/// Adds the rows that others pushed over an end of the excerpt. An edit shifts ranks by one, so
/// they lie within as many ranks of that end as there are edits.
fn push_neighbours(
    candidates: &mut Moves,
    len: usize,
    excerpt: Excerpt,
    out: &[usize],
    into: &[usize],
) {
    // What left or entered far behind both ends shifts none of them.
    let far = excerpt.end().saturating_add(out.len().max(into.len()));
    let near = |ranks: &[usize]| ranks.partition_point(|rank| *rank < far);
    let shifts = near(out).max(near(into));
    let mut known: Few<usize> = candidates.iter().filter_map(|row| row.before()).collect();
    known.sort_unstable();
    let ends = [excerpt.offset, excerpt.end()];
    let mut last = 0;
    for end in ends {
        let from = end.saturating_sub(shifts).max(last);
        let to = end.saturating_add(shifts).min(len);
        for rank in from..to {
            if known.binary_search(&rank).is_ok() {
                continue;
            }
            let now = moved_rank(rank, out, into);
            candidates.push(Moved::between(Some(rank), Some(now)));
        }
        last = to.max(last);
    }
}

/// How rows move that keep their order, as some of them go and the excerpt moves: each with its old
/// rank, and its new one if it stays.
pub(in crate::query) fn thinned(
    ranks: impl Iterator<Item = (usize, Option<usize>)>,
    old: Excerpt,
    new: Excerpt,
) -> Moves {
    let moved = ranks.filter_map(|(before, after)| {
        let (before, after) = (old.position(before), after.and_then(|rank| new.position(rank)));
        let is_determined = before.is_some() != after.is_some();
        is_determined.then(|| Moved::between(before, after))
    });
    let mut moved: Moves = moved.collect();
    in_order_of_report(&mut moved);
    moved
}

/// How rows move when only the excerpt does: of ranks of one order those that were seen, and those
/// that are.
pub(in crate::query) fn excerpt_moved(old: Range<usize>, new: Range<usize>) -> Moves {
    // The parts of one that the other one does not have.
    let without = |a: &Range<usize>, b: &Range<usize>| {
        (a.start..a.end.min(b.start)).chain(a.start.max(b.end)..a.end)
    };
    let left = without(&old, &new).map(|rank| Moved::left(rank - old.start));
    let entered = without(&new, &old).map(|rank| Moved::between(None, Some(rank - new.start)));
    left.chain(entered).collect()
}

/// The part that shows, if that is not all.
pub(super) fn describe(names: &PlanNames<'_>) -> Option<Operator> {
    let plan = names.plan;
    if plan.limit.is_none() && plan.offset.is_none() {
        return None;
    }
    let number = |expr: &Expr| names.text_of(expr);
    let limit = plan.limit.as_ref().map(|limit| format!("{} rows", number(limit)));
    let offset = plan.offset.as_ref().map(|offset| format!("after the first {}", number(offset)));
    let what: Vec<String> = limit.into_iter().chain(offset).collect();
    let operator = Operator::new("limit", what.join(" "))
        .fact("keeps", "nothing: it is cut out of the order when it is read")
        .fact("follows", "looks at as many rows beside its ends as were shifted across them");
    Some(operator)
}
