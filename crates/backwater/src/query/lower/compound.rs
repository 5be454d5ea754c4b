//! UNION, EXCEPT and INTERSECT: statements one behind the other, of which equal rows are one, or
//! which are left out by what others have.

use super::block::Block;
use super::parts::{OpenSource, Parts};
use super::scope::Scope;
use super::{Env, Lowered, Part, not_collated, param_no, subquery, through};
use crate::query::expr::collation::Collation;
use crate::query::expr::scalar::{Affinity, Scalar};
use crate::query::expr::{ColumnNo, Comparison, Expr};
use crate::query::plan::{Aggregate, AggregateFunction, Combine, Grouping, Output, Relation};
use crate::query::syntax::Refusal;
use crate::query::syntax::tree::{Compound, Query};

impl Env<'_> {
    /// Several statements that are put together, each with what those in front of it have become.
    pub(super) fn compound(&self, query: &Query, around: Option<&Scope>) -> Lowered<Part> {
        let mut open: Vec<Parts> = Vec::new();
        // Whether equal rows of all that is open are one.
        let mut is_distinct = false;
        for select in &query.selects {
            let part = Block::lower(self, select, None, around)?;
            if !part.outer.is_empty() {
                return Err(subquery::not_by_equality(select.at));
            }
            let next = part.parts;
            not_collated(&next.outputs, select.at)?;
            let width = open.first().map_or(next.outputs.len(), |first| first.outputs.len());
            if next.outputs.len() != width {
                let here = next.outputs.len();
                let message = format!("this part has {here} columns, the first one {width}");
                let said = select.compound.map_or("", Compound::spelled);
                let help = format!("{said} joins parts of equal width");
                return Err(Refusal::new(select.at, message, help));
            }
            match select.compound {
                None => open.push(next),
                Some(Compound::UnionAll) => {
                    if std::mem::take(&mut is_distinct) {
                        open = vec![self.distinct(open)?];
                    }
                    open.push(next);
                }
                Some(Compound::Union) => {
                    open.push(next);
                    is_distinct = true;
                }
                Some(Compound::Except) => {
                    open = vec![self.compared(open, next, Comparison::Equal)?];
                    is_distinct = false;
                }
                Some(Compound::Intersect) => {
                    open = vec![self.compared(open, next, Comparison::Greater)?];
                    is_distinct = false;
                }
            }
        }
        let all = match is_distinct {
            true => self.distinct(open)?,
            false => self.one_behind_the_other(open)?,
        };
        Block::order_union(self, all, query)
    }

    /// Statements one behind the other, with equal rows as one.
    fn distinct(&self, open: Vec<Parts>) -> Lowered<Parts> {
        let all = self.one_behind_the_other(open)?;
        let width = all.outputs.len();
        self.grouped(all, width, Vec::new(), None)
    }

    /// The rows of some statements, equal ones as one, of which another one has none, or some: how
    /// the number of its rows compares with 0 is what `than` says.
    fn compared(&self, left: Vec<Parts>, right: Parts, than: Comparison) -> Lowered<Parts> {
        let left = self.one_behind_the_other(left)?;
        let width = left.outputs.len();
        let marked = |parts: Parts, mark: i64| -> Lowered<Parts> {
            let mut parts = match parts.is_plain() {
                true => parts,
                false => Parts::over(parts.finish(self.schema)?, "a part"),
            };
            let mark = subquery::blank(Expr::Literal(Scalar::Int(mark)));
            parts.outputs.push(Output { name: "part".to_owned(), ..mark });
            Ok(parts)
        };
        let all = self.one_behind_the_other(vec![marked(left, 0)?, marked(right, 1)?])?;
        let rows_of = |mark: i64| {
            let is_its = compare(Comparison::Equal, ColumnNo::new(0, width), mark);
            let count = Aggregate::new(AggregateFunction::CountRows, None);
            Aggregate { filter: Some(is_its), ..count }
        };
        let of_left = compare(Comparison::Greater, ColumnNo::only(width), 0);
        let of_right = compare(than, ColumnNo::only(width + 1), 0);
        let having = Expr::And(Box::new(of_left), Box::new(of_right));
        self.grouped(all, width, vec![rows_of(0), rows_of(1)], Some(having))
    }

    /// A statement's rows with those as one that are equal in so many columns, as long as they meet
    /// a condition on some aggregates.
    fn grouped(
        &self,
        parts: Parts,
        width: usize,
        aggregates: Vec<Aggregate>,
        having: Option<Expr>,
    ) -> Lowered<Parts> {
        let mut around = Parts::over(parts.finish(self.schema)?, "the parts");
        around.outputs.truncate(width);
        let keys = around.outputs.iter().map(|output| output.expr.clone()).collect();
        let shown = around.outputs.iter().enumerate();
        around.outputs = shown.map(|(number, output)| through(output, 0, number)).collect();
        around.grouping = Some(Grouping { keys, aggregates, having });
        Ok(around)
    }

    /// Statements of equal width, as UNION ALL has them.
    pub(super) fn one_behind_the_other(&self, mut all: Vec<Parts>) -> Lowered<Parts> {
        if all.len() == 1
            && let Some(only) = all.pop()
        {
            return Ok(only);
        }
        let mut parts = Parts { combine: Combine::Union, ..Parts::default() };
        for part in all {
            let plan = part.finish(self.schema)?;
            if parts.sources.is_empty() {
                let outputs = plan.outputs.iter().enumerate();
                parts.outputs = outputs.map(|(number, of)| through(of, 0, number)).collect();
            }
            for (first, output) in parts.outputs.iter_mut().zip(&plan.outputs) {
                if first.declared != output.declared {
                    first.declared = None;
                }
                if first.affinity != output.affinity {
                    first.affinity = Affinity::None;
                }
            }
            let params = { plan.params.iter() }.map(|param| param_no(&mut parts.params, param));
            let relation = Relation::Statement(plan.clone(), params.collect());
            let name = format!("part {}", parts.sources.len() + 1);
            parts.sources.push(OpenSource { relation, name, outer: None, is_lookup: false });
        }
        Ok(parts)
    }
}

fn compare(comparison: Comparison, column: ColumnNo, number: i64) -> Expr {
    let (column, number) = (Expr::Column(column), Expr::Literal(Scalar::Int(number)));
    let (left, right) = (Box::new(column), Box::new(number));
    Expr::Compare(comparison, Affinity::None, Collation::Binary, left, right)
}
