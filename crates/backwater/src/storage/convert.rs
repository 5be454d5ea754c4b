//! Stored values of one type as values of another, where nothing is lost.

use super::form::{Stored, id_part, staged};
use super::retained::{RetainedValue, Values};
use crate::error::{Error, ErrorKind};
use crate::schema::{FieldDef, FieldKind, Schema, TableDef};
use crate::value::Document;

/// The value that was retained of a field, under the names that it has and had. One that does not
/// fit any more stays retained.
pub(super) fn take(
    schema: &Schema,
    values: &mut Values,
    field: &FieldDef,
) -> Option<Stored<'static>> {
    let mut names = [&field.name].into_iter().chain(&field.was);
    let name = names.find(|name| values.contains_key(&***name))?;
    let value = match values.get(&**name)?.clone() {
        RetainedValue::Json(json) => {
            fitted(schema, Origin::Json, field, Stored::Text(String::from(json).into()))
        }
        RetainedValue::Value(value) => fitted(schema, Origin::Unknown, field, value),
    }?;
    values.remove(&**name);
    Some(value)
}

/// What is known of the field that a stored value is from.
#[derive(Clone, Copy)]
pub(super) enum Origin {
    /// It is declared alike.
    Same,
    Json,
    Other(FieldKind),
    /// The value was retained, and that it is none of a json field is all that is known.
    Unknown,
}

impl Origin {
    pub(super) fn of(
        (old, was): (&Schema, &FieldDef),
        (schema, field): (&Schema, &FieldDef),
    ) -> Self {
        match was.kind {
            _ if old.kind_of(was) == schema.kind_of(field) => Self::Same,
            FieldKind::Json => Self::Json,
            kind => Self::Other(kind),
        }
    }
}

/// A stored value as one of a field, if nothing of it is lost.
pub(super) fn fitted(
    schema: &Schema,
    from: Origin,
    field: &FieldDef,
    value: Stored<'static>,
) -> Option<Stored<'static>> {
    if value == Stored::Null {
        return (!field.required).then_some(value);
    }
    // Beyond this not every whole number is a binary64 number.
    const EXACT: i64 = 1 << 53;
    let value = match (from, field.kind, value) {
        (Origin::Same, _, value) => value,
        (Origin::Json, FieldKind::Json, value) => value,
        (Origin::Json, kind, Stored::Text(json)) => of_json(&json, kind)?,
        // How many entries there are; these are rows of their own.
        (Origin::Unknown | Origin::Other(FieldKind::Links(_)), FieldKind::Links(_), value) => value,
        (Origin::Other(FieldKind::Links(_)), ..) | (_, FieldKind::Links(_), _) => return None,
        (Origin::Other(FieldKind::Bool), FieldKind::Text, _) => return None,
        (Origin::Unknown, FieldKind::OneOf, value) => value,
        (_, FieldKind::Float, Stored::Int(number)) if (-EXACT..=EXACT).contains(&number) => {
            Stored::Real(number as f64)
        }
        (_, FieldKind::Int, Stored::Real(number))
            if number.fract() == 0.0 && number.abs() <= EXACT as f64 =>
        {
            Stored::Int(number as i64)
        }
        (_, FieldKind::Text, Stored::Int(number)) => Stored::Text(number.to_string().into()),
        (_, FieldKind::Int | FieldKind::Bool, Stored::Text(text)) => {
            Stored::Int(crate::schema::whole(&text)?)
        }
        (_, FieldKind::Timestamp, Stored::Text(text)) => timestamp(&text)?,
        (from, FieldKind::Json, value) => {
            let mut json = String::new();
            match value {
                Stored::Int(number) if matches!(from, Origin::Other(FieldKind::Bool)) => {
                    json.push_str(if number == 1 { "true" } else { "false" });
                }
                Stored::Int(number) => json.push_str(&number.to_string()),
                Stored::Real(number) => json.push_str(&serde_json::Value::from(number).to_string()),
                Stored::Text(text) => crate::value::write_json_text(&mut json, &text),
                Stored::Null => return None,
            }
            Stored::Text(json.into())
        }
        (_, _, value) => value,
    };
    match field.kind {
        FieldKind::Link(_) => {
            // The ids that it points at may be of another type, too.
            let other = match &value {
                Stored::Int(number) => Stored::Text(number.to_string().into()),
                Stored::Text(text) => crate::schema::whole(text).map_or(Stored::Null, Stored::Int),
                _ => Stored::Null,
            };
            [value, other].into_iter().find(|value| id_part(schema, field.kind, value).is_some())
        }
        FieldKind::OneOf => Some(value),
        kind => {
            let fits = staged(kind, &value).is_ok_and(|staged| staged.misfit(field).is_none());
            fits.then_some(value)
        }
    }
}

/// A text as a time, unless it has another offset than UTC's, which would be lost.
fn timestamp(text: &str) -> Option<Stored<'static>> {
    let time: crate::value::Timestamp = text.parse().ok()?;
    text.ends_with(['Z', 'z']).then(|| Stored::Text(time.to_string().into()))
}

/// The value of a json field as a response would have given it to a field of another type.
fn of_json(json: &str, kind: FieldKind) -> Option<Stored<'static>> {
    let json = Document::parse(json).ok()?;
    Some(match (kind, &json) {
        (FieldKind::Timestamp, Document::Text(text)) => timestamp(text)?,
        (FieldKind::Text | FieldKind::Link(_) | FieldKind::OneOf, Document::Text(text)) => {
            Stored::Text(text.clone().into())
        }
        (FieldKind::Int | FieldKind::Link(_) | FieldKind::OneOf, Document::Plain(_)) => {
            Stored::Int(json.as_int()?)
        }
        (FieldKind::Float, Document::Plain(_)) => Stored::Real(json.as_float()?),
        (FieldKind::Bool, Document::Plain(plain)) => match &**plain {
            "true" => Stored::Int(1),
            "false" => Stored::Int(0),
            _ => return None,
        },
        _ => return None,
    })
}

pub(super) fn unfit(
    schema: &Schema,
    table: &TableDef,
    field: &FieldDef,
    row: &str,
    (was, found): (&FieldDef, &Stored<'_>),
) -> Error {
    let expected = match (field.required, field.values.is_empty()) {
        (true, _) => "a value: the field is required".to_owned(),
        (_, false) => "one of the field's values".to_owned(),
        _ => schema.kind_of(field),
    };
    let found = match (was.kind, found) {
        (FieldKind::Bool, Stored::Int(number)) => (*number == 1).to_string(),
        (_, Stored::Null) => "null".to_owned(),
        (_, Stored::Int(number)) => number.to_string(),
        (_, Stored::Real(number)) => number.to_string(),
        (FieldKind::Json, Stored::Text(text)) => shortened(text),
        (_, Stored::Text(text)) => shortened(&format!("\"{text}\"")),
    };
    let message = format!("the stored value {found} cannot be {expected} without loss");
    Error::new(ErrorKind::Version, message)
        .at(format!("{} {row}: {}", table.name, field.name))
        .help("give the field another name, or add a step that says what becomes of it")
}

/// The beginning of a text, for a message.
pub(super) fn shortened(text: &str) -> String {
    const LONG: usize = 60;
    match text.char_indices().nth(LONG) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_owned(),
    }
}
