//! What a write is: a transaction gathers writes on a version of its own, and what it did is found
//! by comparing that version with the one it began from.
//!
//! It knows tables and cells. It must not know queries, storage or the formats of responses: the
//! ingest room writes through a transaction like any caller.

mod again;
#[cfg(feature = "remote")]
mod answers;
mod changes;
mod delete;
mod fields;
mod history;
mod ingested;
mod keys;
mod last_changed;
mod links;
mod many;
mod notes;
mod on_demand;
mod overlay;
mod remembered;
mod savepoint;
mod since;
mod touched;
mod transaction;
mod withdraw;

#[cfg(feature = "remote")]
pub(crate) use answers::ANSWERS;
use changes::changed_rows;
pub use changes::{Change, ChangeKind, FieldChange};
pub(crate) use changes::{
    ChangedRows, Changes, FieldSet, Happened, RowChange, WrittenRow, compare,
};
pub(crate) use history::{History, Later};
pub use ingested::{Ingested, IngestedTable, Skipped, Totals, UnplacedValues};
pub(crate) use last_changed::{LastChanged, Span};
#[cfg(feature = "remote")]
pub(crate) use notes::MOST_UNNOTED;
pub(crate) use on_demand::OnDemand;
#[cfg(feature = "remote")]
pub(crate) use overlay::BASE;
pub(crate) use remembered::Remembered;
pub(crate) use touched::{Touched, TouchedRows};
pub use transaction::Transaction;
pub(crate) use withdraw::Withdrawal;
use withdraw::entries_of;

use crate::table::RowAt;
