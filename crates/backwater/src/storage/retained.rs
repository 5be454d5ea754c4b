//! What a storage holds that the schema does not name: it stays, retained, until a schema names it
//! again or drops it.
//!
//! It is kept as rows of one more stored table, `backwater_retained`: for each row that has such
//! values its table, its id, and the values as a JSON object.

use std::collections::BTreeMap;
use std::sync::{Arc, LazyLock};

use serde_json::value::RawValue;

use super::form::Stored;
use crate::schema::{FieldKind, FieldNo, Schema, TableNo};
use crate::table::{Cell, Slot, State};
use crate::value::{RowId, write_json_text};

/// The name of the stored table.
pub(super) const NAME: &str = "backwater_retained";
/// Its number among the tables of its own schema.
pub(super) const TABLE: TableNo = TableNo(0);
const VALUES: FieldNo = FieldNo(2);

static SCHEMA: LazyLock<Arc<Schema>> = LazyLock::new(|| {
    let text = "table.retained = { id = ['table_name', 'row_id'], fields = { table_name = 'text', row_id = 'text', fields = 'json' } }";
    match Schema::parse("retained", text) {
        Ok(schema) => Arc::new(schema.renamed(NAME)),
        Err(error) => unreachable!("the text is right: {error}"),
    }
});

/// The values of one row, by the names of their fields.
pub(super) type Values = BTreeMap<String, RetainedValue>;

/// A value that is retained.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum RetainedValue {
    Value(Stored<'static>),
    /// That of a json field.
    Json(Box<str>),
}

impl RetainedValue {
    pub(super) fn of(kind: FieldKind, value: Stored<'static>) -> Self {
        match (kind, value) {
            (FieldKind::Json, Stored::Text(text)) => Self::Json(text.into()),
            (_, value) => Self::Value(value),
        }
    }
}

pub(super) fn schema() -> Arc<Schema> {
    SCHEMA.clone()
}

pub(super) fn nothing() -> State {
    State::new(schema())
}

pub(super) fn is_empty(state: &State) -> bool {
    state.table(TABLE).rows() == 0
}

/// How the id of a row is written; a one-row table's row has none.
pub(super) fn row_id(id: Option<RowId>) -> String {
    id.map_or_else(|| "null".to_owned(), |id| id.to_json().as_str().to_owned())
}

fn key(table: &str, row: &str) -> RowId {
    RowId::from((table, row))
}

/// Where the values of a row are, if it has some.
pub(super) fn find(state: &State, table: &str, row: &str) -> Option<Slot> {
    let slot = state.slot(TABLE, &key(table, row)).ok().flatten()?;
    state.table(TABLE).is_row(slot).then_some(slot)
}

/// The values of a row.
pub(super) fn values(state: &State, slot: Slot) -> Values {
    let Cell::Json(text) = state.table(TABLE).cell(slot, VALUES) else { return Values::new() };
    let tree: BTreeMap<String, &RawValue> = serde_json::from_str(text).unwrap_or_default();
    tree.into_iter().filter_map(|(name, value)| Some((name, was_retained(value.get())?))).collect()
}

/// A value as it is written: that of a json field as the only element of an array.
fn was_retained(text: &str) -> Option<RetainedValue> {
    if let Some(json) = text.strip_prefix('[') {
        return json.strip_suffix(']').map(|json| RetainedValue::Json(json.into()));
    }
    Some(RetainedValue::Value(match serde_json::from_str(text).ok()? {
        serde_json::Value::Null => Stored::Null,
        serde_json::Value::Number(number) => match number.as_i64() {
            Some(number) => Stored::Int(number),
            None => Stored::Real(number.as_f64()?),
        },
        serde_json::Value::String(text) => Stored::Text(text.into()),
        _ => return None,
    }))
}

/// Lays the values of a row retained, in the place of any that are.
pub(super) fn put(state: &mut State, table: &str, row: &str, values: &Values) {
    let mut text = String::from("{");
    for (name, value) in values {
        text.push_str(if text.len() > 1 { "," } else { "" });
        write_json_text(&mut text, name);
        text.push(':');
        match value {
            RetainedValue::Json(json) => text.extend(["[", &**json, "]"]),
            RetainedValue::Value(Stored::Null) => text.push_str("null"),
            RetainedValue::Value(Stored::Int(number)) => text.push_str(&number.to_string()),
            RetainedValue::Value(Stored::Real(number)) => {
                text.push_str(&serde_json::Value::from(*number).to_string());
            }
            RetainedValue::Value(Stored::Text(value)) => write_json_text(&mut text, value),
        }
    }
    text.push('}');
    let Ok(slot) = state.refer_id(TABLE, &key(table, row)) else { return };
    if !state.table(TABLE).is_row(slot) {
        state.table_mut(TABLE).insert(slot);
    }
    state.table_mut(TABLE).set(slot, VALUES, Cell::Json(&text));
}

/// The rows of a table of which something is retained: their ids as they are written, and where
/// they are.
pub(super) fn rows_of(state: &State, table: &str) -> Vec<(String, Slot)> {
    let rows = state.table(TABLE).iter().filter_map(|slot| {
        let (Cell::Text(of), Cell::Text(row)) =
            (state.table(TABLE).cell(slot, FieldNo(0)), state.table(TABLE).cell(slot, FieldNo(1)))
        else {
            return None;
        };
        (of == table).then(|| (row.to_owned(), slot))
    });
    rows.collect()
}
