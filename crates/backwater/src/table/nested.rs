//! A row with its links as a tree: what an API response would look like that holds it.

use super::{Cell, Row, Slot, Staged, State, TARGET};
use crate::schema::{FieldKind, FieldNo, Limits, OneOfDef, TableNo};
use crate::value::{Json, write_json_text};

impl Row<'_> {
    /// The row as a JSON object, with its fields by their names. A link is the id that it points
    /// at; down to `depth`, it is the row there instead, if that is loaded. Absent fields are left
    /// out, and `depth` counts to 500 at most.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.port = { id = "code", fields = { code = "text", name = "text" } }
    /// #     table.route = { id = "id", fields = { id = "int", stops = { to_many = "port" } } }
    /// # "#)?);
    /// cache.commit("a route opened", |tx| {
    ///     tx.insert("port", [("code", "SAL"), ("name", "Saltmere Quay")])?;
    ///     tx.insert("route", [("id", 4)])?;
    ///     tx.set_links("route", 4, "stops", ["SAL", "EEL"])
    /// })?;
    /// let snapshot = cache.snapshot();
    /// let route = snapshot.get("route", 4)?.unwrap();
    /// assert_eq!(route.nested(0).as_str(), r#"{"id":4,"stops":["SAL","EEL"]}"#);
    /// let port = r#"{"code":"SAL","name":"Saltmere Quay"}"#;
    /// assert_eq!(route.nested(1).as_str(), format!(r#"{{"id":4,"stops":[{port},"EEL"]}}"#));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn nested(&self, depth: usize) -> Json {
        let mut out = String::new();
        write_row(&mut out, self.state, self.table, self.slot, depth.min(Limits::DEEPEST));
        Json::from_minified(out)
    }

    /// The same of those fields that persist, or of some of them.
    pub(crate) fn stored(&self, is_meant: impl Fn(FieldNo) -> bool) -> Json {
        let mut out = String::from("{");
        let definition = self.state.schema.table(self.table);
        let mut first = true;
        let persists = |field: &FieldNo| definition.field(*field).persist && is_meant(*field);
        for field in definition.field_numbers().filter(persists) {
            let cell = self.state.table(self.table).cell(self.slot, field);
            if cell != Cell::Absent {
                write_name(&mut out, &mut first, &definition.field(field).name);
                write_field(&mut out, self.state, self.table, self.slot, field, 0);
            }
        }
        out.push('}');
        Json::from_minified(out)
    }

    /// One field of it as a JSON text; `None` if it is absent.
    pub(crate) fn nested_field(&self, field: FieldNo) -> Option<String> {
        if self.state.table(self.table).cell(self.slot, field) == Cell::Absent {
            return None;
        }
        let mut out = String::new();
        write_field(&mut out, self.state, self.table, self.slot, field, 0);
        Some(out)
    }
}

