//! The value of a json field while it is being changed: numbers are kept as they are written, and
//! members in their order.

use std::fmt;

use serde::de::{Deserializer, MapAccess, Visitor};
use serde_json::value::RawValue;

use super::write_json_text;

/// Objects and arrays may be so deep inside of each other, as with any JSON text here.
const DEEPEST: usize = 127;

#[derive(Debug, Clone)]
pub(crate) enum Document {
    /// `true`, `false`, `null` or a number, as it is written.
    Plain(Box<str>),
    Text(String),
    Array(Vec<Document>),
    /// Each name once.
    Object(Vec<(String, Document)>),
}

impl Document {
    pub(crate) fn parse(text: &str) -> Result<Self, serde_json::Error> {
        let raw: &RawValue = serde_json::from_str(text)?;
        Self::of(raw.get(), 0)
    }

    /// `text` is JSON.
    fn of(text: &str, depth: usize) -> Result<Self, serde_json::Error> {
        let text = text.trim();
        if depth > DEEPEST {
            return Err(serde::de::Error::custom(format!("it is deeper than {DEEPEST}")));
        }
        Ok(match text.as_bytes().first() {
            Some(b'{') => {
                let Members(raw) = serde_json::from_str(text)?;
                let mut members: Vec<(String, Document)> = Vec::with_capacity(raw.len());
                for (name, raw) in raw {
                    let value = Self::of(raw.get(), depth + 1)?;
                    set(&mut members, name, value);
                }
                Self::Object(members)
            }
            Some(b'[') => {
                let raw: Vec<&RawValue> = serde_json::from_str(text)?;
                let elements = raw.into_iter().map(|raw| Self::of(raw.get(), depth + 1));
                Self::Array(elements.collect::<Result<_, _>>()?)
            }
            Some(b'"') => Self::Text(serde_json::from_str(text)?),
            _ => Self::Plain(text.into()),
        })
    }

    /// The whole number that it is.
    pub(crate) fn as_int(&self) -> Option<i64> {
        let Self::Plain(text) = self else { return None };
        let number =
            text.parse().or_else(|_| text.parse().map(|number: f64| number as i64)).ok()?;
        self.has_size(&number.to_string()).then_some(number)
    }

    /// The binary64 number that it is, if it is that to the last digit.
    pub(crate) fn as_float(&self) -> Option<f64> {
        let Self::Plain(text) = self else { return None };
        let number: f64 = text.parse().ok().filter(|number: &f64| number.is_finite())?;
        self.has_size(&format!("{number:?}")).then_some(number)
    }

    fn has_size(&self, number: &str) -> bool {
        matches!(self, Self::Plain(text) if size(text).is_some_and(|of| Some(of) == size(number)))
    }

    fn is_null(&self) -> bool {
        matches!(self, Self::Plain(text) if **text == *"null")
    }

    /// What stands at the end of a way of names and indexes.
    pub(crate) fn at(&mut self, way: &[String]) -> Option<&mut Self> {
        way.iter().try_fold(self, |inside, part| match inside {
            Self::Object(members) => {
                let found = members.iter_mut().find(|(name, _)| name == part);
                found.map(|(_, value)| value)
            }
            Self::Array(elements) => {
                let place = index(part, elements.len())?;
                elements.get_mut(place)
            }
            _ => None,
        })
    }

    /// Adds a value, as `add` of a JSON Patch has it.
    pub(crate) fn add(&mut self, way: &[String], value: Self) -> Option<()> {
        let (last, way) = way.split_last()?;
        match self.at(way)? {
            Self::Object(members) => set(members, last.clone(), value),
            Self::Array(elements) => {
                let place = if last == "-" { elements.len() } else { index(last, elements.len())? };
                elements.insert(place, value);
            }
            _ => return None,
        }
        Some(())
    }

    /// Takes a value away that is there.
    pub(crate) fn remove(&mut self, way: &[String]) -> Option<()> {
        let (last, way) = way.split_last()?;
        match self.at(way)? {
            Self::Object(members) => {
                let place = members.iter().position(|(name, _)| name == last)?;
                members.remove(place);
            }
            Self::Array(elements) => {
                let place = index(last, elements.len()).filter(|place| *place < elements.len())?;
                elements.remove(place);
            }
            _ => return None,
        }
        Some(())
    }

