//! An order of tuples: sorted from nothing, and what changed tuples mean for it.

use std::cell::Cell;
use std::cmp::Ordering;

use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use super::edit::{Edit, Edits};
use super::follow::follow;
use super::moves::Moves;
use super::ordered::Slots;
use super::rank_tree::{Prefix, RankTree, Sought};
use super::sort_prefix::{lowest_prefix, prefix};
use super::unordered::Unordered;
use super::{order_against, order_by, sort_keys};
use crate::query::expr::scalar::Scalar;
use crate::query::expr::{ColumnNo, Expr};
use crate::query::operator::join::TupleDelta;
use crate::query::operator::view::{NONE, Tuple, View, key_slots};
use crate::query::plan::{Excerpt, OrderKey, Source};
use crate::query::work;
use crate::table::{Slot, each_prefetched};

pub(super) fn sorted<E: Slots>(
    view: &View<'_>,
    params: &[Scalar<'static>],
    few: Option<usize>,
    each: impl Fn(&mut dyn FnMut(&[Slot])),
) -> RankTree<E> {
    let mut entries = Unordered::new();
    let order = |one: &E, other: &E| order_tuples(view, params, one.slots(), other.slots());
    let limits = &view.plan.limits;
    let most = work::most_rows::<(Prefix, E)>(limits);
    // Where only the first are needed, the others go before there are very many.
    let enough = few.map_or(usize::MAX, |few| {
        few.saturating_mul(2).max(view.plan.tuning.pruned_rows).min(most)
    });
    each(&mut |tuple| {
        if entries.len() >= enough {
            entries.keep_first(few, &order);
        }
        if entries.len() >= most {
            return work::too_many_rows(limits, entries.len());
        }
        let keys = sort_keys(view.plan, params, &view.row(tuple));
        entries.push(prefix_of(view, &keys, tuple), E::of(tuple));
    });
    entries.in_order(few, &order)
}

pub(super) fn follow_tuples<E: Slots>(
    ranked: &mut RankTree<E>,
    excerpt: Excerpt,
    (before, after): (&View<'_>, &View<'_>),
    params: &[Scalar<'static>],
    rows: &[TupleDelta],
) -> Option<Moves> {
    let mut edits: Edits<E> = SmallVec::with_capacity(rows.len());
    let editing = Editing::new((before, after), params, ranked.last_of_first());
    let swapped = swapped(&after.plan.sources, rows);
    let mut numbers = 0..;
    let mut look_at = |row: &TupleDelta| {
        let Some(number) = numbers.next() else { return };
        let (old, new) = (row.before.then_some(&*row.tuple), row.after.then_some(&*row.tuple));
        if row.is_another && row.before && row.after {
            edits.extend([Edit::Leave(E::of(&row.tuple)), Edit::Enter(E::of(&row.tuple))]);
        } else if let Some(left) = swapped.get(&number) {
            let Some(left) = left else { return };
            let (old, new) = (&*rows[*left].tuple, &*row.tuple);
            // Another tuple, even if nothing of it shows.
            let quiet = || Edit::Replace {
                old: E::of(old),
                new: E::of(new),
                reorder: true,
                changed: false,
            };
            let pair = (Some(old), Some(new));
            edits.push(editing.edit(pair, None).unwrap_or_else(quiet));
        } else if let Some(edit) = editing.edit((old, new), Some(row)) {
            edits.push(edit);
        }
    };
    each_prefetched(
        rows,
        &|prefetch, row| {
            match row.alone.map(usize::from) {
                // The others are what they were.
                Some(source) => before.input(source).prefetch(row.tuple[source], prefetch),
                None => before.prefetch(&row.tuple, prefetch),
            }
            after.prefetch(&row.tuple, prefetch);
        },
        &mut look_at,
    );
    let (old, new) = (|of: &E| sought(before, params, of), |of: &E| sought(after, params, of));
    follow(ranked, excerpt, &edits, old, new)
}

/// Of the tuples that left and those that entered, pairs that are one row: a row in it that others
/// determine, such as a sailing's vessel, was swapped for another one. Gives for one that entered
/// which one left; for that, nothing.
fn swapped(sources: &[Source], rows: &[TupleDelta]) -> FxHashMap<usize, Option<usize>> {
    let leaves = |row: &TupleDelta| row.before && !row.after && !row.is_another;
    let enters = |row: &TupleDelta| row.after && !row.before && !row.is_another;
    if sources.iter().all(|source| !source.is_determined)
        || !rows.iter().any(leaves)
        || !rows.iter().any(enters)
    {
        return FxHashMap::default();
    }
    let keyed =
        rows.iter().enumerate().map(|(number, row)| (key_slots(sources, &row.tuple), number));
    let keyed: Vec<(Tuple, usize)> = keyed.collect();
    let left: FxHashMap<&Tuple, usize> = keyed
        .iter()
        .filter(|(_, number)| leaves(&rows[*number]))
        .map(|(key, number)| (key, *number))
        .collect();
    let entered = keyed.iter().filter(|(_, number)| enters(&rows[*number]));
    let pairs = entered.filter_map(|(key, number)| Some((*left.get(key)?, *number)));
    pairs.flat_map(|(left, entered)| [(left, None), (entered, Some(left))]).collect()
}

/// What finds the edits of changed tuples.
struct Editing<'e> {
    before: &'e View<'e>,
    after: &'e View<'e>,
    params: &'e [Scalar<'static>],
    /// Of an order of which only the first entries are kept, where the last of these stands.
    last: Option<Prefix>,
    /// Whether an order's first key alone may tell that a row stands behind that: no other key does
    /// anything but read a column.
    by_first: bool,
    /// The last column that was compared with what it was, of which row, and whether it differs: many
    /// tuples have a row in common.
    compared: Cell<Option<(ColumnNo, Slot, bool)>>,
}

