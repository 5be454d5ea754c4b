//! FROM: tables, named queries and statements in parentheses, and how they are joined.

use std::sync::Arc;

use super::block::Block;
use super::expression::Clause;
use super::parts::{OpenSource, Parts};
use super::scope::{Named, NamedColumn, Scope};
use super::{Lowered, not_collated, param_no};
use crate::error::nearest;
use crate::query::expr::collation::Collation;
use crate::query::expr::scalar::{Affinity, Scalar};
use crate::query::expr::{ColumnNo, Comparison, Expr};
use crate::query::plan::{Plan, Relation};
use crate::query::syntax::mentioned::Mentioned;
use crate::query::syntax::tree::{self, FromTerm, Query, Select, Source};
use crate::query::syntax::{Location, Refusal};
use crate::schema::{FieldKind, IdType};

/// How a source goes with those before it.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Join {
    Inner,
    Left,
}

impl<'a> Block<'a, '_> {
    /// Reads FROM; inner joins' conditions become conditions of the whole.
    pub(super) fn from(&mut self, select: &'a Select, query: Option<&Query>) -> Lowered<()> {
        if select.from.is_empty() && select.condition.is_some() {
            let help = "add FROM with a table's name";
            return Err(Refusal::new(
                select.at,
                "this reads no table, so there is nothing to choose from",
                help,
            ));
        }
        self.place = Clause::Columns;
        let named = Mentioned::in_statement(select, query);
        for term in &select.from {
            self.joined(term, &named)?;
        }
        self.place = Clause::Row;
        Ok(())
    }

    fn joined(&mut self, term: &'a FromTerm, named: &Mentioned) -> Lowered<()> {
        use tree::Join as J;
        let (mut mark, mut of_left) = (None, Vec::new());
        if matches!(term.join, J::Right | J::Full) {
            mark = Some(self.gather(named)?);
            of_left = std::mem::take(&mut self.conditions);
        }
        let left = self.scope.sources.len();
        let inner = matches!(term.join, J::Inner | J::Right);
        self.term(term, if inner { Join::Inner } else { Join::Left })?;
        let mut on = match &term.source {
            Source::Function { name, arguments } => self.elements(term, name, arguments, named)?,
            _ => Vec::new(),
        };
        let sources = self.sources.len();
        if term.is_natural || !term.using.is_empty() {
            on.extend(self.merged(term, left)?);
        }
        match &term.on {
            Some(condition) if term.join == J::Inner => self.condition(condition)?,
            Some(condition) => on.extend(self.expr(condition)?.conjuncts()),
            None => {}
        }
        match term.join {
            J::Inner => {
                self.conditions.extend(on);
                Ok(())
            }
            J::Left => self.left(sources - 1, sources, on, (named, term.at)),
            J::Right => {
                on.splice(0..0, of_left);
                self.left(0, sources, on, (named, term.at))
            }
            J::Full => {
                let mark = mark.unwrap_or(Expr::Literal(Scalar::Null));
                self.full(on, of_left, mark, (named, term.at))
            }
        }
    }

    /// The equalities of columns that a source has in common with one of those in front of it, and
    /// which are one column from then on: those that USING names, or all.
    fn merged(&mut self, term: &FromTerm, source: usize) -> Lowered<Vec<Expr>> {
        let (left, right) = self.scope.sources.split_at(source);
        let left = Scope { sources: left.to_vec(), ..Scope::default() };
        let Some(right) = right.first() else { return Ok(Vec::new()) };
        let named: Vec<(&str, Location)> = match term.is_natural {
            true => right.columns.iter().map(|column| (&*column.name, term.at)).collect(),
            false => term.using.iter().map(|name| (&*name.text, name.at)).collect(),
        };
        let mut pairs = Vec::new();
        for (name, at) in named {
            let is_it = |column: &NamedColumn| column.name.eq_ignore_ascii_case(name);
            match (left.bare(name, at)?, right.columns.iter().position(is_it)) {
                (Some(column), Some(place)) => pairs.push((column.clone(), place)),
                _ if term.is_natural => {}
                (None, _) => return Err(left.no_column(name, None, at)),
                (_, None) => return Err(left.no_column(name, Some(right), at)),
            }
        }
        let is_either = matches!(term.join, tree::Join::Right | tree::Join::Full);
        let equal = pairs.into_iter().map(|(left, place)| {
            let column = &mut self.scope.sources[source].columns[place];
            column.is_merged = true;
            let right = column.clone();
            if is_either {
                self.scope.merge(&left, &right);
            }
            self.comparison(Comparison::Equal, Collation::default(), left.expr, right.expr)
        });
        Ok(equal.collect())
    }

    fn term(&mut self, term: &'a FromTerm, join: Join) -> Lowered<()> {
        let at = term.at;
        match &term.source {
            Source::Table { database: Some(database), name } => {
                let message = format!("there is no table {}.{}", database.text, name.text);
                Err(Refusal::new(at, message, "a table has a name without dots"))
            }
            Source::Table { database: None, name } => {
                let alias = term.alias.as_ref().unwrap_or(name).text.clone();
                self.check_alias(&alias, at)?;
                self.named_source(&name.text, alias, join, at)
            }
            Source::Query(query) => {
                let name = term.alias.as_ref().map_or_else(
                    || format!("subquery {}", self.scope.sources.len() + 1),
                    |alias| alias.text.clone(),
                );
                self.check_alias(&name, query.at)?;
                let parts = self.env.inner(query, None)?.parts;
                if parts.is_plain() && (join == Join::Inner || self.sources.is_empty()) {
                    self.inline(parts, name);
                    return Ok(());
                }
                let plan = parts.finish(self.env.schema)?;
                self.statement(plan, name, join);
                Ok(())
            }
            Source::Joined => {
                let message = "a join in parentheses is not supported";
                Err(Refusal::new(at, message, "write (SELECT … FROM … JOIN …) AS name"))
            }
            Source::Function { .. } => Ok(()),
        }
    }

    pub(super) fn check_alias(&self, alias: &str, at: Location) -> Lowered<()> {
        if self.scope.source(alias).is_none() {
            return Ok(());
        }
        let message = format!("the statement reads \"{alias}\" twice");
        Err(Refusal::new(at, message, format!("give it another name: {alias} AS other")))
    }

    /// A name in FROM: of WITH, of a table, or of a named query.
    fn named_source(&mut self, name: &str, alias: String, join: Join, at: Location) -> Lowered<()> {
        let with = self.env.with.iter().rev();
        let with = with.clone().find(|(known, _)| known.eq_ignore_ascii_case(name));
        if let Some((_, plan)) = with {
            self.statement(plan.clone(), alias, join);
            return Ok(());
        }
        let schema = self.env.schema;
        if let Ok(table) = schema.table_no(name) {
            let source = self.sources.len();
            let definition = schema.table(table);
            let columns = definition.fields.iter().enumerate().map(|(number, field)| {
                let parts = schema.linked_id_type(field) == Some(IdType::Parts);
                NamedColumn {
                    name: field.name.to_string(),
                    expr: Expr::Column(ColumnNo::new(source, number)),
                    qualified: None,
                    declared: Some(if parts { FieldKind::Json } else { field.kind }),
                    affinity: Affinity::of(field, schema),
                    is_merged: false,
                }
            });
            let columns = columns.collect();
            let title = format!("table \"{}\"", definition.name);
            self.scope.sources.push(Named { name: alias.clone(), title, columns });
            let outer = (join == Join::Left).then(Vec::new);
            self.add(OpenSource {
                relation: Relation::Table(table),
                name: alias,
                outer,
                is_lookup: false,
            });
            return Ok(());
        }
        if let Some((known, sql)) = schema.query_of(name) {
            let plan = self.env.named(known, sql, at)?;
            not_collated(&plan.outputs, at)?;
            self.statement(plan, alias, join);
            return Ok(());
        }
        let names = schema.table_names().chain(schema.query_names());
        let message = format!("there is no table \"{name}\"");
        Err(Refusal { unknown_name: true, ..Refusal::new(at, message, nearest(name, names)) })
    }

    /// Another statement as a source.
    fn statement(&mut self, plan: Arc<Plan>, name: String, join: Join) {
        let source = self.sources.len();
        let columns = plan.outputs.iter().enumerate().map(|(number, output)| {
            NamedColumn::of(output, Expr::Column(ColumnNo::new(source, number)))
        });
        let columns = columns.collect();
        let title = format!("query \"{name}\"");
        self.scope.sources.push(Named { name: name.clone(), title, columns });
        let relation = self.relation(plan);
        let outer = (join == Join::Left).then(Vec::new);
        self.add(OpenSource { relation, name, outer, is_lookup: false });
    }

    /// A statement with its parameters among ours.
    pub(super) fn relation(&mut self, plan: Arc<Plan>) -> Relation {
        let params = plan.params.iter().map(|param| param_no(&mut self.params, param)).collect();
        Relation::Statement(plan, params)
    }

    /// Reads a statement's sources in its stead; its columns stand for their expressions.
    fn inline(&mut self, mut parts: Parts, name: String) {
        self.adopt(&mut parts);
        let columns = parts.outputs.iter();
        let columns = columns.map(|output| NamedColumn::of(output, output.expr.clone())).collect();
        let title = format!("query \"{name}\"");
        self.scope.sources.push(Named { name, title, columns });
        self.sources.extend(parts.sources);
        self.conditions.extend(parts.conditions);
    }

    /// Numbers a statement's sources and parameters as they will be among ours.
    pub(super) fn adopt(&mut self, parts: &mut Parts) {
        let first = self.sources.len();
        let params: Vec<usize> =
            parts.params.iter().map(|param| param_no(&mut self.params, param)).collect();
        parts.renumber_params(&params);
        parts.each_expr(&mut |expr| {
            expr.replace_columns(&|column| {
                Expr::Column(ColumnNo::new(column.source() + first, column.column as usize))
            });
        });
    }
}
