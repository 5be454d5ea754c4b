//! From tuples to the rows of a result: what each operator that makes rows says of itself, and the
//! one place that knows which there are.

use std::cmp::Ordering;
use std::collections::BTreeMap;
use std::sync::Arc;

use smallvec::SmallVec;

use crate::query::expr::scalar::{Key, Scalar};
use crate::query::expr::{ColumnNo, Columns, Expr};
use crate::query::operator::group::Groups;
use crate::query::operator::join::TupleDelta;
use crate::query::operator::order::edit::{Edit, Edits};
use crate::query::operator::order::order_by;
use crate::query::operator::recursion::Found;
use crate::query::operator::view::View;
use crate::query::operator::walk::Walk;
use crate::query::operator::window::Partitions;
use crate::query::operator::window_values::{RowNo, WindowValues};
use crate::query::plan::explain::Operator;
use crate::query::plan::text::PlanNames;
use crate::query::plan::{Plan, Rows};
use crate::query::work::{self, Failure};
use crate::table::Slot;

/// The values of a row.
pub(crate) type Values = SmallVec<[Scalar<'static>; 2]>;

/// A row that keeps its values: first its key, then what its operator makes of it. What window
/// functions give for it is kept apart, and counts as behind these.
///
/// What is looked at first lies in front: a row is waited for, and takes more than one line of memory.
#[derive(Debug, Clone)]
#[repr(C)]
pub(crate) struct KeptRow {
    /// By which window functions give something for it.
    pub(crate) number: RowNo,
    /// How many of the values are its key.
    pub(crate) keys: u32,
    pub(crate) values: Values,
    /// Why the others cannot be computed, if so; then it may be that the row should not be there.
    pub(crate) failed: Option<Failure>,
}

/// A row with what window functions give for it.
#[derive(Clone, Copy)]
pub(crate) struct Kept<'r> {
    pub(crate) row: &'r KeptRow,
    pub(crate) given: &'r WindowValues,
}

impl<'r> Columns<'r> for Kept<'r> {
    #[inline]
    fn column(&self, number: ColumnNo) -> Scalar<'r> {
        let place = number.column as usize;
        match self.row.values.get(place) {
            Some(value) => value.lend(),
            None => self.given.get(self.row.number, place - self.row.values.len()).lend(),
        }
    }
}

/// What an operator keeps from one commit to the next, beside the rows that it gave.
#[derive(Clone, Default)]
pub(crate) struct RowsState(pub(crate) Option<Box<KeptState>>);

/// The same of those that keep something.
#[derive(Clone)]
pub(crate) enum KeptState {
    Groups(Groups),
    Partitions(Partitions),
    Found(Found),
}

/// The rows that an operator makes from nothing.
#[derive(Default)]
pub(crate) struct MadeRows {
    pub(crate) rows: Vec<Arc<KeptRow>>,
    pub(crate) state: RowsState,
}

/// How rows that keep their values enter, change and leave.
pub(crate) type RowEdits = Edits<Arc<KeptRow>>;

