//! Tables that a transaction needs and that are not loaded yet: they are loaded as if they had been
//! there from the start.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::Transaction;
use crate::error::Result;
use crate::schema::{Schema, TableNo};
use crate::table::State;

/// Loads rows that a transaction needs and that are not there yet.
pub(crate) trait OnDemand: Send + Sync {
    /// Reads all rows of some tables into a version that has none of them.
    fn read(&self, state: &mut State, tables: &[TableNo]) -> Result<()>;
}

impl Transaction {
    /// The same, where tables are not loaded yet.
    pub(crate) fn with_on_demand(mut self, on_demand: Arc<dyn OnDemand>) -> Self {
        self.on_demand = Some(on_demand);
        self
    }

    /// Prepares to read and write any rows of some tables: they are loaded, with base values.
    ///
    /// # Errors
    /// If they cannot be read.
    pub(crate) fn need(&mut self, tables: impl Fn(&Schema) -> BTreeSet<TableNo>) -> Result<()> {
        self.load(&tables)?;
        self.lift_any_of(tables);
        Ok(())
    }

    /// The same for what calls [`Self::lift_at`] before it looks at a row. If `only_its_rows` are looked
    /// at, and every pending change stands by itself, nothing is lifted beforehand.
    ///
    /// # Errors
    /// As [`Self::need`].
    pub(crate) fn need_for_rows(
        &mut self,
        only_its_rows: bool,
        tables: impl Fn(&Schema) -> BTreeSet<TableNo>,
    ) -> Result<()> {
        self.load(&tables)?;
        if !(only_its_rows && self.lifts_rows_alone()) {
            self.lift_any_of(tables);
        }
        Ok(())
    }

    /// Loads tables that are not loaded yet, as if their rows had been there from the start.
    ///
    /// # Errors
    /// If they cannot be read.
    pub(crate) fn load(&mut self, tables: impl FnOnce(&Schema) -> BTreeSet<TableNo>) -> Result<()> {
        match self.state.has_unready() {
            true => self.load_tables(tables(&self.state.schema)),
            false => Ok(()),
        }
    }

    fn load_tables(&mut self, tables: BTreeSet<TableNo>) -> Result<()> {
        let tables = tables.into_iter();
        let tables: Vec<_> = tables.filter(|table| !self.state.is_ready(*table)).collect();
        if tables.is_empty() {
            return Ok(());
        }
        self.write_notes();
        let Some(on_demand) = &self.on_demand else { return Ok(()) };
        let mut state = self.state.clone();
        on_demand.read(&mut state, &tables)?;
        state.set_ready(&tables);
        let mut before = state.with_rows_of(&self.before, self.touched.rows());
        before.overlay = self.before.overlay.clone();
        self.before = Arc::new(before);
        self.covering.bare = None;
        self.state = state;
        self.rehydrated.extend(tables);
        Ok(())
    }

    /// The tables that were loaded while it went on, if there are any, and the version with these
    /// and without what it wrote.
    pub(crate) fn take_rehydrated(&mut self) -> Option<(Arc<State>, Vec<TableNo>)> {
        let tables = std::mem::take(&mut self.rehydrated);
        (!tables.is_empty()).then(|| (self.before.clone(), tables))
    }
}
