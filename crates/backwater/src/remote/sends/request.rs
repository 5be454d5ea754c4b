//! The request by which a change goes to its server.

use serde_json::Value as Tree;

use super::queue::{MadeRequest, SendEntry};
use crate::error::{Error, ErrorKind, Result};
use crate::remote::inner::RemoteInner;
use crate::remote::url;
use crate::schema::{FieldDef, FieldKind, FieldNo, IfMatch, Pointer, SendBody, SendRule, TableDef};
use crate::table::{Cell, Edit, Row, Slot, Staged, State, TARGET};
use crate::value::Timestamp;

/// What a change is about, with its values: those that it writes, over what is below it.
struct Subject<'s> {
    state: &'s State,
    table: crate::schema::TableNo,
    slot: Slot,
    edit: Option<&'s Edit>,
    /// Whether its id is not the server's.
    is_local: bool,
}

impl Subject<'_> {
    /// A field's value as the server writes it; `None` if it is absent.
    fn value(&self, field: FieldNo) -> Option<Tree> {
        let value = self.own_value(field)?;
        let field = self.state.schema.table(self.table).field(field);
        Some(match (field.kind, value) {
            (FieldKind::Links(entries), Tree::Array(listed)) => {
                let entries = self.state.schema.table(entries);
                listed.into_iter().map(|entry| written_entry(entries, entry)).collect()
            }
            (_, value) => written(field, value),
        })
    }

    /// The same as this library writes it.
    fn own_value(&self, field: FieldNo) -> Option<Tree> {
        let written = self.edit.into_iter().flat_map(Edit::fields);
        let written = written.into_iter().find(|(written, _)| *written == field);
        let text = match written {
            Some((_, Staged::Absent)) => return None,
            Some(one) => {
                let object = self.state.staged_json(self.table, std::slice::from_ref(one));
                let object: Tree = serde_json::from_str(&object).ok()?;
                return object.as_object()?.values().next().cloned();
            }
            None => Row { state: self.below(), table: self.table, slot: self.slot }
                .nested_field(field)?,
        };
        serde_json::from_str(&text).ok()
    }

    /// The version that has the row as it is below pending changes.
    fn below(&self) -> &State {
        let overlay = self.state.overlay.as_deref();
        let base = overlay.and_then(|overlay| overlay.below((self.table, self.slot)));
        // A row that only pending changes make has its id there all the same.
        base.map_or(self.state, |base| base)
    }

    /// Whether the row below has a value in a field.
    fn had(&self, field: FieldNo) -> bool {
        let below = self.below().table(self.table);
        below.is_row(self.slot) && below.cell(self.slot, field) != Cell::Absent
    }

    /// Its id fields are of its slot, whether or not its row is there.
    fn id_part(&self, field: FieldNo) -> Option<Tree> {
        let row = Row { state: self.state, table: self.table, slot: self.slot };
        serde_json::from_str(&row.nested_field(field)?).ok()
    }

    fn named(&self, name: &str) -> Option<Tree> {
        let definition = self.state.schema.table(self.table);
        let field = definition.field_no(name)?;
        match definition.id.contains(&field) {
            true => self.id_part(field),
            false => self.value(field),
        }
    }
}

impl RemoteInner {
    /// The request of a change.
    ///
    /// # Errors
    /// If the rule asks for a value that there is not.
    pub(in crate::remote) fn request_of_send(
        &self,
        entry: &SendEntry,
        rule: &SendRule,
        state: &State,
    ) -> Result<MadeRequest> {
        let subject = entry.order.about.map(|(table, slot)| {
            let rows = entry.order.change.rows.iter();
            let edit = rows.filter(|row| (row.table, row.slot) == (table, slot));
            let row = edit.into_iter().next();
            let (edit, is_local) = (row.map(|row| &row.edit), row.is_some_and(|row| row.is_local));
            Subject { state, table, slot, edit, is_local }
        });
        let value = |name: &str| -> Option<Tree> {
            let given = entry.order.variables.iter().find(|(known, _)| known == name);
            given
                .map(|(_, value)| Tree::from(value.as_str()))
                .or_else(|| subject.as_ref()?.named(name))
        };
        let mut variables = Vec::new();
        for name in rule.url.variables() {
            match value(name) {
                Some(Tree::Null) | None => {}
                Some(Tree::String(text)) => variables.push((name.into(), text.into())),
                Some(other) => variables.push((name.into(), other.to_string().into())),
            }
        }
        let lacking = rule.url.in_path().find(|name| !variables.iter().any(|(n, _)| *n == **name));
        if let Some(name) = lacking {
            let message = format!("send rule \"{}\" has no value for \"{name}\"", rule.name);
            return Err(Error::new(ErrorKind::Parameter, message)
                .help("give it by `send_with`, or take a field of the row"));
        }
        let url = url::expand(&self.base, &rule.url, &variables)?;
        let body = match (&rule.body, &subject) {
            (SendBody::Nothing, _) => None,
            (SendBody::Template(template), _) => Some(filled(template, &value)),
            (_, None) => None,
            (SendBody::Row, Some(subject)) => Some(row(subject)),
            (SendBody::Changes, Some(subject)) => Some(merge_patch(subject)),
            (SendBody::Patch, Some(subject)) => Some(json_patch(subject)),
        };
        let if_match = match &rule.if_match {
            Some(IfMatch::Field(name)) => {
                let below = subject.as_ref().and_then(|subject| {
                    let field = state.schema.table(subject.table).field_no(name)?;
                    let row =
                        Row { state: subject.below(), table: subject.table, slot: subject.slot };
                    serde_json::from_str::<Tree>(&row.nested_field(field)?).ok()
                });
                below.filter(|value| !value.is_null()).map(|value| match value {
                    Tree::String(text) => format!("\"{text}\""),
                    other => format!("\"{other}\""),
                })
            }
            Some(IfMatch::EntityTag) => self.entity_tag(rule, &variables),
            None => None,
        };
        Ok(MadeRequest { url, body: body.map(|body| body.to_string()), if_match })
    }

