//! `backwater demo`: a morning at the Saltmere ferries, shown on the terminal.

use std::env;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use anstyle::{AnsiColor, Style};
use anyhow::bail;
use backwater::clock::SetClock;
use backwater::remote::{Answer, Remote, StandIn};
use backwater::{
    Cache, Delta, DeltaKind, Outcome, Query, Report, Schema, SqliteFile, Value, Watch,
};
use backwater_serve::{Answers, Ferries};

use crate::ingest::print_report;
use crate::output::{BOLD, DIM, Rows, count, value_text};

const SCHEMA: &str = include_str!("../../../demo/backwater.toml");
const DEPARTURES: &str = include_str!("../../../demo/responses/departures.json");
const ROUTE: &str = "NOR-SAL";
const NOW: &str = "2031-05-04T07:40:00+02:00";

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The cache file to make; one that an earlier demo made is replaced
    #[arg(long, value_name = "FILE", default_value = "saltmere.db")]
    cache: PathBuf,
}

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    let path = &arguments.cache;
    make_way(path)?;
    let mut out = anstream::stdout().lock();

    let cache =
        Cache::open_with(Schema::parse("demo/backwater.toml", SCHEMA)?, SqliteFile::new(path))?;
    let queries = define(&cache)?;
    let _shown: Vec<Watch> = queries.iter().map(Query::keep_current).collect();

    writeln!(
        out,
        "{BOLD}Backwater{BOLD:#} on a morning at the Saltmere ferries, an island network that we made up"
    )?;
    heading(&mut out, "1  A departures page is loaded")?;
    writeln!(
        out,
        "The server answers with nested JSON: each sailing has its route, its ports and its"
    )?;
    writeln!(out, "vessel nested in it, repeated each time. The cache keeps one row of each.\n")?;
    let load = |label: &str| {
        let loaded = cache.commit(label, |tx| tx.ingest("departures", DEPARTURES));
        loaded.map(|loaded| loaded.report)
    };
    print_report(&mut out, "GET /departures", &load("departures loaded")?)?;
    writeln!(out, "\nThe page is loaded once more, as pages are:\n")?;
    let again = load("departures loaded again")?;
    writeln!(
        out,
        "  commit {}, {:?}: {} changed, {} reached",
        again.number(),
        again.label(),
        count(again.changes().count(), "row"),
        queries_of(again.reached().count()),
    )?;

    heading(&mut out, "2  Three standing queries are read")?;
    for query in &queries {
        show(&mut out, &cache.schema(), query)?;
    }

    heading(&mut out, "3  Sailing 304 will leave 25 minutes late")?;
    let report =
        cache.commit("delay reported", |tx| tx.update("sailing", 304, [("delay_min", 25)]))?;
    follow(&mut out, &report, &queries)?;

    heading(&mut out, "4  Sailing 302 is cancelled")?;
    let report = cache
        .commit("sailing cancelled", |tx| tx.update("sailing", 302, [("status", "cancelled")]))?;
    follow(&mut out, &report, &queries)?;

    heading(&mut out, "5  The program ends, and starts again")?;
    cache.flush()?;
    let before = queries.iter().map(Query::read).collect::<Result<Vec<_>, _>>()?;
    drop(queries);
    drop(cache);
    let cache = Cache::open(SqliteFile::new(path))?;
    writeln!(
        out,
        "{} holds commit {}. Not one request was made, and the answers are there:\n",
        path.display(),
        cache.snapshot().commit()
    )?;
    for (query, before) in define(&cache)?.iter().zip(before) {
        let now = query.read()?;
        if now != before {
            bail!("{} gives other rows after the restart", query.name());
        }
        writeln!(
            out,
            "  {BOLD}{:16}{BOLD:#} {}, the same as before",
            query.name(),
            count(now.len(), "row")
        )?;
    }

    ask_a_server(&mut out, &cache)?;

    // As it was called itself, so that nothing is built once more.
    let command = match (env::var_os("CARGO"), cfg!(debug_assertions)) {
        (Some(_), true) => "cargo run -q --",
        (Some(_), false) => "cargo run -q --release --",
        (None, _) => "backwater",
    };
    let file = path.display();
    writeln!(out, "\n{BOLD}Look further{BOLD:#}")?;
    writeln!(out, "  {command} tables --cache {file}")?;
    writeln!(out, "  {command} query --cache {file} by_status")?;
    writeln!(out, "  {command} query --cache {file} --param route={ROUTE} delays_on_route")?;
    writeln!(
        out,
        "  {command} query --cache {file} 'SELECT vessel, sum(cars_booked) AS cars FROM sailing GROUP BY vessel'"
    )?;
    writeln!(
        out,
        "  sqlite3 {file} 'SELECT * FROM sailing LIMIT 5'   {DIM}(it is an ordinary SQLite file){DIM:#}"
    )?;
    Ok(())
}

