//! Updates as JSON Patch (RFC 6902) and JSON Merge Patch (RFC 7396): the cache as a document of
//! `{ table: { id: { field: value } } }`, a one-row table as `{ table: { field: value } }`.
//!
//! An id of several parts is its JSON array, as one segment of a pointer. A to-many link is an
//! array of ids; behind a json field a pointer goes on into its value.

mod json_patch;
mod merge_patch;

use std::collections::BTreeMap;

use serde_json::Value as Tree;
use serde_json::value::RawValue;

use crate::change::Transaction;
use crate::error::{Error, ErrorKind, Result, either};
use crate::schema::{FieldDef, FieldKind, FieldNo, Pointer, Schema, TableDef, TableNo, table_set};
use crate::table::{ONLY, Row, Slot, Staged, StagedEntry, StagedRow, TARGET, field_no};
use crate::value::{Document, Json, Named, RowId, Value};

/// The members of a JSON object, as they are spelled.
type Members = BTreeMap<String, Box<RawValue>>;

/// A place in the cache.
struct PatchTarget<'p> {
    table: TableNo,
    /// None in a one-row table.
    id: Option<RowId>,
    field: Option<FieldNo>,
    /// What follows behind the field.
    rest: &'p [String],
}

impl Transaction {
    /// Loads the rows of tables that are named; a name that is no table is reported later.
    fn need_named(&mut self, names: impl Iterator<Item = String>) -> Result<()> {
        if !self.state.has_unready() {
            return Ok(());
        }
        let schema = self.schema();
        let known = names.filter_map(|name| schema.table_no(&name).ok());
        let known = table_set(known);
        self.need(|schema| table_set(known.iter().flat_map(|table| schema.written_with(*table))))
    }

    pub(crate) fn all_or_nothing<T>(
        &mut self,
        write: impl FnOnce(&mut Self) -> Result<T>,
    ) -> Result<T> {
        let (saved, received, gone) = (self.state.clone(), self.received.len(), self.gone.len());
        write(self).inspect_err(|_| {
            self.state = saved;
            self.received.truncate(received);
            self.gone.truncate(gone);
        })
    }

