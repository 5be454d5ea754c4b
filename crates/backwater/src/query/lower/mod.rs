//! From a syntax tree to a plan: names are resolved, what is not supported is refused.

mod block;
mod compound;
mod elements;
mod expression;
mod from;
mod function;
mod identity;
mod mixed;
mod outer;
mod parts;
mod paths;
mod recursive;
mod regroup;
mod scope;
mod subquery;
mod window;

use std::sync::Arc;

use super::syntax::tree::{Name, Query, WithTable};
use super::syntax::{Location, Parsed, Refusal, parse, with_deep_stack};
use crate::query::expr::collation::Collation;
use crate::query::expr::{ColumnNo, Expr};
use crate::query::plan::{Output, Param, Plan};
use crate::schema::Schema;
use block::Block;
use parts::Parts;
use scope::Scope;

type Lowered<T> = Result<T, Refusal>;

/// Makes the plan of a statement.
pub(crate) fn lower(parsed: Parsed, schema: &Schema) -> Lowered<Arc<Plan>> {
    let env = Env { schema, with: Vec::new(), within: Vec::new() };
    env.whole(&parsed)
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
    fn whole(&self, parsed: &Parsed) -> Lowered<Arc<Plan>> {
        let mut parts = self.query(&parsed.query, None)?.parts;
        for name in &parsed.params {
            param_no(&mut parts.params, &Param { name: name.clone(), is_time: false });
        }
        parts.finish(self.schema)
    }

    /// Takes a statement apart. `around` is what it may read of the statement around it.
    fn query(&self, query: &Query, around: Option<&Scope>) -> Lowered<Part> {
        let env = self.with(&query.with)?;
        if let Some(values) = query.selects.iter().find(|select| select.is_values) {
            let message = "only SELECT is supported here, no VALUES";
            let help = "keep the values in a table, or give them as parameters";
            return Err(Refusal::new(values.at, message, help));
        }
        match query.selects.as_slice() {
            [only] => Block::lower(&env, only, Some(query), around),
            _ => env.compound(query, around),
        }
    }

    /// The same with what WITH names. Whether it says RECURSIVE makes no difference, as in SQLite.
    fn with(&self, tables: &[WithTable]) -> Lowered<Self> {
        let mut env = self.clone();
        for table in tables {
            let plan = match env.recursive(table)? {
                Some(plan) => plan,
                None => {
                    let mut parts = env.inner(&table.query, None)?.parts;
                    rename(&mut parts.outputs, &table.columns, table.name.at)?;
                    parts.finish(env.schema)?
                }
            };
            env.with.push((table.name.text.to_ascii_lowercase(), plan));
        }
        Ok(env)
    }

    /// The same of a statement whose columns another one reads.
    fn inner(&self, query: &Query, around: Option<&Scope>) -> Lowered<Part> {
        let part = self.query(query, around)?;
        not_collated(&part.parts.outputs, query.at)?;
        Ok(part)
    }

    /// The plan of a named query of the schema.
    fn named(&self, name: &str, sql: &str, at: Location) -> Lowered<Arc<Plan>> {
        if self.within.iter().any(|within| within == name) {
            let message = format!("query \"{name}\" reads itself");
            return Err(Refusal::new(at, message, "a query cannot be part of itself"));
        }
        let mut env = Env { schema: self.schema, with: Vec::new(), within: self.within.clone() };
        env.within.push(name.to_owned());
        let refused = |refusal: Refusal| {
            // One that reads a query which cannot be read is told of that one.
            let message = match refusal.message.starts_with("query \"") {
                true => refusal.message,
                false => format!("query \"{name}\" cannot be read: {}", refusal.message),
            };
            Refusal { at, message, ..refusal }
        };
        let compiled = self.schema.compiled(name);
        if let Some(plan) = compiled.and_then(|compiled| compiled.get()) {
            // The plan of a schema's query is made once for each schema.
            return plan.clone().downcast::<Plan>().map_err(|_| Refusal::new(at, "", ""));
        }
        let parsed = parse(sql).map_err(refused)?;
        let plan = with_deep_stack(|| env.whole(&parsed)).map_err(refused)?;
        if let Some(compiled) = compiled {
            let _ = compiled.set(plan.clone());
        }
        Ok(plan)
    }
}

/// Refuses columns with a COLLATE where another statement reads them: it would have to go along.
fn not_collated(outputs: &[Output], at: Location) -> Lowered<()> {
    match outputs.iter().find(|output| output.collation != Collation::Binary) {
        None => Ok(()),
        Some(output) => {
            let message =
                format!("COLLATE behind column \"{}\" is not supported here", output.name);
            let help = "another statement reads it: write COLLATE there, where it is compared";
            Err(Refusal::new(at, message, help))
        }
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
fn rename(outputs: &mut [Output], names: &[Name], at: Location) -> Lowered<()> {
    if names.is_empty() {
        return Ok(());
    }
    if names.len() != outputs.len() {
        let message = format!("{} names for {} columns", names.len(), outputs.len());
        return Err(Refusal::new(at, message, "name all columns, or none"));
    }
    for (output, name) in outputs.iter_mut().zip(names) {
        output.name.clone_from(&name.text);
    }
    Ok(())
}
