//! Values as SQL sees them: how they compare, convert and count.
//!
//! The rules are SQLite's: storage classes order as NULL, numbers, text; affinities convert before
//! a comparison; arithmetic takes the number that a text begins with. A time is a text of fixed
//! width here, kept as its number until the text is needed.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use crate::query::expr::numeral::{int_prefix, number_prefix, real_text};
use crate::schema::{FieldDef, FieldKind, FieldNo, IdType, Schema, TableNo};
use crate::table::{Cell, Slot, State};
use crate::value::{IdRef, Json, RowId, Timestamp, Value};

/// One value inside of a statement.
#[derive(Debug, Clone)]
pub(crate) enum Scalar<'a> {
    Null,
    Int(i64),
    Real(f64),
    /// A text borrowed from a table or a statement.
    Str(&'a str),
    /// A text of its own.
    Text(Arc<str>),
    /// A text that is a timestamp in its stored form.
    Time(Timestamp),
}

/// What a column's declared type does to the other side of a comparison.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Affinity {
    None,
    /// That of a column without a type: beside a text it keeps that from converting.
    Blob,
    Text,
    Numeric,
}

impl Affinity {
    pub(crate) fn of(field: &FieldDef, schema: &Schema) -> Self {
        match (field.kind, schema.linked_id_type(field)) {
            (FieldKind::Int | FieldKind::Float | FieldKind::Bool | FieldKind::Links(_), _) => {
                Affinity::Numeric
            }
            (_, Some(IdType::Int)) => Affinity::Numeric,
            _ => Affinity::Text,
        }
    }

    /// The affinity that a comparison applies to both sides.
    pub(crate) fn of_comparison(left: Affinity, right: Affinity) -> Self {
        match (left, right) {
            (Affinity::Numeric, _) | (_, Affinity::Numeric) => Affinity::Numeric,
            (Affinity::None, Affinity::Text) | (Affinity::Text, Affinity::None) => Affinity::Text,
            _ => Affinity::None,
        }
    }
}

impl<'a> Scalar<'a> {
    pub(crate) const TRUE: Scalar<'static> = Scalar::Int(1);
    pub(crate) const FALSE: Scalar<'static> = Scalar::Int(0);

    /// A field of a row, as its column of the storage form has it.
    #[inline]
    pub(crate) fn of_cell(state: &'a State, table: TableNo, slot: Slot, field: FieldNo) -> Self {
        Self::of(state, table, field, state.table(table).cell(slot, field))
    }

    /// What a field of a row holds, as its column of the storage form has it.
    #[inline]
    pub(crate) fn of(state: &'a State, table: TableNo, field: FieldNo, cell: Cell<'a>) -> Self {
        match cell {
            Cell::Absent | Cell::Null => Scalar::Null,
            Cell::Int(number) => Scalar::Int(number),
            Cell::Float(number) => Scalar::Real(number),
            Cell::Bool(flag) => Scalar::Int(flag.into()),
            Cell::Text(text) | Cell::Json(text) => Scalar::Str(text),
            Cell::Timestamp(time) => Scalar::Time(time),
            link => {
                let target = state.target(table, field, link);
                let id = target.and_then(|(to, slot)| state.id(to, slot));
                match id {
                    // Where ids of several types meet, all of them are texts.
                    Some(IdRef::Int(number)) if state.is_text(table, field) => {
                        Scalar::Text(number.to_string().into())
                    }
                    id => id.map_or(Scalar::Null, Scalar::from),
                }
            }
        }
    }

