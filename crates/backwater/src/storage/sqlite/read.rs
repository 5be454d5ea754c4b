//! From a file's rows to stored rows.

use std::collections::HashMap;

use rusqlite::types::{ToSql, ToSqlOutput, ValueRef};
use rusqlite::{Connection, OptionalExtension};

use smallvec::SmallVec;

use super::errors::unreadable;
use super::write::quoted;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::FieldNo;
#[cfg(feature = "threads")]
use crate::storage::form::Raw;
use crate::storage::form::{Stored, StoredTable, id_of};
use crate::storage::{Hash, Loader};
use crate::value::RowId;

/// A table of this many rows is read on a thread of its own.
#[cfg(feature = "threads")]
const MANY: u64 = 4096;

/// Gives all rows of a table, and its recorded digest.
pub(super) fn load_table(
    connection: &mut Connection,
    stored: &StoredTable<'_>,
    loader: &mut Loader<'_>,
) -> Result<()> {
    let digest = digest(connection, stored.name())?;
    if let Some((rows, hash)) = digest {
        loader.digest(rows, hash);
    }
    let rows = RowsOf::new(connection, stored)?;
    #[cfg(feature = "threads")]
    if digest.is_some_and(|(rows, _)| rows >= MANY) && rows.columns() > 0 {
        return super::pipe::load(connection, &rows, loader);
    }
    let mut is_absent = SmallVec::new();
    rows.each(connection, |row| {
        let values = (0..rows.columns())
            .map(|place| row.get_ref(place).map_err(unreadable).and_then(read_value));
        let values: SmallVec<[Stored<'_>; 16]> = values.collect::<Result<_>>()?;
        rows.absent(&values, &mut is_absent);
        loader.hashed(&values, &is_absent, rows.hash(&values, &is_absent))
    })
}

/// The recorded digest of a table.
pub(super) fn digest(connection: &Connection, table: &str) -> Result<Option<(u64, Hash)>> {
    let sql = "SELECT row_count, hash FROM backwater_hash WHERE table_name = ?";
    let digest = connection.prepare_cached(sql).and_then(|mut digest| {
        digest
            .query_row([table], |row| {
                Ok((row.get::<_, i64>(0)? as u64, Hash::from_bytes(row.get(1)?)))
            })
            .optional()
    });
    digest.map_err(unreadable)
}

/// The rows of a table in a file, as they are to be read.
pub(super) struct RowsOf<'t> {
    stored: StoredTable<'t>,
    columns: Vec<&'t str>,
    /// For each column whether a NULL means that its field is absent.
    is_absent: Vec<bool>,
    /// The rows in which it means the other.
    others: HashMap<RowId, Vec<String>>,
}

impl<'t> RowsOf<'t> {
    fn new(connection: &Connection, stored: &StoredTable<'t>) -> Result<Self> {
        let columns: Vec<&str> = stored.columns().collect();
        let nulls = load_nulls(connection, stored.name())?;
        let is_absent = columns.iter().map(|name| nulls.get(*name).copied().unwrap_or_default());
        let is_absent = is_absent.collect();
        let others = load_others(connection, stored.name())?;
        Ok(Self { stored: *stored, columns, is_absent, others })
    }

    pub(super) fn columns(&self) -> usize {
        self.columns.len()
    }

    /// The hashes of rows whose values lie one behind the other, where these alone say what is
    /// absent; nothing, where they do not.
    #[cfg(feature = "threads")]
    pub(super) fn hashes<'v>(&self, rows: usize, value: impl Fn(usize) -> Raw<'v>) -> Vec<Hash> {
        if !self.others.is_empty() {
            return Vec::new();
        }
        let (form, columns) = (self.stored.form.table(self.stored.number), self.columns());
        let mut bytes = Vec::new();
        let hash = |row: usize| {
            let value = |place: usize| value(row * columns + place);
            let is_absent =
                |place: usize| self.is_absent[place] && matches!(value(place), Raw::Null);
            form.hash_raw(&mut bytes, value, is_absent)
        };
        (0..rows).map(hash).collect()
    }

    pub(super) fn hash(&self, values: &[Stored<'_>], is_absent: &[bool]) -> Hash {
        self.stored.form.table(self.stored.number).hash_of(values, is_absent)
    }

    /// Reads all rows.
    pub(super) fn each(
        &self,
        connection: &Connection,
        mut each: impl FnMut(&rusqlite::Row<'_>) -> Result<()>,
    ) -> Result<()> {
        let columns: Vec<String> = self.columns.iter().map(|name| quoted(name)).collect();
        // A table without any field that persists still has a row to count.
        let columns = if columns.is_empty() { "NULL".to_owned() } else { columns.join(", ") };
        let sql = format!("SELECT {columns} FROM {}", quoted(self.stored.name()));
        let mut statement = connection.prepare(&sql).map_err(unreadable)?;
        let mut rows = statement.query([]).map_err(unreadable)?;
        while let Some(row) = rows.next().map_err(unreadable)? {
            each(row)?;
        }
        Ok(())
    }

    /// Which values of a row are absent.
    pub(super) fn absent(&self, values: &[Stored<'_>], absent: &mut SmallVec<[bool; 16]>) {
        absent.clear();
        let columns = self.is_absent.iter().zip(values);
        absent.extend(columns.map(|(is_absent, value)| *is_absent && *value == Stored::Null));
        if !self.others.is_empty() {
            self.turn(values, absent);
        }
    }

    /// Where a row is listed, a NULL in it is the other of the two.
    fn turn(&self, values: &[Stored<'_>], absent: &mut [bool]) {
        let StoredTable { schema, form, number } = self.stored;
        let fields = &form.table(number).fields;
        let value_of = |id: &FieldNo| values.get(fields.iter().position(|field| field == id)?);
        let key = match id_of(schema, number, value_of) {
            _ if schema.table(number).is_one_row() => Some(RowId::Int(0)),
            Some(id @ RowId::Parts(_)) => Some(RowId::from(id.to_json().as_str())),
            id => id,
        };
        for name in key.and_then(|key| self.others.get(&key)).into_iter().flatten() {
            if let Some(place) = self.columns.iter().position(|known| known == name) {
                absent[place] = !absent[place];
            }
        }
    }
}

/// For each column of a table whether a NULL means that its field is absent.
fn load_nulls(connection: &Connection, table: &str) -> Result<HashMap<String, bool>> {
    let sql = "SELECT field, is_absent FROM backwater_null WHERE table_name = ?";
    let mut statement = connection.prepare_cached(sql).map_err(unreadable)?;
    let rows = statement.query_map([table], |row| Ok((row.get(0)?, row.get(1)?)));
    rows.and_then(Iterator::collect).map_err(unreadable)
}

/// In which columns of which rows a NULL means the other thing.
fn load_others(connection: &Connection, table: &str) -> Result<HashMap<RowId, Vec<String>>> {
    let mut statement = connection
        .prepare_cached("SELECT row_id, field FROM backwater_other_null WHERE table_name = ?")
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
