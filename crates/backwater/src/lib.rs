//! A client-side data cache: API responses are normalized into tables, standing SQL queries are
//! defined over them, and after each commit exactly those that it touches are brought up to date.
//! The cache persists, and is there again after a restart, before the first request.
//!
//! ```
//! use backwater::{Cache, FromRow, Link, Schema, Table};
//!
//! /// A row of the table `vessel`: one row for each vessel, however many responses have it.
//! #[derive(Table)]
//! struct Vessel {
//!     #[table(id)]
//!     name: String,
//!     cars_max: i64,
//! }
//!
//! #[derive(Table)]
//! struct Sailing {
//!     #[table(id)]
//!     id: i64,
//!     vessel: Link<Vessel>,
//!     delay_min: i64,
//! }
//!
//! /// A row of a query.
//! #[derive(Debug, PartialEq, FromRow)]
//! struct Late {
//!     id: i64,
//!     delay_min: i64,
//! }
//!
//! # fn main() -> Result<(), backwater::Error> {
//! let rules = r#"response.departures = { records = "/sailings", table = "sailing" }"#;
//! let schema = Schema::builder().text("rules.toml", rules).table::<Vessel>().table::<Sailing>();
//! let cache = Cache::new(schema.build()?);
//!
//! // A standing query, and a list that follows it.
//! let sql = "SELECT id, delay_min FROM sailing WHERE delay_min > :over ORDER BY delay_min DESC";
//! let late = cache.query(sql, [("over", 5)])?.typed::<Late>()?;
//! let mut rows = cache.live(&late, || { /* ask for a repaint */ })?;
//!
//! // A response becomes rows: two sailings, and one vessel, although it is there twice.
//! let loaded = cache.commit("departures loaded", |tx| tx.ingest("departures", r#"{ "sailings": [
//!     { "id": 311, "delay_min": 0, "vessel": { "name": "Marram", "cars_max": 42 } },
//!     { "id": 312, "delay_min": 9, "vessel": { "name": "Marram", "cars_max": 42 } }
//! ] }"#))?;
//! assert_eq!((loaded.value.objects(), loaded.value.rows()), (4, 3));
//!
//! // A change reaches the queries that read it, as a delta, and no other.
//! let report = cache.commit("delay reported", |tx| tx.table::<Sailing>()?.write(311, Sailing::DELAY_MIN, 25))?;
//! assert_eq!(report.why(&late), "maintained: 1 row entered, because sailing 311 changed delay_min");
//! rows.update()?;
//! assert_eq!(rows[0], Late { id: 311, delay_min: 25 });
//! # let _ = (rows[0].id, Vessel { name: String::new(), cars_max: 1 }.name);
//! # let _ = Sailing { id: 1, vessel: Link::to("m"), delay_min: 1 }.vessel;
//! # Ok(()) }
//! ```
//!
//! # Where to look
//!
//! - [`Cache`] is the handle. [`Cache::commit`] writes through a [`Transaction`] and returns a
//!   [`Report`]; [`Cache::snapshot`] reads rows; [`Cache::builder`] has the settings.
//! - [`Schema`] says what the tables are, from structs that derive [`Table`](derive@Table), or from a
//!   text such as `backwater.toml`.
//! - [`Cache::query`] gives a standing [`Query`], whose rows are structs by [`Query::typed`];
//!   [`Cache::live`] and [`Cache::watch`] follow it, [`Cache::rebind`] gives it other parameters.
//! - [`Derived`] values are Rust functions that run again when something that they read has changed.
//! - [`remote::Remote`] asks a server for rows, once, and knows what is fresh.
//! - [`SqliteFile`] is where a cache persists; [`storage`] has other storages, and what it takes to
//!   write one.
//! - [`Report::why`], [`Cache::origins`] and [`Query::missing`] say what a commit did and why,
//!   where values come from, and what no response has had yet.
//!
//! The guide in the repository's `docs` has a page for each task.
//!
//! # Features
//!
//! `sqlite` and `json-lines` are the drivers for files; `remote` asks a server for rows; `unicode` is
//! `COLLATE UNICODE` in SQL. `threads` writes to the storage on a thread of its own; without it,
//! [`Cache::flush`] does, and the last handle. These are on by default. `infer` is not: it proposes
//! schemas, as the command does. With none of them the crate does no I/O at all, starts no thread,
//! and builds for `wasm32-unknown-unknown`; the only clock that it ever reads is the one that it is
//! given.

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

#[cfg(feature = "infer")]
pub mod infer;
mod ingest;
mod query;
#[cfg(feature = "remote")]
pub mod remote;
pub mod scenario;
mod schema;
mod sorting;
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
#[cfg(all(feature = "sqlite", feature = "unicode"))]
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

/// What commits did, what responses contained, where values come from, and what is missing.
pub mod report {
    pub use crate::change::{
        Change, ChangeKind, FieldChange, Ingested, IngestedTable, Skipped, Totals, UnplacedValues,
    };
    pub use crate::query::{Missing, MissingCell};
    pub use crate::table::{FieldSummary, TableSummary};
    pub use crate::trace::{Origin, ReachedQuery};
}

/// The rows of a query's result.
pub mod result {
    pub use crate::query::{QueryResult, ResultRow, RowKey};
}

/// The programs of the README and of the guide run as they stand there.
#[cfg(doctest)]
mod guide {
    macro_rules! page {
        ($($name:ident $path:literal),*) => {$(
            #[doc = include_str!($path)]
            struct $name;
        )*};
    }

    page!(
        Readme "../../../README.md",
        GettingStarted "../../../docs/getting-started.md",
        Reference "../../../docs/schema.md",
        Queries "../../../docs/queries.md",
        Structs "../../../docs/structs.md",
        Writing "../../../docs/writing.md",
        Watching "../../../docs/watching.md",
        File "../../../docs/file.md",
        SchemaChanges "../../../docs/schema-changes.md",
        Tests "../../../docs/testing.md"
    );
    #[cfg(feature = "remote")]
    page!(AskAServer "../../../docs/remote.md");
    #[cfg(feature = "remote")]
    page!(Edits "../../../docs/edits.md");
    #[cfg(feature = "remote")]
    page!(Feeds "../../../docs/feeds.md");
}
