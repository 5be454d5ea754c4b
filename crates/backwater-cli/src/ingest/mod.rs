//! `backwater ingest`: responses, recordings and patches into a cache file.

mod report;

use std::fs;
use std::io::{self, IsTerminal};
use std::path::{Path, PathBuf};

use anyhow::bail;
use backwater::{
    Cache, Error, Report, Request, Schema, SqliteFile, SystemClock, Transaction,
    recording::{Fate, Recording},
    report::Ingested,
};
use clap::ValueEnum;
use indicatif::{ProgressBar, ProgressStyle};

use crate::check::{self, read_schema};
use crate::failure::{WrongCall, wrong_call};
use crate::files;
use crate::output::{Format, count, grouped};
pub(crate) use report::print_report;
use report::{Contained, Printer};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The schema; a cache file that is there already knows its own
    #[arg(long, value_name = "FILE")]
    schema: Option<PathBuf>,
    /// The cache file, which is made if it is not there
    #[arg(long, value_name = "FILE")]
    cache: PathBuf,
    /// The response rule to read by; may be left out if the schema has only one, if a URL decides
    /// it, or if the file is called after it: bookings-311.json is read by "bookings"
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
    /// Refuse a response that has values for which the schema has no place
    #[arg(long)]
    strict: bool,
    /// Report each response of a recording or of many files, rather than the sums of each rule, and
    /// name all that is wrong
    #[arg(long)]
    all: bool,
    /// How to report what the responses contained; the machine formats have a record for each
    /// response
    #[arg(long, value_enum, default_value_t = Format::Table)]
    format: Format,
    /// Print nothing but what went wrong
    #[arg(long, short, conflicts_with_all = ["all", "format"])]
    quiet: bool,
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

/// Up to this many files have a commit and a report each; more of them share one.
const EACH_BY_ITSELF: usize = 20;

/// This many problems are named, unless all are to be.
const PROBLEMS: usize = 20;

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    if arguments.url.is_some() && arguments.files.len() > 1 {
        return Err(wrong_call(anyhow::anyhow!("a URL is that of one response; name one file")));
    }
    let cache = open(arguments)?;
    let progress = progress(arguments);
    let mut printer = Printer::new(arguments.format, arguments.quiet, arguments.all);
    let mut problems = Problems::default();
    if arguments.kind == Kind::Responses && arguments.files.len() > EACH_BY_ITSELF {
        let contained = printer.contained("response");
        let contained = together(&cache, arguments, &progress, (contained, &mut problems))?;
        let title = count(arguments.files.len(), "file");
        progress.suspend(|| printer.responses(&title, contained))?;
    } else {
        for file in &arguments.files {
            problems.note(file, one_file(&cache, arguments, file, &progress, &mut printer))?;
        }
    }
    // Rules and queries may be new although no response changed anything.
    cache.flush()?;
    progress.finish_and_clear();
    printer.finish(&cache)?;
    problems.report(arguments)
}

/// What the files have wrong. What one of them has is nothing to the others.
#[derive(Default)]
struct Problems {
    texts: Vec<String>,
    refused: usize,
}

impl Problems {
    /// Notes why a file was refused, or what of a recording did not fit; a wrong call ends all.
    fn note(&mut self, file: &Path, done: anyhow::Result<Vec<Error>>) -> anyhow::Result<()> {
        match done {
            Ok(misfits) => {
                let texts = misfits.into_iter().map(|error| error.at(files::name(file)));
                self.texts.extend(texts.map(|error| error.to_string()));
            }
            Err(error) if error.is::<WrongCall>() => return Err(error),
            Err(error) => {
                self.refused += 1;
                self.texts.push(error.to_string());
            }
        }
        Ok(())
    }

    fn report(mut self, arguments: &Arguments) -> anyhow::Result<()> {
        let more = self.texts.len().saturating_sub(PROBLEMS);
        if more > 0 && !arguments.all {
            self.texts.truncate(PROBLEMS);
            self.texts.push(format!("and {} more; --all names them", grouped(more)));
        }
        if self.refused > 0 && arguments.files.len() > 1 {
            let [refused, all] = [self.refused, arguments.files.len()].map(grouped);
            self.texts.push(match refused == all {
                true => format!("none of the {all} files could be taken in"),
                false => format!("{refused} of {all} files could not be taken in; the others were"),
            });
        }
        if self.texts.is_empty() { Ok(()) } else { bail!("{}", self.texts.join("\n")) }
    }
}

/// Commits what all files hold at once, and sums up what they contain.
fn together(
    cache: &Cache,
    arguments: &Arguments,
    progress: &ProgressBar,
    (mut contained, problems): (Contained, &mut Problems),
) -> anyhow::Result<Contained> {
    let schema = cache.schema();
    let mut read = |tx: &mut Transaction| {
        files::read_ahead(&arguments.files, |file, bytes| {
            let call = (&schema, arguments);
            let read = bytes
                .and_then(|bytes| read_file(tx, call, (file, bytes), progress, &mut contained));
            problems.note(file, read)
        })
    };
    let label = format!("{} ingested", count(arguments.files.len(), "file"));
    cache.try_commit(label, |tx| read(tx))?;
    Ok(contained)
}

