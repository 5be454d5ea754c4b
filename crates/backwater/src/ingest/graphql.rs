//! GraphQL responses: nested JSON under `data`, and beside it what the server failed to resolve.

use serde_json::Value as Tree;

use super::json::Next;
use super::nested::{Read, Reader, misfit};
use crate::change::Skipped;
use crate::schema::write_part;

impl Reader<'_, '_> {
    /// Reads a response. A null on the path of an error is no null: the server failed to resolve
    /// what is there.
    pub(super) fn graphql(&mut self) -> Read<()> {
        let start = self.json.at();
        let (mut errors, mut data) = (Vec::new(), None);
        if self.json.peek()? == Next::Object {
            self.json.open();
            let mut first = true;
            while self.json.member(first)? {
                first = false;
                let name = self.json.name()?;
                self.json.peek()?;
                let (at, raw) = (self.json.at(), self.json.skip()?);
                match &*name {
                    "errors" => {
                        let tree = serde_json::from_str(raw).unwrap_or_default();
                        errors = if let Tree::Array(errors) = tree { errors } else { Vec::new() };
                    }
                    "data" => data = Some(at),
                    _ => {}
                }
            }
        }
        for error in &errors {
            let message = error.get("message").and_then(Tree::as_str).unwrap_or("an error");
            let Some(data) = data else {
                return misfit(&format!("the server's error {message:?}"), "an answer");
            };
            let path = path_of(error);
            let mut pointer = String::from("/data");
            for part in &path {
                let _ = write_part(&mut pointer, part);
            }
            self.json.go(data);
            if let Some(at) = self.json.null_on(&path)? {
                self.unresolved.insert(at);
            }
            let problem = format!("the server could not tell: {message}");
            self.outcome.errors.push(Skipped { pointer, problem });
        }
        self.json.go(start);
        self.document()
    }
}

/// Where in the data an error is about; one without a path is about the whole answer.
pub(crate) fn path_of(error: &Tree) -> Vec<String> {
    let path = error.get("path").and_then(Tree::as_array).map_or(&[][..], Vec::as_slice);
    let parts =
        path.iter().map(|part| part.as_str().map_or_else(|| part.to_string(), str::to_owned));
    parts.collect()
}
