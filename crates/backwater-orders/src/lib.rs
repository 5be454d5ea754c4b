//! How the library's threads agree with each other (`crates/backwater/src/sync/`), compiled with
//! loom's locks in the place of the real ones, so that every order of steps is tried.

#![cfg(test)]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

#[path = "../../backwater/src/sync/mod.rs"]
mod sync;

mod orders;
