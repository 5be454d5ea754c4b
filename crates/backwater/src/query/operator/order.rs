//! An order that follows edits, and which of its rows have moved.

use std::cmp::Ordering;

use smallvec::{SmallVec, smallvec};

use crate::query::expr::Columns;
use crate::query::expr::scalar::Scalar;
use crate::query::operator::edit::Edit;
use crate::query::plan::explain::Operator;
use crate::query::plan::text::PlanNames;
use crate::query::plan::{Excerpt, OrderKey, Plan, Rows};
use crate::query::state::rank_tree::{Prefix, RankTree, Sought};
use crate::sorting::{self, Numbered};

/// A list that mostly is short.
type Few<T> = SmallVec<[T; 8]>;

/// How a row of a result moved. There may be very many, so it takes little room.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Moved {
    before: u32,
    after: u32,
    /// Whether its columns changed.
    pub(crate) changed: bool,
    /// Whether it changed places with a row that stayed.
    pub(crate) moved: bool,
}

/// How the rows of a result moved; mostly one or two did.
pub(crate) type Moves = SmallVec<[Moved; 2]>;

/// The position of a row that is not in a result.
const NOWHERE: u32 = u32::MAX;

impl Moved {
    /// From a position in the old result to one in the new one.
    pub(crate) fn between(before: Option<usize>, after: Option<usize>) -> Self {
        let place = |position: Option<usize>| position.map_or(NOWHERE, |position| position as u32);
        Self { before: place(before), after: place(after), changed: false, moved: false }
    }

    /// The same row, of which that much is known too.
    pub(crate) fn with(self, changed: bool, moved: bool) -> Self {
        Self { changed, moved, ..self }
    }

    /// A row that stood there, and is not in the result any more.
    pub(crate) fn left(before: usize) -> Self {
        Self::between(Some(before), None)
    }

    /// Its position in the old result, if it was there.
    #[inline]
    pub(crate) fn before(self) -> Option<usize> {
        (self.before != NOWHERE).then_some(self.before as usize)
    }

    /// Its position in the new result, if it is there.
    #[inline]
    pub(crate) fn after(self) -> Option<usize> {
        (self.after != NOWHERE).then_some(self.after as usize)
    }

    /// Whether it stands in both results.
    fn stays(self) -> bool {
        self.before != NOWHERE && self.after != NOWHERE
    }

