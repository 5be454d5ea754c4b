//! Conditions made ready for many rows: what of them is the same for all is done once.

use super::collation::Collation;
use super::expr::{ColumnNo, Columns, Comparison, Expr};
use super::fold::Needle;
use super::function::Function;
use super::scalar::{Affinity, Scalar};

/// Conditions that a row must all meet.
pub(crate) struct Filter<'a> {
    checks: Vec<Check<'a>>,
    params: &'a [Scalar<'static>],
}

enum Check<'a> {
    /// A column compared with a whole number.
    Whole(ColumnNo, Comparison, i64, &'a Expr),
    /// A column's text searched for another one.
    ColumnContains(ColumnNo, Needle),
    /// Another text searched.
    Contains(&'a Expr, Needle),
    Other(&'a Expr),
}

impl<'a> Filter<'a> {
    pub(crate) fn of(
        conditions: impl IntoIterator<Item = &'a Expr>,
        params: &'a [Scalar<'static>],
    ) -> Self {
        let checks = conditions.into_iter().map(|condition| {
            whole(condition, params)
                .or_else(|| contains(condition, params))
                .unwrap_or(Check::Other(condition))
        });
        Self { checks: checks.collect(), params }
    }

    #[inline]
    pub(crate) fn holds(&self, row: &impl Columns<'a>) -> bool {
        self.checks.iter().all(|check| match check {
            Check::Whole(column, comparison, than, condition) => match row.whole(*column) {
                Some(number) => comparison.holds(number.cmp(than)),
                None => self.is_true(condition, row),
            },
            Check::ColumnContains(column, needle) => is_in(needle, &row.column(*column)),
            Check::Contains(text, needle) => is_in(needle, &text.eval(row, self.params)),
            Check::Other(condition) => self.is_true(condition, row),
        })
    }

    fn is_true(&self, condition: &'a Expr, row: &impl Columns<'a>) -> bool {
        condition.eval(row, self.params).as_truth() == Some(true)
    }
}

#[inline]
fn is_in(needle: &Needle, text: &Scalar<'_>) -> bool {
    match text {
        Scalar::Str(text) => needle.is_in(text),
        other => other.to_text().is_some_and(|text| needle.is_in(&text)),
    }
}

fn constant<'a>(expr: &'a Expr, params: &'a [Scalar<'static>]) -> Option<&'a Scalar<'static>> {
    match expr {
        Expr::Literal(value) => Some(value),
        Expr::Param(param) => Some(&params[*param]),
        _ => None,
    }
}

fn whole<'a>(condition: &'a Expr, params: &'a [Scalar<'static>]) -> Option<Check<'a>> {
    let (column, comparison, affinity, than) = compared(condition)?;
    match constant(than, params)? {
        Scalar::Int(than) if affinity != Affinity::Text => {
            Some(Check::Whole(column, comparison, *than, condition))
        }
        _ => None,
    }
}

fn contains<'a>(condition: &'a Expr, params: &'a [Scalar<'static>]) -> Option<Check<'a>> {
    let (text, needle) = searched(condition)?;
    let needle = constant(needle, params)?.to_text()?;
    let needle = Needle::new(&needle);
    Some(match text {
        Expr::Column(column) => Check::ColumnContains(*column, needle),
        text => Check::Contains(text, needle),
    })
}

/// A column, how it is compared, under which affinity and with what, of a condition that compares
/// by plain order.
pub(crate) fn compared(condition: &Expr) -> Option<(ColumnNo, Comparison, Affinity, &Expr)> {
    let Expr::Compare(comparison, affinity, Collation::Binary, left, right) = condition else {
        return None;
    };
    match (left.as_ref(), right.as_ref()) {
        (Expr::Column(column), other) => Some((*column, *comparison, *affinity, other)),
        (other, Expr::Column(column)) => Some((*column, comparison.mirrored(), *affinity, other)),
        _ => None,
    }
}

/// What is searched, and what for, of a condition that does.
pub(crate) fn searched(condition: &Expr) -> Option<(&Expr, &Expr)> {
    match condition {
        Expr::Call(Function::Contains, arguments) => match arguments.as_slice() {
            [text, needle] => Some((text, needle)),
            _ => None,
        },
        _ => None,
    }
}
