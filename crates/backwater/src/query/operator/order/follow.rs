//! Edits applied to an order.

use std::cmp::Ordering;

use smallvec::{SmallVec, smallvec};

use super::Few;
use super::edit::Edit;
use super::moves::{Moved, Moves};
use super::rank_tree::{Prefix, RankTree, Sought};
use crate::query::operator::limit::{moved_rank, shown};
use crate::query::plan::Excerpt;
use crate::sorting::{self, Numbered};
use crate::table::TOGETHER;

/// Applies edits to an order and returns how the rows in the excerpt moved.
///
/// What leaves or moves is taken out under the old order before anything is put in under the new one,
/// so that no comparison ever meets an entry under the wrong one. `old_order` and `new_order` make of an
/// entry what compares others with it.
///
/// Of an order of which only the first entries are kept, the others are not followed. `None` if too
/// few are left then to fill the excerpt.
pub(crate) fn follow<E: Clone, O: Fn(&E) -> Ordering, N: Fn(&E) -> Ordering>(
    ranked: &mut RankTree<E>,
    excerpt: Excerpt,
    edits: &[Edit<E>],
    old_order: impl Fn(&E) -> Sought<O>,
    new_order: impl Fn(&E) -> Sought<N>,
) -> Option<Moves> {
    ranked.forget_left();
    let len = ranked.len();
    // Of those that stay where they are, nothing is noted.
    let stays = |edit: &Edit<E>| edit.taken_out().is_none() && edit.put_in().is_none();
    let noted = if edits.iter().all(stays) { 0 } else { edits.len() };
    let (mut befores, mut afters) = (unknown(noted), unknown(noted));
    let places = places_of(edits.iter().map(Edit::taken_out), old_order, ranked);
    // From the last to the first: each has the rank that it had in the whole.
    let order = |one: usize, other: usize| (places[other].2.against)(places[one].0);
    let mut out = Ranks::new();
    for (_, place) in in_order(&mut places.iter().map(|(.., at)| at.prefix), &order).iter().rev() {
        let (_, number, at) = &places[*place as usize];
        befores[*number] = ranked.remove(at);
        debug_assert!(befores[*number].is_some(), "what leaves a result was in it");
        out.extend(befores[*number]);
    }
    out.reverse();
    let places = places_of(edits.iter().map(Edit::put_in), &new_order, ranked);
    // From the first to the last: none that is put in later shifts it.
    let order = |one: usize, other: usize| (places[other].2.against)(places[one].0);
    let mut into = Ranks::new();
    for (_, place) in &in_order(&mut places.iter().map(|(.., at)| at.prefix), &order) {
        let (new, number, at) = &places[*place as usize];
        let rank = ranked.insert((*new).clone(), at);
        afters[*number] = Some(rank);
        into.push(rank);
    }
    let mut candidates = Moves::with_capacity(edits.len());
    for some in edits.chunks(TOGETHER) {
        let mut stay: Staying<'_, E, N> = SmallVec::new();
        for edit in some {
            let (Edit::Replace { new, reorder: false, .. } | Edit::Change(new)) = edit else {
                continue;
            };
            let place = new_order(new);
            if !ranked.is_behind(&place) {
                stay.push((edit, place));
            }
        }
        let places: SmallVec<[_; TOGETHER]> = stay.iter().map(|(_, place)| place).collect();
        let ranks = ranked.ranks(&places);
        for ((edit, place), rank) in stay.iter().zip(ranks) {
            debug_assert!(rank.is_some(), "what stays in a result is in it");
            let changed = match edit {
                Edit::Replace { new, changed, .. } => {
                    ranked.replace(new.clone(), place);
                    *changed
                }
                _ => true,
            };
            let before = rank.map(|rank| moved_rank(rank, &into, &out));
            candidates.push(Moved::between(before, rank).with(changed, false));
        }
    }
    if !ranked.reaches(excerpt.end()) {
        return None;
    }
    for ((edit, before), after) in edits.iter().zip(befores).zip(afters) {
        if before.is_some() || after.is_some() {
            let may_move = matches!(edit, Edit::Replace { .. });
            let changed = matches!(edit, Edit::Replace { changed: true, .. });
            candidates.push(Moved::between(before, after).with(changed, may_move));
        }
    }
    Some(shown(candidates, len, excerpt, (&out, &into)))
}

/// Edits of entries that stay where they are.
type Staying<'e, E, F> = SmallVec<[(&'e Edit<E>, Sought<F>); TOGETHER]>;

/// Where entries stand, each with the number of its edit; without those that are not followed.
fn places_of<'e, E: Clone, F: Fn(&E) -> Ordering>(
    entries: impl Iterator<Item = Option<&'e E>>,
    order: impl Fn(&E) -> Sought<F>,
    ranked: &RankTree<E>,
) -> Few<(&'e E, usize, Sought<F>)> {
    // Lists are filled one by one, as there is one of this function for each kind of entry.
    let mut places = Few::new();
    for (number, entry) in entries.enumerate() {
        if let Some(entry) = entry {
            let place = order(entry);
            if !ranked.is_behind(&place) {
                places.push((entry, number, place));
            }
        }
    }
    places
}

/// Ranks in order.
type Ranks = Few<usize>;

/// A rank for each edit that is not known yet.
fn unknown(edits: usize) -> Few<Option<usize>> {
    smallvec![None; edits]
}

/// The numbers of places by which of them stands in front.
fn in_order(
    prefixes: &mut dyn Iterator<Item = Prefix>,
    order: &sorting::Order<'_>,
) -> Few<Numbered> {
    let mut numbered = Few::new();
    prefixes.for_each(|prefix| numbered.push((prefix, numbered.len() as u32)));
    if numbered.len() > 1 {
        sorting::numbers(&mut numbered, order);
    }
    numbered
}
