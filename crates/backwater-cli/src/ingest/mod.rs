//! `backwater ingest`: responses, recordings and patches into a cache file.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

use anyhow::bail;
use backwater::{
    Cache, Exchange, Fate, Ingested, Recording, Report, Request, Schema, SqliteFile, SystemClock,
    Totals, Value,
};
use clap::ValueEnum;
use indicatif::{ProgressBar, ProgressStyle};

use crate::check::{self, read_schema};
use crate::failure::{WrongCall, wrong_call};
use crate::files;
use crate::output::{BOLD, Rows, count, grouped};

/// So many records that did not fit, and responses that nobody reads, are named one by one.
const NAMED: usize = 5;

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The schema; a cache file that is there already knows its own
    #[arg(long, value_name = "FILE")]
    schema: Option<PathBuf>,
    /// The cache file, which is made if it is not there
    #[arg(long, value_name = "FILE")]
    cache: PathBuf,
    /// The response rule to read by; may be left out if the schema has only one, a URL tells it, or
    /// the file is called after it: bookings-311.json is read by "bookings"
    #[arg(long = "as", value_name = "RULE")]
    rule: Option<String>,
    /// The URL that the response came from, or its path and query
    #[arg(long, value_name = "URL")]
    url: Option<String>,
    /// The HTTP method of the request
    #[arg(long, value_name = "METHOD", default_value = "GET", requires = "url")]
    method: String,
    /// A variable of the request, in the place of the URL's
    #[arg(long = "var", value_name = "NAME=VALUE", value_parser = variable)]
    variables: Vec<(String, String)>,
    /// What the files hold; a recording is known by its beginning
    #[arg(long, value_enum, default_value_t = Kind::Responses)]
    kind: Kind,
    /// The files, `-` for standard input
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Kind {
    /// JSON responses, or recordings of a browser's session (HAR)
    Responses,
    /// Updates as JSON Patch (RFC 6902)
    JsonPatch,
    /// Updates as JSON Merge Patch (RFC 7396)
    MergePatch,
    /// Rows as `backwater export` writes them, which needs no schema
    Export,
}

fn variable(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or("expected NAME=VALUE, such as port=SAL")?;
    Ok((name.to_owned(), value.to_owned()))
}

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    if arguments.url.is_some() && arguments.files.len() > 1 {
        return Err(wrong_call(anyhow::anyhow!("a URL is that of one response; name one file")));
    }
    let is_new = !arguments.cache.exists();
    let cache = open(arguments)?;
    let progress = progress(&arguments.files);
    let mut out = anstream::stdout();
    let mut totals = Totals::default();
    // What one file has wrong is nothing to the others.
    let (mut problems, mut refused, mut done) = (Vec::new(), 0, 0);
    for file in &arguments.files {
        let name = files::name(file);
        let read = one_file(&cache, arguments, file, &progress, &mut totals, &mut out);
        match read {
            Ok((bytes, misfits)) => {
                done += bytes;
                problems.extend(misfits.into_iter().map(|error| error.at(&name).to_string()));
            }
            Err(error) if error.is::<WrongCall>() => return Err(error),
            Err(error) => {
                refused += 1;
                problems.push(error.to_string());
            }
        }
        progress.set_position(done);
    }
    let is_any = cache.snapshot().commit() > 0;
    if !is_new || is_any {
        // Rules and queries may be new although no response brought anything.
        cache.flush()?;
    }
    progress.finish_and_clear();
    if totals.responses > 1 {
        tell_totals(&mut out, &cache, &totals)?;
    }
    if refused > 0 && arguments.files.len() > 1 {
        let all = arguments.files.len();
        problems.push(format!("{refused} of {all} files could not be taken in; the others were"));
    }
    if problems.is_empty() { Ok(()) } else { bail!("{}", problems.join("\n")) }
}

/// Commits what a file holds; gives how many bytes that was, and what of a recording did not fit.
fn one_file(
    cache: &Cache,
    arguments: &Arguments,
    file: &Path,
    progress: &ProgressBar,
    totals: &mut Totals,
    out: &mut impl Write,
) -> anyhow::Result<(u64, Vec<backwater::Error>)> {
    let (name, bytes) = (files::name(file), files::read(file)?);
    let size = bytes.len() as u64;
    if arguments.kind == Kind::Responses && Recording::looks_like_one(&bytes) {
        let recording = Recording::parse(&bytes).map_err(|error| error.at(&name))?;
        let misfits = replay(cache, &name, &recording, size, progress, totals, out)?;
        return Ok((size, misfits));
    }
    let report = one(cache, arguments, file, &bytes, progress)?;
    report.ingested().iter().for_each(|brought| totals.add(brought));
    progress.suspend(|| tell(out, &name, &report))?;
    Ok((size, Vec::new()))
}

