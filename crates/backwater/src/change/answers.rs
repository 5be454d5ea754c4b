//! The rows that say which answers of servers are here, where the cache itself takes rows away.
//!
//! It knows the name of their table and of one field. What else a row says is the remote's.

use std::collections::BTreeSet;

use super::{Changes, Transaction};
use crate::error::Result;
use crate::schema::TableNo;
use crate::table::{Cell, Slot};

/// The table of answers.
pub(crate) const ANSWERS: &str = "backwater_answer";
/// The field that says by which rule an answer came.
const RULE: &str = "rule";

impl Transaction {
    /// Forgets the answers that may have brought rows of tables of which some are let go: what is
    /// fresh has to be there.
    pub(crate) fn forget_answers_of(&mut self, tables: &BTreeSet<TableNo>) {
        let schema = self.schema();
        let Some(answers) = schema.find_table(ANSWERS) else { return };
        let Some(rule) = schema.table(answers).field_no(RULE) else { return };
        let rows = self.state.table(answers);
        let brought = |slot: &Slot| match rows.cell(*slot, rule) {
            Cell::Text(name) => {
                schema.rule(name).is_ok_and(|rule| !schema.written_by(rule).is_disjoint(tables))
            }
            _ => false,
        };
        let gone: Vec<Slot> = rows.iter().filter(brought).collect();
        gone.into_iter().for_each(|slot| self.remove(answers, slot));
    }

    /// Forgets the answers that came by a commit which is withdrawn, and so are no longer here.
    pub(crate) fn forget_answers_in(&mut self, changes: &Changes) -> Result<()> {
        let known = &changes.after;
        let Some(then) = known.schema.find_table(ANSWERS) else { return Ok(()) };
        let rows = changes.rows.iter().filter(|row| row.table == then);
        let ids: Vec<_> = rows.filter_map(|row| Some(known.id(then, row.slot)?.to_id())).collect();
        ids.into_iter().try_for_each(|id| self.delete(ANSWERS, id).map(drop))
    }
}
