//! Nested JSON: each object that is a record, or that a link points at, becomes a row.
//!
//! The response is read once, from its bytes into rows, by visitors that know what the schema
//! expects at each place. No tree of it is built.

use std::borrow::Cow;
use std::fmt;

use serde::de::{
    DeserializeSeed, Deserializer, Error as _, IgnoredAny, MapAccess, SeqAccess, Unexpected,
    Visitor,
};
use serde_json::value::RawValue;

use super::place::{Step, pointer};
use crate::change::{IngestedTable, Staged, Touched, Transaction, checked_text};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldNo, Kind, Rule, Schema, TableNo};
use crate::table::{ONLY, Slot};
use crate::value::{IdRef, Json, Timestamp};

/// Reads a response into a transaction by a rule.
pub(super) fn read(
    tx: &mut Transaction,
    schema: &Schema,
    rule: &Rule,
    text: &str,
) -> Result<Vec<IngestedTable>> {
    let counts = schema.tables.iter().map(|_| Counts::default()).collect();
    let mut reader = Reader { tx, schema, steps: Vec::new(), counts };
    let mut json = serde_json::Deserializer::from_str(text);
    let seed = Descent { reader: &mut reader, rest: rule.records.parts(), table: rule.table };
    let read = seed.deserialize(&mut json).and_then(|()| {
        reader.steps.clear();
        json.end()
    });
    match read {
        Ok(()) => Ok(reader.summary()),
        Err(error) => Err(explain(error, &pointer(&reader.steps, schema), text)),
    }
}

struct Reader<'a, 'de> {
    tx: &'a mut Transaction,
    schema: &'a Schema,
    /// Where the reader is. After an error they stay where it was met.
    steps: Vec<Step<'de>>,
    counts: Vec<Counts>,
}

/// What was met of one table.
#[derive(Default)]
struct Counts {
    objects: usize,
    rows: usize,
    inserted: usize,
    updated: usize,
    seen: Touched,
    news: Touched,
}

impl<'de> Reader<'_, 'de> {
    fn summary(self) -> Vec<IngestedTable> {
        let met =
            self.schema.tables.iter().zip(self.counts).filter(|(_, counts)| counts.objects > 0);
        met.map(|(table, counts)| IngestedTable {
            table: table.name.to_string(),
            objects: counts.objects,
            rows: counts.rows,
            inserted: counts.inserted,
            updated: counts.updated,
        })
        .collect()
    }

    /// Reads one object of a table and merges it into its row.
    fn record<A: MapAccess<'de>>(
        &mut self,
        table: TableNo,
        mut object: A,
    ) -> Result<Slot, A::Error> {
        let schema = self.schema;
        let definition = schema.table(table);
        let mut staged: Vec<(FieldNo, Staged<'de>)> = Vec::with_capacity(definition.fields.len());
        let mut id = None;
        while let Some(key) = object.next_key_seed(Key { schema, table })? {
            let field = match key {
                Step::Field(_, field) => field,
                _ => {
                    self.steps.push(key);
                    object.next_value::<IgnoredAny>()?;
                    self.steps.pop();
                    continue;
                }
            };
            self.steps.push(key);
            let kind = definition.field(field).kind;
            let is_id = definition.id == Some(field);
            let value = if kind == Kind::Json {
                let raw: &'de RawValue = object.next_value()?;
                match raw.get() {
                    "null" => Staged::Null,
                    raw => Staged::Json(Cow::Owned(Json::from_raw(raw).as_str().to_owned())),
                }
            } else {
                object.next_value_seed(Value { reader: self, kind, is_id })?
            };
            self.steps.pop();
            if is_id {
                id = Some(value);
            } else {
                staged.push((field, value));
            }
        }
        let slot = match (definition.id, &id) {
            (None, _) => ONLY,
            (_, Some(Staged::Int(number))) => self.tx.refer(table, IdRef::Int(*number)),
            (_, Some(Staged::Text(text))) => self.tx.refer(table, IdRef::Text(text)),
            (Some(field), _) => {
                let name = &definition.field(field).name;
                let found = if id.is_some() { "null" } else { "no such member" };
                return Err(A::Error::custom(format!(
                    "found {found} \"{name}\", expected the id of a \"{}\" object",
                    definition.name
                )));
            }
        };
        self.merge(table, slot, &staged);
        Ok(slot)
    }

    fn merge(&mut self, table: TableNo, slot: Slot, staged: &[(FieldNo, Staged<'de>)]) {
        let is_new = self.tx.ensure_row(table, slot);
        let mut changed = false;
        for (field, value) in staged {
            changed |= self.tx.put(table, slot, *field, value);
        }
        let counts = &mut self.counts[table.index()];
        counts.objects += 1;
        counts.rows += usize::from(counts.seen.insert(slot));
        if is_new {
            counts.inserted += 1;
            counts.news.insert(slot);
        } else if changed {
            counts.updated += usize::from(counts.news.insert(slot));
        }
    }
}

/// A member's name: a field of the table, or anything else.
struct Key<'a> {
    schema: &'a Schema,
    table: TableNo,
}

impl Key<'_> {
    fn field(&self, name: &str) -> Option<FieldNo> {
        let fields = &self.schema.table(self.table).fields;
        let position = fields.iter().position(|field| &*field.name == name)?;
        Some(FieldNo(position as u32))
    }
}

