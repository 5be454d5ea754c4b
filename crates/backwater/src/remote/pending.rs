//! Pending changes and base values as rows.

use super::answer::{Failure, FailureKind};
use super::sends::{MadeRequest, SendState};
use crate::Table;
use crate::change::Transaction;
use crate::error::Result;
use crate::schema::FieldNo;
use crate::table::{
    Cell, Edit, EditedFields, EditedRow, ONLY, PendingChange, Staged, StagedRow, State,
};
use crate::value::{Json, RowId, Timestamp};
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;

/// The table of changes.
pub(crate) const PENDING: &str = "backwater_pending";

/// A row of `backwater_base`: what a covered row is below pending changes.
#[derive(Debug, Clone, PartialEq, Table)]
#[table(name = "backwater_base")]
pub(crate) struct BaseNote {
    #[table(id)]
    pub(crate) table_name: String,
    /// Its id as JSON.
    #[table(id)]
    pub(crate) row_id: String,
    pub(crate) is_there: Option<bool>,
    /// Whether `fields` are all that persist: not of a row that is shown, where they are those that
    /// pending changes cover.
    pub(crate) is_whole: Option<bool>,
    pub(crate) fields: Option<Json>,
    /// The names of covered fields that are absent below, as a JSON array.
    pub(crate) absent: Option<Json>,
}

/// A row of `backwater_pending`: a change that has not arrived, or was refused.
#[derive(Debug, Clone, PartialEq, Table)]
#[table(name = "backwater_pending")]
pub(crate) struct PendingRow {
    #[table(id)]
    pub(crate) number: i64,
    pub(crate) remote: String,
    pub(crate) send: String,
    pub(crate) label: String,
    /// `waiting`, `under way`, `conflict`, `refused` or `kept`.
    pub(crate) state: String,
    pub(crate) made_at: Option<Timestamp>,
    /// The row that it is about: its table, and its id as text.
    pub(crate) table_name: Option<String>,
    pub(crate) row_id: Option<String>,
    /// The `Idempotency-Key` of its request.
    pub(crate) key: String,
    /// What the program gave for the request beside the row, as a JSON object.
    pub(crate) variables: Option<Json>,
    /// What it does to each row.
    pub(crate) changes: Json,
    /// The row that it is about as it was below when it was made, where the rule asks what becomes of
    /// conflicts.
    pub(crate) original: Option<Json>,
    /// The request, once it has been made for the first time.
    pub(crate) request: Option<Json>,
    /// For whom it is kept.
    pub(crate) kept_for: Option<String>,
    pub(crate) failure: Option<String>,
    pub(crate) message: Option<String>,
    pub(crate) status: Option<i64>,
    #[table(persist = false)]
    pub(crate) tries: Option<i64>,
    #[table(persist = false)]
    pub(crate) again_at: Option<Timestamp>,
}

impl PendingRow {
    /// Writes a new row. Field by field, as it is part of each change; what is not known is absent.
    pub(super) fn put(&self, tx: &mut Transaction) {
        let schema = tx.schema();
        let Some(table) = schema.find_table(PENDING) else { return };
        let definition = schema.table(table);
        let text = |text: &Option<String>| text.clone().map(|text| Staged::Text(text.into()));
        let json = |json: &Option<Json>| {
            json.as_ref().map(|json| Staged::Json(json.as_str().to_owned().into()))
        };
        let some = |of: &str| Some(Staged::Text(of.to_owned().into()));
        let fields = [
            ("remote", some(&self.remote)),
            ("send", some(&self.send)),
            ("label", some(&self.label)),
            ("state", some(&self.state)),
            ("made_at", self.made_at.map(Staged::Timestamp)),
            ("table_name", text(&self.table_name)),
            ("row_id", text(&self.row_id)),
            ("key", some(&self.key)),
            ("variables", json(&self.variables)),
            ("changes", Some(Staged::Json(self.changes.as_str().to_owned().into()))),
            ("original", json(&self.original)),
        ];
        let fields = fields
            .into_iter()
            .filter_map(|(name, staged)| Some((definition.field_no(name)?, staged?)));
        let fields: StagedRow<'_> = fields.collect();
        let slot = tx.refer(table, &[Cell::Int(self.number)]);
        tx.merge_row(table, slot, &fields);
    }

