//! Tables as they were read from a storage, with what it has recorded of them.

use std::sync::Arc;

use super::form::{Form, Hash};
use crate::table::{State, Times};

/// How many rows a stored table has, and their hash.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct TableDigest {
    pub(crate) rows: u64,
    pub(crate) hash: Hash,
}

/// Tables as they are read from a storage.
pub(crate) struct LoadedTables {
    pub(crate) form: Arc<Form>,
    pub(crate) state: Arc<State>,
    pub(crate) digests: Vec<TableDigest>,
    pub(crate) times: Vec<Vec<Times>>,
}
