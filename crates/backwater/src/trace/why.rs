//! The reasons, in words.

use super::Report;
use crate::change::{Change, ChangeKind, FieldSet, Happened};
use crate::query::{DeltaKind, Outcome, Plan, Query, Reached, Scalar};
use crate::schema::TableNo;

/// How many items a sentence names before it counts the rest.
const NAMED: usize = 4;

/// Why a query that was reached did what it did.
pub(super) fn reached(report: &Report, reached: &Reached) -> String {
    let causes = causes(report, reached);
    let outcome = reached.outcome.name();
    match (reached.outcome, &reached.delta, &reached.failure) {
        (Outcome::Deferred, ..) => {
            format!("{outcome}: {causes}, but it is not watched; it catches up on its next read")
        }
        (Outcome::Same, ..) => format!("{outcome}: {causes}, but nothing in the result moved"),
        (_, _, Some(failure)) => format!("{outcome}: {}, because {causes}", failure.message),
        (_, Some(delta), _) => {
            let kinds = [
                (DeltaKind::Enter, "entered"),
                (DeltaKind::Change, "changed"),
                (DeltaKind::Move, "moved"),
                (DeltaKind::Leave, "left"),
            ];
            let counts = kinds
                .iter()
                .map(|(kind, verb)| (delta.count(*kind), *verb))
                .filter(|(count, _)| *count > 0);
            let listed = counts.enumerate().map(|(number, (count, verb))| match (number, count) {
                (0, 1) => format!("1 row {verb}"),
                (0, _) => format!("{count} rows {verb}"),
                _ => format!("{count} {verb}"),
            });
            format!("{outcome}: {}, because {causes}", join(listed.collect(), " and "))
        }
        (Outcome::Recomputed, ..) => {
            format!("{outcome}: its result can be computed again, because {causes}")
        }
        _ => format!("{outcome}: because {causes}"),
    }
}

/// Why a query was not reached.
pub(super) fn untouched(report: &Report, query: &Query) -> String {
    let node = query.node();
    let (changes, plan) = (&report.0.changes, &node.bound_plan.plan);
    let schema = &changes.after.schema;
    let commit = format!("untouched: commit {}", report.number());
    if changes.rows.is_empty() {
        return format!("{commit} changed nothing");
    }
    let read = plan.tables();
    let names = |tables: Vec<TableNo>| -> Vec<String> {
        tables.into_iter().map(|table| schema.table(table).name.to_string()).collect()
    };
    let (mut written, mut read_and_written) = (Vec::new(), Vec::new());
    // Whether a row was inserted or deleted, or a field changed that the query reads.
    let mut may_reach = Vec::new();
    for &table in &read {
        let rows = &changes.rows[changes.of_table(table)];
        let mut fields = FieldSet::default();
        let mut whole_rows = false;
        for row in rows {
            match &row.happened {
                Happened::Updated(changed) => fields.add(changed),
                Happened::Inserted | Happened::Deleted => whole_rows = true,
            }
        }
        if rows.is_empty() {
            continue;
        }
        read_and_written.push(table);
        let definition = schema.table(table);
        written.extend(
            fields
                .iter()
                .map(|field| format!("{}.{}", definition.name, definition.field(field).name)),
        );
        if whole_rows || fields.meets(&plan.footprint(table)) {
            may_reach.push(table);
        }
    }
    if read_and_written.is_empty() {
        let mut changed: Vec<TableNo> = changes.rows.iter().map(|row| row.table).collect();
        changed.dedup();
        let (changed, read) = (names(changed), names(read));
        return format!(
            "{commit} changed {}; the query reads {}",
            join(changed, " and "),
            join(read, " and ")
        );
    }
    if may_reach.is_empty() {
        let reads = match plan.reads(schema) {
            reads if reads.is_empty() => {
                format!("only which rows {} has", join(names(read), " and "))
            }
            reads => join(reads, " and "),
        };
        return format!("{commit} changed {}; the query reads {reads}", join(written, " and "));
    }
    let tables = join(names(may_reach), " and ");
    match keys(query, &changes.after.schema) {
        keys if !keys.is_empty() => format!("{commit} changed no row of {tables} with {keys}"),
        _ if plan.sources.len() == 1 => {
            format!("{commit} changed no row of {tables} that meets the query's conditions")
        }
        _ => format!("{commit} changed no row of {tables} that joins the query's other rows"),
    }
}

