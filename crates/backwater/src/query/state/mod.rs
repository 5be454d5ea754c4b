//! What a binding keeps between two commits, and how that follows them.
//!
//! It knows plans, operators and results. It must not know which bindings a commit reaches.

pub(in crate::query) mod backlog;
pub(in crate::query) mod binding;
pub(in crate::query) mod node;
pub(in crate::query) mod rebind;
