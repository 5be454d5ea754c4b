//! Outer joins: rows stay that find no partner.
//!
//! A left join is a source with its ON. A right join is one in which what stands in front of it is
//! that source. What these do not say is a statement of its own: the rows of a full join, and the
//! pairs that an ON with a subquery finds.

use std::sync::Arc;

use super::Lowered;
use super::block::Block;
use super::expression::is_null;
use super::parts::{OpenSource, Parts};
use super::scope::NamedColumn;
use super::subquery::{blank, tied_by};
use crate::query::expr::scalar::Scalar;
use crate::query::expr::{ColumnNo, Expr};
use crate::query::plan::{Output, Plan, Relation};
use crate::query::syntax::mentioned::Mentioned;
use crate::query::syntax::{Location, Refusal};
use crate::sorting;

impl Block<'_, '_> {
    /// Makes what stands in FROM so far one source that rows of others may go without. Gives what
    /// marks its rows: it is null only where none of them is.
    pub(super) fn gather(&mut self, named: &Mentioned) -> Lowered<Expr> {
        if let [OpenSource { relation: Relation::Table(table), .. }] = self.sources.as_slice()
            && let Some(id) = self.env.schema.table(*table).id.first()
            && self.scope.columns().all(|column| matches!(column.expr, Expr::Column(_)))
        {
            return Ok(Expr::Column(ColumnNo::only(id.index())));
        }
        let mut outputs = vec![blank(Expr::Literal(Scalar::TRUE))];
        self.all_as_outputs(named, &mut outputs);
        let sources = std::mem::take(&mut self.sources);
        let conditions = std::mem::take(&mut self.conditions);
        let parts = Parts { sources, conditions, outputs, ..Parts::default() };
        let plan = self.within(parts).finish(self.env.schema)?;
        self.read_only(plan);
        Ok(Expr::Column(ColumnNo::only(0)))
    }

    /// Joins the source at a place so that the others' rows stay without it. Behind the first
    /// `sources` stand those of subqueries in ON.
    pub(super) fn left(
        &mut self,
        place: usize,
        sources: usize,
        on: Vec<Expr>,
        (named, at): (&Mentioned, Location),
    ) -> Lowered<()> {
        let on = match self.sources.len() > sources {
            true => self.pairs(place, sources, on, (named, at))?,
            false => on,
        };
        self.sources[place].outer = Some(on);
        Ok(())
    }

    /// Puts the pairs that an ON with subqueries finds in the place of a source; gives by what a
    /// pair belongs to the rows around it.
    fn pairs(
        &mut self,
        place: usize,
        sources: usize,
        on: Vec<Expr>,
        (named, at): (&Mentioned, Location),
    ) -> Lowered<Vec<Expr>> {
        let lookups = self.sources.split_off(sources);
        let all = on.iter().chain(lookups.iter().flat_map(|of| of.outer.iter().flatten()));
        let mut read: Vec<usize> =
            all.flat_map(Expr::columns).map(|column| column.source()).collect();
        read.retain(|source| *source < sources && *source != place);
        sorting::few_once(&mut read);
        let (mut tied, mut outputs) = (Vec::new(), Vec::new());
        for around in &read {
            let source = &self.sources[*around];
            let (Relation::Table(table), None) = (&source.relation, &source.outer) else {
                let message = "this ON has a subquery, and reads something that is no table or is outer-joined";
                let help = "let it read tables that are inner-joined, or use WHERE";
                return Err(Refusal::new(at, message, help));
            };
            for field in &self.env.schema.table(*table).id {
                let id = Expr::Column(ColumnNo::new(*around, field.index()));
                let pair = Expr::Column(ColumnNo::new(place, outputs.len()));
                tied.push(tied_by(pair, id.clone()));
                outputs.push(blank(id));
            }
        }
        for column in self.scope.columns_mut() {
            if column.expr.columns().iter().any(|column| column.source() == place) {
                as_output(column, named, &mut outputs);
                column.expr.replace_columns(&|column| {
                    Expr::Column(ColumnNo::new(place, column.column as usize))
                });
            }
        }
        let order: Vec<usize> = read
            .into_iter()
            .chain([place])
            .chain(sources..)
            .take_while(|source| *source < sources + lookups.len())
            .collect();
        let within = |column: ColumnNo| {
            let source = order.iter().position(|source| *source == column.source());
            Expr::Column(ColumnNo::new(source.unwrap_or(0), column.column as usize))
        };
        let own = order.iter().filter(|source| **source < sources);
        let own = own.map(|source| OpenSource { outer: None, ..self.sources[*source].clone() });
        let mut parts = Parts {
            sources: own.chain(lookups).collect(),
            conditions: on,
            outputs,
            ..Parts::default()
        };
        parts.each_expr(&mut |expr| expr.replace_columns(&within));
        let plan = self.within(parts).finish(self.env.schema)?;
        self.sources[place].relation = self.relation(plan);
        Ok(tied)
    }