/// Commits one response or patch.
fn one(
    cache: &Cache,
    arguments: &Arguments,
    file: &Path,
    bytes: &[u8],
    progress: &ProgressBar,
) -> anyhow::Result<Report> {
    let (name, before) = (files::name(file), progress.position());
    let done = match arguments.kind {
        Kind::JsonPatch => cache.commit(format!("{name} applied"), |tx| tx.json_patch(bytes)),
        Kind::MergePatch => cache.commit(format!("{name} applied"), |tx| tx.merge_patch(bytes)),
        Kind::Export => cache.commit(format!("{name} taken in"), |tx| tx.import(bytes).map(drop)),
        Kind::Responses => {
            let (request, how) = request(&cache.schema(), arguments, file)?;
            cache.commit(format!("{name} ingested as {how}"), |tx| {
                progress.set_message("read");
                let brought = tx.ingest_with_progress(request, bytes, |read| {
                    progress.set_position(before + read as u64);
                });
                progress.set_position(before + bytes.len() as u64);
                brought
            })
        }
    };
    Ok(done.map_err(|error| error.at(&name))?)
}

/// The request that a response answers, and how a label calls it.
fn request(
    schema: &Schema,
    arguments: &Arguments,
    file: &Path,
) -> anyhow::Result<(Request, String)> {
    let (mut request, how) = match (&arguments.url, &arguments.rule) {
        (Some(url), None) => {
            let (rule, _) = schema.rule_for(&arguments.method, url).map_err(wrong_call)?;
            (Request::new(&arguments.method, url), rule.to_owned())
        }
        (Some(url), Some(rule)) => {
            let rule = choose_rule(schema, Some(rule), file)?;
            (Request::new(&arguments.method, url).read_by(&rule), rule)
        }
        (None, rule) => {
            let rule = choose_rule(schema, rule.as_deref(), file)?;
            (Request::rule(&rule), rule)
        }
    };
    for (name, value) in &arguments.variables {
        request = request.var(name, value);
    }
    Ok((request, how))
}

/// Commits each response of a recording; gives what was wrong with those that did not fit.
fn replay(
    cache: &Cache,
    name: &str,
    recording: &Recording,
    size: u64,
    progress: &ProgressBar,
    totals: &mut Totals,
    out: &mut impl Write,
) -> anyhow::Result<Vec<backwater::Error>> {
    let schema = cache.schema();
    let (mut no_rule, mut ignored, mut misfits) = (Vec::new(), 0, Vec::new());
    let mut left: Vec<String> = Vec::new();
    let (before, mut lines, mut no_news) = (totals.clone(), Vec::new(), Vec::new());
    let place = progress.position();
    let bodies: usize = recording.exchanges().map(|exchange| exchange.body().len()).sum();
    let mut read = 0;
    for exchange in recording.exchanges() {
        match exchange.fate(&schema) {
            Fate::NoRule => no_rule.push(exchange.label()),
            Fate::NotJson | Fate::Failed => ignored += 1,
            Fate::Read => match read_exchange(cache, exchange) {
                Ok(report) => {
                    let known = totals.without_news;
                    for brought in report.ingested() {
                        totals.add(brought);
                        lines.push(line(report.label(), brought));
                        left.extend(brought.skipped.iter().map(|skipped| {
                            format!("{}: {}: {}", report.label(), skipped.pointer, skipped.problem)
                        }));
                    }
                    if totals.without_news > known {
                        no_news.push(exchange.label());
                    }
                }
                Err(error) => misfits.push(error.at(exchange.label())),
            },
        }
        // Of the file's bytes, as many as these are of the responses'.
        read += exchange.body().len();
        progress.set_position(place + share(size, read, bodies));
    }
    let read = totals.responses - before.responses;
    progress.suspend(|| -> anyhow::Result<()> {
        let all = count(recording.exchanges().len(), "response");
        writeln!(out, "{BOLD}{name}{BOLD:#}: {all}, of which {read} were read by a rule")?;
        let columns = ["response", "rule", "objects", "new", "changed", "deleted", "skipped"];
        if !lines.is_empty() {
            let columns = columns.map(str::to_owned).to_vec();
            Rows { columns, rows: lines }.write_table(out, "  ")?;
        }
        for left in left.iter().take(NAMED) {
            writeln!(out, "  left out: {left}")?;
        }
        if let Some(more) = left.len().checked_sub(NAMED).filter(|more| *more > 0) {
            writeln!(out, "  and {} more", count(more, "record"))?;
        }
        if !no_news.is_empty() {
            writeln!(out, "  Nothing new was brought by {}.", list(&no_news))?;
        }
        if ignored > 0 {
            writeln!(out, "  {} no JSON, or no success.", others(ignored))?;
        }
        if !no_rule.is_empty() {
            writeln!(out, "  No rule is for {}.", list(&no_rule))?;
        }
        Ok(())
    })?;
    Ok(misfits)
}

