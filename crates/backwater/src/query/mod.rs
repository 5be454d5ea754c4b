//! Standing queries: SQL text → plan → operators, and the routes from a commit to those it touches.
//!
//! `syntax` reads a statement, `lower` resolves it to a `plan`, whose `operator`s compute its rows and
//! follow commits. A binding's `state` is what they keep; the `engine` routes commits to bindings, and
//! `result` is what readers hold.
//!
//! It knows tables and changes. It must not know what makes a commit, what is persisted, or what
//! watches: a commit's changes go in, outcomes and deltas come out.

mod check;
mod engine;
mod expr;
mod handle;
mod lower;
mod operator;
mod plan;
mod result;
mod state;
mod syntax;
mod work;

pub(crate) use check::compile;
pub(crate) use engine::{
    Apart, Bound, ComputedApart, Engine, Reached, ReachedList, Rebound, compute_apart,
    index_to_follow,
};
#[cfg(all(feature = "sqlite", feature = "unicode"))]
pub(crate) use expr::collation::compare_unicode;
#[cfg(feature = "sqlite")]
pub(crate) use expr::fold::contains;
pub(crate) use expr::scalar::Scalar;
pub(crate) use handle::KeepCurrent;
pub use handle::Query;
pub(crate) use handle::{AsOf, HandleNo, Published};
pub(crate) use plan::Plan;
#[cfg(all(test, feature = "sqlite", feature = "unicode"))]
pub(crate) use plan::Source;
pub use plan::explain::{Explanation, Operator};
pub(crate) use result::delta::apply_all;
pub use result::delta::{Delta, DeltaKind, DeltaRow, Step};
pub use result::missing::{Missing, MissingCell};
#[cfg(feature = "remote")]
pub(crate) use result::reads::{ReadScope, ReadScopes};
pub use result::{QueryResult, ResultRow, RowKey};
#[cfg(all(test, feature = "sqlite", feature = "unicode"))]
pub(crate) use state::node::Node;
pub use work::Stop;
pub(crate) use work::may_stop;

/// A binding's number: a statement with values for its parameters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct BindingNo(pub(crate) u64);

/// Marks, among the causes of what happens to a binding, a source instead of a change.
pub(crate) const DERIVED: u32 = 1 << 31;

/// What a commit did to a standing query.
///
/// ```
/// use backwater::{Cache, Outcome, Schema};
///
/// let cache = Cache::new(Schema::parse("s.toml", r#"
///     table.sailing = { id = "id", fields = { id = "int", note = "text", delay_min = "int" } }
/// "#)?);
/// let late = cache.query("SELECT id FROM sailing WHERE delay_min > 5", ())?;
/// let report = cache.commit("sailing announced", |tx| tx.insert("sailing", [("id", 310), ("delay_min", 7)]))?;
/// assert_eq!(report.outcome(&late), Outcome::Deferred); // it is not watched yet
/// let _watch = late.keep_current();
/// let report = cache.commit("sailing announced", |tx| tx.insert("sailing", [("id", 311), ("delay_min", 5)]))?;
/// assert_eq!(report.outcome(&late), Outcome::Same);
/// let report = cache.commit("note written", |tx| tx.update("sailing", 311, [("note", "calm sea")]))?;
/// assert_eq!(report.outcome(&late), Outcome::Untouched);
/// let report = cache.commit("delay reported", |tx| tx.update("sailing", 311, [("delay_min", 15)]))?;
/// assert_eq!(report.outcome(&late), Outcome::Maintained);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Outcome {
    /// Brought up to date by a delta.
    Maintained,
    /// Recomputed: very much was changed, or the first of many rows, which alone are kept for a
    /// LIMIT, ran out.
    Recomputed,
    /// Reached, but nothing in its result moved.
    Same,
    /// Its result cannot be computed any more; the next commit that reaches it tries again.
    Failed,
    /// Reached but not watched: it is marked stale and catches up on its next read.
    Deferred,
    /// Never reached.
    Untouched,
}

impl Outcome {
    /// The outcome as one word.
    ///
    /// ```
    /// assert_eq!(backwater::Outcome::Maintained.name(), "maintained");
    /// ```
    pub fn name(self) -> &'static str {
        match self {
            Outcome::Maintained => "maintained",
            Outcome::Recomputed => "recomputed",
            Outcome::Same => "same",
            Outcome::Failed => "failed",
            Outcome::Deferred => "deferred",
            Outcome::Untouched => "untouched",
        }
    }
}

impl std::fmt::Display for Outcome {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name())
    }
}
