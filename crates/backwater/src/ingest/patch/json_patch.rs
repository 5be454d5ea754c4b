//! JSON Patch (RFC 6902): operations on places, in their order.

use super::{Members, document, not_there, parsed, wrong};
use crate::change::Transaction;
use crate::error::{Result, either, nearest};
use crate::schema::Pointer;
use crate::table::Row;

impl Transaction {
    /// Applies a JSON Patch (RFC 6902), all of its operations or none. Its pointers are
    /// `/table/id`, `/table/id/field`, and `/table/field` in a one-row table.
    ///
    /// An id of several parts is written as a JSON array. `/table/id/links/0` and `…/-` are entries
    /// of a to-many link. `remove` makes a field absent, and `replace` with null sets null.
    ///
    /// # Errors
    /// [`ErrorKind::Response`](crate::ErrorKind::Response) if the patch is not one, points at what
    /// is not there, or a test fails, with the operation's place in it; else as
    /// [`Transaction::update`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.sailing = { id = "id", fields = { id = "int", status = "text", delay_min = "int" } }
    /// # "#)?);
    /// cache.commit("sailings announced", |tx| tx.json_patch(r#"[
    ///     { "op": "add", "path": "/sailing/311", "value": { "status": "on time" } },
    ///     { "op": "add", "path": "/sailing/312", "value": { "status": "on time" } }
    /// ]"#))?;
    /// cache.commit("a live change", |tx| tx.json_patch(r#"[
    ///     { "op": "test", "path": "/sailing/311/status", "value": "on time" },
    ///     { "op": "replace", "path": "/sailing/311/status", "value": "delayed" },
    ///     { "op": "add", "path": "/sailing/311/delay_min", "value": 15 },
    ///     { "op": "remove", "path": "/sailing/312" }
    /// ]"#))?;
    /// let snapshot = cache.snapshot();
    /// assert_eq!(snapshot.get("sailing", 311)?.unwrap().get("delay_min")?, Some(Value::Int(15)));
    /// assert_eq!(snapshot.count("sailing")?, 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn json_patch(&mut self, patch: impl AsRef<[u8]>) -> Result<()> {
        let text = crate::ingest::utf8(patch.as_ref())?;
        let operations: Vec<Members> = parsed(text, "a JSON Patch is an array of operations")?;
        self.need_named(operations.iter().flat_map(|operation| {
            let paths = ["path", "from"].into_iter().filter_map(|name| operation.get(name));
            let paths = paths.filter_map(|raw| serde_json::from_str::<String>(raw.get()).ok());
            paths.filter_map(|path| Some(path.split('/').nth(1)?.to_owned()))
        }))?;
        self.all_or_nothing(|tx| {
            for (number, operation) in operations.iter().enumerate() {
                tx.operate(operation).map_err(|error| error.at(format!("/{number}")))?;
            }
            Ok(())
        })
    }

    /// Carries out one operation of a JSON Patch.
    fn operate(&mut self, operation: &Members) -> Result<()> {
        let text = |name: &str| -> Result<String> {
            let raw = operation.get(name);
            let raw = raw.ok_or_else(|| wrong(format!("the operation has no \"{name}\"")))?;
            parsed(raw.get(), &format!("\"{name}\" is a string"))
        };
        let pointer = |name: &str| Pointer::parse(&text(name)?).map_err(wrong);
        let value = || {
            let raw = operation.get("value").map(|raw| raw.get().to_owned());
            raw.ok_or_else(|| wrong("the operation has no \"value\""))
        };
        let (op, path) = (text("op")?, pointer("path")?);
        let done = match op.as_str() {
            "add" => self.put(&path, &value()?),
            "replace" => self.there(&path).and_then(|_| self.replace(&path, &value()?)),
            "remove" => self.take(&path).map(|_| ()),
            "copy" => self.there(&pointer("from")?).and_then(|value| self.put(&path, &value)),
            "move" => {
                let from = pointer("from")?;
                let (inside, of) = (path.parts(), from.parts());
                if inside.len() > of.len() && inside.starts_with(of) {
                    return Err(wrong("nothing can be moved into itself"));
                }
                self.take(&from).and_then(|value| self.put(&path, &value))
            }
            "test" => self.there(&path).and_then(|found| {
                let (found, wanted) = (document(&found)?, document(&value()?)?);
                if found.is_same(&wanted) {
                    return Ok(());
                }
                Err(wrong(format!("the test failed: found {found}, expected {wanted}")))
            }),
            other => {
                let known = ["add", "remove", "replace", "move", "copy", "test"];
                let message =
                    format!("there is no operation \"{other}\"; expected {}", either(&known));
                return Err(wrong(message).help(nearest(other, known)));
            }
        };
        done.map_err(|error| error.at(path))
    }

    /// Takes away what is at a place, which must be there; gives its JSON text.
    fn take(&mut self, path: &Pointer) -> Result<String> {
        let found = self.there(path)?;
        let schema = self.schema();
        let place = self.locate(&schema, path)?;
        let slot = self.row_at(&place)?;
        match place.field {
            None if place.id.is_none() => {
                return Err(wrong("the row of a one-row table is always there"));
            }
            None => self.delete_row(place.table, slot)?,
            Some(field) if place.rest.is_empty() => {
                self.make_absent(&schema, &place, slot, field)?
            }
            Some(field) => self
                .change_inside(&schema, &place, slot, field, |inside| inside.remove(place.rest))?,
        }
        Ok(found)
    }

    /// As [`Self::put`], but an element takes the place of another.
    fn replace(&mut self, path: &Pointer, raw: &str) -> Result<()> {
        let schema = self.schema();
        let place = self.locate(&schema, path)?;
        match place.field {
            Some(field) if !place.rest.is_empty() => {
                let (slot, value) = (self.row_at(&place)?, document(raw)?);
                self.change_inside(&schema, &place, slot, field, |inside| {
                    *inside.at(place.rest)? = value;
                    Some(())
                })
            }
            _ => self.put(path, raw),
        }
    }

    /// The JSON text of what is at a place, which must be there.
    fn there(&self, path: &Pointer) -> Result<String> {
        let schema = self.schema();
        let place = self.locate(&schema, path)?;
        let slot = self.row_at(&place)?;
        let row = Row { state: &self.state, table: place.table, slot };
        let Some(field) = place.field else { return Ok(row.nested(0).as_str().to_owned()) };
        let text = row.nested_field(field).ok_or_else(not_there)?;
        if place.rest.is_empty() {
            return Ok(text);
        }
        let mut inside = document(&text)?;
        inside.at(place.rest).map(|found| found.to_string()).ok_or_else(not_there)
    }
}