impl<'e> Editing<'e> {
    fn new(
        (before, after): (&'e View<'e>, &'e View<'e>),
        params: &'e [Scalar<'static>],
        last: Option<Prefix>,
    ) -> Self {
        let reads = |key: &OrderKey| matches!(key.expr, Expr::Column(_));
        let others = after.plan.order.get(1..);
        let by_first = last.is_some()
            && others.is_some_and(|others| others.iter().all(reads))
            && !before.has_failed()
            && !after.has_failed();
        Self { before, after, params, last, by_first, compared: Cell::new(None) }
    }

    /// Whether a column of a row differs, which `differs` finds out unless it is known.
    fn remembered(&self, column: ColumnNo, slot: Slot, differs: impl FnOnce() -> bool) -> bool {
        if let Some((known, of, differs)) = self.compared.get()
            && (known, of) == (column, slot)
        {
            return differs;
        }
        let differs = differs();
        self.compared.set(Some((column, slot, differs)));
        differs
    }

    /// Whether a tuple stands behind those that are kept, by its first sort key alone.
    fn is_behind(&self, view: &View<'_>, slots: &[Slot]) -> bool {
        let (Some(last), Some(key)) = (self.last, view.plan.order.first()) else { return false };
        lowest_prefix(key, &key.expr.eval(&view.row(slots), self.params)) > last
    }

    /// What a changed tuple means for the order of a plain result; nothing, if nothing of it shows.
    /// `delta` says what may have changed, of a tuple whose rows are the same.
    fn edit<E: Slots>(
        &self,
        (old, new): (Option<&[Slot]>, Option<&[Slot]>),
        delta: Option<&TupleDelta>,
    ) -> Option<Edit<E>> {
        let Self { before, after, params, last, by_first, .. } = *self;
        let plan = after.plan;
        let (old_slots, new_slots) = match (old, new) {
            (None, None) => return None,
            (None, Some(new)) => return Some(Edit::Enter(E::of(new))),
            (Some(old), None) => return Some(Edit::Leave(E::of(old))),
            (Some(old), Some(new)) => (old, new),
        };
        // Of many of which the first are kept, most rows stand behind these, and stay there.
        if by_first && self.is_behind(before, old_slots) && self.is_behind(after, new_slots) {
            return None;
        }
        let (old, new) = (before.row(old_slots), after.row(new_slots));
        let stays = |expr: &Expr| match expr {
            Expr::Column(column) => delta.is_some_and(|delta| delta.stays(*column)),
            _ => false,
        };
        let (order, content) = delta.map_or((true, true), |delta| (delta.order, delta.content));
        // Another tuple of the same row must be looked for as the old one stood: what it was made of
        // may have changed as well.
        let mut reorder = old_slots != new_slots;
        if reorder || order && plan.order.iter().any(|key| !stays(&key.expr)) {
            let (was, is) = (sort_keys(plan, params, &old), sort_keys(plan, params, &new));
            reorder |= was != is;
            if reorder
                && let Some(last) = last
                && prefix_of(before, &was, old_slots) > last
                && prefix_of(after, &is, new_slots) > last
            {
                return None;
            }
        }
        let is_same_tuple = old_slots == new_slots;
        let differs = |expr: &Expr| {
            let differs = || expr.eval(&old, params) != expr.eval(&new, params);
            match expr {
                Expr::Column(_) if stays(expr) => false,
                Expr::Column(column) if is_same_tuple && new_slots[column.source()] != NONE => {
                    self.remembered(*column, new_slots[column.source()], differs)
                }
                _ => differs(),
            }
        };
        let changed = content && plan.outputs.iter().any(|output| differs(&output.expr));
        let (old, new) = (E::of(old_slots), E::of(new_slots));
        match (reorder, changed) {
            (true, _) => Some(Edit::Replace { old, new, reorder, changed }),
            (false, true) => Some(Edit::Change(new)),
            (false, false) => None,
        }
    }
}

/// The prefix of a tuple with these sort keys.
fn prefix_of(view: &View<'_>, keys: &[Scalar<'_>], slots: &[Slot]) -> Prefix {
    prefix(&view.plan.order, keys, &|| view.tie(slots))
}

/// Where a tuple stands, and what compares others with it.
fn sought<'v, 'a, E: Slots>(
    view: &'v View<'a>,
    params: &'v [Scalar<'static>],
    entry: &E,
) -> Sought<impl Fn(&E) -> Ordering + use<'v, 'a, E>> {
    let slots = Tuple::from_slice(entry.slots());
    let keys = sort_keys(view.plan, params, &view.row(&slots));
    let prefix = prefix_of(view, &keys, &slots);
    let against = move |other: &E| {
        if other.slots() == &*slots {
            return Ordering::Equal;
        }
        order_against(view.plan, params, &view.row(other.slots()), &keys)
            .then_with(|| view.compare(other.slots(), &slots))
    };
    Sought { prefix, against }
}

/// The order of two tuples: by ORDER BY, and by their rows' ids where that leaves it open.
fn order_tuples(view: &View<'_>, params: &[Scalar<'static>], a: &[Slot], b: &[Slot]) -> Ordering {
    order_by(view.plan, params, &view.row(a), &view.row(b)).then_with(|| view.compare(a, b))
}