    /// The value as a field of a table holds it; `None` if no row of it can.
    pub(crate) fn as_cell(
        &self,
        state: &State,
        table: TableNo,
        field: FieldNo,
    ) -> Option<Cell<'_>> {
        let kind = state.schema.table(table).field(field).kind;
        Some(match (kind, self) {
            (_, Scalar::Null) => return None,
            (FieldKind::Int | FieldKind::Links(_), Scalar::Int(number)) => Cell::Int(*number),
            (FieldKind::Int | FieldKind::Links(_), Scalar::Real(number)) => {
                Cell::Int(whole(*number)?)
            }
            (FieldKind::Float, Scalar::Real(number)) => Cell::Float(number + 0.0),
            (FieldKind::Float, Scalar::Int(number)) => {
                let real = *number as f64;
                Cell::Float((whole(real) == Some(*number)).then_some(real)?)
            }
            (FieldKind::Bool, Scalar::Int(number @ 0..=1)) => Cell::Bool(*number == 1),
            (FieldKind::Bool, Scalar::Real(number)) => match whole(*number)? {
                number @ 0..=1 => Cell::Bool(number == 1),
                _ => return None,
            },
            (FieldKind::Text, Scalar::Str(text)) => Cell::Text(text),
            (FieldKind::Text, Scalar::Text(text)) => Cell::Text(text),
            (FieldKind::Json, Scalar::Str(text)) => Cell::Json(text),
            (FieldKind::Json, Scalar::Text(text)) => Cell::Json(text),
            (FieldKind::Timestamp, Scalar::Time(time)) => Cell::Timestamp(*time),
            (FieldKind::Timestamp, Scalar::Str(_) | Scalar::Text(_)) => {
                let time: Timestamp = self.lent().parse().ok()?;
                Cell::Timestamp((time.text().as_str() == self.lent()).then_some(time)?)
            }
            (FieldKind::Link(to), value) => Cell::Link(value.as_slot(state, to)?),
            _ => return None,
        })
    }

    /// The slot of the row with this id, whether or not it is there.
    pub(crate) fn as_slot(&self, state: &State, table: TableNo) -> Option<Slot> {
        let definition = state.schema.table(table);
        if let [field] = *definition.id {
            let text;
            let value = match self {
                Scalar::Time(time) => {
                    text = Scalar::Text(time.text().as_str().into());
                    &text
                }
                other => other,
            };
            return state.table(table).slot(&[value.as_cell(state, table, field)?]);
        }
        let text = self.is_text().then(|| self.to_text())??;
        let json = Json::parse(&text).ok()?;
        let id = RowId::from_json(&json).ok()?;
        let slot = state.slot(table, &id).ok()??;
        (id.to_json().as_str() == text).then_some(slot)
    }

    pub(crate) fn is_null(&self) -> bool {
        matches!(self, Scalar::Null)
    }

    /// Adds the value to a hash: two values that SQL calls equal have the same.
    pub(crate) fn hash_key(&self, hasher: &mut impl Hasher) {
        match self {
            Scalar::Null => hasher.write_u8(0),
            Scalar::Int(number) => hasher.write_u64(*number as u64),
            Scalar::Real(number) => match whole(*number) {
                Some(number) => hasher.write_u64(number as u64),
                None => hasher.write_u64(number.to_bits()),
            },
            Scalar::Str(text) => hasher.write(text.as_bytes()),
            Scalar::Text(text) => hasher.write(text.as_bytes()),
            Scalar::Time(time) => hasher.write(time.text().as_str().as_bytes()),
        }
        // No text holds this byte, so that of two keys none begins as the other.
        hasher.write_u8(0xff);
    }

    pub(crate) fn is_text(&self) -> bool {
        self.class() == 2
    }

    pub(crate) fn truth(value: Option<bool>) -> Self {
        value.map_or(Scalar::Null, |truth| Scalar::Int(truth.into()))
    }

    /// True, false, or unknown.
    pub(crate) fn as_truth(&self) -> Option<bool> {
        match self.to_number() {
            Scalar::Null => None,
            Scalar::Int(number) => Some(number != 0),
            Scalar::Real(number) => Some(number != 0.0),
            _ => Some(false),
        }
    }

    /// The same value without a reference of its own.
    pub(crate) fn lend(&self) -> Scalar<'_> {
        match self {
            Scalar::Text(text) => Scalar::Str(text),
            other => other.clone(),
        }
    }

    pub(crate) fn into_owned(self) -> Scalar<'static> {
        match self {
            Scalar::Null => Scalar::Null,
            Scalar::Int(number) => Scalar::Int(number),
            Scalar::Real(number) => Scalar::Real(number),
            Scalar::Str(text) => Scalar::Text(text.into()),
            Scalar::Text(text) => Scalar::Text(text),
            Scalar::Time(time) => Scalar::Time(time),
        }
    }

    /// How many bytes its text takes, if it is one.
    pub(crate) fn text_len(&self) -> usize {
        match self {
            Scalar::Str(text) => text.len(),
            Scalar::Text(text) => text.len(),
            _ => 0,
        }
    }

    /// The value as a text; `None` for NULL.
    pub(crate) fn to_text(&self) -> Option<Cow<'_, str>> {
        Some(match self {
            Scalar::Null => return None,
            Scalar::Int(number) => number.to_string().into(),
            Scalar::Real(number) => real_text(*number).into(),
            Scalar::Str(text) => Cow::Borrowed(text),
            Scalar::Text(text) => Cow::Borrowed(text),
            Scalar::Time(time) => time.text().as_str().to_owned().into(),
        })
    }

    /// The value as a number: of a text, the number that it begins with.
    pub(crate) fn to_number(&self) -> Scalar<'static> {
        match self {
            Scalar::Null => Scalar::Null,
            Scalar::Int(number) => Scalar::Int(*number),
            Scalar::Real(number) => Scalar::Real(*number),
            Scalar::Str(text) => number_prefix(text).0,
            Scalar::Text(text) => number_prefix(text).0,
            Scalar::Time(time) => number_prefix(time.text().as_str()).0,
        }
    }

    /// The value cut to a whole number: of a text, the digits that it begins with.
    pub(crate) fn to_int(&self) -> i64 {
        match self {
            Scalar::Null => 0,
            Scalar::Int(number) => *number,
            // A cast cuts the decimals off and stops at the ends of the range.
            Scalar::Real(number) => *number as i64,
            Scalar::Str(text) => int_prefix(text),
            Scalar::Text(text) => int_prefix(text),
            Scalar::Time(time) => int_prefix(time.text().as_str()),
        }
    }

    /// The value under an affinity.
    pub(crate) fn under(self, affinity: Affinity) -> Self {
        match (affinity, &self) {
            (Affinity::Text, Scalar::Int(_) | Scalar::Real(_)) => {
                self.to_text().map_or(Scalar::Null, |text| Scalar::Text(text.into()))
            }
            (Affinity::Numeric, Scalar::Str(_) | Scalar::Text(_)) => {
                let whole = match &self {
                    Scalar::Str(text) => number_prefix(text),
                    Scalar::Text(text) => number_prefix(text),
                    _ => (Scalar::Null, false),
                };
                if whole.1 { whole.0 } else { self }
            }
            _ => self,
        }
    }

    /// The order of SQL: NULL, then numbers by size, then texts by their bytes.
    pub(crate) fn order(&self, other: &Scalar<'_>) -> Ordering {
        match (self, other) {
            (Scalar::Int(a), Scalar::Int(b)) => a.cmp(b),
            (Scalar::Real(a), Scalar::Real(b)) => a.partial_cmp(b).unwrap_or(Ordering::Equal),
            (Scalar::Int(a), Scalar::Real(b)) => int_against_real(*a, *b),
            (Scalar::Real(a), Scalar::Int(b)) => int_against_real(*b, *a).reverse(),
            (Scalar::Time(a), Scalar::Time(b)) => a.cmp(b),
            (Scalar::Time(a), b) if b.class() == 2 => a.text().as_str().cmp(b.lent()),
            (a, Scalar::Time(b)) if a.class() == 2 => a.lent().cmp(b.text().as_str()),
            (a, b) if a.class() == 2 && b.class() == 2 => a.lent().cmp(b.lent()),
            (a, b) => a.class().cmp(&b.class()),
        }
    }

    fn class(&self) -> u8 {
        match self {
            Scalar::Null => 0,
            Scalar::Int(_) | Scalar::Real(_) => 1,
            Scalar::Str(_) | Scalar::Text(_) | Scalar::Time(_) => 2,
        }
    }

    /// The letters of a text that has them already.
    fn lent(&self) -> &str {
        match self {
            Scalar::Str(text) => text,
            Scalar::Text(text) => text,
            _ => "",
        }
    }

    /// The value as a result gives it; a column that is a plain field keeps its declared type.
    pub(crate) fn into_value(self, declared: Option<FieldKind>) -> Value {
        match (self, declared) {
            (Scalar::Null, _) => Value::Null,
            (Scalar::Int(number), Some(FieldKind::Bool)) => Value::Bool(number != 0),
            (Scalar::Int(number), _) => Value::Int(number),
            (Scalar::Real(number), _) => Value::Float(number),
            (Scalar::Time(time), Some(FieldKind::Timestamp)) => Value::Timestamp(time),
            (Scalar::Time(time), _) => Value::Text(time.text().as_str().into()),
            (Scalar::Str(text), Some(FieldKind::Json)) => Value::Json(Json::from_raw(text)),
            (Scalar::Text(text), Some(FieldKind::Json)) => Value::Json(Json::from_raw(&text)),
            (Scalar::Str(text), _) => Value::Text(text.into()),
            (Scalar::Text(text), _) => Value::Text(text),
        }
    }
}

