//! How threads agree with each other: what is delivered next, whose turn it is.
//!
//! It knows nothing of what is delivered and done, and imports no other room:
//! `crates/backwater-orders` compiles it with loom's locks, and tries every order of steps.

mod again;
mod arrivals;
mod in_turn;
mod queue;
#[cfg(any(feature = "threads", loom))]
mod signal;

#[cfg(loom)]
use loom::{sync, thread};
#[cfg(not(loom))]
use std::{sync, thread};

pub(crate) use again::Again;
pub(crate) use arrivals::Arrivals;
pub(crate) use in_turn::{InTurn, Turn};
pub(crate) use queue::Queue;
#[cfg(any(feature = "threads", loom))]
pub(crate) use signal::{Signal, Woken};

/// Whether a panic of this thread has ended a call into the program, as it does in a browser: the
/// program goes on, but nothing that the call had begun is ever ended.
fn was_cut_off() -> bool {
    cfg!(panic = "abort") && std::thread::panicking()
}
