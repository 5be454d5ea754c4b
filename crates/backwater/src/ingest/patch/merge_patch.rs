//! JSON Merge Patch (RFC 7396): an object of what is to change.

use serde_json::value::RawValue;

use super::{Members, PatchTarget, document, parsed, raw_text, wrong};
use crate::change::Transaction;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldKind, FieldNo, Schema, TableNo};
use crate::table::{ONLY, Row, Slot, field_no};
use crate::table::{Staged, StagedRow};
use crate::value::{Document, RowId};

impl Transaction {
    /// Applies a JSON Merge Patch (RFC 7396), all of it or nothing. Null makes a field absent and
    /// deletes a row; to set a field null, use [`Transaction::json_patch`].
    ///
    /// # Errors
    /// [`ErrorKind::Response`] if the patch is not one; else as [`Transaction::update`], with the
    /// JSON Pointer of what does not fit.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.sailing = { id = "id", fields = { id = "int", status = "text", delay_min = "int" } }
    /// # "#)?);
    /// cache.commit("live changes", |tx| tx.merge_patch(r#"{ "sailing": {
    ///     "311": { "status": "delayed", "delay_min": 15 },
    ///     "312": null
    /// } }"#))?;
    /// cache.commit("in time again", |tx| tx.merge_patch(r#"{ "sailing": { "311": { "delay_min": null } } }"#))?;
    /// assert_eq!(cache.snapshot().get("sailing", 311)?.unwrap().get("delay_min")?, None);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn merge_patch(&mut self, patch: impl AsRef<[u8]>) -> Result<()> {
        let text = crate::ingest::utf8(patch.as_ref())?;
        let expected = "a merge patch of a cache is an object of tables";
        let tables: Members = parsed(text, expected)?;
        self.need_named(tables.keys().cloned())?;
        self.all_or_nothing(|tx| {
            let schema = tx.schema();
            for (name, rows) in &tables {
                let table = schema.table_no(name).map_err(|error| error.at(format!("/{name}")))?;
                if schema.table(table).is_one_row() {
                    tx.merge_fields(table, None, rows)
                        .map_err(|error| error.at(format!("/{name}")))?;
                    continue;
                }
                let rows: Members = parsed(rows.get(), "an object of rows by their ids")
                    .map_err(|error| error.at(format!("/{name}")))?;
                for (id, fields) in &rows {
                    let merged = schema.id(name, id).and_then(|id| {
                        if fields.get() == "null" {
                            let slot = tx.slot_at(&PatchTarget {
                                table,
                                id: Some(id.clone()),
                                field: None,
                                rest: &[],
                            })?;
                            slot.map_or(Ok(()), |slot| tx.delete_row(table, slot))?;
                            tx.note_gone(table, id);
                            return Ok(());
                        }
                        tx.merge_fields(table, Some(id), fields)
                    });
                    merged.map_err(|error| {
                        let mut place = format!("/{name}");
                        let _ = crate::schema::write_part(&mut place, id);
                        error.at(place)
                    })?;
                }
            }
            Ok(())
        })
    }

    /// Merges the members of an object into a row, as a merge patch has it.
    fn merge_fields(&mut self, table: TableNo, id: Option<RowId>, raw: &RawValue) -> Result<()> {
        let schema = self.schema();
        let definition = schema.table(table);
        let expected = format!("a \"{}\" row is an object", definition.name);
        let mut members: Members = parsed(raw.get(), &expected)?;
        let slot = match &id {
            None => ONLY,
            Some(id) => self.state.refer_id(table, id)?,
        };
        let place = PatchTarget { table, id, field: None, rest: &[] };
        // The row is there from now on, with or without fields.
        self.merge_row(table, slot, &[]);
        let mut gone = Vec::new();
        for (name, value) in &mut members {
            let field = field_no(definition, name)?;
            if value.get() == "null" {
                gone.push(name.clone());
                self.make_absent(&schema, &place, slot, field).map_err(|error| error.at(name))?;
            } else if definition.field(field).kind == FieldKind::Json {
                let row = Row { state: &self.state, table, slot };
                let before = row.nested_field(field).map(|text| document(&text)).transpose()?;
                let merged = Document::merged(before, document(value.get())?);
                *value = raw_text(&merged.to_string())?;
            }
        }
        members.retain(|name, _| !gone.contains(name));
        self.put_members(&schema, table, slot, &members)
    }

    pub(super) fn make_absent(
        &mut self,
        schema: &Schema,
        place: &PatchTarget<'_>,
        slot: Slot,
        field: FieldNo,
    ) -> Result<()> {
        let definition = schema.table(place.table);
        let said = definition.field(field);
        if definition.id.contains(&field) {
            return Err(Error::new(ErrorKind::Row, "a row keeps its id"));
        }
        if let Some(link) = definition.link_typed_by(field) {
            let link = &definition.field(link).name;
            return Err(wrong(format!("this says at which table \"{link}\" points"))
                .help(format!("take \"{link}\" away, and this goes with it")));
        }
        if let Some(message) = Staged::Absent.misfit(said) {
            return Err(Error::new(ErrorKind::Type, message));
        }
        let type_cell = said.one_of().map(|one_of| (one_of.type_field, Staged::Absent));
        let fields: StagedRow<'_> =
            [(field, Staged::Absent)].into_iter().chain(type_cell).collect();
        self.merge_row(place.table, slot, &fields);
        Ok(())
    }
}
