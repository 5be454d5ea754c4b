//! Grouping: rows flow in as deltas, rows of keys and aggregates flow out as deltas.

use std::hash::{BuildHasher, Hasher, RandomState};
use std::sync::Arc;

use hashbrown::HashTable;
use smallvec::SmallVec;

use crate::query::expr::scalar::Scalar;
use crate::query::expr::{ColumnNo, Columns, Expr};
use crate::query::operator::aggregate::AggregateState;
use crate::query::operator::join::TupleDelta;
use crate::query::operator::rows::{
    KeptRow, KeptState, MadeRows, RowEdits, RowOperator, RowsState, edit,
};
use crate::query::operator::scan::{self, Remembered};
use crate::query::operator::view::View;
use crate::query::plan::explain::Operator;
use crate::query::plan::text::PlanNames;
use crate::query::plan::{Aggregate, AggregateFunction, Combine, Grouping};
use crate::query::work::{self, Failure};
use crate::schema::TableNo;
use crate::table::{Slot, each_prefetched};

/// What a group takes, more or less, besides its keys.
const GROUP_BYTES: usize = 200;

/// All groups of one binding.
#[derive(Clone)]
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

#[derive(Clone)]
struct Group {
    keys: Box<[Scalar<'static>]>,
    hash: u64,
    rows: u64,
    kept: Vec<AggregateState>,
    /// The row that the group shows, if HAVING lets it.
    shown: Option<Arc<KeptRow>>,
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

    /// Bytes that they take, more or less.
    pub(crate) fn bytes(&self) -> usize {
        self.numbers.len() * GROUP_BYTES
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

    /// Adds a row to a group or removes it. `key` is the row's key.
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
    ) -> Vec<Arc<KeptRow>> {
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
}

/// Finds the groups of tuples of one version.
struct Finder<'f> {
    grouping: &'f Grouping,
    view: &'f View<'f>,
    params: &'f [Scalar<'static>],
    /// Where many are looked for by one field, those that were found.
    known: Option<(ColumnNo, TableNo, Remembered)>,
}

impl<'f> Finder<'f> {
    fn new(
        grouping: &'f Grouping,
        (view, params): (&'f View<'f>, &'f [Scalar<'static>]),
        tuples: usize,
    ) -> Self {
        let known = match grouping.keys.as_slice() {
            [Expr::Column(column)]
                if tuples >= view.plan.tuning.prepared_rows
                    && view.plan.combine == Combine::Join =>
            {
                let table = view.plan.sources[column.source()].relation.table();
                table.map(|table| (*column, table, Remembered::new()))
            }
            _ => None,
        };
        Self { grouping, view, params, known }
    }

    fn number(&mut self, groups: &mut Groups, tuple: &[Slot]) -> u32 {
        let Self { grouping, view, params, known } = self;
        let mut find = || groups.number_of(grouping, params, &view.row(tuple));
        if let Some((column, table, known)) = known
            && let Some(cells) = view.state.table(*table).cells(tuple[column.source()])
            && let Some(bits) = cells.bits(column.field())
        {
            return known.group(bits, find);
        }
        find()
    }
}

