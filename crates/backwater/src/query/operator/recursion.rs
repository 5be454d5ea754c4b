//! `WITH RECURSIVE`: from some rows to those that go with them, and on from these, until nothing
//! new is found.
//!
//! The statement's plan is that of the SELECT which reads the query itself, joined to the rows that
//! it begins with; in their place stand, step by step, those that were found last.

use std::collections::HashMap;
use std::sync::Arc;

use crate::query::expr::scalar::{Key, Scalar};
use crate::query::expr::{ColumnNo, Expr};
use crate::query::operator::join::TupleDelta;
use crate::query::operator::order::edit::Edit;
use crate::query::operator::rows::{
    KeptRow, KeptState, MadeRows, RowEdits, RowOperator, RowsState, Values,
};
use crate::query::operator::statement_rows::{StatementRow, StatementRows, StatementView};
use crate::query::operator::view::{NONE, View};
use crate::query::operator::walk::Walk;
use crate::query::plan::Recursion;
use crate::query::plan::explain::Operator;
use crate::query::plan::text::PlanNames;
use crate::query::work;
use crate::table::Slot;

/// A recursion that joins something may make so many steps, or as many as that has rows.
const MOST_STEPS: usize = 10_000;

/// The rows that were found.
#[derive(Clone, Default)]
pub(crate) struct Found {
    /// As the statement reads them in the place of those that it begins with.
    rows: StatementRows,
    /// How many are equal.
    counts: HashMap<Box<[Key]>, u32>,
    bytes: usize,
}

impl Found {
    pub(crate) fn bytes(&self) -> usize {
        self.bytes
    }
}

/// A search for rows, with those that were found before.
struct Search<'s, 'v> {
    of: &'s Recursion,
    view: &'s View<'v>,
    params: &'s [Scalar<'static>],
    found: Found,
    /// Those from which the search goes on.
    open: Vec<Arc<StatementRow>>,
    /// All that were found now.
    new: Vec<Arc<KeptRow>>,
}

impl Search<'_, '_> {
    fn add(&mut self, mut values: Values) {
        let place: Box<[Key]> = values.iter().cloned().map(Key::from).collect();
        let count = self.found.counts.entry(place).or_default();
        if self.of.distinct && *count > 0 || work::is_over() {
            return;
        }
        *count += 1;
        let read = StatementRow {
            values: values.iter().cloned().collect(),
            key: Box::default(),
            failed: None,
        };
        if !self.of.distinct {
            values.push(Scalar::Int(i64::from(*count)));
        }
        let keys = values.len();
        let row = KeptRow::new(values, keys);
        // It is kept as a row of the result, as one to go on from, and to be known again.
        let bytes = row.bytes();
        if !work::take_row(3 * bytes) {
            return;
        }
        self.found.bytes += 2 * bytes;
        let read = Arc::new(read);
        self.found.rows.push(read.clone());
        self.open.push(read);
        self.new.push(Arc::new(row));
    }

    /// Adds what the rows of the search at these places begin with.
    fn begin(&mut self, slots: impl Iterator<Item = Slot>) {
        let (view, source) = (self.view, self.of.source);
        for slot in slots {
            let value = |column| view.value(ColumnNo::new(source, column), slot).into_owned();
            self.add((0..self.of.values.len()).map(value).collect());
        }
    }

    /// Goes on from what was found until there is nothing more.
    fn go_on(&mut self) {
        let (most, mut steps) = (self.most_steps(), 0);
        while !self.open.is_empty() && !work::is_over() {
            steps += 1;
            // Of so many steps in a row some row came twice, and so comes again and again.
            if steps > self.found.counts.len() || steps > most {
                return work::has_no_end();
            }
            let mut rows = StatementRows::default();
            std::mem::take(&mut self.open).into_iter().for_each(|row| rows.push(row));
            let slots: Vec<Slot> = StatementView { rows: &rows, undo: None }.slots();
            let made = self.made(&rows, self.of.source, &slots);
            made.into_iter().for_each(|values| self.add(values));
        }
    }

    /// From row to row of what it joins no way is longer than there are rows, unless it goes round.
    fn most_steps(&self) -> usize {
        let sources = self.view.plan.sources.iter().enumerate();
        let joined = sources.filter(|(number, of)| *number != self.of.source && !of.is_lookup);
        let rows = joined.map(|(number, _)| self.view.input(number).len());
        rows.reduce(|all, rows| all + rows).map_or(usize::MAX, |rows| rows.max(MOST_STEPS))
    }