/// The same value of the same type: 1 and 1.0 are not.
impl PartialEq for Scalar<'_> {
    fn eq(&self, other: &Self) -> bool {
        let types = matches!(
            (self, other),
            (Scalar::Int(_), Scalar::Real(_)) | (Scalar::Real(_), Scalar::Int(_))
        );
        !types && self.order(other).is_eq()
    }
}

impl Eq for Scalar<'_> {}

impl Hash for Scalar<'_> {
    fn hash<H: Hasher>(&self, hasher: &mut H) {
        match self {
            Scalar::Null => hasher.write_u8(0),
            Scalar::Int(number) => (1_u8, number).hash(hasher),
            // -0.0 is 0.0.
            Scalar::Real(number) => (2_u8, (number + 0.0).to_bits()).hash(hasher),
            Scalar::Str(text) => (3_u8, text).hash(hasher),
            Scalar::Text(text) => (3_u8, text).hash(hasher),
            Scalar::Time(time) => (3_u8, time.text().as_str()).hash(hasher),
        }
    }
}

impl From<&Value> for Scalar<'static> {
    fn from(value: &Value) -> Self {
        match value {
            Value::Null => Scalar::Null,
            Value::Bool(flag) => Scalar::Int((*flag).into()),
            Value::Int(number) => Scalar::Int(*number),
            Value::Float(number) => Scalar::Real(number + 0.0),
            Value::Text(text) => Scalar::Text(text.clone()),
            Value::Timestamp(time) => Scalar::Time(*time),
            Value::Json(json) => Scalar::Text(json.as_str().into()),
        }
    }
}

