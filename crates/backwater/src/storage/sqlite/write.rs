//! From batches to a file's rows.

use rusqlite::{Connection, OptionalExtension, params_from_iter};

use super::errors::unwritable;
use crate::error::Result;
use crate::schema::{FieldKind, FieldNo, IdType, Schema, TableDef};
use crate::storage::Header;
use crate::storage::batch::{Batch, TableBatch};
use crate::storage::form::{Form, Stored, StoredTable};
use crate::storage::held::overtaken;
use crate::value::RowId;

/// "BWtr", in the header of every cache file.
pub(super) const APPLICATION_ID: i32 = 0x4257_7472;
/// The version of the layout that this code writes.
pub(super) const FORMAT: i32 = 3;

/// The tables that stand beside those of the schema.
const SIDE_TABLES: &str = "
    CREATE TABLE IF NOT EXISTS backwater_cache (
        only INTEGER PRIMARY KEY CHECK (only = 1),
        last_commit INTEGER NOT NULL,
        step INTEGER NOT NULL,
        schema_name TEXT NOT NULL,
        schema TEXT NOT NULL,
        hash BLOB NOT NULL
    ) STRICT;
    CREATE TABLE IF NOT EXISTS backwater_hash (
        table_name TEXT PRIMARY KEY,
        row_count INTEGER NOT NULL,
        hash BLOB NOT NULL
    ) STRICT, WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS backwater_null (
        table_name TEXT NOT NULL,
        field TEXT NOT NULL,
        is_absent INTEGER NOT NULL CHECK (is_absent IN (0, 1)),
        PRIMARY KEY (table_name, field)
    ) STRICT, WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS backwater_other_null (
        table_name TEXT NOT NULL,
        row_id ANY NOT NULL,
        field TEXT NOT NULL,
        PRIMARY KEY (table_name, row_id, field)
    ) STRICT, WITHOUT ROWID;
";

/// Writes a batch; `connection` is in a transaction, so that all of it is there or nothing.
pub(super) fn write_batch(connection: &Connection, batch: &Batch) -> Result<()> {
    if batch.is_first() {
        let marks =
            format!("PRAGMA application_id = {APPLICATION_ID}; PRAGMA user_version = {FORMAT};");
        connection.execute_batch(&marks).map_err(unwritable)?;
    }
    if batch.new_schema().is_some() {
        connection.execute_batch(SIDE_TABLES).map_err(unwritable)?;
    }
    let before: Option<i64> =
        match connection.query_row("SELECT last_commit FROM backwater_cache", [], |row| row.get(0))
        {
            Ok(commit) => Some(commit),
            Err(rusqlite::Error::QueryReturnedNoRows) => None,
            Err(error) => return Err(unwritable(error)),
        };
    if before.unwrap_or(0) as u64 != batch.from_commit() || before.is_some() == batch.is_first() {
        return Err(overtaken());
    }
    for table in batch.dropped() {
        drop_table(connection, table).map_err(unwritable)?;
    }
    if batch.new_schema().is_some() {
        for table in batch.stored_tables() {
            connection.execute_batch(&create_table(&table)).map_err(unwritable)?;
        }
    }
    for table in batch.tables() {
        write_table(connection, &table).map_err(unwritable)?;
    }
    let schema = batch.schema();
    let commit = batch.commit() as i64;
    let step = batch.step();
    let hash = Header::of(schema, batch).guard().to_bytes();
    let recorded = if batch.new_schema().is_some() {
        let sql = "INSERT OR REPLACE INTO backwater_cache VALUES (1, ?, ?, ?, ?, ?)";
        connection.execute(sql, (commit, step, &*schema.name, schema.text(), hash))
    } else {
        let sql = "UPDATE backwater_cache SET last_commit = ?, schema_name = ?, hash = ?";
        connection.execute(sql, (commit, &*schema.name, hash))
    };
    recorded.map(|_| ()).map_err(unwritable)
}

