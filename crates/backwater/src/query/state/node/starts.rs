//! Where the search for changed tuples starts at a changed row.

use crate::change::Happened;
use crate::query::operator::join::Start;
use crate::query::operator::statement_rows::{StatementRow, changed_columns};
use crate::query::plan::Plan;
use crate::table::Slot;

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

/// The same at a changed row of another statement.
pub(crate) fn statement_start(
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
