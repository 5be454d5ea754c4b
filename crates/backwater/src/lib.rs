//! A client-side data cache: API responses are normalized into tables, standing SQL queries are
//! defined over them, and after each commit exactly those that it touches are brought up to date.
//! The cache persists, and is there again after a restart, before the first request.
//!
//! # In one program
//!
//! A server answers with nested JSON, and the same thing comes again and again. A schema says
//! which objects are things of their own, and where a response has them:
//!
//! ```
//! use backwater::{Cache, DeltaKind, Outcome, Schema, Value};
//!
//! let schema = Schema::parse("backwater.toml", r#"
//!     [table.sailing]
//!     id = "id"
//!     fields = { id = "int", vessel = { to = "vessel" }, status = "text", delay_min = "int" }
//!
//!     [table.vessel]
//!     id = "name"
//!     fields = { name = "text", cars_max = "int" }
//!
//!     [response.departures]
//!     records = "/sailings"
//!     table = "sailing"
//! "#)?;
//! let cache = Cache::new(schema);
//!
//! // A standing query is kept true for as long as its handle lives.
//! let late = cache.query(
//!     "SELECT id, delay_min FROM sailing WHERE delay_min > :over ORDER BY delay_min DESC",
//!     [("over", 5)],
//! )?;
//! let by_status = cache.query("SELECT status, count(*) AS n FROM sailing GROUP BY status", ())?;
//! // Kept up to date at every commit, as somebody shows it; others catch up when they are read.
//! let _shown = late.keep_current();
//!
//! // A response becomes rows: two sailings, and one vessel, although it was met twice.
//! let report = cache.commit("departures loaded", |tx| tx.ingest("departures", r#"{ "sailings": [
//!     { "id": 311, "status": "on time", "delay_min": 0, "vessel": { "name": "Marram", "cars_max": 42 } },
//!     { "id": 312, "status": "on time", "delay_min": 9, "vessel": { "name": "Marram", "cars_max": 42 } }
//! ] }"#))?;
//! assert_eq!((report.ingested()[0].objects(), report.ingested()[0].rows()), (4, 3));
//! assert_eq!(late.read()?.len(), 1);
//!
//! // A change reaches the queries that read it, as a delta, and no other.
//! let report = cache.commit("delay reported", |tx| tx.update("sailing", 311, [("delay_min", 25)]))?;
//! let delta = report.delta(&late).unwrap();
//! assert_eq!(delta.count(DeltaKind::Enter), 1);
//! assert_eq!(late.read()?.row(0).unwrap().values(), [Value::Int(311), Value::Int(25)]);
//! assert_eq!(report.outcome(&by_status), Outcome::Untouched);
//! println!("{}", report.why(&by_status));
//! # Ok::<(), backwater::Error>(())
//! ```
//!
#![doc = include_str!("tour.md")]
//! # The parts
//!
//! - [`Schema`]: tables, links, response rules and named queries, read from `backwater.toml`.
//! - [`Cache`]: the handle. [`Cache::commit`] writes through a [`Transaction`] and gives a
//!   [`Report`]; [`Cache::query`] defines a standing [`Query`], [`Cache::rebind`] gives it other
//!   values; [`Cache::snapshot`] lends rows. [`Cache::builder`] gives it a [`Clock`] and limits.
//! - [`Table`]: rows as structs, with [`Id`], [`Link`] and [`Links`]; [`Snapshot::table`] reads
//!   them, [`Transaction::table`] writes them, [`Cache::query_of`] gives rows of SQL as structs.
//! - [`Derived`]: Rust functions whose results are kept until something that they read changes.
//! - [`QueryResult`] and [`Delta`]: what a query gives, and how that moved.
//! - [`Report::why`], [`Cache::origins`] and [`Query::missing`]: what a commit did and why, where
//!   values come from, and what nobody has loaded. [`Schema::explain`] shows a plan; a [`Scenario`]
//!   plays a day step by step.
//! - [`SqliteFile`]: where a cache persists, as ordinary tables of an SQLite file; [`JsonLines`], which
//!   people can read, and [`MemoryStorage`]. Any other [`Storage`] can be written against the same
//!   protocol, and tried by [`check_storage`]. [`SchemaChange`] tells what another schema did to it.
//! - [`Snapshot::export`] and [`Transaction::import`]: all rows as NDJSON, and back.
//!
//! # In tests of your program
//!
//! A cache is filled from JSON in a line, a [`SetClock`] stands until it is set, and a report says
//! which queries a commit reached, so that a test can hold that these and no others follow:
//!
//! ```
//! # use backwater::{Cache, Schema};
//! let cache = Cache::new(Schema::parse("s.toml", "table.sailing = { id = 'id', fields = { id = 'int', delay_min = 'int', note = 'text' } }")?);
//! cache.commit("set up", |tx| tx.merge_patch(r#"{ "sailing": { "311": { "delay_min": 0 }, "312": { "delay_min": 9 } } }"#))?;
//! let late = cache.query("SELECT id FROM sailing WHERE delay_min > 5", ())?;
//! let notes = cache.query("SELECT id, note FROM sailing", ())?;
//!
//! let report = cache.commit("delay reported", |tx| tx.update("sailing", 311, [("delay_min", 25)]))?;
//! assert_eq!(report.reached().map(|query| query.name()).collect::<Vec<_>>(), [late.name()]);
//! assert_eq!(report.changes().map(|change| change.to_string()).collect::<Vec<_>>(), ["sailing 311: delay_min 0 -> 25"]);
//! # let _ = notes;
//! # Ok::<(), backwater::Error>(())
//! ```
//!
//! # Features
//!
//! All are on by default. `sqlite` and `json-lines` are the drivers for files. `threads` writes to the
//! storage on a thread of its own; without it, [`Cache::flush`] does, and the last handle. With none of
//! them the crate does no I/O at all, starts no thread, and builds for `wasm32-unknown-unknown`; the only
//! clock that it ever reads is the one that it is given.