fn drop_table(connection: &Connection, table: &str) -> rusqlite::Result<()> {
    connection.execute_batch(&format!("DROP TABLE IF EXISTS {}", quoted(table)))?;
    for side in ["backwater_null", "backwater_other_null", "backwater_hash"] {
        connection.execute(&format!("DELETE FROM {side} WHERE table_name = ?"), [table])?;
    }
    Ok(())
}

fn write_table(connection: &Connection, table: &TableBatch<'_>) -> rusqlite::Result<()> {
    let stored = table.table();
    let definition = stored.schema.table(stored.number);
    let table_name = stored.name();
    let name = quoted(table_name);
    let nulls = Nulls::of(connection, table)?;
    let mut forget = nulls.forget(connection)?;
    if !definition.is_one_row() {
        let parts = definition.id.iter().map(|id| quoted(&definition.field(*id).name) + " = ?");
        let key = parts.collect::<Vec<_>>().join(" AND ");
        let mut delete = connection.prepare_cached(&format!("DELETE FROM {name} WHERE {key}"))?;
        for id in table.deletes() {
            match id {
                RowId::Parts(parts) if definition.id.len() != 1 => {
                    delete.execute(params_from_iter(parts.iter().map(stored_id)))?
                }
                single => delete.execute([stored_id(single)])?,
            };
            if let Some(forget) = &mut forget {
                forget.execute((table_name, stored_id(id)))?;
            }
        }
    } else {
        connection.execute(&format!("DELETE FROM {name}"), [])?;
    }
    let columns: Vec<&str> = stored.columns().collect();
    let sql = if columns.is_empty() {
        format!("INSERT INTO {name} DEFAULT VALUES")
    } else {
        let marks = vec!["?"; columns.len()].join(", ");
        let names: Vec<String> = columns.iter().map(|column| quoted(column)).collect();
        format!("INSERT OR REPLACE INTO {name} ({}) VALUES ({marks})", names.join(", "))
    };
    let mut put = connection.prepare_cached(&sql)?;
    let mut note =
        connection.prepare_cached("INSERT INTO backwater_other_null VALUES (?, ?, ?)")?;
    let mut others = Vec::new();
    for row in table.puts() {
        for (place, (value, is_absent)) in row.cells().enumerate() {
            if value == Stored::Null && is_absent != nulls.is_absent[place] {
                others.push(place);
            }
            put.raw_bind_parameter(place + 1, value)?;
        }
        put.raw_execute()?;
        if forget.is_none() && others.is_empty() {
            continue;
        }
        let id = row.id();
        // A one-row table's row goes as 0.
        let id = id.as_ref().map_or(Stored::Int(0), stored_id);
        if let Some(forget) = &mut forget {
            forget.execute((table_name, &id))?;
        }
        for place in others.drain(..) {
            note.execute((table_name, &id, columns[place]))?;
        }
    }
    let mut tell =
        connection.prepare_cached("INSERT OR REPLACE INTO backwater_hash VALUES (?, ?, ?)")?;
    tell.execute((table_name, table.rows() as i64, table.hash().to_bytes()))?;
    Ok(())
}

/// What a NULL means in each column: a field that is absent, or one that is null. Rows in which it
/// is the other are listed.
struct Nulls {
    is_absent: Vec<bool>,
    /// Whether rows may be listed from before.
    has_others: bool,
}

