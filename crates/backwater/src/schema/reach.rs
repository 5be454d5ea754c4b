//! Which tables go together: those that a write or a response may need to look at.

use std::collections::BTreeSet;

use super::{FieldKind, OnDelete, ResponsePart, Rule, Schema, TableNo, TableOrigin};

impl Schema {
    /// A table with the entries of its to-many links, which are only ever written together.
    pub(crate) fn with_entries(&self, table: TableNo) -> Vec<TableNo> {
        let owner = match self.table(table).made {
            TableOrigin::Entries { owner, .. } => owner,
            TableOrigin::Declared | TableOrigin::List => table,
        };
        let entries = self.table(owner).fields.iter().filter_map(|field| match field.kind {
            FieldKind::Links(entries) => Some(entries),
            _ => None,
        });
        [owner].into_iter().chain(entries).collect()
    }

    /// Whether a link of a table leads to ids of its own rows: it points at these, or at rows that
    /// have such an id in theirs.
    pub(crate) fn links_to_itself(&self, table: TableNo) -> bool {
        self.table(table).fields.iter().any(|field| {
            let mut of = field.one_of().into_iter().flat_map(|of| &of.tables);
            let is_one = matches!(field.kind, FieldKind::Link(to) if self.has_in_id(to, table));
            is_one || of.any(|(_, to)| self.has_in_id(*to, table))
        })
    }

    /// Whether the id of a table's rows is, or has as a part, one of another table's.
    fn has_in_id(&self, table: TableNo, other: TableNo) -> bool {
        let definition = self.table(table);
        let mut parts = definition.id.iter().map(|part| definition.field(*part).kind);
        table == other
            || parts.any(|kind| matches!(kind, FieldKind::Link(to) if self.has_in_id(to, other)))
    }

    /// The tables whose rows decide what becomes of writes to a table, deletes among them.
    pub(crate) fn written_with(&self, table: TableNo) -> BTreeSet<TableNo> {
        let (mut all, mut next) = (BTreeSet::new(), vec![table]);
        while let Some(table) = next.pop() {
            for table in self.with_entries(table) {
                if !all.insert(table) {
                    continue;
                }
                for link in self.links_to(table) {
                    match link.on_delete {
                        OnDelete::Cascade => next.push(link.table),
                        _ => all.extend(self.with_entries(link.table)),
                    }
                }
            }
        }
        all
    }

    /// The tables that a response may write to by a rule, and those that decide what becomes of it.
    pub(crate) fn written_by(&self, rule: &Rule) -> BTreeSet<TableNo> {
        let list = rule.list.as_ref().map(|list| list.table);
        let mut next: Vec<TableNo> = [rule.table].into_iter().chain(list).collect();
        for part in rule.places.all() {
            match part {
                ResponsePart::Value(table, _) | ResponsePart::Rows(table, _) => next.push(table),
                // These may be of any table.
                ResponsePart::Included => next.extend(self.table_numbers()),
                ResponsePart::Records | ResponsePart::Errors => {}
            }
        }
        let mut all = BTreeSet::new();
        while let Some(table) = next.pop() {
            if !all.insert(table) {
                continue;
            }
            // What an object links to may stand in it, as an object of its own.
            for field in &self.table(table).fields {
                match field.kind {
                    FieldKind::Link(to) | FieldKind::Links(to) => next.push(to),
                    _ => {}
                }
                next.extend(field.one_of().iter().flat_map(|of| of.tables.iter().map(|of| of.1)));
                next.extend(field.by().map(|by| by.table));
            }
        }
        table_set(all.into_iter().flat_map(|table| self.written_with(table)))
    }
}

/// Some tables, each once. Collected, they would be sorted, by code that nothing else needs.
pub(crate) fn table_set(tables: impl IntoIterator<Item = TableNo>) -> BTreeSet<TableNo> {
    let mut set = BTreeSet::new();
    set.extend(tables);
    set
}
