//! UNION ALL: the rows of several sources, one after the other.
//!
//! A tuple has a place for each source, of which one is taken: by that, what a column is and which
//! rows are the same are known.

use crate::query::operator::describe::Printed;
use crate::query::operator::input;
use crate::query::operator::view::NONE;
use crate::query::plan::Combine;
use crate::query::plan::explain::Operator;
use crate::query::plan::text::PlanNames;
use crate::table::Slot;

impl Combine {
    /// The source whose row a tuple is, if it is one alone.
    #[inline]
    pub(crate) fn branch(self, tuple: &[Slot]) -> Option<usize> {
        match self {
            Combine::Join => None,
            Combine::Union => tuple.iter().position(|slot| *slot != NONE),
        }
    }

    /// How many values identify a tuple, if those of its sources have so many: of all of them, or
    /// of one, with the number of that in front.
    pub(crate) fn key_len(self, of_sources: impl Iterator<Item = usize>) -> usize {
        match self {
            Combine::Join => of_sources.sum(),
            Combine::Union => 1 + of_sources.max().unwrap_or(0),
        }
    }
}

pub(super) fn describe(names: &PlanNames<'_>, printed: &Printed) -> Operator {
    let union = Operator::new("union all", "rows of each, one after the other");
    (0..names.plan.sources.len()).fold(union, |union, number| {
        let branch = Operator::new("branch", input::called(names, number, printed));
        union.input(input::describe(names, number, (branch, ""), printed))
    })
}
