//! Feed rules: what a server pushes, and what its events mean.

#[cfg(feature = "remote")]
use std::collections::BTreeSet;
use std::sync::Arc;

use super::{Pointer, Template};
#[cfg(feature = "remote")]
use super::{Schema, TableNo};

/// Changes that a server pushes.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct FeedRule {
    pub(crate) name: Arc<str>,
    pub(crate) url: Template,
    pub(crate) format: FeedFormat,
    /// The member of a message that says of which kind it is; without one, the event's name.
    pub(crate) kind: Option<Pointer>,
    /// The member of a message that says its position in the feed; without one, the event's id.
    pub(crate) position: Option<Pointer>,
    /// By what the server is told the position when it is asked to go on, if it can.
    pub(crate) resume: Resume,
    /// The member of a message that says for people what has happened.
    pub(crate) label: Option<Pointer>,
    /// What each kind of event means.
    pub(crate) events: Vec<(Arc<str>, EventRule)>,
    /// The rules whose answers may be wrong if events were missed; without it, all rules that write
    /// to tables of the feed.
    pub(crate) covers: Option<Vec<Arc<str>>>,
    /// How many commits its events are at most in a second.
    pub(crate) per_second: Option<u32>,
    /// After how many seconds without a byte the connection counts as lost.
    pub(crate) silence: Option<u32>,
    /// Variables whose values are not shown or stored.
    pub(crate) secret: Vec<String>,
}

/// How events are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum FeedFormat {
    /// Server-sent events, as HTML's living standard has them.
    Sse,
    /// One JSON value a line, in a response that does not end.
    Ndjson,
    /// One JSON value a text message of a WebSocket (RFC 6455).
    WebSocket,
}

/// By what a server is told from where a feed is to go on.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Resume {
    /// The header field `Last-Event-ID`.
    LastEventId,
    /// A variable of the URL.
    Variable(Arc<str>),
    /// It cannot be told: every connection may have missed something.
    Never,
}

/// What an event means.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum EventRule {
    /// A response of that rule, whose variables are members of the message.
    Response { rule: Arc<str>, variables: Vec<(Arc<str>, Pointer)> },
    /// A patch of a row: which row, and where in the message the patch is.
    Patch { table: Arc<str>, id: Pointer, changes: Pointer },
    /// The row of that id is deleted.
    Delete { table: Arc<str>, id: Pointer, version: Option<Pointer> },
    /// Events were missed.
    Gap,
}

#[cfg(feature = "remote")]
impl FeedRule {
    /// The tables that its events, and the answers that it covers, write to.
    pub(crate) fn tables(&self, schema: &Schema) -> BTreeSet<TableNo> {
        let by_rule = |rule: &Arc<str>| schema.rule(rule).ok().map(|rule| schema.written_by(rule));
        let of_events = self.events.iter().flat_map(|(_, event)| match event {
            EventRule::Response { rule, .. } => by_rule(rule).unwrap_or_default(),
            EventRule::Patch { table, .. } | EventRule::Delete { table, .. } => {
                schema.find_table(table).into_iter().collect()
            }
            EventRule::Gap => BTreeSet::new(),
        });
        let covered = self.covers.iter().flatten().filter_map(by_rule).flatten();
        of_events.chain(covered).collect()
    }

    /// The kind of event of a name.
    pub(crate) fn event(&self, name: &str) -> Option<u32> {
        let place = self.events.iter().position(|(known, _)| **known == *name)?;
        u32::try_from(place).ok()
    }
}
