//! Which answers there are, which are under way, and what is to be asked for next.
//!
//! It decides and keeps account. It must not commit, call a transport, or read a clock.

use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};
use std::sync::Arc;
use std::task::Waker;

use http::header::HeaderMap;

use super::answer::{AnswerState, Failure, Here, SharedState, UnderWay};
use super::freshness::Validators;
use crate::value::Timestamp;

/// What an answer is for: a rule and its variables, ordered by name.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) struct AnswerKey {
    pub(crate) rule: String,
    pub(crate) variables: Vec<(String, String)>,
}

impl AnswerKey {
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
pub(super) struct DueRequest {
    pub(super) call: u64,
    pub(super) url: String,
    /// What an answer that is here can be validated by.
    pub(super) validators: Option<Validators>,
}

/// What has come of a request.
pub(super) enum CallOutcome {
    Came(Here, Validators),
    Failed(Failure),
    /// The server says that what is here has not changed, and means something else.
    OtherRepresentation,
}

struct Entry {
    shared: Arc<SharedState>,
    url: String,
    state: AnswerState,
    /// The request for it that is under way or waits for its turn.
    call: Option<u64>,
    validators: Option<Validators>,
    is_immutable: bool,
}

/// The answers of one remote.
pub(super) struct Engine {
    answers: HashMap<AnswerKey, Entry>,
    /// The requests that wait for their turn.
    queue: VecDeque<u64>,
    /// The answers that requests are for: those under way, those in the queue, and those that are
    /// about to enter it.
    calls: HashMap<u64, AnswerKey>,
    under_way: HashSet<u64>,
    /// Whether a thread is starting requests. Those that become due meanwhile are left to it.
    is_driven: bool,
    last: u64,
    at_a_time: usize,
}

impl Engine {
    pub(super) fn new(at_a_time: usize) -> Self {
        let (answers, queue, calls, under_way) = Default::default();
        Self { answers, queue, calls, under_way, is_driven: false, last: 0, at_a_time }
    }

    /// Takes up an answer from before a restart.
    pub(super) fn recall(&mut self, key: AnswerKey, here: Here, validators: Validators) {
        let state = AnswerState { here: Some(here), ..AnswerState::default() };
        let shared = Arc::new(SharedState::default());
        shared.show(state.clone());
        let is_immutable = validators.freshness(None).is_immutable;
        let validators = Some(validators);
        let url = String::new();
        let entry = Entry { shared, url, state, call: None, validators, is_immutable };
        self.answers.insert(key, entry);
    }

    /// Wants an answer: a request, which [`Engine::enqueue`] takes, if it is not fresh, or
    /// `anyway`; never two for one.
    pub(super) fn ask(
        &mut self,
        key: &AnswerKey,
        (url, headers): (String, &HeaderMap),
        now: Timestamp,
        anyway: bool,
    ) -> (Arc<SharedState>, Option<u64>) {
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

    /// Whether the caller is to start what is due, one [`Engine::next`] after the other: not if a
    /// thread does already, which may be this one, as when a transport answers at once.
    pub(super) fn drive(&mut self) -> bool {
        !std::mem::replace(&mut self.is_driven, true)
    }

    /// The next request that may begin. `None` ends the turn of the thread that drives.
    pub(super) fn next(&mut self) -> Option<DueRequest> {
        while self.under_way.len() < self.at_a_time {
            let Some(call) = self.queue.pop_front() else { break };
            let Some(key) = self.calls.get(&call) else { continue };
            let Some(entry) = self.answers.get(key) else { continue };
            self.under_way.insert(call);
            let (url, validators) = (entry.url.clone(), entry.validators.clone());
            return Some(DueRequest { call, url, validators });
        }
        self.is_driven = false;
        None
    }

    /// Takes back a request that was not enqueued; returns the tasks that wait for it.
    pub(super) fn cancel(&mut self, call: u64) -> Vec<Waker> {
        let key = self.calls.remove(&call);
        let Some(entry) = key.and_then(|key| self.answers.get_mut(&key)) else { return Vec::new() };
        (entry.call, entry.state.under_way) = (None, None);
        entry.shared.show(entry.state.clone())
    }

    /// Forgets an answer, and what is under way for it; returns the tasks that wait for it.
    pub(super) fn forget(&mut self, key: &AnswerKey) -> Vec<Waker> {
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
    pub(super) fn of_call(&self, call: u64) -> Option<(AnswerKey, Option<Validators>)> {
        let key = self.calls.get(&call)?;
        let entry = self.answers.get(key)?;
        Some((key.clone(), entry.validators.clone()))
    }

    /// What is known of an answer, and the request for it.
    pub(super) fn known(
        &self,
        key: &AnswerKey,
    ) -> Option<(AnswerState, Option<u64>, Option<Validators>)> {
        let entry = self.answers.get(key)?;
        Some((entry.state.clone(), entry.call, entry.validators.clone()))
    }

    /// Ends a call; returns the state that its answer is in then, and the tasks that wait for it.
    pub(super) fn settle(
        &mut self,
        call: u64,
        outcome: CallOutcome,
    ) -> Option<(AnswerKey, AnswerState, Vec<Waker>)> {
        let key = self.calls.remove(&call)?;
        self.under_way.remove(&call);
        let entry = self.answers.get_mut(&key)?;
        entry.call = None;
        match outcome {
            CallOutcome::Came(here, validators) => {
                entry.is_immutable = validators.freshness(None).is_immutable;
                entry.validators = Some(validators);
                entry.state = AnswerState { here: Some(here), ..AnswerState::default() };
            }
            CallOutcome::Failed(failure) => {
                entry.state.under_way = None;
                entry.state.failed = Some(failure);
            }
            CallOutcome::OtherRepresentation => {
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
