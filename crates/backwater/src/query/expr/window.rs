//! Window functions: what each makes of a row's place among the rows of its partition.

use std::ops::Range;

use crate::query::expr::scalar::Scalar;

/// A function that is no aggregate.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum WindowFunction {
    RowNumber,
    Rank,
    DenseRank,
    PercentRank,
    CumeDist,
    Ntile,
    Lag,
    Lead,
    FirstValue,
    LastValue,
    NthValue,
}

use WindowFunction as F;

/// A row's place in its partition, in the window's order. Places are counted from 0.
#[derive(Clone, PartialEq, Hash)]
pub(crate) struct Place {
    pub(crate) at: usize,
    /// How many rows the partition has.
    pub(crate) rows: usize,
    /// The row's peers and itself: rows that are equal in the window's ORDER BY.
    pub(crate) peers: Range<usize>,
    /// How many groups of peers stand in front.
    pub(crate) groups_before: usize,
    /// The rows that count for this one.
    pub(crate) frame: Range<usize>,
}

/// What a function gives for a row.
#[derive(Debug, PartialEq)]
pub(crate) enum Answer {
    Value(Scalar<'static>),
    /// What its first argument is in the row at that place.
    Of(usize),
    /// Its last argument, if it is the third one; else NULL.
    Nothing,
}

impl WindowFunction {
    /// Each with its name, and how many arguments it takes at least and at most.
    pub(crate) const ALL: [(&str, Self, usize, usize); 11] = [
        ("row_number", F::RowNumber, 0, 0),
        ("rank", F::Rank, 0, 0),
        ("dense_rank", F::DenseRank, 0, 0),
        ("percent_rank", F::PercentRank, 0, 0),
        ("cume_dist", F::CumeDist, 0, 0),
        ("ntile", F::Ntile, 1, 1),
        ("lag", F::Lag, 1, 3),
        ("lead", F::Lead, 1, 3),
        ("first_value", F::FirstValue, 1, 1),
        ("last_value", F::LastValue, 1, 1),
        ("nth_value", F::NthValue, 2, 2),
    ];

    pub(crate) fn name(self) -> &'static str {
        Self::ALL.iter().find(|(_, other, ..)| *other == self).map_or("", |(name, ..)| name)
    }

    /// Whether it looks at which rows are peers.
    pub(crate) fn looks_at_peers(self) -> bool {
        matches!(self, F::Rank | F::DenseRank | F::PercentRank | F::CumeDist)
    }

    /// Whether only the rows of the frame count for it.
    pub(crate) fn has_frame(self) -> bool {
        matches!(self, F::FirstValue | F::LastValue | F::NthValue)
    }

    /// Whether it follows from which place a row has, whatever stands at the others.
    pub(crate) fn is_of_place(self) -> bool {
        self == F::RowNumber
    }

    /// Which of its arguments is a number above 0 that is the same for all rows.
    pub(crate) fn count_argument(self) -> Option<usize> {
        match self {
            F::Ntile => Some(0),
            F::NthValue => Some(1),
            _ => None,
        }
    }

    /// What it gives for a row, whose arguments are these.
    pub(crate) fn answer<'a>(
        self,
        place: &Place,
        argument: impl Fn(usize) -> Option<Scalar<'a>>,
    ) -> Answer {
        let Place { at, rows, peers, groups_before, frame } = place;
        let whole = |number: usize| Answer::Value(Scalar::Int(number as i64));
        let real = |number: f64| Answer::Value(Scalar::Real(number));
        let of = |place: Option<usize>| place.map_or(Answer::Nothing, Answer::Of);
        let count = |number: usize| match argument(number) {
            Some(Scalar::Int(count)) => usize::try_from(count).unwrap_or(0),
            _ => 0,
        };
        match self {
            F::RowNumber => whole(at + 1),
            F::Rank => whole(peers.start + 1),
            F::DenseRank => whole(groups_before + 1),
            F::PercentRank if *rows == 1 => real(0.0),
            F::PercentRank => real(peers.start as f64 / (rows - 1) as f64),
            F::CumeDist => real(peers.end as f64 / *rows as f64),
            F::Ntile => match count(0) {
                0 => Answer::Nothing,
                parts => whole(part(*at, *rows, parts) + 1),
            },
            F::Lag | F::Lead => {
                let by = match argument(1).map(|by| by.to_number()) {
                    None => 1,
                    Some(Scalar::Int(by)) => by,
                    Some(Scalar::Real(by)) if by.fract() == 0.0 && by.abs() < 1e15 => by as i64,
                    Some(_) => return Answer::Nothing,
                };
                let at = *at as i64;
                let other = if self == F::Lag { at.checked_sub(by) } else { at.checked_add(by) };
                of(other.and_then(|at| usize::try_from(at).ok()).filter(|at| at < rows))
            }
            F::FirstValue => of(Some(frame.start).filter(|at| frame.contains(at))),
            F::LastValue => of(frame.end.checked_sub(1).filter(|at| frame.contains(at))),
            F::NthValue => {
                let nth = count(1).checked_sub(1).and_then(|nth| frame.start.checked_add(nth));
                of(nth.filter(|at| frame.contains(at)))
            }
        }
    }
}

/// The part that a place is in where rows are divided into parts, of which the first ones have one
/// row more if they cannot all have as many.
fn part(at: usize, rows: usize, parts: usize) -> usize {
    let (size, larger) = (rows / parts, rows % parts);
    let in_larger = larger * (size + 1);
    match at.checked_sub(in_larger) {
        None => at / (size + 1),
        Some(behind) => larger + behind / size.max(1),
    }
}
