//! What a rule does around the reading of a response: values that the request gives, lists, deleted
//! rows.

use std::sync::Arc;

use rustc_hash::FxHashSet;

use super::nested::Outcome;
use crate::change::{Ingested, IngestedTable, Later, Transaction};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{
    FieldDef, FieldKind, FieldNo, Given, IdType, ListRule, NextPage, Rule, Schema, Scope, Variables,
};
use crate::table::Staged;
use crate::table::{Cell, IndexKey, ONLY, Slot};
use crate::value::{Json, RowId, Value};

/// What a request says beside its response.
pub(super) struct RequestContext<'s> {
    schema: &'s Schema,
    pub(super) given: Vec<(FieldNo, Staged<'static>)>,
    /// The values of the fields by which the response is complete.
    scope: Vec<Staged<'static>>,
    /// The list's key, and behind it the part.
    list: Vec<Staged<'static>>,
    pub(super) is_unstored: bool,
}

impl<'s> RequestContext<'s> {
    pub(super) fn new(
        tx: &mut Transaction,
        schema: &'s Schema,
        rule: &Rule,
        variables: &Variables,
        (part, is_unstored): (Option<i64>, bool),
    ) -> Result<Self> {
        let table = schema.table(rule.table);
        let numbers_parts = rule.asking.next.as_ref().is_some_and(NextPage::numbers_parts);
        let mut staged = |field: &FieldDef, given: &Given| match given {
            Given::Value(value) => stage(tx, schema, field, value).map_err(|error| {
                error.at(format!("rule \"{}\", field \"{}\"", rule.name, field.name))
            }),
            Given::Variable(name) => match variables.iter().find(|(known, _)| *known == **name) {
                Some((_, text)) => {
                    let value = value_of(schema, field, text);
                    stage(tx, schema, field, &value).map_err(|error| {
                        error.at(format!("rule \"{}\", variable \"{name}\"", rule.name))
                    })
                }
                None => Err(Error::new(
                    ErrorKind::Parameter,
                    format!("rule \"{}\" needs the request's variable \"{name}\"", rule.name),
                )
                .help("give it, or the request's URL")),
            },
        };
        let mut given = Vec::new();
        for (field, value) in &rule.given {
            given.push((*field, staged(table.field(*field), value)?));
        }
        let mut scope = Vec::new();
        if let Some(Scope::Rows(rows)) = &rule.complete {
            for (field, value) in rows {
                scope.push(staged(table.field(*field), value)?);
            }
        }
        let mut list = Vec::new();
        if let Some(rule) = &rule.list {
            let definition = schema.table(rule.table);
            // The name of a part that is numbered says nothing of its place.
            let named = rule.part.as_ref().filter(|_| !numbers_parts);
            let names = rule.key.iter().map(Some).chain([named]);
            for (field, name) in definition.fields.iter().zip(names) {
                let said = name.is_some_and(|name| variables.iter().any(|(v, _)| **v == **name));
                list.push(match (name.filter(|_| said), field.kind) {
                    (Some(name), _) => staged(field, &Given::Variable(name.clone()))?,
                    // What the request does not say is a list, or a part, of its own.
                    (None, FieldKind::Text) => Staged::Text(String::new().into()),
                    (None, FieldKind::Int) if numbers_parts && list.len() == rule.key.len() => {
                        Staged::Int(part.unwrap_or(0))
                    }
                    (None, FieldKind::Int) => Staged::Int(0),
                    (None, _) => {
                        let name = name.cloned().unwrap_or_else(|| field.name.clone());
                        staged(field, &Given::Variable(name))?
                    }
                });
            }
        }
        Ok(Self { schema, given, scope, list, is_unstored })
    }

    /// Whether it may have made places for rows that are not there, which links in it point at.
    pub(super) fn refers(&self) -> bool {
        let given = self.given.iter().map(|(_, staged)| staged);
        let mut all = given.chain(&self.scope).chain(&self.list);
        all.any(|staged| matches!(staged, Staged::Link(_) | Staged::OneOf(..)))
    }