impl<'de> DeserializeSeed<'de> for Key<'_> {
    type Value = Step<'de>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Step<'de>, D::Error> {
        deserializer.deserialize_str(self)
    }
}

impl<'de> Visitor<'de> for Key<'_> {
    type Value = Step<'de>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a member's name")
    }

    fn visit_borrowed_str<E>(self, name: &'de str) -> Result<Step<'de>, E> {
        Ok(self.field(name).map_or(Step::Name(name.into()), |field| Step::Field(self.table, field)))
    }

    fn visit_str<E>(self, name: &str) -> Result<Step<'de>, E> {
        let name = name.to_owned();
        Ok(self
            .field(&name)
            .map_or(Step::Name(name.into()), |field| Step::Field(self.table, field)))
    }
}

/// The way down to the records, and then the records.
struct Descent<'r, 'a, 'de> {
    reader: &'r mut Reader<'a, 'de>,
    rest: &'r [String],
    table: TableNo,
}

impl<'de> DeserializeSeed<'de> for Descent<'_, '_, 'de> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Descent<'_, '_, 'de> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let table = &self.reader.schema.table(self.table).name;
        match self.rest.first() {
            Some(name) => {
                write!(f, "an object or array with {name:?} on the way to the \"{table}\" records")
            }
            None => write!(f, "\"{table}\" records: an array of objects, or one object"),
        }
    }

    fn visit_map<A: MapAccess<'de>>(self, mut object: A) -> Result<(), A::Error> {
        let Some((name, rest)) = self.rest.split_first() else {
            return self.reader.record(self.table, object).map(|_| ());
        };
        let mut found = false;
        while let Some(key) = object.next_key::<Cow<'de, str>>()? {
            if key != *name {
                object.next_value::<IgnoredAny>()?;
                continue;
            }
            found = true;
            self.reader.steps.push(Step::Name(key));
            object.next_value_seed(Descent {
                reader: &mut *self.reader,
                rest,
                table: self.table,
            })?;
            self.reader.steps.pop();
        }
        if found { Ok(()) } else { Err(missing(name, "member")) }
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut array: A) -> Result<(), A::Error> {
        let Some((name, rest)) = self.rest.split_first() else {
            let mut index = 0;
            loop {
                self.reader.steps.push(Step::Index(index));
                let record = Record { reader: &mut *self.reader, table: self.table };
                let read = array.next_element_seed(record)?;
                self.reader.steps.pop();
                match read {
                    Some(_) => index += 1,
                    None => return Ok(()),
                }
            }
        };
        let wanted: Option<usize> = name.parse().ok();
        let mut found = false;
        for index in 0.. {
            let more = if Some(index) == wanted {
                self.reader.steps.push(Step::Index(index));
                let descent = Descent { reader: &mut *self.reader, rest, table: self.table };
                found = array.next_element_seed(descent)?.is_some();
                self.reader.steps.pop();
                found
            } else {
                array.next_element::<IgnoredAny>()?.is_some()
            };
            if !more {
                break;
            }
        }
        if found { Ok(()) } else { Err(missing(name, "element")) }
    }
}

