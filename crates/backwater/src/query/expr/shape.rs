//! What a condition compares or searches, for those that have a faster way to do so.

use super::collation::Collation;
use super::function::Function;
use super::scalar::Affinity;
use super::{ColumnNo, Comparison, Expr};

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
