//! The reasons, in words.

use super::Report;
use crate::change::{Change, ChangeKind, FieldSet, Happened};
use crate::query::{DeltaKind, Outcome, Plan, Query, Reached};

/// How many things a sentence names before it counts the rest.
const NAMED: usize = 4;

/// Why a query that was reached did what it did.
pub(super) fn reached(report: &Report, reached: &Reached) -> String {
    let causes = causes(report, reached);
    let outcome = reached.outcome.name();
    match (reached.outcome, &reached.delta, &reached.failure) {
        (Outcome::Same, ..) => format!("{outcome}: {causes}, but nothing in the result moved"),
        (_, _, Some(failure)) => format!("{outcome}: {}, because {causes}", failure.0),
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
            let told = counts.enumerate().map(|(number, (count, verb))| match (number, count) {
                (0, 1) => format!("1 row {verb}"),
                (0, _) => format!("{count} rows {verb}"),
                _ => format!("{count} {verb}"),
            });
            format!("{outcome}: {}, because {causes}", join(told.collect(), " and "))
        }
        (Outcome::Recomputed, ..) => {
            format!("{outcome}: its result can be told again, because {causes}")
        }
        _ => format!("{outcome}: because {causes}"),
    }
}

/// Why a query was not reached.
pub(super) fn untouched(report: &Report, query: &Query) -> String {
    let (changes, plan) = (&report.0.changes, query.plan());
    let schema = &changes.after.schema;
    let commit = format!("untouched: commit {}", report.0.number);
    if changes.rows.is_empty() {
        return format!("{commit} changed nothing");
    }
    let table = &schema.table(plan.table).name;
    let rows = &changes.rows[changes.of_table(plan.table)];
    if rows.is_empty() {
        let mut tables: Vec<String> =
            changes.rows.iter().map(|row| schema.table(row.table).name.to_string()).collect();
        tables.dedup();
        return format!("{commit} changed {}; the query reads {table}", join(tables, " and "));
    }
    let mut written = FieldSet::default();
    let mut whole_rows = false;
    for row in rows {
        match &row.happened {
            Happened::Updated(fields) => fields.iter().for_each(|field| written.insert(field)),
            Happened::Inserted | Happened::Deleted => whole_rows = true,
        }
    }
    if !whole_rows && !written.meets(&plan.footprint) {
        let definition = schema.table(plan.table);
        let written = written
            .iter()
            .map(|field| format!("{table}.{}", definition.field(field).name))
            .collect();
        let reads = match plan.reads(schema) {
            reads if reads.is_empty() => format!("only which rows {table} has"),
            reads => join(reads, " and "),
        };
        return format!("{commit} changed {}; the query reads {reads}", join(written, " and "));
    }
    format!("{commit} changed no row of {table} with {}", keys(query))
}

/// What a row must have to belong to the query: `port = SAL and paid = 1`.
fn keys(query: &Query) -> String {
    let plan: &Plan = query.plan();
    let table = query.table_definition();
    let parts = plan.keys.iter().map(|part| {
        let value = query.params()[part.param]
            .to_text()
            .map_or("NULL".to_owned(), |text| text.into_owned());
        format!("{} = {value}", table.field(part.field).name)
    });
    join(parts.collect(), " and ")
}

/// The changes that reached a query: `sailing 311 changed status, sailing 9 was deleted`.
fn causes(report: &Report, reached: &Reached) -> String {
    let views = reached.causes.iter().filter_map(|index| report.0.changes.view(*index as usize));
    let told = views.take(NAMED).map(|change| cause(&change, &reached.plan)).collect();
    let rest = reached.causes.len().saturating_sub(NAMED);
    let told = join(told, ", ");
    if rest > 0 { format!("{told} and {rest} more") } else { told }
}

fn cause(change: &Change<'_>, plan: &Plan) -> String {
    let subject = change.subject();
    match (change.kind(), &change.row.happened) {
        (ChangeKind::Inserted, _) => format!("{subject} was inserted"),
        (ChangeKind::Deleted, _) => format!("{subject} was deleted"),
        (_, Happened::Updated(fields)) => {
            let read = fields.iter().filter(|field| plan.footprint.contains(*field));
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
