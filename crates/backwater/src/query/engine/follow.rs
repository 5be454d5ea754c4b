//! The way of a commit through the groups that it touches, those that are read before those that
//! read them.

use std::borrow::Cow;
use std::time::Duration;

use rustc_hash::{FxHashMap, FxHashSet};

use super::route::Works;
use super::{Binding, Causes, Engine, Group, Reached, ReachedList, Work};
use crate::caught::step;
use crate::change::Changes;
use crate::query::operator::join::{Start, Starts, TupleDelta};
use crate::query::operator::statement_rows::StatementChange;
use crate::query::operator::view::View;
use crate::query::plan::Plan;
use crate::query::result::delta::Delta;
use crate::query::state::node::{NodeMove, Stretch, start, statement_starts};
use crate::query::{BindingNo, DERIVED, Outcome, work};
use crate::sorting;
use crate::table::Slot;
use crate::value::{Clock, Stopwatch};

/// The commit that is followed.
#[derive(Clone, Copy)]
struct Commit<'a> {
    changes: &'a Changes,
    number: u64,
    clock: Option<&'a dyn Clock>,
}

/// What became of bindings.
#[derive(Default)]
struct Outcomes {
    reached: ReachedList,
    /// What that is to those that read one of them, by its place, where it is something.
    derived: Vec<(usize, Vec<StatementChange>)>,
}

impl Engine {
    /// Brings every watched binding that a commit touches up to date, notes for the others what
    /// they have to follow later, and looks at nothing else.
    pub(crate) fn apply(
        &mut self,
        changes: &Changes,
        commit: u64,
        clock: Option<&dyn Clock>,
    ) -> ReachedList {
        self.give_up_backlogs(commit);
        let mut work = self.routes.route(changes);
        let commit = Commit { changes, number: commit, clock };
        let mut outcomes = Outcomes::default();
        outcomes.reached.reserve(work.len());
        while let Some((number, here)) = work.pop_first() {
            let from = outcomes.reached.len();
            step("group");
            let late = match self.groups.get(&number) {
                Some(group) => self.follow(group, &here, commit, &mut outcomes),
                None => Vec::new(),
            };
            if !late.is_empty() {
                self.behind.entry(commit.number).or_default().extend(late);
            }
            let mut derived = outcomes.derived.drain(..).peekable();
            for (place, reached) in outcomes.reached.iter().enumerate().skip(from) {
                let derived = derived.next_if(|(of, _)| *of == place).map(|(_, changes)| changes);
                let late = self.pass_on(reached, derived.as_deref().unwrap_or_default(), &mut work);
                if !late.is_empty() {
                    self.behind.entry(commit.number).or_default().extend(late);
                }
            }
        }
        let mut reached = outcomes.reached;
        sorting::by_key(&mut reached, |reached| reached.node.number.0);
        reached
    }

    /// Notifies the groups that read a binding of its outcome; returns those for which that was
    /// deferred.
    fn pass_on(
        &self,
        reached: &Reached,
        derived: &[StatementChange],
        work: &mut Works,
    ) -> Vec<BindingNo> {
        let mut late = Vec::new();
        let is_behind = reached.outcome == Outcome::Deferred;
        let is_recomputed = matches!(reached.outcome, Outcome::Failed | Outcome::Recomputed);
        if derived.is_empty() && !is_behind && !is_recomputed {
            return late;
        }
        for (reader, source) in reached.node.readers() {
            let Some(binding) = self.bindings.get(&reader.number) else { continue };
            if !derived.is_empty() && !reader.is_watched() {
                late.push(reader.number);
            }
            let work = work.of(binding.group);
            work.causes.extend_from_slice(&reached.causes);
            work.is_behind |= is_behind;
            work.is_recomputed |= is_recomputed;
            if derived.is_empty() {
                continue;
            }
            let undo = work.derived.entry(source as u16).or_default();
            for change in derived {
                undo.add(change.slot, &change.before);
            }
        }
        late
    }

    /// Whether a statement that a group's bindings read has something yet to follow.
    fn reads_what_is_behind(&self, group: &Group) -> bool {
        let mut inner = group.key.inner.iter().flatten();
        inner.any(|inner| self.bindings.get(inner).is_some_and(|inner| inner.node.is_behind()))
    }

