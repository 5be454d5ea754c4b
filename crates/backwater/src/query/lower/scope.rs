//! The names that a statement's sources give.

use super::Lowered;
use crate::error::nearest;
use crate::query::expr::Expr;
use crate::query::expr::scalar::Affinity;
use crate::query::syntax::tree::Name;
use crate::query::syntax::{Location, Refusal};
use crate::schema::FieldKind;

/// The sources that a statement's names may stand for.
#[derive(Debug, Clone, Default)]
pub(super) struct Scope {
    pub(super) sources: Vec<Named>,
}

/// A source and its columns.
#[derive(Debug, Clone)]
pub(super) struct Named {
    pub(super) name: String,
    /// What messages call it: `table "sailing"`.
    pub(super) title: String,
    pub(super) columns: Vec<NamedColumn>,
}

#[derive(Debug, Clone)]
pub(super) struct NamedColumn {
    pub(super) name: String,
    pub(super) expr: Expr,
    pub(super) declared: Option<FieldKind>,
    pub(super) affinity: Affinity,
    /// Whether it is one column with another one that is equal, by USING.
    pub(super) is_merged: bool,
}

impl Scope {
    /// The column of a bare name; `None` if there is none.
    pub(super) fn bare(&self, name: &str, at: Location) -> Lowered<Option<&NamedColumn>> {
        let mut found = self.sources.iter().flat_map(|source| {
            source
                .columns
                .iter()
                .filter(|column| !column.is_merged && column.name.eq_ignore_ascii_case(name))
                .map(move |column| (source, column))
        });
        let first = found.next();
        if let (Some((one, _)), Some((other, _))) = (first, found.next()) {
            let message =
                format!("column \"{name}\" is in \"{}\" and in \"{}\"", one.name, other.name);
            let help = format!("write {}.{name} or {}.{name}", one.name, other.name);
            return Err(Refusal::new(at, message, help));
        }
        Ok(first.map(|(_, column)| column))
    }

    /// The source of a name; `None` if there is none.
    pub(super) fn source(&self, name: &str) -> Option<&Named> {
        self.sources.iter().find(|source| source.name.eq_ignore_ascii_case(name))
    }

    /// The column of `table.column`; `None` if there is no such table.
    pub(super) fn qualified(
        &self,
        table: &Name,
        column: &Name,
        at: Location,
    ) -> Lowered<Option<&NamedColumn>> {
        let Some(source) = self.source(&table.text) else {
            return Ok(None);
        };
        let mut columns = source.columns.iter();
        match columns.find(|other| other.name.eq_ignore_ascii_case(&column.text)) {
            Some(column) => Ok(Some(column)),
            None => Err(self.no_column(&column.text, Some(source), at)),
        }
    }

    pub(super) fn no_table(&self, name: &str, at: Location) -> Refusal {
        let message = format!("the statement reads no table \"{name}\"");
        let names: Vec<String> =
            self.sources.iter().map(|source| format!("\"{}\"", source.name)).collect();
        let help = format!("it reads {}", names.join(" and "));
        Refusal { unknown_name: true, ..Refusal::new(at, message, help) }
    }

    pub(super) fn no_column(&self, name: &str, of: Option<&Named>, at: Location) -> Refusal {
        let only = match self.sources.as_slice() {
            [only] => Some(only),
            _ => None,
        };
        let (message, known): (String, Vec<&str>) = match of.or(only) {
            Some(source) => (
                format!("{} has no column \"{name}\"", source.title),
                source.columns.iter().map(|column| column.name.as_str()).collect(),
            ),
            None => (
                format!("there is no column \"{name}\""),
                self.sources
                    .iter()
                    .flat_map(|source| source.columns.iter().map(|column| column.name.as_str()))
                    .collect(),
            ),
        };
        Refusal { unknown_name: true, ..Refusal::new(at, message, nearest(name, known)) }
    }
}
