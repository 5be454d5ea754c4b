//! SQL text into a syntax tree: SQLite's grammar of SELECT, with its precedences, and with the place
//! of everything that a message may be about.

mod expression;
pub(crate) mod mentioned;
mod parser;
mod token;
pub(crate) mod tree;

use parser::Parser;
use tree::Query;

/// Where in a statement something begins: its line and column, in characters, from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Location {
    pub(crate) line: usize,
    pub(crate) column: usize,
}

impl Location {
    pub(crate) const START: Self = Self { line: 1, column: 1 };
}

/// Why a statement is not taken, and where in its text.
#[derive(Debug)]
pub(crate) struct Refusal {
    pub(crate) at: Location,
    pub(crate) message: String,
    pub(crate) help: String,
    /// Whether a name in it is not known.
    pub(crate) unknown_name: bool,
}

impl Refusal {
    pub(crate) fn new(at: Location, message: impl Into<String>, help: impl Into<String>) -> Self {
        Self { at, message: message.into(), help: help.into(), unknown_name: false }
    }
}

/// Does something that descends by calls as deep as a statement may nest, with as much stack as
/// that takes, wherever it is called.
pub(crate) fn with_deep_stack<T>(work: impl FnOnce() -> T) -> T {
    // Measured with statements of the greatest depth; unoptimized calls take several times as much.
    const NEEDED: usize = if cfg!(debug_assertions) { 24 << 20 } else { 4 << 20 };
    stacker::maybe_grow(NEEDED, 2 * NEEDED, work)
}

/// A parsed SELECT statement.
pub(crate) struct Parsed {
    pub(crate) query: Query,
    /// The names of all its parameters, also of those in what is not used.
    pub(crate) params: Vec<String>,
}

/// Parses one SELECT statement.
pub(crate) fn parse(sql: &str) -> Result<Parsed, Refusal> {
    let mut parser = Parser::new(sql)?;
    let query = parser.statement()?;
    Ok(Parsed { query, params: parser.params() })
}

#[cfg(test)]
mod tests;