    /// Says where it stands.
    pub(super) fn note(&mut self, state: &SendState, tries: u32) {
        self.state = state.name().to_owned();
        self.tries = Some(tries.into());
        let failure = state.failure();
        self.failure = failure.map(|failure| failure.kind.name().to_owned());
        self.message = failure.map(|failure| failure.message.clone());
        self.status = failure.and_then(|failure| failure.status).map(i64::from);
        self.again_at = failure.and_then(|failure| failure.again_at);
    }

    /// How it failed the last time.
    pub(super) fn failure(&self) -> Failure {
        let kind = FailureKind::named(self.failure.as_deref()).unwrap_or(FailureKind::Status);
        let status = self.status.and_then(|status| status.try_into().ok());
        let message = self.message.clone().unwrap_or_default();
        Failure { status, ..Failure::new(kind, message) }
    }

    /// The tables of which it changes rows.
    pub(super) fn tables(&self) -> Vec<String> {
        let edits: Vec<StoredEdit<'_>> =
            serde_json::from_str(self.changes.as_str()).unwrap_or_default();
        edits.into_iter().map(|edit| edit.table).collect()
    }

    pub(super) fn made_request(&self) -> Option<MadeRequest> {
        let stored: StoredRequest = serde_json::from_str(self.request.as_ref()?.as_str()).ok()?;
        let StoredRequest { url, body, if_match } = stored;
        Some(MadeRequest { url, body, if_match })
    }

    pub(super) fn variables(&self) -> Vec<(String, String)> {
        let stored = self.variables.as_ref();
        let stored = stored.and_then(|json| serde_json::from_str(json.as_str()).ok());
        let members: std::collections::BTreeMap<String, String> = stored.unwrap_or_default();
        members.into_iter().collect()
    }
}

#[derive(Serialize, Deserialize)]
struct StoredRequest {
    url: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    body: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    if_match: Option<String>,
}

pub(super) fn stored_request(request: &MadeRequest) -> Option<Json> {
    let MadeRequest { url, body, if_match } = request.clone();
    let text = serde_json::to_string(&StoredRequest { url, body, if_match }).ok()?;
    Some(Json::from_minified(text))
}

/// What a program gave for a request.
pub(super) fn stored_variables(variables: &[(String, String)]) -> Option<Json> {
    let members: std::collections::BTreeMap<_, _> = variables.iter().cloned().collect();
    let text = serde_json::to_string(&members).ok().filter(|_| !members.is_empty());
    text.map(Json::from_minified)
}

/// What a change does to one row, as it is stored.
#[derive(Serialize, Deserialize)]
struct StoredEdit<'s> {
    table: String,
    id: Box<RawValue>,
    /// `insert`, `update` or `delete`.
    edit: String,
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    fields: Option<&'s RawValue>,
    /// Fields that are absent afterwards.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    absent: Vec<String>,
    /// Whether its id is one that the server will give.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    local: bool,
}

fn id_of(state: &State, row: &EditedRow) -> RowId {
    let id = state.id(row.table, row.slot).map(|id| id.to_id());
    id.unwrap_or(RowId::Parts([].into()))
}

/// What a change does, as it is stored: fields that do not persist are left out.
pub(crate) fn stored_changes(state: &State, change: &PendingChange) -> Json {
    let mut out = String::from("[");
    for row in &change.rows {
        let definition = state.schema.table(row.table);
        let persists =
            |(field, _): &&(_, _)| definition.persist && definition.field(*field).persist;
        let fields: Vec<_> = row.edit.fields().iter().filter(persists).cloned().collect();
        let absent = fields.iter().filter(|(_, staged)| matches!(staged, Staged::Absent));
        let absent = absent.map(|(field, _)| definition.field(*field).name.to_string()).collect();
        let edit = match row.edit {
            Edit::Insert(_) => "insert",
            Edit::Update(_) => "update",
            Edit::Delete => "delete",
        };
        let text = (edit != "delete").then(|| state.staged_json(row.table, &fields));
        let fields = text.as_deref().and_then(|text| serde_json::from_str(text).ok());
        let Ok(id) = RawValue::from_string(id_of(state, row).to_json().as_str().to_owned()) else {
            continue;
        };
        let table = definition.name.to_string();
        let (edit, local) = (edit.to_owned(), row.is_local);
        let stored = StoredEdit { table, id, edit, fields, absent, local };
        out.push_str(if out.len() > 1 { "," } else { "" });
        out.push_str(&serde_json::to_string(&stored).unwrap_or_default());
    }
    out.push(']');
    Json::from_minified(out)
}

