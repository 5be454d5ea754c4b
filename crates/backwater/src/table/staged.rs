//! Values on their way into a row: of the field's type, and allowed there.

use std::borrow::Cow;
use std::sync::Arc;

use smallvec::SmallVec;

use super::{Cell, Slot};
use crate::error::{Error, ErrorKind, Result, either};
use crate::schema::{FieldDef, FieldNo, TableNo};
use crate::value::{Timestamp, Value};

/// A value that fits its field, on its way into a row.
#[derive(Debug, Clone)]
pub(crate) enum Staged<'a> {
    /// No value any more.
    Absent,
    Null,
    Int(i64),
    Float(f64),
    Bool(bool),
    Text(Cow<'a, str>),
    Timestamp(Timestamp),
    Json(Cow<'a, str>),
    Link(Slot),
    OneOf(TableNo, Slot),
    /// The entries of a to-many link, in their order.
    Links(Vec<StagedEntry>),
}

/// An entry of a to-many link on its way.
#[derive(Debug, Clone)]
pub(crate) struct StagedEntry {
    /// Where it points.
    pub(crate) table: TableNo,
    pub(crate) slot: Slot,
    /// Fields of the link table that it says, if it says any. The others stay as they are where the
    /// link points at the same row already.
    pub(crate) fields: Option<EntryFields>,
}

/// Fields of a to-many link's own on their way into an entry.
pub(crate) type EntryFields = Arc<[(FieldNo, Staged<'static>)]>;

impl StagedEntry {
    /// Where it points.
    pub(crate) fn target(&self) -> (TableNo, Slot) {
        (self.table, self.slot)
    }
}

impl From<(TableNo, Slot)> for StagedEntry {
    fn from((table, slot): (TableNo, Slot)) -> Self {
        Self { table, slot, fields: None }
    }
}

/// A row's fields on their way into it.
pub(crate) type StagedRow<'a> = SmallVec<[(FieldNo, Staged<'a>); 8]>;

impl<'a> Staged<'a> {
    /// What a cell holds; of a to-many link only how many entries it has.
    pub(crate) fn of_cell(cell: Cell<'a>) -> Self {
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
}

impl Staged<'_> {
    pub(crate) fn cell(&self) -> Cell<'_> {
        match self {
            Staged::Absent => Cell::Absent,
            Staged::Null => Cell::Null,
            Staged::Int(number) => Cell::Int(*number),
            Staged::Float(number) => Cell::Float(*number),
            Staged::Bool(flag) => Cell::Bool(*flag),
            Staged::Text(text) => Cell::Text(text),
            Staged::Timestamp(time) => Cell::Timestamp(*time),
            Staged::Json(json) => Cell::Json(json),
            Staged::Link(slot) => Cell::Link(*slot),
            Staged::OneOf(table, slot) => Cell::OneOf(*table, *slot),
            Staged::Links(entries) => Cell::Int(entries.len() as i64),
        }
    }

    pub(crate) fn into_owned(self) -> Staged<'static> {
        match self {
            Staged::Absent => Staged::Absent,
            Staged::Null => Staged::Null,
            Staged::Int(number) => Staged::Int(number),
            Staged::Float(number) => Staged::Float(number),
            Staged::Bool(flag) => Staged::Bool(flag),
            Staged::Text(text) => Staged::Text(text.into_owned().into()),
            Staged::Timestamp(time) => Staged::Timestamp(time),
            Staged::Json(json) => Staged::Json(json.into_owned().into()),
            Staged::Link(slot) => Staged::Link(slot),
            Staged::OneOf(table, slot) => Staged::OneOf(table, slot),
            Staged::Links(entries) => Staged::Links(entries),
        }
    }

    /// What is wrong with this value in a field of its type.
    pub(crate) fn misfit(&self, field: &FieldDef) -> Option<String> {
        let nothing = match self {
            Staged::Null => Some("null"),
            Staged::Absent => Some("nothing"),
            _ => None,
        };
        if let Some(found) = nothing {
            let message = || format!("found {found}, expected a value: the field is required");
            return field.required.then(message);
        }
        if field.values.is_empty() {
            return None;
        }
        let (found, known) = match self {
            Staged::Text(text) => {
                let known = field.values.iter().any(|value| value.as_str() == Some(text));
                (format!("string {text:?}"), known)
            }
            Staged::Int(number) => {
                let known = field.values.contains(&Value::Int(*number));
                (format!("integer `{number}`"), known)
            }
            _ => return None,
        };
        let allowed = || {
            let values: Vec<String> = field.values.iter().map(Value::to_string).collect();
            either(&values.iter().map(String::as_str).collect::<Vec<_>>())
        };
        (!known).then(|| format!("found {found}, expected {}", allowed()))
    }
}

/// A text that can be stored: without U+0000, which SQL shells and C programs cut texts at.
pub(crate) fn checked_text(text: &str) -> Result<&str> {
    if memchr::memchr(0, text.as_bytes()).is_some() {
        return Err(Error::new(
            ErrorKind::Type,
            "this text holds U+0000, which a stored text cannot",
        ));
    }
    Ok(text)
}