/// What a remote does, with the server of the ferries in this process.
fn ask_a_server(out: &mut impl Write, cache: &Cache) -> anyhow::Result<()> {
    heading(out, "6  A remote asks the server for what is not fresh")?;
    writeln!(
        out,
        "The schema's rules have URLs, so a remote can ask for what they bring, at most once at a"
    )?;
    writeln!(
        out,
        "time. This server is a stand-in inside of the demo; `backwater serve` is the same one.\n"
    )?;
    let ferries = Ferries::new();
    let is_broken = Arc::new(AtomicBool::new(false));
    let fails = is_broken.clone();
    let server = StandIn::new(move |request| match fails.load(Ordering::Relaxed) {
        true => StandIn::status(503),
        false => ferries.answer(request),
    });
    let clock = SetClock::at(NOW.parse()?);
    let remote = Remote::builder(cache).base("https://api.saltmere-ferries.example").seed(1);
    let remote = remote.transport(server.clone()).clock(clock.clone()).build()?;
    let mut seen = 0;
    let mut step = |did: &str, answer: &Answer, commit: u64| -> anyhow::Result<()> {
        let requests = server.requests();
        let made: Vec<&str> = requests[seen..]
            .iter()
            .map(|request| request.split(".example").nth(1).unwrap_or(""))
            .collect();
        seen = requests.len();
        let made = match (&*made, did.starts_with("the server")) {
            ([], true) => String::new(),
            ([], false) => "no request".to_owned(),
            (made, _) => format!("GET {}", made.join(", ")),
        };
        let state = state_of(answer, &clock);
        match &*made {
            "" => writeln!(out, "  {BOLD}{did:25}{BOLD:#}{state}")?,
            made => writeln!(out, "  {BOLD}{did:25}{BOLD:#}{state:26}{DIM}{made}{DIM:#}")?,
        }
        let commits = cache.commits();
        for report in commits.iter().filter(|report| report.number() > commit) {
            let rows = report.changes().filter(|change| !change.table().starts_with("backwater_"));
            let rows = count(rows.count(), "row");
            writeln!(
                out,
                "  {DIM}{:25}commit {}, {:?}: {rows}{DIM:#}",
                "",
                report.number(),
                report.label()
            )?;
        }
        Ok(())
    };
    let last = || cache.snapshot().commit();

    let mut before = last();
    let vessel = remote.ask("vessel", [("id", "marram")])?;
    step("a vessel is asked for", &vessel, before)?;
    server.answer_all();
    step("the server answers", &vessel, before)?;
    before = last();
    remote.ask("vessel", [("id", "marram")])?;
    step("it is asked for again", &vessel, before)?;
    server.pass(&clock, Duration::from_secs(600));
    remote.ask("vessel", [("id", "marram")])?;
    step("ten minutes later", &vessel, before)?;
    server.answer_all();
    step("the server answers 304", &vessel, before)?;
    is_broken.store(true, Ordering::Relaxed);
    server.pass(&clock, Duration::from_secs(600));
    remote.ask("vessel", [("id", "marram")])?;
    server.answer_all();
    step("it fails with 503", &vessel, before)?;
    is_broken.store(false, Ordering::Relaxed);
    server.pass(&clock, Duration::from_secs(2));
    server.answer_all();
    step("two seconds later", &vessel, before)?;

    writeln!(out, "\nWhat is known of each answer is a row, for a spinner or a count:\n")?;
    let sql = "SELECT rule, variables, came_at, fresh_until, is_under_way FROM backwater_answer";
    writeln!(out, "  {DIM}{sql}{DIM:#}")?;
    Rows::of(&cache.query(sql, ())?.read()?).write_table(out, "  ")?;
    Ok(cache.flush()?)
}

/// An answer's state, in a few words.
fn state_of(answer: &Answer, clock: &SetClock) -> String {
    let state = answer.state();
    let here = match &state.here {
        None => "not here",
        Some(_) if state.is_fresh(clock) => "here, fresh",
        Some(_) => "here, stale",
    };
    let under_way = match &state.under_way {
        Some(way) if way.tries > 1 => format!(", try {} waits", way.tries),
        Some(_) => ", under way".to_owned(),
        None => String::new(),
    };
    format!("{here}{under_way}")
}

