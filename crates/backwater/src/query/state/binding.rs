//! The state of a binding: a result in order, maintained by the deltas of each commit.

use std::cmp::Ordering;
use std::sync::Arc;

use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use crate::query::expr::Expr;
use crate::query::expr::scalar::Scalar;
use crate::query::operator::edit::{Edit, Edits};
use crate::query::operator::filter::Filter;
use crate::query::operator::join::TupleDelta;
use crate::query::operator::order::{Moves, follow, order_against, order_by, sort_keys};
use crate::query::operator::rows::{Kept, KeptRow, MadeRows, RowsState, order_kept};
use crate::query::operator::view::{Tuple, View, key_slots};
use crate::query::operator::walk::Walk;
use crate::query::operator::window_values::WindowValues;
use crate::query::plan::{BoundPlan, Excerpt, Plan, Source};
use crate::query::state::narrow::{Narrowed, SearchedTexts, narrowed};
use crate::query::state::ordered::{Ordered, Slots, of_tables};
use crate::query::state::rank_tree::{Prefix, RankTree, Sought};
use crate::query::state::rebind::{self, excerpt_moved};
use crate::query::state::sort_prefix::prefix;
use crate::query::state::unordered::Unordered;
use crate::query::work::{self, Failure};
use crate::schema::ResultLimits;
use crate::table::{Slot, each_fetched};

/// A binding's state: the result, and what its operators keep beside it.
pub(crate) struct BindingState {
    pub(crate) ordered: Ordered,
    pub(crate) operators: OperatorState,
    /// Why some of its rows cannot be computed, if so: a reader of the whole gets that instead.
    pub(crate) failure: Option<Failure>,
}

/// What the operators of a statement keep beside the result.
#[derive(Clone, Default)]
pub(crate) struct OperatorState {
    rows: RowsState,
    /// Of a result that a search has narrowed the texts, until the next commit reaches it.
    searched: Option<Arc<SearchedTexts>>,
}

impl OperatorState {
    /// Whether it is that of a statement's result, and not what was left when that was taken.
    pub(crate) fn is_of(&self, plan: &Plan) -> bool {
        plan.rows.fits(&self.rows)
    }

    /// Bytes that it takes, more or less.
    pub(crate) fn bytes(&self) -> usize {
        let texts = self.searched.as_ref().map_or(0, |searched| searched.bytes());
        self.rows.bytes() + texts
    }
}

impl From<Ordered> for BindingState {
    fn from(ordered: Ordered) -> Self {
        Self { ordered, operators: OperatorState::default(), failure: None }
    }
}

