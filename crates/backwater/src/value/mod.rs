//! Values as a user gives and gets them: numbers, text, times, JSON, and the ids of rows.
//!
//! It knows nothing of tables or SQL. How values lie in memory is up to the table room, how they
//! compare in a statement up to the query room.

mod clock;
mod document;
mod timestamp;

use std::fmt;
use std::sync::Arc;

use compact_str::CompactString;
use smallvec::{SmallVec, smallvec};

pub use clock::{Clock, SetClock, SystemClock};
pub(crate) use clock::{GuardedClock, Stopwatch};
pub(crate) use document::Document;
pub use timestamp::Timestamp;

use crate::error::{Error, ErrorKind, Result};

/// One value of a field, a parameter or a result.
///
/// An *absent* field has no value at all: where a field is read, that is `None`, while an explicit
/// null is [`Value::Null`].
///
/// ```
/// use backwater::Value;
///
/// assert_eq!(Value::from(7), Value::Int(7));
/// assert_eq!(Value::from("Marram").as_str(), Some("Marram"));
/// assert_eq!(Value::from(Some(2.5)), Value::Float(2.5));
/// assert_eq!(Value::from(None::<i64>), Value::Null);
/// ```
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// SQL's NULL, JSON's null.
    Null,
    /// True or false; in SQL the integers 1 and 0.
    Bool(bool),
    /// A whole number of 64 bits.
    Int(i64),
    /// A binary64 number. A stored one is finite; what a query computes may be infinite, as in
    /// SQLite, and is never NaN, which is NULL there.
    Float(f64),
    /// A text in UTF-8.
    Text(Arc<str>),
    /// A point in time, to the microsecond.
    Timestamp(Timestamp),
    /// A JSON text, minified.
    Json(Json),
}

impl Value {
    /// The number, if this is an [`Value::Int`].
    ///
    /// ```
    /// assert_eq!(backwater::Value::Int(3).as_int(), Some(3));
    /// ```
    pub fn as_int(&self) -> Option<i64> {
        match self {
            Value::Int(number) => Some(*number),
            _ => None,
        }
    }

    /// The number, if this is an [`Value::Int`] or a [`Value::Float`].
    ///
    /// ```
    /// assert_eq!(backwater::Value::Int(3).as_float(), Some(3.0));
    /// ```
    pub fn as_float(&self) -> Option<f64> {
        match self {
            Value::Int(number) => Some(*number as f64),
            Value::Float(number) => Some(*number),
            _ => None,
        }
    }

    /// The flag, if this is a [`Value::Bool`].
    ///
    /// ```
    /// assert_eq!(backwater::Value::Bool(true).as_bool(), Some(true));
    /// ```
    pub fn as_bool(&self) -> Option<bool> {
        match self {
            Value::Bool(flag) => Some(*flag),
            _ => None,
        }
    }

    /// The text, if this is a [`Value::Text`].
    ///
    /// ```
    /// assert_eq!(backwater::Value::from("Tidewife").as_str(), Some("Tidewife"));
    /// ```
    pub fn as_str(&self) -> Option<&str> {
        match self {
            Value::Text(text) => Some(text),
            _ => None,
        }
    }

    /// Whether this is [`Value::Null`].
    ///
    /// ```
    /// assert!(backwater::Value::Null.is_null());
    /// ```
    pub fn is_null(&self) -> bool {
        matches!(self, Value::Null)
    }

    /// What kind of value this is, for messages: `"int"`, `"text"`, …
    pub(crate) fn kind(&self) -> &'static str {
        match self {
            Value::Null => "null",
            Value::Bool(_) => "bool",
            Value::Int(_) => "int",
            Value::Float(_) => "float",
            Value::Text(_) => "text",
            Value::Timestamp(_) => "timestamp",
            Value::Json(_) => "json",
        }
    }
}

/// The value as a person reads it: text bare, NULL for null, times in UTC.
impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Null => f.pad("NULL"),
            Value::Bool(flag) => flag.fmt(f),
            Value::Int(number) => number.fmt(f),
            Value::Float(number) if number.fract() == 0.0 && number.abs() < 1e15 => {
                write!(f, "{number:.1}")
            }
            Value::Float(number) => number.fmt(f),
            Value::Text(text) => f.pad(text),
            Value::Timestamp(time) => time.fmt(f),
            Value::Json(json) => f.pad(json.as_str()),
        }
    }
}

