//! `WITH RECURSIVE`: a query that reads itself.

use std::sync::Arc;

use super::block::Block;
use super::{Env, Lowered, rename};
use crate::query::expr::{ColumnNo, Expr};
use crate::query::plan::{Output, Plan, Recursion, Relation, Rows};
use crate::query::syntax::mentioned::tables_of;
use crate::query::syntax::tree::{Compound, Query, Select, Source, WithTable};
use crate::query::syntax::{Location, Refusal};

/// How often a SELECT reads a table of this name, however deep.
fn reads(select: &Select, name: &str) -> usize {
    tables_of(select).iter().filter(|table| table.eq_ignore_ascii_case(name)).count()
}

impl Env<'_> {
    /// The plan of a query that WITH RECURSIVE names, if it reads itself.
    pub(super) fn recursive(&self, table: &WithTable) -> Lowered<Option<Arc<Plan>>> {
        let (query, name) = (&table.query, &*table.name.text);
        let selects = &query.selects;
        let Some(from) = selects.iter().position(|select| reads(select, name) > 0) else {
            return Ok(None);
        };
        let step = &selects[from];
        let refused = |at: Location, message: &str, help: &str| {
            Err(Refusal::new(at, format!("\"{name}\" {message}"), help))
        };
        let distinct = match step.compound {
            Some(Compound::Union) => true,
            Some(Compound::UnionAll) => false,
            _ => {
                let help = "begin with a SELECT of the first rows, and put UNION in front of this; \
                            if it reads a table, call the query something else";
                return refused(step.at, "reads itself before it has any rows", help);
            }
        };
        if let Some(more) = selects.get(from + 1) {
            let help = "join what it reads, or put its conditions together with OR";
            return refused(more.at, "has another SELECT behind the one that reads it", help);
        }
        if !query.order.is_empty() || query.limit.is_some() || query.offset.is_some() {
            let help = "put them into the SELECT that reads it";
            return refused(query.at, "reads itself, so it cannot have ORDER BY or LIMIT", help);
        }
        let is_it = |source: &Source| match source {
            Source::Table { database: None, name: table } => table.text.eq_ignore_ascii_case(name),
            _ => false,
        };
        let here = step.from.iter().filter(|term| is_it(&term.source)).count();
        if here != 1 || reads(step, name) != 1 {
            let help = "name it once, in FROM and not in a subquery";
            return refused(step.at, "reads itself more than once, or in a subquery", help);
        }
        let first = Query {
            at: query.at,
            with: query.with.clone(),
            selects: selects[..from].to_vec(),
            order: Vec::new(),
            limit: None,
            offset: None,
        };
        let mut first = self.inner(&first, None)?.parts;
        rename(&mut first.outputs, &table.columns, table.name.at)?;
        let first = first.finish(self.schema)?;
        let mut env = self.with(&query.with)?;
        env.with.push((name.to_ascii_lowercase(), first.clone()));
        let mut parts = Block::lower(&env, step, None, None)?.parts;
        if !parts.is_plain() || step.is_distinct {
            let help = "group and number its rows in the SELECT that reads it";
            return refused(
                step.at,
                "reads itself in a SELECT with a grouping, a window function or DISTINCT",
                help,
            );
        }
        let is_self =
            |relation: &Relation| relation.plan().is_some_and(|plan| Arc::ptr_eq(plan, &first));
        let source = parts.sources.iter().position(|source| is_self(&source.relation));
        let Some(source) = source.filter(|source| parts.sources[*source].outer.is_none()) else {
            let help = "put it first, and left-join the others to it";
            return refused(step.at, "is left-joined where it reads itself", help);
        };
        let (here, width) = (parts.outputs.len(), first.outputs.len());
        if here != width {
            let message = format!("this part has {here} columns, the first one {width}");
            return Err(Refusal::new(step.at, message, "both give rows of one table"));
        }
        let outputs = first.outputs.iter().zip(&parts.outputs).enumerate();
        let outputs = outputs.map(|(number, (first, next))| Output {
            expr: Expr::Column(ColumnNo::only(number)),
            declared: first.declared.filter(|_| first.declared == next.declared),
            ..first.clone()
        });
        let outputs = outputs.collect();
        let values = std::mem::replace(&mut parts.outputs, outputs).into_iter();
        let values = values.map(|output| output.expr).collect();
        parts.made = Some(Rows::Recursion(Recursion { source, values, distinct }));
        parts.finish(self.schema).map(Some)
    }
}
