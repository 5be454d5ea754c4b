//! A statement as a person reads it: its operators, put together from what each says of itself.

use std::cell::RefCell;
use std::collections::HashSet;

use crate::query::operator::{join, limit, order, union};
use crate::query::plan::explain::{Explanation, Operator};
use crate::query::plan::text::PlanNames;
use crate::query::plan::{Combine, Identity, Plan};
use crate::schema::Schema;

/// The statements that others read and that stand in the tree already: each is kept and followed
/// once, however many read it.
pub(super) type Printed = RefCell<HashSet<Identity>>;

/// The operators of a statement.
pub(in crate::query) fn explain(title: &str, plan: &Plan, schema: &Schema) -> Explanation {
    Explanation::new(title, statement(plan, schema, &Printed::default()))
}

/// The last one, over those that it reads.
pub(super) fn statement(plan: &Plan, schema: &Schema, printed: &Printed) -> Operator {
    let names = PlanNames { plan, schema };
    let mut operator = match plan.combine {
        Combine::Join => join::describe(&names, printed),
        Combine::Union => union::describe(&names, printed),
    };
    if let Some(rows) = plan.rows.operator().and_then(|rows| rows.describe(&names)) {
        operator = rows.input(operator);
    }
    operator = order::describe(&names).input(operator);
    match limit::describe(&names) {
        Some(limit) => limit.input(operator),
        None => operator,
    }
}
