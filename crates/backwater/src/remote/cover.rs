//! Which answers cover what a query reads, and what nothing can bring.
//!
//! It knows the schema's rules and the tables, and is told which answers are here. It asks for
//! nothing.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use super::key::AnswerKey;
use super::url;
use crate::query::{ReadScope, ReadScopes};
use crate::schema::{FieldNo, Format, Given, Rule, Schema, Scope, TableNo, Template};
use crate::table::State;
use crate::value::{RowId, Value};

/// How many rows are asked for by one request at most, of a rule that takes several ids.
const IDS_A_REQUEST: usize = 50;
/// How many requests are made for what one result reads at most.
pub(super) const MOST_REQUESTS: usize = 100;
/// How many scopes of a result are looked at.
pub(super) const MOST_SCOPES: usize = 10_000;

/// What is known of an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Presence {
    Here,
    /// The server has said that there is no such thing.
    Absent,
    /// It is here, but a row of it was deleted since.
    Incomplete,
    Unknown,
}

impl Presence {
    /// Whether it has to be asked for.
    pub(super) fn is_lacking(self) -> bool {
        matches!(self, Presence::Unknown | Presence::Incomplete)
    }
}

/// The answers that cover what a query reads.
#[derive(Default)]
pub(super) struct Cover {
    /// All of them, here or not, in the order in which they are to be asked for.
    pub(super) answers: Vec<Covered>,
    /// What no rule can bring.
    pub(super) impossible: Vec<String>,
    /// Whether the answers that are here, with the rows that are there, cover all of it.
    pub(super) is_whole: bool,
    /// How many requests would be too many.
    pub(super) too_many: usize,
}

/// An answer that covers something of what is read.
pub(super) struct Covered {
    pub(super) key: AnswerKey,
    pub(super) why: String,
    pub(super) presence: Presence,
}

/// Makes the key of a rule's answer for these values of its variables.
pub(super) type MakeKey<'c> = dyn Fn(&Rule, Vec<(String, String)>) -> AnswerKey + 'c;

/// What a program can do to make a query's result whole.
///
/// See [`fill_plan`](super::fill_plan) for an example.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct FillPlan {
    /// Whether the result is whole already: answers that are here cover all that it reads.
    pub is_whole: bool,
    /// The requests for what they do not cover.
    pub requests: Vec<PlannedRequest>,
    /// What is not asked for, and why: no rule brings it, or it is too much at once.
    pub impossible: Vec<String>,
}

/// A request that would be made.
///
/// See [`fill_plan`](super::fill_plan) for an example.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct PlannedRequest {
    /// The response rule.
    pub rule: String,
    /// The URL, relative to the remote's base.
    pub url: String,
    /// What of the result it is for.
    pub why: String,
}

impl fmt::Display for FillPlan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_whole {
            writeln!(f, "whole: answers cover all that it reads")?;
        }
        for PlannedRequest { rule, url, why } in &self.requests {
            writeln!(f, "GET {url}, by rule \"{rule}\": {why}")?;
        }
        self.impossible.iter().try_for_each(|what| writeln!(f, "not asked for: {what}"))
    }
}

/// How a rule covers a scope.
enum By {
    /// With these values of its variables.
    Answer(Vec<(String, String)>),
    /// As one of several ids in this variable.
    OneOf(String),
}

/// Finds the answers that cover scopes.
pub(super) struct Covering<'c> {
    pub(super) schema: &'c Schema,
    pub(super) state: &'c State,
    pub(super) key: &'c MakeKey<'c>,
    pub(super) presence: &'c dyn Fn(&AnswerKey) -> Presence,
    /// Whether a row was deleted after an answer came.
    pub(super) is_deleted: &'c dyn Fn(&AnswerKey, TableNo, &RowId) -> bool,
}