impl State {
    /// Fields on their way into a row as a JSON object, in which absent ones are left out.
    #[cfg_attr(not(feature = "remote"), allow(dead_code, reason = "it is for what is sent"))]
    pub(crate) fn staged_json(&self, table: TableNo, fields: &[(FieldNo, Staged<'_>)]) -> String {
        let (mut out, mut first) = (String::from("{"), true);
        let definition = self.schema.table(table);
        for (field, staged) in fields {
            match (staged, definition.field(*field).kind) {
                (Staged::Absent, _) => continue,
                (Staged::Links(targets), FieldKind::Links(entries)) => {
                    write_name(&mut out, &mut first, &definition.field(*field).name);
                    out.push('[');
                    let is_one_of = self.schema.table(entries).field(TARGET).one_of().is_some();
                    for (number, entry) in targets.iter().enumerate() {
                        out.push_str(if number == 0 { "" } else { "," });
                        let cell = match is_one_of {
                            true => Cell::OneOf(entry.table, entry.slot),
                            false => Cell::Link(entry.slot),
                        };
                        let own = entry.fields.iter().flat_map(|fields| fields.iter());
                        let own = own.map(|(field, staged)| (*field, staged.cell()));
                        write_entry(&mut out, self, entries, (cell, own), 0);
                    }
                    out.push(']');
                }
                _ => {
                    write_name(&mut out, &mut first, &definition.field(*field).name);
                    write_cell(&mut out, self, (table, *field), staged.cell(), 0);
                }
            }
        }
        out.push('}');
        out
    }
}

fn write_name(out: &mut String, first: &mut bool, name: &str) {
    out.push_str(if std::mem::take(first) { "" } else { "," });
    write_json_text(out, name);
    out.push(':');
}

fn write_row(out: &mut String, state: &State, table: TableNo, slot: Slot, depth: usize) {
    out.push('{');
    write_fields(out, state, table, slot, depth, true);
    out.push('}');
}

/// Writes the members of a row's object.
fn write_fields(
    out: &mut String,
    state: &State,
    table: TableNo,
    slot: Slot,
    depth: usize,
    mut first: bool,
) {
    let definition = state.schema.table(table);
    for field in definition.field_numbers() {
        if state.table(table).cell(slot, field) == Cell::Absent {
            continue;
        }
        write_name(out, &mut first, &definition.field(field).name);
        write_field(out, state, table, slot, field, depth);
    }
}

fn write_field(
    out: &mut String,
    state: &State,
    table: TableNo,
    slot: Slot,
    field: FieldNo,
    depth: usize,
) {
    let cell = state.table(table).cell(slot, field);
    let kind = state.schema.table(table).field(field).kind;
    if let (FieldKind::Links(entries), Cell::Int(_)) = (kind, cell) {
        let slots = (0..).map_while(|position| state.entry(entries, slot, position));
        out.push('[');
        for (number, entry) in slots.enumerate() {
            out.push_str(if number == 0 { "" } else { "," });
            let rows = state.table(entries);
            let own = state.schema.table(entries).entry_fields();
            let own = own.map(|field| (field, rows.cell(entry, field)));
            write_entry(out, state, entries, (rows.cell(entry, TARGET), own), depth);
        }
        out.push(']');
    } else {
        write_cell(out, state, (table, field), cell, depth);
    }
}

/// Writes an entry of a to-many link: its target, or if the link has fields of its own an object with
/// these.
fn write_entry<'c>(
    out: &mut String,
    state: &State,
    entries: TableNo,
    (target, own): (Cell<'_>, impl Iterator<Item = (FieldNo, Cell<'c>)>),
    depth: usize,
) {
    let definition = state.schema.table(entries);
    if definition.entry_fields().len() == 0 {
        return write_cell(out, state, (entries, TARGET), target, depth);
    }
    out.push('{');
    let mut first = true;
    write_name(out, &mut first, &definition.field(TARGET).name);
    write_cell(out, state, (entries, TARGET), target, depth);
    for (field, cell) in own.filter(|(_, cell)| *cell != Cell::Absent) {
        write_name(out, &mut first, &definition.field(field).name);
        write_cell(out, state, (entries, field), cell, 0);
    }
    out.push('}');
}

/// Writes a value; of a link the row that it points at, if there is depth left and it is loaded.
fn write_cell(
    out: &mut String,
    state: &State,
    (table, field): (TableNo, FieldNo),
    cell: Cell<'_>,
    depth: usize,
) {
    let Some((to, target)) = state.target(table, field, cell) else {
        return write_plain(out, cell);
    };
    let is_here = depth > 0 && state.table(to).is_row(target);
    let one_of = state.schema.table(table).field(field).one_of();
    // A field beside the link says at which table it points; an entry of a list has none.
    let tells = one_of.filter(|_| is_here || field == TARGET && state.schema.is_entries(table));
    // A row that has a field of that name shows it itself.
    let itself = |one_of: &OneOfDef| {
        let field = state.schema.table(to).field_no(&one_of.type_member);
        field.is_some_and(|field| state.table(to).cell(target, field) != Cell::Absent)
    };
    if let Some(one_of) = tells.filter(|one_of| !(is_here && itself(one_of))) {
        out.push('{');
        write_json_text(out, &one_of.type_member);
        out.push(':');
        write_json_text(out, one_of.name(to));
        if is_here {
            write_fields(out, state, to, target, depth - 1, false);
        } else {
            for id in &state.schema.table(to).id {
                out.push(',');
                write_json_text(out, &state.schema.table(to).field(*id).name);
                out.push(':');
                write_cell(out, state, (to, *id), state.table(to).cell(target, *id), 0);
            }
        }
        out.push('}');
    } else if is_here {
        write_row(out, state, to, target, depth - 1);
    } else {
        match state.id(to, target) {
            Some(id) => out.push_str(id.to_id().to_json().as_str()),
            None => out.push_str("null"),
        }
    }
}

fn write_plain(out: &mut String, cell: Cell<'_>) {
    match cell {
        Cell::Int(number) => out.push_str(&number.to_string()),
        Cell::Float(number) => out.push_str(&serde_json::Value::from(number).to_string()),
        Cell::Bool(flag) => out.push_str(if flag { "true" } else { "false" }),
        Cell::Text(text) => write_json_text(out, text),
        Cell::Timestamp(time) => write_json_text(out, &time.to_string()),
        Cell::Json(json) => out.push_str(json),
        Cell::Absent | Cell::Null | Cell::Link(_) | Cell::OneOf(..) => out.push_str("null"),
    }
}
