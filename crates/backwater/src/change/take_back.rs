//! Taking a commit back, field by field, and emptying all tables.

use std::collections::BTreeSet;

use super::{Changes, FieldSet, Happened, Staged, StagedRow, Transaction};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldNo, Kind, Made, TableNo};
use crate::table::{Cell, OWNER, Slot, State};

impl Transaction {
    /// Undoes of some changes what still holds.
    pub(crate) fn take_back(&mut self, changes: &Changes) -> Result<()> {
        if !std::sync::Arc::ptr_eq(&changes.before.schema, &self.state.schema) {
            return Err(Error::new(ErrorKind::Result, "the report is one of another cache")
                .help("withdraw it in the cache that made the commit"));
        }
        self.need(|schema| {
            let tables = changes.rows.iter().map(|row| row.table).collect::<BTreeSet<_>>();
            tables.into_iter().flat_map(|table| schema.written_with(table)).collect()
        })?;
        let (schema, mut inserted) = (self.schema(), Vec::new());
        for row in changes.rows.iter().filter(|row| !schema.is_entries(row.table)) {
            let (table, slot) = (row.table, row.slot);
            match &row.happened {
                Happened::Updated(fields) => self.restore(changes, (table, slot), fields),
                Happened::Deleted => self.bring_back(changes, (table, slot))?,
                Happened::Inserted => inserted.push((table, slot)),
            }
        }
        self.restore_links(changes);
        self.let_go(changes, inserted);
        Ok(())
    }

    /// Whether the row in a slot is the one that a version has there.
    fn is_still(&self, version: &State, (table, slot): (TableNo, Slot)) -> bool {
        let is_row = self.state.table(table).is_row(slot) && version.table(table).is_row(slot);
        is_row && self.state.id(table, slot) == version.id(table, slot)
    }

    /// The field that is only ever written together with one.
    fn told_with(&self, table: TableNo, field: FieldNo) -> Option<FieldNo> {
        let definition = self.definition(table);
        let one_of = definition.field(field).one_of();
        one_of.map(|one_of| one_of.type_field).or_else(|| definition.link_told_by(field))
    }

    fn is_links(&self, table: TableNo, field: FieldNo) -> bool {
        matches!(self.definition(table).field(field).kind, Kind::Links(_))
    }

    /// Gives fields that hold what the commit wrote the values from before.
    fn restore(&mut self, changes: &Changes, (table, slot): (TableNo, Slot), fields: &FieldSet) {
        if !self.is_still(&changes.after, (table, slot)) {
            return;
        }
        let mut staged = StagedRow::new();
        let holds = |field: FieldNo| {
            self.state.table(table).cell(slot, field)
                == changes.after.table(table).cell(slot, field)
        };
        for field in fields.iter().filter(|field| !self.is_links(table, *field)) {
            // A link and the name of the table that it points at go together.
            if holds(field) && self.told_with(table, field).is_none_or(holds) {
                staged.push((field, of_cell(changes.before.table(table).cell(slot, field))));
            }
        }
        self.merge_row(table, slot, &staged);
    }

    /// Makes a deleted row anew, unless there is one with its id.
    fn bring_back(&mut self, changes: &Changes, (table, slot): (TableNo, Slot)) -> Result<()> {
        let before = &changes.before;
        let Some(id) = before.id(table, slot).map(|id| id.to_id()) else { return Ok(()) };
        let now = self.state.refer_id(table, &id)?;
        if self.state.table(table).is_row(now) {
            return Ok(());
        }
        let mut staged = StagedRow::new();
        for field in self.definition(table).field_numbers() {
            let cell = before.table(table).cell(slot, field);
            if self.definition(table).id.contains(&field) || cell == Cell::Absent {
                continue;
            }
            match self.definition(table).field(field).kind {
                Kind::Links(entries) => {
                    staged.push((field, Staged::Links(targets(before, entries, slot))));
                }
                _ => staged.push((field, of_cell(cell))),
            }
        }
        self.merge_row(table, now, &staged);
        Ok(())
    }

