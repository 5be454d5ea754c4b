//! Send rules: how a change goes to a server.

use std::sync::Arc;

use super::Template;

/// How a change of one row goes to a server, and what its answer means.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct SendRule {
    pub(crate) name: Arc<str>,
    /// The table of the row that is changed.
    pub(crate) table: Arc<str>,
    pub(crate) method: Arc<str>,
    /// Its variables are fields of the row, and what the program gives.
    pub(crate) url: Template,
    pub(crate) body: SendBody,
    pub(crate) content_type: Option<Arc<str>>,
    /// The rule by which the server's answer is read.
    pub(crate) answer: Option<Arc<str>>,
    /// The rules whose answers are stale once the change has arrived; without it, those of all
    /// rules that write to its tables.
    pub(crate) makes_stale: Option<Vec<String>>,
    /// Whether a change that waits takes up a later one of the same row.
    pub(crate) merges: bool,
    /// By what the server knows which version of the row was changed.
    pub(crate) if_match: Option<IfMatch>,
    pub(crate) on_conflict: OnConflict,
    /// A field that the server says back, by which a row that it has named is known before the
    /// change is confirmed.
    pub(crate) reference: Option<Arc<str>>,
}

/// What the body of a request is.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum SendBody {
    Nothing,
    /// The changed fields, as a JSON Merge Patch (RFC 7396).
    Changes,
    /// The changed fields, as a JSON Patch (RFC 6902).
    Patch,
    /// The whole row.
    Row,
    /// A value in which `":name"` stands for a field, or for what the program gives.
    Template(serde_json::Value),
}

/// What `If-Match` says (RFC 9110, section 13.1.1).
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum IfMatch {
    /// The value of a field, as an entity tag.
    Field(Arc<str>),
    /// The entity tag of the answer that brought the row.
    EntityTag,
}

/// What becomes of a change that was made to a version that the server no longer has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum OnConflict {
    /// It is refused.
    #[default]
    Theirs,
    /// It is made once more, to theirs.
    Ours,
    /// It waits for the program to decide.
    Ask,
}
