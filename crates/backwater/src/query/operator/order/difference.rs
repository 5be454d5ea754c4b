//! How the rows of two results of a shape differ, found by comparing them.

use std::hash::Hash;
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::moves::{Moved, Moves, settle};
use super::ordered::{Ordered, Slots};
use super::rank_tree::RankTree;
use crate::query::expr::scalar::Scalar;
use crate::query::operator::rows::{Kept, KeptRow};
use crate::query::operator::view::{View, key_slots};
use crate::query::plan::{BoundPlan, Excerpt, Source};
use crate::table::Slot;

/// How the rows of two results of a shape move from one to the other. `changed` says of rows of
/// tables that are in both whether they may show other values, or be ordered by others.
pub(crate) fn difference(
    (from, old, before): (&BoundPlan, &Ordered, &View<'_>),
    (to, new, after): (&BoundPlan, &Ordered, &View<'_>),
    changed: &dyn Fn(&[Slot], &[Slot]) -> bool,
) -> Moves {
    let excerpts = (from.excerpt, to.excerpt);
    let shown = |bound_plan: &BoundPlan, view: &View<'_>, slots: &[Slot]| -> Vec<Scalar<'static>> {
        let row = view.row(slots);
        let outputs = bound_plan.plan.outputs.iter();
        outputs.map(|output| output.expr.eval(&row, &bound_plan.params).into_owned()).collect()
    };
    // Whether a row shows other values than before.
    let shows = |old: &[Slot], new: &[Slot]| {
        changed(old, new) && shown(from, before, old) != shown(to, after, new)
    };
    let sources = &to.plan.sources;
    match (old, new) {
        (Ordered::One(old), Ordered::One(new)) => {
            tables(old, new, excerpts, sources, changed, &shows)
        }
        (Ordered::Two(old), Ordered::Two(new)) => {
            tables(old, new, excerpts, sources, changed, &shows)
        }
        (Ordered::Many(old), Ordered::Many(new)) => {
            tables(old, new, excerpts, sources, changed, &shows)
        }
        (Ordered::Kept(old, was), Ordered::Kept(new, is)) => {
            let shows = |bound_plan: &BoundPlan, kept: Kept<'_>| -> Vec<Scalar<'static>> {
                let outputs = bound_plan.plan.outputs.iter();
                outputs
                    .map(|output| output.expr.eval(&kept, &bound_plan.params).into_owned())
                    .collect()
            };
            let changed =
                |a: &Arc<KeptRow>, b: &Arc<KeptRow>| shows(from, was.of(a)) != shows(to, is.of(b));
            let is_bound_anew = !std::ptr::eq(from, to);
            let loose = |a: &Arc<KeptRow>, b: &Arc<KeptRow>| {
                is_bound_anew || !was.of(a).shows_same(&is.of(b))
            };
            compare((old, new), excerpts, |row| row.place(), (loose, changed))
        }
        _ => {
            debug_assert!(false, "bindings of one shape keep their rows alike");
            Moves::new()
        }
    }
}

fn tables<E: Slots>(
    old: &RankTree<E>,
    new: &RankTree<E>,
    excerpts: (Excerpt, Excerpt),
    sources: &[Source],
    changed: &dyn Fn(&[Slot], &[Slot]) -> bool,
    shows: &dyn Fn(&[Slot], &[Slot]) -> bool,
) -> Moves {
    let key = |entry: &E| key_slots(sources, entry.slots());
    let loose = |old: &E, new: &E| changed(old.slots(), new.slots());
    compare((old, new), excerpts, key, (loose, |old: &E, new: &E| shows(old.slots(), new.slots())))
}

fn compare<E: Clone, K: Hash + Eq>(
    (old, new): (&RankTree<E>, &RankTree<E>),
    (old_excerpt, new_excerpt): (Excerpt, Excerpt),
    key: impl Fn(&E) -> K,
    // Whether an entry may have another place among those that stay, and whether it has changed.
    (loose, changed): (impl Fn(&E, &E) -> bool, impl Fn(&E, &E) -> bool),
) -> Moves {
    let shown = |ranked: &RankTree<E>, excerpt: Excerpt| {
        excerpt.offset..excerpt.offset + excerpt.len(ranked.len())
    };
    let mut gone: FxHashMap<K, (usize, E)> = FxHashMap::default();
    old.each(shown(old, old_excerpt), |rank, _, entry| {
        gone.insert(key(entry), (rank - old_excerpt.offset, entry.clone()));
    });
    let mut rows = Moves::new();
    new.each(shown(new, new_excerpt), |rank, _, entry| {
        let known = gone.remove(&key(entry));
        let before = known.as_ref().map(|(position, _)| *position);
        let changed = known.as_ref().is_some_and(|(_, old)| changed(old, entry));
        let moved = known.as_ref().is_some_and(|(_, old)| loose(old, entry));
        rows.push(Moved::between(before, Some(rank - new_excerpt.offset)).with(changed, moved));
    });
    rows.extend(gone.into_values().map(|(position, _)| Moved::left(position)));
    settle(&mut rows);
    rows
}