    /// Joins the first two sources so that the rows of either stay without the other: those of the
    /// first with their partners, and behind them those of the second that are no partner.
    pub(super) fn full(
        &mut self,
        on: Vec<Expr>,
        of_first: Vec<Expr>,
        mark: Expr,
        (named, at): (&Mentioned, Location),
    ) -> Lowered<()> {
        let mut outputs = Vec::new();
        self.all_as_outputs(named, &mut outputs);
        if outputs.is_empty() {
            outputs.push(blank(Expr::Literal(Scalar::TRUE)));
        }
        let sources = std::mem::take(&mut self.sources);
        let [first, second] = sources.as_slice() else {
            let message = "a subquery in ON of a full join is not supported";
            return Err(Refusal::new(at, message, "put two left joins together with UNION ALL"));
        };
        let joined = |source: &OpenSource, outer| OpenSource { outer, ..source.clone() };
        let of_both = Parts {
            sources: vec![joined(first, None), joined(second, Some(on.clone()))],
            conditions: of_first.clone(),
            outputs: outputs.clone(),
            ..Parts::default()
        };
        let on = of_first.into_iter().chain(on).collect();
        let mut of_second = Parts {
            sources: vec![joined(second, None), joined(first, Some(on))],
            conditions: vec![is_null(mark)],
            outputs,
            ..Parts::default()
        };
        of_second.each_expr(&mut |expr| {
            expr.replace_columns(&|column| {
                Expr::Column(ColumnNo::new(1 - column.source(), column.column as usize))
            });
        });
        let both = vec![self.within(of_both), self.within(of_second)];
        let plan = self.env.one_behind_the_other(both)?.finish(self.env.schema)?;
        self.read_only(plan);
        Ok(())
    }

    /// Makes the columns in scope a statement's outputs, and what they are as JSON.
    fn all_as_outputs(&mut self, named: &Mentioned, outputs: &mut Vec<Output>) {
        let mut json = std::mem::take(&mut self.as_json);
        self.scope.columns_mut().for_each(|column| as_output(column, named, outputs));
        for (of, as_json) in &mut json {
            let is_it = |output: &Output| output.expr == Expr::Column(*of);
            if let Some(number) = outputs.iter().position(is_it) {
                outputs.push(blank(Expr::Column(*as_json)));
                *of = ColumnNo::only(number);
                *as_json = ColumnNo::only(outputs.len() - 1);
            }
        }
        self.as_json = json;
    }

    /// What is made of this statement's sources as one that is read by it.
    pub(super) fn within(&self, parts: Parts) -> Parts {
        let mut parts = Parts { params: self.params.clone(), ..parts };
        parts.drop_unused_params();
        parts
    }

    /// Reads nothing but another statement, over whose columns those in scope are.
    fn read_only(&mut self, plan: Arc<Plan>) {
        let (relation, name) = (self.relation(plan), "the join".to_owned());
        self.sources = vec![OpenSource { relation, name, outer: None, is_lookup: false }];
    }
}

/// Makes a column one of a statement's outputs, as the first source has it. One that is not
/// mentioned is left out.
fn as_output(column: &mut NamedColumn, named: &Mentioned, outputs: &mut Vec<Output>) {
    if let Some(own) = &mut column.qualified {
        as_output(own, named, outputs);
    }
    if !named.has(&column.name) {
        column.expr = Expr::Literal(Scalar::Null);
        return;
    }
    let number = outputs.iter().position(|output| output.expr == column.expr);
    let number = number.unwrap_or_else(|| {
        let (name, expr) = (column.name.clone(), column.expr.clone());
        let (declared, affinity) = (column.declared, column.affinity);
        outputs.push(Output { name, declared, affinity, ..blank(expr) });
        outputs.len() - 1
    });
    column.expr = Expr::Column(ColumnNo::only(number));
}
