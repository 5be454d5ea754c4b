//! From expressions over a table's columns to the same over a grouping's keys and aggregates.

use super::Lowered;
use super::parts::OpenSource;
use crate::query::expr::{ColumnNo, Expr};
use crate::query::plan::Relation;
use crate::query::syntax::{Location, Refusal};
use crate::schema::Schema;

/// An expression, and the bare columns in it with their places.
#[derive(Clone)]
pub(super) struct Placed {
    pub(super) expr: Expr,
    pub(super) met: Vec<(ColumnNo, Location)>,
}

impl Placed {
    /// The expression over a grouping's keys and aggregates.
    pub(super) fn regroup(
        mut self,
        keys: &[Expr],
        sources: &[OpenSource],
        schema: &Schema,
    ) -> Lowered<Expr> {
        regroup(&mut self.expr, keys).map_err(|column| {
            let at = self
                .met
                .iter()
                .find(|(met, _)| *met == column)
                .map_or(Location::START, |(_, at)| *at);
            let name = match &sources[column.source()].relation {
                Relation::Table(table) => &*schema.table(*table).field(column.field()).name,
                Relation::Statement(plan, _) => &plan.outputs[column.column as usize].name,
            };
            Refusal::new(
                at,
                format!("column \"{name}\" is neither grouped by nor inside an aggregate"),
                format!("add it to GROUP BY, or write min({name})"),
            )
        })?;
        Ok(self.expr)
    }
}

fn regroup(expr: &mut Expr, keys: &[Expr]) -> Result<(), ColumnNo> {
    if let Some(key) = keys.iter().position(|key| key == expr) {
        *expr = Expr::Column(ColumnNo::only(key));
        return Ok(());
    }
    match expr {
        Expr::Aggregate(number) => {
            *expr = Expr::Column(ColumnNo::only(keys.len() + *number));
            Ok(())
        }
        Expr::Column(column) => Err(*column),
        other => {
            let mut result = Ok(());
            other.children_mut(&mut |child| {
                if result.is_ok() {
                    result = regroup(child, keys);
                }
            });
            result
        }
    }
}
