//! Conditions under other values of parameters: of `column < :param` only rows between the old and
//! the new bound enter or leave, and of a search for a longer text they only leave.

use super::Filter;
use crate::query::expr::collation::Collation;
use crate::query::expr::fold::folded;
use crate::query::expr::scalar::Scalar;
use crate::query::expr::shape::{compared, searched};
use crate::query::expr::{Comparison, Expr};
use crate::query::operator::limit::excerpt_moved;
use crate::query::operator::order::moves::Moves;
use crate::query::operator::order::ordered::{Ordered, Slots, of_tables};
use crate::query::operator::order::rank_tree::{RankTree, Sought};
use crate::query::operator::order::sort_prefix::prefix;
use crate::query::operator::view::View;
use crate::query::plan::{BoundPlan, Excerpt, Relation};
use crate::schema::{FieldNo, TableNo};
use crate::table::Slot;

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

/// The band between the old and the new bound of a condition `column < :param`. If the rows in it
/// leave and stand at an end of the order, returns which one.
pub(crate) fn band(
    condition: &Expr,
    from: &BoundPlan,
    to: &BoundPlan,
) -> Option<(Band, Option<End>)> {
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
pub(crate) fn is_narrower(condition: &Expr, from: &BoundPlan, to: &BoundPlan) -> bool {
    let Some((text, Expr::Param(param))) = searched(condition) else { return false };
    let (Some(a), Some(b)) = (from.params[*param].to_text(), to.params[*param].to_text()) else {
        return false;
    };
    !matches!(text, Expr::Param(_)) && folded(&b).contains(&*folded(&a))
}

/// Drops the rows at the ends of an order that no longer meet conditions, in front and at the end;
/// returns how rows move from the old excerpt to the new one. `None` if the result must be
/// recomputed.
pub(crate) fn cut<'a>(
    ordered: &Ordered,
    (old, new): (Excerpt, Excerpt),
    view: &'a View<'_>,
    meet: (&Filter<'a>, &Filter<'a>),
) -> Option<(Ordered, Moves)> {
    let (mut left, was) = (ordered.clone(), ordered.len());
    let (front, is) = of_tables!(
        Ordered, &mut left,
        ranked => cut_ranked(ranked, view, meet),
        kept _ranked, _ => return None
    );
    if !left.reaches(new.end()) {
        return None;
    }
    let new = new.ranks(is);
    let moved = excerpt_moved(old.ranks(was), new.start + front..new.end + front);
    Some((left, moved))
}

/// Takes out of an order the entries in front that do not meet some conditions, which all behind
/// them meet, and those at the end that do not meet others; returns how many were in front, and how
/// many are left.
fn cut_ranked<'a, E: Slots>(
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
    let of = |end: &Scalar<'_>| prefix(&view.plan.order, std::slice::from_ref(end), &|| None);
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