    /// What comes of some rows of a source, with these in the place of those of the search.
    fn made(&self, rows: &StatementRows, source: usize, slots: &[Slot]) -> Vec<Values> {
        let (params, mut out) = (self.params, Vec::new());
        let mut derived = self.view.derived.to_vec();
        derived[self.of.source] = Some(StatementView { rows, undo: None });
        let view = View { derived: &derived, ..*self.view };
        for slot in slots {
            Walk { view: &view, params }.from(source, *slot, &mut |tuple| {
                let row = view.row(tuple);
                let values = self.of.values.iter();
                out.push(values.map(|value| value.eval(&row, params).into_owned()).collect());
            });
        }
        out
    }
}

impl Recursion {
    fn search<'s, 'v>(
        &'s self,
        view: &'s View<'v>,
        params: &'s [Scalar<'static>],
        found: Found,
    ) -> Search<'s, 'v> {
        Search { of: self, view, params, found, open: Vec::new(), new: Vec::new() }
    }

    fn all<'s, 'v>(&'s self, view: &'s View<'v>, params: &'s [Scalar<'static>]) -> Search<'s, 'v> {
        let mut found = Found::default();
        let indexes = view.plan.statement_indexes(self.source);
        indexes.iter().for_each(|fields| found.rows.index(fields));
        let mut search = self.search(view, params, found);
        let mut first = Vec::new();
        view.input(self.source).each(&mut |slot| first.push(slot));
        search.begin(first.into_iter());
        search.go_on();
        search
    }

    /// All rows, as the statement reads them in the place of those that it begins with.
    pub(in crate::query) fn rows(
        &self,
        view: &View<'_>,
        params: &[Scalar<'static>],
    ) -> StatementRows {
        self.all(view, params).found.rows
    }
}

impl RowOperator for Recursion {
    fn compute(&self, view: &View<'_>, params: &[Scalar<'static>], empty: bool) -> MadeRows {
        if empty {
            return MadeRows::default();
        }
        let Search { found, new, .. } = self.all(view, params);
        MadeRows { rows: new, state: KeptState::Found(found).into() }
    }

    /// The tuples are the changed rows alone. Where rows only come, so do those of the result; else
    /// all are searched again.
    fn apply(
        &self,
        state: &mut RowsState,
        (_, after): (&View<'_>, &View<'_>),
        params: &[Scalar<'static>],
        tuples: &[TupleDelta],
    ) -> Option<RowEdits> {
        let starts = tuples.iter().map(|delta| {
            let source = delta.tuple.iter().position(|slot| *slot != NONE);
            source.filter(|_| !delta.before && delta.after && !delta.is_another)
        });
        let starts: Vec<usize> = starts.collect::<Option<_>>()?;
        // A row that had no partner has one now: what was made without one goes.
        let is_outer = |source: &usize| after.plan.sources[*source].outer.is_some();
        if starts.iter().any(is_outer) {
            return None;
        }
        // A tuple of two rows that came would be found from both.
        if !self.distinct && starts.iter().any(|source| *source != starts[0]) {
            return None;
        }
        let KeptState::Found(found) = state.0.as_deref_mut()? else { return None };
        let mut search = self.search(after, params, std::mem::take(found));
        let came = |of: usize| {
            let slots = tuples.iter().zip(&starts).filter(move |(_, source)| **source == of);
            slots.map(move |(delta, _)| delta.tuple[of])
        };
        for source in 0..after.plan.sources.len() {
            let slots: Vec<Slot> = came(source).collect();
            if source != self.source && !slots.is_empty() {
                let made = search.made(&search.found.rows, source, &slots);
                made.into_iter().for_each(|values| search.add(values));
            }
        }
        search.begin(came(self.source));
        search.go_on();
        *found = search.found;
        Some(search.new.into_iter().map(Edit::Enter).collect())
    }

    fn each_expr<'e>(&'e self, each: &mut dyn FnMut(&'e Expr)) {
        self.values.iter().for_each(each);
    }

    fn key_len(&self, _of_tuple: usize) -> usize {
        self.values.len() + usize::from(!self.distinct)
    }

    fn is_by_tuple(&self) -> bool {
        false
    }

    fn value_name(&self, names: &PlanNames<'_>, value: usize, _keys: usize) -> String {
        let output = names.plan.outputs.get(value);
        output.map_or_else(|| "how often".to_owned(), |output| output.name.clone())
    }

    fn keeps(&self) -> &'static str {
        "each row that was found"
    }

    fn ties(&self) -> Option<&'static str> {
        Some("their values")
    }

    fn describe(&self, _names: &PlanNames<'_>) -> Option<Operator> {
        let again = if self.distinct { "equal ones once" } else { "equal ones again" };
        Some(
            Operator::new("recursion", format!("until nothing new is found, {again}"))
                .fact("keeps", "all rows that were found, to go on from them")
                .fact("follows", "goes on from rows that came; else searches all again"),
        )
    }
}
