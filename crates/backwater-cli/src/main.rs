//! The command `backwater`: reads arguments, calls the library, prints.

/// Prints a line; a full disk or a closed pipe is an error like others.
macro_rules! say {
    ($($line:tt)*) => {{
        use std::io::Write as _;
        writeln!(anstream::stdout(), $($line)*)?
    }};
}

mod check;
mod demo;
mod explain;
mod export;
mod failure;
mod files;
mod infer;
mod ingest;
mod output;
mod query;
mod serve;
mod tables;
mod trace;

use std::process::ExitCode;

use clap::{Parser, Subcommand};

/// Look into a Backwater cache: API responses as tables, with standing SQL queries over them.
#[derive(Parser)]
#[command(name = "backwater", version, arg_required_else_help = true)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Show what a normalized cache does, on a day at the Saltmere ferries
    Demo(demo::Arguments),
    /// Propose a schema from JSON responses or from a recording of a browser's session
    Infer(infer::Arguments),
    /// Check a schema, a cache file, or what would become of a file under a schema
    Check(check::Arguments),
    /// Read JSON responses into a cache file
    Ingest(ingest::Arguments),
    /// List the tables of a cache file
    Tables(tables::Arguments),
    /// Ask a cache file a question in SQL
    Query(query::Arguments),
    /// Show how a statement is answered, and kept true after each commit
    Explain(explain::Arguments),
    /// Write a cache file's rows as NDJSON, CSV or JSON:API
    Export(export::Arguments),
    /// Play a scenario, and show what each commit did to each query, and why
    Trace(trace::Arguments),
    /// Serve the made-up API of the demo, or a recorded session, on this machine
    Serve(serve::Arguments),
}

fn main() -> ExitCode {
    let done = match Arguments::parse().command {
        Command::Demo(arguments) => demo::run(&arguments),
        Command::Infer(arguments) => infer::run(&arguments),
        Command::Check(arguments) => check::run(&arguments),
        Command::Ingest(arguments) => ingest::run(&arguments),
        Command::Tables(arguments) => tables::run(&arguments),
        Command::Query(arguments) => query::run(&arguments),
        Command::Explain(arguments) => explain::run(&arguments),
        Command::Export(arguments) => export::run(&arguments),
        Command::Trace(arguments) => trace::run(&arguments),
        Command::Serve(arguments) => serve::run(&arguments),
    };
    done.map_or_else(|error| failure::report(&error), |()| ExitCode::SUCCESS)
}
