//! ORDER BY: a statement's rows in order, in a tree that also answers by rank.
//!
//! Rows are tuples (`tuples.rs`) or keep their values (`kept.rs`). They are sorted from nothing, and
//! follow edits (`follow.rs`), which gives how they moved (`moves.rs`). For other values of parameters
//! the order is a version of the old one, or both are compared (`difference.rs`).

pub(in crate::query) mod difference;
pub(in crate::query) mod edit;
mod follow;
mod kept;
pub(in crate::query) mod moves;
pub(in crate::query) mod ordered;
pub(in crate::query) mod rank_tree;
pub(in crate::query) mod sort_prefix;
mod tuples;
mod unordered;

use std::cmp::Ordering;
use std::sync::Arc;

use smallvec::SmallVec;

use self::edit::Edit;
use self::kept::{check_outputs, sorted_kept, sought_kept};
use self::moves::Moves;
use self::ordered::{Ordered, of_tables};
use self::tuples::{follow_tuples, sorted};
use crate::query::expr::Columns;
use crate::query::expr::scalar::Scalar;
use crate::query::operator::join::TupleDelta;
use crate::query::operator::limit::first_needed;
use crate::query::operator::rows::{KeptRow, RowEdits};
use crate::query::operator::view::View;
use crate::query::operator::walk::Walk;
use crate::query::operator::window_values::WindowValues;
use crate::query::plan::explain::Operator;
use crate::query::plan::text::PlanNames;
use crate::query::plan::{Excerpt, OrderKey, Plan, Rows};
use crate::table::Slot;

/// A list that mostly is short.
pub(super) type Few<T> = SmallVec<[T; 8]>;

