//! Updates as JSON Patch (RFC 6902) and JSON Merge Patch (RFC 7396): the cache as a document of
//! `{ table: { id: { field: value } } }`, a one-row table as `{ table: { field: value } }`.
//!
//! An id of several parts is its JSON array, as one segment of a pointer. A to-many link is an
//! array of ids; behind a json field a pointer goes on into its value.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value as Tree;
use serde_json::value::RawValue;

use crate::change::{Staged, StagedRow, Transaction};
use crate::error::{Error, ErrorKind, Result, either, nearest};
use crate::schema::{Field, FieldNo, Kind, Pointer, Schema, Table, TableNo};
use crate::table::{ONLY, Row, Slot, TARGET, field_no};
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
    /// Applies a JSON Patch (RFC 6902), all of its operations or none. Its pointers are
    /// `/table/id`, `/table/id/field`, and `/table/field` in a one-row table.
    ///
    /// An id of several parts is written as a JSON array. `/table/id/links/0` and `…/-` are entries
    /// of a to-many link. `remove` makes a field absent, and `replace` with null sets null.
    ///
    /// # Errors
    /// [`ErrorKind::Response`] if the patch is not one, points at what is not there, or a test
    /// fails, with the operation's place in it; else as [`Transaction::update`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.sailing = { id = "id", fields = { id = "int", status = "text", delay_min = "int" } }
    /// # "#)?);
    /// cache.commit("sailings announced", |tx| tx.json_patch(r#"[
    ///     { "op": "add", "path": "/sailing/311", "value": { "status": "on time" } },
    ///     { "op": "add", "path": "/sailing/312", "value": { "status": "on time" } }
    /// ]"#))?;
    /// cache.commit("a live change", |tx| tx.json_patch(r#"[
    ///     { "op": "test", "path": "/sailing/311/status", "value": "on time" },
    ///     { "op": "replace", "path": "/sailing/311/status", "value": "delayed" },
    ///     { "op": "add", "path": "/sailing/311/delay_min", "value": 15 },
    ///     { "op": "remove", "path": "/sailing/312" }
    /// ]"#))?;
    /// let snapshot = cache.snapshot();
    /// assert_eq!(snapshot.get("sailing", 311)?.unwrap().get("delay_min")?, Some(Value::Int(15)));
    /// assert_eq!(snapshot.count("sailing")?, 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn json_patch(&mut self, patch: impl AsRef<[u8]>) -> Result<()> {
        let text = super::utf8(patch.as_ref())?;
        let operations: Vec<Members> = parsed(text, "a JSON Patch is an array of operations")?;
        self.need_named(operations.iter().flat_map(|operation| {
            let paths = ["path", "from"].into_iter().filter_map(|name| operation.get(name));
            let paths = paths.filter_map(|raw| serde_json::from_str::<String>(raw.get()).ok());
            paths.filter_map(|path| Some(path.split('/').nth(1)?.to_owned()))
        }))?;
        self.all_or_nothing(|tx| {
            for (number, operation) in operations.iter().enumerate() {
                tx.operate(operation).map_err(|error| error.at(format!("/{number}")))?;
            }
            Ok(())
        })
    }

    /// Applies a JSON Merge Patch (RFC 7396), all of it or nothing. Null makes a field absent and
    /// deletes a row; to set a field null, use [`Transaction::json_patch`].
    ///
    /// # Errors
    /// [`ErrorKind::Response`] if the patch is not one; else as [`Transaction::update`], with the
    /// JSON Pointer of what does not fit.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.sailing = { id = "id", fields = { id = "int", status = "text", delay_min = "int" } }
    /// # "#)?);
    /// cache.commit("live changes", |tx| tx.merge_patch(r#"{ "sailing": {
    ///     "311": { "status": "delayed", "delay_min": 15 },
    ///     "312": null
    /// } }"#))?;
    /// cache.commit("in time again", |tx| tx.merge_patch(r#"{ "sailing": { "311": { "delay_min": null } } }"#))?;
    /// assert_eq!(cache.snapshot().get("sailing", 311)?.unwrap().get("delay_min")?, None);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn merge_patch(&mut self, patch: impl AsRef<[u8]>) -> Result<()> {
        let text = super::utf8(patch.as_ref())?;
        let expected = "a merge patch of a cache is an object of tables";
        let tables: Members = parsed(text, expected)?;
        self.need_named(tables.keys().cloned())?;
        self.all_or_nothing(|tx| {
            let schema = tx.schema();
            for (name, rows) in &tables {
                let table = schema.table_no(name).map_err(|error| error.at(format!("/{name}")))?;
                if schema.table(table).is_one_row() {
                    tx.merge_fields(table, None, rows)
                        .map_err(|error| error.at(format!("/{name}")))?;
                    continue;
                }
                let rows: Members = parsed(rows.get(), "an object of rows by their ids")
                    .map_err(|error| error.at(format!("/{name}")))?;
                for (id, fields) in &rows {
                    let merged = schema.id(name, id).and_then(|id| {
                        if fields.get() == "null" {
                            let slot = tx.slot_at(&PatchTarget {
                                table,
                                id: Some(id),
                                field: None,
                                rest: &[],
                            })?;
                            return slot.map_or(Ok(()), |slot| tx.delete_row(table, slot));
                        }
                        tx.merge_fields(table, Some(id), fields)
                    });
                    merged.map_err(|error| {
                        let mut place = format!("/{name}");
                        let _ = crate::schema::write_part(&mut place, id);
                        error.at(place)
                    })?;
                }
            }
            Ok(())
        })
    }

    /// Loads the rows of tables that are named; a name that is no table is reported later.
    fn need_named(&mut self, names: impl Iterator<Item = String>) -> Result<()> {
        if !self.state.has_unready() {
            return Ok(());
        }
        let schema = self.schema();
        let known = names.filter_map(|name| schema.table_no(&name).ok());
        let known: BTreeSet<TableNo> = known.collect();
        self.need(|schema| known.iter().flat_map(|table| schema.written_with(*table)).collect())
    }

    pub(crate) fn all_or_nothing<T>(
        &mut self,
        write: impl FnOnce(&mut Self) -> Result<T>,
    ) -> Result<T> {
        let (saved, received) = (self.state.clone(), self.received.len());
        write(self).inspect_err(|_| {
            self.state = saved;
            self.received.truncate(received);
        })
    }

    /// Carries out one operation of a JSON Patch.
    fn operate(&mut self, operation: &Members) -> Result<()> {
        let text = |name: &str| -> Result<String> {
            let raw = operation.get(name);
            let raw = raw.ok_or_else(|| wrong(format!("the operation has no \"{name}\"")))?;
            parsed(raw.get(), &format!("\"{name}\" is a string"))
        };
        let pointer = |name: &str| Pointer::parse(&text(name)?).map_err(wrong);
        let value = || {
            let raw = operation.get("value").map(|raw| raw.get().to_owned());
            raw.ok_or_else(|| wrong("the operation has no \"value\""))
        };
        let (op, path) = (text("op")?, pointer("path")?);
        let done = match op.as_str() {
            "add" => self.put(&path, &value()?),
            "replace" => self.there(&path).and_then(|_| self.replace(&path, &value()?)),
            "remove" => self.take(&path).map(|_| ()),
            "copy" => self.there(&pointer("from")?).and_then(|value| self.put(&path, &value)),
            "move" => {
                let from = pointer("from")?;
                let (inside, of) = (path.parts(), from.parts());
                if inside.len() > of.len() && inside.starts_with(of) {
                    return Err(wrong("nothing can be moved into itself"));
                }
                self.take(&from).and_then(|value| self.put(&path, &value))
            }
            "test" => self.there(&path).and_then(|found| {
                let (found, wanted) = (document(&found)?, document(&value()?)?);
                if found.is_same(&wanted) {
                    return Ok(());
                }
                Err(wrong(format!("the test failed: found {found}, expected {wanted}")))
            }),
            other => {
                let known = ["add", "remove", "replace", "move", "copy", "test"];
                let message =
                    format!("there is no operation \"{other}\"; expected {}", either(&known));
                return Err(wrong(message).help(nearest(other, known)));
            }
        };
        done.map_err(|error| error.at(path))
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
        if !rest.is_empty() && !matches!(goes_on, Some(Kind::Json | Kind::Links(_))) {
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

    /// The JSON text of what is at a place, which must be there.
    fn there(&self, path: &Pointer) -> Result<String> {
        let schema = self.schema();
        let place = self.locate(&schema, path)?;
        let slot = self.row_at(&place)?;
        let row = Row { state: &self.state, table: place.table, slot };
        let Some(field) = place.field else { return Ok(row.nested(0).as_str().to_owned()) };
        let text = row.nested_field(field).ok_or_else(not_there)?;
        if place.rest.is_empty() {
            return Ok(text);
        }
        let mut inside = document(&text)?;
        inside.at(place.rest).map(|found| found.to_string()).ok_or_else(not_there)
    }

    /// Takes away what is at a place, which must be there; gives its JSON text.
    fn take(&mut self, path: &Pointer) -> Result<String> {
        let found = self.there(path)?;
        let schema = self.schema();
        let place = self.locate(&schema, path)?;
        let slot = self.row_at(&place)?;
        match place.field {
            None if place.id.is_none() => {
                return Err(wrong("the row of a one-row table is always there"));
            }
            None => self.delete_row(place.table, slot)?,
            Some(field) if place.rest.is_empty() => {
                self.make_absent(&schema, &place, slot, field)?
            }
            Some(field) => self
                .change_inside(&schema, &place, slot, field, |inside| inside.remove(place.rest))?,
        }
        Ok(found)
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

    /// As [`Self::put`], but an element takes the place of another.
    fn replace(&mut self, path: &Pointer, raw: &str) -> Result<()> {
        let schema = self.schema();
        let place = self.locate(&schema, path)?;
        match place.field {
            Some(field) if !place.rest.is_empty() => {
                let (slot, value) = (self.row_at(&place)?, document(raw)?);
                self.change_inside(&schema, &place, slot, field, |inside| {
                    *inside.at(place.rest)? = value;
                    Some(())
                })
            }
            _ => self.put(path, raw),
        }
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

    /// Merges the members of an object into a row, as a merge patch has it.
    fn merge_fields(&mut self, table: TableNo, id: Option<RowId>, raw: &RawValue) -> Result<()> {
        let schema = self.schema();
        let definition = schema.table(table);
        let expected = format!("a \"{}\" row is an object", definition.name);
        let mut members: Members = parsed(raw.get(), &expected)?;
        let slot = match &id {
            None => ONLY,
            Some(id) => self.state.refer_id(table, id)?,
        };
        let place = PatchTarget { table, id, field: None, rest: &[] };
        // The row is there from now on, with or without fields.
        self.merge_row(table, slot, &[]);
        let mut gone = Vec::new();
        for (name, value) in &mut members {
            let field = field_no(definition, name)?;
            if value.get() == "null" {
                gone.push(name.clone());
                self.make_absent(&schema, &place, slot, field).map_err(|error| error.at(name))?;
            } else if definition.field(field).kind == Kind::Json {
                let row = Row { state: &self.state, table, slot };
                let before = row.nested_field(field).map(|text| document(&text)).transpose()?;
                let merged = Document::merged(before, document(value.get())?);
                *value = raw_text(&merged.to_string())?;
            }
        }
        members.retain(|name, _| !gone.contains(name));
        self.put_members(&schema, table, slot, &members)
    }

    fn make_absent(
        &mut self,
        schema: &Schema,
        place: &PatchTarget<'_>,
        slot: Slot,
        field: FieldNo,
    ) -> Result<()> {
        let definition = schema.table(place.table);
        let said = definition.field(field);
        if definition.id.contains(&field) {
            return Err(Error::new(ErrorKind::Row, "a row keeps its id"));
        }
        if let Some(link) = definition.link_typed_by(field) {
            let link = &definition.field(link).name;
            return Err(wrong(format!("this says at which table \"{link}\" points"))
                .help(format!("take \"{link}\" away, and this goes with it")));
        }
        if let Some(message) = Staged::Absent.misfit(said) {
            return Err(Error::new(ErrorKind::Type, message));
        }
        let type_cell = said.one_of().map(|one_of| (one_of.type_field, Staged::Absent));
        let fields: StagedRow<'_> =
            [(field, Staged::Absent)].into_iter().chain(type_cell).collect();
        self.merge_row(place.table, slot, &fields);
        Ok(())
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
        let definition = schema.table(table);
        let (mut fields, mut lists) = (Vec::new(), StagedRow::new());
        for (name, raw) in members {
            let field = field_no(definition, name)?;
            let said = definition.field(field);
            let value = match said.kind {
                Kind::Links(entries) if raw.get() != "null" => {
                    let targets = self.targets(schema, entries, raw.get());
                    let targets = targets.map_err(|error| error.at(name))?;
                    lists.push((field, Staged::Links(targets)));
                    continue;
                }
                Kind::Links(_) => {
                    lists.push((field, Staged::Null));
                    continue;
                }
                _ => value_of(schema, definition, said, raw.get()),
            };
            fields.push((name.as_str(), value.map_err(|error| error.at(name))?));
        }
        let fields: Named = fields.into_iter().collect();
        self.write(table, slot, &fields)?;
        if !lists.is_empty() {
            self.merge_row(table, slot, &lists);
        }
        Ok(())
    }

    /// The targets of a to-many link.
    fn targets(
        &mut self,
        schema: &Schema,
        entries: TableNo,
        raw: &str,
    ) -> Result<Vec<(TableNo, Slot)>> {
        let field = schema.table(entries).field(TARGET);
        let listed: Vec<Box<RawValue>> = parsed(raw, "a to-many link is an array of ids")?;
        let targets = listed.iter().enumerate().map(|(number, raw)| {
            let found = self.target(schema, field, raw.get());
            found.map_err(|error| error.at(format!("/{number}")))
        });
        targets.collect()
    }

    fn target(&mut self, schema: &Schema, field: &Field, raw: &str) -> Result<(TableNo, Slot)> {
        let (to, id) = match (field.kind, field.one_of()) {
            (Kind::Link(to), _) => (to, RowId::from_json(&Json::parse(raw)?)?),
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
fn value_of(schema: &Schema, table: &Table, field: &Field, raw: &str) -> Result<Value> {
    if raw == "null" {
        return Ok(Value::Null);
    }
    let json = Json::parse(raw)?;
    let id = |to: Option<TableNo>| {
        let id = RowId::from_json(&json)?;
        Ok(Value::from(to.and_then(|to| schema.fitted(to, id.clone())).unwrap_or(id)))
    };
    match (field.kind, tree(raw)?) {
        (Kind::Json, _) => Ok(Value::Json(json)),
        (Kind::Link(to), _) => id(Some(to)),
        (Kind::OneOf, _) => id(None),
        // An id takes digits for a number, and the other way round.
        (Kind::Int, Tree::String(text)) if is_id(table, field) => {
            Ok(crate::schema::whole(&text).map_or(Value::from(text), Value::Int))
        }
        (Kind::Text, Tree::Number(number)) if is_id(table, field) => Ok(number.to_string().into()),
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

fn is_id(table: &Table, field: &Field) -> bool {
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
