//! Promises that need both our own insides and a judge that nobody here wrote.

mod choices;
mod expressions_equal_sqlite;
mod ids_and_links_equal_sqlite;
mod operators_follow_rows;
mod queries_equal_sqlite;
mod scans_equal_a_model;
mod unwatched_queries_catch_up;
mod world;

use crate::schema::Tuning;
use crate::{Cache, Schema};

/// A cache whose queries go over to other ways at these sizes.
fn tuned(name: &str, schema: &str, tuning: Tuning) -> Cache {
    Cache::new(Schema { tuning, ..Schema::parse(name, schema).unwrap() })
}
