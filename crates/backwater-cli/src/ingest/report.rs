//! What `backwater ingest` says: of each response, of a recording, and of all together.

use std::collections::HashSet;
use std::io::{self, Write};
use std::sync::Arc;

use backwater::{
    Cache, Report, Value,
    report::{ChangeKind, Ingested, Skipped, Totals},
};

use crate::output::{BOLD, Format, Rows, count, grouped, report_width, shortened};

/// This many records that did not fit, and responses that no rule reads, are named one by one.
const NAMED: usize = 5;

/// What the responses of a recording, or of many files, contained, and what became of them.
pub(super) struct Contained {
    /// Whether each response has a line, and a record.
    with_lines: bool,
    with_records: bool,
    lines: Vec<Vec<Value>>,
    records: Vec<Vec<Value>>,
    responses: usize,
    /// What each rule has read.
    rules: Vec<(Arc<str>, Totals)>,
    /// The first records that were left out.
    skipped: Vec<String>,
    no_news: Vec<String>,
    /// What those that had nothing new are called.
    noun: &'static str,
    no_rule: Vec<String>,
    /// How many were no JSON, or no success.
    ignored: usize,
}

impl Contained {
    /// A response of a file, which a rule has read.
    pub(super) fn read(&mut self, file: &str, label: &str, ingested: &Ingested) {
        self.responses += 1;
        let known = self.rules.iter().position(|(rule, _)| *rule == ingested.rule);
        let place = known.unwrap_or_else(|| {
            self.rules.push((ingested.rule.clone(), Totals::default()));
            self.rules.len() - 1
        });
        self.rules[place].1.add(ingested);
        if self.with_lines {
            self.lines.push(line(label, ingested));
        }
        if self.with_records {
            self.records.push(record(file, label, ingested));
        }
        let skipped = ingested.skipped.iter().take(NAMED.saturating_sub(self.skipped.len()));
        let named =
            |skipped: &Skipped| format!("{label}: {}: {}", skipped.pointer, skipped.problem);
        self.skipped.extend(skipped.map(named));
        if !ingested.is_news {
            self.no_news.push(label.to_owned());
        }
    }

    pub(super) fn misfit(&mut self) {
        self.responses += 1;
    }

    pub(super) fn no_rule(&mut self, label: String) {
        self.responses += 1;
        self.no_rule.push(label);
    }

    pub(super) fn ignored(&mut self) {
        self.responses += 1;
        self.ignored += 1;
    }
}

/// Prints reports one by one, or records of all of them at the end.
pub(super) struct Printer {
    format: Format,
    quiet: bool,
    /// Whether each response of a recording is reported.
    each: bool,
    totals: Totals,
    records: Vec<Vec<Value>>,
}

impl Printer {
    pub(super) fn new(format: Format, quiet: bool, each: bool) -> Self {
        Self { format, quiet, each, totals: Totals::default(), records: Vec::new() }
    }

    /// Where text for people goes.
    fn out(&self) -> Box<dyn Write> {
        match self.format == Format::Table && !self.quiet {
            true => Box::new(anstream::stdout()),
            false => Box::new(io::sink()),
        }
    }

    /// A response or patch that stands in a file of its own.
    pub(super) fn response(&mut self, name: &str, report: &Report) -> anyhow::Result<()> {
        for ingested in report.ingested() {
            self.totals.add(ingested);
            self.records.push(record(name, name, ingested));
        }
        if report.ingested().is_empty() {
            self.records.push(changes(name, report));
        }
        print_report(&mut self.out(), name, report)
    }

    /// Nothing yet of the responses of a recording, or of many files.
    pub(super) fn contained(&self, noun: &'static str) -> Contained {
        Contained {
            with_lines: self.each,
            with_records: self.format != Format::Table,
            lines: Vec::new(),
            records: Vec::new(),
            responses: 0,
            rules: Vec::new(),
            skipped: Vec::new(),
            no_news: Vec::new(),
            noun,
            no_rule: Vec::new(),
            ignored: 0,
        }
    }