/// Makes rows that keep their values from tuples.
pub(crate) trait RowOperator {
    /// From nothing; no tuple is looked for, if `empty`.
    fn compute(&self, view: &View<'_>, params: &[Scalar<'static>], empty: bool) -> MadeRows;

    /// From tuples that entered, changed or left. `None` if the state is not its own.
    fn apply(
        &self,
        state: &mut RowsState,
        views: (&View<'_>, &View<'_>),
        params: &[Scalar<'static>],
        tuples: &[TupleDelta],
    ) -> Option<RowEdits>;

    /// Calls `each` with the expressions over the tuples' columns that a tuple's part in the rows
    /// depends on.
    fn each_expr<'e>(&'e self, each: &mut dyn FnMut(&'e Expr));

    /// Calls `each` with its expressions over the values of rows, or over nothing.
    fn each_late_expr<'e>(&'e self, each: &mut dyn FnMut(&'e Expr)) {
        self.condition().into_iter().for_each(each);
    }

    /// What rows must meet to be shown, over their values.
    fn condition(&self) -> Option<&Expr> {
        None
    }

    /// How many values a row's key has, if a tuple's has that many.
    fn key_len(&self, of_tuple: usize) -> usize {
        of_tuple
    }

    /// Whether a row is made of one tuple alone.
    fn is_by_tuple(&self) -> bool;

    /// Whether only those rows fail that cannot be computed, so that others can be read.
    fn fails_by_row(&self) -> bool {
        true
    }

    /// Whether a row's value is known where others of it cannot be computed.
    fn is_sure(&self, _value: usize) -> bool {
        true
    }

    /// The column of the tuples of which a row's value is that of all the tuples it is made of:
    /// which tuples have it decides which rows do.
    #[cfg(feature = "remote")]
    fn column_of(&self, _value: usize) -> Option<ColumnNo> {
        None
    }

    /// What a row's value is called; the key has `keys` values.
    fn value_name(&self, names: &PlanNames<'_>, value: usize, keys: usize) -> String;

    /// What of it the order keeps, as a person reads it.
    fn keeps(&self) -> &'static str;

    /// By what rows stand where the order leaves that open, unless by what tuples do.
    fn ties(&self) -> Option<&'static str> {
        None
    }

    /// The operator as a person reads it; of one that only stores what tuples hold, nothing.
    fn describe(&self, names: &PlanNames<'_>) -> Option<Operator>;
}

impl Rows {
    /// The operator that makes rows that keep their values; none, where rows are tuples.
    pub(crate) fn operator(&self) -> Option<&dyn RowOperator> {
        match self {
            Rows::Tuples => None,
            Rows::Projected(projection) => Some(projection),
            Rows::Grouped(grouping) => Some(grouping),
            Rows::Windowed(windowing) => Some(windowing),
            Rows::Elements(elements) => Some(elements),
            Rows::Recursion(recursion) => Some(recursion),
        }
    }

    /// Whether the rows are those of tables, on which conditions can be tested. Others keep only
    /// what they show.
    pub(crate) fn are_tuples(&self) -> bool {
        self.operator().is_none()
    }

    /// Whether a row is made of one tuple alone.
    pub(crate) fn are_by_tuple(&self) -> bool {
        self.operator().is_none_or(RowOperator::is_by_tuple)
    }

    /// Whether an operator of these rows can follow a commit with this state: it was not taken away.
    pub(crate) fn fits(&self, state: &RowsState) -> bool {
        match self {
            Rows::Tuples | Rows::Projected(_) | Rows::Elements(_) => true,
            Rows::Grouped(_) => matches!(state.0.as_deref(), Some(KeptState::Groups(_))),
            Rows::Windowed(_) => matches!(state.0.as_deref(), Some(KeptState::Partitions(_))),
            Rows::Recursion(_) => matches!(state.0.as_deref(), Some(KeptState::Found(_))),
        }
    }
}

impl From<KeptState> for RowsState {
    fn from(state: KeptState) -> Self {
        Self(Some(Box::new(state)))
    }
}

impl RowsState {
    /// Bytes that it takes, more or less.
    pub(crate) fn bytes(&self) -> usize {
        match self.0.as_deref() {
            None => 0,
            Some(KeptState::Groups(groups)) => groups.bytes(),
            Some(KeptState::Partitions(partitions)) => partitions.bytes(),
            Some(KeptState::Found(found)) => found.bytes(),
        }
    }

    /// What window functions give for the rows.
    pub(crate) fn given(&self) -> WindowValues {
        match self.0.as_deref() {
            Some(KeptState::Partitions(partitions)) => partitions.given.clone(),
            _ => WindowValues::default(),
        }
    }

    /// Why one of the rows cannot be computed, if so.
    pub(crate) fn failure(&self) -> Option<Failure> {
        match self.0.as_deref()? {
            KeptState::Groups(groups) => groups.failure(),
            KeptState::Partitions(partitions) => partitions.failure(),
            KeptState::Found(_) => None,
        }
    }
}

impl KeptRow {
    /// One whose first `keys` values are its key.
    pub(crate) fn new(values: Values, keys: usize) -> Self {
        Self { number: 0, keys: keys as u32, values, failed: None }
    }

    pub(crate) fn key(&self) -> &[Scalar<'static>] {
        &self.values[..self.keys as usize]
    }

    /// Bytes that it takes, more or less.
    pub(crate) fn bytes(&self) -> usize {
        let values = self.values.iter().map(|of| size_of::<Scalar<'_>>() + of.text_len());
        size_of::<Self>() + values.sum::<usize>()
    }

    /// The key, to find the row by.
    pub(crate) fn place(&self) -> Box<[Key]> {
        self.key().iter().cloned().map(Key::from).collect()
    }
}

impl WindowValues {
    /// A row with what is given for it.
    pub(crate) fn of<'r>(&'r self, row: &'r KeptRow) -> Kept<'r> {
        Kept { row, given: self }
    }
}

impl Kept<'_> {
    /// Whether both say the same.
    pub(crate) fn shows_same(&self, other: &Self) -> bool {
        let given = |of: &Self| of.given.all(of.row.number).iter();
        self.row.values == other.row.values
            && self.row.failed == other.row.failed
            && given(self).eq(given(other))
    }
}

/// Makes rows of one tuple each.
pub(crate) trait RowsOfTuple {
    /// Calls `each` with the rows of a tuple.
    fn rows_of(
        &self,
        view: &View<'_>,
        params: &[Scalar<'static>],
        tuple: &[Slot],
        each: &mut dyn FnMut(KeptRow),
    );

    /// The rows of all tuples.
    fn all_rows(&self, view: &View<'_>, params: &[Scalar<'static>], empty: bool) -> MadeRows {
        let mut rows = Vec::new();
        if !empty {
            Walk { view, params }.all(&mut |tuple| {
                self.rows_of(view, params, tuple, &mut |row| {
                    if work::take_row(row.bytes()) {
                        rows.push(Arc::new(row));
                    }
                });
            });
        }
        MadeRows { rows, state: RowsState::default() }
    }

    /// What becomes of the rows of tuples that changed.
    fn changed_rows(
        &self,
        (before, after): (&View<'_>, &View<'_>),
        params: &[Scalar<'static>],
        tuples: &[TupleDelta],
    ) -> RowEdits {
        // Another row of a subquery makes another tuple, but not another row.
        let mut pairs: BTreeMap<Box<[Key]>, RowPair> = BTreeMap::new();
        for tuple in tuples {
            if tuple.before {
                self.rows_of(before, params, &tuple.tuple, &mut |row| {
                    let place = row.place();
                    pairs.entry(place).or_default().0 = Some(Arc::new(row));
                });
            }
            if tuple.after {
                self.rows_of(after, params, &tuple.tuple, &mut |row| {
                    let place = row.place();
                    pairs.entry(place).or_default().1 = Some(Arc::new(row));
                });
            }
        }
        pairs.into_values().filter_map(|pair| edit(after.plan, params, pair)).collect()
    }
}

/// A row before and after.
type RowPair = (Option<Arc<KeptRow>>, Option<Arc<KeptRow>>);

/// What it means for the order that a row is another one than it was.
pub(crate) fn edit(
    plan: &Plan,
    params: &[Scalar<'static>],
    (old, new): (Option<Arc<KeptRow>>, Option<Arc<KeptRow>>),
) -> Option<Edit<Arc<KeptRow>>> {
    let none = WindowValues::default();
    edit_windowed(plan, params, (old, &none), (new, &none))
}

/// The same with what window functions give for it.
pub(crate) fn edit_windowed(
    plan: &Plan,
    params: &[Scalar<'static>],
    (old, was): (Option<Arc<KeptRow>>, &WindowValues),
    (new, is): (Option<Arc<KeptRow>>, &WindowValues),
) -> Option<Edit<Arc<KeptRow>>> {
    let (old, new) = match (old, new) {
        (None, None) => return None,
        (None, Some(new)) => return Some(Edit::Enter(new)),
        (Some(old), None) => return Some(Edit::Leave(old)),
        (Some(old), Some(new)) => (old, new),
    };
    let (before, after) = (was.of(&old), is.of(&new));
    if before.shows_same(&after) {
        return None;
    }
    let changed = plan
        .outputs
        .iter()
        .any(|output| output.expr.eval(&before, params) != output.expr.eval(&after, params));
    // The old row stands in the order until the new one takes its place, and by then has what is
    // given for that.
    let meanwhile = || order_kept(plan, params, is.of(&old), after).is_ne();
    let reorder = order_kept(plan, params, before, after).is_ne() || meanwhile();
    Some(Edit::Replace { old, new, reorder, changed })
}

/// What a plan makes of what window functions give for its rows.
pub(crate) struct OfGiven<'p> {
    plan: &'p Plan,
    params: &'p [Scalar<'static>],
    /// How many values stand before it.
    values: usize,
    outputs: SmallVec<[&'p Expr; 4]>,
    orders: bool,
}

impl<'p> OfGiven<'p> {
    pub(crate) fn new(plan: &'p Plan, params: &'p [Scalar<'static>], values: usize) -> Self {
        let outputs = plan.outputs.iter().map(|output| &output.expr);
        let outputs = outputs.filter(|expr| expr.reads_from(values)).collect();
        let orders = plan.order.iter().any(|key| key.expr.reads_from(values));
        Self { plan, params, values, outputs, orders }
    }

    /// What it means for the order that something else is given for a row that is as it was: the
    /// row need not be looked at. Of some functions it is known already that they give something
    /// else.
    pub(crate) fn edit(
        &self,
        row: &Arc<KeptRow>,
        (was, is): (&WindowValues, &WindowValues),
        differs: impl Fn(usize) -> bool,
    ) -> Option<Edit<Arc<KeptRow>>> {
        let (before, after) = (was.of(row), is.of(row));
        let is_known = |expr: &Expr| match expr {
            Expr::Column(column) => differs(column.column as usize - self.values),
            _ => false,
        };
        let changed = self.outputs.iter().any(|expr| {
            is_known(expr) || expr.eval(&before, self.params) != expr.eval(&after, self.params)
        });
        let reorder = self.orders && order_kept(self.plan, self.params, before, after).is_ne();
        let row = || row.clone();
        match (reorder, changed) {
            (true, _) => Some(Edit::Replace { old: row(), new: row(), reorder, changed }),
            (false, true) => Some(Edit::Change(row())),
            (false, false) => None,
        }
    }
}

/// The order of two rows: by ORDER BY, and by their keys where that leaves it open.
pub(crate) fn order_kept(
    plan: &Plan,
    params: &[Scalar<'static>],
    a: Kept<'_>,
    b: Kept<'_>,
) -> Ordering {
    order_by(plan, params, &a, &b).then_with(|| {
        let keys = a.row.key().iter().zip(b.row.key());
        keys.map(|(a, b)| a.order(b)).find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
    })
}
