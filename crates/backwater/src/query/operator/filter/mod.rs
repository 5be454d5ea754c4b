//! Conditions made ready for many rows: what of them is the same for all is done once.

pub(in crate::query) mod band;
pub(in crate::query) mod narrow;

use std::borrow::Cow;

use smallvec::SmallVec;

use crate::query::expr::fold::Needle;
use crate::query::expr::scalar::{Affinity, Key, Scalar};
use crate::query::expr::shape::{compared, searched};
use crate::query::expr::{ColumnNo, Columns, Comparison, Expr, NoColumns};
use crate::query::operator::join::TupleDelta;
use crate::query::operator::view::View;
use crate::query::plan::BoundPlan;
use crate::schema::FieldNo;
use crate::table::{NumberRange, Numbers, Selection, TableRows};

/// Conditions that a row must all meet.
pub(crate) struct Filter<'a> {
    checks: SmallVec<[Check<'a>; 2]>,
    params: &'a [Scalar<'static>],
}

enum Check<'a> {
    /// A column compared with a whole number.
    Whole(ColumnNo, NumberRange, &'a Expr),
    /// A column compared with a point in time.
    Micros(ColumnNo, NumberRange, &'a Expr),
    /// A column's text searched for another one. A needle is large, and most filters have none.
    ColumnContains(ColumnNo, Box<Needle>, &'a Expr),
    /// Another text searched.
    Contains(&'a Expr, Box<Needle>),
    Other(&'a Expr),
}

/// Conditions on what lies in a table's fields.
pub(crate) struct Plain<'a>(SmallVec<[Check<'a>; 2]>);

impl Plain<'_> {
    /// The field that is searched and what is looked for, if that is all.
    pub(crate) fn only_search(&self) -> Option<(FieldNo, &Needle)> {
        match &*self.0 {
            [Check::ColumnContains(column, needle, _)] => Some((column.field(), needle)),
            _ => None,
        }
    }

    pub(crate) fn selection(&self) -> Selection<'_> {
        let mut selection = Selection::default();
        for check in &self.0 {
            match check {
                Check::Whole(column, range, _) | Check::Micros(column, range, _) => {
                    selection.ranges.push((column.field(), *range));
                }
                Check::ColumnContains(column, needle, _) => {
                    selection.searches.push((column.field(), &**needle));
                }
                Check::Contains(..) | Check::Other(_) => {}
            }
        }
        selection
    }
}

impl<'a> Filter<'a> {
    pub(crate) fn of(
        conditions: impl IntoIterator<Item = &'a Expr>,
        params: &'a [Scalar<'static>],
    ) -> Self {
        let checks = conditions.into_iter().map(|condition| {
            number(condition, params)
                .or_else(|| contains(condition, params))
                .unwrap_or(Check::Other(condition))
        });
        Self { checks: checks.collect(), params }
    }

    #[inline]
    pub(crate) fn holds(&self, row: &impl Columns<'a>) -> bool {
        self.checks.iter().all(|check| match check {
            Check::Whole(column, range, condition) => match row.whole(*column) {
                Some(number) => range.has(number),
                None => condition.holds(row, self.params),
            },
            Check::Micros(column, range, condition) => match row.micros(*column) {
                Some(micros) => range.has(micros),
                None => condition.holds(row, self.params),
            },
            Check::ColumnContains(column, needle, _) => is_in(needle, &row.column(*column)),
            Check::Contains(text, needle) => is_in(needle, &text.eval(row, self.params)),
            Check::Other(condition) => condition.holds(row, self.params),
        })
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.checks.is_empty()
    }

    /// Takes out the conditions that depend on a table's own fields alone.
    pub(crate) fn take_plain(&mut self, table: &TableRows) -> Plain<'a> {
        let is_plain = |check: &Check<'a>| match check {
            Check::Whole(column, ..) => table.has_numbers(column.field(), Numbers::Whole),
            Check::Micros(column, ..) => table.has_numbers(column.field(), Numbers::Micros),
            // What is searched again and again is worth to be kept ready.
            Check::ColumnContains(column, _, Expr::Param(_)) => table.has_texts(column.field()),
            _ => false,
        };
        let (plain, others) =
            std::mem::take(&mut self.checks).into_iter().partition::<SmallVec<_>, _>(is_plain);
        self.checks = others;
        Plain(plain)
    }
}

