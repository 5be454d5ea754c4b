//! From a syntax tree to a plan: names are resolved, what is not supported is refused.

mod block;
mod expression;
mod from;
mod function;
mod identity;
mod mixed;
mod parts;
mod paths;
mod place;
mod regroup;
mod scope;
mod select;
mod subquery;

use std::sync::Arc;

use sqlparser::ast::{self, SetExpr, SetOperator, SetQuantifier};
use sqlparser::tokenizer::Location;

use super::syntax::{Parsed, Refusal, parse, with_deep_stack};
use crate::query::expr::scalar::Affinity;
use crate::query::expr::{ColumnNo, Expr};
use crate::query::plan::{Output, Param, Plan, Relation};
use crate::schema::Schema;
use block::Block;
use parts::{OpenSource, Parts};
use place::start;
use scope::Scope;
use select::Select;

type Lowered<T> = Result<T, Refusal>;

/// Makes the plan of a statement.
pub(crate) fn lower(parsed: Parsed, schema: &Schema) -> Lowered<Arc<Plan>> {
    let env = Env { schema, with: Vec::new(), within: Vec::new() };
    env.whole(parsed)
}

/// What names outside of a statement mean to it.
#[derive(Clone)]
struct Env<'s> {
    schema: &'s Schema,
    /// The names that WITH gives; the last one counts.
    with: Vec<(String, Arc<Plan>)>,
    /// The named queries that this one is part of.
    within: Vec<String>,
}

/// A statement taken apart, and what it reads of the one around it.
struct Part {
    parts: Parts,
    /// What each [`Expr::Outer`] in it is there, by its number.
    outer: Vec<Expr>,
}

