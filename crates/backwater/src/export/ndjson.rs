//! NDJSON: a line that says what follows, and a line for each row, `{"table":{…}}`.

use std::collections::BTreeMap;
use std::io;

use serde_json::value::RawValue;

use crate::change::Transaction;
use crate::error::{Error, ErrorKind, Result};

use crate::schema::{Schema, TableOrigin, table_set};
use crate::table::Snapshot;
use crate::value::{Json, RowId, write_json_text};

/// The member of the first line, which no table can be called.
const HEAD: &str = "backwater";
/// The version of the form.
const FORMAT: u64 = 1;

impl Snapshot {
    /// Writes all rows of all tables as NDJSON: first a line with the schema, then a line for each
    /// row. [`Transaction::import`] reads it back, and [`Schema::of_export`] its schema. Links are
    /// ids, to-many links arrays of ids, and absent fields are left out.
    ///
    /// # Errors
    /// An error of `out`, as [`ErrorKind::Storage`].
    ///
    /// ```
    /// use backwater::{Cache, Schema};
    ///
    /// let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text', name = 'text' } }")?);
    /// cache.commit("heard of", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// let mut text = Vec::new();
    /// cache.snapshot().export(&mut text).unwrap();
    /// assert!(text.ends_with(b"{\"port\":{\"code\":\"SAL\"}}\n"));
    ///
    /// let copy = Cache::new(Schema::of_export(&text)?.unwrap());
    /// copy.commit("taken in", |tx| tx.import(&text).map(drop))?;
    /// assert_eq!(copy.snapshot().count("port")?, 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn export(&self, mut out: impl io::Write) -> io::Result<()> {
        let schema = &self.state.schema;
        let mut head = format!(
            "{{\"{HEAD}\":{{\"format\":{FORMAT},\"commit\":{},\"schema_name\":",
            self.commit
        );
        write_json_text(&mut head, &schema.name);
        head += ",\"schema\":";
        write_json_text(&mut head, schema.text());
        writeln!(out, "{head}}}}}")?;
        // The entries of links stand with their owners.
        let tables =
            schema.tables.iter().filter(|table| !matches!(table.made, TableOrigin::Entries { .. }));
        for table in tables {
            let mut name = String::new();
            write_json_text(&mut name, &table.name);
            for row in self.rows(&table.name).into_iter().flatten() {
                writeln!(out, "{{{name}:{}}}", row.nested(0).as_str())?;
            }
        }
        Ok(())
    }

    /// Writes the rows of one table as NDJSON: an object for each, with links as ids.
    ///
    /// # Errors
    /// An error of `out`, as [`ErrorKind::Storage`]; [`ErrorKind::UnknownName`] if there is no such
    /// table.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text', name = 'text' } }")?);
    /// cache.commit("heard of", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// let mut text = Vec::new();
    /// cache.snapshot().export_table("port", &mut text)?;
    /// assert_eq!(text, b"{\"code\":\"SAL\"}\n");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn export_table(&self, table: &str, mut out: impl io::Write) -> Result<()> {
        self.rows(table)?
            .try_for_each(|row| writeln!(out, "{}", row.nested(0).as_str()))
            .map_err(unwritten)
    }
}

pub(super) fn unwritten(error: io::Error) -> Error {
    Error::new(ErrorKind::Storage, format!("it cannot be written: {error}")).caused_by(error)
}

impl Schema {
    /// The schema in the first line of an [export](Snapshot::export); `None` if this is none.
    ///
    /// # Errors
    /// As [`Schema::parse`]; [`ErrorKind::Version`] if the export is of a newer version of
    /// Backwater.
    ///
    /// See [`Snapshot::export`] for an example.
    pub fn of_export(text: impl AsRef<[u8]>) -> Result<Option<Self>> {
        let first = text.as_ref().split(|byte| *byte == b'\n').next().unwrap_or_default();
        let Some(head) = head(first) else { return Ok(None) };
        if head.format > FORMAT {
            let message = format!(
                "the export has format {}, and this version of Backwater reads format {FORMAT}",
                head.format
            );
            return Err(
                Error::new(ErrorKind::Version, message).help("use the version that wrote it")
            );
        }
        Schema::parse(&head.schema_name, &head.schema).map(Some)
    }
}

#[derive(serde::Deserialize)]
struct Head {
    format: u64,
    schema_name: String,
    schema: String,
}

fn head(line: &[u8]) -> Option<Head> {
    #[derive(serde::Deserialize)]
    struct Line {
        backwater: Head,
    }
    serde_json::from_slice::<Line>(line).ok().map(|line| line.backwater)
}

impl Transaction {
    /// Imports what [`Snapshot::export`] has written: each row is then as it was, also what is
    /// absent in it; other rows stay. Returns the number of rows.
    ///
    /// # Errors
    /// [`ErrorKind::Response`] with the line, if it is not such a text; as [`Transaction::insert`]
    /// for rows that do not fit. Then none of it is taken.
    ///
    /// See [`Snapshot::export`] for an example.
    pub fn import(&mut self, text: impl AsRef<[u8]>) -> Result<usize> {
        self.need(|schema| table_set(schema.table_numbers()))?;
        self.all_or_nothing(|tx| {
            let mut rows = 0;
            for (number, line) in text.as_ref().split(|byte| *byte == b'\n').enumerate() {
                if line.trim_ascii().is_empty() || (number == 0 && head(line).is_some()) {
                    continue;
                }
                tx.import_row(line).map_err(|error| error.at(format!("line {}", number + 1)))?;
                rows += 1;
            }
            Ok(rows)
        })
    }

    fn import_row(&mut self, line: &[u8]) -> Result<()> {
        let wrong = |message: &str| {
            Error::new(ErrorKind::Response, message)
                .help("a line is {\"table\":{…}}, as `export` writes it")
        };
        let row: BTreeMap<String, Box<RawValue>> = serde_json::from_slice(line)
            .map_err(|error| wrong("this is no row").caused_by(error))?;
        let (Some((name, raw)), 1) = (row.iter().next(), row.len()) else {
            return Err(wrong("this is not one row"));
        };
        let schema = self.schema();
        let table = schema.table_no(name)?;
        let definition = schema.table(table);
        let members: BTreeMap<String, Box<RawValue>> =
            serde_json::from_str(raw.get()).map_err(|_| wrong("a row is an object"))?;
        let part = |field: &crate::schema::FieldNo| {
            let name = &*definition.field(*field).name;
            let raw = members
                .get(name)
                .ok_or_else(|| wrong(&format!("the row has no \"{name}\", which is its id")))?;
            RowId::from_json(&Json::parse(raw.get())?)
        };
        let parts: Vec<RowId> = definition.id.iter().map(part).collect::<Result<_>>()?;
        let id = match <[RowId; 1]>::try_from(parts) {
            Ok([only]) => Some(only),
            Err(parts) => (!parts.is_empty()).then(|| RowId::Parts(parts.into())),
        };
        let id = match id {
            Some(id) => {
                let not_fitting = || {
                    Error::new(
                        ErrorKind::Type,
                        format!(
                            "found {}, expected {}",
                            id.to_json().as_str(),
                            schema.id_form(table)
                        ),
                    )
                };
                Some(schema.fitted(table, id.clone()).ok_or_else(not_fitting)?)
            }
            None => None,
        };
        self.put_whole_row(table, id, raw.get())
    }
}
