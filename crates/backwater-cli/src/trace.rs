//! `backwater trace`: what did each commit of a scenario do to each query, and why?

mod matrix;

use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;

use anstyle::{AnsiColor, Style};
use backwater::{
    Cache, Delta, DeltaKind, Outcome, Report, SystemClock,
    report::{Change, ChangeKind},
    scenario::{Played, PlayedStep, Scenario},
};
use clap::ValueEnum;
use serde_json::{Value as Json, json};

use crate::check::read_schema;
use crate::failure::wrong_call;
use crate::files;
use crate::output::{BOLD, DIM, count, value_text};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The scenario: one step a line, as JSON; its files are looked for beside it
    scenario: PathBuf,
    /// The schema, in the place of the one that the scenario names
    #[arg(long, value_name = "FILE")]
    schema: Option<PathBuf>,
    /// Say why a commit did to a query what it did, such as `--why by_status@3`
    #[arg(long, value_name = "QUERY@COMMIT", conflicts_with_all = ["row", "format"])]
    why: Option<String>,
    /// Say which commit wrote each value of a row, such as `--row sailing/311`
    #[arg(long, value_name = "TABLE/ID", conflicts_with = "format")]
    row: Option<String>,
    /// How to print the trace
    #[arg(long, value_enum, default_value_t = Format::Table)]
    format: Format,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Format {
    /// Commit by commit, and a matrix of queries and commits
    Table,
    /// One JSON object
    Json,
}

/// This many changes of a commit are named before the rest is counted.
const NAMED: usize = 3;

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    let file = files::name(&arguments.scenario);
    let text =
        String::from_utf8(files::read(&arguments.scenario)?.into_owned()).map_err(|error| {
            anyhow::anyhow!("{file}: byte {} is not UTF-8", error.utf8_error().valid_up_to())
        })?;
    let scenario = Scenario::parse(&file, &text)?;
    let folder = arguments.scenario.parent().unwrap_or(Path::new(""));
    let schema = match (&arguments.schema, scenario.schema()) {
        (Some(schema), _) => schema.clone(),
        (None, Some(schema)) => folder.join(schema),
        (None, None) => {
            let message = format!("{file} names no schema: give one with --schema");
            return Err(wrong_call(anyhow::anyhow!(message)));
        }
    };
    let cache = Cache::builder()
        .schema(read_schema(&schema)?)
        .clock(SystemClock::new())
        .remember_commits(usize::MAX)
        .build()?;
    let played = scenario.play(&cache, |name| std::fs::read(folder.join(name)))?;
    let mut out = std::io::BufWriter::new(anstream::stdout().lock());
    match (&arguments.why, &arguments.row, arguments.format) {
        (Some(why), ..) => writeln!(out, "{}", asked_why(&played, why)?)?,
        (_, Some(row), _) => origins(&mut out, &cache, row)?,
        (.., Format::Json) => writeln!(out, "{:#}", as_json(&played))?,
        (.., Format::Table) => {
            let commits = played.steps().iter().filter(|step| step.report.is_some()).count();
            writeln!(
                out,
                "{BOLD}{file}{BOLD:#}: {}, {} against {}\n",
                count(scenario.len(), "step"),
                count(commits, "commit"),
                match played.queries().len() {
                    1 => "1 named query".to_owned(),
                    many => format!("{many} named queries"),
                },
            )?;
            for step in played.steps() {
                print_step(&mut out, &played, step)?;
            }
            matrix::write(&mut out, &played)?;
        }
    }
    Ok(out.flush()?)
}

fn asked_why(played: &Played, asked: &str) -> anyhow::Result<String> {
    let parts = asked
        .rsplit_once('@')
        .and_then(|(query, commit)| Some((query, commit.parse::<u64>().ok()?)));
    let Some((query, commit)) = parts else {
        let message = format!("\"{asked}\": expected QUERY@COMMIT, such as by_status@3");
        return Err(wrong_call(anyhow::anyhow!(message)));
    };
    played.why(query, commit).map_err(wrong_call)
}

fn origins(out: &mut impl Write, cache: &Cache, row: &str) -> anyhow::Result<()> {
    let origins = match row.split_once('/') {
        None => cache.origins(row, ()).map_err(wrong_call)?,
        Some((table, id)) => {
            let id = cache.schema().id(table, id).map_err(wrong_call)?;
            cache.origins(table, id)?
        }
    };
    let width = origins.iter().map(|origin| origin.field.chars().count()).max().unwrap_or(0);
    writeln!(out, "{BOLD}{row}{BOLD:#}")?;
    for origin in origins {
        write!(out, "  {:width$}  ", origin.field)?;
        match (&origin.value, &origin.commit) {
            (None, _) => writeln!(out, "{DIM}absent: no response has had it yet{DIM:#}")?,
            (Some(value), Some((number, label))) => {
                writeln!(out, "{:24} {DIM}commit {number}, {label}{DIM:#}", value_text(value))?;
            }
            (Some(value), None) => writeln!(out, "{}", value_text(value))?,
        }
    }
    Ok(())
}

