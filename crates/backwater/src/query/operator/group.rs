//! Grouping: rows flow in as deltas, rows of keys and aggregates flow out as deltas.

use std::cmp::Ordering;
use std::hash::{BuildHasher, Hasher, RandomState};
use std::sync::Arc;

use hashbrown::HashTable;
use smallvec::SmallVec;

use crate::query::expr::Columns;
use crate::query::expr::scalar::{Key, Scalar};
use crate::query::operator::aggregate::AggregateState;
use crate::query::operator::join::TupleDelta;
use crate::query::operator::order::order_by;
use crate::query::operator::view::View;
use crate::query::plan::{Aggregate, Grouping, Plan};
use crate::query::result::edit::{Edit, Edits, Failure};
use crate::query::work;

/// What a group takes, more or less, besides its keys.
pub(crate) const GROUP_BYTES: usize = 200;

/// A row that stores its values: of a grouping its keys, then its aggregates; else its key, then
/// what it shows.
#[derive(Debug)]
pub(crate) struct GroupRow {
    pub(crate) values: SmallVec<[Scalar<'static>; 2]>,
    /// How many of the values are keys.
    pub(crate) keys: usize,
    /// Why the aggregates cannot be computed, if so; then HAVING is unknown, too.
    pub(crate) failed: Option<Failure>,
}

impl GroupRow {
    /// The row's key.
    pub(crate) fn key(&self) -> &[Scalar<'static>] {
        &self.values[..self.keys]
    }

    /// Bytes that it takes, more or less.
    pub(crate) fn bytes(&self) -> usize {
        let values = self.values.iter().map(|of| size_of::<Scalar<'_>>() + of.text_len());
        size_of::<Self>() + values.sum::<usize>()
    }

    /// Whether both say the same.
    pub(crate) fn shows_same(&self, other: &Self) -> bool {
        self.values == other.values && self.failed == other.failed
    }

    /// The same, to find it by.
    pub(crate) fn place(&self) -> Box<[Key]> {
        self.key().iter().cloned().map(Key::from).collect()
    }
}

/// All groups of one binding.
#[derive(Debug, Clone)]
pub(crate) struct Groups {
    groups: Vec<Option<Group>>,
    free: Vec<u32>,
    /// The groups' numbers, by their keys.
    numbers: HashTable<u32>,
    /// Seeded, since keys come from outside.
    hasher: RandomState,
    /// How many groups show a row that cannot be computed.
    failed: usize,
}

#[derive(Debug, Clone)]
struct Group {
    keys: Box<[Scalar<'static>]>,
    hash: u64,
    rows: u64,
    kept: Vec<AggregateState>,
    /// The row that the group shows, if HAVING lets it.
    shown: Option<Arc<GroupRow>>,
}

impl Groups {
    pub(crate) fn new(grouping: &Grouping) -> Self {
        let mut groups = Self {
            groups: Vec::new(),
            free: Vec::new(),
            numbers: HashTable::new(),
            hasher: RandomState::new(),
            failed: 0,
        };
        if grouping.keys.is_empty() {
            // Without GROUP BY there is one group, also when no row is in it.
            groups.number(SmallVec::new(), grouping);
        }
        groups
    }

    /// How many groups there are.
    pub(crate) fn len(&self) -> usize {
        self.numbers.len()
    }