    /// The order in which moves are reported: first those that left, by their old positions, then
    /// the others by their new ones.
    fn sort_key(&self) -> u64 {
        match self.after {
            NOWHERE => self.before.into(),
            // Those that entered stand in front.
            after => (u64::from(after) + 1) << 32 | u64::from(self.before.wrapping_add(1)),
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

/// Applies edits to an order and returns how the rows in the excerpt moved.
///
/// What leaves or moves is taken out under the old order and put in under the new one, so that no
/// comparison ever meets an entry under the wrong one. `old_order` and `new_order` make of an
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
    let leaves = |edit: &Edit<E>, ranked: &RankTree<E>| match edit {
        Edit::Leave(old) | Edit::Replace { old, reorder: true, .. } => {
            Some(old_order(old)).filter(|place| !ranked.is_behind(place))
        }
        _ => None,
    };
    let enters = |edit: &Edit<E>, ranked: &RankTree<E>| match edit {
        Edit::Enter(new) | Edit::Replace { new, reorder: true, .. } => {
            Some((new.clone(), new_order(new))).filter(|(_, place)| !ranked.is_behind(place))
        }
        _ => None,
    };
    // Each is looked for in the whole of the old order and of the new one, unless it stands so far
    // behind the excerpt that it is nothing to it.
    let far = |ranked: &RankTree<E>| {
        ranked.prefix(excerpt.end().saturating_add(edits.len())).unwrap_or(Prefix::MAX)
    };
    // What is the same for all kinds of entries stands apart, and lists are filled one by one, as
    // there is one of this function for each kind.
    let mut places: Few<_> = Few::with_capacity(edits.len());
    edits.iter().for_each(|edit| places.push(leaves(edit, ranked)));
    let last = far(ranked);
    let mut befores: Few<Option<usize>> = Few::with_capacity(edits.len());
    for place in &places {
        let near = place.as_ref().filter(|place| place.prefix <= last);
        befores.push(near.and_then(|place| ranked.rank(place)));
    }
    for place in places.iter().flatten() {
        let removed = ranked.remove(place);
        debug_assert!(removed.is_some(), "what leaves a result was in it");
    }
    let mut places: Few<_> = Few::with_capacity(edits.len());
    edits.iter().for_each(|edit| places.push(enters(edit, ranked)));
    for (new, place) in places.iter().flatten() {
        ranked.insert(new.clone(), place);
    }
    let last = far(ranked);
    let mut afters: Few<Option<usize>> = Few::with_capacity(edits.len());
    for place in &places {
        let near = place.as_ref().filter(|(_, place)| place.prefix <= last);
        afters.push(near.and_then(|(_, place)| ranked.rank(place)));
    }
    // The old ranks of what was taken out, and the new ones of what was put in, both in order.
    let (out, into) = (sorted(&befores), sorted(&afters));
    for (number, edit) in edits.iter().enumerate() {
        let place = match edit {
            Edit::Replace { new, reorder: false, .. } | Edit::Change(new) => new_order(new),
            _ => continue,
        };
        if ranked.is_behind(&place) {
            continue;
        }
        let rank = match edit {
            Edit::Replace { new, .. } => ranked.replace(new.clone(), &place),
            _ => ranked.rank(&place),
        };
        debug_assert!(rank.is_some(), "what stays in a result is in it");
        afters[number] = rank;
        befores[number] = rank.map(|rank| moved_rank(rank, &into, &out));
    }
    if !ranked.reaches(excerpt.end()) {
        return None;
    }
    let mut candidates = Moves::with_capacity(edits.len());
    for ((edit, before), after) in edits.iter().zip(befores).zip(afters) {
        let (changed, reorder) = match edit {
            Edit::Replace { changed, reorder, .. } => (*changed, *reorder),
            Edit::Change(_) => (true, false),
            Edit::Enter(_) | Edit::Leave(_) => (false, false),
        };
        candidates.push(Moved::between(before, after).with(changed, reorder));
    }
    Some(shown(candidates, len, excerpt, (&out, &into)))
}

/// Those ranks that there are, in order.
fn sorted(ranks: &[Option<usize>]) -> Few<usize> {
    let mut ranks: Few<usize> = ranks.iter().flatten().copied().collect();
    ranks.sort_unstable();
    ranks
}

/// How rows moved in the excerpt that may have moved in the whole, which had that many.
fn shown(
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

/// Of rows that may have been affected, finds those that have moved, drops those that have not, and
/// puts the rest in the order in which they are reported.
pub(crate) fn settle(rows: &mut Moves) {
    mark_moved(rows);
    rows.retain(|row| row.changed || row.moved || !row.stays());
    in_order_of_report(rows);
}

/// Puts moves into the order in which they are reported.
pub(crate) fn in_order_of_report(rows: &mut Moves) {
    if rows.is_sorted_by_key(Moved::sort_key) {
        return;
    }
    let mut numbered: Vec<Numbered> = rows.iter().map(Moved::sort_key).zip(0..).collect();
    sorting::numbers(&mut numbered, &|_, _| Ordering::Equal);
    *rows = numbered.iter().map(|(_, number)| rows[*number as usize]).collect();
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
fn moved_rank(rank: usize, gone: &[usize], others: &[usize]) -> usize {
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
    let shifts = out.len().max(into.len());
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

/// Finds which rows have moved: of the rows in both results that may have (`moved` is set), the
/// fewest such that the rest stands in the same order in both. A row that others pushed along has
/// not moved.
fn mark_moved(rows: &mut [Moved]) {
    if !rows.iter().any(|row| row.moved && row.stays()) {
        rows.iter_mut().for_each(|row| row.moved = false);
        return;
    }
    // A row that could not move stands in the same order in both results as all the others to which
    // nothing happened. Between which of these another row stands is its position less the rows in
    // front of it that entered, left or may have moved.
    let loose = |row: &&Moved| row.moved || !row.stays();
    let mut olds: Few<usize> = rows.iter().filter(loose).filter_map(|row| row.before()).collect();
    let mut news: Few<usize> = rows.iter().filter(loose).filter_map(|row| row.after()).collect();
    olds.sort_unstable();
    news.sort_unstable();
    let gap =
        |position: usize, all: &[usize]| position - all.partition_point(|other| *other < position);
    let mut stayers: Few<usize> = Few::new();
    for (number, row) in rows.iter_mut().enumerate() {
        if let (true, Some(before), Some(after)) = (row.moved, row.before(), row.after())
            && gap(before, &olds) == gap(after, &news)
        {
            stayers.push(number);
        }
        row.moved &= row.stays();
    }
    let mut numbered: Few<Numbered> =
        stayers.iter().map(|number| (rows[*number].after.into(), *number as u32)).collect();
    sorting::numbers(&mut numbered, &|_, _| Ordering::Equal);
    let stayers = numbered.iter().map(|(_, number)| *number as usize);
    // Among those between the same two, all but a longest run in the old order have moved.
    let mut tails: Few<usize> = Few::new();
    let mut links: Few<Option<usize>> = smallvec![None; rows.len()];
    for number in stayers {
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
