//! What a binding that is not kept up to date has yet to follow.
//!
//! A row of a join belongs to a result by the values of several rows, so that a change which makes
//! no difference to a binding when it is made may matter to one that looks from further back: with
//! a new partner, a row has left already, and when it is deleted then, the commit finds nothing of
//! it. So a binding of such a statement that is behind follows *all* changed rows that its group
//! was sent since, which a log holds once for the whole group.

use std::cmp;
use std::collections::VecDeque;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use rustc_hash::FxHashMap;

use crate::query::DERIVED;
use crate::query::operator::join::Start;
use crate::query::operator::statement_rows::StatementRow;
use crate::sorting::{self, Numbered};
use crate::table::{Slot, State};

/// The changed rows that a group of bindings was sent, for those of them that are behind.
#[derive(Default)]
pub(crate) struct GroupLog {
    rows: Mutex<Log>,
    /// How many bindings are behind.
    behind: AtomicUsize,
}

#[derive(Default)]
struct Log {
    /// Commit, source, slot, in the order of the commits.
    rows: VecDeque<(u64, u16, Slot)>,
    /// Of this commit and earlier ones something is missing.
    incomplete: u64,
}

impl GroupLog {
    fn lock(&self) -> MutexGuard<'_, Log> {
        self.rows.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Logs what a commit changed, if a binding is behind; at most this many rows are kept.
    pub(crate) fn record(&self, commit: u64, starts: &[Start], most: usize) {
        let mut log = self.lock();
        if self.behind.load(Ordering::Acquire) == 0 {
            log.rows.clear();
            log.incomplete = commit;
            return;
        }
        // What other statements did they put off themselves.
        let rows = starts.iter().filter(|start| start.cause & DERIVED == 0);
        log.rows.extend(rows.map(|start| (commit, start.source as u16, start.slot)));
        while log.rows.len() > most
            && let Some((oldest, ..)) = log.rows.pop_front()
        {
            log.incomplete = oldest;
        }
    }

    /// The rows of the commits from one to another; `None` if something is missing.
    fn rows(&self, first: u64, last: u64) -> Option<Vec<(u16, Slot)>> {
        let log = self.lock();
        let is_of = |(commit, ..): &&(u64, u16, Slot)| (first..=last).contains(commit);
        let rows = || log.rows.iter().filter(is_of).map(|(_, source, slot)| (*source, *slot));
        (log.incomplete < first).then(|| rows().collect())
    }
}

/// A binding is behind for as long as this lives.
struct IsBehind(Arc<GroupLog>);

impl IsBehind {
    fn of(log: &Arc<GroupLog>) -> Self {
        log.behind.fetch_add(1, Ordering::AcqRel);
        Self(log.clone())
    }
}

impl Drop for IsBehind {
    fn drop(&mut self) {
        self.0.behind.fetch_sub(1, Ordering::AcqRel);
    }
}

/// What a node has yet to follow.
#[derive(Default)]
pub(crate) enum Pending {
    #[default]
    Nothing,
    Few(Box<Backlog>),
    /// Too much to list, up to this commit.
    Many(u64),
}

pub(crate) struct Backlog {
    /// The tables as of the node's last commit.
    pub(crate) state: Arc<State>,
    /// The first commit to follow, and the last one.
    first: u64,
    last: u64,
    /// Changed rows of tables: commit, source, slot. None, if the group has a log.
    rows: Vec<(u64, u16, Slot)>,
    log: Option<IsBehind>,
    /// Of each source that is another statement.
    pub(crate) derived: FxHashMap<u16, DerivedBacklog>,
    /// A statement that it reads followed the commits from one to another at once: the versions
    /// between them are not known.
    at_once: Option<(u64, u64)>,
}

/// What the rows of a statement were that another one has yet to follow.
#[derive(Default)]
pub(crate) struct DerivedBacklog {
    pub(crate) slots: FxHashMap<Slot, Versions>,
    /// The last commit that is covered in whole.
    last: u64,
}

/// What a row was before some commits.
pub(crate) type Versions = Vec<(u64, Option<Arc<StatementRow>>)>;

impl Pending {
    /// Rows that were changed from one commit to another, behind a version of the tables.
    pub(crate) fn of_rows(
        state: &Arc<State>,
        (first, last): (u64, u64),
        rows: Vec<(u64, u16, Slot)>,
    ) -> Self {
        let (state, log, derived) = (state.clone(), None, FxHashMap::default());
        let at_once = None;
        Self::Few(Box::new(Backlog { state, first, last, rows, log, derived, at_once }))
    }

    pub(crate) fn is_nothing(&self) -> bool {
        matches!(self, Pending::Nothing)
    }

    /// The backlog to add to; `None` if there is too much already.
    pub(crate) fn backlog(
        &mut self,
        commit: u64,
        before: &Arc<State>,
        log: Option<&Arc<GroupLog>>,
    ) -> Option<&mut Backlog> {
        if self.is_nothing() {
            *self = Pending::Few(Box::new(Backlog {
                state: before.clone(),
                first: commit,
                last: commit,
                rows: Vec::new(),
                log: log.map(IsBehind::of),
                derived: FxHashMap::default(),
                at_once: None,
            }));
        }
        match self {
            Pending::Few(backlog) => {
                backlog.last = commit.max(backlog.last);
                Some(backlog)
            }
            Pending::Many(last) => {
                *last = commit.max(*last);
                None
            }
            Pending::Nothing => None,
        }
    }