impl Env<'_> {
    /// The plan of a statement that is not part of another one.
    fn whole(&self, parsed: Parsed) -> Lowered<Arc<Plan>> {
        let mut parts = self.query(parsed.query, Some(parsed.items), None)?.parts;
        for name in parsed.params {
            param_no(&mut parts.params, &Param { name, is_time: false });
        }
        parts.finish(self.schema)
    }

    /// Takes a statement apart. `around` is what it may read of the statement around it.
    fn query(
        &self,
        mut query: ast::Query,
        texts: Option<Vec<String>>,
        around: Option<&Scope>,
    ) -> Lowered<Part> {
        let at = beginning(&query);
        let mut env = self.clone();
        if let Some(with) = query.with.take() {
            if with.recursive {
                let message = "WITH RECURSIVE is not supported";
                return Err(Refusal::new(
                    at,
                    message,
                    "follow links with joins, as deep as need be",
                ));
            }
            for table in with.cte_tables {
                let name = &table.alias.name;
                let at = start(name.span);
                if table.from.is_some() {
                    return Err(Refusal::new(at, "FROM is not supported here", ""));
                }
                let part = env.query(*table.query, None, None)?;
                let mut parts = part.parts;
                rename(&mut parts.outputs, &table.alias.columns, at)?;
                env.with.push((name.value.to_ascii_lowercase(), parts.finish(env.schema)?));
            }
        }
        if let SetExpr::SetOperation { .. } = query.body.as_ref() {
            return env.union(query, around);
        }
        let select = Select::of(query, texts)?;
        Block::lower(&env, select, around)
    }

    /// Statements one behind the other.
    fn union(&self, mut query: ast::Query, around: Option<&Scope>) -> Lowered<Part> {
        let at = beginning(&query);
        let mut branches = Vec::new();
        let mut open = vec![*std::mem::replace(
            &mut query.body,
            Box::new(SetExpr::Values(ast::Values {
                explicit_row: false,
                value_keyword: false,
                rows: Vec::new(),
            })),
        )];
        while let Some(body) = open.pop() {
            match body {
                SetExpr::SetOperation { op, set_quantifier, left, right } => {
                    if op != SetOperator::Union || set_quantifier != SetQuantifier::All {
                        let message = format!("{op} {set_quantifier}");
                        let message = format!("{} is not supported", message.trim());
                        let help = match op {
                            SetOperator::Union => "write UNION ALL, and SELECT DISTINCT around it",
                            _ => "use IN or EXISTS with a subquery",
                        };
                        return Err(Refusal::new(at, message, help));
                    }
                    open.push(*right);
                    open.push(*left);
                }
                branch => branches.push(branch),
            }
        }
        let mut parts = Parts { is_union: true, ..Parts::default() };
        for branch in branches {
            let branch = select::plain_query(branch);
            let at = beginning(&branch);
            let part = self.query(branch, None, around)?;
            if !part.outer.is_empty() {
                return Err(subquery::not_by_equality(at));
            }
            let plan = part.parts.finish(self.schema)?;
            if parts.sources.is_empty() {
                let outputs = plan.outputs.iter().enumerate();
                parts.outputs =
                    outputs.map(|(number, output)| through(output, 0, number)).collect();
            }
            if plan.outputs.len() != parts.outputs.len() {
                let message = format!(
                    "this part has {} columns, the first one {}",
                    plan.outputs.len(),
                    parts.outputs.len()
                );
                return Err(Refusal::new(at, message, "UNION ALL joins parts of equal width"));
            }
            for (first, output) in parts.outputs.iter_mut().zip(&plan.outputs) {
                if first.declared != output.declared {
                    first.declared = None;
                }
                if first.affinity != output.affinity {
                    first.affinity = Affinity::None;
                }
            }
            let params = plan.params.iter().map(|param| param_no(&mut parts.params, param));
            let relation = Relation::Statement(plan.clone(), params.collect());
            let name = format!("part {}", parts.sources.len() + 1);
            parts.sources.push(OpenSource { relation, name, outer: None, is_lookup: false });
        }
        let tail = Select::tail_of_union(&mut query)?;
        Block::order_union(self, parts, tail)
    }

    /// The plan of a named query of the schema.
    fn named(&self, name: &str, sql: &str, at: Location) -> Lowered<Arc<Plan>> {
        if self.within.iter().any(|within| within == name) {
            let message = format!("query \"{name}\" reads itself");
            return Err(Refusal::new(at, message, "a query cannot be part of itself"));
        }
        let mut env = Env { schema: self.schema, with: Vec::new(), within: self.within.clone() };
        env.within.push(name.to_owned());
        let refused = |refusal: Refusal| Refusal {
            at,
            message: format!("query \"{name}\" cannot be read: {}", refusal.message),
            ..refusal
        };
        let compiled = self.schema.compiled(name);
        if let Some(plan) = compiled.and_then(|compiled| compiled.get()) {
            // The plan of a schema's query is made once for each schema.
            return plan.clone().downcast::<Plan>().map_err(|_| Refusal::new(at, "", ""));
        }
        let parsed = parse(sql).map_err(refused)?;
        let plan = with_deep_stack(|| env.whole(parsed)).map_err(refused)?;
        if let Some(compiled) = compiled {
            let _ = compiled.set(plan.clone());
        }
        Ok(plan)
    }
}

/// A column of a source that is another statement, as a column of the one that reads it.
fn through(output: &Output, source: usize, number: usize) -> Output {
    Output { expr: Expr::Column(ColumnNo::new(source, number)), ..output.clone() }
}

/// The number of a parameter of a statement inside of this one.
fn param_no(params: &mut Vec<Param>, inner: &Param) -> usize {
    let known = params.iter().position(|param| param.name == inner.name);
    let number = known.unwrap_or_else(|| {
        params.push(inner.clone());
        params.len() - 1
    });
    params[number].is_time |= inner.is_time;
    number
}

/// Gives result columns the names that an alias lists.
fn rename(outputs: &mut [Output], names: &[ast::TableAliasColumnDef], at: Location) -> Lowered<()> {
    if names.is_empty() {
        return Ok(());
    }
    if names.len() != outputs.len() {
        let message = format!("{} names for {} columns", names.len(), outputs.len());
        return Err(Refusal::new(at, message, "name all columns, or none"));
    }
    for (output, name) in outputs.iter_mut().zip(names) {
        output.name = name.name.value.clone();
    }
    Ok(())
}

/// Where a statement begins.
fn beginning(query: &ast::Query) -> Location {
    let mut body = query.body.as_ref();
    loop {
        body = match body {
            SetExpr::Select(select) => return start(select.select_token.0.span),
            SetExpr::SetOperation { left, .. } => left,
            SetExpr::Query(query) => query.body.as_ref(),
            _ => return Location::new(1, 1),
        };
    }
}
