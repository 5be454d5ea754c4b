//! From expressions over a table's columns to the same over a grouping's keys and aggregates.

use std::cell::RefCell;

use super::Lowered;
use super::parts::OpenSource;
use crate::query::expr::{ColumnNo, Expr};
use crate::query::plan::{Aggregate, AggregateFunction, OrderKey};
use crate::query::syntax::{Location, Refusal};
use crate::schema::Schema;

/// An expression, and the bare columns in it with their places.
#[derive(Clone)]
pub(super) struct Placed {
    pub(super) expr: Expr,
    pub(super) met: Vec<(ColumnNo, Location)>,
}

/// A grouping that expressions are put over.
pub(super) struct Regrouping<'g> {
    keys: &'g [Expr],
    /// Those that the statement names, and behind them those that bare columns are.
    aggregates: RefCell<Vec<Aggregate>>,
    sources: &'g [OpenSource],
    /// From which of them on they stand beside the groups, in a statement around them, and where
    /// these were met.
    behind: (usize, Vec<Location>),
    schema: &'g Schema,
    /// What orders a group's rows so that a bare column is that of the first one.
    first: Option<OrderKey>,
}

impl<'g> Regrouping<'g> {
    pub(super) fn new(
        keys: &'g [Expr],
        aggregates: Vec<Aggregate>,
        sources: &'g [OpenSource],
        behind: (usize, Vec<Location>),
        schema: &'g Schema,
    ) -> Self {
        let first = first_row(&aggregates);
        Self { keys, aggregates: RefCell::new(aggregates), sources, behind, schema, first }
    }

    pub(super) fn aggregates(self) -> Vec<Aggregate> {
        self.aggregates.into_inner()
    }

    /// The sources beside the groups, as the statement around these has them.
    pub(super) fn behind(&self) -> Lowered<Vec<OpenSource>> {
        let (first, places) = &self.behind;
        let sources = self.sources[*first..].iter().zip(places).map(|(source, at)| {
            let on = source.outer.iter().flatten().map(|on| {
                let placed = Placed { expr: on.clone(), met: Vec::new() };
                self.regroup(placed).map_err(|refusal| Refusal { at: *at, ..refusal })
            });
            let outer = source.outer.as_ref().map(|_| on.collect::<Lowered<_>>()).transpose()?;
            Ok(OpenSource { outer, ..source.clone() })
        });
        sources.collect()
    }

    /// An expression over the keys and aggregates.
    pub(super) fn regroup(&self, mut placed: Placed) -> Lowered<Expr> {
        self.put(&mut placed.expr).map_err(|column| {
            let met = placed.met.iter().find(|(met, _)| *met == column);
            let at = met.map_or(Location::START, |(_, at)| *at);
            let relation = &self.sources[column.source()].relation;
            let name = relation.column_name(column.field(), self.schema);
            Refusal::new(
                at,
                format!("column \"{name}\" is neither grouped by nor inside an aggregate"),
                format!("add it to GROUP BY, or write min({name})"),
            )
        })?;
        Ok(placed.expr)
    }

    fn put(&self, expr: &mut Expr) -> Result<(), ColumnNo> {
        if let Some(key) = self.keys.iter().position(|key| key == expr) {
            *expr = Expr::Column(ColumnNo::only(key));
            return Ok(());
        }
        let is_folded = |key: &Expr| matches!(key, Expr::Folded(_, of) if **of == *expr);
        if self.first.is_none() && self.keys.iter().any(is_folded) {
            // Of the values that the key's collation finds equal, the smallest one.
            let least = Aggregate::new(AggregateFunction::Min, Some(expr.clone()));
            let number = self.keys.len() + self.number(least);
            *expr = Expr::Column(ColumnNo::only(number));
            return Ok(());
        }
        match expr {
            Expr::Aggregate(number) => {
                *expr = Expr::Column(ColumnNo::only(self.keys.len() + *number));
                Ok(())
            }
            Expr::Column(column) if column.source() >= self.behind.0 => {
                let source = 1 + column.source() - self.behind.0;
                *column = ColumnNo::new(source, column.column as usize);
                Ok(())
            }
            Expr::Column(column) => {
                let number = self.of_first_row(*column).ok_or(*column)?;
                *expr = Expr::Column(ColumnNo::only(self.keys.len() + number));
                Ok(())
            }
            other => {
                let mut result = Ok(());
                other.children_mut(&mut |child| {
                    if result.is_ok() {
                        result = self.put(child);
                    }
                });
                result
            }
        }
    }

    /// The number of the aggregate that gives a column of the row in which the statement's only
    /// max() or min() found its value.
    fn of_first_row(&self, column: ColumnNo) -> Option<usize> {
        let order = vec![self.first.clone()?];
        let first = Aggregate::new(AggregateFunction::First, Some(Expr::Column(column)));
        Some(self.number(Aggregate { order, ..first }))
    }

    /// The number of an aggregate, which is added unless it is there.
    fn number(&self, aggregate: Aggregate) -> usize {
        let mut aggregates = self.aggregates.borrow_mut();
        let known = aggregates.iter().position(|known| *known == aggregate);
        known.unwrap_or_else(|| {
            aggregates.push(aggregate);
            aggregates.len() - 1
        })
    }
}

/// The order by which the row of a statement's only max() or min() is the first.
fn first_row(aggregates: &[Aggregate]) -> Option<OrderKey> {
    use AggregateFunction as F;
    let mut ends = aggregates.iter().filter(|of| matches!(of.function, F::Min | F::Max));
    let (only, None) = (ends.next()?, ends.next()) else { return None };
    let expr = only.argument.clone().filter(|_| only.filter.is_none())?;
    Some(OrderKey {
        expr,
        descending: only.function == F::Max,
        nulls_first: false,
        collation: Default::default(),
        holds_times: false,
    })
}
