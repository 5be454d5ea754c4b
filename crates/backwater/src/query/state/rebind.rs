//! From the result of one binding to that of another one of its shape: what of it can stay, and
//! how the rows move.

use rustc_hash::FxHashMap;
use smallvec::SmallVec;
use std::hash::Hash;
use std::ops::Range;
use std::sync::Arc;

use crate::query::expr::collation::Collation;
use crate::query::expr::fold::folded;
use crate::query::expr::scalar::Scalar;
use crate::query::expr::shape::{compared, searched};
use crate::query::expr::{Comparison, Expr};
use crate::query::operator::filter::Filter;
use crate::query::operator::order::{Moved, Moves, in_order_of_report, settle};
use crate::query::operator::rows::{Kept, KeptRow};
use crate::query::operator::view::{View, key_slots};
use crate::query::plan::{BoundPlan, Excerpt, Plan, Relation, Source};
use crate::query::state::ordered::{Ordered, Slots};
use crate::query::state::rank_tree::{RankTree, Sought};
use crate::query::state::sort_prefix::prefix;
use crate::schema::{FieldNo, TableNo};
use crate::table::Slot;

/// How the result for other values is derived from the present one.
#[derive(Debug, PartialEq)]
pub(crate) enum RebindStrategy {
    /// The same rows, in another excerpt.
    Excerpt,
    /// Rows leave at the ends of the order: those for which these conditions do not hold any more,
    /// each at its own end.
    Ends(SmallVec<[(End, usize); 1]>),
    /// Only rows with values in these bands enter or leave.
    Bands(SmallVec<[Band; 1]>),
    /// All rows of the new result are in the old one.
    Narrower,
    /// Little is known: it is recomputed.
    Recompute,
}

/// An end of an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum End {
    Front,
    Back,
}

/// The values of a field between an old and a new bound.
#[derive(Debug, PartialEq)]
pub(crate) struct Band {
    pub(crate) source: usize,
    pub(crate) table: TableNo,
    pub(crate) field: FieldNo,
    pub(crate) low: Scalar<'static>,
    pub(crate) high: Scalar<'static>,
}

impl RebindStrategy {
    /// The way between two bindings of a plan; `elsewhere` is that of [`elsewhere`].
    pub(crate) fn between(from: &BoundPlan, to: &BoundPlan, elsewhere: &[bool]) -> Self {
        let plan = &*from.plan;
        let has_changed = |param: usize| from.params[param] != to.params[param];
        let reads = |expr: &Expr| reads(expr, &has_changed);
        if !plan.is_shared
            || (0..elsewhere.len()).any(|param| elsewhere[param] && has_changed(param))
        {
            return RebindStrategy::Recompute;
        }
        let (mut bands, mut narrower) = (SmallVec::new(), false);
        let (mut ends, mut at_ends) = (SmallVec::new(), true);
        let late = plan.late.iter().enumerate();
        for (number, condition) in late.filter(|(_, condition)| reads(condition)) {
            if let Some((band, end)) = band(condition, from, to) {
                bands.push(band);
                match end {
                    Some(end) => ends.push((end, number)),
                    None => at_ends = false,
                }
            } else if is_narrower(condition, from, to) {
                narrower = true;
            } else {
                return RebindStrategy::Recompute;
            }
        }
        match (bands.is_empty(), narrower) {
            (true, false) => RebindStrategy::Excerpt,
            (false, false) if at_ends => RebindStrategy::Ends(ends),
            (false, false) => RebindStrategy::Bands(bands),
            (true, true) if plan.rows.are_tuples() => RebindStrategy::Narrower,
            _ => RebindStrategy::Recompute,
        }
    }
}

/// Whether an expression reads one of some parameters.
fn reads(expr: &Expr, is_one: &dyn Fn(usize) -> bool) -> bool {
    let mut found = false;
    expr.walk(&mut |expr| found |= matches!(expr, Expr::Param(param) if is_one(*param)));
    found
}

/// For each parameter of a plan whether it decides on more than which rows there are and where the
/// excerpt is.
pub(crate) fn elsewhere(plan: &Plan) -> Box<[bool]> {
    (0..plan.params.len()).map(|param| is_elsewhere(plan, param)).collect()
}

/// Whether a parameter decides on more than which rows there are and where the excerpt is.
fn is_elsewhere(plan: &Plan, param: usize) -> bool {
    let reads = |expr: &Expr| reads(expr, &|other| other == param);
    let of_sources = plan.sources.iter().any(|source| source.relation.params().contains(&param));
    let of_keys = plan.keys.iter().any(|key| key.param == param);
    let mut of_rows = false;
    if let Some(rows) = plan.rows.operator() {
        rows.each_expr(&mut |expr| of_rows |= reads(expr));
        rows.each_late_expr(&mut |expr| of_rows |= reads(expr));
    }
    let outputs = plan.outputs.iter().map(|output| &output.expr);
    let order = plan.order.iter().map(|key| &key.expr);
    of_sources || of_keys || of_rows || outputs.chain(order).any(reads)
}