    /// The responses of a recording, or of many files: the sums of each rule, or each response.
    pub(super) fn responses(&mut self, title: &str, contained: Contained) -> anyhow::Result<()> {
        let Contained { responses, rules, skipped, no_news, noun, no_rule, ignored, .. } =
            contained;
        let mut all = Totals::default();
        rules.iter().for_each(|(_, totals)| all.add_all(totals));
        self.totals.add_all(&all);
        self.records.extend(contained.records);
        let mut out = self.out();
        let (held, read) = (count(responses, "response"), grouped(all.responses));
        writeln!(out, "{BOLD}{title}{BOLD:#}: {held}, of which {read} were read by a rule")?;
        let counts = ["objects", "new", "changed", "deleted", "skipped"].map(str::to_owned);
        let (first, rows) = match self.each {
            true => (["response", "rule"], contained.lines),
            false => (["rule", "responses"], rules.iter().map(sums).collect()),
        };
        if !rows.is_empty() {
            let columns: Vec<String> = first.map(str::to_owned).into_iter().chain(counts).collect();
            // The label is as long as what stands beside it leaves place for.
            let rules = rules.iter().map(|(rule, _)| rule.chars().count()).max().unwrap_or(0);
            let most = report_width().saturating_sub(rules.max(4) + 50).max(20);
            Rows { columns, rows }.write_table_as(&mut out, "  ", |column, value| {
                let text = crate::output::value_text(value);
                if column == "response" { shortened(&text, most) } else { text }
            })?;
        }
        write_skipped(&mut out, skipped, all.skipped)?;
        write_unplaced(&mut out, &all)?;
        write_list(&mut out, ("", noun, " had nothing new"), &no_news)?;
        match ignored {
            0 => {}
            1 => writeln!(out, "  1 other was not JSON, or not successful.")?,
            many => {
                writeln!(out, "  {} others were not JSON, or not successful.", grouped(many))?;
            }
        }
        Ok(write_list(&mut out, ("No rule matches ", "request", ""), &no_rule)?)
    }

    /// The sum of all responses.
    pub(super) fn finish(self, cache: &Cache) -> anyhow::Result<()> {
        if self.format != Format::Table {
            let columns =
                ["file", "response", "rule", "objects", "new", "changed", "deleted", "skipped"];
            let columns = columns.map(str::to_owned).to_vec();
            return Rows { columns, rows: self.records }.print(self.format);
        }
        if self.totals.responses > 1 {
            print_totals(&mut self.out(), cache, &self.totals)?;
        }
        Ok(())
    }
}

/// What one response contained, as a row.
fn line(label: &str, ingested: &Ingested) -> Vec<Value> {
    let mut totals = Totals::default();
    totals.add(ingested);
    let first = [label.into(), Value::from(ingested.rule.clone())];
    first.into_iter().chain(counts(&totals)).collect()
}

/// The same, as a record that names the file.
fn record(file: &str, label: &str, ingested: &Ingested) -> Vec<Value> {
    [Value::from(file)].into_iter().chain(line(label, ingested)).collect()
}

/// What a patch or an export changed, as a record. There is no rule, and no objects are counted.
fn changes(file: &str, report: &Report) -> Vec<Value> {
    let count = |kind| report.changes().filter(|change| change.kind() == kind).count();
    let counts = [ChangeKind::Inserted, ChangeKind::Updated, ChangeKind::Deleted].map(count);
    let [new, changed, deleted] = counts.map(|number| Value::Int(number as i64));
    vec![file.into(), file.into(), Value::Null, Value::Null, new, changed, deleted, Value::Int(0)]
}

/// What all responses of a rule contained, as a row.
fn sums((rule, totals): &(Arc<str>, Totals)) -> Vec<Value> {
    let first = [Value::from(rule.clone()), Value::Int(totals.responses as i64)];
    first.into_iter().chain(counts(totals)).collect()
}

fn counts(totals: &Totals) -> [Value; 5] {
    let Totals { objects, inserted, updated, deleted, skipped, .. } = totals;
    [objects, inserted, updated, deleted, skipped].map(|number| Value::Int(*number as i64))
}

/// Records that were left out, the first of them by name.
fn write_skipped(
    out: &mut impl Write,
    named: impl IntoIterator<Item = String>,
    all: usize,
) -> io::Result<()> {
    named.into_iter().try_for_each(|skipped| writeln!(out, "  left out: {skipped}"))?;
    match all.saturating_sub(NAMED) {
        0 => Ok(()),
        more => writeln!(out, "  and {} more", count(more, "record")),
    }
}

/// The values that went nowhere, if there are any.
fn write_unplaced(out: &mut impl Write, totals: &Totals) -> io::Result<()> {
    match totals.unplaced_text() {
        Some(text) => writeln!(out, "  {text}."),
        None => Ok(()),
    }
}