    /// The place that a pointer names.
    fn locate<'p>(&self, schema: &Schema, path: &'p Pointer) -> Result<PatchTarget<'p>> {
        let Some((name, rest)) = path.parts().split_first() else {
            return Err(wrong("this is the whole cache").help("point at a row or a field"));
        };
        let table = schema.table_no(name)?;
        let definition = schema.table(table);
        let (id, rest) = match rest.split_first() {
            _ if definition.is_one_row() => (None, rest),
            Some((id, rest)) => (Some(schema.id(name, id)?), rest),
            None => return Err(wrong("this is a whole table").help("point at one of its rows")),
        };
        let (field, rest) = match rest.split_first() {
            Some((name, rest)) => (Some(field_no(definition, name)?), rest),
            None => (None, rest),
        };
        let goes_on = field.map(|field| definition.field(field).kind);
        if !rest.is_empty() && !matches!(goes_on, Some(FieldKind::Json | FieldKind::Links(_))) {
            return Err(wrong("this field has nothing inside of it"));
        }
        Ok(PatchTarget { table, id, field, rest })
    }

    /// The slot of a place's row, if it is there.
    fn slot_at(&self, place: &PatchTarget<'_>) -> Result<Option<Slot>> {
        let Some(id) = &place.id else { return Ok(Some(ONLY)) };
        let slot = self.state.slot(place.table, id)?;
        Ok(slot.filter(|slot| self.state.table(place.table).is_row(*slot)))
    }

    fn row_at(&self, place: &PatchTarget<'_>) -> Result<Slot> {
        self.slot_at(place)?.ok_or_else(not_there)
    }

    /// Adds a value at a place, in the place of one that is there, as `add` has it.
    fn put(&mut self, path: &Pointer, raw: &str) -> Result<()> {
        let schema = self.schema();
        let place = self.locate(&schema, path)?;
        let Some(field) = place.field else { return self.put_row(&schema, &place, raw) };
        let slot = self.row_at(&place)?;
        if place.rest.is_empty() {
            return self.put_field(&schema, &place, slot, field, raw);
        }
        let value = document(raw)?;
        self.change_inside(&schema, &place, slot, field, |inside| inside.add(place.rest, value))
    }

    /// Changes the inside of a json field or of a to-many link.
    fn change_inside(
        &mut self,
        schema: &Schema,
        place: &PatchTarget<'_>,
        slot: Slot,
        field: FieldNo,
        change: impl FnOnce(&mut Document) -> Option<()>,
    ) -> Result<()> {
        let row = Row { state: &self.state, table: place.table, slot };
        let mut inside = document(&row.nested_field(field).ok_or_else(not_there)?)?;
        change(&mut inside).ok_or_else(not_there)?;
        self.put_field(schema, place, slot, field, &inside.to_string())
    }

    /// Puts a whole row as a JSON object has it.
    pub(crate) fn put_whole_row(
        &mut self,
        table: TableNo,
        id: Option<RowId>,
        raw: &str,
    ) -> Result<()> {
        let schema = self.schema();
        self.put_row(&schema, &PatchTarget { table, id, field: None, rest: &[] }, raw)
    }

    /// Puts a whole row: fields that the value does not have are absent afterwards.
    fn put_row(&mut self, schema: &Schema, place: &PatchTarget<'_>, raw: &str) -> Result<()> {
        let definition = schema.table(place.table);
        let members: Members = parsed(raw, &format!("a \"{}\" row is an object", definition.name))?;
        let slot = match &place.id {
            None => ONLY,
            Some(id) => self.state.refer_id(place.table, id)?,
        };
        let named =
            |field: &FieldNo| members.keys().any(|name| definition.field_no(name) == Some(*field));
        let absent = definition.field_numbers().filter(|field| {
            let typed_with_link = definition.link_typed_by(*field).is_some_and(|link| named(&link));
            !definition.id.contains(field) && !named(field) && !typed_with_link
        });
        let absent: StagedRow<'_> = absent.map(|field| (field, Staged::Absent)).collect();
        for (field, staged) in &absent {
            if let Some(message) = staged.misfit(definition.field(*field)) {
                let place = definition.field(*field).name.to_string();
                return Err(Error::new(ErrorKind::Type, message).at(place));
            }
        }
        self.merge_row(place.table, slot, &absent);
        self.put_members(schema, place.table, slot, &members)
    }

    fn put_field(
        &mut self,
        schema: &Schema,
        place: &PatchTarget<'_>,
        slot: Slot,
        field: FieldNo,
        raw: &str,
    ) -> Result<()> {
        let name = schema.table(place.table).field(field).name.to_string();
        self.put_members(schema, place.table, slot, &Members::from([(name, raw_text(raw)?)]))
    }

    /// Writes members of an object into the fields of a row.
    fn put_members(
        &mut self,
        schema: &Schema,
        table: TableNo,
        slot: Slot,
        members: &Members,
    ) -> Result<()> {
        let staged = self.staged_members(schema, table, slot, members)?;
        self.merge_row(table, slot, &staged);
        Ok(())
    }

    /// The members of a JSON object on their way into a row; those that the table no longer has, or
    /// that do not fit it any more, are left out.
    #[cfg(feature = "remote")]
    pub(crate) fn staged_known(
        &mut self,
        table: TableNo,
        slot: Slot,
        raw: &str,
    ) -> StagedRow<'static> {
        let schema = self.schema();
        let members: Members = serde_json::from_str(raw).unwrap_or_default();
        let all = self.staged_members(&schema, table, slot, &members);
        all.unwrap_or_else(|_| {
            let each = members.into_iter().map(|(name, raw)| Members::from([(name, raw)]));
            let staged =
                each.filter_map(|one| self.staged_members(&schema, table, slot, &one).ok());
            staged.flatten().collect()
        })
    }

    fn staged_members(
        &mut self,
        schema: &Schema,
        table: TableNo,
        slot: Slot,
        members: &Members,
    ) -> Result<StagedRow<'static>> {
        let definition = schema.table(table);
        let (mut fields, mut lists) = (Vec::new(), StagedRow::new());
        for (name, raw) in members {
            let field = field_no(definition, name)?;
            let said = definition.field(field);
            let value = match said.kind {
                FieldKind::Links(entries) if raw.get() != "null" => {
                    let entries = self.entries(schema, entries, raw.get());
                    let entries = entries.map_err(|error| error.at(name))?;
                    lists.push((field, Staged::Links(entries)));
                    continue;
                }
                FieldKind::Links(_) => {
                    lists.push((field, Staged::Null));
                    continue;
                }
                _ => value_of(schema, definition, said, raw.get()),
            };
            fields.push((name.as_str(), value.map_err(|error| error.at(name))?));
        }
        let fields: Named = fields.into_iter().collect();
        let staged = self.staged(table, slot, &fields)?.into_iter();
        let staged = staged.map(|(field, staged)| (field, staged.into_owned()));
        Ok(staged.chain(lists).collect())
    }

    /// The entries of a to-many link.
    fn entries(
        &mut self,
        schema: &Schema,
        entries: TableNo,
        raw: &str,
    ) -> Result<Vec<StagedEntry>> {
        let has_fields = schema.table(entries).entry_fields().len() > 0;
        let expected = match has_fields {
            true => "a to-many link with fields is an array of objects",
            false => "a to-many link is an array of ids",
        };
        let field = schema.table(entries).field(TARGET);
        let listed: Vec<Box<RawValue>> = parsed(raw, expected)?;
        let found = listed.iter().enumerate().map(|(number, raw)| {
            let found = match has_fields {
                true => self.entry(schema, entries, raw.get()),
                false => self.target(schema, field, raw.get()).map(StagedEntry::from),
            };
            found.map_err(|error| error.at(format!("/{number}")))
        });
        found.collect()
    }

    /// An entry of a link that has fields of its own; those that it lacks are absent.
    fn entry(&mut self, schema: &Schema, entries: TableNo, raw: &str) -> Result<StagedEntry> {
        let definition = schema.table(entries);
        let members: Members = parsed(raw, "this is an object with the `target` of an entry")?;
        let name = &*definition.field(TARGET).name;
        let target = members.get(name).ok_or_else(|| wrong(format!("this has no \"{name}\"")))?;
        let target = self.target(schema, definition.field(TARGET), target.get());
        let target = target.map_err(|error| error.at(name))?;
        if let Some(unknown) = members.keys().find(|name| {
            let own = definition.field_no(name);
            own.is_none_or(|own| own != TARGET && !definition.entry_fields().any(|it| it == own))
        }) {
            return Err(wrong(format!("the link has no field \"{unknown}\"")));
        }
        let own = definition.entry_fields().map(|field| {
            let said = definition.field(field);
            let Some(raw) = members.get(&*said.name) else { return Ok((field, Staged::Absent)) };
            let value = value_of(schema, definition, said, raw.get())
                .and_then(|value| Ok(self.stage(schema, said, &value)?.into_owned()));
            let value = value.map_err(|error| error.at(&*said.name))?;
            match value.misfit(said) {
                Some(message) => Err(wrong(message).at(&*said.name)),
                None => Ok((field, value)),
            }
        });
        let fields = Some(own.collect::<Result<_>>()?);
        Ok(StagedEntry { fields, ..target.into() })
    }

    fn target(&mut self, schema: &Schema, field: &FieldDef, raw: &str) -> Result<(TableNo, Slot)> {
        let (to, id) = match (field.kind, field.one_of()) {
            (FieldKind::Link(to), _) => (to, RowId::from_json(&Json::parse(raw)?)?),
            (_, Some(one_of)) => {
                let members: Members = parsed(raw, "this is an object that tells its table")?;
                let type_name =
                    members.get(&*one_of.type_member).map(|raw| tree(raw.get())).transpose()?;
                let to = type_name.as_ref().and_then(|type_name| one_of.table(type_name.as_str()?));
                let to = to.ok_or_else(|| {
                    let member = &one_of.type_member;
                    wrong(format!("\"{member}\" is none of {}", either(&one_of.names())))
                })?;
                let definition = schema.table(to);
                let part = |field: &FieldNo| members.get(&*definition.field(*field).name);
                let parts = definition.id.iter().map(|field| {
                    let raw = part(field).ok_or_else(|| wrong("this has no id"))?;
                    RowId::from_json(&Json::parse(raw.get())?)
                });
                let parts: Vec<RowId> = parts.collect::<Result<_>>()?;
                match <[RowId; 1]>::try_from(parts) {
                    Ok([only]) => (to, only),
                    Err(parts) => (to, RowId::Parts(parts.into())),
                }
            }
            _ => return Err(wrong("this is no link")),
        };
        let expected = || {
            let expected = schema.id_form(to);
            Error::new(ErrorKind::Type, format!("found {raw}, expected {expected}"))
        };
        let id = schema.fitted(to, id).ok_or_else(expected)?;
        Ok((to, self.state.refer_id(to, &id)?))
    }
}