impl RowOperator for Grouping {
    fn compute(&self, view: &View<'_>, params: &[Scalar<'static>], empty: bool) -> MadeRows {
        let mut groups = Groups::new(self);
        if !empty {
            scan::group(&mut groups, self, view, params);
        }
        let rows = groups.shown(self, params);
        MadeRows { rows, state: KeptState::Groups(groups).into() }
    }

    fn apply(
        &self,
        state: &mut RowsState,
        (before, after): (&View<'_>, &View<'_>),
        params: &[Scalar<'static>],
        tuples: &[TupleDelta],
    ) -> Option<RowEdits> {
        let Some(KeptState::Groups(groups)) = state.0.as_deref_mut() else { return None };
        let mut touched: SmallVec<[u32; 4]> = SmallVec::new();
        let moved = |tuple: &TupleDelta| tuple.content || tuple.before != tuple.after;
        let is_join = after.plan.combine == Combine::Join;
        let stays = |tuple: &TupleDelta, key: &Expr| match key {
            Expr::Column(column) => is_join && !tuple.is_another && tuple.stays(*column),
            _ => false,
        };
        let mut finders =
            [before, after].map(|view| Finder::new(self, (view, params), tuples.len()));
        let mut reads = false;
        self.each_expr(&mut |_| reads = true);
        // Where rows are kept, all that leaves, leaves first: what enters may take its place.
        let keeps_rows = self.aggregates.iter().any(Aggregate::keeps_rows);
        let rounds: &[(bool, bool)] =
            if keeps_rows { &[(true, false), (false, true)] } else { &[(true, true)] };
        for (leave, enter) in rounds {
            let leaves = |tuple: &TupleDelta| *leave && tuple.before && moved(tuple);
            let enters = |tuple: &TupleDelta| *enter && tuple.after && moved(tuple);
            let mut left = 0;
            let mut take = |tuple: &TupleDelta| {
                let mut was = None;
                if leaves(tuple) {
                    let (number, row) =
                        (finders[0].number(groups, &tuple.tuple), before.row(&tuple.tuple));
                    groups.update_group(
                        number,
                        self,
                        params,
                        &row,
                        || before.key(&tuple.tuple),
                        -1,
                    );
                    touched.push(number);
                    was = Some(number);
                } else if tuple.before && moved(tuple) {
                    // Those that were there have left groups in the same order.
                    was = Some(touched[left]);
                    left += 1;
                }
                if enters(tuple) {
                    let row = after.row(&tuple.tuple);
                    let same = was.filter(|_| self.keys.iter().all(|key| stays(tuple, key)));
                    let number = same.unwrap_or_else(|| finders[1].number(groups, &tuple.tuple));
                    groups.update_group(number, self, params, &row, || after.key(&tuple.tuple), 1);
                    if same.is_none() {
                        touched.push(number);
                    }
                }
            };
            each_prefetched(
                tuples,
                &|prefetch, tuple| {
                    if reads && leaves(tuple) {
                        before.prefetch(&tuple.tuple, prefetch);
                    }
                    if reads && enters(tuple) {
                        after.prefetch(&tuple.tuple, prefetch);
                    }
                },
                &mut take,
            );
        }
        touched.sort_unstable();
        touched.dedup();
        let mut edits = RowEdits::new();
        for number in touched {
            let Some(group) = &mut groups.groups[number as usize] else {
                continue;
            };
            let pair = group.show(self, params, &mut groups.failed);
            if group.rows == 0 && !self.keys.is_empty() {
                groups.remove(number);
            }
            edits.extend(edit(after.plan, params, pair));
        }
        Some(edits)
    }

    fn each_expr<'e>(&'e self, each: &mut dyn FnMut(&'e Expr)) {
        self.keys.iter().for_each(&mut *each);
        self.aggregates.iter().for_each(|aggregate| aggregate.each_expr(each));
    }

    fn condition(&self) -> Option<&Expr> {
        self.having.as_ref()
    }

    fn key_len(&self, _of_tuple: usize) -> usize {
        self.keys.len()
    }

    fn is_by_tuple(&self) -> bool {
        false
    }

    /// No sum is part of it.
    fn is_sure(&self, value: usize) -> bool {
        let aggregate = value.checked_sub(self.keys.len());
        let aggregate = aggregate.and_then(|number| self.aggregates.get(number));
        aggregate.is_none_or(|aggregate| aggregate.function != AggregateFunction::Sum)
    }

    /// A group's key, or the first value of a group of what is its key.
    #[cfg(feature = "remote")]
    fn column_of(&self, value: usize) -> Option<ColumnNo> {
        match value.checked_sub(self.keys.len()) {
            None => self.keys.get(value)?.plain_column(),
            Some(number) => {
                let aggregate = self.aggregates.get(number)?;
                let first = aggregate.argument.as_ref();
                let first = first.filter(|_| aggregate.function == AggregateFunction::First);
                first.filter(|first| self.keys.contains(first))?.plain_column()
            }
        }
    }

    fn value_name(&self, names: &PlanNames<'_>, value: usize, keys: usize) -> String {
        match self.keys.get(value) {
            Some(key) => names.text_of(key),
            None => names.aggregate(&self.aggregates[value - keys], &|of| names.text_of(of)),
        }
    }

    fn keeps(&self) -> &'static str {
        "a row of each group"
    }

    fn ties(&self) -> Option<&'static str> {
        Some("the groups' keys")
    }

    fn describe(&self, names: &PlanNames<'_>) -> Option<Operator> {
        let keys: Vec<String> = self.keys.iter().map(|key| names.text_of(key)).collect();
        let what = match (keys.is_empty(), self.aggregates.is_empty()) {
            (true, _) => "all rows into one".to_owned(),
            (false, true) => format!("equal {} once (DISTINCT)", keys.join(", ")),
            (false, false) => format!("by {}", keys.join(", ")),
        };
        let aggregates: Vec<String> = self
            .aggregates
            .iter()
            .map(|aggregate| names.aggregate(aggregate, &|of| names.text_of(of)))
            .collect();
        let mut kept: Vec<&str> = vec!["its number of rows"];
        for aggregate in &self.aggregates {
            use AggregateFunction as F;
            kept.push(match aggregate.function {
                _ if aggregate.distinct => "how often each value is there",
                F::CountRows | F::Count => "counts",
                F::Sum | F::Total | F::Average => "exact sums",
                F::Min | F::Max => "values in order, for min and max",
                F::Concat | F::JsonArray | F::JsonObject | F::First => {
                    "the items of its lists in order"
                }
            });
        }
        kept.dedup();
        Some(
            Operator::new("group", what)
                .fact("computes", aggregates.join(", "))
                .fact(
                    "where",
                    self.having
                        .as_ref()
                        .map(|having| names.text_of_filter(having))
                        .unwrap_or_default(),
                )
                .fact("keeps", format!("for each group {}", kept.join(", ")))
                .fact(
                    "follows",
                    "takes a changed row out of its old group and puts it into its new one",
                ),
        )
    }
}