impl Nulls {
    /// What was said when rows were first written to the table, or else what most of these rows
    /// say.
    fn of(connection: &Connection, table: &TableBatch<'_>) -> rusqlite::Result<Self> {
        let stored = table.table();
        let name = stored.name();
        let mut known = connection.prepare_cached(
            "SELECT is_absent FROM backwater_null WHERE table_name = ? AND field = ?",
        )?;
        let known = stored
            .columns()
            .map(|column| known.query_row((name, column), |row| row.get(0)).optional());
        let known: Vec<Option<bool>> = known.collect::<rusqlite::Result<_>>()?;
        let mut counts = vec![0_i64; known.len()];
        if known.contains(&None) {
            for row in table.puts() {
                for (count, null) in counts.iter_mut().zip(row.nulls()) {
                    *count += null.map_or(0, |is_absent| if is_absent { 1 } else { -1 });
                }
            }
            let mut say =
                connection.prepare_cached("INSERT INTO backwater_null VALUES (?, ?, ?)")?;
            for ((column, known), count) in stored.columns().zip(&known).zip(&counts) {
                if known.is_none() {
                    say.execute((name, column, *count >= 0))?;
                }
            }
        }
        let is_absent = known.iter().zip(counts).map(|(known, count)| known.unwrap_or(count >= 0));
        let has_others = connection
            .prepare_cached(
                "SELECT EXISTS (SELECT 1 FROM backwater_other_null WHERE table_name = ?)",
            )?
            .query_row([name], |row| row.get(0))?;
        Ok(Self { is_absent: is_absent.collect(), has_others })
    }

    /// What takes a row off the list, if there is one.
    fn forget<'c>(
        &self,
        connection: &'c Connection,
    ) -> rusqlite::Result<Option<rusqlite::CachedStatement<'c>>> {
        let sql = "DELETE FROM backwater_other_null WHERE table_name = ? AND row_id = ?";
        self.has_others.then(|| connection.prepare_cached(sql)).transpose()
    }
}

fn stored_id(id: &RowId) -> Stored<'_> {
    Stored::from(id.borrow())
}

fn create_table(stored: &StoredTable<'_>) -> String {
    let StoredTable { schema, form, number } = *stored;
    let table = schema.table(number);
    let fields = &form.table(number).fields;
    let mut columns: Vec<String> =
        fields.iter().map(|field| column(schema, form, table, *field)).collect();
    columns.extend(stored.times().map(|time| format!("{time} INTEGER")));
    if columns.is_empty() {
        // A one-row table of which nothing persists.
        columns.push("backwater_only INTEGER".to_owned());
    }
    if table.id_type() == IdType::Parts && !table.is_one_row() {
        let parts: Vec<_> = table.id.iter().map(|id| quoted(&table.field(*id).name)).collect();
        columns.push(format!("PRIMARY KEY ({})", parts.join(", ")));
    }
    let keyed = match table.id_type() {
        _ if table.is_one_row() => "STRICT",
        IdType::Int => "STRICT",
        IdType::Text | IdType::Parts => "STRICT, WITHOUT ROWID",
    };
    format!(
        "CREATE TABLE IF NOT EXISTS {} (\n  {}\n) {keyed};",
        quoted(&table.name),
        columns.join(",\n  ")
    )
}

fn column(schema: &Schema, form: &Form, table: &TableDef, number: FieldNo) -> String {
    let field = table.field(number);
    let name = quoted(&field.name);
    let key = if *table.id == [number] { " PRIMARY KEY" } else { "" };
    match (field.kind, schema.linked_id_type(field)) {
        (FieldKind::Bool, _) => format!("{name} INTEGER CHECK ({name} IN (0, 1))"),
        (FieldKind::Float, _) => format!("{name} REAL"),
        (FieldKind::Int | FieldKind::Links(_), _) => format!("{name} INTEGER{key}"),
        (_, None) => format!("{name} TEXT{key}"),
        (kind, Some(id_type)) => {
            let column = if id_type == IdType::Int { "INTEGER" } else { "TEXT" };
            match kind {
                FieldKind::Link(to) if form.table(to).persists && id_type != IdType::Parts => {
                    let target = schema.table(to);
                    let id = quoted(&target.field(target.id[0]).name);
                    format!("{name} {column} REFERENCES {} ({id})", quoted(&target.name))
                }
                _ => format!("{name} {column}"),
            }
        }
    }
}

/// A name as SQL writes it.
pub(crate) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}