/// Of changed tuples those that meet a binding's own conditions before or after: with its key, if
/// they were not found by that.
pub(crate) fn belonging<'t>(
    bound_plan: &BoundPlan,
    key: Option<&[Key]>,
    (before, after): (&View<'_>, &View<'_>),
    tuples: Cow<'t, [TupleDelta]>,
) -> Cow<'t, [TupleDelta]> {
    let BoundPlan { plan, params, .. } = bound_plan;
    if plan.late.is_empty() && key.is_none() {
        return tuples;
    }
    let belongs = |view: &View<'_>, tuple: &TupleDelta| {
        let row = view.row(&tuple.tuple);
        key.is_none_or(|key| view.binding_key(&tuple.tuple).as_deref() == Some(key))
            && plan.late.iter().all(|condition| condition.holds(&row, params))
    };
    let mut out = Vec::new();
    for tuple in tuples.iter() {
        let was = tuple.before && belongs(before, tuple);
        let is = tuple.after && belongs(after, tuple);
        if was || is {
            out.push(TupleDelta { before: was, after: is, ..tuple.clone() });
        }
    }
    out.into()
}

#[inline]
fn is_in(needle: &Needle, text: &Scalar<'_>) -> bool {
    match text {
        Scalar::Str(text) => needle.is_in(text),
        other => other.to_text().is_some_and(|text| needle.is_in(&text)),
    }
}

/// What is the same for all rows.
fn constant<'a>(expr: &'a Expr, params: &'a [Scalar<'static>]) -> Option<Cow<'a, Scalar<'a>>> {
    match expr {
        Expr::Literal(value) => Some(Cow::Borrowed(value)),
        Expr::Param(param) => Some(Cow::Borrowed(&params[*param])),
        expr => expr.is_constant().then(|| Cow::Owned(expr.eval(&NoColumns, params))),
    }
}

fn number<'a>(condition: &'a Expr, params: &'a [Scalar<'static>]) -> Option<Check<'a>> {
    let (column, comparison, affinity, than) = compared(condition)?;
    match *constant(than, params)? {
        Scalar::Int(than) if affinity != Affinity::Text => {
            Some(Check::Whole(column, range(comparison, than), condition))
        }
        Scalar::Time(than) => {
            Some(Check::Micros(column, range(comparison, than.as_micros()), condition))
        }
        _ => None,
    }
}

/// The numbers that compare so with one.
fn range(comparison: Comparison, than: i64) -> NumberRange {
    use Comparison as C;
    let none = NumberRange { low: 1, high: 0, inside: true };
    let (low, high) = match comparison {
        C::Equal | C::NotEqual => (Some(than), Some(than)),
        C::Less => (Some(i64::MIN), than.checked_sub(1)),
        C::LessOrEqual => (Some(i64::MIN), Some(than)),
        C::Greater => (than.checked_add(1), Some(i64::MAX)),
        C::GreaterOrEqual => (Some(than), Some(i64::MAX)),
    };
    match (low, high) {
        (Some(low), Some(high)) => NumberRange { low, high, inside: comparison != C::NotEqual },
        _ => none,
    }
}

fn contains<'a>(condition: &'a Expr, params: &'a [Scalar<'static>]) -> Option<Check<'a>> {
    let (text, sought) = searched(condition)?;
    let needle = Box::new(Needle::new(&constant(sought, params)?.to_text()?));
    Some(match text {
        Expr::Column(column) => Check::ColumnContains(*column, needle, sought),
        text => Check::Contains(text, needle),
    })
}
