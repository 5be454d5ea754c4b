//! Aggregates as a statement calls them; how they follow their group is the operator's.

use super::OrderKey;
use crate::query::expr::Expr;

/// An aggregate function and what it is called with.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Aggregate {
    pub(crate) function: AggregateFunction,
    pub(crate) argument: Option<Expr>,
    pub(crate) distinct: bool,
    /// Of those that make a list: its order.
    pub(crate) order: Vec<OrderKey>,
    /// Of DISTINCT: whether equal values may be of two types, of which the first row's counts.
    pub(crate) mixes: bool,
    /// What stands between two texts that are joined.
    pub(crate) separator: Option<Expr>,
    /// Which rows count.
    pub(crate) filter: Option<Expr>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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
    /// The value of the first row.
    First,
}
