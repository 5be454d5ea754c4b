//! Window functions as a statement calls them; what each gives is an expression's, and how rows are
//! partitioned and followed is the operator's.

use super::{Aggregate, OrderKey};
use crate::query::expr::Expr;
use crate::query::expr::window::WindowFunction;

/// For each tuple a row of its key, of what window functions give for it, and of what these and the
/// outputs read.
#[derive(Clone, Default, Hash)]
pub(crate) struct Windowing {
    /// What is read, over the tuples' columns. All other expressions are over the rows' values.
    pub(crate) inputs: Vec<Expr>,
    /// Each once.
    pub(crate) windows: Vec<Window>,
    pub(crate) calls: Vec<WindowCall>,
}

/// Which rows are a partition, and in which order they stand there.
#[derive(Clone, PartialEq, Hash)]
pub(crate) struct Window {
    pub(crate) partition: Vec<Expr>,
    pub(crate) order: Vec<OrderKey>,
}

#[derive(Clone, PartialEq, Hash)]
pub(crate) struct WindowCall {
    /// The number of its window.
    pub(crate) window: usize,
    pub(crate) called: Called,
    pub(crate) frame: Frame,
}

#[derive(Clone, PartialEq, Hash)]
pub(crate) enum Called {
    Function(WindowFunction, Vec<Expr>),
    Aggregate(Aggregate),
}

/// Which rows of a partition count for one of them.
#[derive(Clone, PartialEq, Hash)]
pub(crate) struct Frame {
    pub(crate) unit: FrameUnit,
    pub(crate) start: Bound,
    pub(crate) end: Bound,
}

/// What the bounds of a frame count.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum FrameUnit {
    Rows,
    /// Peers, rows that are equal in the window's ORDER BY: those of the current row.
    Range,
    /// Groups of peers.
    Groups,
}

#[derive(Clone, PartialEq, Hash)]
pub(crate) enum Bound {
    /// The end of the partition that lies on this side.
    Unbounded,
    Preceding(Expr),
    Current,
    Following(Expr),
}

impl Default for Frame {
    /// Up to the current row and its peers.
    fn default() -> Self {
        Self { unit: FrameUnit::Range, start: Bound::Unbounded, end: Bound::Current }
    }
}

impl Windowing {
    /// Calls `each` with the expressions of windows and calls.
    pub(crate) fn each_late_expr<'e>(&'e self, each: &mut dyn FnMut(&'e Expr)) {
        for window in &self.windows {
            window.partition.iter().for_each(&mut *each);
            window.order.iter().for_each(|key| each(&key.expr));
        }
        for call in &self.calls {
            match &call.called {
                Called::Function(_, arguments) => arguments.iter().for_each(&mut *each),
                Called::Aggregate(aggregate) => aggregate.each_expr(each),
            }
            for bound in [&call.frame.start, &call.frame.end] {
                if let Bound::Preceding(number) | Bound::Following(number) = bound {
                    each(number);
                }
            }
        }
    }

    /// The same, to change them.
    pub(crate) fn each_late_expr_mut(&mut self, each: &mut dyn FnMut(&mut Expr)) {
        self.windows.iter_mut().flat_map(|window| &mut window.partition).for_each(&mut *each);
        self.each_ordering_expr_mut(each);
    }

    /// The same without those that say which partition a row stands in.
    pub(crate) fn each_ordering_expr_mut(&mut self, each: &mut dyn FnMut(&mut Expr)) {
        for window in &mut self.windows {
            window.order.iter_mut().for_each(|key| each(&mut key.expr));
        }
        for call in &mut self.calls {
            match &mut call.called {
                Called::Function(_, arguments) => arguments.iter_mut().for_each(&mut *each),
                Called::Aggregate(aggregate) => aggregate.each_expr_mut(each),
            }
            for bound in [&mut call.frame.start, &mut call.frame.end] {
                if let Bound::Preceding(number) | Bound::Following(number) = bound {
                    each(number);
                }
            }
        }
    }
}
