//! What a node follows at once: one commit, or several that it had put off.

use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use super::InnerNodes;
use crate::change::Happened;
use crate::query::DERIVED;
use crate::query::expr::scalar::Scalar;
use crate::query::operator::join::{Start, Starts, TupleDeltas, changed_tuples};
use crate::query::operator::statement_rows::{StatementRow, StatementView, Undo, changed_columns};
use crate::query::operator::view::View;
use crate::query::plan::Plan;
use crate::query::work::{self, Failure};
use crate::table::{Slot, State};

/// A stretch of commits, with all that is read before the first and after the last of them.
pub(crate) struct Stretch<'s> {
    pub(crate) commits: (u64, u64),
    pub(crate) views: (&'s View<'s>, &'s View<'s>),
    /// The tables before.
    pub(crate) old_state: &'s Arc<State>,
    /// The rows that were changed, by source.
    pub(crate) starts: &'s [Start],
    pub(crate) inner: &'s InnerNodes<'s>,
}

impl Stretch<'_> {
    /// The tuples that changed, for a binding with these parameters or for all of its group.
    pub(crate) fn tuples(&self, params: &[Scalar<'static>]) -> Result<TupleDeltas, Failure> {
        let (before, after) = self.views;
        work::within(&after.plan.limits, || changed_tuples(before, after, params, self.starts))
    }

    /// Whether only rows of tables were changed, and none of other statements.
    pub(super) fn is_of_tables(&self) -> bool {
        self.starts.iter().all(|start| start.cause & DERIVED == 0)
    }

    /// Whether a slot may hold another row than before.
    pub(super) fn has_another(&self) -> bool {
        self.starts.iter().any(|start| start.is_another)
    }

    /// What says of tuples of one key whether they may be something else after than before.
    pub(super) fn has_changed(&self) -> impl Fn(&[Slot], &[Slot]) -> bool + use<> {
        let changed: FxHashSet<(usize, Slot)> =
            self.starts.iter().map(|start| (start.source, start.slot)).collect();
        move |old, new| {
            let mut rows = new.iter().enumerate();
            old != new || rows.any(|(source, slot)| changed.contains(&(source, *slot)))
        }
    }
}

/// Where the search for changed tuples starts at a changed row; nowhere, if nothing of it is read.
pub(crate) fn start(
    plan: &Plan,
    source: usize,
    slot: Slot,
    happened: &Happened,
    cause: u32,
) -> Option<Start> {
    let of = &plan.sources[source];
    Some(match happened {
        Happened::Updated(fields) => {
            if !fields.meets(&of.reads) {
                return None;
            }
            let structure = fields.meets(&of.structure);
            let (content, order) = (fields.meets(&of.content), fields.meets(&of.order));
            let (fields, is_another) = (fields.first(), false);
            Start { source, slot, structure, content, order, fields, is_another, cause }
        }
        Happened::Inserted | Happened::Deleted => {
            let (structure, content, order, is_another) = (true, true, true, false);
            let fields = u64::MAX;
            Start { source, slot, structure, content, order, fields, is_another, cause }
        }
    })
}

/// Where it starts at the rows of other statements that are not what they were.
pub(crate) fn statement_starts(
    plan: &Plan,
    were: &FxHashMap<u16, Undo>,
    are: &[Option<StatementView<'_>>],
) -> Starts {
    let sources = were.iter().flat_map(|(source, undo)| {
        let (source, rows) = (usize::from(*source), are[usize::from(*source)]);
        undo.iter().filter_map(move |(slot, before)| {
            let after = rows.and_then(|rows| rows.row(slot));
            statement_start(plan, source, slot, before.as_deref(), after)
        })
    });
    sources.collect()
}

fn statement_start(
    plan: &Plan,
    source: usize,
    slot: Slot,
    before: Option<&StatementRow>,
    after: Option<&StatementRow>,
) -> Option<Start> {
    let happened = match (before, after) {
        (None, None) => return None,
        (None, Some(_)) => Happened::Inserted,
        (Some(_), None) => Happened::Deleted,
        // A place was taken by another row.
        (Some(before), Some(after)) if before.key != after.key => Happened::Inserted,
        (Some(_), Some(_)) => Happened::Updated(changed_columns(before, after)?),
    };
    start(plan, source, slot, &happened, crate::query::DERIVED | source as u32)
}