impl<'a> From<IdRef<'a>> for Scalar<'a> {
    fn from(id: IdRef<'a>) -> Self {
        match id {
            IdRef::Int(number) => Scalar::Int(number),
            IdRef::Text(text) => Scalar::Str(text),
            parts => Scalar::Text(parts.to_id().to_json().as_str().into()),
        }
    }
}

/// A value as a key of an index or a group: two values are one key when SQL calls them equal.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) enum Key {
    Null,
    Int(i64),
    /// The bits of a number that is no whole number of 64 bits.
    Real(u64),
    Text(Arc<str>),
}

/// The values by which bindings are found from a row; SQL's NULL equals nothing, so a key never
/// holds one.
pub(crate) type KeyValues = Arc<[Key]>;

impl From<Scalar<'_>> for Key {
    fn from(value: Scalar<'_>) -> Self {
        match value {
            Scalar::Null => Key::Null,
            Scalar::Int(number) => Key::Int(number),
            Scalar::Real(number) => match whole(number) {
                Some(number) => Key::Int(number),
                None => Key::Real(number.to_bits()),
            },
            Scalar::Str(text) => Key::Text(text.into()),
            Scalar::Text(text) => Key::Text(text),
            Scalar::Time(time) => Key::Text(time.text().as_str().into()),
        }
    }
}

/// A value that sorts as SQL sorts it.
#[derive(Debug, Clone)]
pub(crate) struct Sorted(pub(crate) Scalar<'static>);

impl Ord for Sorted {
    fn cmp(&self, other: &Self) -> Ordering {
        self.0.order(&other.0)
    }
}

impl PartialOrd for Sorted {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Sorted {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for Sorted {}

/// The whole number of 64 bits that a binary64 is exactly, if it is one.
fn whole(number: f64) -> Option<i64> {
    const BEYOND: f64 = 9_223_372_036_854_775_808.0;
    (number.fract() == 0.0 && (-BEYOND..BEYOND).contains(&number)).then_some(number as i64)
}

/// Compares exactly: neither side is rounded to the other's type.
fn int_against_real(int: i64, real: f64) -> Ordering {
    const BEYOND: f64 = 9_223_372_036_854_775_808.0;
    if real >= BEYOND {
        Ordering::Less
    } else if real < -BEYOND {
        Ordering::Greater
    } else {
        let floor = real.floor();
        int.cmp(&(floor as i64)).then(if real > floor { Ordering::Less } else { Ordering::Equal })
    }
}