macro_rules! value_from {
    ($($from:ty => |$value:ident| $made:expr;)*) => {$(
        impl From<$from> for Value {
            fn from($value: $from) -> Self {
                $made
            }
        }
    )*};
}

value_from! {
    i64 => |value| Value::Int(value);
    i32 => |value| Value::Int(value.into());
    u32 => |value| Value::Int(value.into());
    f64 => |value| Value::Float(value);
    bool => |value| Value::Bool(value);
    &str => |value| Value::Text(value.into());
    String => |value| Value::Text(value.into());
    Arc<str> => |value| Value::Text(value);
    Timestamp => |value| Value::Timestamp(value);
    Json => |value| Value::Json(value);
}

impl From<RowId> for Value {
    fn from(id: RowId) -> Self {
        match id {
            RowId::Int(number) => Value::Int(number),
            RowId::Text(text) => Value::Text(text),
            RowId::Parts(_) => Value::Json(id.to_json()),
        }
    }
}

impl<T: Into<Value>> From<Option<T>> for Value {
    fn from(value: Option<T>) -> Self {
        value.map_or(Value::Null, Into::into)
    }
}

/// A well-formed JSON text without the white space between its tokens; number literals stay as they
/// were written.
///
/// ```
/// use backwater::Json;
///
/// let json = Json::parse(r#"{ "deck": [1, 2.50] }"#)?;
/// assert_eq!(json.as_str(), r#"{"deck":[1,2.50]}"#);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Json(Arc<str>);

impl Json {
    /// Reads a JSON text (RFC 8259).
    ///
    /// # Errors
    /// [`ErrorKind::Type`] if the text is not JSON.
    ///
    /// See [`Json`] for an example.
    pub fn parse(text: &str) -> Result<Self> {
        let raw: &serde_json::value::RawValue = serde_json::from_str(text).map_err(|error| {
            Error::new(ErrorKind::Type, format!("this is not JSON: {error}")).caused_by(error)
        })?;
        match has_lone_surrogate(raw.get()) {
            true => Err(Error::new(ErrorKind::Type, LONE_SURROGATE)),
            false => Ok(Self::from_raw(raw.get())),
        }
    }

    /// Takes the text of a value that a JSON parser has accepted.
    pub(crate) fn from_raw(raw: &str) -> Self {
        Self(minify(raw).into())
    }

    /// Takes a text that was written here, without white space.
    pub(crate) fn from_minified(text: String) -> Self {
        Self(text.into())
    }

    /// The minified text.
    ///
    /// ```
    /// assert_eq!(backwater::Json::parse("[ ]")?.as_str(), "[]");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// The error for a JSON text that the parser refuses.
pub(crate) const LONE_SURROGATE: &str = "it has half of a surrogate pair, which is no text";

/// Whether a JSON text that is right by its grammar escapes half of a surrogate pair somewhere.
pub(crate) fn has_lone_surrogate(raw: &str) -> bool {
    let bytes = raw.as_bytes();
    let unit = |at: usize| {
        let digits = raw.get(at + 2..at + 6).filter(|_| bytes[at..].starts_with(b"\\u"))?;
        u16::from_str_radix(digits, 16).ok()
    };
    let mut at = 0;
    while let Some(next) = memchr::memchr(b'\\', &bytes[at..]) {
        at += next;
        match unit(at) {
            Some(0xd800..=0xdbff) => match unit(at + 6) {
                Some(0xdc00..=0xdfff) => at += 12,
                _ => return true,
            },
            Some(0xdc00..=0xdfff) => return true,
            // The letter behind a backslash begins no other escape.
            _ => at += 2,
        }
    }
    false
}

/// Drops the white space between the tokens of a well-formed JSON text.
fn minify(raw: &str) -> String {
    let mut out = String::with_capacity(raw.len());
    let (mut in_string, mut escaped) = (false, false);
    for character in raw.chars() {
        if in_string {
            (escaped, in_string) = match character {
                _ if escaped => (false, true),
                '\\' => (true, true),
                '"' => (false, false),
                _ => (false, true),
            };
        } else if matches!(character, ' ' | '\t' | '\n' | '\r') {
            continue;
        } else if character == '"' {
            in_string = true;
        }
        out.push(character);
    }
    out
}

/// What identifies a row in its table.
///
/// Ids order as SQL orders them: numbers by size, texts by their bytes, and ids of several parts
/// by their first part, then by their second, and so on.
///
/// ```
/// use backwater::RowId;
///
/// assert_eq!(RowId::from(311).to_string(), "311");
/// assert!(RowId::from("EEL") < RowId::from("SAL"));
/// assert_eq!(RowId::from((311, "7A")).to_string(), r#"[311,"7A"]"#);
/// ```
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum RowId {
    /// A whole number.
    Int(i64),
    /// A text.
    Text(Arc<str>),
    /// Several parts, in the order in which the schema names them; a part that is a link is the
    /// id that it points at. Without a part it is the id of a one-row table's row.
    Parts(Arc<[RowId]>),
}

/// The id of a one-row table's row.
impl From<()> for RowId {
    fn from((): ()) -> Self {
        RowId::Parts([].into())
    }
}

impl RowId {
    /// The id, or the part of one, that a value is.
    pub(crate) fn of_value(value: &Value) -> Result<Self> {
        match value {
            Value::Int(number) => Ok(RowId::Int(*number)),
            Value::Text(text) => Ok(RowId::Text(text.clone())),
            Value::Json(json) => RowId::from_json(json),
            other => Err(Error::new(
                ErrorKind::Type,
                format!("found {} ({other}), expected an id", other.kind()),
            )),
        }
    }

