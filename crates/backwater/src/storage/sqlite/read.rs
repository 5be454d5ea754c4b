//! From a file's rows to stored rows.

use std::collections::HashMap;

use rusqlite::types::{ToSql, ToSqlOutput, ValueRef};
use rusqlite::{Connection, OptionalExtension};

use smallvec::SmallVec;

use super::errors::unreadable;
use super::write::quoted;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::FieldNo;
use crate::storage::form::{Stored, StoredTable, id_of};
use crate::storage::{Hash, Loader};
use crate::value::RowId;

/// Gives all rows of a table, and what was told of it.
pub(super) fn load_table(
    connection: &Connection,
    stored: &StoredTable<'_>,
    loader: &mut Loader<'_>,
) -> Result<()> {
    let StoredTable { schema, form, number } = *stored;
    let table = schema.table(number);
    let told = "SELECT row_count, hash FROM backwater_hash WHERE table_name = ?";
    let told =
        connection.query_row(told, [&*table.name], |row| Ok((row.get::<_, i64>(0)?, row.get(1)?)));
    if let Some((rows, hash)) = told.optional().map_err(unreadable)? {
        loader.told(rows as u64, Hash::from_bytes(hash));
    }
    let fields = &form.table(number).fields;
    let names: Vec<&str> = stored.columns().collect();
    let nulls = load_nulls(connection, &table.name)?;
    let is_absent: Vec<bool> =
        names.iter().map(|name| nulls.get(*name).copied().unwrap_or_default()).collect();
    let others = load_others(connection, &table.name)?;
    // A table without any field that persists still has a row to count.
    let columns: Vec<String> = names.iter().map(|name| quoted(name)).collect();
    let columns = if columns.is_empty() { "NULL".to_owned() } else { columns.join(", ") };
    let sql = format!("SELECT {columns} FROM {}", quoted(&table.name));
    let mut statement = connection.prepare(&sql).map_err(unreadable)?;
    let mut rows = statement.query([]).map_err(unreadable)?;
    while let Some(row) = rows.next().map_err(unreadable)? {
        let mut values: SmallVec<[Stored<'_>; 16]> = SmallVec::new();
        let mut absent: SmallVec<[&str; 16]> = SmallVec::new();
        for place in 0..fields.len() {
            let value = read_value(row.get_ref(place).map_err(unreadable)?)?;
            if value == Stored::Null && is_absent[place] {
                absent.push(names[place]);
            }
            values.push(value);
        }
        if !others.is_empty() {
            let value_of = |id: &FieldNo| values.get(fields.iter().position(|field| field == id)?);
            let key = match id_of(schema, number, value_of) {
                _ if table.is_one_row() => Some(RowId::Int(0)),
                Some(id @ RowId::Parts(_)) => Some(RowId::from(id.to_json().as_str())),
                id => id,
            };
            for name in key.and_then(|key| others.get(&key)).into_iter().flatten() {
                // Here a NULL is the other of the two.
                match absent.iter().position(|absent| absent == name) {
                    Some(place) => drop(absent.remove(place)),
                    None => absent.push(name),
                }
            }
        }
        loader.row(&values, &absent)?;
    }
    Ok(())
}

/// For each column of a table whether a NULL means that its field is absent.
fn load_nulls(connection: &Connection, table: &str) -> Result<HashMap<String, bool>> {
    let sql = "SELECT field, is_absent FROM backwater_null WHERE table_name = ?";
    let mut statement = connection.prepare(sql).map_err(unreadable)?;
    let rows = statement.query_map([table], |row| Ok((row.get(0)?, row.get(1)?)));
    rows.and_then(Iterator::collect).map_err(unreadable)
}

/// In which columns of which rows a NULL means the other thing.
fn load_others(connection: &Connection, table: &str) -> Result<HashMap<RowId, Vec<String>>> {
    let mut statement = connection
        .prepare("SELECT row_id, field FROM backwater_other_null WHERE table_name = ?")
        .map_err(unreadable)?;
    let mut rows = statement.query([table]).map_err(unreadable)?;
    let mut others: HashMap<RowId, Vec<String>> = HashMap::new();
    while let Some(row) = rows.next().map_err(unreadable)? {
        let id = match read_value(row.get_ref(0).map_err(unreadable)?)? {
            Stored::Int(number) => RowId::Int(number),
            Stored::Text(text) => RowId::from(text.as_ref()),
            other => {
                return Err(Error::new(
                    ErrorKind::Damaged,
                    format!("found {other:?} for a row's id"),
                ));
            }
        };
        others.entry(id).or_default().push(row.get(1).map_err(unreadable)?);
    }
    Ok(others)
}

fn read_value(value: ValueRef<'_>) -> Result<Stored<'_>> {
    Ok(match value {
        ValueRef::Null => Stored::Null,
        ValueRef::Integer(number) => Stored::Int(number),
        ValueRef::Real(number) => Stored::Real(number),
        ValueRef::Text(bytes) => match std::str::from_utf8(bytes) {
            Ok(text) => Stored::Text(text.into()),
            Err(_) => return Err(Error::new(ErrorKind::Damaged, "a text in it is not UTF-8")),
        },
        ValueRef::Blob(_) => return Err(Error::new(ErrorKind::Damaged, "a value in it is a blob")),
    })
}

impl ToSql for Stored<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self {
            Stored::Null => ValueRef::Null,
            Stored::Int(number) => ValueRef::Integer(*number),
            Stored::Real(number) => ValueRef::Real(*number),
            Stored::Text(text) => ValueRef::Text(text.as_bytes()),
        }))
    }
}
