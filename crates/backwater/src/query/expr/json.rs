//! JSON inside of statements: values written as JSON, and members found in it. The rules are
//! SQLite's.

use std::borrow::Cow;

use serde_json::value::RawValue;

use crate::query::expr::numeral::{number_prefix, real_text};
use crate::query::expr::scalar::Scalar;
use crate::value::{Json, write_json_text};

/// Writes a value as JSON; a text is a string, unless it is known to be JSON.
pub(crate) fn write(out: &mut String, value: &Scalar<'_>, is_json: bool) {
    match value {
        Scalar::Null => out.push_str("null"),
        Scalar::Int(number) => out.push_str(&number.to_string()),
        Scalar::Real(number) if number.is_infinite() => {
            out.push_str(if *number > 0.0 { "9e999" } else { "-9e999" });
        }
        Scalar::Real(number) => out.push_str(&real_text(*number)),
        text => {
            let text = text.to_text().unwrap_or_default();
            if is_json { out.push_str(&text) } else { write_json_text(out, &text) }
        }
    }
}

/// A JSON value inside of a text.
pub(crate) struct JsonPart<'j>(&'j str);

/// A member of an object, an element of an array, or a value that has none of these itself.
pub(crate) struct Element<'j> {
    pub(crate) name: ElementName<'j>,
    pub(crate) value: JsonPart<'j>,
}

/// What an element is found by.
pub(crate) enum ElementName<'j> {
    None,
    Place(usize),
    Member(Cow<'j, str>),
}

impl ElementName<'_> {
    /// The path of the element in what this path leads to.
    pub(crate) fn behind(&self, path: &str) -> String {
        match self {
            ElementName::None => path.to_owned(),
            ElementName::Place(place) => format!("{path}[{place}]"),
            ElementName::Member(name) => {
                let is_plain = name.starts_with(|first: char| first.is_ascii_alphabetic())
                    && name.bytes().all(|letter| letter.is_ascii_alphanumeric());
                if is_plain { format!("{path}.{name}") } else { format!("{path}.\"{name}\"") }
            }
        }
    }
}

impl<'j> JsonPart<'j> {
    pub(crate) fn has_elements(&self) -> bool {
        self.0.starts_with(['{', '['])
    }

    /// Its elements, or itself if it can have none.
    pub(crate) fn each_element(&self) -> Vec<Element<'j>> {
        let json: &'j str = self.0;
        match json.as_bytes().first() {
            Some(b'[') => {
                let all: Vec<&'j RawValue> = serde_json::from_str(json).unwrap_or_default();
                let element = |(place, value): (usize, &'j RawValue)| Element {
                    name: ElementName::Place(place),
                    value: JsonPart(value.get()),
                };
                all.into_iter().enumerate().map(element).collect()
            }
            Some(b'{') => {
                let mut out = Vec::new();
                each_member(json, &mut |name, value| {
                    out.push(Element { name: ElementName::Member(name), value: JsonPart(value) });
                });
                out
            }
            _ => vec![Element { name: ElementName::None, value: JsonPart(json) }],
        }
    }
    /// How many elements it has; none unless it is an array.
    pub(crate) fn elements(&self) -> usize {
        serde_json::from_str::<Vec<&RawValue>>(self.0).map_or(0, |elements| elements.len())
    }

    /// What SQLite calls its type.
    pub(crate) fn type_name(&self) -> &'static str {
        match self.0.as_bytes().first() {
            None | Some(b'n') => "null",
            Some(b't') => "true",
            Some(b'f') => "false",
            Some(b'"') => "text",
            Some(b'{') => "object",
            Some(b'[') => "array",
            Some(_) if self.0.contains(['.', 'e', 'E']) => "real",
            Some(_) => "integer",
        }
    }

    /// As JSON.
    pub(crate) fn as_json(&self) -> Scalar<'static> {
        Scalar::Text(Json::from_raw(self.0).as_str().into())
    }

    /// As the value that it stands for; objects and arrays stay JSON.
    pub(crate) fn as_sql(&self) -> Scalar<'static> {
        match self.0.as_bytes().first() {
            None | Some(b'n') => Scalar::Null,
            Some(b't') => Scalar::TRUE,
            Some(b'f') => Scalar::FALSE,
            Some(b'"') => match serde_json::from_str::<String>(self.0) {
                Ok(text) => Scalar::Text(text.into()),
                Err(_) => Scalar::Null,
            },
            Some(b'{' | b'[') => self.as_json(),
            Some(_) => number_prefix(self.0).0,
        }
    }
}