    /// The entity tag of the answer that a rule's request would replace.
    fn entity_tag(
        &self,
        rule: &SendRule,
        variables: &[(compact_str::CompactString, compact_str::CompactString)],
    ) -> Option<String> {
        let answer = rule.answer.as_deref()?;
        let schema = self.schema();
        let (_, template) = schema.askable(answer).ok()?;
        let of_answer = variables
            .iter()
            .filter(|(name, _)| template.variables().any(|known| known == name.as_str()));
        let of_answer = of_answer.map(|(name, value)| (name.to_string(), value.to_string()));
        let key = self.key(answer, of_answer, &[]);
        let known = self.engine().known(&key)?;
        let validators = known.validators.as_ref().and_then(crate::remote::answer::read)?;
        let tag = validators.fields.iter().find(|(name, _)| *name == http::header::ETAG);
        tag.and_then(|(_, tag)| tag.to_str().ok().map(str::to_owned))
    }
}

/// A value of a field as the server writes it.
fn written(field: &FieldDef, value: Tree) -> Tree {
    let time = || Some((field.epoch?, value.as_str()?.parse::<Timestamp>().ok()?));
    match time() {
        Some((epoch, time)) => Tree::from(time.as_micros() / epoch.micros()),
        None => value,
    }
}

/// An entry of a to-many link as the server writes it: if the link has fields of its own an object
/// in which they and the target have their places.
fn written_entry(entries: &TableDef, entry: Tree) -> Tree {
    if entries.entry_fields().len() == 0 {
        return entry;
    }
    let Tree::Object(mut members) = entry else { return entry };
    let mut out = Tree::Object(serde_json::Map::new());
    let target = entries.field(TARGET);
    let record = target.link.as_ref().map_or(&[][..], |link| &link.record);
    let places = entries.entry_fields().map(|field| entries.field(field));
    let places = places.map(|field| (field, field.from.clone()));
    for (field, at) in [(target, Pointer::of(record))].into_iter().chain(places) {
        if let Some(value) = members.remove(&*field.name) {
            put(&mut out, &at, written(field, value));
        }
    }
    out
}

/// Puts a value at a place of an object, which is made on the way.
fn put(tree: &mut Tree, at: &Pointer, value: Tree) {
    let mut place = tree;
    for part in at.parts() {
        if !place.is_object() {
            *place = Tree::Object(serde_json::Map::new());
        }
        let Tree::Object(members) = place else { return };
        place = members.entry(part.as_str()).or_insert(Tree::Null);
    }
    *place = value;
}

/// The whole row.
fn row(subject: &Subject<'_>) -> Tree {
    let definition = subject.state.schema.table(subject.table);
    let mut tree = Tree::Object(serde_json::Map::new());
    for field in definition.field_numbers() {
        let value = match definition.id.contains(&field) {
            true if subject.is_local => None,
            true => subject.id_part(field),
            false => subject.value(field),
        };
        if let Some(value) = value {
            put(&mut tree, &definition.field(field).from, value);
        }
    }
    tree
}

/// The changed fields; one that is absent now is null, as RFC 7396 has it.
fn merge_patch(subject: &Subject<'_>) -> Tree {
    let definition = subject.state.schema.table(subject.table);
    let mut tree = Tree::Object(serde_json::Map::new());
    for (field, _) in subject.edit.into_iter().flat_map(Edit::fields) {
        let value = subject.value(*field).unwrap_or(Tree::Null);
        put(&mut tree, &definition.field(*field).from, value);
    }
    tree
}

/// The changed fields, an operation each.
fn json_patch(subject: &Subject<'_>) -> Tree {
    let definition = subject.state.schema.table(subject.table);
    let operations = subject.edit.into_iter().flat_map(Edit::fields).map(|(field, _)| {
        let path = definition.field(*field).from.to_string();
        match subject.value(*field) {
            None => serde_json::json!({ "op": "remove", "path": path }),
            Some(value) => {
                let op = if subject.had(*field) { "replace" } else { "add" };
                serde_json::json!({ "op": op, "path": path, "value": value })
            }
        }
    });
    operations.collect()
}

/// A template with values in the place of `":name"`; one that there is not is null.
fn filled(template: &Tree, value: &impl Fn(&str) -> Option<Tree>) -> Tree {
    match template {
        Tree::String(text) => match text.strip_prefix(':') {
            Some(name) => value(name).unwrap_or(Tree::Null),
            None => template.clone(),
        },
        Tree::Array(list) => list.iter().map(|inside| filled(inside, value)).collect(),
        Tree::Object(members) => {
            let members =
                members.iter().map(|(name, inside)| (name.clone(), filled(inside, value)));
            Tree::Object(members.collect())
        }
        other => other.clone(),
    }
}