    #[cfg(feature = "sqlite")]
    pub(crate) fn borrow(&self) -> IdRef<'_> {
        match self {
            RowId::Int(number) => IdRef::Int(*number),
            RowId::Text(text) => IdRef::Text(text),
            RowId::Parts(parts) => IdRef::Parts(parts.clone()),
        }
    }

    /// The id that a JSON text is: a whole number, a string, or an array of these.
    ///
    /// # Errors
    /// [`ErrorKind::Type`] if it is something else.
    ///
    /// ```
    /// use backwater::{Json, RowId};
    ///
    /// assert_eq!(RowId::from_json(&Json::parse(r#"[311, "7A"]"#)?)?, RowId::from((311, "7A")));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn from_json(json: &Json) -> Result<Self> {
        let value: serde_json::Value = serde_json::from_str(json.as_str()).unwrap_or_default();
        Self::of_tree(&value).ok_or_else(|| {
            let message = format!("found {}, expected an id", json.as_str());
            Error::new(ErrorKind::Type, message)
                .help("an id is a whole number, a text, or an array of the parts of one")
        })
    }

    fn of_tree(value: &serde_json::Value) -> Option<Self> {
        match value {
            serde_json::Value::Number(number) => number.as_i64().map(RowId::Int),
            serde_json::Value::String(text) => Some(RowId::Text(text.as_str().into())),
            serde_json::Value::Array(parts) if parts.len() > 1 => {
                parts.iter().map(Self::of_tree).collect::<Option<_>>().map(RowId::Parts)
            }
            _ => None,
        }
    }

    /// The id as a JSON text.
    ///
    /// ```
    /// assert_eq!(backwater::RowId::from("SAL").to_json().as_str(), r#""SAL""#);
    /// ```
    pub fn to_json(&self) -> Json {
        let mut out = String::new();
        self.write_json(&mut out);
        Json(out.into())
    }

    fn write_json(&self, out: &mut String) {
        match self {
            RowId::Int(number) => out.push_str(&number.to_string()),
            RowId::Text(text) => write_json_text(out, text),
            RowId::Parts(parts) => {
                out.push('[');
                for (number, part) in parts.iter().enumerate() {
                    if number > 0 {
                        out.push(',');
                    }
                    part.write_json(out);
                }
                out.push(']');
            }
        }
    }
}

/// Writes a text as a JSON string.
pub(crate) fn write_json_text(out: &mut String, text: &str) {
    let is_plain = |byte: u8| byte >= b' ' && byte != b'"' && byte != b'\\';
    if text.bytes().all(is_plain) {
        out.extend(["\"", text, "\""]);
    } else {
        out.push_str(&serde_json::to_string(text).unwrap_or_default());
    }
}

/// An id of several parts is written as a JSON array.
impl fmt::Display for RowId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RowId::Int(number) => number.fmt(f),
            RowId::Text(text) => f.pad(text),
            RowId::Parts(_) => f.pad(self.to_json().as_str()),
        }
    }
}