impl BindingState {
    /// Computes a result from scratch; without rows, if `empty`.
    pub(crate) fn compute(
        view: &View<'_>,
        (params, excerpt): (&[Scalar<'static>], Excerpt),
        empty: bool,
    ) -> Result<Self, Failure> {
        let plan = view.plan;
        work::within(&plan.limits, || Self::compute_within(view, (params, excerpt), empty))
    }

    fn compute_within(
        view: &View<'_>,
        (params, excerpt): (&[Scalar<'static>], Excerpt),
        empty: bool,
    ) -> Self {
        let (plan, few) = (view.plan, few(view.plan, excerpt));
        let walk = Walk { view, params };
        let each = |found: &mut dyn FnMut(&[Slot])| {
            if !empty {
                walk.all(found);
            }
        };
        if let Some(operator) = plan.rows.operator() {
            let MadeRows { rows, state } = operator.compute(view, params, empty);
            let (failure, given) = (state.failure(), state.given());
            rows.iter().for_each(|row| check_outputs(plan, params, given.of(row)));
            let ranked = sorted_kept(plan, params, (rows, &given), few);
            let ordered = Ordered::Kept(ranked, given);
            let operators = OperatorState { rows: state, searched: None };
            return Self { ordered, operators, failure };
        }
        let ordered = match plan.sources.len() {
            1 => Ordered::One(sorted(view, params, few, each)),
            2 => Ordered::Two(sorted(view, params, few, each)),
            _ => Ordered::Many(sorted(view, params, few, each)),
        };
        ordered.into()
    }

    /// The rows that meet the conditions of a binding with narrower ones, and how they move from
    /// the old excerpt to its own.
    pub(crate) fn narrowed(
        (ordered, operators): (&Ordered, &OperatorState),
        view: &View<'_>,
        to: &BoundPlan,
        old: Excerpt,
    ) -> Option<(Self, Moves)> {
        fn of<E>(
            (ranked, moved, texts): Narrowed<RankTree<E>>,
            of: fn(RankTree<E>) -> Ordered,
        ) -> Narrowed<Ordered> {
            (of(ranked), moved, texts)
        }
        let known = operators.searched.as_ref();
        let (ordered, moved, searched) = match ordered {
            Ordered::One(ranked) => of(narrowed(ranked, view, to, old, known), Ordered::One),
            Ordered::Two(ranked) => of(narrowed(ranked, view, to, old, None), Ordered::Two),
            Ordered::Many(ranked) => of(narrowed(ranked, view, to, old, None), Ordered::Many),
            Ordered::Kept(..) => return None,
        };
        let operators = OperatorState { rows: RowsState::default(), searched };
        Some((Self { ordered, operators, failure: None }, moved))
    }

    /// Drops the rows at the ends of the order that no longer meet conditions, in front and at the
    /// end; returns how rows move from the old excerpt to the new one. `None` if it must be
    /// recomputed.
    pub(crate) fn cut<'a>(
        ordered: &Ordered,
        (old, new): (Excerpt, Excerpt),
        view: &'a View<'_>,
        meet: (&Filter<'a>, &Filter<'a>),
    ) -> Option<(Self, Moves)> {
        let (mut left, was) = (ordered.clone(), ordered.len());
        let (front, is) = of_tables!(
            Ordered, &mut left,
            ranked => rebind::cut(ranked, view, meet),
            kept _ranked, _ => return None
        );
        if !left.reaches(new.end()) {
            return None;
        }
        let new = new.ranks(is);
        let moved = excerpt_moved(old.ranks(was), new.start + front..new.end + front);
        Some((left.into(), moved))
    }

    /// Notes if it has become larger than a result may be.
    pub(crate) fn check_size(&self, limits: &ResultLimits) {
        let (rows, bytes) = (self.ordered.len(), self.ordered.bytes());
        if rows > limits.rows || bytes > limits.bytes {
            work::too_many_rows(limits, rows);
        }
    }

    /// Follows a commit; returns how the rows in the excerpt moved. `None` if it must be recomputed,
    /// as only the first rows were kept and too few of them are left.
    pub(crate) fn apply(
        &mut self,
        (before, after): (&View<'_>, &View<'_>),
        params: &[Scalar<'static>],
        excerpt: Excerpt,
        rows: &[TupleDelta],
    ) -> Option<Moves> {
        let plan = after.plan;
        let views = (before, after);
        self.operators.searched = None;
        if rows.is_empty() {
            return self.ordered.reaches(excerpt.end()).then(Moves::new);
        }
        let moves = of_tables!(
            Ordered, &mut self.ordered,
            ranked => follow_tuples(ranked, excerpt, views, params, rows),
            kept ranked, given => {
                let operator = plan.rows.operator()?;
                let edits = operator.apply(&mut self.operators.rows, views, params, rows)?;
                self.failure = self.operators.rows.failure();
                let now = self.operators.rows.given();
                for edit in &edits {
                    if let Edit::Enter(row) | Edit::Replace { new: row, .. } = edit {
                        check_outputs(plan, params, now.of(row));
                    }
                }
                let was = std::mem::replace(given, now);
                let sought = |row: &Arc<KeptRow>, given| sought_kept(plan, params, row, given);
                let (old, new) = (|row: &_| sought(row, &was), |row: &_| sought(row, given));
                follow(ranked, excerpt, &edits, old, new)
            }
        );
        if let Some(few) = few(plan, excerpt) {
            let ordered = &mut self.ordered;
            of_tables!(Ordered, ordered, ranked => ranked.keep_first(few), kept ranked, _ => ranked.keep_first(few));
        }
        moves
    }
}

/// Makes the long texts that a group's row shows, so that one that is too long is reported.
fn check_outputs(plan: &Plan, params: &[Scalar<'static>], row: Kept<'_>) {
    for output in plan.outputs.iter().filter(|output| output.expr.may_grow()) {
        output.expr.eval(&row, params);
    }
}

/// How many of the first rows are needed: those up to the end of the excerpt, and a reserve. `None`
/// if all are. Following all rows of many excerpts takes half as long again (`commit/one-field`).
fn few(plan: &Plan, excerpt: Excerpt) -> Option<usize> {
    let end = excerpt.end();
    let more = plan.tuning.rows_beyond_excerpt;
    (end < usize::MAX && plan.keeps_first()).then(|| end.saturating_add(more))
}

fn sorted<E: Slots>(
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
        let prefix = prefix(&view.plan.order, &keys, view.tie(tuple).as_ref());
        entries.push(prefix, E::of(tuple));
    });
    entries.in_order(few, &order)
}

fn sorted_kept(
    plan: &Plan,
    params: &[Scalar<'static>],
    (rows, given): (Vec<Arc<KeptRow>>, &WindowValues),
    few: Option<usize>,
) -> RankTree<Arc<KeptRow>> {
    let mut entries = Unordered::new();
    for row in rows {
        entries.push(kept_prefix(plan, params, given.of(&row)), row);
    }
    entries.in_order(few, &|one, other| order_kept(plan, params, given.of(one), given.of(other)))
}

fn kept_prefix(plan: &Plan, params: &[Scalar<'static>], kept: Kept<'_>) -> Prefix {
    let keys = sort_keys(plan, params, &kept);
    prefix(&plan.order, &keys, kept.row.key().first())
}

/// Where a row that keeps its values stands, and what compares others with it.
fn sought_kept<'k>(
    plan: &'k Plan,
    params: &'k [Scalar<'static>],
    row: &Arc<KeptRow>,
    given: &'k WindowValues,
) -> Sought<impl Fn(&Arc<KeptRow>) -> Ordering + use<'k>> {
    let (row, prefix) = (row.clone(), kept_prefix(plan, params, given.of(row)));
    let against = move |other: &Arc<KeptRow>| match Arc::ptr_eq(other, &row) {
        true => Ordering::Equal,
        false => order_kept(plan, params, given.of(other), given.of(&row)),
    };
    Sought { prefix, against }
}

fn follow_tuples<E: Slots>(
    ranked: &mut RankTree<E>,
    excerpt: Excerpt,
    (before, after): (&View<'_>, &View<'_>),
    params: &[Scalar<'static>],
    rows: &[TupleDelta],
) -> Option<Moves> {
    let mut edits: Edits<E> = SmallVec::with_capacity(rows.len());
    let swapped = swapped(&after.plan.sources, rows);
    let fetch = |row: &TupleDelta| {
        before.fetch(&row.tuple);
        after.fetch(&row.tuple);
    };
    let mut numbers = 0..;
    each_fetched(rows, &fetch, &mut |row| {
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
            edits.push(edit((before, after), params, pair, None).unwrap_or_else(quiet));
        } else {
            edits.extend(edit((before, after), params, (old, new), Some(row)));
        }
    });
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

/// What a changed tuple means for the order of a plain result; nothing, if nothing of it shows.
/// `delta` says what may have changed, of a tuple whose rows are the same.
fn edit<E: Slots>(
    (before, after): (&View<'_>, &View<'_>),
    params: &[Scalar<'static>],
    (old, new): (Option<&[Slot]>, Option<&[Slot]>),
    delta: Option<&TupleDelta>,
) -> Option<Edit<E>> {
    let plan = after.plan;
    let (old_slots, new_slots) = match (old, new) {
        (None, None) => return None,
        (None, Some(new)) => return Some(Edit::Enter(E::of(new))),
        (Some(old), None) => return Some(Edit::Leave(E::of(old))),
        (Some(old), Some(new)) => (old, new),
    };
    let (old, new) = (before.row(old_slots), after.row(new_slots));
    let stays = |expr: &Expr| match expr {
        Expr::Column(column) => delta.is_some_and(|delta| delta.stays(*column)),
        _ => false,
    };
    let differs = |expr: &Expr| !stays(expr) && expr.eval(&old, params) != expr.eval(&new, params);
    let (order, content) = delta.map_or((true, true), |delta| (delta.order, delta.content));
    // Another tuple of the same row must be looked for as the old one stood: what it was made of may
    // have changed as well.
    let reorder =
        old_slots != new_slots || order && plan.order.iter().any(|key| differs(&key.expr));
    let changed = content && plan.outputs.iter().any(|output| differs(&output.expr));
    let (old, new) = (E::of(old_slots), E::of(new_slots));
    match (reorder, changed) {
        (true, _) => Some(Edit::Replace { old, new, reorder, changed }),
        (false, true) => Some(Edit::Change(new)),
        (false, false) => None,
    }
}

/// Where a tuple stands, and what compares others with it.
fn sought<'v, 'a, E: Slots>(
    view: &'v View<'a>,
    params: &'v [Scalar<'static>],
    entry: &E,
) -> Sought<impl Fn(&E) -> Ordering + use<'v, 'a, E>> {
    let slots = Tuple::from_slice(entry.slots());
    let keys = sort_keys(view.plan, params, &view.row(&slots));
    let prefix = prefix(&view.plan.order, &keys, view.tie(&slots).as_ref());
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