    /// Has the bindings of a group follow; gives those that are behind from here on.
    fn follow(
        &self,
        group: &Group,
        work: &Work,
        commit: Commit<'_>,
        out: &mut Outcomes,
    ) -> Vec<BindingNo> {
        let Some(shape) = self.shapes.get(&group.shape) else { return Vec::new() };
        let plan = &*shape.plan;
        let watch = Stopwatch::start(commit.clock);
        let (late, healing) = (Vec::new(), Vec::new());
        let mut following =
            Following { engine: self, group, plan, work, commit, watch, out, late, healing };
        let starts = following.table_starts();
        let logged = group.log.as_ref().map(|log| (log, starts.clone()));
        // Where keys identify bindings there may be very many.
        let is_watched = || {
            let mut bindings = group.bindings().filter_map(|number| self.bindings.get(&number));
            group.divides(plan) || bindings.any(|binding| binding.node.is_watched())
        };
        // From what is behind no search can start.
        let is_behind = work.is_behind || self.reads_what_is_behind(group);
        if is_behind || plan.sources.len() > 1 && !is_watched() {
            let causes = following.causes(starts.iter().map(|start| start.cause), true);
            let all: Vec<BindingNo> = group.bindings().collect();
            all.into_iter().for_each(|number| following.defer(number, &starts, &causes));
        } else {
            following.search(starts);
        }
        if let Some((log, starts)) = logged {
            log.record(commit.number, &starts, plan.tuning.backlog_rows);
        }
        following.heal();
        following.late
    }
}

/// A group on its way through a commit.
struct Following<'f> {
    engine: &'f Engine,
    group: &'f Group,
    plan: &'f Plan,
    work: &'f Work,
    commit: Commit<'f>,
    watch: Stopwatch<'f>,
    out: &'f mut Outcomes,
    /// Those that are behind from here on.
    late: Vec<BindingNo>,
    /// Bindings that are behind and became watched while the commit was made, with the changes that
    /// reached them.
    healing: Vec<(BindingNo, Causes)>,
}

