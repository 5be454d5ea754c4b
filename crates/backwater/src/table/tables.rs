//! All tables of a version.

use std::sync::Arc;

use super::TableRows;
use crate::schema::TableNo;

/// By their numbers. Each version has its own list of those that the cache began with; those that came
/// later, which are mostly for what the library notes itself, have one that versions share for as long
/// as nothing is written to them.
#[derive(Clone)]
pub(super) struct Tables {
    first: Vec<Arc<TableRows>>,
    later: Arc<Vec<Arc<TableRows>>>,
}

impl Tables {
    pub(super) fn new(first: Vec<Arc<TableRows>>) -> Self {
        Self { first, later: Arc::default() }
    }

    pub(super) fn len(&self) -> usize {
        self.first.len() + self.later.len()
    }

    /// Adds one behind all others.
    pub(super) fn push(&mut self, table: TableRows) {
        Arc::make_mut(&mut self.later).push(Arc::new(table));
    }

    #[inline]
    pub(super) fn get(&self, number: TableNo) -> &Arc<TableRows> {
        match self.first.get(number.index()) {
            Some(table) => table,
            None => &self.later[number.index() - self.first.len()],
        }
    }

    #[inline]
    pub(super) fn get_mut(&mut self, number: TableNo) -> &mut Arc<TableRows> {
        let first = self.first.len();
        match self.first.get_mut(number.index()) {
            Some(table) => table,
            None => &mut Arc::make_mut(&mut self.later)[number.index() - first],
        }
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = &Arc<TableRows>> {
        self.first.iter().chain(&*self.later)
    }
}