fn missing<E: serde::de::Error>(name: &str, what: &str) -> E {
    E::custom(format!("found no {what} {name:?}, expected it on the way to the records"))
}

/// One element of an array of records.
struct Record<'r, 'a, 'de> {
    reader: &'r mut Reader<'a, 'de>,
    table: TableNo,
}

impl<'de> DeserializeSeed<'de> for Record<'_, '_, 'de> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Record<'_, '_, 'de> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "a \"{}\" object", self.reader.schema.table(self.table).name)
    }

    fn visit_map<A: MapAccess<'de>>(self, object: A) -> Result<(), A::Error> {
        self.reader.record(self.table, object).map(|_| ())
    }
}

/// A field's value, in the field's type.
struct Value<'r, 'a, 'de> {
    reader: &'r mut Reader<'a, 'de>,
    kind: Kind,
    is_id: bool,
}

impl<'de> Value<'_, '_, 'de> {
    /// A number or text where an id is expected takes the type that the table declares for it.
    fn id<E: serde::de::Error>(&mut self, found: IdRef<'_>) -> Option<Result<Staged<'de>, E>> {
        let (text, to) = match self.kind {
            Kind::Link(to) => (self.reader.schema.table(to).has_text_id(), Some(to)),
            kind if self.is_id => (kind == Kind::Text, None),
            _ => return None,
        };
        let spelled;
        let id = match found {
            IdRef::Int(number) if text => {
                spelled = number.to_string();
                IdRef::Text(&spelled)
            }
            IdRef::Text(digits) if !text => match digits.parse::<i64>() {
                Ok(number) if number.to_string() == digits => IdRef::Int(number),
                _ => {
                    return Some(Err(E::invalid_value(
                        Unexpected::Str(digits),
                        &"an id of type int",
                    )));
                }
            },
            id => id,
        };
        if let IdRef::Text(text) = id
            && let Err(error) = checked_text(text)
        {
            return Some(Err(E::custom(error)));
        }
        Some(Ok(match (to, id) {
            (Some(to), id) => Staged::Link(self.reader.tx.refer(to, id)),
            (None, IdRef::Int(number)) => Staged::Int(number),
            (None, IdRef::Text(text)) => Staged::Text(Cow::Owned(text.to_owned())),
        }))
    }

    fn text<E: serde::de::Error>(mut self, text: Cow<'de, str>) -> Result<Staged<'de>, E> {
        if self.kind == Kind::Text {
            checked_text(&text).map_err(E::custom)?;
            return Ok(Staged::Text(text));
        }
        if let Some(id) = self.id(IdRef::Text(&text)) {
            return id;
        }
        match self.kind {
            Kind::Timestamp => text
                .parse::<Timestamp>()
                .map(Staged::Timestamp)
                .map_err(|_| E::invalid_type(Unexpected::Str(&text), &self)),
            _ => Err(E::invalid_type(Unexpected::Str(&text), &self)),
        }
    }
}

impl<'de> DeserializeSeed<'de> for Value<'_, '_, 'de> {
    type Value = Staged<'de>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Staged<'de>, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Value<'_, '_, 'de> {
    type Value = Staged<'de>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.kind {
            Kind::Timestamp => {
                f.write_str("a time of RFC 3339, such as \"2031-05-04T09:40:00+02:00\"")
            }
            Kind::Link(to) => {
                write!(f, "a \"{}\" object, its id, or null", self.reader.schema.table(to).name)
            }
            kind => write!(f, "{}", self.reader.schema.kind_name(kind)),
        }
    }

    fn visit_unit<E>(self) -> Result<Staged<'de>, E> {
        Ok(Staged::Null)
    }

    fn visit_bool<E: serde::de::Error>(self, flag: bool) -> Result<Staged<'de>, E> {
        match self.kind {
            Kind::Bool => Ok(Staged::Bool(flag)),
            _ => Err(E::invalid_type(Unexpected::Bool(flag), &self)),
        }
    }

    fn visit_i64<E: serde::de::Error>(mut self, number: i64) -> Result<Staged<'de>, E> {
        match self.kind {
            Kind::Int => Ok(Staged::Int(number)),
            Kind::Float => Ok(Staged::Float(number as f64)),
            _ => self
                .id(IdRef::Int(number))
                .unwrap_or_else(|| Err(E::invalid_type(Unexpected::Signed(number), &self))),
        }
    }

    fn visit_u64<E: serde::de::Error>(self, number: u64) -> Result<Staged<'de>, E> {
        match i64::try_from(number) {
            Ok(number) => self.visit_i64(number),
            Err(_) if self.kind == Kind::Float => Ok(Staged::Float(number as f64)),
            Err(_) => {
                Err(E::invalid_value(Unexpected::Unsigned(number), &"a whole number of 64 bits"))
            }
        }
    }

    fn visit_f64<E: serde::de::Error>(self, number: f64) -> Result<Staged<'de>, E> {
        /// Whole numbers up to here have a binary64 of their own.
        const EXACT: f64 = 9_007_199_254_740_992.0;
        match self.kind {
            Kind::Float => Ok(Staged::Float(number)),
            Kind::Int if number.fract() == 0.0 && number.abs() <= EXACT => {
                Ok(Staged::Int(number as i64))
            }
            _ => Err(E::invalid_type(Unexpected::Float(number), &self)),
        }
    }

    fn visit_borrowed_str<E: serde::de::Error>(self, text: &'de str) -> Result<Staged<'de>, E> {
        self.text(Cow::Borrowed(text))
    }

    fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<Staged<'de>, E> {
        self.text(Cow::Owned(text.to_owned()))
    }

    fn visit_map<A: MapAccess<'de>>(self, object: A) -> Result<Staged<'de>, A::Error> {
        match self.kind {
            Kind::Link(to) => self.reader.record(to, object).map(Staged::Link),
            _ => Err(A::Error::invalid_type(Unexpected::Map, &self)),
        }
    }
}