impl Group {
    fn new(keys: Box<[Scalar<'static>]>, hash: u64, grouping: &Grouping) -> Self {
        let kept: Vec<_> = grouping.aggregates.iter().map(Aggregate::empty).collect();
        let mut pairs = grouping.aggregates.iter().zip(&kept);
        debug_assert!(pairs.all(|(aggregate, kept)| aggregate.keeps_rows() == kept.has_rows()));
        Self { keys, hash, rows: 0, kept, shown: None }
    }

    /// Replaces the row that is shown. Counts those that cannot be computed.
    fn show(
        &mut self,
        grouping: &Grouping,
        params: &[Scalar<'static>],
        failed: &mut usize,
    ) -> (Option<Arc<KeptRow>>, Option<Arc<KeptRow>>) {
        let new = self.row(grouping, params);
        let old = std::mem::replace(&mut self.shown, new.clone());
        let count = |row: &Option<Arc<KeptRow>>| {
            usize::from(row.as_ref().is_some_and(|row| row.failed.is_some()))
        };
        *failed = *failed + count(&new) - count(&old);
        (old, new)
    }

    /// The row to show now: none for a group without rows, or when HAVING says no.
    fn row(&self, grouping: &Grouping, params: &[Scalar<'static>]) -> Option<Arc<KeptRow>> {
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
        let row = KeptRow { failed, ..KeptRow::new(values, self.keys.len()) };
        let shown = match &grouping.having {
            Some(having) if row.failed.is_none() => having.holds(&&*row.values, params),
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
