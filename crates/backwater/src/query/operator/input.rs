//! Inputs: what the pipeline of a statement begins with. Each is a table or another statement, and
//! is asked the same of.

use std::cmp::Ordering;

use crate::query::expr::scalar::Scalar;
use crate::query::operator::describe::{self, Printed};
use crate::query::operator::statement_input::StatementInput;
use crate::query::operator::table_input::TableInput;
use crate::query::plan::explain::Operator;
use crate::query::plan::text::PlanNames;
use crate::query::plan::{Relation, Source};
use crate::query::work::Failure;
use crate::schema::FieldNo;
use crate::table::{Prefetch, Slot};

/// The rows of one source as of one commit.
#[derive(Clone, Copy)]
pub(crate) enum Input<'a> {
    Table(TableInput<'a>),
    Statement(StatementInput<'a>),
}

/// Asks an input of either kind.
macro_rules! ask {
    ($self:ident.$question:ident($($argument:expr),*)) => {
        match $self {
            Input::Table(input) => input.$question($($argument),*),
            Input::Statement(input) => input.$question($($argument),*),
        }
    };
}

impl<'a> Input<'a> {
    pub(crate) fn is_row(self, slot: Slot) -> bool {
        ask!(self.is_row(slot))
    }

    #[inline]
    pub(crate) fn value(self, column: FieldNo, slot: Slot) -> Scalar<'a> {
        ask!(self.value(column, slot))
    }

    /// Adds a row to those that are prefetched together.
    pub(crate) fn prefetch(self, slot: Slot, prefetch: &mut Prefetch<'a>) {
        if let Input::Table(input) = self {
            prefetch.add(input.rows(), slot);
        }
    }

    /// How many rows it has.
    pub(crate) fn len(self) -> usize {
        ask!(self.len())
    }

    /// Calls `found` with all rows.
    pub(crate) fn each(self, found: &mut dyn FnMut(Slot)) {
        ask!(self.each(found));
    }

    /// The rows with these values in these columns, by an index.
    pub(crate) fn equal(self, columns: &[FieldNo], values: &[Scalar<'_>]) -> Vec<Slot> {
        ask!(self.equal(columns, values))
    }

    /// Calls `found` with each of the values that identify a row.
    pub(crate) fn each_of_key(self, slot: Slot, found: &mut impl FnMut(Scalar<'_>)) {
        ask!(self.each_of_key(slot, found));
    }

    /// The first of the values by which [`Input::compare`] orders a row.
    pub(crate) fn tie(self, slot: Slot) -> Option<Scalar<'a>> {
        ask!(self.tie(slot))
    }

    /// The order of two rows by what identifies them. Of statements the readers keep what orders
    /// their rows.
    pub(crate) fn compare(self, a: Slot, b: Slot) -> Ordering {
        ask!(self.compare(a, b))
    }

    /// Why it is unknown whether a row is there.
    pub(crate) fn doubt(self, slot: Slot) -> Option<Failure> {
        ask!(self.doubt(slot))
    }
}

/// What a source is called.
pub(super) fn called(names: &PlanNames<'_>, number: usize, printed: &Printed) -> String {
    let source = &names.plan.sources[number];
    match &source.relation {
        Relation::Table(table) => {
            let table = &names.schema.table(*table).name;
            let is_same = source.name.eq_ignore_ascii_case(table);
            let alias = if is_same { String::new() } else { format!(" AS {}", source.name) };
            format!("{table}{alias}")
        }
        Relation::Statement(inner, _) => {
            let role = if source.is_lookup { "" } else { "the statement " };
            let above = match printed.borrow().contains(&inner.identity) {
                true => ", which is shown above",
                false => "",
            };
            format!("{role}{}{above}", source.name)
        }
    }
}

/// What a source's index is named by.
pub(super) fn index_of<'n>(names: &PlanNames<'n>, source: &'n Source) -> &'n str {
    source.relation.table().map_or(&*source.name, |table| &*names.schema.table(table).name)
}

/// An operator with what it reads of a source, and how it follows that one's changes: on which way
/// from a row to those of others, if there are any.
pub(super) fn describe(
    names: &PlanNames<'_>,
    number: usize,
    (operator, way): (Operator, &str),
    printed: &Printed,
) -> Operator {
    let source = &names.plan.sources[number];
    let fields: Vec<String> = source.reads.iter().map(|field| names.field(number, field)).collect();
    let reads =
        if fields.is_empty() { "only which rows there are".into() } else { fields.join(", ") };
    let follows = match way.is_empty() {
        true => "looks at each changed row before and after".to_owned(),
        false => format!("from a changed row {way}"),
    };
    let operator = operator.fact("reads", reads).fact("follows", follows);
    match source.relation.plan() {
        Some(inner) if printed.borrow_mut().insert(inner.identity) => {
            operator.input(describe::statement(inner, names.schema, printed))
        }
        _ => operator,
    }
}
