//! What is said of a proposal in the end: what became of the samples, what is left as json or has no
//! place, and what a person should look at first.

use std::fmt::Write;

use super::columns::{Column, ColumnKind, ProposedTable};
use super::entities::{Entities, Entity};
use super::identity::Identity;
use super::rules::ProposedRule;
use super::text::counted;
use super::words::changes_with_rows;
use crate::change::Totals;

/// This many fields are named.
const NAMED: usize = 4;
/// This many questions are asked.
const QUESTIONS: usize = 3;

/// What an account is given of.
pub(super) struct Accounted<'a> {
    pub(super) entities: &'a Entities,
    pub(super) tables: &'a [ProposedTable],
    pub(super) rules: &'a [ProposedRule],
    /// Which tables some rule leads to.
    pub(super) used: &'a [usize],
    pub(super) left_out: &'a [String],
    /// What became of the samples when they were read by the proposal.
    pub(super) totals: &'a Totals,
    /// How many rows that made.
    pub(super) rows: usize,
}

impl Accounted<'_> {
    pub(super) fn text(&self) -> String {
        let (tables, rules) = (self.used.len(), self.rules.len());
        let made = format!(", {} and {}", counted(tables, "table"), counted(rules, "rule"));
        self.text_of(&made, &[])
    }

    /// The account of an update; `unseen` are fields that the samples do not have.
    pub(super) fn of_update(&self, unseen: &[String]) -> String {
        self.text_of("", unseen)
    }

    fn text_of(&self, made: &str, unseen: &[String]) -> String {
        let Totals { responses, objects, .. } = self.totals;
        let mut out = format!(
            "{}{made}: {} became {}.\n",
            counted(*responses, "response"),
            counted(*objects, "object"),
            counted(self.rows, "row"),
        );
        let mut line = |text: String| {
            out.push_str(&text);
            out.push('\n');
        };
        if let Some(unplaced) = self.totals.unplaced_text() {
            line(format!("{unplaced}."));
        }
        match self.totals.skipped {
            0 => {}
            number => line(format!("Left out: {}, see `on_error`.", counted(number, "record"))),
        }
        let json = self.json();
        if !json.is_empty() {
            line(format!("Left as json: {}.", some_of(&json)));
        }
        if !unseen.is_empty() {
            line(format!("In no response: {}.", some_of(unseen)));
        }
        self.left_out.iter().for_each(|why| line(format!("Not understood: {why}.")));
        let questions = self.questions();
        if !questions.is_empty() {
            line("Look at this first:".to_owned());
        }
        for (number, question) in questions.iter().take(QUESTIONS).enumerate() {
            line(format!("  {}. {question}", number + 1));
        }
        out
    }

    /// The fields that are json because they could be nothing better.
    fn json(&self) -> Vec<String> {
        let of_tables = self.used.iter().flat_map(|number| {
            let name = &self.entities.list[*number].name;
            self.tables[*number].columns.iter().map(move |column| (name, column))
        });
        let of_pages = self.rules.iter().filter_map(|rule| rule.page.as_ref());
        let of_pages =
            of_pages.flat_map(|(name, columns)| columns.iter().map(move |it| (name, it)));
        let is_json = |column: &Column| {
            !column.declared && matches!(column.kind, ColumnKind::Plain("json", _))
        };
        let all = of_tables.chain(of_pages).filter(|(_, column)| is_json(column));
        let named = all.map(|(table, column)| {
            let why = column.note.split_once(": ").map_or("", |(_, why)| why);
            let mut text = format!("{table}.{}", column.name);
            if !why.is_empty() {
                let _ = write!(text, " ({why})");
            }
            text
        });
        named.collect()
    }

    /// What the samples do not say for sure, the most important first.
    fn questions(&self) -> Vec<String> {
        let used = || self.used.iter().map(|n| (&self.entities.list[*n], &self.tables[*n]));
        let new = || used().filter(|(entity, _)| entity.declared.is_none());
        let ids = new().filter_map(|(entity, table)| id_question(entity, table));
        let complete = self.rules.iter().filter_map(|rule| {
            let found = rule.records.as_ref().filter(|found| found.many)?;
            let is_all = rule.list.is_none() && rule.given.is_empty() && rule.url.is_some();
            let url = rule.url.as_deref().filter(|url| is_all && !url.contains('{'))?;
            let table = &self.entities.list[found.table].name;
            Some(format!(
                "Does {url} always give every {table}? Then `complete = true` deletes those that it no longer gives."
            ))
        });
        let versions = new().filter_map(|(entity, table)| {
            let is_it = |column: &&Column| {
                let orders =
                    matches!(column.kind, ColumnKind::Plain("timestamp" | "int", _) | ColumnKind::Counted(_));
                column.always && orders && changes_with_rows(&column.name)
            };
            let column = table.columns.iter().find(is_it)?;
            Some(format!(
                "Does {0}.{1} grow with every change? Then `version = \"{1}\"` keeps older answers from winning.",
                entity.name, column.name
            ))
        });
        let given = self.rules.iter().flat_map(|rule| {
            let table = rule.records.as_ref().map(|found| &self.entities.list[found.table].name);
            table
                .into_iter()
                .flat_map(|table| rule.given.iter().map(move |(field, _)| (table, field)))
        });
        let deletes = given.filter_map(|(table, field)| {
            let (_, own) = used().find(|(entity, _)| entity.name == *table)?;
            let column = own.columns.iter().find(|column| column.name == *field)?;
            matches!(column.kind, ColumnKind::Link(_)).then(|| {
                format!(
                    "Does a {table} go when its {field} is deleted? Then `on_delete = \"cascade\"` at {table}.{field}."
                )
            })
        });
        let mut all: Vec<String> = Vec::new();
        // One of each kind goes before two of one.
        let mut kinds: [Box<dyn Iterator<Item = String> + '_>; 4] =
            [Box::new(ids), Box::new(versions), Box::new(complete), Box::new(deletes)];
        loop {
            let before = all.len();
            for question in kinds.iter_mut().filter_map(Iterator::next) {
                if !all.contains(&question) {
                    all.push(question);
                }
            }
            if all.len() == before || all.len() >= QUESTIONS {
                return all;
            }
        }
    }
}

/// The first of some names.
fn some_of(names: &[String]) -> String {
    let more = match names.len().saturating_sub(NAMED) {
        0 => String::new(),
        more => format!(", and {more} more"),
    };
    names.iter().take(NAMED).cloned().collect::<Vec<_>>().join(", ") + &more
}

/// Whether what was taken for an id is one, where that is not sure by its name.
fn id_question(entity: &Entity, table: &ProposedTable) -> Option<String> {
    let by = table.id.join(" and ");
    let is_unsure = match &entity.identity {
        Identity::Own(name) => !super::words::is_surely_an_id(name),
        Identity::Inside(..) | Identity::InRequest(Some(_)) | Identity::InParent(..) => true,
        Identity::InRequest(None) | Identity::Key | Identity::Declared(_) => false,
    };
    is_unsure.then(|| format!("Is a {} identified by {by}? Seen: {}.", entity.name, entity.note))
}
