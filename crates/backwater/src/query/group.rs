//! Grouping: rows flow in as deltas, rows of keys and aggregates flow out as deltas.

use std::cmp::Ordering;
use std::collections::HashMap;
use std::sync::Arc;

use smallvec::SmallVec;

use super::aggregate::{Aggregate, Kept};
use super::edit::{Edit, Failure};
use super::order::order_by;
use super::plan::{Grouping, Plan};
use super::relation::{TupleRow, View};
use super::scalar::{Key, Scalar};
use super::walk::TupleDelta;

/// A row that keeps its values: of a grouping its keys, then its aggregates; else what tells it
/// from the others, and what it shows.
#[derive(Debug)]
pub(crate) struct GroupRow {
    pub(crate) values: Box<[Scalar<'static>]>,
    /// How many of the values are keys.
    pub(crate) keys: usize,
}

impl GroupRow {
    /// What tells the row from the others.
    pub(crate) fn key(&self) -> &[Scalar<'static>] {
        &self.values[..self.keys]
    }

    /// The same, to find it by.
    pub(crate) fn place(&self) -> Box<[Key]> {
        self.key().iter().cloned().map(Key::from).collect()
    }
}

/// All groups of one binding.
#[derive(Debug)]
pub(crate) struct Groups(HashMap<Box<[Key]>, Group>);

#[derive(Debug)]
struct Group {
    keys: Box<[Scalar<'static>]>,
    rows: u64,
    kept: Vec<Kept>,
    /// The row that the group shows, if HAVING lets it.
    shown: Option<Arc<GroupRow>>,
}

impl Groups {
    pub(crate) fn new(grouping: &Grouping) -> Self {
        let mut groups = HashMap::new();
        if grouping.keys.is_empty() {
            // Without GROUP BY there is one group, also when no row is in it.
            groups.insert(Box::default(), Group::new(Box::default(), grouping));
        }
        Self(groups)
    }

    /// Takes a row in or lets it go; gives the key of its group.
    pub(crate) fn update(
        &mut self,
        grouping: &Grouping,
        params: &[Scalar<'static>],
        row: &TupleRow<'_, '_>,
        times: i64,
    ) -> Box<[Key]> {
        let keys: SmallVec<[Scalar<'_>; 4]> =
            grouping.keys.iter().map(|key| key.eval(row, params)).collect();
        let key: Box<[Key]> = keys.iter().cloned().map(Key::from).collect();
        let group = self.0.entry(key.clone()).or_insert_with(|| {
            Group::new(keys.into_iter().map(Scalar::into_owned).collect(), grouping)
        });
        group.rows = group.rows.wrapping_add_signed(times);
        for (aggregate, kept) in grouping.aggregates.iter().zip(&mut group.kept) {
            aggregate.update(kept, row, params, || row.view.key(row.slots).into(), times);
        }
        key
    }

    /// The rows that all groups show, once rows were taken in.
    pub(crate) fn shown(
        &mut self,
        grouping: &Grouping,
        params: &[Scalar<'static>],
    ) -> Result<Vec<Arc<GroupRow>>, Failure> {
        let shown = self.0.values_mut().map(|group| {
            group.shown = group.row(grouping, params)?;
            Ok(group.shown.clone())
        });
        shown.filter_map(Result::transpose).collect()
    }

    /// Follows rows that came, changed or went.
    pub(crate) fn apply(
        &mut self,
        plan: &Plan,
        grouping: &Grouping,
        params: &[Scalar<'static>],
        (before, after): (&View<'_>, &View<'_>),
        rows: &[TupleDelta],
    ) -> Result<Vec<Edit<Arc<GroupRow>>>, Failure> {
        let mut touched = Vec::new();
        let moved = |row: &&TupleDelta| row.content || row.before != row.after;
        // All that goes, goes first: of a list, what comes may take its place.
        for row in rows.iter().filter(moved).filter(|row| row.before) {
            touched.push(self.update(grouping, params, &before.row(&row.tuple), -1));
        }
        for row in rows.iter().filter(moved).filter(|row| row.after) {
            touched.push(self.update(grouping, params, &after.row(&row.tuple), 1));
        }
        touched.sort_unstable();
        touched.dedup();
        let mut edits = Vec::new();
        for key in touched {
            let Some(group) = self.0.get_mut(&key) else {
                continue;
            };
            let new = group.row(grouping, params)?;
            let old = std::mem::replace(&mut group.shown, new.clone());
            if group.rows == 0 && !grouping.keys.is_empty() {
                self.0.remove(&key);
            }
            edits.extend(match (old, new) {
                (None, None) => None,
                (Some(old), Some(new)) if old.values == new.values => None,
                (None, Some(new)) => Some(Edit::Enter(new)),
                (Some(old), None) => Some(Edit::Leave(old)),
                (Some(old), Some(new)) => Some(replace(plan, params, old, new)),
            });
        }
        Ok(edits)
    }
}

impl Group {
    fn new(keys: Box<[Scalar<'static>]>, grouping: &Grouping) -> Self {
        let kept = grouping.aggregates.iter().map(Aggregate::empty).collect();
        Self { keys, rows: 0, kept, shown: None }
    }

    /// The row to show now: none for a group without rows, or when HAVING says no.
    fn row(
        &self,
        grouping: &Grouping,
        params: &[Scalar<'static>],
    ) -> Result<Option<Arc<GroupRow>>, Failure> {
        if self.rows == 0 && !grouping.keys.is_empty() {
            return Ok(None);
        }
        let mut values = self.keys.to_vec();
        for (aggregate, kept) in grouping.aggregates.iter().zip(&self.kept) {
            values.push(aggregate.value(kept).map_err(|_| self.overflow())?);
        }
        let row = GroupRow { values: values.into(), keys: self.keys.len() };
        let shown = match &grouping.having {
            None => true,
            Some(having) => having.eval(&&*row.values, params).as_truth() == Some(true),
        };
        Ok(shown.then(|| Arc::new(row)))
    }

    fn overflow(&self) -> Failure {
        let keys: Vec<String> = self
            .keys
            .iter()
            .map(|key| key.to_text().unwrap_or("NULL".into()).into_owned())
            .collect();
        let group =
            if keys.is_empty() { String::new() } else { format!(" of group {}", keys.join(", ")) };
        Failure(format!("sum(){group} is beyond 64 bits; total() sums without that limit").into())
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