impl Ordered {
    /// All tuples, or none, if `empty`.
    pub(crate) fn of_tuples(
        view: &View<'_>,
        (params, excerpt): (&[Scalar<'static>], Excerpt),
        empty: bool,
    ) -> Self {
        let few = first_needed(view.plan, excerpt);
        let each = |found: &mut dyn FnMut(&[Slot])| {
            if !empty {
                Walk { view, params }.all(found);
            }
        };
        match view.plan.sources.len() {
            1 => Ordered::One(sorted(view, params, few, each)),
            2 => Ordered::Two(sorted(view, params, few, each)),
            _ => Ordered::Many(sorted(view, params, few, each)),
        }
    }

    /// Rows that keep their values, with what window functions give for them.
    pub(crate) fn of_rows(
        plan: &Plan,
        (params, excerpt): (&[Scalar<'static>], Excerpt),
        rows: Vec<Arc<KeptRow>>,
        given: WindowValues,
    ) -> Self {
        rows.iter().for_each(|row| check_outputs(plan, params, given.of(row)));
        let ranked = sorted_kept(plan, params, (rows, &given), first_needed(plan, excerpt));
        Ordered::Kept(ranked, given)
    }

    /// Follows changed tuples; returns how the rows in the excerpt moved. `None` if it must be
    /// recomputed, as only the first rows were kept and too few of them are left.
    pub(crate) fn follow_tuples(
        &mut self,
        views: (&View<'_>, &View<'_>),
        (params, excerpt): (&[Scalar<'static>], Excerpt),
        tuples: &[TupleDelta],
    ) -> Option<Moves> {
        of_tables!(
            Ordered, self,
            ranked => follow_tuples(ranked, excerpt, views, params, tuples),
            kept _ranked, _ => None
        )
    }

    /// The same with changed rows that keep their values, and what window functions give now.
    pub(crate) fn follow_rows(
        &mut self,
        plan: &Plan,
        (params, excerpt): (&[Scalar<'static>], Excerpt),
        edits: &RowEdits,
        now: WindowValues,
    ) -> Option<Moves> {
        let Ordered::Kept(ranked, given) = self else { return None };
        for edit in edits {
            if let Edit::Enter(row) | Edit::Replace { new: row, .. } = edit {
                check_outputs(plan, params, now.of(row));
            }
        }
        let was = std::mem::replace(given, now);
        let sought = |row: &Arc<KeptRow>, given| sought_kept(plan, params, row, given);
        let (old, new) = (|row: &_| sought(row, &was), |row: &_| sought(row, given));
        follow::follow(ranked, excerpt, edits, old, new)
    }

    /// Drops those that are not needed, where there are far more.
    pub(crate) fn keep_first(&mut self, plan: &Plan, excerpt: Excerpt) {
        if let Some(few) = first_needed(plan, excerpt) {
            of_tables!(Ordered, self, ranked => ranked.keep_first(few), kept ranked, _ => ranked.keep_first(few));
        }
    }
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

/// The order of two rows as far as ORDER BY decides it.
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

/// The values by which ORDER BY sorts one row, to compare many others with.
pub(crate) type SortKeys<'a> = SmallVec<[Scalar<'a>; 3]>;

pub(crate) fn sort_keys<'a>(
    plan: &'a Plan,
    params: &'a [Scalar<'static>],
    row: &impl Columns<'a>,
) -> SortKeys<'a> {
    plan.order.iter().map(|key| key.expr.eval(row, params)).collect()
}

/// The order of a row against one whose values are known, as far as ORDER BY decides it.
pub(crate) fn order_against<'a>(
    plan: &'a Plan,
    params: &'a [Scalar<'static>],
    row: &impl Columns<'a>,
    keys: &SortKeys<'_>,
) -> Ordering {
    for (key, value) in plan.order.iter().zip(keys) {
        let order = compare_key(key, &key.expr.eval(row, params), value);
        if order.is_ne() {
            return order;
        }
    }
    Ordering::Equal
}

/// The order and what it shows.
pub(super) fn describe(names: &PlanNames<'_>) -> Operator {
    let plan = names.plan;
    let keys = names.order(&plan.order, &|expr| names.text_of_filter(expr));
    let telling = plan.sources.iter().filter(|source| !source.is_determined);
    let telling: Vec<&str> = telling.map(|source| &*source.name).collect();
    let rows = plan.rows.operator();
    let ties = match rows.and_then(|rows| rows.ties()) {
        Some(ties) => ties.to_owned(),
        None if plan.sources.iter().all(|source| source.is_lookup || !source.is_determined) => {
            "the rows' ids".to_owned()
        }
        None => format!("the ids of {}", telling.join(", ")),
    };
    let what = if keys.is_empty() { ties } else { format!("{keys}, then {ties}") };
    let outputs = plan.outputs.iter().map(|output| {
        let shown = names.text_of_filter(&output.expr);
        let is_name = output.name.is_empty()
            || shown == output.name
            || shown.ends_with(&format!(".{}", output.name));
        if is_name { shown } else { format!("{shown} AS {}", output.name) }
    });
    let has_first = plan.keeps_first() && plan.limit.is_some();
    let (of_many, runs_out) = match has_first {
        true => (", of many the first", "; recomputed when the first run out"),
        false => ("", ""),
    };
    let kept = rows.map_or("the slots of its rows", |rows| rows.keeps());
    let keys = plan
        .keys
        .iter()
        .map(|key| format!("{} = :{}", names.column(key.column), plan.params[key.param].name));
    let keys: Vec<String> = keys.collect();
    let late: Vec<String> = plan.late.iter().map(|condition| names.text_of(condition)).collect();
    Operator::new("order", what)
        .fact("shows", outputs.collect::<Vec<_>>().join(", "))
        .fact(
            "bindings",
            match (keys.is_empty(), late.is_empty(), plan.is_shared) {
                (_, _, false) if matches!(plan.rows, Rows::Recursion(_)) => String::new(),
                (_, _, false) => "each is searched alone, since ON has parameters".to_owned(),
                (true, true, true) => String::new(),
                (false, true, true) => format!("found by {}", keys.join(" and ")),
                (true, false, true) => {
                    format!("found by a row's value of {}", late.join(" and "))
                }
                (false, false, true) => {
                    format!("found by {}, then by {}", keys.join(" and "), late.join(" and "))
                }
            },
        )
        .fact("keeps", format!("{kept}{of_many}, in a tree ordered by rank"))
        .fact("follows", format!("looks up the rank of a changed row, before and after{runs_out}"))
}
