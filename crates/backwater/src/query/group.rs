//! Grouping: rows flow in as deltas, rows of keys and aggregates flow out as deltas.

use std::cmp::Ordering;
use std::collections::HashMap;
use std::sync::Arc;

use super::aggregate::Kept;
use super::edit::{Edit, Failure, RowDelta, TableRow};
use super::order::order_by;
use super::plan::{Grouping, Plan};
use super::scalar::{Key, Scalar};
use crate::change::Changes;
use crate::table::{Slot, State};

/// One row of a grouping: its keys, then its aggregates.
#[derive(Debug)]
pub(crate) struct GroupRow {
    pub(crate) values: Box<[Scalar<'static>]>,
    /// How many of the values are keys.
    pub(crate) keys: usize,
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

    /// Takes rows in and tells the rows that the groups show.
    pub(crate) fn fill(
        &mut self,
        plan: &Plan,
        grouping: &Grouping,
        params: &[Scalar<'static>],
        state: &State,
        slots: impl Iterator<Item = Slot>,
    ) -> Result<Vec<Arc<GroupRow>>, Failure> {
        for slot in slots {
            self.update(plan, grouping, params, state, slot, 1);
        }
        let groups = self.0.values_mut();
        let shown = groups.map(|group| {
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
        changes: &Changes,
        rows: &[RowDelta],
    ) -> Result<Vec<Edit<Arc<GroupRow>>>, Failure> {
        let mut touched = Vec::new();
        for row in rows {
            if row.before && row.after && !row.changed_any(changes, &plan.content) {
                continue;
            }
            if row.before {
                touched.push(self.update(plan, grouping, params, &changes.before, row.slot, -1));
            }
            if row.after {
                touched.push(self.update(plan, grouping, params, &changes.after, row.slot, 1));
            }
        }
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

    /// Takes a row in or lets it go; gives the key of its group.
    fn update(
        &mut self,
        plan: &Plan,
        grouping: &Grouping,
        params: &[Scalar<'static>],
        state: &State,
        slot: Slot,
        times: i64,
    ) -> Box<[Key]> {
        let row = TableRow { state, table: plan.table, slot };
        let keys: Vec<Scalar<'_>> =
            grouping.keys.iter().map(|key| key.eval(&row, params)).collect();
        let key: Box<[Key]> = keys.iter().cloned().map(Key::from).collect();
        let group = self.0.entry(key.clone()).or_insert_with(|| {
            Group::new(keys.into_iter().map(Scalar::into_owned).collect(), grouping)
        });
        group.rows = group.rows.wrapping_add_signed(times);
        for ((aggregate, argument), kept) in grouping.aggregates.iter().zip(&mut group.kept) {
            let value =
                argument.as_ref().map_or(Scalar::Null, |argument| argument.eval(&row, params));
            aggregate.update(kept, value, times);
        }
        key
    }
}

impl Group {
    fn new(keys: Box<[Scalar<'static>]>, grouping: &Grouping) -> Self {
        let kept = grouping.aggregates.iter().map(|(aggregate, _)| aggregate.empty()).collect();
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
        for ((aggregate, _), kept) in grouping.aggregates.iter().zip(&self.kept) {
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

/// What a group's new row means for the order.
fn replace(
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
