//! What a storage of whole rows holds in memory, whatever form it keeps a row in.

use std::collections::BTreeMap;

use super::{Batch, Hash, Header, StoredRow, StoredTable};
use crate::error::{Error, ErrorKind, Result};
use crate::value::RowId;

/// What is stored, with rows of a form of the storage's own.
#[derive(Clone)]
pub(super) struct Held<R> {
    pub(super) header: Option<Header>,
    pub(super) tables: BTreeMap<String, HeldTable<R>>,
}

#[derive(Clone)]
pub(super) struct HeldTable<R> {
    /// By id; a one-row table's row has none.
    pub(super) rows: BTreeMap<Option<RowId>, R>,
    pub(super) digest: (u64, Hash),
}

impl<R> Default for Held<R> {
    fn default() -> Self {
        Self { header: None, tables: BTreeMap::new() }
    }
}

impl<R> Default for HeldTable<R> {
    fn default() -> Self {
        Self { rows: BTreeMap::new(), digest: (0, Hash::default()) }
    }
}

impl<R> Held<R> {
    /// Takes a batch; `keep` gives what is kept of a row.
    ///
    /// # Errors
    /// If it goes on from another commit than the one that is held; then nothing is taken.
    pub(super) fn take(
        &mut self,
        batch: &Batch,
        keep: impl Fn(StoredTable<'_>, StoredRow<'_>) -> R,
    ) -> Result<()> {
        let commit = self.header.as_ref().map(|header| header.commit);
        if commit.is_none() != batch.is_first() || commit.unwrap_or(0) != batch.from_commit() {
            return Err(overtaken());
        }
        for table in batch.dropped() {
            self.tables.remove(table);
        }
        for rows in batch.tables() {
            let table = self.tables.entry(rows.table().name().to_owned()).or_default();
            for id in rows.deletes() {
                table.rows.remove(&Some(id.clone()));
            }
            for row in rows.puts() {
                table.rows.insert(row.id(), keep(rows.table(), row));
            }
            table.digest = (rows.rows(), rows.hash());
        }
        match (batch.new_schema(), &mut self.header) {
            (Some(schema), header) => *header = Some(Header::of(schema, batch)),
            (None, Some(header)) => header.commit = batch.commit(),
            (None, None) => debug_assert!(false, "the first batch has a schema"),
        }
        Ok(())
    }
}

/// The storage holds another commit than the one that a batch goes on from.
pub(super) fn overtaken() -> Error {
    Error::new(ErrorKind::Storage, "another program has written to it since it was opened")
        .help("open the cache again; nothing was written")
}
