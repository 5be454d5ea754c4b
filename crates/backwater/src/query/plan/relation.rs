//! What a statement reads: a table, or the rows of another statement.

use std::collections::BTreeMap;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use crate::change::FieldSet;
use crate::query::expr::scalar::{Affinity, Scalar};
use crate::query::plan::Plan;
use crate::query::plan::text::PlanNames;
use crate::schema::{FieldKind, FieldNo, IdType, Schema, TableNo};

#[derive(Clone)]
pub(crate) enum Relation {
    Table(TableNo),
    /// Another statement, and which of our parameters its own are.
    Statement(Arc<Plan>, Box<[usize]>),
}

impl Hash for Relation {
    fn hash<H: Hasher>(&self, hasher: &mut H) {
        match self {
            Self::Table(table) => (0_u8, table).hash(hasher),
            Self::Statement(plan, params) => (1_u8, plan.identity, params).hash(hasher),
        }
    }
}

impl Relation {
    pub(crate) fn table(&self) -> Option<TableNo> {
        match self {
            Self::Table(table) => Some(*table),
            Self::Statement(..) => None,
        }
    }

    /// The plan of another statement.
    pub(crate) fn plan(&self) -> Option<&Arc<Plan>> {
        match self {
            Self::Table(_) => None,
            Self::Statement(plan, _) => Some(plan),
        }
    }

    /// Another statement, with values for its parameters among those of the one that reads it.
    pub(crate) fn statement(
        &self,
        params: &[Scalar<'static>],
    ) -> Option<(&Arc<Plan>, Vec<Scalar<'static>>)> {
        match self {
            Self::Table(_) => None,
            Self::Statement(plan, of) => {
                Some((plan, of.iter().map(|param| params[*param].clone()).collect()))
            }
        }
    }

    /// Which of our parameters it uses.
    pub(crate) fn params(&self) -> &[usize] {
        match self {
            Self::Table(_) => &[],
            Self::Statement(_, params) => params,
        }
    }

    pub(crate) fn params_mut(&mut self) -> &mut [usize] {
        match self {
            Self::Table(_) => &mut [],
            Self::Statement(_, params) => params,
        }
    }

    /// How many statements are read one through the other.
    pub(crate) fn depth(&self) -> usize {
        self.plan().map_or(0, |plan| plan.depth)
    }

    /// How many values identify a row.
    pub(crate) fn key_len(&self, schema: &Schema) -> usize {
        match self {
            Self::Table(table) => schema.table(*table).id.len(),
            Self::Statement(plan, _) => plan.key_len(),
        }
    }

    /// What a message calls a column.
    pub(crate) fn column_name<'n>(&'n self, column: FieldNo, schema: &'n Schema) -> &'n str {
        match self {
            Self::Table(table) => &schema.table(*table).field(column).name,
            Self::Statement(plan, _) => &plan.outputs[column.index()].name,
        }
    }

    /// What an explanation calls a column: one without a name by what it is computed from.
    pub(crate) fn column_text(&self, column: FieldNo, schema: &Schema) -> String {
        match (self, self.column_name(column, schema)) {
            (Self::Statement(plan, _), "") => {
                PlanNames { plan, schema }.text_of_filter(&plan.outputs[column.index()].expr)
            }
            (_, name) => name.to_owned(),
        }
    }

    /// The kind of a column's values, if they are of one, and how they are compared.
    pub(crate) fn column_type(
        &self,
        column: FieldNo,
        schema: &Schema,
    ) -> (Option<FieldKind>, Affinity) {
        match self {
            Self::Table(table) => {
                let field = schema.table(*table).field(column);
                let parts = schema.linked_id_type(field) == Some(IdType::Parts);
                let kind = if parts { FieldKind::Json } else { field.kind };
                (Some(kind), Affinity::of(field, schema))
            }
            Self::Statement(plan, _) => {
                let output = &plan.outputs[column.index()];
                (output.declared, output.affinity)
            }
        }
    }

    /// Adds the fields of tables that are read, if these columns are.
    pub(super) fn add_footprint(&self, columns: &FieldSet, out: &mut BTreeMap<TableNo, FieldSet>) {
        match self {
            Self::Table(table) => out.entry(*table).or_default().add(columns),
            Self::Statement(plan, _) => {
                for (table, fields) in &plan.footprints {
                    out.entry(*table).or_default().add(fields);
                }
            }
        }
    }
}
