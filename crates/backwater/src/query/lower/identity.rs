//! Which sources make up the key of a join's rows, and which are functionally determined by others:
//! a row of a sailing and its vessel is that of the sailing, whichever vessel it is.

use super::parts::{OpenSource, Parts, has_param};
use super::paths::{Paths, comparison_affinity, equality};
use crate::query::expr::{ColumnNo, Expr};
use crate::query::plan::{Combine, Plan, Relation};
use crate::schema::Schema;

/// For each source whether its row is determined by those of sources that are not.
pub(super) fn determined(schema: &Schema, parts: &Parts) -> Vec<bool> {
    let mut determined: Vec<bool> = parts.sources.iter().map(|source| source.is_lookup).collect();
    if parts.combine == Combine::Union {
        return determined;
    }
    let paths = Paths { schema, sources: &parts.sources, conditions: parts.conditions.clone() };
    // Where two sources could determine each other, the first one determines the later.
    for source in (0..determined.len()).rev() {
        if determined[source] {
            continue;
        }
        determined[source] = true;
        let mut known: Vec<bool> = determined.iter().map(|determined| !determined).collect();
        loop {
            let next = (0..known.len())
                .find(|next| determined[*next] && !known[*next] && is_one(&paths, *next, &known));
            let Some(next) = next else { break };
            known[next] = true;
        }
        determined[source] = known[source];
    }
    determined
}

/// Whether at most one row of a source goes with rows of those that are known.
fn is_one(paths: &Paths<'_>, source: usize, known: &[bool]) -> bool {
    let of = &paths.sources[source];
    let Some(unique) = unique(paths.schema, of) else { return false };
    let conditions = || paths.conditions.iter().chain(of.outer.iter().flatten());
    unique.iter().all(|column| {
        let column = ColumnNo::new(source, *column);
        conditions().any(|condition| is_determined_by(paths, condition, column, known))
    })
}

/// Whether a condition says that a column equals what known sources hold.
fn is_determined_by(paths: &Paths<'_>, condition: &Expr, column: ColumnNo, known: &[bool]) -> bool {
    let Some((left, right)) = equality(condition).filter(|_| !has_param(condition)) else {
        return false;
    };
    [(left, right), (right, left)].into_iter().any(|(mine, other)| {
        let others = other.columns();
        paths.plain(mine) == Some(&column)
            && paths.can_index(column, comparison_affinity(condition))
            && !others.is_empty()
            && others.iter().all(|other| known[other.source()])
    })
}

/// The columns that identify a source's rows; none, if there is at most one row.
fn unique(schema: &Schema, source: &OpenSource) -> Option<Vec<usize>> {
    match &source.relation {
        Relation::Table(table) => {
            Some(schema.table(*table).id.iter().map(|field| field.index()).collect())
        }
        Relation::Statement(plan, _) => columns_of_key(plan),
    }
}

/// The columns in which rows that are made of several tuples show their keys, if they show all of
/// them.
fn columns_of_key(plan: &Plan) -> Option<Vec<usize>> {
    let rows = plan.rows.operator().filter(|rows| !rows.is_by_tuple());
    let keys = rows.map(|_| plan.key_len())?;
    let column = |key: usize| {
        let key = Expr::Column(ColumnNo::only(key));
        plan.outputs.iter().position(|output| output.expr == key)
    };
    (0..keys).map(column).collect()
}
