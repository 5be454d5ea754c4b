//! Pending changes and base values as rows.

use crate::Table;
use crate::value::Json;

/// A row of `backwater_base`: what a covered row is below pending changes.
#[derive(Debug, Clone, PartialEq, Table)]
#[table(name = "backwater_base")]
pub(crate) struct BaseNote {
    #[table(id)]
    pub(crate) table_name: String,
    /// Its id as JSON.
    #[table(id)]
    pub(crate) row_id: String,
    pub(crate) is_there: Option<bool>,
    /// Those of its fields that persist.
    pub(crate) fields: Option<Json>,
}