impl From<i64> for RowId {
    fn from(id: i64) -> Self {
        RowId::Int(id)
    }
}

impl From<i32> for RowId {
    fn from(id: i32) -> Self {
        RowId::Int(id.into())
    }
}

impl From<&str> for RowId {
    fn from(id: &str) -> Self {
        RowId::Text(id.into())
    }
}

impl From<String> for RowId {
    fn from(id: String) -> Self {
        RowId::Text(id.into())
    }
}

impl From<&RowId> for RowId {
    fn from(id: &RowId) -> Self {
        id.clone()
    }
}

impl<A: Into<RowId>, B: Into<RowId>> From<(A, B)> for RowId {
    fn from((a, b): (A, B)) -> Self {
        RowId::Parts([a.into(), b.into()].into())
    }
}

impl<A: Into<RowId>, B: Into<RowId>, C: Into<RowId>> From<(A, B, C)> for RowId {
    fn from((a, b, c): (A, B, C)) -> Self {
        RowId::Parts([a.into(), b.into(), c.into()].into())
    }
}

/// A borrowed id, so that a look-up needs no copy.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum IdRef<'a> {
    Int(i64),
    Text(&'a str),
    Parts(Arc<[RowId]>),
}

impl IdRef<'_> {
    pub(crate) fn to_id(&self) -> RowId {
        match self {
            IdRef::Int(number) => RowId::Int(*number),
            IdRef::Text(text) => RowId::Text((*text).into()),
            IdRef::Parts(parts) => RowId::Parts(parts.clone()),
        }
    }
}

/// Values by name: the fields of a row to write, or the parameters of a statement.
///
/// Made from an array of pairs, or from a tuple of them where their values are of several types;
/// `()` is none at all.
///
/// ```
/// use backwater::{Named, Value};
///
/// let fields = Named::from((("status", "delayed"), ("delay_min", 5)));
/// assert_eq!(fields, Named::from([("status", Value::from("delayed")), ("delay_min", 5.into())]));
/// assert_eq!(Named::from([("delay_min", 5)]).iter().next(), Some(("delay_min", &Value::Int(5))));
/// ```
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Named(SmallVec<[(CompactString, Value); 2]>);

impl Named {
    /// The pairs in the order in which they were given.
    ///
    /// ```
    /// let named = backwater::Named::from([("port", "SAL")]);
    /// assert_eq!(named.iter().next(), Some(("port", &backwater::Value::from("SAL"))));
    /// ```
    pub fn iter(&self) -> impl Iterator<Item = (&str, &Value)> {
        self.0.iter().map(|(name, value)| (name.as_str(), value))
    }
}

impl From<()> for Named {
    fn from((): ()) -> Self {
        Self::default()
    }
}

impl<N: AsRef<str>, V: Into<Value>, const LEN: usize> From<[(N, V); LEN]> for Named {
    fn from(pairs: [(N, V); LEN]) -> Self {
        pairs.into_iter().collect()
    }
}

macro_rules! pairs {
    ($($name:ident $value:ident),*) => {
        impl<$($value: Into<Value>),*> From<($((&str, $value),)*)> for Named {
            fn from(($($name,)*): ($((&str, $value),)*)) -> Self {
                Self(smallvec![$(($name.0.into(), $name.1.into())),*])
            }
        }
    };
}

pairs!(a A, b B);
pairs!(a A, b B, c C);
pairs!(a A, b B, c C, d D);
pairs!(a A, b B, c C, d D, e E);
pairs!(a A, b B, c C, d D, e E, f F);
pairs!(a A, b B, c C, d D, e E, f F, g G);
pairs!(a A, b B, c C, d D, e E, f F, g G, h H);

impl<N: AsRef<str>, V: Into<Value>> From<Vec<(N, V)>> for Named {
    fn from(pairs: Vec<(N, V)>) -> Self {
        pairs.into_iter().collect()
    }
}

impl<N: AsRef<str>, V: Into<Value>> FromIterator<(N, V)> for Named {
    fn from_iter<I: IntoIterator<Item = (N, V)>>(pairs: I) -> Self {
        Self(pairs.into_iter().map(|(name, value)| (name.as_ref().into(), value.into())).collect())
    }
}
