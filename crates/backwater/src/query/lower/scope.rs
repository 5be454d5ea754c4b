//! The names that a statement's sources give.

use super::Lowered;
use crate::error::nearest;
use crate::query::expr::Expr;
use crate::query::expr::function::Function;
use crate::query::expr::scalar::Affinity;
use crate::query::plan::Output;
use crate::query::syntax::tree::Name;
use crate::query::syntax::{Location, Refusal};
use crate::schema::{FieldKind, TableNo};

/// The sources that a statement's names may stand for.
#[derive(Clone, Default)]
pub(super) struct Scope {
    pub(super) sources: Vec<Named>,
    /// The tables that the columns are of, by source; only where another statement looks at it.
    pub(super) tables: Vec<Option<TableNo>>,
}

/// A source and its columns.
#[derive(Clone)]
pub(super) struct Named {
    pub(super) name: String,
    /// What messages call it: `table "sailing"`.
    pub(super) title: String,
    pub(super) columns: Vec<NamedColumn>,
}

#[derive(Clone)]
pub(super) struct NamedColumn {
    pub(super) name: String,
    pub(super) expr: Expr,
    /// What it is behind its source's name, where that is something else: by USING of a right
    /// or full join.
    pub(super) qualified: Option<Box<NamedColumn>>,
    pub(super) declared: Option<FieldKind>,
    pub(super) affinity: Affinity,
    /// Whether it is one column with another one that is equal, by USING.
    pub(super) is_merged: bool,
}

impl NamedColumn {
    pub(super) fn of(output: &Output, expr: Expr) -> Self {
        Self {
            name: output.name.clone(),
            expr,
            qualified: None,
            declared: output.declared,
            affinity: output.affinity,
            is_merged: false,
        }
    }

    /// The same behind its source's name.
    pub(super) fn as_qualified(&self) -> Self {
        self.qualified.as_deref().unwrap_or(self).clone()
    }
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

    pub(super) fn columns(&self) -> impl Iterator<Item = &NamedColumn> {
        self.sources.iter().flat_map(|source| &source.columns)
    }

    pub(super) fn columns_mut(&mut self) -> impl Iterator<Item = &mut NamedColumn> {
        self.sources.iter_mut().flat_map(|source| &mut source.columns)
    }

    /// Makes a column that a bare name stands for one with another column, whose value counts where
    /// its own is missing.
    pub(super) fn merge(&mut self, column: &NamedColumn, other: &NamedColumn) {
        let is_it = |known: &&mut NamedColumn| !known.is_merged && known.expr == column.expr;
        for known in self.columns_mut().filter(is_it) {
            let own = known.qualified.take().unwrap_or_else(|| Box::new(known.clone()));
            let expr = match known.expr.clone() {
                Expr::Call(Function::Merged, mut all) => {
                    all.push(other.expr.clone());
                    Expr::Call(Function::Merged, all)
                }
                first => Expr::Call(Function::Merged, vec![first, other.expr.clone()]),
            };
            let declared = known.declared.filter(|_| known.declared == other.declared);
            let (name, affinity) = (own.name.clone(), own.affinity);
            let qualified = Some(own);
            *known = NamedColumn { name, expr, qualified, declared, affinity, is_merged: false };
        }
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
    ) -> Lowered<Option<NamedColumn>> {
        let Some(source) = self.source(&table.text) else {
            return Ok(None);
        };
        let mut columns = source.columns.iter();
        match columns.find(|other| other.name.eq_ignore_ascii_case(&column.text)) {
            Some(column) => Ok(Some(column.as_qualified())),
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