    /// The value with a merge patch applied (RFC 7396, section 2).
    pub(crate) fn merged(before: Option<Self>, patch: Self) -> Self {
        let Self::Object(patch) = patch else { return patch };
        let mut members = match before {
            Some(Self::Object(members)) => members,
            _ => Vec::new(),
        };
        for (name, value) in patch {
            let place = members.iter().position(|(known, _)| *known == name);
            match (place, value.is_null()) {
                (Some(place), true) => drop(members.remove(place)),
                (None, true) => {}
                (Some(place), false) => {
                    let old = std::mem::replace(&mut members[place].1, Self::Array(Vec::new()));
                    members[place].1 = Self::merged(Some(old), value);
                }
                (None, false) => members.push((name, Self::merged(None, value))),
            }
        }
        Self::Object(members)
    }

    /// Whether two values are the same by RFC 6902, section 4.6: numbers by their size.
    pub(crate) fn is_same(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Plain(a), Self::Plain(b)) => {
                a == b || size(a).is_some_and(|a| Some(a) == size(b))
            }
            (Self::Text(a), Self::Text(b)) => a == b,
            (Self::Array(a), Self::Array(b)) => {
                a.len() == b.len() && a.iter().zip(b).all(|(a, b)| a.is_same(b))
            }
            (Self::Object(a), Self::Object(b)) => {
                let has =
                    |name: &str, a: &Self| b.iter().any(|(other, b)| name == other && a.is_same(b));
                a.len() == b.len() && a.iter().all(|(name, a)| has(name, a))
            }
            _ => false,
        }
    }
}

/// An array's index, up to the one behind its end.
fn index(text: &str, len: usize) -> Option<usize> {
    let number: usize = text.parse().ok().filter(|number: &usize| number.to_string() == text)?;
    (number <= len).then_some(number)
}

fn set(members: &mut Vec<(String, Document)>, name: String, value: Document) {
    match members.iter_mut().find(|(known, _)| *known == name) {
        Some((_, known)) => *known = value,
        None => members.push((name, value)),
    }
}

/// A number's sign, its digits without zeros around them, and the power of ten of the last one.
fn size(number: &str) -> Option<(bool, String, i64)> {
    let (is_negative, text) = match number.strip_prefix('-') {
        Some(text) => (true, text),
        None => (false, number),
    };
    if !text.starts_with(|first: char| first.is_ascii_digit()) {
        return None;
    }
    let (digits, power) = text.split_once(['e', 'E']).unwrap_or((text, "0"));
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    let power = power.parse::<i64>().ok()?.checked_sub(fraction.len() as i64)?;
    let all = format!("{whole}{fraction}");
    let kept = all.trim_end_matches('0');
    let power = power.checked_add((all.len() - kept.len()) as i64)?;
    match kept.trim_start_matches('0') {
        "" => Some((false, String::new(), 0)),
        digits => Some((is_negative, digits.to_owned(), power)),
    }
}

impl fmt::Display for Document {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = |f: &mut fmt::Formatter<'_>, text: &str| {
            let mut out = String::new();
            write_json_text(&mut out, text);
            f.write_str(&out)
        };
        match self {
            Self::Plain(plain) => f.write_str(plain),
            Self::Text(of) => text(f, of),
            Self::Array(elements) => {
                f.write_str("[")?;
                for (number, element) in elements.iter().enumerate() {
                    f.write_str(if number == 0 { "" } else { "," })?;
                    element.fmt(f)?;
                }
                f.write_str("]")
            }
            Self::Object(members) => {
                f.write_str("{")?;
                for (number, (name, value)) in members.iter().enumerate() {
                    f.write_str(if number == 0 { "" } else { "," })?;
                    text(f, name)?;
                    f.write_str(":")?;
                    value.fmt(f)?;
                }
                f.write_str("}")
            }
        }
    }
}

/// The members of an object, in their order.
struct Members<'t>(Vec<(String, &'t RawValue)>);

impl<'de: 't, 't> serde::Deserialize<'de> for Members<'t> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct All;

        impl<'de> Visitor<'de> for All {
            type Value = Vec<(String, &'de RawValue)>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
                let mut members = Vec::new();
                while let Some(member) = map.next_entry()? {
                    members.push(member);
                }
                Ok(members)
            }
        }

        deserializer.deserialize_map(All).map(Members)
    }
}