// The derives name the crate from outside.
extern crate self as backwater;

mod builder;
pub mod cache;
mod caught;
mod change;
mod commit;
pub mod derived;
pub mod error;
mod export;
pub mod infer;
mod ingest;
mod query;
pub mod scenario;
mod schema;
pub mod storage;
pub mod suite;
mod sync;
mod table;
mod trace;
pub mod typed;
mod value;
#[cfg(feature = "sqlite")]
pub mod verify;

#[cfg(test)]
#[cfg(feature = "sqlite")]
mod tests;

pub use backwater_macros::{FromRow, OneOf, Table, Values};
pub use builder::CacheBuilder;
pub use cache::Cache;
pub use change::Transaction;
pub use derived::Derived;
pub use error::{Error, ErrorKind};
pub use ingest::Request;
pub use query::{Delta, DeltaKind, Outcome, Query, QueryResult, Stop};
pub use schema::Schema;
#[cfg(feature = "sqlite")]
pub use storage::SqliteFile;
pub use table::{Row, Snapshot};
pub use trace::{Committed, Report, Watch};
pub use typed::{
    Found, FromRow, Id, Link, Links, LiveRows, OneOf, SchemaBuilder, Table, TypedQuery, made,
};
pub use value::{Json, Named, RowId, SystemClock, Timestamp, Value};

/// Clocks: what time it is, as the program says.
pub mod clock {
    pub use crate::value::{Clock, SetClock, SystemClock};
}

/// How a query's result moved, row by row, and as a stream.
pub mod delta {
    pub use crate::query::{Delta, DeltaKind, DeltaRow, Step};
    pub use crate::trace::{DeltaStream, LocalWatch};
    pub use futures_core::Stream;
}

/// How a statement is answered and kept up to date.
pub mod plan {
    pub use crate::query::{Explanation, Operator};
}

/// Recordings that a browser's developer tools have saved of a session (HAR).
pub mod recording {
    pub use crate::ingest::{Exchange, Fate, Recording};
}

/// What commits did, what responses brought, where values come from, and what is missing.
pub mod report {
    pub use crate::change::{
        Change, ChangeKind, FieldChange, Ingested, IngestedTable, Skipped, Totals,
    };
    pub use crate::query::{Missing, MissingCell};
    pub use crate::table::{FieldSummary, TableSummary};
    pub use crate::trace::{Origin, ReachedQuery};
}

/// The rows of a query's result.
pub mod result {
    pub use crate::query::{QueryResult, ResultRow, RowKey};
}

/// The programs of the README run as they stand there.
#[cfg(doctest)]
#[doc = include_str!("../../../README.md")]
struct Readme;