impl JsonPart<'_> {
    /// The value that it stands for, as JSON.
    pub(crate) fn as_sql_json(&self) -> Scalar<'static> {
        let value = self.as_sql();
        if value.is_null() {
            return value;
        }
        let mut out = String::new();
        write(&mut out, &value, self.has_elements());
        Scalar::Text(out.into())
    }
}

/// An array of what was found, with null where nothing was.
pub(crate) fn array(found: &[Option<JsonPart<'_>>]) -> Scalar<'static> {
    let found = found.iter().map(|part| part.as_ref().map_or("null", |part| part.0));
    let array = format!("[{}]", found.collect::<Vec<_>>().join(","));
    Scalar::Text(Json::from_raw(&array).as_str().into())
}

/// What `->` finds: by a path that begins with `$`, by a member's name, or by a place in an array.
pub(crate) fn find<'j>(json: &'j str, by: &Scalar<'_>) -> Option<JsonPart<'j>> {
    if by.is_null() {
        return None;
    }
    if let Scalar::Int(place) = by {
        let from_end = *place < 0;
        return element(json, place.unsigned_abs() as usize, from_end).map(JsonPart);
    }
    let by = by.to_text()?;
    if by.starts_with('$') {
        return find_path(json, &by);
    }
    member(json, &by).map(JsonPart)
}

/// What a path finds: `$.member."another member"[0][#-1]`.
pub(crate) fn find_path<'j>(json: &'j str, path: &str) -> Option<JsonPart<'j>> {
    let mut rest = path.strip_prefix('$')?;
    let mut at = json.trim_matches([' ', '\t', '\n', '\r']);
    while !rest.is_empty() {
        if let Some(after) = rest.strip_prefix('.') {
            let (name, then) = match after.strip_prefix('"') {
                Some(quoted) => quoted.split_once('"')?,
                None => after.split_at(after.find(['.', '[']).unwrap_or(after.len())),
            };
            at = member(at, name)?;
            rest = then;
        } else {
            let (place, then) = rest.strip_prefix('[')?.split_once(']')?;
            at = match place.strip_prefix('#') {
                Some(back) => element(at, back.strip_prefix('-')?.parse().ok()?, true)?,
                None => element(at, place.parse().ok()?, false)?,
            };
            rest = then;
        }
    }
    serde_json::from_str::<&RawValue>(at).is_ok().then_some(JsonPart(at))
}

/// The first member of that name.
fn member<'j>(json: &'j str, name: &str) -> Option<&'j str> {
    let mut found = None;
    each_member(json, &mut |known, value| {
        if found.is_none() && known == name {
            found = Some(value);
        }
    })?;
    found
}

/// Calls `each` with the members of an object, in their order; `None` if it is none.
fn each_member<'j>(json: &'j str, each: &mut dyn FnMut(Cow<'j, str>, &'j str)) -> Option<()> {
    struct Members<'m, 'de>(&'m mut dyn FnMut(Cow<'de, str>, &'de str));
    impl<'de> serde::de::Visitor<'de> for Members<'_, 'de> {
        type Value = ();

        fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
            f.write_str("an object")
        }

        fn visit_map<A: serde::de::MapAccess<'de>>(
            self,
            mut members: A,
        ) -> Result<Self::Value, A::Error> {
            while let Some(name) = members.next_key::<Name<'de>>()? {
                let value: &'de RawValue = members.next_value()?;
                (self.0)(name.0, value.get());
            }
            Ok(())
        }
    }
    /// Borrowed where it has no escapes.
    #[derive(serde::Deserialize)]
    struct Name<'n>(#[serde(borrow)] Cow<'n, str>);

    let mut reader = serde_json::Deserializer::from_str(json);
    serde::de::Deserializer::deserialize_map(&mut reader, Members(each)).ok()
}

/// The element at a place, counted from 0, or from the end with the last as 1.
fn element(json: &str, place: usize, from_end: bool) -> Option<&str> {
    let elements: Vec<&RawValue> = serde_json::from_str(json).ok()?;
    let place = if from_end { elements.len().checked_sub(place)? } else { place };
    elements.get(place).map(|element| element.get())
}