impl Following<'_> {
    /// Where the search for changed tuples starts in tables.
    fn table_starts(&self) -> Starts {
        let mut starts = Starts::with_capacity(self.work.changes.len());
        for &change in &self.work.changes {
            let row = &self.commit.changes.rows[change as usize];
            for (number, source) in self.plan.sources.iter().enumerate() {
                if source.relation.table() == Some(row.table)
                    && let Some(start) = start(self.plan, number, row.slot, &row.happened, change)
                {
                    starts.push(start);
                }
            }
        }
        starts
    }

    /// The changes behind these causes, of which some are statements that are read; `all` is
    /// whether those of all statements count.
    fn causes(&self, causes: impl Iterator<Item = u32>, all: bool) -> Causes {
        let mut out = Causes::new();
        let mut inner = all;
        for cause in causes {
            match cause & DERIVED {
                0 => out.push(cause),
                _ => inner = true,
            }
        }
        if inner {
            out.extend_from_slice(&self.work.causes);
        }
        out.sort_unstable();
        out.dedup();
        out
    }

    /// A binding follows later, unless it became watched meanwhile.
    fn defer(&mut self, number: BindingNo, starts: &[Start], causes: &[u32]) {
        let Commit { changes, number: commit, .. } = self.commit;
        let binding = &self.engine.bindings[&number];
        let rows = starts.iter().filter(|start| start.cause & DERIVED == 0);
        let rows = rows.map(|start| (start.source, start.slot));
        binding.node.defer(commit, &changes.before, rows);
        // Unless those have noted it: they do so for unwatched bindings only.
        for (source, undo) in &self.work.derived {
            let source = (*source).into();
            binding.node.defer_statement((commit, commit), &changes.before, source, undo.iter());
        }
        if !binding.node.is_watched() {
            self.out.reached.push(binding.reached(Outcome::Deferred, causes.into()));
            self.late.push(number);
        } else {
            self.healing.push((number, causes.into()));
        }
    }

    fn heal(&mut self) {
        let Commit { changes, number: commit, .. } = self.commit;
        for (number, causes) in std::mem::take(&mut self.healing) {
            let binding = &self.engine.bindings[&number];
            if let Ok(Some(progress)) = binding.node.catch_up(&changes.after, commit) {
                self.report(binding, progress, causes, None);
            }
        }
    }

    fn report(
        &mut self,
        binding: &Binding,
        mut progress: NodeMove,
        causes: Causes,
        search: Option<Duration>,
    ) {
        let derived = std::mem::take(&mut progress.derived);
        if !derived.is_empty() {
            self.out.derived.push((self.out.reached.len(), derived));
        }
        let mut reached = binding.reached_by(progress, self.commit.changes, causes);
        let own = self.watch.lap();
        reached.took = search.map_or(own, |search| Some(search + own?));
        self.out.reached.push(reached);
    }

    fn report_same(&mut self, binding: &Binding, causes: Causes, search: Option<Duration>) {
        if !binding.node.is_watched() && binding.node.is_behind() {
            // What it reads has put something off for it, which it follows when it is read.
            return self.out.reached.push(binding.reached(Outcome::Deferred, causes));
        }
        let mut same = binding.reached(Outcome::Same, causes);
        let own = self.watch.lap();
        same.took = search.map_or(own, |search| Some(search + own?));
        self.out.reached.push(same);
    }

    /// Looks for the tuples that changed, on behalf of all bindings, and has those that they
    /// concern follow.
    fn search(&mut self, mut starts: Starts) {
        // One that stands for all: they read the same statements.
        let first = self.group.bindings().next().and_then(|first| self.engine.bindings.get(&first));
        let Some(first) = first.map(|first| first.node.clone()) else { return };
        let (changes, plan) = (self.commit.changes, self.plan);
        let inner = first.lock_inner();
        let nothing = FxHashMap::default();
        let (old, new) = (inner.views(&self.work.derived), inner.views(&nothing));
        starts.extend(statement_starts(plan, &self.work.derived, &new));
        let before = View { plan, state: &changes.before, derived: &old };
        let after = View { plan, state: &changes.after, derived: &new };
        let stretch = Stretch {
            commits: (self.commit.number, self.commit.number),
            views: (&before, &after),
            old_state: &changes.before,
            starts: &starts,
            inner: &inner,
        };
        if self.is_much_for_all(starts.len()) {
            for number in self.group.bindings().collect::<Vec<_>>() {
                self.recompute(number, &stretch, None);
            }
            return;
        }
        let tuples = stretch.tuples(&first.bound_plan.params);
        let divided = tuples.as_ref().ok().and_then(|tuples| {
            let divide = || self.group.divide(plan, stretch.views, tuples, self.engine);
            work::within(&plan.limits, divide).ok()
        });
        let (Ok(tuples), Some(mut divided)) = (&tuples, divided) else {
            // A text was too long: for each binding that may mean something else.
            for number in self.group.bindings().collect::<Vec<_>>() {
                self.recompute(number, &stretch, None);
            }
            return;
        };
        let is_recomputed = self.work.is_recomputed;
        if tuples.is_empty() && !starts.is_empty() && !is_recomputed && !self.group.divides(plan) {
            // They were reached, and it made no difference to them.
            self.watch.lap();
            let causes = self.causes(starts.iter().map(|start| start.cause), true);
            for number in self.group.bindings() {
                self.report_same(&self.engine.bindings[&number], causes.clone(), None);
            }
        }
        if is_recomputed {
            let given = divided.len();
            for number in self.group.bindings() {
                if divided[..given].binary_search_by_key(&number, |(of, _)| *of).is_err() {
                    divided.push((number, Cow::default()));
                }
            }
            sorting::by_key(&mut divided, |(number, _)| number.0);
        }
        let search = self.watch.lap().map(|took| took / divided.len().max(1) as u32);
        for (number, given) in divided {
            self.one(number, &given, &stretch, search);
        }
    }

    /// Whether so many rows changed that each binding goes through all of them.
    fn is_much_for_all(&self, starts: usize) -> bool {
        let plan = self.plan;
        let table = plan.first().and_then(|first| first.relation.table());
        let Some(table) = table.map(|table| self.commit.changes.after.table(table)) else {
            return false;
        };
        let rows = table.rows() as usize;
        let is_for_all = self.group.by_range.is_none() || self.group.len == 1;
        plan.keys.is_empty() && is_for_all && plan.is_much(starts, rows)
    }

    /// A binding is recomputed, if it is watched.
    fn recompute(&mut self, number: BindingNo, stretch: &Stretch<'_>, search: Option<Duration>) {
        let binding = &self.engine.bindings[&number];
        let causes = self.causes(stretch.starts.iter().map(|start| start.cause), true);
        if !binding.node.is_watched() || binding.node.is_behind() {
            return self.defer(number, stretch.starts, &causes);
        }
        let progress = binding.node.follow(stretch, None);
        self.report(binding, progress, causes, search);
    }

    /// A binding follows the tuples that were found for it.
    fn one(
        &mut self,
        number: BindingNo,
        given: &[TupleDelta],
        stretch: &Stretch<'_>,
        search: Option<Duration>,
    ) {
        let (binding, is_recomputed) = (&self.engine.bindings[&number], self.work.is_recomputed);
        let (node, plan) = (&binding.node, self.plan);
        let starts = stretch.starts;
        let belonging = || node.belonging(stretch.views, Cow::Borrowed(given), false);
        let Ok(tuples) = work::within(&plan.limits, belonging) else {
            return self.recompute(number, stretch, search);
        };
        let causing = if tuples.is_empty() { given } else { &*tuples };
        let causes = self.causes(causing.iter().map(|tuple| tuple.cause), tuples.is_empty());
        if tuples.is_empty() && !is_recomputed {
            return self.report_same(binding, causes, search);
        }
        if !node.is_watched() || node.is_behind() {
            // A large commit has many starts and many tuples: then the tuples' rows are hashed.
            let is_large = starts.len() > 4 && tuples.len() > 4;
            let hashed: Option<FxHashSet<(usize, Slot)>> = is_large.then(|| {
                tuples.iter().flat_map(|of| of.tuple.iter().copied().enumerate()).collect()
            });
            let is_in_tuple = |start: &Start| match &hashed {
                Some(hashed) => hashed.contains(&(start.source, start.slot)),
                None => tuples.iter().any(|tuple| tuple.tuple[start.source] == start.slot),
            };
            let mine = starts
                .iter()
                .filter(|start| is_in_tuple(start) || plan.sources[start.source].outer.is_some());
            let mine: Starts = mine.cloned().collect();
            return self.defer(number, &mine, &causes);
        }
        let progress = node.follow(stretch, Some(&tuples));
        self.report(binding, progress, causes, search);
    }
}