impl Covering<'_> {
    pub(super) fn cover(&self, read: &ReadScopes) -> Cover {
        let scopes = &read.scopes;
        let mut cover = Cover { is_whole: read.is_all, ..Cover::default() };
        if !read.is_all {
            let most = scopes.len();
            cover.impossible.push(format!("more than {most} scopes and rows are read"));
        }
        // Rows of a table that is asked for as a whole come along with it.
        let is_row = |scope: &&ReadScope| matches!(scope, ReadScope::Row(..));
        let mut several: BTreeMap<(usize, String), BTreeMap<String, &RowId>> = BTreeMap::new();
        let mut whole: BTreeSet<TableNo> = BTreeSet::new();
        for scope in scopes.iter().filter(|scope| !is_row(scope)) {
            let ReadScope::Rows(table, by) = scope else { continue };
            if self.is_own(*table) {
                continue;
            }
            let Some((rule, variables)) = self.for_rows(*table, by) else {
                cover.is_whole = false;
                cover.impossible.push(format!("{}, which no rule brings", self.words(scope)));
                continue;
            };
            if matches!(rule.complete, Some(Scope::Table)) {
                whole.insert(*table);
            }
            self.add(&mut cover, rule, variables, self.words(scope), &[]);
        }
        for scope in scopes.iter().filter(is_row) {
            let ReadScope::Row(table, id) = scope else { continue };
            let is_there = self
                .state
                .slot(*table, id)
                .ok()
                .flatten()
                .is_some_and(|slot| self.state.table(*table).is_row(slot));
            if is_there || whole.contains(table) || self.is_own(*table) {
                continue;
            }
            match self.for_row(*table, id) {
                Some((rule, By::Answer(variables))) => {
                    let rows = [(*table, id)];
                    self.add(&mut cover, rule, variables, self.words(scope), &rows);
                }
                Some((rule, By::OneOf(variable))) => {
                    let place = self.schema.rules().position(|known| known.name == rule.name);
                    let of = several.entry((place.unwrap_or(0), variable)).or_default();
                    of.insert(text_of(id), id);
                }
                None => {
                    cover.is_whole = false;
                    let words = self.words(scope);
                    cover.impossible.push(format!("{words}, which no rule brings"));
                }
            }
        }
        for ((place, variable), ids) in several {
            let Some(rule) = self.schema.rules().nth(place) else { continue };
            let table = &self.schema.table(rule.table).name;
            let ids: Vec<(String, &RowId)> = ids.into_iter().collect();
            for ids in ids.chunks(IDS_A_REQUEST) {
                let list: Vec<&str> = ids.iter().map(|(id, _)| id.as_str()).collect();
                let list = serde_json::to_string(&list).unwrap_or_default();
                let why = match ids {
                    [(one, _)] => format!("{table} {one} is not here"),
                    several => format!("{} rows of {table} are not here", several.len()),
                };
                let rows: Vec<(TableNo, &RowId)> =
                    ids.iter().map(|(_, id)| (rule.table, *id)).collect();
                self.add(&mut cover, rule, vec![(variable.clone(), list)], why, &rows);
            }
        }
        cover
    }

    /// Adds an answer; of those `rows` that are not there, it may have been that they were deleted
    /// after it came.
    fn add(
        &self,
        cover: &mut Cover,
        rule: &Rule,
        variables: Vec<(String, String)>,
        why: String,
        rows: &[(TableNo, &RowId)],
    ) {
        let key = (self.key)(rule, variables);
        let mut presence = (self.presence)(&key);
        let is_deleted = || rows.iter().any(|(table, id)| (self.is_deleted)(&key, *table, id));
        if presence == Presence::Here && is_deleted() {
            presence = Presence::Incomplete;
        }
        let is_lacking = presence.is_lacking();
        cover.is_whole &= !is_lacking;
        if let Some(known) = cover.answers.iter_mut().find(|known| known.key == key) {
            if is_lacking {
                known.presence = presence;
            }
            return;
        }
        let lacking = cover.answers.iter().filter(|known| known.presence.is_lacking()).count();
        match is_lacking && lacking >= MOST_REQUESTS {
            true => cover.too_many += 1,
            false => cover.answers.push(Covered { key, why, presence }),
        }
    }

    /// Whether a table is the library's, or one that no server knows.
    fn is_own(&self, table: TableNo) -> bool {
        self.schema.table(table).is_own()
    }

    /// A rule whose answer has all rows with these values: the narrowest, or one that is here.
    fn for_rows(
        &self,
        table: TableNo,
        by: &[(FieldNo, Value)],
    ) -> Option<(&Rule, Vec<(String, String)>)> {
        let given = |field: FieldNo| by.iter().find(|(known, _)| *known == field);
        let fitting = self.askable().filter_map(|(rule, template)| {
            let mut variables: Vec<(String, String)> = Vec::new();
            let mut width = 0;
            match (&rule.complete, &rule.list) {
                (Some(Scope::Table), _) if rule.table == table => {}
                (Some(Scope::Rows(fields)), _) if rule.table == table => {
                    for (field, asked) in fields {
                        let (_, value) = given(*field)?;
                        match asked {
                            Given::Value(constant) if constant == value => {}
                            Given::Value(_) => return None,
                            Given::Variable(name) => {
                                variables.push((name.to_string(), value.to_string()));
                            }
                        }
                    }
                    width = fields.len();
                }
                (_, Some(list)) if list.table == table => {
                    for (number, name) in list.key.iter().enumerate() {
                        match given(FieldNo(number as u32)) {
                            Some((_, Value::Text(text))) if text.is_empty() => {}
                            Some((_, value)) => {
                                variables.push((name.to_string(), value.to_string()));
                            }
                            None => return None,
                        }
                    }
                    width = list.key.len();
                }
                _ => return None,
            }
            let has = |name: &str| variables.iter().any(|(known, _)| known == name);
            let is_filled = template.in_path().all(has);
            // What else it says of its records narrows them.
            let narrows = rule.given.iter().any(|(field, given)| {
                rule.list.is_none()
                    && match &rule.complete {
                        Some(Scope::Rows(fields)) => fields.iter().all(|(known, _)| known != field),
                        _ => matches!(given, Given::Variable(_)),
                    }
            });
            (is_filled && !narrows).then_some((rule, variables, width))
        });
        let mut fitting: Vec<_> = fitting.collect();
        fitting.sort_by_key(|(rule, variables, width)| {
            let is_here = (self.presence)(&(self.key)(rule, variables.clone())) == Presence::Here;
            (!is_here, std::cmp::Reverse(*width))
        });
        fitting.into_iter().next().map(|(rule, variables, _)| (rule, variables))
    }

    /// A rule that brings one row by its id.
    fn for_row(&self, table: TableNo, id: &RowId) -> Option<(&Rule, By)> {
        let definition = self.schema.table(table);
        let parts: Vec<String> = match id {
            RowId::Parts(parts) => parts.iter().map(text_of).collect(),
            one => vec![text_of(one)],
        };
        let fields = || definition.id.iter().zip(&parts);
        let mut fallback = None;
        let mut several = None;
        for (rule, template) in self.askable().filter(|(rule, _)| rule.table == table) {
            if rule.keyed || rule.list.is_some() || rule.format == Format::Ndjson {
                continue;
            }
            if matches!(rule.complete, Some(Scope::Table)) {
                let key = (self.key)(rule, Vec::new());
                // It has come without this row: there is none.
                if (self.presence)(&key) == Presence::Here && template.in_path().next().is_none() {
                    return Some((rule, By::Answer(Vec::new())));
                }
                fallback = fallback.or(Some((rule, By::Answer(Vec::new()))));
                continue;
            }
            if rule.complete.is_some() {
                continue;
            }
            let said = |field: &FieldNo| {
                rule.given.iter().find_map(|(known, given)| match given {
                    Given::Variable(name) if known == field => Some(name.to_string()),
                    _ => None,
                })
            };
            // The id stands in the path's last part: the request is about this row.
            let named = |field: &FieldNo| {
                let name = definition.field(*field).name.to_string();
                (definition.id.len() == 1 && template.ends_in(&name)).then_some(name)
            };
            let variables: Option<Vec<(String, String)>> = fields()
                .map(|(field, part)| Some((said(field).or_else(|| named(field))?, part.clone())))
                .collect();
            if let Some(variables) = variables {
                let has = |name: &str| variables.iter().any(|(known, _)| known == name);
                if template.in_path().all(has) {
                    return Some((rule, By::Answer(variables)));
                }
            }
            if let ([field], Some(list)) = (&*definition.id, template.exploded())
                && template.in_path().next().is_none()
            {
                let id = &*definition.field(*field).name;
                if list == id || list.strip_suffix('s') == Some(id) {
                    several = Some((rule, By::OneOf(list.to_owned())));
                }
            }
        }
        several.or(fallback)
    }

    /// The rules that can be asked for.
    fn askable(&self) -> impl Iterator<Item = (&Rule, &Template)> {
        let asked = |rule: &&Rule| rule.method.eq_ignore_ascii_case("GET") && !rule.deletes;
        self.schema.rules().filter(asked).filter_map(|rule| Some((rule, rule.url.as_ref()?)))
    }

    /// What a scope is, in words.
    fn words(&self, scope: &ReadScope) -> String {
        match scope {
            ReadScope::Row(table, id) => {
                format!("{} {} is not here", self.schema.table(*table).name, text_of(id))
            }
            ReadScope::Rows(table, by) if by.is_empty() => {
                format!("all rows of {} are read", self.schema.table(*table).name)
            }
            ReadScope::Rows(table, by) => {
                let definition = self.schema.table(*table);
                let by = by
                    .iter()
                    .map(|(field, value)| format!("{} = {value}", definition.field(*field).name));
                let by = by.collect::<Vec<_>>().join(" and ");
                format!("rows of {} with {by} are read", definition.name)
            }
        }
    }
}

