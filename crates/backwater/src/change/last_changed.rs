//! Which commit last changed a table's fields, so that most reads are known to be unchanged without
//! a look at what was read.

use std::sync::Arc;

use smallvec::SmallVec;

use super::{Changes, FieldSet, Happened};
use crate::schema::{Schema, TableNo};

/// For each table the last commit that inserted or deleted rows, and for each field the last one
/// that changed it.
#[derive(Debug, Clone)]
pub(crate) struct LastChanged {
    commits: Vec<u64>,
    /// Where each table's numbers begin.
    starts: Arc<[usize]>,
}

impl LastChanged {
    /// Nothing is known of what was before a commit.
    pub(crate) fn unknown_before(commit: u64, schema: &Schema) -> Self {
        let mut starts = vec![0];
        for table in schema.tables.iter() {
            starts.push(starts[starts.len() - 1] + 1 + table.fields.len());
        }
        Self { commits: vec![commit; starts[starts.len() - 1]], starts: starts.into() }
    }

    /// Adds the tables that a schema has behind the known ones; they were declared in a commit.
    pub(crate) fn extend(&mut self, commit: u64, schema: &Schema) {
        let more = Self::unknown_before(commit, schema);
        let known = self.commits.len();
        self.commits.extend(&more.commits[known..]);
        self.starts = more.starts;
    }

    /// Notes that some tables are loaded since a commit, also where they are empty.
    pub(crate) fn note_ready(&mut self, tables: &[TableNo], commit: u64) {
        tables.iter().for_each(|table| self.commits[self.starts[table.index()]] = commit);
    }

    pub(crate) fn note(&mut self, changes: &Changes, commit: u64) {
        for row in changes.rows.iter() {
            let start = self.starts[row.table.index()];
            match &row.happened {
                Happened::Updated(fields) => {
                    fields
                        .iter()
                        .for_each(|field| self.commits[start + 1 + field.index()] = commit);
                }
                Happened::Inserted | Happened::Deleted => self.commits[start] = commit,
            }
        }
    }
}

/// Fields of tables, and whether rows of these are inserted or deleted.
#[derive(Debug, Clone, Default)]
pub(crate) struct Span(pub(crate) SmallVec<[(TableNo, FieldSet); 2]>);

impl Span {
    /// Whether something of it may have changed after a commit.
    pub(crate) fn changed_since(&self, commit: u64, last: &LastChanged) -> bool {
        self.0.iter().any(|(table, fields)| {
            let start = last.starts[table.index()];
            last.commits[start] > commit
                || fields.iter().any(|field| last.commits[start + 1 + field.index()] > commit)
        })
    }
}
