//! Commits and outcomes as events, for programs that have a subscriber.

use tracing::{Level, debug, enabled, trace};

use super::Report;

/// Emits events for a commit: one for it, and one for each query that it reached.
pub(crate) fn emit(report: &Report) {
    if !enabled!(Level::DEBUG) {
        return;
    }
    debug!(
        commit = report.number(),
        label = report.label(),
        rows = report.0.changes.rows.len(),
        queries = report.reached().count(),
        took = report.took().map(tracing::field::debug),
        "commit"
    );
    if !enabled!(Level::TRACE) {
        return;
    }
    for reached in report.reached() {
        trace!(
            commit = report.number(),
            query = reached.name(),
            outcome = reached.outcome().name(),
            took = reached.took().map(tracing::field::debug),
            "{}",
            reached.why()
        );
    }
}