    /// The number of the group with these keys; a new one, if none has them.
    fn number(&mut self, keys: SmallVec<[Scalar<'_>; 4]>, grouping: &Grouping) -> u32 {
        if grouping.keys.is_empty() && !self.groups.is_empty() {
            // The one that is always there.
            return 0;
        }
        let mut hasher = self.hasher.build_hasher();
        keys.iter().for_each(|key| key.hash_key(&mut hasher));
        let hash = hasher.finish();
        let groups = &mut self.groups;
        let is_it = |number: &u32| {
            let group = groups[*number as usize].as_ref();
            group.is_some_and(|group| group.keys.iter().zip(&keys).all(|(a, b)| a.order(b).is_eq()))
        };
        if let Some(number) = self.numbers.find(hash, is_it) {
            return *number;
        }
        let number = self.free.pop().unwrap_or_else(|| {
            groups.push(None);
            groups.len() as u32 - 1
        });
        let bytes = |key: &Scalar<'_>| size_of::<Scalar<'_>>() + key.text_len();
        work::take_row(keys.iter().map(bytes).sum::<usize>() + GROUP_BYTES);
        let keys = keys.into_iter().map(Scalar::into_owned).collect();
        groups[number as usize] = Some(Group::new(keys, hash, grouping));
        let rehash = |number: &u32| groups[*number as usize].as_ref().map_or(0, |group| group.hash);
        self.numbers.insert_unique(hash, number, rehash);
        number
    }

    fn remove(&mut self, number: u32) {
        let Some(group) = self.groups[number as usize].take() else { return };
        if let Ok(place) = self.numbers.find_entry(group.hash, |other| *other == number) {
            place.remove();
        }
        self.free.push(number);
    }

    /// Adds a row or removes it; returns the number of its group. `key` is the row's key.
    pub(crate) fn update<'a>(
        &mut self,
        grouping: &'a Grouping,
        params: &'a [Scalar<'static>],
        row: &impl Columns<'a>,
        key: impl Fn() -> Vec<Scalar<'static>>,
        times: i64,
    ) -> u32 {
        let number = self.number_of(grouping, params, row);
        self.update_group(number, grouping, params, row, key, times);
        number
    }

    /// The number of a row's group.
    pub(crate) fn number_of<'a>(
        &mut self,
        grouping: &'a Grouping,
        params: &'a [Scalar<'static>],
        row: &impl Columns<'a>,
    ) -> u32 {
        let keys = grouping.keys.iter().map(|key| key.eval(row, params)).collect();
        self.number(keys, grouping)
    }

    /// Counts more rows of a group.
    #[inline]
    pub(crate) fn count_rows(&mut self, number: u32, times: u32) {
        if let Some(group) = &mut self.groups[number as usize] {
            group.rows += u64::from(times);
        }
    }

    /// What a group keeps for one of the aggregates.
    #[inline]
    pub(crate) fn kept(&mut self, number: u32, aggregate: usize) -> Option<&mut AggregateState> {
        self.groups[number as usize].as_mut()?.kept.get_mut(aggregate)
    }

    /// What a group counts and keeps.
    pub(crate) fn contents(&mut self, number: u32) -> Option<(&mut u64, &mut [AggregateState])> {
        let group = self.groups[number as usize].as_mut()?;
        Some((&mut group.rows, &mut group.kept))
    }