impl Binding {
    fn reached(&self, outcome: Outcome, causes: Causes) -> Reached {
        Reached {
            node: self.node.clone(),
            outcome,
            failure: None,
            delta: None,
            before: None,
            causes,
            is_held: self.handles > 0,
            from: None,
            took: None,
        }
    }

    /// What there is to report of a node that followed a commit.
    fn reached_by(&self, progress: NodeMove, changes: &Changes, causes: Causes) -> Reached {
        let outcome = match (&progress.failure, &progress.moved) {
            (Some(_), _) => Outcome::Failed,
            (None, None) => Outcome::Recomputed,
            (None, Some(moved)) if moved.is_empty() => Outcome::Same,
            (None, Some(_)) if progress.is_recomputed => Outcome::Recomputed,
            (None, Some(_)) => Outcome::Maintained,
        };
        let moved = progress.moved.filter(|moved| !moved.is_empty());
        let delta = moved.and_then(|rows| {
            let before = progress.old.result(&changes.before).ok()?;
            let after = progress.new.result(&changes.after).ok()?;
            Some(Delta::new(before, after, rows).with_renamed(changes.renamed()))
        });
        let leads_on = delta.is_some() || outcome == Outcome::Same;
        let before = if leads_on { None } else { progress.old.result(&changes.before).ok() };
        Reached { failure: progress.failure, delta, before, ..self.reached(outcome, causes) }
    }
}
