//! x
mod cache;
mod change;
mod error;
mod ingest;
mod query;
mod schema;
mod storage;
mod table;
mod trace;
mod value;

#[cfg(all(test, feature = "sqlite"))]
mod tests;

pub use cache::Cache;
pub use change::{Change, ChangeKind, FieldChange, Ingested, IngestedTable, Transaction};
pub use error::{Error, ErrorKind, Result};
pub use query::{Delta, DeltaKind, DeltaRow, Outcome, Query, QueryResult, ResultRow};
pub use schema::Schema;
#[cfg(feature = "sqlite")]
pub use storage::SqliteFile;
pub use storage::{Batch, Hash, Header, Loader, Storage, Stored, StoredRow, TableBatch};
pub use table::{Row, Snapshot};
pub use trace::{ReachedQuery, Report};
pub use value::{Id, Json, Named, Timestamp, Value};
