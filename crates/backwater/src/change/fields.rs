//! Fields as a caller gives them, on their way into a row: the row's id, and each value checked.

use std::sync::Arc;

use super::Transaction;
use crate::error::{Error, ErrorKind, Result, either};
use crate::schema::{FieldDef, FieldKind, FieldNo, IdType, OneOfDef, Schema, TableDef, TableNo};
use crate::table::{Cell, Slot, field_no};
use crate::table::{Staged, StagedRow, checked_text};
use crate::value::{Json, Named, RowId, Value};

impl Transaction {
    /// The slot of the id that is among the given fields.
    pub(super) fn slot_in(&mut self, table: TableNo, fields: &Named) -> Result<Slot> {
        let schema = self.schema();
        let definition = schema.table(table);
        if definition.is_one_row() {
            return Err(Error::new(
                ErrorKind::Row,
                format!("\"{}\" is a one-row table, whose row is always there", definition.name),
            )
            .help("write its fields with `set`"));
        }
        let mut parts = Vec::new();
        for field in &definition.id {
            let given = fields.iter().filter(|(name, _)| definition.field_no(name) == Some(*field));
            let place = place(definition, *field);
            let Some((_, value)) = given.last() else {
                return Err(Error::new(ErrorKind::Row, "a row needs its id")
                    .at(place)
                    .help("give this field too"));
            };
            let part = self.id_of(definition.field(*field), value);
            let part = part.map_err(|error| error.at(&place))?;
            match self.misfit(definition.field(*field), value, &part) {
                Some(message) => return Err(Error::new(ErrorKind::Type, message).at(place)),
                None => parts.push(part),
            }
        }
        let id = match <[RowId; 1]>::try_from(parts) {
            Ok([only]) => only,
            Err(parts) => RowId::Parts(parts.into()),
        };
        self.state.refer_id(table, &id)
    }

    /// What is wrong with a part of an id in its field.
    fn misfit(&self, field: &FieldDef, value: &Value, part: &RowId) -> Option<String> {
        let fits = matches!(
            (field.kind, part),
            (FieldKind::Int, RowId::Int(_))
                | (FieldKind::Text, RowId::Text(_))
                | (FieldKind::Link(_), _)
        );
        if !fits {
            let expected = if field.kind == FieldKind::Int { "int" } else { "text" };
            let found = value.kind();
            return Some(format!("found {found} ({value}), expected an id of type {expected}"));
        }
        match part {
            RowId::Int(number) => Staged::Int(*number).misfit(field),
            RowId::Text(text) => Staged::Text((**text).into()).misfit(field),
            RowId::Parts(_) => None,
        }
    }

    /// The id that a value is in a field.
    fn id_of(&self, field: &FieldDef, value: &Value) -> Result<RowId> {
        match value {
            Value::Text(id) => match self.state.schema.linked_id_type(field) {
                // The text of a link to a row with an id of several parts, as SQL gives it.
                Some(IdType::Parts) => RowId::from_json(&Json::parse(id)?),
                _ => Ok(RowId::Text(checked_text(id)?.into())),
            },
            other => RowId::of_value(other),
        }
    }

    /// Writes the given fields into a row, all or none of them.
    pub(crate) fn write(&mut self, table: TableNo, slot: Slot, fields: &Named) -> Result<()> {
        let staged = self.staged(table, slot, fields)?;
        self.check_keys(table, slot, &staged)?;
        self.merge_row(table, slot, &staged);
        Ok(())
    }

