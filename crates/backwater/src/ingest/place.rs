//! Where a reader is in a response, given as a JSON Pointer when something is wrong there.

use std::borrow::Cow;
use std::fmt::Write;

use super::json::JsonReader;
use crate::schema::{FieldNo, Schema, TableNo, write_part};

/// One step down into a response.
pub(super) enum PointerStep<'de> {
    Field(TableNo, FieldNo),
    Name(Cow<'de, str>),
    Index(usize),
    /// A line, of a response that has a value a line.
    Line(usize),
    /// No step at all.
    Whole,
}

impl<'de> PointerStep<'de> {
    /// The step into a member whose name was spelled so, quotes and colon included.
    pub(super) fn spelled(spelled: &'de str) -> Self {
        PointerStep::Name(JsonReader::new(spelled).name().unwrap_or(Cow::Borrowed(spelled)))
    }

    /// The member's name.
    pub(super) fn name(&self) -> &str {
        match self {
            PointerStep::Name(name) => name,
            _ => "",
        }
    }
}

/// The steps as a JSON Pointer (RFC 6901).
pub(super) fn pointer(steps: &[PointerStep<'_>], schema: &Schema) -> String {
    let mut text = String::new();
    for step in steps {
        let written = match step {
            PointerStep::Field(table, field) => {
                write!(text, "{}", schema.table(*table).field(*field).from)
            }
            PointerStep::Name(name) => write_part(&mut text, name),
            PointerStep::Index(index) => write!(text, "/{index}"),
            PointerStep::Line(line) => write!(text, "line {}: ", line + 1),
            PointerStep::Whole => Ok(()),
        };
        debug_assert!(written.is_ok(), "a string takes what is written to it");
    }
    text
}
