//! What another program has written to a storage that this one only reads.

use std::sync::Arc;

use super::form::StoredTable;
use super::load::Rows;
use super::outbox::Outbox;
use super::{Storage, expired};
use crate::change::{RowChange, compare};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::TableNo;
use crate::table::State;

/// A version with what another program has written.
pub(crate) struct Followed {
    pub(crate) state: Arc<State>,
    pub(crate) rows: Vec<RowChange>,
    /// The commit of the other program that the storage holds.
    pub(crate) commit: u64,
}

/// Reads the tables in which something is new over the rows that are loaded.
pub(super) fn follow(
    now: &State,
    outbox: &mut Outbox,
    storage: &mut dyn Storage,
) -> Result<Option<Followed>> {
    let Some(header) = storage.header()? else {
        return Err(Error::new(ErrorKind::Storage, "there is no cache here any more"));
    };
    let schema = now.schema.clone();
    if *header.schema != *schema.text {
        let message = "the program that writes to it has another schema now";
        return Err(Error::new(ErrorKind::Version, message).help("open the cache again"));
    }
    let form = outbox.form();
    let mut rows = Rows::going_on(now.clone(), form.clone());
    let mut read: Vec<TableNo> = Vec::new();
    for table in schema.table_numbers().filter(|table| form.table(*table).persists) {
        let recorded = storage.digest(&StoredTable::new(&schema, &form, table))?;
        // Rows may also go without a commit, as those that are too old do.
        if recorded.map_or(header.commit != outbox.stored_commit(), |recorded| {
            recorded != outbox.digest(table)
        }) {
            rows.load_over(storage, table)?;
            read.push(table);
        }
    }
    if read.is_empty() && header.commit == outbox.stored_commit() {
        return Ok(None);
    }
    // What is too old stays out here as well; the writer takes it out of the storage.
    drop(expired::leave_out(&mut rows.state, &form, &read));
    let mut changes = Vec::new();
    for &table in &read {
        let slots = rows.state.table(table).slots().max(now.table(table).slots()) as u32;
        let changed = (0..slots).map(crate::table::Slot).filter_map(|slot| {
            let happened = compare(now, &rows.state, table, slot)?;
            Some(RowChange { table, slot, happened })
        });
        changes.extend(changed);
        outbox.note_read(table, rows.digests(table));
    }
    rows.state.hand_over_free_slots();
    let state = Arc::new(rows.state);
    outbox.note_followed(state.clone(), header.commit);
    Ok(Some(Followed { state, rows: changes, commit: header.commit }))
}
