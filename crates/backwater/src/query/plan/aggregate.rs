//! Aggregates as a statement calls them; how they follow their group is the operator's.

use super::OrderKey;
use crate::query::expr::Expr;

/// An aggregate function and what it is called with.
#[derive(Clone, PartialEq, Hash)]
pub(crate) struct Aggregate {
    pub(crate) function: AggregateFunction,
    pub(crate) argument: Option<Expr>,
    pub(crate) distinct: bool,
    /// Of those that make a list: its order.
    pub(crate) order: Vec<OrderKey>,
    /// Of DISTINCT: whether equal values may be of two types, of which the first row's counts.
    pub(crate) mixes: bool,
    /// What goes with each value: the text in front of it where texts are joined, or a member's name.
    pub(crate) beside: Option<Expr>,
    /// Which rows count.
    pub(crate) filter: Option<Expr>,
}

impl Aggregate {
    /// Calls `each` with the expressions over the columns of the rows that it is called for.
    pub(crate) fn each_expr<'e>(&'e self, each: &mut dyn FnMut(&'e Expr)) {
        let others = self.filter.iter().chain(&self.beside);
        self.argument.iter().chain(others).for_each(&mut *each);
        self.order.iter().for_each(|key| each(&key.expr));
    }

    /// The same, to change them.
    pub(crate) fn each_expr_mut(&mut self, each: &mut dyn FnMut(&mut Expr)) {
        let others = self.filter.iter_mut().chain(&mut self.beside);
        self.argument.iter_mut().chain(others).for_each(&mut *each);
        self.order.iter_mut().for_each(|key| each(&mut key.expr));
    }
}

#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum AggregateFunction {
    CountRows,
    Count,
    Sum,
    Total,
    Average,
    Min,
    Max,
    /// Texts joined.
    Concat,
    JsonArray,
    JsonObject,
    /// The value of the first row.
    First,
}
