//! Rows that are too old: they are left out when their table is rehydrated, and go from the storage
//! with the next batch.

use super::form::{Form, Hash};
use crate::schema::{FieldKind, TableNo};
use crate::table::{Slot, State, Times};
use crate::value::RowId;

/// A row that the storage has and no version of the tables.
#[derive(Clone)]
pub(super) struct Gone {
    pub(super) id: RowId,
    pub(super) hash: Hash,
}

/// What was left out of tables that were read.
#[derive(Default)]
pub(super) struct LeftOut {
    /// Each table once.
    pub(super) gone: Vec<(TableNo, Vec<Gone>)>,
    /// Rows for which no time is known: they count as received just now.
    pub(super) dated: Vec<(TableNo, Slot)>,
}

/// The rows of a table that are too old by now, if a clock is set.
pub(crate) fn expired(state: &State, table: TableNo) -> Vec<Slot> {
    let after = state.schema.table(table).expires_after;
    let (Some(now), Some(after)) = (state.seconds(), after) else { return Vec::new() };
    let is_old = |slot: &Slot| match state.table(table).times(*slot).received {
        0 => false,
        received => now.saturating_sub(received) >= after,
    };
    state.table(table).iter().filter(is_old).collect()
}

/// Leaves out of some tables, which are as the storage has them, what is too old by now.
pub(super) fn leave_out(state: &mut State, form: &Form, tables: &[TableNo]) -> LeftOut {
    let mut left = LeftOut::default();
    let Some(now) = state.seconds() else { return left };
    let schema = state.schema.clone();
    for &table in tables.iter().filter(|table| schema.keeps_times(**table)) {
        for slot in state.table(table).iter() {
            let Times { received, read } = state.table(table).times(slot);
            if received == 0 {
                state.table(table).set_times(slot, Times { received: now, read });
                left.dated.push((table, slot));
            }
        }
        for slot in expired(state, table) {
            for field in &schema.table(table).fields {
                let FieldKind::Links(entries) = field.kind else { continue };
                let slots = (0..).map_while(|at| state.entry(entries, slot, at));
                for entry in slots.collect::<Vec<_>>() {
                    take(state, form, (entries, entry), &mut left);
                }
            }
            take(state, form, (table, slot), &mut left);
        }
    }
    left
}

fn take(state: &mut State, form: &Form, (table, slot): (TableNo, Slot), left: &mut LeftOut) {
    let Some(id) = state.id(table, slot).map(|id| id.to_id()) else { return };
    if form.table(table).persists {
        let hash = form.hash(state, table, slot, state.table(table).times(slot));
        let gone = Gone { id, hash };
        match left.gone.iter_mut().rfind(|(of, _)| *of == table) {
            Some((_, all)) => all.push(gone),
            None => left.gone.push((table, vec![gone])),
        }
    }
    state.table_mut(table).delete(slot);
}