    /// The given fields on their way into a row.
    pub(crate) fn staged<'f>(
        &mut self,
        table: TableNo,
        slot: Slot,
        fields: &'f Named,
    ) -> Result<StagedRow<'f>> {
        let schema = self.schema();
        let definition = schema.table(table);
        let mut staged = StagedRow::new();
        for (name, value) in fields.iter() {
            let number = field_no(definition, name)?;
            let field = definition.field(number);
            let place = || place(definition, number);
            if definition.id.contains(&number) {
                let id = self.id_of(field, value).map_err(|error| error.at(place()))?;
                if self.state.value(table, slot, number) != Some(id.into()) {
                    return Err(Error::new(ErrorKind::Row, "a row keeps its id")
                        .at(place())
                        .help("delete the row and insert another"));
                }
                continue;
            }
            let value = match field.link.as_ref().and_then(|link| link.one_of.as_ref()) {
                Some(one_of) if !value.is_null() => {
                    let to = self.one_of(definition, one_of, fields, (table, slot));
                    let (name, to) = to.map_err(|error| error.at(place()))?;
                    staged.push((one_of.type_field, Staged::Text(name.to_string().into())));
                    self.id_of(field, value)
                        .and_then(|id| self.state.refer_id(to, &id))
                        .map(|slot| Staged::OneOf(to, slot))
                }
                Some(one_of) => {
                    staged.push((one_of.type_field, Staged::Null));
                    Ok(Staged::Null)
                }
                None if definition.link_typed_by(number).is_some() => {
                    self.check_type_field(definition, number, fields, (table, slot), value)?;
                    continue;
                }
                None => self.stage(&schema, field, value),
            };
            let value = value.map_err(|error| error.at(place()))?;
            if let Some(message) = value.misfit(field) {
                return Err(Error::new(ErrorKind::Type, message).at(place()));
            }
            staged.push((number, value));
        }
        Ok(staged)
    }

    /// At which table a link points that may point at one of several: as given beside it, or else
    /// as before.
    fn one_of<'s>(
        &self,
        definition: &TableDef,
        one_of: &'s OneOfDef,
        fields: &Named,
        (table, slot): (TableNo, Slot),
    ) -> Result<(&'s Arc<str>, TableNo)> {
        let given =
            fields.iter().filter(|(name, _)| definition.field_no(name) == Some(one_of.type_field));
        let named = match given.last() {
            Some((_, value)) => value.as_str().map(str::to_owned),
            None => match self.state.table(table).cell(slot, one_of.type_field) {
                Cell::Text(name) => Some(name.to_owned()),
                _ => None,
            },
        };
        let to = named.as_deref().and_then(|name| one_of.table(name));
        to.map(|to| (one_of.name(to), to)).ok_or_else(|| {
            let field = &definition.field(one_of.type_field).name;
            let message = format!("\"{field}\" does not say at which table this points");
            Error::new(ErrorKind::Type, message)
                .help(format!("give it {} too", either(&one_of.names())))
        })
    }

    /// The name of the table that a link points at is written with the link only.
    fn check_type_field(
        &self,
        definition: &TableDef,
        number: FieldNo,
        fields: &Named,
        (table, slot): (TableNo, Slot),
        value: &Value,
    ) -> Result<()> {
        let Some(link) = definition.link_typed_by(number) else { return Ok(()) };
        let with_link = fields.iter().any(|(name, _)| definition.field_no(name) == Some(link));
        let before = self.state.value(table, slot, number).unwrap_or(Value::Null);
        if with_link || before == *value {
            return Ok(());
        }
        let link = &definition.field(link).name;
        let message = format!("this says at which table \"{link}\" points");
        Err(Error::new(ErrorKind::Type, message)
            .at(place(definition, number))
            .help(format!("give \"{link}\" with it")))
    }

    /// A value in the type of its field.
    pub(crate) fn stage<'v>(
        &mut self,
        schema: &Schema,
        field: &FieldDef,
        value: &'v Value,
    ) -> Result<Staged<'v>> {
        Ok(match (field.kind, value) {
            (_, Value::Null) => Staged::Null,
            (FieldKind::Int, Value::Int(number)) => Staged::Int(*number),
            (FieldKind::Float, Value::Int(number)) => Staged::Float(*number as f64),
            (FieldKind::Float, Value::Float(number)) if number.is_finite() => {
                Staged::Float(*number)
            }
            (FieldKind::Float, Value::Float(number)) => {
                return Err(Error::new(
                    ErrorKind::Type,
                    format!("found {number}, expected a finite number"),
                ));
            }
            (FieldKind::Bool, Value::Bool(flag)) => Staged::Bool(*flag),
            (FieldKind::Text, Value::Text(text)) => Staged::Text(checked_text(text)?.into()),
            (FieldKind::Timestamp, Value::Timestamp(time)) => Staged::Timestamp(*time),
            (FieldKind::Timestamp, Value::Text(text)) => Staged::Timestamp(text.parse()?),
            (FieldKind::Json, Value::Json(json)) => Staged::Json(json.as_str().into()),
            (FieldKind::Link(to), value) => {
                let id = self.id_of(field, value)?;
                Staged::Link(self.state.refer_id(to, &id)?)
            }
            (FieldKind::Links(_), _) => {
                return Err(Error::new(ErrorKind::Type, "a to-many link takes a list of ids")
                    .help("write it with `set_links`"));
            }
            (_, value) => {
                let (found, expected) = (value.kind(), schema.kind_of(field));
                let message = format!("found {found} ({value}), expected {expected}");
                return Err(Error::new(ErrorKind::Type, message));
            }
        })
    }
}

fn place(table: &TableDef, field: FieldNo) -> String {
    format!("{}.{}", table.name, table.field(field).name)
}
