//! What flows between the operators: rows that come, change and go, and what that does to an order.

use std::sync::Arc;

use super::expr::Columns;
use super::scalar::Scalar;
use crate::change::{Changes, FieldSet, Happened};
use crate::schema::{FieldNo, TableNo};
use crate::table::{Slot, State};

/// Why a result cannot be told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Failure(pub(crate) Arc<str>);

/// A row of a table as expressions read it.
pub(crate) struct TableRow<'a> {
    pub(crate) state: &'a State,
    pub(crate) table: TableNo,
    pub(crate) slot: Slot,
}

impl<'a> Columns<'a> for TableRow<'a> {
    fn column(&self, number: usize) -> Scalar<'a> {
        Scalar::of_cell(self.state, self.table, self.slot, FieldNo(number as u32))
    }
}

/// A changed row on its way through a binding's operators: whether it belongs to the binding
/// before and after the commit.
#[derive(Debug, Clone, Copy)]
pub(crate) struct RowDelta {
    /// The row's number among the commit's changes.
    pub(crate) change: u32,
    pub(crate) slot: Slot,
    pub(crate) before: bool,
    pub(crate) after: bool,
}

impl RowDelta {
    /// Whether the commit changed one of these fields of the row.
    pub(crate) fn changed_any(&self, changes: &Changes, fields: &FieldSet) -> bool {
        match &changes.rows[self.change as usize].happened {
            Happened::Updated(changed) => changed.meets(fields),
            Happened::Inserted | Happened::Deleted => true,
        }
    }
}

/// What happens to one entry of the order.
#[derive(Debug, Clone)]
pub(crate) enum Edit<E> {
    Enter(E),
    Leave(E),
    Replace {
        old: E,
        new: E,
        /// Whether its place in the order may be another one.
        reorder: bool,
        /// Whether its visible columns changed.
        changed: bool,
    },
}
