//! Which commit wrote each value of a row.

use super::Report;
use crate::change::{ChangeKind, Happened};
use crate::error::{Error, ErrorKind};
use crate::table::Row;
use crate::value::{RowId, Value};

/// The value of a field of a row, and the commit that wrote it.
///
/// ```
/// # use backwater::{Cache, Schema, Value};
/// # let cache = Cache::new(Schema::parse("s.toml", r#"
/// #     table.sailing = { id = "id", fields = { id = "int", status = "text", note = "text" } }
/// # "#)?);
/// cache.commit("announced", |tx| tx.insert("sailing", [("id", Value::from(311)), ("status", "on time".into())]))?;
/// cache.commit("delay reported", |tx| tx.update("sailing", 311, [("status", "delayed")]))?;
/// let origins: Vec<String> = cache.origins("sailing", 311)?.iter().map(ToString::to_string).collect();
/// assert_eq!(origins, [
///     "id = 311, by commit 1 (announced)",
///     "status = delayed, by commit 2 (delay reported)",
///     "note is absent",
/// ]);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct Origin {
    /// The field's name.
    pub field: String,
    /// What it holds; `None` if it is absent.
    pub value: Option<Value>,
    /// The number and the label of the commit that wrote it; `None` if that commit is no longer
    /// remembered, or if the field is absent.
    pub commit: Option<(u64, String)>,
}

impl std::fmt::Display for Origin {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (&self.value, &self.commit) {
            (None, _) => write!(f, "{} is absent", self.field),
            (Some(value), Some((number, label))) => {
                write!(f, "{} = {value}, by commit {number} ({label})", self.field)
            }
            (Some(value), None) => {
                write!(f, "{} = {value}, from before the commits that are remembered", self.field)
            }
        }
    }
}

/// For each field of a row the commit that wrote its value; `reports` are the last commits.
pub(crate) fn origins(row: &Row<'_>, reports: &[Report]) -> Vec<Origin> {
    let definition = row.state.schema.table(row.table);
    let origins = definition.field_numbers().map(|field| {
        let wrote = reports.iter().rev().find(|report| {
            let changes = report.noted_changes();
            let of_table = &changes.rows[changes.of_table(row.table)];
            let change = of_table.binary_search_by_key(&row.slot, |changed| changed.slot);
            match change.map(|place| &of_table[place].happened) {
                Ok(Happened::Updated(fields)) => fields.contains(field),
                Ok(Happened::Inserted) => true,
                _ => false,
            }
        });
        let value = row.state.value(row.table, row.slot, field);
        let wrote = wrote.filter(|_| value.is_some());
        Origin {
            field: definition.field(field).name.to_string(),
            commit: wrote.map(|report| (report.number(), report.label().to_owned())),
            value,
        }
    });
    origins.collect()
}

/// The error that a row is not there, with the commit that deleted it.
pub(crate) fn no_row(table: &str, id: &RowId, reports: &[Report]) -> Error {
    let deleted = reports.iter().rev().find(|report| {
        report.changes().any(|change| {
            change.kind() == ChangeKind::Deleted
                && change.table() == table
                && change.id().as_ref() == Some(id)
        })
    });
    let error = Error::new(ErrorKind::Row, format!("there is no {table} {id}"));
    match deleted {
        Some(report) => {
            error.help(format!("commit {} ({}) deleted it", report.number(), report.label()))
        }
        None => error,
    }
}
