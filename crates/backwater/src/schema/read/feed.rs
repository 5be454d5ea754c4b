//! Reading feed rules.

use std::sync::Arc;

use toml::de::DeValue;

use super::{Reader, Value};
use crate::error::nearest;
use crate::schema::{EventRule, FeedFormat, FeedRule, Pointer, Resume, Rule, TableDef, Template};

const FORMATS: [(&str, FeedFormat); 3] = [
    ("sse", FeedFormat::Sse),
    ("ndjson", FeedFormat::Ndjson),
    ("websocket", FeedFormat::WebSocket),
];

/// The forms of an event, for messages.
const FORMS: &str =
    "the name of a response rule, or a table with `rule`, `patch`, `delete` or `gap`";

impl<'t> Reader<'t> {
    pub(super) fn feed(
        &mut self,
        name: &str,
        value: &Value<'t>,
        tables: &[TableDef],
        rules: &[Rule],
    ) -> Option<FeedRule> {
        let parts = self.as_table(value, "a table with `url` and `events`")?;
        let at = value.span().start;
        let known = [
            "url",
            "format",
            "kind",
            "position",
            "resume",
            "label",
            "events",
            "covers",
            "per_second",
            "silence",
            "secret",
        ];
        let [
            url,
            format,
            kind,
            position,
            resume,
            label,
            events,
            covers,
            per_second,
            silence,
            secret,
        ] = self.parts(parts, "a feed", known);
        if url.is_none() {
            self.problem(at, format!("feed \"{name}\" has no URL"), "add `url = \"/…\"`");
        }
        let url = url.and_then(|value| self.template(value));
        let format = format.and_then(|value| self.as_name(value, "`format`", &FORMATS));
        let format = format.unwrap_or(FeedFormat::Sse);
        let kind = kind.and_then(|value| self.as_pointer(value));
        let position = position.and_then(|value| self.as_pointer(value));
        if format != FeedFormat::Sse && kind.is_none() {
            let message = format!("feed \"{name}\" does not say which member tells events apart");
            self.problem(at, message, "add `kind = \"/…\"`, such as `kind = \"/type\"`");
        }
        let resume = match resume {
            None if format == FeedFormat::Sse && position.is_none() => Resume::LastEventId,
            None => Resume::Never,
            Some(value) => self.resume(value, url.as_ref()?, (format, position.is_some()))?,
        };
        let label = label.and_then(|value| self.as_pointer(value));
        let Some(events) = events else {
            let message = format!("feed \"{name}\" does not say what its events mean");
            self.problem(at, message, "add a table [feed.NAME.events]");
            return None;
        };
        let events = self.as_table(events, "a table of what each kind of event means")?;
        let events = events.iter().filter_map(|(kind, value)| {
            let event = self.event(value, tables, rules)?;
            Some((Arc::from(kind.get_ref().as_ref()), event))
        });
        let events = events.collect();
        let covers = covers.map(|value| {
            let mut names = self.names(Some(value), "an array of rules' names");
            names.retain(|name| self.known_rule(value, name, rules));
            names.into_iter().map(Into::into).collect()
        });
        let per_second = per_second.and_then(|value| self.as_count(value, 1000));
        let silence = silence.and_then(|value| self.seconds(value));
        let secret = self.secret_of(secret, url.as_ref());
        Some(FeedRule {
            name: name.into(),
            url: url?,
            format,
            kind,
            position,
            resume,
            label,
            events,
            covers,
            per_second: per_second.and_then(|count| u32::try_from(count).ok()),
            silence,
            secret,
        })
    }

    /// By what a server is told the position.
    fn resume(
        &mut self,
        value: &Value<'t>,
        url: &Template,
        (format, has_position): (FeedFormat, bool),
    ) -> Option<Resume> {
        let expected = "a variable of the URL, such as \":since\", or false";
        let at = value.span().start;
        let text = match value.get_ref() {
            DeValue::Boolean(false) => return Some(Resume::Never),
            DeValue::String(text) => text.as_ref(),
            _ => return self.unexpected(value, expected),
        };
        let name = text.strip_prefix(':').unwrap_or(text);
        self.check_variable(value, name, url);
        if format != FeedFormat::Sse && !has_position {
            let message = "the feed does not say where its messages have their position";
            self.problem(at, message, "add `position = \"/…\"`, such as `position = \"/seq\"`");
        }
        Some(Resume::Variable(name.into()))
    }

