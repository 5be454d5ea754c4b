//! Lists in pages: what follows a page, and what becomes of those behind one that is reloaded.

use super::answer::Answer;
use super::engine::Asker;
use super::inner::RemoteInner;
use super::key::AnswerKey;
use super::url;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{NextPage, Rule};

impl RemoteInner {
    /// Asks for the page behind the last one that is here.
    pub(super) fn more(&self, from: &AnswerKey) -> Result<Option<Answer>> {
        let schema = self.schema();
        let (rule, _) = schema.askable(from.rule())?;
        let (mut key, mut seen) = (from.clone(), vec![from.clone()]);
        loop {
            let (next, page) = self.engine().page_of(&key);
            let Some(next) = next else {
                // One that is not here has nothing behind it yet: it is what is to come.
                let shared = self.engine().shared(&key).filter(|shared| {
                    let state = shared.state();
                    state.here.is_none() && state.under_way.is_some()
                });
                return Ok(shared.map(Answer::of));
            };
            key = self.next_key(&key, rule, &next)?;
            // The server's pages go in a circle: all that they name is here.
            if seen.contains(&key) {
                return Ok(None);
            }
            seen.push(key.clone());
            if !self.engine().is_here(&key) {
                let shared = self.ask_key(&key, (false, Asker::Once), Some(page + 1))?;
                return Ok(Some(Answer::of(shared)));
            }
        }
    }

    /// The pages behind one, in their order.
    pub(super) fn later_pages(&self, key: &AnswerKey, rule: &Rule) -> Vec<AnswerKey> {
        if let Some(behind) = self.engine().behind(key) {
            return behind;
        }
        let (mut at, mut later) = (key.clone(), Vec::new());
        loop {
            let (next, _) = self.engine().page_of(&at);
            let next = next.and_then(|next| self.next_key(&at, rule, &next).ok());
            let Some(next) = next.filter(|next| next != key && !later.contains(next)) else {
                break;
            };
            let is_known = self.engine().shared(&next).is_some();
            if !is_known {
                break;
            }
            later.push(next.clone());
            at = next;
        }
        later
    }

    /// The key of the page that a server names: by a URL, or by the value of the part's variable.
    pub(super) fn next_key(&self, key: &AnswerKey, rule: &Rule, next: &str) -> Result<AnswerKey> {
        let secret = &rule.asking.secret;
        let by_part = |part: &str| {
            let others = key.variables().iter().filter(|(name, _)| *name != *part);
            let others = others.map(|(name, value)| (name.to_string(), value.to_string()));
            self.key(key.rule(), others.chain([(part.to_owned(), next.to_owned())]), secret)
        };
        let counts = matches!(rule.asking.next, Some(NextPage::Page | NextPage::Offset));
        if let (true, Some(part)) = (counts, rule.part()) {
            return Ok(by_part(part));
        }
        let Some(template) = &rule.url else { return Ok(key.clone()) };
        let own = url::expand(&self.base, template, key.variables())?;
        if let Some(variables) = url::variables_of(&self.base, template, &own, next) {
            return Ok(self.key(key.rule(), variables, secret));
        }
        match rule.part().filter(|_| matches!(rule.asking.next, Some(NextPage::Member(_)))) {
            Some(part) => Ok(by_part(part)),
            None => {
                let message = format!(
                    "the next page of {} is not of the form {}",
                    key.words(),
                    template.as_str()
                );
                let help = "add the variables of the next page's URL to the rule's `url`";
                Err(Error::new(ErrorKind::Parameter, message).help(help))
            }
        }
    }
}