/// One step: what it changed, and what that did to the queries that it reached.
fn print_step(out: &mut impl Write, played: &Played, step: &PlayedStep) -> anyhow::Result<()> {
    if let Some((name, result, took)) = &step.read {
        let rows = count(result.len(), "row");
        let rows = match step.label == format!("{name} read") {
            true => rows,
            false => format!("{name} has {rows}"),
        };
        return Ok(writeln!(out, "     {DIM}{}: {rows}{}{DIM:#}", step.label, time(*took))?);
    }
    let Some(report) = &step.report else {
        return Ok(writeln!(out, "     {DIM}{}{DIM:#}", step.label)?);
    };
    let took = time(report.took());
    writeln!(
        out,
        "{BOLD}{:>3}  {}{BOLD:#}  {DIM}{}{took}{DIM:#}",
        report.number(),
        report.label(),
        changed(report),
    )?;
    for change in own_changes(report).take(NAMED).filter(|_| own_changes(report).count() <= NAMED) {
        writeln!(out, "       {DIM}{change}{DIM:#}")?;
    }
    let width = played.queries().iter().map(|name| name.chars().count()).max().unwrap_or(0);
    for (name, reached) in played.queries().iter().zip(&step.outcomes) {
        let Some(reached) =
            reached.as_ref().filter(|reached| reached.outcome != Outcome::Untouched)
        else {
            continue;
        };
        let style = style(reached.outcome);
        let why = reached.why.strip_prefix(reached.outcome.name()).unwrap_or(&reached.why);
        let why = why.strip_prefix(": ").unwrap_or(why);
        // The outcome is enough here; `--why` gives the cause.
        let what = why.split(", because ").next().unwrap_or(why);
        let what = what.split(", but it is not watched").next().unwrap_or(what);
        let what =
            if reached.outcome == Outcome::Same { "nothing in the result moved" } else { what };
        writeln!(
            out,
            "       {name:width$}  {style}{:10}{style:#}  {what}{DIM}{}{DIM:#}",
            reached.outcome.name(),
            time(reached.took),
        )?;
    }
    Ok(())
}

/// What a commit changed, without what a remote notes beside it.
fn own_changes(report: &Report) -> impl Iterator<Item = Change<'_>> {
    report.changes().filter(|change| !change.table().starts_with("backwater_"))
}

/// What a commit changed, table by table, or which parameters.
fn changed(report: &Report) -> String {
    if let Some(rebound) = report.rebound() {
        return rebound;
    }
    let mut tables: Vec<(&str, [usize; 3])> = Vec::new();
    for change in own_changes(report) {
        if tables.last().is_none_or(|(table, _)| *table != change.table()) {
            tables.push((change.table(), [0; 3]));
        }
        let verb = match change.kind() {
            ChangeKind::Inserted => 0,
            ChangeKind::Updated => 1,
            ChangeKind::Deleted => 2,
        };
        if let Some((_, counts)) = tables.last_mut() {
            counts[verb] += 1;
        }
    }
    let counted = tables.iter().map(|(table, counts)| {
        let verbs = counts.iter().zip(["inserted", "updated", "deleted"]);
        let verbs = verbs.filter(|(count, _)| **count > 0);
        let counted: Vec<String> = verbs.map(|(count, verb)| format!("{count} {verb}")).collect();
        format!("{table} {}", counted.join(" and "))
    });
    let counted: Vec<String> = counted.collect();
    if counted.is_empty() { "nothing changed".to_owned() } else { counted.join(", ") }
}

fn time(took: Option<Duration>) -> String {
    took.map_or(String::new(), |took| format!("  {}", matrix::short(took)))
}

/// The colour of an outcome.
fn style(outcome: Outcome) -> Style {
    let colour = match outcome {
        Outcome::Maintained => AnsiColor::Green,
        Outcome::Recomputed => AnsiColor::Magenta,
        Outcome::Same => AnsiColor::Yellow,
        Outcome::Deferred => AnsiColor::BrightBlue,
        Outcome::Failed => AnsiColor::BrightRed,
        _ => return DIM,
    };
    Style::new().fg_color(Some(colour.into()))
}

fn as_json(played: &Played) -> Json {
    let steps = played.steps().iter().map(|step| {
        let mut out = json!({ "label": step.label });
        if let Some((query, result, took)) = &step.read {
            out["read"] =
                json!({ "query": query, "rows": result.len(), "seconds": seconds(*took) });
        }
        if let Some(report) = &step.report {
            out["commit"] = json!(report.number());
            out["seconds"] = json!(seconds(report.took()));
            out["changes"] = report
                .changes()
                .map(|change| json!({ "row": change.subject(), "change": change.to_string() }))
                .collect();
            let outcomes = played.queries().iter().zip(&step.outcomes);
            let outcomes = outcomes.filter_map(|(name, reached)| {
                let reached = reached.as_ref()?;
                Some(json!({
                    "query": name,
                    "outcome": reached.outcome.name(),
                    "why": reached.why,
                    "seconds": seconds(reached.took),
                }))
            });
            out["queries"] = outcomes.collect();
            let moved = report
                .reached()
                .filter_map(|reached| Some((reached.name().to_owned(), delta(reached.delta()?))));
            out["deltas"] = Json::Object(moved.collect());
        }
        out
    });
    json!({ "queries": played.queries(), "steps": steps.collect::<Vec<_>>() })
}

fn delta(delta: &Delta) -> Json {
    let kinds = [
        ("entered", DeltaKind::Enter),
        ("changed", DeltaKind::Change),
        ("moved", DeltaKind::Move),
        ("left", DeltaKind::Leave),
    ];
    kinds.into_iter().map(|(name, kind)| (name.to_owned(), json!(delta.count(kind)))).collect()
}

fn seconds(took: Option<Duration>) -> Option<f64> {
    took.map(|took| took.as_secs_f64())
}
