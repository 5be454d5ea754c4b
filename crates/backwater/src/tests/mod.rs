//! Promises that need both our own internals and a judge that we did not write.

mod cases;
mod choices;
mod commits_are_whole;
mod expressions_equal_sqlite;
mod four_ways_agree;
mod ids_and_links_equal_sqlite;
mod operators_follow_rows;
#[cfg(feature = "remote")]
mod pending_changes_lie_over;
mod queries_equal_sqlite;
mod scans_equal_a_model;
mod unwatched_queries_catch_up;
mod world;

use std::cell::{Cell, RefCell};

use crate::schema::Tuning;
use crate::{Cache, Schema};

/// A cache whose queries switch to other ways at these sizes.
fn tuned(name: &str, schema: &str, tuning: Tuning) -> Cache {
    nothing_meanwhile(|_| true);
    let cache = Cache::new(Schema { tuning, ..Schema::parse(name, schema).unwrap() });
    cases::begin(&cache, schema, tuning);
    cache
}

type Action = (Meanwhile, Box<dyn FnOnce()>);

thread_local! {
    /// In how many steps a commit of this thread fails.
    static FAULT: Cell<Option<usize>> = const { Cell::new(None) };
    /// What other threads do meanwhile, one after the other.
    static MEANWHILE: RefCell<Vec<Action>> = const { RefCell::new(Vec::new()) };
    /// How many steps the commit of this thread has made.
    static PASSED: Cell<usize> = const { Cell::new(0) };
}

/// Has a commit of this thread fail in so many steps.
fn fail_in(steps: usize) {
    FAULT.set(Some(steps));
}

/// Whether that has happened; if not, it does not happen any more.
fn has_failed() -> bool {
    FAULT.take().is_none()
}

/// When something is done as if by another thread.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Meanwhile {
    /// While this thread makes its next commit, at one of its steps.
    Commit(usize),
    /// While the next result is computed for which commits do not wait.
    Apart,
}

/// Has something done then.
fn meanwhile(when: Meanwhile, action: impl FnOnce() + 'static) {
    MEANWHILE.with_borrow_mut(|all| all.push((when, Box::new(action))));
}

/// What was not done is not done any more.
fn nothing_meanwhile(when: impl Fn(Meanwhile) -> bool) {
    MEANWHILE.with_borrow_mut(|all| all.retain(|(of, _)| !when(*of)));
}

/// A step of a commit, which may fail in a test.
pub(crate) fn step(place: &str) {
    let left = FAULT.get();
    if left == Some(0) {
        FAULT.set(None);
        panic!("as the test wants it at \"{place}\"");
    }
    FAULT.set(left.map(|left| left - 1));
    let now = match place {
        // A binding is locked here.
        "binding" => return,
        "apart" => Meanwhile::Apart,
        _ => {
            let passed = if place == "history" { 0 } else { PASSED.get() };
            PASSED.set(passed + 1);
            Meanwhile::Commit(passed)
        }
    };
    let due = |all: &mut Vec<Action>| all.extract_if(.., |(when, _)| *when == now).collect();
    let due: Vec<Action> = MEANWHILE.with_borrow_mut(due);
    due.into_iter().for_each(|(_, action)| action());
}