    /// Adds a row to a group or removes it.
    pub(crate) fn update_group<'a>(
        &mut self,
        number: u32,
        grouping: &'a Grouping,
        params: &'a [Scalar<'static>],
        row: &impl Columns<'a>,
        key: impl Fn() -> Vec<Scalar<'static>>,
        times: i64,
    ) {
        if let Some(group) = &mut self.groups[number as usize] {
            group.rows = group.rows.wrapping_add_signed(times);
            for (aggregate, kept) in grouping.aggregates.iter().zip(&mut group.kept) {
                aggregate.update(kept, row, params, || key().into(), times);
            }
        }
    }

    /// The rows that all groups show, once rows were added.
    pub(crate) fn shown(
        &mut self,
        grouping: &Grouping,
        params: &[Scalar<'static>],
    ) -> Vec<Arc<GroupRow>> {
        let failed = &mut self.failed;
        let shown = self.groups.iter_mut().flatten().map(|group| {
            let (_, new) = group.show(grouping, params, failed);
            new
        });
        shown.flatten().collect()
    }

    /// Why the row of a group cannot be computed, if so.
    pub(crate) fn failure(&self) -> Option<Failure> {
        let mut shown = self.groups.iter().flatten().filter_map(|group| group.shown.as_ref());
        let failed = self.failed > 0;
        failed.then(|| shown.find_map(|row| row.failed.clone())).flatten()
    }

    /// Follows rows that entered, changed or left.
    pub(crate) fn apply(
        &mut self,
        plan: &Plan,
        grouping: &Grouping,
        params: &[Scalar<'static>],
        (before, after): (&View<'_>, &View<'_>),
        rows: &[TupleDelta],
    ) -> Edits<Arc<GroupRow>> {
        let mut touched: SmallVec<[u32; 4]> = SmallVec::new();
        let moved = |row: &&TupleDelta| row.content || row.before != row.after;
        // All that leaves, leaves first: of a list, what enters may take its place.
        let gone = rows.iter().filter(moved).filter(|row| row.before).map(|row| (before, row, -1));
        let come = rows.iter().filter(moved).filter(|row| row.after).map(|row| (after, row, 1));
        for (view, row, times) in gone.chain(come) {
            let key = || view.key(&row.tuple);
            touched.push(self.update(grouping, params, &view.row(&row.tuple), key, times));
        }
        touched.sort_unstable();
        touched.dedup();
        let mut edits = Edits::new();
        for number in touched {
            let Some(group) = &mut self.groups[number as usize] else {
                continue;
            };
            let (old, new) = group.show(grouping, params, &mut self.failed);
            if group.rows == 0 && !grouping.keys.is_empty() {
                self.remove(number);
            }
            edits.extend(match (old, new) {
                (None, None) => None,
                (Some(old), Some(new)) if old.shows_same(&new) => None,
                (None, Some(new)) => Some(Edit::Enter(new)),
                (Some(old), None) => Some(Edit::Leave(old)),
                (Some(old), Some(new)) => Some(replace(plan, params, old, new)),
            });
        }
        edits
    }
}

impl Group {
    fn new(keys: Box<[Scalar<'static>]>, hash: u64, grouping: &Grouping) -> Self {
        let kept = grouping.aggregates.iter().map(Aggregate::empty).collect();
        Self { keys, hash, rows: 0, kept, shown: None }
    }

    /// Replaces the row that is shown. Counts those that cannot be computed.
    fn show(
        &mut self,
        grouping: &Grouping,
        params: &[Scalar<'static>],
        failed: &mut usize,
    ) -> (Option<Arc<GroupRow>>, Option<Arc<GroupRow>>) {
        let new = self.row(grouping, params);
        let old = std::mem::replace(&mut self.shown, new.clone());
        let count = |row: &Option<Arc<GroupRow>>| {
            usize::from(row.as_ref().is_some_and(|row| row.failed.is_some()))
        };
        *failed = *failed + count(&new) - count(&old);
        (old, new)
    }

    /// The row to show now: none for a group without rows, or when HAVING says no.
    fn row(&self, grouping: &Grouping, params: &[Scalar<'static>]) -> Option<Arc<GroupRow>> {
        if self.rows == 0 && !grouping.keys.is_empty() {
            return None;
        }
        let mut failed = None;
        let mut values = SmallVec::with_capacity(self.keys.len() + self.kept.len());
        values.extend(self.keys.iter().cloned());
        for (aggregate, kept) in grouping.aggregates.iter().zip(&self.kept) {
            values.push(aggregate.value(kept).unwrap_or_else(|_| {
                failed = Some(self.overflow());
                Scalar::Null
            }));
        }
        let row = GroupRow { values, keys: self.keys.len(), failed };
        let shown = match &grouping.having {
            Some(having) if row.failed.is_none() => {
                having.eval(&&*row.values, params).as_truth() == Some(true)
            }
            _ => true,
        };
        shown.then(|| Arc::new(row))
    }

    fn overflow(&self) -> Failure {
        let keys: Vec<String> = self
            .keys
            .iter()
            .map(|key| key.to_text().unwrap_or("NULL".into()).into_owned())
            .collect();
        let group =
            if keys.is_empty() { String::new() } else { format!(" of group {}", keys.join(", ")) };
        Failure::of(format!("sum(){group} is beyond 64 bits; total() sums without that limit"))
    }
}

/// What a kept row's new values mean for the order.
pub(crate) fn replace(
    plan: &Plan,
    params: &[Scalar<'static>],
    old: Arc<GroupRow>,
    new: Arc<GroupRow>,
) -> Edit<Arc<GroupRow>> {
    let changed = plan.outputs.iter().any(|output| {
        output.expr.eval(&&*old.values, params) != output.expr.eval(&&*new.values, params)
    });
    let reorder = order_groups(plan, params, &old, &new).is_ne();
    Edit::Replace { old, new, reorder, changed }
}

/// The order of two groups: by ORDER BY, and by their keys where that leaves it open.
pub(crate) fn order_groups(
    plan: &Plan,
    params: &[Scalar<'static>],
    a: &GroupRow,
    b: &GroupRow,
) -> Ordering {
    order_by(plan, params, &&*a.values, &&*b.values).then_with(|| {
        let keys = a.values.iter().zip(b.values.iter()).take(a.keys);
        keys.map(|(a, b)| a.order(b)).find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
    })
}
