//! What identifies an answer: a rule and the values of its variables.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use compact_str::CompactString;
use hashbrown::Equivalent;
use smallvec::SmallVec;

use crate::value::{Named, Value};

/// A rule and its variables, ordered by name. Clones share it.
#[derive(Clone)]
pub(crate) struct AnswerKey(Arc<KeyParts>);

struct KeyParts {
    rule: CompactString,
    variables: Box<[(CompactString, CompactString)]>,
    /// The variables as a JSON object in which secret values are covered, if there are some.
    covered: Option<Box<str>>,
}

/// The same before it is known whether there is such an answer: looking one up copies nothing.
pub(super) struct KeyRef<'k> {
    rule: &'k str,
    variables: SmallVec<[(&'k str, Text<'k>); 4]>,
}

enum Text<'k> {
    Lent(&'k str),
    Own(CompactString),
}

impl Text<'_> {
    fn as_str(&self) -> &str {
        match self {
            Text::Lent(text) => text,
            Text::Own(text) => text,
        }
    }
}

impl<'k> KeyRef<'k> {
    /// A variable that is null is left out.
    pub(super) fn new(rule: &'k str, variables: &'k Named) -> Self {
        let given = variables.iter().filter(|(_, value)| !value.is_null());
        let mut variables: SmallVec<[(&str, Text<'_>); 4]> = given
            .map(|(name, value)| match value {
                Value::Text(text) => (name, Text::Lent(text)),
                other => (name, Text::Own(CompactString::from(other.to_string()))),
            })
            .collect();
        variables.sort_by_key(|(name, _)| *name);
        // Of two values the last one counts.
        variables.reverse();
        variables.dedup_by_key(|(name, _)| *name);
        variables.reverse();
        Self { rule, variables }
    }

    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        self.variables.iter().map(|(name, _)| *name)
    }

    /// The key, in which the values of these variables are covered wherever it is shown.
    pub(super) fn to_key(&self, secret: &[String], cover: impl Fn(&str) -> String) -> AnswerKey {
        let variables = self.variables.iter();
        let variables = variables.map(|(name, value)| ((*name).into(), value.as_str().into()));
        AnswerKey::new(self.rule, variables.collect(), secret, cover)
    }
}

impl AnswerKey {
    pub(super) fn new(
        rule: &str,
        variables: Box<[(CompactString, CompactString)]>,
        secret: &[String],
        cover: impl Fn(&str) -> String,
    ) -> Self {
        let is_secret = |name: &str| secret.iter().any(|secret| **secret == *name);
        let covered = variables.iter().any(|(name, _)| is_secret(name)).then(|| {
            let shown = variables.iter().map(|(name, value)| match is_secret(name) {
                true => (name.as_str(), Cow::Owned(cover(value))),
                false => (name.as_str(), Cow::Borrowed(value.as_str())),
            });
            json(shown).into()
        });
        Self(Arc::new(KeyParts { rule: rule.into(), variables, covered }))
    }

    /// The key of a row. Secret variables are not in it, so that it is no key for asking if its
    /// rule has some.
    pub(super) fn of_shown(rule: &str, shown: &str) -> Option<Self> {
        let variables: BTreeMap<String, String> = serde_json::from_str(shown).ok()?;
        let variables = variables.into_iter().map(|(name, value)| (name.into(), value.into()));
        let variables = variables.collect();
        Some(Self(Arc::new(KeyParts { rule: rule.into(), variables, covered: None })))
    }

    pub(super) fn rule(&self) -> &str {
        &self.0.rule
    }

    pub(super) fn variables(&self) -> &[(CompactString, CompactString)] {
        &self.0.variables
    }

    pub(super) fn variable(&self, name: &str) -> Option<&str> {
        let mut variables = self.0.variables.iter();
        variables.find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    /// Its variables as rows and messages show them: a JSON object.
    pub(super) fn shown(&self) -> Cow<'_, str> {
        match &self.0.covered {
            Some(covered) => Cow::Borrowed(covered),
            None => {
                let variables = self.0.variables.iter();
                let plain = variables.map(|(name, value)| (name.as_str(), value.as_str().into()));
                Cow::Owned(json(plain))
            }
        }
    }

    /// Its rule and variables, for people.
    pub(super) fn words(&self) -> String {
        match &*self.shown() {
            "{}" => self.0.rule.to_string(),
            shown => format!("{} {shown}", self.0.rule),
        }
    }
}

fn json<'v>(variables: impl Iterator<Item = (&'v str, Cow<'v, str>)>) -> String {
    let variables: BTreeMap<&str, Cow<'_, str>> = variables.collect();
    serde_json::to_string(&variables).unwrap_or_default()
}

/// Without secrets.
impl fmt::Debug for AnswerKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.words())
    }
}

impl PartialEq for AnswerKey {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
            || (self.0.rule == other.0.rule && self.0.variables == other.0.variables)
    }
}

impl Eq for AnswerKey {}

fn hash<'k, H: Hasher>(
    rule: &str,
    variables: impl Iterator<Item = (&'k str, &'k str)>,
    state: &mut H,
) {
    rule.hash(state);
    for (name, value) in variables {
        name.hash(state);
        value.hash(state);
    }
}

impl Hash for AnswerKey {
    fn hash<H: Hasher>(&self, state: &mut H) {
        let variables = self.0.variables.iter();
        hash(self.rule(), variables.map(|(name, value)| (name.as_str(), value.as_str())), state);
    }
}

impl Hash for KeyRef<'_> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        let variables = self.variables.iter();
        hash(self.rule, variables.map(|(name, value)| (*name, value.as_str())), state);
    }
}

impl Equivalent<AnswerKey> for KeyRef<'_> {
    fn equivalent(&self, key: &AnswerKey) -> bool {
        let mine = self.variables.iter().map(|(name, value)| (*name, value.as_str()));
        let theirs = key.0.variables.iter().map(|(name, value)| (name.as_str(), value.as_str()));
        self.rule == key.0.rule && mine.eq(theirs)
    }
}