    /// Deletes the row that the request is about.
    pub(super) fn delete(
        self,
        tx: &mut Transaction,
        rule: &Rule,
        bytes: usize,
    ) -> Result<Ingested> {
        let definition = self.schema.table(rule.table);
        let part = |id: &FieldNo| self.given.iter().find(|(field, _)| field == id);
        let cells = |key: &[FieldNo]| -> Option<IndexKey<'_>> {
            key.iter().map(|field| part(field).map(|(_, staged)| staged.cell())).collect()
        };
        let key = cells(&definition.id).filter(|key| !key.is_empty());
        let by_key = || {
            let key = definition.unique.iter().find_map(|key| Some((key, cells(key)?)));
            key.map(|(key, cells)| tx.state.row_by_key(rule.table, key, &cells))
        };
        let slot = match &key {
            Some(key) => Some(tx.state.table(rule.table).slot(key)),
            None => by_key(),
        };
        let Some(slot) = slot else {
            let message = format!("rule \"{}\" does not say which row is deleted", rule.name);
            return Err(Error::new(ErrorKind::Parameter, message)
                .help("give the id from the request: fields = { id = \":id\" }"));
        };
        let gone = match (&key, slot) {
            (Some(key), _) => tx.state.id_of_key(rule.table, key),
            (None, slot) => {
                slot.and_then(|slot| tx.state.id(rule.table, slot)).map(|id| id.to_id())
            }
        };
        let slot = slot.filter(|slot| tx.state.table(rule.table).is_row(*slot));
        let mut table = IngestedTable::of(&definition.name);
        if let Some(slot) = slot {
            tx.delete_row(rule.table, slot)?;
            table.deleted = 1;
        }
        if let Some(id) = gone {
            tx.note_gone(rule.table, id);
        }
        let (rule, tables) = (rule.name.clone(), [table].into());
        Ok(Ingested {
            rule,
            bytes,
            records: 0,
            tables,
            skipped: Vec::new(),
            kept: 0,
            unplaced: Arc::default(),
            is_news: false,
        })
    }

    /// Ends an ingest: gives what became of each table's objects, and how many values were kept.
    pub(super) fn finish(
        self,
        tx: &mut Transaction,
        mut outcome: Outcome,
        later: Option<&Later>,
        rule: &Rule,
    ) -> Result<(Arc<[IngestedTable]>, usize)> {
        if let Some(list) = rule.list.as_ref().filter(|_| outcome.whole) {
            self.write_list(tx, list, &outcome.records, rule);
        }
        if let Some(scope) = &rule.complete {
            self.delete_missing(tx, scope, rule, &mut outcome, later)?;
        }
        let tally = outcome.tally.finish();
        let has_deleted = tally.iter().any(|counts| counts.deleted > 0);
        let tables = tally.iter().map(|counts| {
            let number = counts.table;
            // A row that was met once is what that object made of it, unless it was deleted with
            // another one, or has lost a key; one that was met again may have changed back.
            let definition = self.schema.table(number);
            let is_alone = !has_deleted && !definition.checks.links && definition.unique.is_empty();
            let is_known = |slot: &Slot| is_alone && !counts.twice.contains(slot);
            let is_updated = |slot: &Slot| tx.is_updated_since_saved(number, *slot);
            let updated = match counts.twice.is_empty() && is_alone {
                true => counts.changed.len(),
                false => {
                    let changed = counts.changed.slots();
                    changed.filter(|slot| is_known(slot) || is_updated(slot)).count()
                }
            };
            IngestedTable {
                objects: counts.objects,
                rows: counts.rows,
                inserted: counts.inserted,
                updated,
                deleted: counts.deleted,
                ..IngestedTable::of(&self.schema.table(number).name)
            }
        });
        Ok((tables.collect(), outcome.kept))
    }

    /// Takes the part out of its list.
    #[cfg(feature = "remote")]
    pub(super) fn drop_part(&self, tx: &mut Transaction, rule: &Rule) {
        let Some(list) = &rule.list else { return };
        let cells: IndexKey<'_> = self.list.iter().map(Staged::cell).collect();
        for entry in tx.state.table(list.table).indexed_rows(&list.part_fields(), &cells) {
            tx.remove(list.table, entry);
        }
    }

    /// Puts the records into the part of their list, in their order.
    fn write_list(
        &self,
        tx: &mut Transaction,
        list: &ListRule,
        records: &[Option<Slot>],
        rule: &Rule,
    ) {
        let cells: IndexKey<'_> = self.list.iter().map(Staged::cell).collect();
        let old = tx.state.table(list.table).indexed_rows(&list.part_fields(), &cells);
        let (key, part) = (&cells[..list.key.len()], &self.list[list.key.len()]);
        let mut entries = FxHashSet::default();
        for (position, target) in records.iter().enumerate() {
            let is_row = |slot: &Slot| tx.state.table(rule.table).is_row(*slot);
            let Some(target) = target.filter(is_row) else { continue };
            let mut key = IndexKey::from_slice(key);
            key.push(Cell::Link(target));
            let entry = tx.refer(list.table, &key);
            // A repeated record keeps its first place.
            if entries.insert(entry) {
                let position = (list.position_field(), Staged::Int(position as i64));
                let fields = [(list.part_field(), part.clone()), position];
                tx.merge_row(list.table, entry, &fields);
            }
        }
        for entry in old.into_iter().filter(|entry| !entries.contains(entry)) {
            tx.remove(list.table, entry);
        }
        if !self.is_unstored && tx.has_unstored(list.table) {
            tx.let_be_stored(list.table, entries.into_iter());
        }
    }

    /// Deletes the rows of a scope that a response does not have.
    fn delete_missing(
        &self,
        tx: &mut Transaction,
        scope: &Scope,
        rule: &Rule,
        outcome: &mut Outcome,
        later: Option<&Later>,
    ) -> Result<()> {
        // A record without an id might be any of these rows.
        if !outcome.whole || outcome.records.iter().any(Option::is_none) {
            return Ok(());
        }
        let counts = outcome.tally.of(rule.table);
        for slot in outcome.records.iter().flatten() {
            counts.seen.insert(*slot);
        }
        let table = tx.state.table(rule.table);
        let rows: Vec<Slot> = match scope.fields() {
            None => table.iter().filter(|slot| *slot != ONLY || !table.is_one_row()).collect(),
            Some(fields) => {
                let key: IndexKey<'_> = self.scope.iter().map(Staged::cell).collect();
                table.indexed_rows(&fields, &key)
            }
        };
        let seen: FxHashSet<Slot> = counts.seen.slots().collect();
        for slot in rows.into_iter().filter(|slot| !seen.contains(slot)) {
            // Of one that is covered, the remote may have the change already.
            let newer = tx.is_covered(rule.table, slot)
                || later.is_some_and(|later| later.has_changed(&tx.state, rule.table, slot));
            outcome.kept += usize::from(newer);
            // A row may have been deleted with another one that it pointed at.
            if !newer && tx.state.table(rule.table).is_row(slot) {
                tx.delete_row(rule.table, slot)?;
                outcome.tally.of(rule.table).deleted += 1;
            }
        }
        Ok(())
    }
}

fn stage(
    tx: &mut Transaction,
    schema: &Schema,
    field: &FieldDef,
    value: &Value,
) -> Result<Staged<'static>> {
    let staged = tx.stage(schema, field, value)?.into_owned();
    match staged.misfit(field) {
        Some(message) => Err(Error::new(ErrorKind::Parameter, message)),
        None => Ok(staged),
    }
}

/// The value that a variable's text is in a field.
fn value_of(schema: &Schema, field: &FieldDef, text: &str) -> Value {
    let int = || text.parse().ok().map(Value::Int);
    let value = match (field.kind, schema.linked_id_type(field)) {
        (FieldKind::Int, _) | (_, Some(IdType::Int)) => int(),
        (FieldKind::Float, _) => text.parse().ok().map(Value::Float),
        (FieldKind::Bool, _) => text.parse().ok().map(Value::Bool),
        (FieldKind::Json, _) | (_, Some(IdType::Parts)) => Json::parse(text).ok().map(Value::Json),
        _ => None,
    };
    value.unwrap_or_else(|| Value::from(RowId::from(text)))
}
