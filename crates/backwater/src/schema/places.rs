//! Where structs' fields are in a schema, each looked for once.

use std::sync::{Arc, PoisonError, RwLock};

use rustc_hash::FxHashMap;

use super::{FieldNo, TableNo};

/// A struct's table, and for each of its fields the number there.
#[derive(Debug)]
pub(crate) struct FieldPlaces {
    pub(crate) table: TableNo,
    pub(crate) fields: Box<[FieldNo]>,
    /// Links whose rows it nests, each with what identifies the struct of these.
    pub(crate) nested: Box<[(FieldNo, usize)]>,
}

/// What was found so far, by what identifies a struct's declaration.
#[derive(Debug, Default)]
pub(crate) struct KnownPlaces(RwLock<FxHashMap<usize, Arc<FieldPlaces>>>);

impl KnownPlaces {
    pub(crate) fn find(&self, of: usize) -> Option<Arc<FieldPlaces>> {
        self.0.read().unwrap_or_else(PoisonError::into_inner).get(&of).cloned()
    }

    pub(crate) fn put(&self, of: usize, places: Arc<FieldPlaces>) {
        self.0.write().unwrap_or_else(PoisonError::into_inner).insert(of, places);
    }
}