/// Makes room for the demo's file, if what is there is a demo's.
fn make_way(path: &Path) -> anyhow::Result<()> {
    if !path.exists() {
        return Ok(());
    }
    let ours = Cache::open(SqliteFile::read_only(path)).is_ok_and(|cache| {
        let schema = cache.schema();
        let own = schema.table_names().filter(|name| !name.starts_with("backwater_"));
        own.eq(["port", "route", "vessel", "sailing", "booking", "board"])
    });
    if !ours {
        bail!(
            "{}: this file is there, and no demo made it; name another with --cache",
            path.display()
        );
    }
    fs::remove_file(path)
        .map_err(|error| anyhow::anyhow!("{}: it cannot be replaced: {error}", path.display()))
}

fn define(cache: &Cache) -> anyhow::Result<Vec<Query>> {
    Ok(vec![
        cache.query("next_departures", [("now", NOW)])?,
        cache.query("by_status", ())?,
        cache.query("delays_on_route", [("route", ROUTE)])?,
    ])
}

fn heading(out: &mut impl Write, text: &str) -> anyhow::Result<()> {
    let style = Style::new().bold().fg_color(Some(AnsiColor::Cyan.into()));
    Ok(writeln!(out, "\n{style}{text}{style:#}\n")?)
}

fn queries_of(number: usize) -> String {
    if number == 1 { "1 query".to_owned() } else { format!("{number} queries") }
}

fn show(out: &mut impl Write, schema: &Schema, query: &Query) -> anyhow::Result<()> {
    let with = match query.name() {
        "next_departures" => format!("  :now = {NOW}"),
        "delays_on_route" => format!("  :route = {ROUTE}"),
        _ => String::new(),
    };
    writeln!(out, "{BOLD}{}{BOLD:#}{DIM}{with}{DIM:#}", query.name())?;
    for line in schema.query(query.name()).unwrap_or_default().trim().lines() {
        writeln!(out, "  {DIM}{line}{DIM:#}")?;
    }
    Rows::of(&query.read()?).write_table(out, "  ")?;
    Ok(writeln!(out)?)
}

/// What a commit changed, and what that did to each query.
fn follow(out: &mut impl Write, report: &Report, queries: &[Query]) -> anyhow::Result<()> {
    writeln!(out, "commit {}, {:?}", report.number(), report.label())?;
    for change in report.changes() {
        writeln!(out, "  {change}")?;
    }
    for query in queries {
        let outcome = report.outcome(query);
        let style = match outcome {
            Outcome::Maintained => Style::new().fg_color(Some(AnsiColor::Green.into())),
            Outcome::Untouched => DIM,
            _ => Style::new().fg_color(Some(AnsiColor::Yellow.into())),
        };
        writeln!(out, "\n{BOLD}{}{BOLD:#}", query.name())?;
        let why = report.why(query);
        let reason = why.strip_prefix(outcome.name()).unwrap_or(&why);
        writeln!(out, "  {style}{}{style:#}{reason}", outcome.name())?;
        if let Some(delta) = report.delta(query) {
            steps(out, delta)?;
        }
    }
    Ok(())
}

/// A delta row by row, with positions counted from 1.
fn steps(out: &mut impl Write, delta: &Delta) -> anyhow::Result<()> {
    let values = |values: &[Value]| values.iter().map(value_text).collect::<Vec<_>>().join("  ");
    for row in delta.rows() {
        let at = |position: Option<usize>| position.map_or(0, |position| position + 1);
        let after = row.after().map(|row| values(row.values())).unwrap_or_default();
        match row.kind() {
            DeltaKind::Enter => writeln!(out, "    enters at {}   {after}", at(row.to()))?,
            DeltaKind::Move => {
                writeln!(out, "    moves {} to {}   {after}", at(row.from()), at(row.to()))?
            }
            DeltaKind::Leave => {
                let before = row.before().map(|row| values(row.values())).unwrap_or_default();
                writeln!(out, "    leaves at {}   {before}", at(row.from()))?;
            }
            DeltaKind::Change => {
                let (Some(before), Some(after)) = (row.before(), row.after()) else { continue };
                let columns =
                    row.columns().into_iter().map(|column| -> Result<String, backwater::Error> {
                        Ok(format!(
                            "{column} {} -> {}",
                            value_text(before.get(column)?),
                            value_text(after.get(column)?)
                        ))
                    });
                let columns = columns.collect::<Result<Vec<_>, _>>()?.join(", ");
                let key = values(&row.key());
                writeln!(out, "    changes at {}  {key}: {columns}", at(row.to()))?;
            }
        }
    }
    Ok(())
}
