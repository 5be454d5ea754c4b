//! Equal numbers of two types: 2 and 2.0 are equal, and not the same.
//!
//! Where equal values are one (a group's key, DISTINCT, min and max) SQLite shows the one that it
//! meets first. We must do the same, independently of the order in time: the first by the rows'
//! keys.

use super::parts::{OpenSource, Parts};
use crate::query::expr::collation::Collation;
use crate::query::expr::function::{Cast, Function};
use crate::query::expr::scalar::{Affinity, Scalar};
use crate::query::expr::{Arithmetic, ColumnNo, Expr};
use crate::query::plan::window::Called;
use crate::query::plan::{Aggregate, AggregateFunction, OrderKey, Relation};
use crate::schema::{FieldKind, IdType, Schema};

/// Which numbers an expression may give.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Numbers {
    whole: bool,
    real: bool,
}

const NONE: Numbers = Numbers { whole: false, real: false };
const WHOLE: Numbers = Numbers { whole: true, real: false };
const REAL: Numbers = Numbers { whole: false, real: true };
const BOTH: Numbers = Numbers { whole: true, real: true };

impl Numbers {
    fn or(self, other: Self) -> Self {
        Self { whole: self.whole || other.whole, real: self.real || other.real }
    }
}

impl Parts {
    /// Makes sure that of equal numbers the first row's is shown.
    pub(super) fn show_first_of_equal(&mut self, schema: &Schema) {
        let mixes = |expr: &Expr| numbers(expr, &self.sources, schema) == BOTH;
        let grouped = self.grouping.iter_mut().flat_map(|grouping| &mut grouping.aggregates);
        let calls = self.windowing.iter_mut().flat_map(|windowing| &mut windowing.calls);
        let windowed = calls.filter_map(|call| match &mut call.called {
            Called::Aggregate(aggregate) => Some(aggregate),
            Called::Function(..) => None,
        });
        for aggregate in grouped.chain(windowed) {
            let Some(argument) = aggregate.argument.as_ref().filter(|of| mixes(of)) else {
                continue;
            };
            match aggregate.function {
                AggregateFunction::Min | AggregateFunction::Max => {
                    aggregate.order = vec![OrderKey {
                        expr: argument.clone(),
                        descending: aggregate.function == AggregateFunction::Max,
                        nulls_first: false,
                        collation: Collation::Binary,
                        holds_times: false,
                    }];
                }
                _ => aggregate.mixes = true,
            }
        }
        let Some(grouping) = &mut self.grouping else { return };
        let keys = grouping.keys.len();
        for key in 0..keys {
            let expr = &grouping.keys[key];
            let key = ColumnNo::only(key);
            let is_shown = |expr: &Expr| expr.columns().contains(&key);
            if !self.outputs.iter().any(|output| is_shown(&output.expr)) || !mixes(expr) {
                continue;
            }
            let first = ColumnNo::only(keys + grouping.aggregates.len());
            grouping.aggregates.push(Aggregate::new(AggregateFunction::First, Some(expr.clone())));
            for output in &mut self.outputs {
                put(&mut output.expr, key, first);
            }
        }
    }
}

/// Puts one column in the place of another one.
fn put(expr: &mut Expr, old: ColumnNo, new: ColumnNo) {
    match expr {
        Expr::Column(column) if *column == old => *column = new,
        other => other.children_mut(&mut |child| put(child, old, new)),
    }
}

fn numbers(expr: &Expr, sources: &[OpenSource], schema: &Schema) -> Numbers {
    let of = |expr: &Expr| numbers(expr, sources, schema);
    let any = |exprs: &mut dyn Iterator<Item = &Expr>| exprs.map(of).fold(NONE, Numbers::or);
    match expr {
        Expr::Literal(Scalar::Int(_)) => WHOLE,
        Expr::Literal(Scalar::Real(_)) => REAL,
        Expr::Literal(_) | Expr::Concat(..) => NONE,
        Expr::Column(column) => match &sources[column.source()].relation {
            Relation::Table(table) => {
                let field = schema.table(*table).field(column.field());
                match (field.kind, schema.linked_id_type(field)) {
                    (FieldKind::Int | FieldKind::Bool | FieldKind::Links(_), _)
                    | (_, Some(IdType::Int)) => WHOLE,
                    (FieldKind::Float, _) => REAL,
                    _ => NONE,
                }
            }
            Relation::Statement(plan, _) => match plan.outputs[column.column as usize].declared {
                Some(FieldKind::Int | FieldKind::Bool | FieldKind::Links(_)) => WHOLE,
                Some(FieldKind::Float) => REAL,
                Some(FieldKind::Text | FieldKind::Timestamp | FieldKind::Json) => NONE,
                Some(FieldKind::Link(_) | FieldKind::OneOf) | None => BOTH,
            },
        },
        Expr::Under(Affinity::Text, _) | Expr::Cast(Cast::Text, _) => NONE,
        Expr::Under(Affinity::None | Affinity::Blob, inner) | Expr::Folded(_, inner) => of(inner),
        Expr::Cast(Cast::Integer, _) => WHOLE,
        Expr::Cast(Cast::Real, _) => REAL,
        Expr::Not(_)
        | Expr::And(..)
        | Expr::Or(..)
        | Expr::Compare(..)
        | Expr::Is(..)
        | Expr::IsTruth(..)
        | Expr::In(..)
        | Expr::Like { .. } => WHOLE,
        Expr::Arithmetic(Arithmetic::Remainder, ..) => BOTH,
        Expr::Arithmetic(_, left, right) => match (of(left), of(right)) {
            (WHOLE, WHOLE) => WHOLE,
            (REAL, _) | (_, REAL) => REAL,
            _ => BOTH,
        },
        Expr::Negate(inner) => match of(inner) {
            NONE => BOTH,
            known => known,
        },
        Expr::Case { branches, otherwise } => {
            let results = branches.iter().map(|(_, result)| result);
            any(&mut results.chain(otherwise.as_deref()))
        }
        Expr::Call(function, arguments) => match function {
            Function::Coalesce
            | Function::IfNull
            | Function::Merged
            | Function::Greatest
            | Function::Least => any(&mut arguments.iter()),
            Function::NullIf => any(&mut arguments.iter().take(1)),
            Function::Contains
            | Function::Instr
            | Function::Glob
            | Function::JsonArrayLength
            | Function::BitAnd
            | Function::BitOr
            | Function::ShiftLeft
            | Function::ShiftRight
            | Function::Invert
            | Function::Length
            | Function::Sign
            | Function::Unicode
            | Function::UnixEpoch => WHOLE,
            Function::Round | Function::JulianDay => REAL,
            Function::Abs | Function::JsonExtract | Function::ArrowText | Function::IsJson => BOTH,
            _ => NONE,
        },
        Expr::Under(Affinity::Numeric, _)
        | Expr::Param(_)
        | Expr::Outer(_)
        | Expr::Aggregate(_)
        | Expr::Window(_) => BOTH,
    }
}
