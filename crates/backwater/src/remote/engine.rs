//! Which answers there are, which are under way, and what is to be asked for next.
//!
//! It decides and keeps account. It must not commit, call a transport, or read a clock.

use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};
use std::sync::Arc;
use std::task::Waker;

use http::header::HeaderMap;

use super::answer::{AnswerState, Failure, Here, Shared, UnderWay};
use super::freshness::Validators;
use crate::value::Timestamp;

/// What an answer is for: a rule and its variables, ordered by name.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) struct Key {
    pub(crate) rule: String,
    pub(crate) variables: Vec<(String, String)>,
}

impl Key {
    pub(super) fn json(&self) -> String {
        let variables: BTreeMap<&str, &str> =
            self.variables.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
        serde_json::to_string(&variables).unwrap_or_default()
    }

    pub(super) fn of_json(rule: &str, variables: &str) -> Option<Self> {
        let variables: BTreeMap<String, String> = serde_json::from_str(variables).ok()?;
        Some(Self { rule: rule.to_owned(), variables: variables.into_iter().collect() })
    }
}

/// A request that is to be made now.
pub(super) struct Order {
    pub(super) call: u64,
    pub(super) url: String,
    /// What an answer that is here can be validated by.
    pub(super) validators: Option<Validators>,
}

/// What has come of a request.
pub(super) enum Outcome {
    Came(Here, Validators),
    Failed(Failure),
    /// The server says that what is here has not changed, and means something else.
    Unconditionally,
}

struct Entry {
    shared: Arc<Shared>,
    url: String,
    state: AnswerState,
    /// The request for it that is under way or waits for its turn.
    call: Option<u64>,
    validators: Option<Validators>,
    is_immutable: bool,
}

/// The answers of one remote.
pub(super) struct Engine {
    answers: HashMap<Key, Entry>,
    /// The requests that wait for their turn.
    queue: VecDeque<u64>,
    /// The answers that requests are for: those under way, those in the queue, and those that are
    /// about to enter it.
    calls: HashMap<u64, Key>,
    under_way: HashSet<u64>,
    last: u64,
    at_a_time: usize,
}

impl Engine {
    pub(super) fn new(at_a_time: usize) -> Self {
        let (answers, queue, calls, under_way) = Default::default();
        Self { answers, queue, calls, under_way, last: 0, at_a_time }
    }

    /// Takes up an answer from before a restart.
    pub(super) fn recall(&mut self, key: Key, here: Here, validators: Validators) {
        let state = AnswerState { here: Some(here), ..AnswerState::default() };
        let shared = Arc::new(Shared::default());
        shared.show(state.clone());
        let is_immutable = validators.freshness(None).is_immutable;
        let validators = Some(validators);
        let url = String::new();
        let entry = Entry { shared, url, state, call: None, validators, is_immutable };
        self.answers.insert(key, entry);
    }

    /// Wants an answer: a request, which [`Engine::enqueue`] takes, if it is not fresh, or `anyway`;
    /// never two for one.
    pub(super) fn ask(
        &mut self,
        key: &Key,
        (url, headers): (String, &HeaderMap),
        now: Timestamp,
        anyway: bool,
    ) -> (Arc<Shared>, Option<u64>) {
        let entry = self.answers.entry(key.clone()).or_insert_with(|| Entry {
            shared: Arc::default(),
            url: String::new(),
            state: AnswerState::default(),
            call: None,
            validators: None,
            is_immutable: false,
        });
        entry.url = url;
        let is_selected =
            entry.validators.as_ref().is_none_or(|validators| validators.is_selected_by(headers));
        let is_fresh = is_selected && entry.state.here.is_some_and(|here| now < here.fresh_until);
        let is_wanted = !is_fresh || (anyway && !entry.is_immutable);
        if !is_wanted || entry.call.is_some() {
            return (entry.shared.clone(), None);
        }
        self.last += 1;
        self.calls.insert(self.last, key.clone());
        entry.call = Some(self.last);
        entry.state.under_way = Some(UnderWay { is_first: entry.state.here.is_none() });
        entry.shared.show(entry.state.clone());
        (entry.shared.clone(), entry.call)
    }

    /// Lets a request wait for its turn.
    pub(super) fn enqueue(&mut self, call: u64) {
        self.queue.push_back(call);
    }

    /// The requests that may begin now.
    pub(super) fn begin(&mut self) -> Vec<Order> {
        let mut orders = Vec::new();
        while self.under_way.len() < self.at_a_time {
            let Some(call) = self.queue.pop_front() else { break };
            let Some(key) = self.calls.get(&call) else { continue };
            let Some(entry) = self.answers.get(key) else { continue };
            let (url, validators) = (entry.url.clone(), entry.validators.clone());
            self.under_way.insert(call);
            orders.push(Order { call, url, validators });
        }
        orders
    }

    /// Forgets an answer, and what is under way for it; returns the tasks that wait for it.
    pub(super) fn forget(&mut self, key: &Key) -> Vec<Waker> {
        let Some(entry) = self.answers.remove(key) else { return Vec::new() };
        if let Some(call) = entry.call {
            self.calls.remove(&call);
            self.under_way.remove(&call);
        }
        entry.shared.show(AnswerState::default())
    }

    /// Whether the answer to a request is still wanted.
    pub(super) fn is_wanted(&self, call: u64) -> bool {
        self.calls.contains_key(&call)
    }

    /// The answer that a call is for, while it is under way.
    pub(super) fn of_call(&self, call: u64) -> Option<(Key, Option<Validators>)> {
        let key = self.calls.get(&call)?;
        let entry = self.answers.get(key)?;
        Some((key.clone(), entry.validators.clone()))
    }

    /// What is known of an answer, and the request for it.
    pub(super) fn known(
        &self,
        key: &Key,
    ) -> Option<(AnswerState, Option<u64>, Option<Validators>)> {
        let entry = self.answers.get(key)?;
        Some((entry.state.clone(), entry.call, entry.validators.clone()))
    }

    /// Ends a call; returns the state that its answer is in then, and the tasks that wait for it.
    pub(super) fn settle(
        &mut self,
        call: u64,
        outcome: Outcome,
    ) -> Option<(Key, AnswerState, Vec<Waker>)> {
        let key = self.calls.remove(&call)?;
        self.under_way.remove(&call);
        let entry = self.answers.get_mut(&key)?;
        entry.call = None;
        match outcome {
            Outcome::Came(here, validators) => {
                entry.is_immutable = validators.freshness(None).is_immutable;
                entry.validators = Some(validators);
                entry.state = AnswerState { here: Some(here), ..AnswerState::default() };
            }
            Outcome::Failed(failure) => {
                entry.state.under_way = None;
                entry.state.failed = Some(failure);
            }
            Outcome::Unconditionally => {
                entry.validators = None;
                self.last += 1;
                entry.call = Some(self.last);
                self.calls.insert(self.last, key.clone());
                self.queue.push_front(self.last);
            }
        }
        let wakers = entry.shared.show(entry.state.clone());
        Some((key, entry.state.clone(), wakers))
    }
}
