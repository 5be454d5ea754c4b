//! Reading responses into transactions: one reader a format.
//!
//! A reader knows its format, the schema's rules and the transaction that it writes through. It
//! must not know queries or storage, and it does no I/O: the caller brings the bytes.

mod building;
mod json;
mod nested;
mod place;
mod repeats;
mod values;

use crate::change::{Ingested, Transaction};
use crate::error::{Error, ErrorKind, Result};

impl Transaction {
    /// Reads a response by a rule of the schema. It merges field by field: a field that is there
    /// overwrites, an explicit null sets null, a field that is not there stays as it was.
    ///
    /// A response is taken whole or not at all; after an error the transaction is as it was before
    /// the call.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such rule; [`ErrorKind::Response`] if the response
    /// is not JSON in UTF-8 or does not fit, with the JSON Pointer (RFC 6901) of what does not.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.sailing = { id = "id", fields = { id = "int", departs_at = "timestamp" } }
    /// #     response.departures = { records = "/sailings", table = "sailing" }
    /// # "#)?);
    /// let error = cache.commit("departures loaded", |tx| {
    ///     tx.ingest("departures", r#"{ "sailings": [{ "id": 311, "departs_at": "soon" }] }"#)
    /// }).unwrap_err();
    /// assert!(error.to_string().starts_with("/sailings/0/departs_at: found string \"soon\", expected a time"));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn ingest(&mut self, rule: &str, response: impl AsRef<[u8]>) -> Result<Ingested> {
        let bytes = response.as_ref();
        let schema = self.schema();
        let rule = schema.rule(rule)?;
        let text = utf8(bytes).map_err(|error| in_force(error, &rule.name))?;
        let saved = self.state.clone();
        let read = nested::read(self, &saved, &schema, rule, text);
        match read {
            Ok(tables) => {
                let brought = Ingested { rule: rule.name.clone(), bytes: bytes.len(), tables };
                self.ingested.push(brought.clone());
                Ok(brought)
            }
            Err(error) => {
                self.state = saved;
                Err(in_force(error, &rule.name))
            }
        }
    }
}

fn in_force(error: Error, rule: &str) -> Error {
    error.help(format!("read by rule \"{rule}\""))
}

/// JSON text is UTF-8; a byte order mark in front of it may be ignored (RFC 8259, section 8.1).
fn utf8(bytes: &[u8]) -> Result<&str> {
    let text = std::str::from_utf8(bytes).map_err(|error| {
        let at = error.valid_up_to();
        Error::new(ErrorKind::Response, format!("byte {at} is not UTF-8, which JSON has to be"))
            .source_error(error)
    })?;
    Ok(text.strip_prefix('\u{feff}').unwrap_or(text))
}
