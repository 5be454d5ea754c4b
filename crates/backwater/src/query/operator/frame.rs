//! Frames of windows: which rows of a partition count for one of them, and aggregates over these.

use std::ops::Range;

use crate::query::expr::scalar::{Affinity, Scalar};
use crate::query::expr::window::Place;
use crate::query::expr::{Expr, NoColumns};
use crate::query::operator::aggregate::AggregateState;
use crate::query::operator::rows::KeptRow;
use crate::query::plan::window::{Bound, Frame, FrameUnit};
use crate::query::plan::{Aggregate, AggregateFunction};
use crate::query::work::{self, Failure};

/// A frame with the numbers that parameters give it.
#[derive(Clone, Copy)]
pub(super) struct Extent {
    unit: FrameUnit,
    start: Edge,
    end: Edge,
}

/// Where a frame begins or ends, as seen from the current row.
#[derive(Debug, Clone, Copy)]
enum Edge {
    /// At the end of the partition.
    Far,
    Back(usize),
    Ahead(usize),
}

/// The number that an expression is for all rows.
///
/// # Errors
/// What it is, if that is no whole number of at least 0.
pub(super) fn number(expr: &Expr, params: &[Scalar<'static>]) -> Result<usize, String> {
    let value = expr.eval(&NoColumns, params).under(Affinity::Numeric);
    let number = match value {
        Scalar::Int(number) => usize::try_from(number).ok(),
        _ => None,
    };
    number.ok_or_else(|| value.to_text().map_or("NULL".to_owned(), |text| text.into_owned()))
}

impl Extent {
    pub(super) fn of(frame: &Frame, params: &[Scalar<'static>]) -> Result<Self, Failure> {
        let edge = |bound: &Bound| {
            let number = |expr: &Expr| {
                number(expr, params).map_err(|found| {
                    let expected = "a whole number of at least 0";
                    Failure::of(format!(
                        "a window's frame is bounded by {found}, expected {expected}"
                    ))
                })
            };
            Ok(match bound {
                Bound::Unbounded => Edge::Far,
                Bound::Current => Edge::Ahead(0),
                Bound::Preceding(by) => Edge::Back(number(by)?),
                Bound::Following(by) => Edge::Ahead(number(by)?),
            })
        };
        Ok(Self { unit: frame.unit, start: edge(&frame.start)?, end: edge(&frame.end)? })
    }
}

/// The places of a partition's rows.
pub(super) struct Places<'p> {
    pub(super) rows: usize,
    /// Where groups of peers begin, and where the last one ends.
    pub(super) groups: &'p [usize],
}

impl Places<'_> {
    /// Calls `each` with the places of some rows.
    pub(super) fn each(&self, extent: Extent, among: Range<usize>, mut each: impl FnMut(Place)) {
        let groups = self.groups.windows(2).enumerate();
        for (groups_before, group) in groups {
            for at in group[0].max(among.start)..group[1].min(among.end) {
                if work::is_over() {
                    return;
                }
                let peers = group[0]..group[1];
                let frame = self.frame(extent, at, groups_before);
                each(Place { at, rows: self.rows, peers, groups_before, frame });
            }
        }
    }

    fn frame(&self, extent: Extent, at: usize, group: usize) -> Range<usize> {
        // What a bound counts are rows, or groups of them.
        let (here, all) = match extent.unit {
            FrameUnit::Rows => (at, self.rows),
            FrameUnit::Range | FrameUnit::Groups => (group, self.groups.len() - 1),
        };
        let start = match extent.start {
            Edge::Far => 0,
            Edge::Back(by) => here.saturating_sub(by),
            Edge::Ahead(by) => here.saturating_add(by),
        };
        let end = match extent.end {
            Edge::Far => all,
            Edge::Back(by) => (here + 1).saturating_sub(by),
            Edge::Ahead(by) => here.saturating_add(by).saturating_add(1),
        };
        let row = |counted: usize| match extent.unit {
            FrameUnit::Rows => counted,
            FrameUnit::Range | FrameUnit::Groups => self.groups[counted],
        };
        let (start, end) = (row(start.min(all)), row(end.min(all)));
        start..end.max(start)
    }
}

/// An aggregate over frames, neither end of which ever goes back.
pub(super) struct Sliding<'s> {
    aggregate: &'s Aggregate,
    rows: &'s [&'s KeptRow],
    params: &'s [Scalar<'static>],
    /// Whether the last of equal values counts, and not the first: as SQLite has it of min() and
    /// max() where rows leave the frame.
    last_counts: bool,
    state: AggregateState,
    frame: Range<usize>,
    value: Option<Scalar<'static>>,
}

impl<'s> Sliding<'s> {
    pub(super) fn new(
        aggregate: &'s Aggregate,
        rows: &'s [&'s KeptRow],
        params: &'s [Scalar<'static>],
        extent: Extent,
    ) -> Self {
        use AggregateFunction as F;
        let is_end = matches!(aggregate.function, F::Min | F::Max);
        let last_counts = is_end && !matches!(extent.start, Edge::Far);
        let (state, frame, value) = (aggregate.empty(), 0..0, None);
        Self { aggregate, rows, params, last_counts, state, frame, value }
    }

    fn update(&mut self, at: usize, times: i64) {
        let values = &*self.rows[at].values;
        // Items of a list stand in the window's order.
        let place = if self.last_counts { -(at as i64) } else { at as i64 };
        let key = || [Scalar::Int(place)].into();
        self.aggregate.update(&mut self.state, &values, self.params, key, times);
        self.value = None;
    }

    /// The aggregate over a frame.
    pub(super) fn over(&mut self, frame: Range<usize>) -> Result<Scalar<'static>, Failure> {
        if frame.start >= self.frame.end {
            self.state = self.aggregate.empty();
            self.frame = frame.start..frame.start;
            self.value = None;
        }
        (self.frame.start..frame.start).for_each(|at| self.update(at, -1));
        (self.frame.end..frame.end).for_each(|at| self.update(at, 1));
        self.frame = frame;
        if self.value.is_none() {
            let value = self.aggregate.value(&self.state);
            self.value = Some(value.map_err(|_| {
                let message =
                    "sum() in a window is beyond 64 bits; total() sums without that limit";
                Failure::of(message.to_owned())
            })?);
        }
        Ok(self.value.clone().unwrap_or(Scalar::Null))
    }
}