    fn secret_of(&mut self, value: Option<&Value<'t>>, url: Option<&Template>) -> Vec<String> {
        let names = self.names(value, "an array of variables' names");
        let Some((value, url)) = value.zip(url) else { return names };
        for name in &names {
            self.check_variable(value, name, url);
        }
        names
    }

    fn check_variable(&mut self, value: &Value<'t>, name: &str, url: &Template) {
        if !url.variables().any(|known| known == name) {
            let help = nearest(name, url.variables());
            let message = format!("the URL has no variable \"{name}\"");
            self.problem(value.span().start, message, help);
        }
    }

    /// What one kind of event means.
    fn event(
        &mut self,
        value: &Value<'t>,
        tables: &[TableDef],
        rules: &[Rule],
    ) -> Option<EventRule> {
        let at = value.span().start;
        if let DeValue::String(name) = value.get_ref() {
            self.known_rule(value, name, rules).then_some(())?;
            return Some(EventRule::Response { rule: name.as_ref().into(), variables: Vec::new() });
        }
        let parts = self.as_table(value, FORMS)?;
        let known = ["rule", "variables", "patch", "delete", "gap", "id", "changes", "version"];
        let [rule, variables, patch, delete, gap, id, changes, version] =
            self.parts(parts, "an event", known);
        let of_what = [rule, patch, delete, gap].into_iter().flatten().count();
        if of_what != 1 {
            self.problem(at, format!("expected {FORMS}"), "say what the event means, once");
            return None;
        }
        if let Some(rule) = rule {
            let name = self.as_text(rule, "the name of a response rule")?;
            self.known_rule(rule, name, rules).then_some(())?;
            let known = rules.iter().find(|rule| *rule.name == *name)?;
            let known = known.variables().chain(known.url.iter().flat_map(Template::variables));
            let known: Vec<&str> = known.collect();
            let variables = match variables {
                Some(variables) => self.pointers(variables, &known)?,
                None => Vec::new(),
            };
            return Some(EventRule::Response { rule: name.into(), variables });
        }
        let Some(value) = patch.or(delete) else {
            return self.as_flag(gap, false).then_some(EventRule::Gap);
        };
        let table = &tables[self.as_table_no(value, "the name of a table")?.index()];
        let id = match (id, &*table.id) {
            (Some(id), _) => self.as_pointer(id)?,
            (None, [field]) => Pointer::member(table.field(*field).from.last()),
            (None, _) => {
                let message = format!("the id of \"{}\" is not one plain field", table.name);
                self.problem(at, message, "say where it is: `id = \"/…\"`");
                return None;
            }
        };
        let table = table.name.clone();
        if patch.is_some() {
            let changes =
                changes.map_or(Pointer::parse("").ok(), |value| self.as_pointer(value))?;
            return Some(EventRule::Patch { table, id, changes });
        }
        let version = version.map(|value| self.as_pointer(value));
        Some(EventRule::Delete { table, id, version: version.flatten() })
    }

    /// Members of a message, by the variables that they are.
    fn pointers(&mut self, value: &Value<'t>, known: &[&str]) -> Option<Vec<(Arc<str>, Pointer)>> {
        let members = self.as_table(value, "a table of JSON Pointers by variable")?;
        let mut pointers = Vec::new();
        for (name, value) in members.iter() {
            let name_text = name.get_ref().as_ref();
            if !known.contains(&name_text) {
                let message = format!("the rule has no variable \"{name_text}\"");
                self.problem(name.span().start, message, nearest(name_text, known.iter().copied()));
            }
            pointers.push((name_text.into(), self.as_pointer(value)?));
        }
        Some(pointers)
    }
}