/// Reads what a change does. Tables and fields that the schema no longer has are left out.
pub(crate) fn read_changes(
    tx: &mut Transaction,
    number: i64,
    stored: &Json,
) -> Result<PendingChange> {
    let schema = tx.schema();
    let edits: Vec<StoredEdit<'_>> = serde_json::from_str(stored.as_str()).unwrap_or_default();
    let mut rows = smallvec::SmallVec::new();
    for stored in edits {
        let Ok(table) = schema.table_no(&stored.table) else { continue };
        let definition = schema.table(table);
        let slot = match definition.is_one_row() {
            true => ONLY,
            false => {
                let id = RowId::from_json(&Json::parse(stored.id.get())?)?;
                let Some(id) = schema.fitted(table, id) else { continue };
                tx.state.refer_id(table, &id)?
            }
        };
        let mut fields = match stored.fields {
            Some(fields) => tx.staged_known(table, slot, fields.get()).into_iter().collect(),
            None => EditedFields::new(),
        };
        let absent = stored.absent.iter().filter_map(|name| definition.field_no(name));
        fields.extend(absent.map(|field| (field, Staged::Absent)));
        let edit = match stored.edit.as_str() {
            "insert" => Edit::Insert(fields),
            "update" => Edit::Update(fields),
            _ => Edit::Delete,
        };
        rows.push(EditedRow { table, slot, edit, is_local: stored.local });
    }
    Ok(PendingChange { number, rows })
}

impl BaseNote {
    pub(crate) fn into_row(self) -> Option<BaseRow> {
        let id = Json::parse(&self.row_id).ok();
        let id = id.and_then(|id| RowId::from_json(&id).ok()).unwrap_or(RowId::Parts([].into()));
        let fields = self.fields.filter(|_| self.is_there == Some(true));
        let absent = self.absent.and_then(|json| serde_json::from_str(json.as_str()).ok());
        let (is_whole, absent) = (self.is_whole != Some(false), absent.unwrap_or_default());
        Some(BaseRow { table: self.table_name, id, fields, is_whole, absent })
    }
}

impl Transaction {
    /// Takes up the changes that were pending when the cache was closed: `base` are the base values
    /// of what they cover.
    ///
    /// # Errors
    /// If a base row does not fit its table.
    pub(crate) fn take_up(&mut self, base: Vec<BaseRow>) -> Result<()> {
        let schema = self.schema();
        for row in base {
            // What another schema has no place for is left out.
            let Some(table) = schema.find_table(&row.table) else { continue };
            let definition = schema.table(table);
            let slot = match definition.is_one_row() {
                true => ONLY,
                false => {
                    let Some(id) = schema.fitted(table, row.id) else { continue };
                    self.state.refer_id(table, &id)?
                }
            };
            let is_row = self.state.table(table).is_row(slot);
            let Some(fields) = row.fields else {
                if is_row {
                    self.let_rows_go([(table, slot)]);
                }
                continue;
            };
            // Of a row that was let go because of its age a part says nothing.
            if !is_row && !row.is_whole {
                continue;
            }
            let mut staged = self.staged_known(table, slot, fields.as_str());
            let absent: Vec<FieldNo> = match row.is_whole {
                true => definition.field_numbers().collect(),
                false => {
                    let named = row.absent.iter();
                    named.filter_map(|name| definition.field_no(name)).collect()
                }
            };
            let is_said =
                |field: &FieldNo, staged: &StagedRow<'_>| staged.iter().any(|(of, _)| of == field);
            for field in absent {
                if !definition.id.contains(&field) && !is_said(&field, &staged) {
                    staged.push((field, Staged::Absent));
                }
            }
            self.merge_row(table, slot, &staged);
        }
        Ok(())
    }
}

/// A row as it is below pending changes.
pub(crate) struct BaseRow {
    pub(crate) table: String,
    pub(crate) id: RowId,
    /// Its fields, or those that are covered; none if it is not there.
    pub(crate) fields: Option<Json>,
    /// Whether these are all.
    pub(crate) is_whole: bool,
    /// Covered fields that are absent below.
    pub(crate) absent: Vec<String>,
}