fn read_exchange(cache: &Cache, exchange: &Exchange) -> backwater::Result<Report> {
    cache.commit(exchange.label(), |tx| tx.ingest(exchange.request(), exchange.body()))
}

fn others(number: usize) -> String {
    if number == 1 { "1 other was".to_owned() } else { format!("{number} others were") }
}

/// Some names, and how many more there are.
fn list(names: &[String]) -> String {
    let mut different: Vec<&str> = Vec::new();
    for name in names {
        if !different.contains(&name.as_str()) {
            different.push(name);
        }
    }
    let told = different.iter().take(NAMED).copied().collect::<Vec<_>>().join(", ");
    match different.len().checked_sub(NAMED) {
        Some(more) if more > 0 => format!("{told} and {more} more"),
        _ => told,
    }
}

/// What one response brought, as a row.
fn line(label: &str, brought: &Ingested) -> Vec<Value> {
    let sum = |of: fn(&backwater::IngestedTable) -> usize| brought.tables.iter().map(of).sum();
    let number = |number: usize| Value::Int(number as i64);
    vec![
        label.into(),
        Value::from(brought.rule.clone()),
        number(brought.objects()),
        number(sum(|table| table.inserted)),
        number(sum(|table| table.updated)),
        number(sum(|table| table.deleted)),
        number(brought.skipped.len()),
    ]
}

fn open(arguments: &Arguments) -> anyhow::Result<Cache> {
    let file = SqliteFile::new(&arguments.cache);
    // All is written at the end; that it cannot be is said before.
    let folder = arguments.cache.parent().filter(|folder| !folder.as_os_str().is_empty());
    if folder.is_some_and(|folder| !folder.is_dir()) {
        bail!(
            "{}: it cannot be written, as nothing can be made beside it: is its folder there?",
            arguments.cache.display()
        );
    }
    match &arguments.schema {
        Some(schema) => {
            let schema = read_schema(schema)?;
            check_call(&schema, arguments)?;
            opened(Some(schema), file)
        }
        None if !arguments.cache.exists() && arguments.kind == Kind::Export => {
            let name = files::name(&arguments.files[0]);
            let schema = Schema::of_export(files::read(&arguments.files[0])?);
            match schema.map_err(|error| error.at(&name))? {
                Some(schema) => opened(Some(schema), file),
                None => bail!(
                    "{name}: this is no whole export, so it tells no schema; name one with --schema"
                ),
            }
        }
        None if !arguments.cache.exists() => Err(wrong_call(anyhow::anyhow!(
            "{}: there is no cache here yet; name a schema with --schema to make one",
            arguments.cache.display()
        ))),
        None => {
            let cache = opened(None, file)?;
            check_call(&cache.schema(), arguments)?;
            Ok(cache)
        }
    }
}

/// A wrong call is told before anything is read or made.
fn check_call(schema: &Schema, arguments: &Arguments) -> anyhow::Result<()> {
    if arguments.kind == Kind::Responses && (arguments.url.is_some() || arguments.rule.is_some()) {
        request(schema, arguments, &arguments.files[0])?;
    }
    Ok(())
}

/// With a clock, so that it is known of rows that may expire when they were brought.
fn opened(schema: Option<Schema>, file: SqliteFile) -> anyhow::Result<Cache> {
    // All is written once, at the end: there is nothing to show for a part of it.
    let builder = Cache::builder().clock(SystemClock::new()).storage(file).write_when_flushed();
    let builder = match schema {
        Some(schema) => builder.schema(schema),
        None => builder,
    };
    let cache = builder.build()?;
    // What is too much goes in a commit when the cache is opened.
    let mut went = check::leaves(&cache);
    cache.commits().iter().for_each(|report| went.extend(check::lets_go(report)));
    went.iter().for_each(|line| eprintln!("{line}"));
    Ok(cache)
}

