//! A plan: what a statement reads and does, resolved against the schema. One for each shape.

use super::aggregate::Aggregate;
use super::expr::Expr;
use super::scalar::{Affinity, Scalar};
use crate::change::FieldSet;
use crate::error::{Error, ErrorKind, Result, list, nearest};
use crate::schema::{FieldNo, Kind, Schema, TableNo};
use crate::value::{Named, Value};

/// A statement over one table, as a chain: key, filter, grouping, output, order, window.
#[derive(Debug)]
pub(crate) struct Plan {
    /// The statement in one spelling; two statements of the same plan have the same.
    pub(crate) text: String,
    pub(crate) table: TableNo,
    /// Conditions `field = :param`, by which the statement's bindings are found from a row.
    pub(crate) keys: Vec<KeyPart>,
    /// What else a row must be.
    pub(crate) filter: Option<Expr>,
    pub(crate) grouping: Option<Grouping>,
    pub(crate) outputs: Vec<Output>,
    pub(crate) order: Vec<OrderKey>,
    pub(crate) limit: Option<Expr>,
    pub(crate) offset: Option<Expr>,
    pub(crate) params: Vec<Param>,
    /// All fields that the statement reads.
    pub(crate) footprint: FieldSet,
    /// Those that the grouping reads, or, without one, the outputs.
    pub(crate) content: FieldSet,
    /// Those that the order of a statement without grouping reads.
    pub(crate) order_fields: FieldSet,
}

/// One condition `field = :param`.
#[derive(Debug)]
pub(crate) struct KeyPart {
    pub(crate) field: FieldNo,
    pub(crate) param: usize,
    pub(crate) affinity: Affinity,
}

/// GROUP BY: rows of equal keys become one row of keys and aggregates.
#[derive(Debug)]
pub(crate) struct Grouping {
    pub(crate) keys: Vec<Expr>,
    pub(crate) aggregates: Vec<(Aggregate, Option<Expr>)>,
    /// Over keys and aggregates.
    pub(crate) having: Option<Expr>,
}

/// One column of the result.
#[derive(Debug)]
pub(crate) struct Output {
    pub(crate) name: String,
    /// Over the table's columns, or over the grouping's.
    pub(crate) expr: Expr,
    /// The type of the field that the column plainly is.
    pub(crate) declared: Option<Kind>,
}

#[derive(Debug)]
pub(crate) struct OrderKey {
    pub(crate) expr: Expr,
    pub(crate) descending: bool,
    pub(crate) nulls_first: bool,
}

/// A parameter, and whether it is compared with a time.
#[derive(Debug)]
pub(crate) struct Param {
    pub(crate) name: String,
    pub(crate) is_time: bool,
}

/// The part of the whole order that a result shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Window {
    pub(crate) offset: usize,
    pub(crate) limit: usize,
}

impl Window {
    pub(crate) fn is_whole(self) -> bool {
        self.offset == 0 && self.limit == usize::MAX
    }

    /// How many of so many rows it shows.
    pub(crate) fn len(self, rows: usize) -> usize {
        rows.saturating_sub(self.offset).min(self.limit)
    }

    /// The position in the window of a rank.
    pub(crate) fn position(self, rank: usize) -> Option<usize> {
        rank.checked_sub(self.offset).filter(|position| *position < self.limit)
    }
}

impl Plan {
    /// The parameters' values in the plan's order.
    pub(crate) fn bind(&self, given: &Named) -> Result<Vec<Scalar<'static>>> {
        let names: Vec<&str> = self.params.iter().map(|param| param.name.as_str()).collect();
        if let Some((wrong, _)) = given.iter().find(|(name, _)| !names.contains(&bare(name))) {
            let message = format!("the statement has no parameter :{}", bare(wrong));
            return Err(Error::new(ErrorKind::Parameter, message).help(nearest(wrong, names)));
        }
        let values = self.params.iter().map(|param| {
            let value = given.iter().filter(|(name, _)| bare(name) == param.name).last();
            let (_, value) = value.ok_or_else(|| {
                Error::new(ErrorKind::Parameter, format!("parameter :{} has no value", param.name))
                    .help(format!("the statement's parameters are {}", list(&names)))
            })?;
            Ok(match value {
                Value::Text(text) if param.is_time => match text.parse() {
                    Ok(time) => Scalar::Time(time),
                    Err(_) => Scalar::from(value),
                },
                Value::Float(number) if !number.is_finite() => {
                    let message =
                        format!("parameter :{} is {number}, expected a finite number", param.name);
                    return Err(Error::new(ErrorKind::Parameter, message));
                }
                value => Scalar::from(value),
            })
        });
        values.collect()
    }

    /// The window that LIMIT and OFFSET open.
    pub(crate) fn window(&self, params: &[Scalar<'static>]) -> Result<Window> {
        let number = |expr: &Option<Expr>, name: &str| -> Result<Option<i64>> {
            let Some(expr) = expr else { return Ok(None) };
            let none: &[Scalar<'static>] = &[];
            match expr.eval(&none, params).under(Affinity::Numeric) {
                Scalar::Int(number) => Ok(Some(number)),
                Scalar::Real(number) if number.fract() == 0.0 && number.abs() < 1e15 => {
                    Ok(Some(number as i64))
                }
                _ => Err(Error::new(ErrorKind::Parameter, format!("{name} is not a whole number"))),
            }
        };
        let limit = number(&self.limit, "LIMIT")?;
        let offset = number(&self.offset, "OFFSET")?;
        Ok(Window {
            // A negative LIMIT is none, a negative OFFSET is 0.
            limit: limit.and_then(|limit| usize::try_from(limit).ok()).unwrap_or(usize::MAX),
            offset: offset.and_then(|offset| usize::try_from(offset).ok()).unwrap_or(0),
        })
    }

    /// The fields of the footprint as `table.field`, for messages.
    pub(crate) fn reads(&self, schema: &Schema) -> Vec<String> {
        let table = schema.table(self.table);
        self.footprint
            .iter()
            .map(|field| format!("{}.{}", table.name, table.field(field).name))
            .collect()
    }
}

/// A parameter's name without the colon that SQL writes in front of it.
fn bare(name: &str) -> &str {
    name.strip_prefix(':').unwrap_or(name)
}
