//! JSON:API 1.1: rows as resources, links as relationships.

use std::io;

use super::ndjson::unwritten;
use crate::error::Result;
use crate::schema::{FieldKind, FieldNo, TableNo, TableOrigin};
use crate::table::{Cell, Slot, Snapshot, State, TARGET};
use crate::value::write_json_text;

impl Snapshot {
    /// Writes rows as a JSON:API document: those of one table, or of all. Links are relationships;
    /// lists and one-row tables, which are no resources, are left out.
    ///
    /// # Errors
    /// As [`Snapshot::export_table`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.vessel = { id = "name", fields = { name = "text" } }
    /// #     table.sailing = { id = "id", fields = { id = "int", vessel = { to = "vessel" }, delay_min = "int" } }
    /// # "#)?);
    /// cache.commit("announced", |tx| tx.insert("sailing", (("id", 311), ("vessel", "Marram"), ("delay_min", 5))))?;
    /// let mut text = Vec::new();
    /// cache.snapshot().export_jsonapi(Some("sailing"), &mut text)?;
    /// assert_eq!(String::from_utf8(text).unwrap(), concat!(
    ///     r#"{"data":[{"type":"sailing","id":"311","attributes":{"delay_min":5},"#,
    ///     r#""relationships":{"vessel":{"data":{"type":"vessel","id":"Marram"}}}}]}"#, "\n",
    /// ));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn export_jsonapi(&self, table: Option<&str>, mut out: impl io::Write) -> Result<()> {
        let state = &*self.state;
        let only = table.map(|table| state.schema.table_no(table)).transpose()?;
        let tables = state.schema.table_numbers().filter(|number| {
            let definition = state.schema.table(*number);
            let is_resource = definition.made == TableOrigin::Declared && !definition.is_one_row();
            is_resource && only.is_none_or(|only| only == *number)
        });
        out.write_all(b"{\"data\":[").map_err(unwritten)?;
        let mut is_first = true;
        let mut text = String::new();
        for table in tables {
            for slot in state.table(table).iter() {
                text.clear();
                text.push_str(if std::mem::take(&mut is_first) { "" } else { "," });
                resource(&mut text, state, table, slot);
                out.write_all(text.as_bytes()).map_err(unwritten)?;
            }
        }
        out.write_all(b"]}\n").map_err(unwritten)
    }
}

fn resource(out: &mut String, state: &State, table: TableNo, slot: Slot) {
    out.push('{');
    identifier(out, state, table, slot);
    let definition = state.schema.table(table);
    let rows = state.table(table);
    let here = definition
        .field_numbers()
        .filter(|field| rows.cell(slot, *field) != Cell::Absent && !definition.id.contains(field));
    let (links, values): (Vec<FieldNo>, Vec<FieldNo>) =
        here.filter(|field| definition.link_typed_by(*field).is_none()).partition(|field| {
            let field = definition.field(*field);
            (field.link.is_some() && field.by().is_none())
                || matches!(field.kind, FieldKind::Link(_) | FieldKind::Links(_) | FieldKind::OneOf)
        });
    members(out, "attributes", &values, |out, field| {
        name(out, state, table, field);
        let row = crate::table::Row { state, table, slot };
        out.push_str(&row.nested_field(field).unwrap_or_else(|| "null".to_owned()));
    });
    members(out, "relationships", &links, |out, field| {
        name(out, state, table, field);
        out.push_str("{\"data\":");
        let cell = rows.cell(slot, field);
        match (definition.field(field).kind, cell) {
            (FieldKind::Links(entries), Cell::Int(_)) => {
                let entries_of = (0..).map_while(|position| state.entry(entries, slot, position));
                out.push('[');
                for (number, entry) in entries_of.enumerate() {
                    out.push_str(if number == 0 { "" } else { "," });
                    let cell = state.table(entries).cell(entry, TARGET);
                    linked(out, state, state.target(entries, TARGET, cell));
                    let own = state.schema.table(entries).entry_fields();
                    let cell = |field: &FieldNo| state.table(entries).cell(entry, *field);
                    let own: Vec<FieldNo> = own.filter(|it| cell(it) != Cell::Absent).collect();
                    // Behind the members of the resource identifier.
                    if out.ends_with('}') && !own.is_empty() {
                        out.pop();
                        members(out, "meta", &own, |out, field| {
                            name(out, state, entries, field);
                            let row = crate::table::Row { state, table: entries, slot: entry };
                            out.push_str(&row.nested_field(field).unwrap_or_default());
                        });
                        out.push('}');
                    }
                }
                out.push(']');
            }
            _ => linked(out, state, state.target(table, field, cell)),
        }
        out.push('}');
    });
    out.push('}');
}

/// Writes a member with an object of some fields, if there are any.
fn members(
    out: &mut String,
    called: &str,
    fields: &[FieldNo],
    mut each: impl FnMut(&mut String, FieldNo),
) {
    for (number, field) in fields.iter().enumerate() {
        out.push_str(if number == 0 { ",\"" } else { "," });
        if number == 0 {
            out.push_str(called);
            out.push_str("\":{");
        }
        each(out, *field);
    }
    out.push_str(if fields.is_empty() { "" } else { "}" });
}

fn name(out: &mut String, state: &State, table: TableNo, field: FieldNo) {
    write_json_text(out, &state.schema.table(table).field(field).name);
    out.push(':');
}

fn linked(out: &mut String, state: &State, target: Option<(TableNo, Slot)>) {
    match target {
        None => out.push_str("null"),
        Some((table, slot)) => {
            out.push('{');
            identifier(out, state, table, slot);
            out.push('}');
        }
    }
}

/// Type and id, which is always a text.
fn identifier(out: &mut String, state: &State, table: TableNo, slot: Slot) {
    out.push_str("\"type\":");
    write_json_text(out, &state.schema.table(table).resource);
    out.push_str(",\"id\":");
    let id = state.id(table, slot).map(|id| id.to_id().to_string());
    write_json_text(out, &id.unwrap_or_default());
}
