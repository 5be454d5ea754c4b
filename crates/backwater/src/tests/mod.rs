//! Promises that need both our own insides and a judge that nobody here wrote.

mod cases;
mod choices;
mod commits_are_whole;
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
    let cache = Cache::new(Schema { tuning, ..Schema::parse(name, schema).unwrap() });
    cases::begin(&cache, schema, tuning);
    cache
}

thread_local! {
    /// In how many steps a commit of this thread fails.
    static FAULT: std::cell::Cell<Option<usize>> = const { std::cell::Cell::new(None) };
}

/// Has a commit of this thread fail in so many steps.
fn fail_in(steps: usize) {
    FAULT.set(Some(steps));
}

/// Whether that has happened; if not, it does not happen any more.
fn has_failed() -> bool {
    FAULT.take().is_none()
}

/// A step of a commit, which may fail in a test.
pub(crate) fn fault(place: &str) {
    let left = FAULT.get();
    if left == Some(0) {
        FAULT.set(None);
        panic!("as the test wants it at \"{place}\"");
    }
    FAULT.set(left.map(|left| left - 1));
}