/// Reads what a file of many holds: a recording, or a response. Gives what of a recording did not
/// fit.
fn read_file(
    tx: &mut Transaction,
    (schema, arguments): (&Schema, &Arguments),
    (file, bytes): (&Path, &[u8]),
    progress: &ProgressBar,
    contained: &mut Contained,
) -> anyhow::Result<Vec<Error>> {
    let name = files::name(file);
    if Recording::looks_like_one(bytes) {
        let recording = Recording::parse(bytes).map_err(|error| error.at(&name))?;
        let file = (&*name, bytes.len() as u64);
        return Ok(replay(tx, file, &recording, (schema, arguments.strict), progress, contained));
    }
    let (request, _) = request(schema, arguments, file)?;
    match response(tx, request, bytes, progress) {
        Ok(ingested) => contained.read(&name, &name, &ingested),
        Err(error) => {
            contained.misfit();
            return Err(error.at(name).into());
        }
    }
    Ok(Vec::new())
}

/// Commits what a file holds and reports it; gives what of a recording did not fit.
fn one_file(
    cache: &Cache,
    arguments: &Arguments,
    file: &Path,
    progress: &ProgressBar,
    printer: &mut Printer,
) -> anyhow::Result<Vec<Error>> {
    let (name, bytes) = (files::name(file), files::read(file)?);
    if arguments.kind == Kind::Responses && Recording::looks_like_one(&bytes) {
        let recording = Recording::parse(&bytes).map_err(|error| error.at(&name))?;
        let (call, file) = ((&cache.schema(), arguments.strict), (&*name, bytes.len() as u64));
        let mut contained = printer.contained("request");
        let replayed = cache.commit(format!("{name} ingested"), |tx| {
            Ok(replay(tx, file, &recording, call, progress, &mut contained))
        });
        let misfits = replayed.map_err(|error| error.at(&name))?.value;
        progress.suspend(|| printer.responses(&name, contained))?;
        return Ok(misfits);
    }
    let end = progress.position() + bytes.len() as u64;
    let report = one(cache, arguments, file, &bytes, progress)?;
    progress.set_position(end);
    progress.suspend(|| printer.response(&name, &report))?;
    Ok(Vec::new())
}

/// Reads each response of a recording that a rule reads; what does not fit is left out, and given.
fn replay(
    tx: &mut Transaction,
    (name, size): (&str, u64),
    recording: &Recording,
    (schema, strict): (&Schema, bool),
    progress: &ProgressBar,
    contained: &mut Contained,
) -> Vec<Error> {
    let mut misfits = Vec::new();
    let place = progress.position();
    let bodies: usize = recording.exchanges().map(|exchange| exchange.body().len()).sum();
    let mut read = 0;
    for exchange in recording.exchanges() {
        match exchange.fate(schema) {
            Fate::NoRule => contained.no_rule(exchange.label()),
            Fate::Read => {
                let request = exchange.request();
                let request = if strict { request.strict() } else { request };
                match tx.ingest(request, exchange.body()) {
                    Ok(ingested) => contained.read(name, &exchange.label(), &ingested),
                    Err(error) => {
                        contained.misfit();
                        misfits.push(error.at(exchange.label()));
                    }
                }
            }
            // Not JSON, or not successful.
            _ => contained.ignored(),
        }
        // Of the file's bytes, as many as these are of the responses'.
        read += exchange.body().len();
        progress.set_position(place + share(size, read, bodies));
    }
    misfits
}

/// Commits one response or patch.
fn one(
    cache: &Cache,
    arguments: &Arguments,
    file: &Path,
    bytes: &[u8],
    progress: &ProgressBar,
) -> anyhow::Result<Report> {
    let name = files::name(file);
    let applied = format!("{name} applied");
    let done = match arguments.kind {
        Kind::JsonPatch => cache.commit(applied, |tx| tx.json_patch(bytes)),
        Kind::MergePatch => cache.commit(applied, |tx| tx.merge_patch(bytes)),
        Kind::Export => cache.commit(format!("{name} taken in"), |tx| tx.import(bytes).map(drop)),
        Kind::Responses => {
            let (request, how) = request(&cache.schema(), arguments, file)?;
            cache.commit(format!("{name} ingested as {how}"), |tx| {
                response(tx, request, bytes, progress).map(drop)
            })
        }
    };
    Ok(done.map_err(|error| error.at(&name))?.report)
}

/// Reads one response, and shows how much of it is read.
fn response(
    tx: &mut Transaction,
    request: Request,
    bytes: &[u8],
    progress: &ProgressBar,
) -> Result<Ingested, Error> {
    let before = progress.position();
    let ingested = tx.ingest_with_progress(request, bytes, |read| {
        progress.set_position(before + read as u64);
    })?;
    progress.set_position(before + bytes.len() as u64);
    Ok(ingested)
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
    let request = if arguments.strict { request.strict() } else { request };
    Ok((request, how))
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
                    "{name}: this is no whole export, so it has no schema; name one with --schema"
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

/// A wrong call is reported before anything is read or made.
fn check_call(schema: &Schema, arguments: &Arguments) -> anyhow::Result<()> {
    if arguments.kind == Kind::Responses && (arguments.url.is_some() || arguments.rule.is_some()) {
        request(schema, arguments, &arguments.files[0])?;
    }
    Ok(())
}

/// With a clock, so that it is recorded when rows that may expire were received.
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
fn progress(arguments: &Arguments) -> ProgressBar {
    const WORTH_IT: u64 = 1 << 20;
    if arguments.quiet || !io::stderr().is_terminal() {
        return ProgressBar::hidden();
    }
    let sizes = arguments.files.iter().filter_map(|file| fs::metadata(file).ok());
    let total: u64 = sizes.map(|data| data.len()).sum();
    if total < WORTH_IT {
        return ProgressBar::hidden();
    }
    let style = ProgressStyle::with_template("{bar:40} {bytes} of {total_bytes} {msg}");
    ProgressBar::new(total).with_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()))
}