/// The value that a JSON text is for a field.
fn value_of(schema: &Schema, table: &TableDef, field: &FieldDef, raw: &str) -> Result<Value> {
    if raw == "null" {
        return Ok(Value::Null);
    }
    let json = Json::parse(raw)?;
    let id = |to: Option<TableNo>| {
        let id = RowId::from_json(&json)?;
        Ok(Value::from(to.and_then(|to| schema.fitted(to, id.clone())).unwrap_or(id)))
    };
    match (field.kind, tree(raw)?) {
        (FieldKind::Json, _) => Ok(Value::Json(json)),
        (FieldKind::Link(to), _) => id(Some(to)),
        (FieldKind::OneOf, _) => id(None),
        // An id takes digits for a number, and the other way round.
        (FieldKind::Int, Tree::String(text)) if is_id(table, field) => {
            Ok(crate::schema::whole(&text).map_or(Value::from(text), Value::Int))
        }
        (FieldKind::Text, Tree::Number(number)) if is_id(table, field) => {
            Ok(number.to_string().into())
        }
        (_, Tree::Bool(flag)) => Ok(Value::Bool(flag)),
        (_, Tree::String(text)) => Ok(Value::from(text)),
        (_, Tree::Number(number)) => match (number.as_i64(), number.as_f64()) {
            (Some(number), _) => Ok(Value::Int(number)),
            (_, Some(number)) => Ok(Value::Float(number)),
            _ => Err(wrong(format!("{number} is beyond binary64"))),
        },
        (_, other) => Err(Error::new(
            ErrorKind::Type,
            format!("found {other}, expected {}", schema.kind_of(field)),
        )),
    }
}

fn is_id(table: &TableDef, field: &FieldDef) -> bool {
    table.id.iter().any(|id| table.field(*id).name == field.name)
}

fn wrong(message: impl Into<String>) -> Error {
    Error::new(ErrorKind::Response, message)
}

fn not_there() -> Error {
    wrong("there is nothing here").help("`add` makes what is not there yet")
}

fn parsed<'t, T: serde::Deserialize<'t>>(text: &'t str, expected: &str) -> Result<T> {
    serde_json::from_str(text).map_err(|error| {
        Error::new(ErrorKind::Response, format!("{expected}: {error}")).caused_by(error)
    })
}

fn tree(text: &str) -> Result<Tree> {
    parsed(text, "this is not JSON")
}

fn document(text: &str) -> Result<Document> {
    Document::parse(text).map_err(|error| {
        Error::new(ErrorKind::Response, format!("this is not JSON: {error}")).caused_by(error)
    })
}

fn raw_text(text: &str) -> Result<Box<RawValue>> {
    RawValue::from_string(text.to_owned()).map_err(|error| wrong(error.to_string()))
}
