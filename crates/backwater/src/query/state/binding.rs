//! The state of a binding: what its operators keep from one commit to the next.

use std::sync::Arc;

use crate::query::expr::scalar::Scalar;
use crate::query::operator::filter::narrow::{SearchedTexts, narrowed};
use crate::query::operator::join::TupleDelta;
use crate::query::operator::order::moves::Moves;
use crate::query::operator::order::ordered::Ordered;
use crate::query::operator::rows::{MadeRows, RowsState};
use crate::query::operator::view::View;
use crate::query::plan::{BoundPlan, Excerpt, Plan};
use crate::query::work::{self, Failure};
use crate::schema::ResultLimits;

/// A binding's state: the result, and what its operators keep beside it.
pub(crate) struct BindingState {
    pub(crate) ordered: Ordered,
    pub(crate) operators: OperatorState,
    /// Why some of its rows cannot be computed, if so: a reader of the whole gets that instead.
    pub(crate) failure: Option<Failure>,
}

/// What the operators of a statement keep beside the result.
#[derive(Clone, Default)]
pub(crate) struct OperatorState {
    rows: RowsState,
    /// Of a result that a search has narrowed the texts, until the next commit reaches it.
    searched: Option<Arc<SearchedTexts>>,
}

impl OperatorState {
    /// Whether it is that of a statement's result, and not what was left when that was taken.
    pub(crate) fn is_of(&self, plan: &Plan) -> bool {
        plan.rows.fits(&self.rows)
    }

    /// Bytes that it takes, more or less.
    pub(crate) fn bytes(&self) -> usize {
        let texts = self.searched.as_ref().map_or(0, |searched| searched.bytes());
        self.rows.bytes() + texts
    }
}

impl From<Ordered> for BindingState {
    fn from(ordered: Ordered) -> Self {
        Self { ordered, operators: OperatorState::default(), failure: None }
    }
}

impl BindingState {
    /// Computes a result from scratch; without rows, if `empty`.
    pub(crate) fn compute(
        view: &View<'_>,
        (params, excerpt): (&[Scalar<'static>], Excerpt),
        empty: bool,
    ) -> Result<Self, Failure> {
        let plan = view.plan;
        work::within(&plan.limits, || match plan.rows.operator() {
            None => Ordered::of_tuples(view, (params, excerpt), empty).into(),
            Some(operator) => {
                let MadeRows { rows, state } = operator.compute(view, params, empty);
                let (failure, given) = (state.failure(), state.given());
                let ordered = Ordered::of_rows(plan, (params, excerpt), rows, given);
                let operators = OperatorState { rows: state, searched: None };
                Self { ordered, operators, failure }
            }
        })
    }

    /// The rows that meet the conditions of a binding with narrower ones, and how they move from
    /// the old excerpt to its own.
    pub(crate) fn narrowed(
        (ordered, operators): (&Ordered, &OperatorState),
        view: &View<'_>,
        to: &BoundPlan,
        old: Excerpt,
    ) -> Option<(Self, Moves)> {
        let (ordered, moved, searched) =
            narrowed(ordered, view, to, old, operators.searched.as_ref())?;
        let operators = OperatorState { rows: RowsState::default(), searched };
        Some((Self { ordered, operators, failure: None }, moved))
    }

    /// Notes if it has become larger than a result may be.
    pub(crate) fn check_size(&self, limits: &ResultLimits) {
        let (rows, bytes) = (self.ordered.len(), self.ordered.bytes());
        if rows > limits.rows || bytes > limits.bytes {
            work::too_many_rows(limits, rows);
        }
    }

    /// Follows a commit; returns how the rows in the excerpt moved. `None` if it must be recomputed,
    /// as only the first rows were kept and too few of them are left.
    pub(crate) fn apply(
        &mut self,
        (before, after): (&View<'_>, &View<'_>),
        (params, excerpt): (&[Scalar<'static>], Excerpt),
        tuples: &[TupleDelta],
    ) -> Option<Moves> {
        let (plan, views) = (after.plan, (before, after));
        self.operators.searched = None;
        if tuples.is_empty() {
            return self.ordered.reaches(excerpt.end()).then(Moves::new);
        }
        let moves = match plan.rows.operator() {
            None => self.ordered.follow_tuples(views, (params, excerpt), tuples),
            Some(operator) => {
                let rows = &mut self.operators.rows;
                let edits = operator.apply(rows, views, params, tuples)?;
                self.failure = rows.failure();
                self.ordered.follow_rows(plan, (params, excerpt), &edits, rows.given())
            }
        };
        self.ordered.keep_first(plan, excerpt);
        moves
    }
}