fn choose_rule(schema: &Schema, wanted: Option<&str>, file: &Path) -> anyhow::Result<String> {
    let rules: Vec<&str> = schema.rule_names().collect();
    let called = files::rule_of(file);
    match (wanted, rules.as_slice()) {
        (Some(rule), rules) if rules.contains(&rule) => Ok(rule.to_owned()),
        (Some(rule), _) => {
            // The library knows how to say this.
            let unknown = Cache::new(schema.clone()).commit("", |tx| tx.ingest(rule, ""));
            match unknown {
                Err(error) => Err(wrong_call(error)),
                Ok(_) => Ok(rule.to_owned()),
            }
        }
        (None, [only]) => Ok((*only).to_owned()),
        (None, []) => bail!(
            "the schema has no response rule; add a [response.NAME] with `records` and `table`"
        ),
        (None, rules) if rules.contains(&&*called) => Ok(called),
        (None, rules) => Err(wrong_call(anyhow::anyhow!(
            "the schema has several response rules, none of which {} is called after; choose one with --as, or give the --url: {}",
            files::name(file),
            rules.join(", ")
        ))),
    }
}

/// The part of something that as many are of all.
fn share(whole: u64, some: usize, all: usize) -> u64 {
    if all == 0 { whole } else { (u128::from(whole) * some as u128 / all as u128) as u64 }
}

/// A bar for input that takes a while; it shows on a terminal only.
fn progress(files: &[PathBuf]) -> ProgressBar {
    const WORTH_IT: u64 = 1 << 20;
    let sizes = files.iter().filter_map(|file| fs::metadata(file).ok());
    let total: u64 = sizes.map(|data| data.len()).sum();
    if total < WORTH_IT {
        return ProgressBar::hidden();
    }
    let style = ProgressStyle::with_template("{bar:40} {bytes} of {total_bytes} {msg}");
    ProgressBar::new(total).with_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()))
}

/// What a response brought, table by table.
pub(crate) fn tell(out: &mut impl Write, name: &str, report: &Report) -> anyhow::Result<()> {
    for brought in report.ingested() {
        writeln!(
            out,
            "{BOLD}{name}{BOLD:#}: {}, {}, {}{}",
            count(brought.bytes, "byte"),
            count(brought.objects(), "object"),
            count(brought.rows(), "row"),
            match brought.repeats() {
                0 => String::new(),
                repeats => format!("; {} folded", count(repeats, "repeat")),
            }
        )?;
        let number = |number: usize| Value::Int(number as i64);
        let deletes = brought.tables.iter().any(|table| table.deleted > 0);
        let rows = brought.tables.iter().map(|table| {
            let known = table.rows.saturating_sub(table.inserted + table.updated + table.deleted);
            let counts = [table.objects, table.rows, table.inserted, table.updated, known];
            let counts = counts.into_iter().chain(deletes.then_some(table.deleted));
            [Value::from(table.table.clone())].into_iter().chain(counts.map(number)).collect()
        });
        let columns = ["table", "objects", "rows", "new", "changed", "known"].into_iter();
        let columns = columns.chain(deletes.then_some("deleted")).map(str::to_owned).collect();
        Rows { columns, rows: rows.collect() }.write_table(out, "  ")?;
        for skipped in brought.skipped.iter().take(NAMED) {
            writeln!(out, "  left out: {}: {}", skipped.pointer, skipped.problem)?;
        }
        if let Some(more) = brought.skipped.len().checked_sub(NAMED).filter(|more| *more > 0) {
            writeln!(out, "  and {} more", count(more, "record"))?;
        }
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

/// What everything brought together.
fn tell_totals(out: &mut impl Write, cache: &Cache, totals: &Totals) -> anyhow::Result<()> {
    let rows: usize = cache.snapshot().tables().iter().map(|table| table.rows).sum();
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
        let (told, all) = (totals.without_news, totals.responses);
        writeln!(out, "  {told} of the {all} responses brought nothing new.")?;
    }
    if totals.skipped > 0 {
        writeln!(out, "  {} did not fit and were left out.", count(totals.skipped, "record"))?;
    }
    Ok(())
}