/// A sentence about some requests or responses, and the first of them, in lines that fit. A request
/// counts once, however often it was made.
fn write_list(
    out: &mut impl Write,
    (start, noun, end): (&str, &str, &str),
    names: &[String],
) -> io::Result<()> {
    let mut met = HashSet::new();
    let different = names.iter().filter(|name| noun != "request" || met.insert(*name));
    let different: Vec<&String> = different.collect();
    if different.is_empty() {
        return Ok(());
    }
    let most = report_width().saturating_sub(6);
    writeln!(out, "  {start}{}{end}:", count(different.len(), noun))?;
    for name in different.iter().take(NAMED) {
        writeln!(out, "    {}", shortened(name, most))?;
    }
    match different.len().checked_sub(NAMED) {
        Some(more) if more > 0 => writeln!(out, "    and {} more", grouped(more)),
        _ => Ok(()),
    }
}

/// What a response contained, table by table.
pub(crate) fn print_report(
    out: &mut impl Write,
    name: &str,
    report: &Report,
) -> anyhow::Result<()> {
    for ingested in report.ingested() {
        writeln!(
            out,
            "{BOLD}{name}{BOLD:#}: {}, {}, {}{}",
            count(ingested.bytes, "byte"),
            count(ingested.objects(), "object"),
            count(ingested.rows(), "row"),
            match ingested.repeats() {
                0 => String::new(),
                repeats => format!("; {} folded", count(repeats, "repeat")),
            }
        )?;
        let number = |number: usize| Value::Int(number as i64);
        let deletes = ingested.tables.iter().any(|table| table.deleted > 0);
        let rows = ingested.tables.iter().map(|table| {
            let known = table.rows.saturating_sub(table.inserted + table.updated + table.deleted);
            let counts = [table.objects, table.rows, table.inserted, table.updated, known];
            let counts = counts.into_iter().chain(deletes.then_some(table.deleted));
            [Value::from(table.table.clone())].into_iter().chain(counts.map(number)).collect()
        });
        let columns = ["table", "objects", "rows", "new", "changed", "known"].into_iter();
        let columns = columns.chain(deletes.then_some("deleted")).map(str::to_owned).collect();
        Rows { columns, rows: rows.collect() }.write_table(out, "  ")?;
        let skipped = ingested.skipped.iter().take(NAMED);
        let named = |skipped: &Skipped| format!("{}: {}", skipped.pointer, skipped.problem);
        write_skipped(out, skipped.map(named), ingested.skipped.len())?;
        let mut totals = Totals::default();
        totals.add(ingested);
        write_unplaced(out, &totals)?;
        if report.changes().next().is_none() {
            writeln!(out, "  Nothing of this was news.")?;
        }
    }
    if report.ingested().is_empty() {
        let changed = count(report.changes().count(), "row");
        writeln!(out, "{BOLD}{name}{BOLD:#}: {changed} changed")?;
    }
    Ok(())
}

/// The sum of all responses.
fn print_totals(out: &mut impl Write, cache: &Cache, totals: &Totals) -> anyhow::Result<()> {
    let (schema, snapshot) = (cache.schema(), cache.snapshot());
    let rows = schema.table_names().map(|table| snapshot.count(table));
    let rows = rows.sum::<Result<usize, backwater::Error>>()?;
    let known = (totals.known() * 100).checked_div(totals.objects).unwrap_or(0);
    writeln!(out, "\n{BOLD}Altogether{BOLD:#}")?;
    writeln!(
        out,
        "  {} in {} held {}.",
        count(totals.bytes, "byte"),
        count(totals.responses, "response"),
        count(totals.objects, "object"),
    )?;
    let news = [(totals.inserted, "new"), (totals.updated, "changed"), (totals.deleted, "deleted")];
    let news = news.iter().filter(|(number, _)| *number > 0);
    let news: Vec<String> =
        news.map(|(number, what)| format!("{} {what}", grouped(*number))).collect();
    writeln!(
        out,
        "  Rows: {}; {} in the cache now.",
        if news.is_empty() { "no news".to_owned() } else { news.join(", ") },
        grouped(rows),
    )?;
    writeln!(out, "  {known} % of the objects said what was known already.")?;
    if totals.without_news > 0 {
        let (without_news, all) = (totals.without_news, totals.responses);
        writeln!(out, "  {without_news} of the {all} responses had nothing new.")?;
    }
    if totals.skipped > 0 {
        writeln!(out, "  {} did not fit and were left out.", count(totals.skipped, "record"))?;
    }
    Ok(())
}