    /// Gives to-many links that hold what the commit wrote the targets from before.
    fn restore_links(&mut self, changes: &Changes) {
        let mut links: BTreeSet<(TableNo, FieldNo, Slot)> = BTreeSet::new();
        for row in changes.rows.iter() {
            if let Happened::Updated(fields) = &row.happened {
                let of_links = fields.iter().filter(|field| self.is_links(row.table, *field));
                links.extend(of_links.map(|field| (row.table, field, row.slot)));
            }
            let Made::Entries { owner, field } = self.definition(row.table).made else { continue };
            for version in [&changes.before, &changes.after] {
                if let Cell::Link(slot) = version.table(row.table).cell(row.slot, OWNER) {
                    links.insert((owner, field, slot));
                }
            }
        }
        for (table, field, slot) in links {
            let Kind::Links(entries) = self.definition(table).field(field).kind else { continue };
            // Of a row that came with the commit they go with it; of one that went they are back.
            if !self.is_still(&changes.before, (table, slot))
                || !self.is_still(&changes.after, (table, slot))
                || targets(&self.state, entries, slot) != targets(&changes.after, entries, slot)
            {
                continue;
            }
            let staged = match changes.before.table(table).cell(slot, field) {
                Cell::Int(_) => Staged::Links(targets(&changes.before, entries, slot)),
                cell => of_cell(cell),
            };
            self.merge_row(table, slot, &[(field, staged)]);
        }
    }

    /// Deletes rows that are as the commit inserted them; of others only the fields that are.
    fn let_go(&mut self, changes: &Changes, rows: Vec<(TableNo, Slot)>) {
        let mut left = rows;
        left.retain(|row| self.is_still(&changes.after, *row));
        let mut whole = Vec::new();
        for (table, slot) in left {
            let fields: FieldSet = self.definition(table).field_numbers().collect();
            let is_same =
                fields.iter().all(|field| match self.definition(table).field(field).kind {
                    Kind::Links(entries) => {
                        targets(&self.state, entries, slot)
                            == targets(&changes.after, entries, slot)
                    }
                    _ => {
                        self.state.table(table).cell(slot, field)
                            == changes.after.table(table).cell(slot, field)
                    }
                });
            if is_same {
                whole.push((table, slot));
                continue;
            }
            let id = self.definition(table).id.clone();
            self.restore(
                changes,
                (table, slot),
                &fields.iter().filter(|field| !id.contains(field)).collect(),
            );
        }
        // What points at one is as it was before the row came.
        self.let_rows_go(whole);
    }

    /// Lets rows go with the entries of their to-many links, whatever links to them.
    pub(crate) fn let_rows_go(&mut self, rows: impl IntoIterator<Item = (TableNo, Slot)>) {
        let schema = self.schema();
        for (table, slot) in rows {
            for field in &schema.table(table).fields {
                if let Kind::Links(entries) = field.kind {
                    self.put_entries(entries, slot, &[]);
                }
            }
            // Entries may have gone with their owner.
            if self.state.table(table).is_row(slot) {
                self.remove(table, slot);
            }
        }
    }

    /// Lets all rows go, whatever links to them.
    ///
    /// # Errors
    /// If rows are still to come, and cannot be read.
    pub(crate) fn clear(&mut self) -> Result<()> {
        self.need(|schema| schema.table_numbers().collect())?;
        let schema = self.schema();
        for table in schema.table_numbers() {
            let slots: Vec<Slot> = self.state.table(table).iter().collect();
            if schema.table(table).is_one_row() {
                let absent =
                    schema.table(table).field_numbers().map(|field| (field, Staged::Absent));
                let absent: StagedRow<'_> = absent.collect();
                for slot in slots {
                    self.merge_row(table, slot, &absent);
                }
            } else {
                slots.into_iter().for_each(|slot| self.remove(table, slot));
            }
        }
        Ok(())
    }
}

/// Where a to-many link points in a version, in its order.
fn targets(version: &State, entries: TableNo, owner: Slot) -> Vec<(TableNo, Slot)> {
    version.targets(entries, owner).collect()
}

fn of_cell(cell: Cell<'_>) -> Staged<'_> {
    match cell {
        Cell::Absent => Staged::Absent,
        Cell::Null => Staged::Null,
        Cell::Int(number) => Staged::Int(number),
        Cell::Float(number) => Staged::Float(number),
        Cell::Bool(flag) => Staged::Bool(flag),
        Cell::Text(text) => Staged::Text(text.into()),
        Cell::Timestamp(time) => Staged::Timestamp(time),
        Cell::Json(json) => Staged::Json(json.into()),
        Cell::Link(slot) => Staged::Link(slot),
        Cell::OneOf(table, slot) => Staged::OneOf(table, slot),
    }
}