    /// The changed rows to follow up to a commit; `None` if they are too many, or not known.
    pub(crate) fn rows_up_to(&self, commit: u64) -> Option<Vec<(u16, Slot)>> {
        match self {
            Pending::Nothing => Some(Vec::new()),
            Pending::Few(backlog) => backlog.rows_up_to(commit),
            Pending::Many(_) => None,
        }
    }

    /// Whether a commit is one of several that can only be followed at once.
    pub(crate) fn is_between(&self, commit: u64) -> bool {
        let Pending::Few(backlog) = self else { return false };
        backlog.at_once.is_some_and(|(first, last)| first <= commit && commit < last)
    }

    /// The first commit that changed something, after that one.
    pub(crate) fn first(&self, after: u64) -> u64 {
        match self {
            Pending::Few(backlog) => {
                backlog.at_once.map_or(backlog.first, |(first, _)| first.min(backlog.first))
            }
            Pending::Nothing | Pending::Many(_) => after + 1,
        }
    }

    /// Drops what is to follow up to a commit, together with what later ones left.
    pub(crate) fn forget(&mut self, commit: u64) {
        let last = match self {
            Pending::Nothing => commit,
            Pending::Few(backlog) => backlog.last.max(commit),
            Pending::Many(last) => commit.max(*last),
        };
        *self = Pending::Many(last);
    }

    /// Drops a version of the tables from before that commit.
    pub(crate) fn give_up(&mut self, before: u64) {
        if let Pending::Few(backlog) = self
            && backlog.first < before
        {
            *self = Pending::Many(backlog.last);
        }
    }

    /// Takes what a commit and those before it left; what a later one left stays, to be followed
    /// from this state.
    pub(crate) fn take_up_to(&mut self, state: &Arc<State>, commit: u64) -> Pending {
        match self {
            Pending::Few(backlog) if backlog.first > commit => Pending::Nothing,
            Pending::Few(backlog) if backlog.last > commit => {
                let rest = backlog.after(state, commit);
                std::mem::replace(self, Pending::Few(Box::new(rest)))
            }
            Pending::Many(last) if *last > commit => Pending::Many(commit),
            _ => std::mem::take(self),
        }
    }
}

impl Backlog {
    /// Logs changed rows, unless the group's log has them; `false` if they are too many.
    pub(crate) fn add_rows(
        &mut self,
        commit: u64,
        rows: impl Iterator<Item = (usize, Slot)>,
        most: usize,
    ) -> bool {
        if self.log.is_none() {
            self.rows.extend(rows.map(|(source, slot)| (commit, source as u16, slot)));
        }
        self.rows.len() <= most
    }

    /// Logs what a source that is another statement did in the commits from one to another; `false`
    /// if that is too much.
    pub(crate) fn add_derived<'r>(
        &mut self,
        (first, commit): (u64, u64),
        source: usize,
        changes: impl Iterator<Item = (Slot, &'r Option<Arc<StatementRow>>)>,
        most: usize,
    ) -> bool {
        let DerivedBacklog { slots, last } = self.derived.entry(source as u16).or_default();
        if *last >= commit {
            return true;
        }
        *last = commit;
        for (slot, before) in changes {
            slots.entry(slot).or_default().push((commit, before.clone()));
        }
        if first < commit {
            let known = self.at_once.unwrap_or((first, commit));
            self.at_once = Some((known.0.min(first), known.1.max(commit)));
        }
        slots.len() <= most
    }

    /// The changed rows up to a commit, each once; `None` if they are not known any more.
    fn rows_up_to(&self, commit: u64) -> Option<Vec<(u16, Slot)>> {
        let rows = match &self.log {
            Some(IsBehind(log)) => log.rows(self.first, commit)?,
            None => {
                let rows = self.rows.iter().filter(|(of, ..)| *of <= commit);
                rows.map(|(_, source, slot)| (*source, *slot)).collect()
            }
        };
        let key = |(source, slot): (u16, Slot)| u64::from(source) << 32 | u64::from(slot.0);
        let mut numbered: Vec<Numbered> = rows.iter().map(|row| key(*row)).zip(0..).collect();
        sorting::numbers(&mut numbered, &|_, _| cmp::Ordering::Equal);
        numbered.dedup_by_key(|(key, _)| *key);
        Some(numbered.into_iter().map(|(_, number)| rows[number as usize]).collect())
    }

    /// What commits after this one left.
    fn after(&self, state: &Arc<State>, commit: u64) -> Self {
        let rows = self.rows.iter().filter(|(of, ..)| *of > commit).copied().collect();
        let derived = self.derived.iter().map(|(source, DerivedBacklog { slots, last })| {
            let slots = slots.iter().map(|(slot, versions)| {
                let later = versions.iter().filter(|(of, _)| *of > commit);
                (*slot, later.cloned().collect::<Vec<_>>())
            });
            let slots = slots.filter(|(_, versions)| !versions.is_empty()).collect();
            (*source, DerivedBacklog { slots, last: *last })
        });
        Self {
            state: state.clone(),
            first: commit + 1,
            last: self.last,
            rows,
            log: self.log.as_ref().map(|IsBehind(log)| IsBehind::of(log)),
            derived: derived.collect(),
            at_once: self.at_once.filter(|(_, last)| *last > commit),
        }
    }
}