fn text_of(id: &RowId) -> String {
    match id {
        RowId::Text(text) => text.to_string(),
        other => other.to_string(),
    }
}

impl Cover {
    /// The requests for what is not covered yet, in words.
    pub(super) fn plan(&self, covering: &Covering<'_>, base: &str) -> FillPlan {
        let lacking = self.answers.iter().filter(|covered| covered.presence.is_lacking());
        let requests = lacking.map(|Covered { key, why, .. }| {
            let template = covering.schema.askable(key.rule()).ok().map(|(_, template)| template);
            let shown = AnswerKey::of_shown(key.rule(), &key.shown());
            let url = template
                .zip(shown)
                .and_then(|(template, shown)| url::expand(base, template, shown.variables()).ok());
            let url = url.unwrap_or_default();
            let url = url.strip_prefix(base.trim_end_matches('/')).unwrap_or(&url).to_owned();
            PlannedRequest { rule: key.rule().to_owned(), url, why: why.clone() }
        });
        let mut impossible = self.impossible.clone();
        if self.too_many > 0 {
            impossible.push(format!(
                "{} requests more, until some of the first {MOST_REQUESTS} have come",
                self.too_many
            ));
        }
        FillPlan { is_whole: self.is_whole, requests: requests.collect(), impossible }
    }
}
