//! From rows to open formats, and back: NDJSON, which gives the whole cache back, and JSON:API.
//!
//! It knows snapshots and transactions, and does no I/O of its own: it writes into what it is
//! given.

mod jsonapi;
mod ndjson;
