//! `json_each()` in FROM: a statement of its own, whose rows are the elements of a JSON value that
//! a table around it holds, joined to that table by its id.

use super::Lowered;
use super::block::Block;
use super::parts::{OpenSource, Parts};
use super::scope::{Named, NamedColumn};
use super::subquery::{blank, tied_by};
use crate::error::nearest_name;
use crate::query::expr::scalar::{Affinity, Scalar};
use crate::query::expr::{ColumnNo, Expr};
use crate::query::plan::{ElementColumn, Elements, Grouping, Output, Relation, Rows};
use crate::query::syntax::mentioned::Mentioned;
use crate::query::syntax::tree::{self, FromTerm, Name};
use crate::query::syntax::{Location, Refusal};
use crate::schema::TableNo;
use crate::sorting;

impl<'a> Block<'a, '_> {
    /// Reads a function in FROM; gives by what its rows go with those around it.
    pub(super) fn elements(
        &mut self,
        term: &'a FromTerm,
        function: &'a Name,
        arguments: &'a [tree::Expr],
        named: &Mentioned,
    ) -> Lowered<Vec<Expr>> {
        let at = function.at;
        if !function.text.eq_ignore_ascii_case("json_each") {
            let message = format!("{}() cannot stand in FROM", function.text);
            let help = match nearest_name(&function.text, &mut ["json_each"].into_iter()) {
                Some(_) => "write json_each(…)",
                None => "a table, a query, a SELECT in parentheses or json_each() can",
            };
            return Err(Refusal::new(at, message, help));
        }
        let name = term.alias.as_ref().map_or("json_each", |alias| &alias.text).to_owned();
        self.check_alias(&name, at)?;
        let (sources, outer) = (self.sources.len(), self.outer.len());
        let (json, path) = match arguments {
            [json] => (self.expr(json)?, None),
            [json, path] => (self.expr(json)?, Some(self.expr(path)?)),
            _ => {
                let message = "json_each() takes a JSON value, and perhaps a path in it";
                return Err(Refusal::new(at, message, "write json_each(column, '$.path')"));
            }
        };
        if self.sources.len() > sources {
            let message = "a subquery inside of json_each() is not supported";
            return Err(Refusal::new(at, message, "put it into FROM, and name its column"));
        }
        let mut elements = Elements { keys: Vec::new(), json, path, columns: Vec::new() };
        let (mut parts, ties) = self.read_by(&mut elements, outer, at)?;
        let stays = matches!(term.join, tree::Join::Right | tree::Join::Full);
        if stays && !parts.sources.is_empty() {
            let message = "this json_each() reads what it is right-joined or full-joined to";
            return Err(Refusal::new(at, message, "write LEFT JOIN json_each(…)"));
        }
        // Behind the columns that identify a row, and its place, stands what is read of an element.
        let keys = parts.outputs.len();
        let identity = match parts.sources.first().and_then(|source| source.relation.table()) {
            Some(table) => {
                let id = self.env.schema.table(table).id.iter();
                id.map(|field| ColumnNo::only(field.index())).collect()
            }
            None => (0..keys).map(ColumnNo::only).collect(),
        };
        let source = self.sources.len();
        let mut column = |name: &str, what| {
            let kept = Expr::Column(ColumnNo::only(keys + 1 + elements.columns.len()));
            elements.columns.push(what);
            let affinity = Affinity::Blob;
            parts.outputs.push(Output { name: name.to_owned(), affinity, ..blank(kept) });
            ColumnNo::new(source, parts.outputs.len() - 1)
        };
        let columns = ElementColumn::ALL.into_iter().map(|(name, what)| {
            let expr = match named.has(name) {
                false => Expr::Literal(Scalar::Null),
                true => {
                    let number = column(name, what);
                    if what == ElementColumn::Value && named.makes_json {
                        self.as_json.push((number, column(name, ElementColumn::Json)));
                    }
                    Expr::Column(number)
                }
            };
            NamedColumn {
                name: name.to_owned(),
                expr,
                qualified: None,
                declared: None,
                affinity: Affinity::Blob,
                is_merged: false,
            }
        });
        let columns = columns.collect();
        if parts.outputs.is_empty() {
            parts.outputs.push(blank(Expr::Literal(Scalar::TRUE)));
        }
        elements.keys = identity;
        parts.made = Some(Rows::Elements(elements));
        let plan = self.within(parts).finish(self.env.schema)?;
        let title = format!("json_each() \"{name}\"");
        self.scope.sources.push(Named { name: name.clone(), title, columns });
        let outer = matches!(term.join, tree::Join::Left | tree::Join::Full).then(Vec::new);
        let relation = self.relation(plan);
        self.add(OpenSource { relation, name, outer, is_lookup: false });
        let ties = ties.into_iter().enumerate();
        Ok(ties
            .map(|(key, around)| tied_by(Expr::Column(ColumnNo::new(source, key)), around))
            .collect())
    }

    /// The statement that the elements are taken from: what identifies its rows, as outputs, and
    /// what that is equal to around it.
    fn read_by(
        &mut self,
        elements: &mut Elements,
        outer: usize,
        at: Location,
    ) -> Lowered<(Parts, Vec<Expr>)> {
        let (mut read, mut around) = (Vec::new(), false);
        elements.each_expr_mut(&mut |expr| {
            around |= expr.reads_around();
            read.extend(expr.columns());
        });
        if around {
            return self.read_around_by(elements, outer, at);
        }
        let mut sources: Vec<usize> = read.iter().map(|column| column.source()).collect();
        sorting::few_once(&mut sources);
        let source = match sources.as_slice() {
            [] => return Ok((Parts::default(), Vec::new())),
            [source] => *source,
            _ => return Err(several(at)),
        };
        let of = OpenSource { outer: None, ..self.sources[source].clone() };
        let only = |expr: &mut Expr| {
            expr.replace_columns(&|column| Expr::Column(ColumnNo::only(column.column as usize)));
        };
        if let Some(table) = of.relation.table() {
            elements.each_expr_mut(&mut |expr| only(expr));
            return Ok(self.of_table(table, of, source));
        }
        // The rows of a statement are found by what is read of them.
        sorting::few_once(&mut read);
        let ties: Vec<Expr> = read.iter().copied().map(Expr::Column).collect();
        let keys = read.iter().map(|column| Expr::Column(ColumnNo::only(column.column as usize)));
        let number = |number: usize| blank(Expr::Column(ColumnNo::only(number)));
        let grouped = Parts {
            sources: vec![of],
            grouping: Some(Grouping { keys: keys.collect(), aggregates: Vec::new(), having: None }),
            outputs: (0..read.len()).map(number).collect(),
            ..Parts::default()
        };
        elements.each_expr_mut(&mut |expr| {
            expr.replace_columns(&|column| {
                let place = read.iter().position(|known| *known == column);
                Expr::Column(ColumnNo::only(place.unwrap_or(0)))
            });
        });
        let plan = self.within(grouped).finish(self.env.schema)?;
        let (relation, name) = (self.relation(plan), "the values".to_owned());
        let sources = vec![OpenSource { relation, name, outer: None, is_lookup: false }];
        let outputs = (0..read.len()).map(number).collect();
        Ok((Parts { sources, outputs, ..Parts::default() }, ties))
    }

    /// The same where they are those of a table around a subquery.
    fn read_around_by(
        &mut self,
        elements: &mut Elements,
        outer: usize,
        at: Location,
    ) -> Lowered<(Parts, Vec<Expr>)> {
        let named = self.outer.split_off(outer);
        let mut read = Vec::new();
        let mut is_plain = true;
        elements.each_expr_mut(&mut |expr| {
            is_plain &= expr.columns().is_empty();
            expr.replace_outer(&|number| {
                named
                    .get((number.column as usize).wrapping_sub(outer))
                    .map_or(Expr::Literal(Scalar::Null), |column| column.expr.clone())
            });
            read.extend(expr.columns().iter().map(|column| column.source()));
        });
        is_plain &= named.iter().all(|column| matches!(column.expr, Expr::Column(_)));
        read.dedup();
        let tables = self.around.map_or(&[][..], |around| &around.tables);
        let [source] = *read else { return Err(several(at)) };
        let Some(Some(table)) = tables.get(source).filter(|_| is_plain).copied() else {
            return Err(several(at));
        };
        elements.each_expr_mut(&mut |expr| {
            expr.replace_columns(&|column| Expr::Column(ColumnNo::only(column.column as usize)));
        });
        let relation = Relation::Table(table);
        let of = OpenSource { relation, name: "around".to_owned(), outer: None, is_lookup: false };
        let (parts, ties) = self.of_table(table, of, source);
        let schema = self.env.schema;
        let ties = ties.into_iter().zip(&schema.table(table).id).map(|(expr, field)| {
            let field = schema.table(table).field(*field);
            self.outer.push(NamedColumn {
                name: field.name.to_string(),
                expr,
                qualified: None,
                declared: Some(field.kind),
                affinity: Affinity::of(field, schema),
                is_merged: false,
            });
            Expr::Outer(ColumnNo::only(self.outer.len() - 1))
        });
        let ties = ties.collect();
        Ok((parts, ties))
    }

    /// A table, and its id as a statement around has it.
    fn of_table(&self, table: TableNo, of: OpenSource, source: usize) -> (Parts, Vec<Expr>) {
        let id = &self.env.schema.table(table).id;
        // A row's key is its id.
        let outputs = (0..id.len()).map(|key| blank(Expr::Column(ColumnNo::only(key))));
        let ties = id.iter().map(|field| Expr::Column(ColumnNo::new(source, field.index())));
        (
            Parts { sources: vec![of], outputs: outputs.collect(), ..Parts::default() },
            ties.collect(),
        )
    }
}

fn several(at: Location) -> Refusal {
    let message = "json_each() reads more than one table around it, or what is none";
    let help = "let it read one table's column, or a parameter";
    Refusal::new(at, message, help)
}