/// The band between the old and the new bound of a condition `column < :param`. If the rows in it
/// leave and stand at an end of the order, returns which one.
fn band(condition: &Expr, from: &BoundPlan, to: &BoundPlan) -> Option<(Band, Option<End>)> {
    use Comparison as C;
    let (column, comparison, affinity, bound) = compared(condition)?;
    let source = &from.plan.sources[column.source()];
    let (Expr::Param(param), Relation::Table(table), None) =
        (bound, &source.relation, &source.outer)
    else {
        return None;
    };
    let is_range = matches!(comparison, C::Less | C::LessOrEqual | C::Greater | C::GreaterOrEqual);
    let value = |bound_plan: &BoundPlan| bound_plan.params[*param].clone().under(affinity);
    let (a, b) = (value(from), value(to));
    if !is_range || a.is_null() || b.is_null() {
        return None;
    }
    let is_below = matches!(comparison, C::Less | C::LessOrEqual);
    let leaves = if is_below { b.order(&a).is_le() } else { a.order(&b).is_le() };
    let leads = from.plan.order.first().filter(|key| {
        matches!(&key.expr, Expr::Column(by) if *by == column) && key.collation == Collation::Binary
    });
    let end = leads.filter(|_| leaves && from.plan.rows.are_tuples());
    let end = end.map(|key| if is_below != key.descending { End::Back } else { End::Front });
    let (low, high) = if a.order(&b).is_le() { (a, b) } else { (b, a) };
    let band = Band { source: column.source(), table: *table, field: column.field(), low, high };
    Some((band, end))
}

/// Whether a condition holds of fewer rows than before: a text that contains the new needle
/// contains the old one.
fn is_narrower(condition: &Expr, from: &BoundPlan, to: &BoundPlan) -> bool {
    let Some((text, Expr::Param(param))) = searched(condition) else { return false };
    let (Some(a), Some(b)) = (from.params[*param].to_text(), to.params[*param].to_text()) else {
        return false;
    };
    !matches!(text, Expr::Param(_)) && folded(&b).contains(&*folded(&a))
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

/// Takes out of an order the entries in front that do not meet some conditions, which all behind
/// them meet, and those at the end that do not meet others; returns how many were in front, and how
/// many are left.
pub(in crate::query) fn cut<'a, E: Slots>(
    ranked: &mut RankTree<E>,
    view: &'a View<'_>,
    (front, back): (&Filter<'a>, &Filter<'a>),
) -> (usize, usize) {
    let len = ranked.len();
    let is_out = |filter: &Filter<'a>, rank: usize| {
        ranked.get(rank).is_some_and(|entry| !filter.holds(&view.row(entry.slots())))
    };
    let front = count_while(len, |rank| is_out(front, rank));
    let end = count_while(len - front, |nth| is_out(back, len - 1 - nth));
    ranked.cut(front, end);
    (front, len - front - end)
}

/// For how many of these numbers, which are the first ones, something holds; mostly few.
fn count_while(len: usize, holds: impl Fn(usize) -> bool) -> usize {
    let (mut low, mut high) = (0, 1);
    while high <= len && holds(high - 1) {
        (low, high) = (high, high * 2);
    }
    high = (high - 1).min(len);
    while low < high {
        let middle = usize::midpoint(low, high);
        if holds(middle) { low = middle + 1 } else { high = middle }
    }
    low
}

/// Calls `found` with the rows of a table that have values in a band; `index` has all of them in
/// the order of that field.
pub(crate) fn each_in(
    band: &Band,
    index: &RankTree<Slot>,
    view: &View<'_>,
    mut found: impl FnMut(Slot),
) {
    let value = |slot: Slot| Scalar::of_cell(view.state, band.table, slot, band.field);
    let of = |end: &Scalar<'_>| prefix(&view.plan.order, std::slice::from_ref(end), None);
    let (low, high) = (of(&band.low), of(&band.high));
    let first = Sought { prefix: low, against: |slot: &Slot| value(*slot).order(&band.low) };
    index.each_from(&first, |prefix, slot| {
        // A row's prefix may say more than the value: then it is behind that of the value alone.
        let is_inside = prefix < high || value(*slot).order(&band.high).is_le();
        if is_inside {
            found(*slot);
        }
        is_inside
    });
}

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
