//! Reading send rules.

use toml::de::DeValue;

use super::{Reader, Value};
use crate::error::nearest;
use crate::schema::{FieldKind, IfMatch, OnConflict, Rule, SendBody, SendRule, TableDef};

const ON_CONFLICT: [(&str, OnConflict); 3] =
    [("theirs", OnConflict::Theirs), ("ours", OnConflict::Ours), ("ask", OnConflict::Ask)];

impl<'t> Reader<'t> {
    pub(super) fn send(
        &mut self,
        name: &str,
        value: &Value<'t>,
        tables: &[TableDef],
        rules: &[Rule],
    ) -> Option<SendRule> {
        let parts = self.as_table(value, "a table with `table` and `url`")?;
        let at = value.span().start;
        let known = [
            "table",
            "method",
            "url",
            "body",
            "content_type",
            "answer",
            "makes_stale",
            "merge",
            "if_match",
            "on_conflict",
            "reference",
        ];
        let [
            table,
            method,
            url,
            body,
            content_type,
            answer,
            makes_stale,
            merge,
            if_match,
            on_conflict,
            reference,
        ] = self.parts(parts, "a send rule", known);
        let Some(table) = table else {
            let message = format!("send rule \"{name}\" does not say of which table its rows are");
            self.problem(at, message, "add `table = \"TABLE\"`");
            return None;
        };
        let table = &tables[self.as_table_no(table, "the name of a table")?.index()];
        if url.is_none() {
            self.problem(at, format!("send rule \"{name}\" has no URL"), "add `url = \"/…\"`");
        }
        let url = url.and_then(|value| self.template(value));
        let method = method.and_then(|value| self.method(value)).unwrap_or("PATCH");
        let body = body.and_then(|value| self.body(value));
        let body = body.unwrap_or(match method {
            "DELETE" => SendBody::Nothing,
            "PATCH" => SendBody::Changes,
            _ => SendBody::Row,
        });
        let answer = answer.and_then(|value| {
            let name = self.as_text(value, "the name of a response rule")?;
            self.known_rule(value, name, rules).then(|| name.into())
        });
        let makes_stale = makes_stale.map(|value| {
            let mut names = self.names(Some(value), "an array of rules' names");
            names.retain(|name| self.known_rule(value, name, rules));
            names
        });
        let if_match = if_match.and_then(|value| {
            let text = self.as_text(value, "\"etag\", or the name of a field")?;
            if text == "etag" {
                if answer.is_none() {
                    let message = "the entity tag is that of an `answer`, which the rule has not";
                    self.problem(value.span().start, message, "add `answer = \"RULE\"`");
                }
                return Some(IfMatch::EntityTag);
            }
            if table.field_no(text).is_none() {
                let message = format!("table \"{}\" has no field \"{text}\"", table.name);
                self.problem(value.span().start, message, nearest(text, table.field_names()));
            }
            Some(IfMatch::Field(text.into()))
        });
        let on_conflict =
            on_conflict.and_then(|value| self.as_name(value, "`on_conflict`", &ON_CONFLICT));
        let reference = reference.and_then(|value| {
            let name = self.as_text(value, "the name of a field of type text")?;
            let field = table.field_no(name).map(|field| table.field(field));
            match field.map(|field| field.kind) {
                Some(FieldKind::Text) => {}
                Some(_) => {
                    let message = format!("field \"{name}\" is no text, as a reference is");
                    self.problem(value.span().start, message, "take another one");
                }
                None => {
                    let message = format!("table \"{}\" has no field \"{name}\"", table.name);
                    self.problem(value.span().start, message, nearest(name, table.field_names()));
                }
            }
            Some(name.into())
        });
        let content_type = content_type
            .and_then(|value| self.as_text(value, "a media type such as \"text/json\""));
        Some(SendRule {
            name: name.into(),
            table: table.name.clone(),
            method: method.into(),
            url: url?,
            body,
            content_type: content_type.map(Into::into),
            answer,
            makes_stale,
            merges: self.as_flag(merge, false),
            if_match,
            on_conflict: on_conflict.unwrap_or_default(),
            reference,
        })
    }

    pub(super) fn known_rule(&mut self, value: &Value<'t>, name: &str, rules: &[Rule]) -> bool {
        let is_known = rules.iter().any(|rule| &*rule.name == name);
        if !is_known {
            let help = nearest(name, rules.iter().map(|rule| &*rule.name));
            self.problem(value.span().start, format!("there is no response rule \"{name}\""), help);
        }
        is_known
    }

    fn method(&mut self, value: &Value<'t>) -> Option<&'static str> {
        let known = [("POST", "POST"), ("PUT", "PUT"), ("PATCH", "PATCH"), ("DELETE", "DELETE")];
        self.as_name(value, "`method`", &known)
    }

    fn body(&mut self, value: &Value<'t>) -> Option<SendBody> {
        let known = [
            ("changes", SendBody::Changes),
            ("patch", SendBody::Patch),
            ("row", SendBody::Row),
            ("none", SendBody::Nothing),
        ];
        match value.get_ref() {
            DeValue::String(text) => match known.iter().find(|(name, _)| *name == text.as_ref()) {
                Some((_, body)) => Some(body.clone()),
                None => {
                    let expected = "\"changes\", \"patch\", \"row\", \"none\" or a table";
                    let message = format!("there is no `body` \"{text}\"; expected {expected}");
                    self.problem(value.span().start, message, "");
                    None
                }
            },
            DeValue::Table(_) | DeValue::Array(_) => Some(SendBody::Template(self.json(value)?)),
            _ => self.unexpected(value, "what the body is, or a table that it is made by"),
        }
    }

    /// A TOML value as JSON.
    fn json(&mut self, value: &Value<'t>) -> Option<serde_json::Value> {
        Some(match value.get_ref() {
            DeValue::String(text) => text.as_ref().into(),
            DeValue::Boolean(flag) => (*flag).into(),
            DeValue::Integer(number) => {
                i64::from_str_radix(number.as_str(), number.radix()).ok()?.into()
            }
            DeValue::Float(number) => number.as_str().parse::<f64>().ok()?.into(),
            DeValue::Datetime(time) => time.to_string().into(),
            DeValue::Array(list) => {
                let list: Option<Vec<_>> = list.iter().map(|value| self.json(value)).collect();
                list?.into()
            }
            DeValue::Table(table) => {
                let mut members = serde_json::Map::new();
                for (name, value) in table {
                    members.insert(name.get_ref().to_string(), self.json(value)?);
                }
                members.into()
            }
        })
    }
}