/// The parser's error in our words: what does not fit has a pointer, what is not JSON a line.
fn explain(error: serde_json::Error, pointer: &str, text: &str) -> Error {
    use serde_json::error::Category;
    let told = error.to_string();
    let position = format!(" at line {} column {}", error.line(), error.column());
    let bare = told.strip_suffix(&position).unwrap_or(&told);
    let place = if pointer.is_empty() { "the response" } else { pointer };
    let message = match error.classify() {
        Category::Data => found_and_expected(bare),
        Category::Eof if text.trim().is_empty() => "it is empty, expected JSON".to_owned(),
        Category::Eof => format!("it ends in the middle of a value{position}: is it truncated?"),
        _ if bare == "recursion limit exceeded" => {
            format!("it is nested deeper than 127 levels{position}")
        }
        _ => format!("it is not JSON{position}: {bare}"),
    };
    Error::new(ErrorKind::Response, message).at(place).source_error(error)
}

fn found_and_expected(told: &str) -> String {
    let Some(found) =
        told.strip_prefix("invalid type: ").or_else(|| told.strip_prefix("invalid value: "))
    else {
        return told.to_owned();
    };
    let found = match found.split_once(", expected ") {
        Some(("map", expected)) => format!("an object, expected {expected}"),
        Some(("sequence", expected)) => format!("an array, expected {expected}"),
        _ => found.to_owned(),
    };
    format!("found {found}")
}