/// What a row must have to belong to the query: `port = SAL and paid = 1`.
fn keys(query: &Query, schema: &crate::schema::Schema) -> String {
    let node = query.node();
    let plan = &node.bound_plan.plan;
    let parts = plan.keys.iter().map(|part| {
        let value = node.bound_plan.params[part.param]
            .to_text()
            .map_or("NULL".to_owned(), |text| text.into_owned());
        let source = &plan.sources[part.column.source()];
        let column = source.relation.column_name(part.column.field(), schema);
        match plan.sources.len() {
            1 => format!("{column} = {value}"),
            _ => format!("{}.{column} = {value}", source.name),
        }
    });
    join(parts.collect(), " and ")
}

/// The changes that reached a query: `sailing 311 changed status, sailing 9 was deleted`.
fn causes(report: &Report, reached: &Reached) -> String {
    if let Some(rebound) = rebound(reached) {
        return rebound;
    }
    let views = reached.causes.iter().filter_map(|index| report.0.changes.view(*index as usize));
    let listed =
        views.take(NAMED).map(|change| cause(&change, &reached.node.bound_plan.plan)).collect();
    let rest = reached.causes.len().saturating_sub(NAMED);
    let listed = join(listed, ", ");
    if rest > 0 { format!("{listed} and {rest} more") } else { listed }
}

/// Which parameters took other values: `:text went from ma to mar`.
pub(super) fn rebound(reached: &Reached) -> Option<String> {
    let (from, to) = (reached.from.as_deref()?, &*reached.node.bound_plan);
    let listed = |value: &Scalar<'_>| match value.to_text() {
        None => "NULL".to_owned(),
        Some(text) if text.is_empty() => "nothing".to_owned(),
        Some(text) => match (value, text.strip_suffix(".000000Z")) {
            (Scalar::Time(_), Some(seconds)) => format!("{seconds}Z"),
            _ => text.into_owned(),
        },
    };
    let values = from.params.iter().zip(&to.params);
    let params = to.plan.params.iter().zip(values).filter(|(_, (a, b))| a != b);
    let params: Vec<String> = params
        .map(|(param, (a, b))| format!(":{} went from {} to {}", param.name, listed(a), listed(b)))
        .collect();
    let none = params.is_empty();
    Some(if none { "it has the same values as before".into() } else { join(params, " and ") })
}

fn cause(change: &Change<'_>, plan: &Plan) -> String {
    let subject = change.subject();
    match (change.kind(), &change.row.happened) {
        (ChangeKind::Inserted, _) => format!("{subject} was inserted"),
        (ChangeKind::Deleted, _) => format!("{subject} was deleted"),
        (_, Happened::Updated(fields)) => {
            let footprint = plan.footprint(change.row.table);
            let read = fields.iter().filter(|field| footprint.contains(*field));
            let names = read.map(|field| change.field_name(field).to_owned());
            format!("{subject} changed {}", join(names.collect(), " and "))
        }
        _ => subject,
    }
}

/// `a, b and c`, with `last` between the last two; many are cut short.
fn join(mut words: Vec<String>, last: &str) -> String {
    if words.len() > NAMED + 2 {
        let rest = words.len() - NAMED;
        words.truncate(NAMED);
        words.push(format!("{rest} more"));
    }
    match words.split_last() {
        None => String::new(),
        Some((only, [])) => only.clone(),
        Some((end, rest)) => format!("{}{last}{end}", rest.join(", ")),
    }
}
