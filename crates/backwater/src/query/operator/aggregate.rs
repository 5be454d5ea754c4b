//! Aggregates that follow their group: values are added and removed.

use std::cmp::Ordering;
use std::collections::{BTreeMap, HashSet};

use crate::query::expr::scalar::{Affinity, Key, Scalar, Sorted};
use crate::query::expr::{Columns, Expr, json};
use crate::query::operator::exact::ExactSum;
use crate::query::operator::order::compare_key;
use crate::query::plan::{Aggregate, AggregateFunction, OrderKey};
use crate::query::work;

/// What an aggregate keeps of one group.
#[derive(Clone)]
pub(crate) enum AggregateState {
    Count(i64),
    Sum(Box<Sum>),
    Values(BTreeMap<Sorted, u64>),
    /// How often each value is there, and the aggregate of each once.
    Distinct(BTreeMap<Sorted, u64>, Box<AggregateState>),
    /// The same where equal values may be of two types: the rows of each value, the first of which
    /// has the one that goes into the aggregate.
    DistinctMixed(BTreeMap<Sorted, BTreeMap<ListPlace, ListItem>>, Box<AggregateState>),
    List(BTreeMap<ListPlace, ListItem>),
}

/// Where a row stands in a list: by the list's order, then by the row's key.
#[derive(Clone, PartialEq)]
pub(crate) struct ListPlace {
    order: Box<[(Scalar<'static>, OrderKey)]>,
    row: Box<[Scalar<'static>]>,
}

#[derive(Debug, Clone)]
pub(crate) struct ListItem {
    value: Scalar<'static>,
    beside: Scalar<'static>,
}

impl Eq for ListPlace {}

impl PartialOrd for ListPlace {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for ListPlace {
    fn cmp(&self, other: &Self) -> Ordering {
        let keys = self.order.iter().zip(&other.order);
        let keys = keys.map(|((a, key), (b, _))| compare_key(key, a, b));
        let rows = self.row.iter().zip(&other.row).map(|(a, b)| a.order(b));
        keys.chain(rows).find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
    }
}

/// A sum as SQL has it: whole while only whole numbers are in it.
#[derive(Debug, Clone, Default)]
pub(crate) struct Sum {
    values: i64,
    not_whole: i64,
    whole: i128,
    rest: ExactSum,
}

/// A sum of whole numbers that 64 bits cannot hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Overflow;

impl Aggregate {
    pub(crate) fn new(function: AggregateFunction, argument: Option<Expr>) -> Self {
        Self {
            function,
            argument,
            distinct: false,
            order: Vec::new(),
            mixes: false,
            beside: None,
            filter: None,
        }
    }

    pub(crate) fn empty(&self) -> AggregateState {
        use AggregateFunction as F;
        let plain = match self.function {
            F::CountRows | F::Count => AggregateState::Count(0),
            F::Sum | F::Total | F::Average => AggregateState::Sum(Box::default()),
            F::Min | F::Max if self.order.is_empty() => {
                return AggregateState::Values(BTreeMap::new());
            }
            F::Min | F::Max => return AggregateState::List(BTreeMap::new()),
            F::Concat | F::JsonArray | F::JsonObject | F::First => {
                return AggregateState::List(BTreeMap::new());
            }
        };
        match (self.distinct, self.mixes) {
            (false, _) => plain,
            (true, false) => AggregateState::Distinct(BTreeMap::new(), Box::new(plain)),
            (true, true) => AggregateState::DistinctMixed(BTreeMap::new(), Box::new(plain)),
        }
    }

    /// Whether it keeps the rows that it is of by their keys, and not only what they add up to: then
    /// a row must have left before another one takes its key.
    pub(crate) fn keeps_rows(&self) -> bool {
        use AggregateFunction as F;
        match self.function {
            F::CountRows | F::Count | F::Sum | F::Total | F::Average => self.distinct && self.mixes,
            F::Min | F::Max => !self.order.is_empty(),
            F::Concat | F::JsonArray | F::JsonObject | F::First => true,
        }
    }

    /// Adds a row `times` times, or removes it if that is less than 0; to a list, once. `key` is
    /// the row's key.
    pub(crate) fn update<'a>(
        &'a self,
        state: &mut AggregateState,
        row: &impl Columns<'a>,
        params: &'a [Scalar<'static>],
        key: impl Fn() -> Box<[Scalar<'static>]>,
        times: i64,
    ) {
        let counts = |filter: &'a Expr| filter.holds(row, params);
        if !self.filter.as_ref().is_none_or(counts) {
            return;
        }
        let value = self.argument.as_ref().map_or(Scalar::Null, |of| of.eval(row, params));
        let keeps_null = matches!(
            self.function,
            AggregateFunction::CountRows
                | AggregateFunction::JsonArray
                | AggregateFunction::JsonObject
                | AggregateFunction::First
        );
        if value.is_null() && !keeps_null {
            return;
        }
        match state {
            AggregateState::List(_)
            | AggregateState::Distinct(..)
            | AggregateState::DistinctMixed(..) => {
                self.update_values(state, value, (row, params), &key, times);
            }
            plain => plain.add(value, times),
        }
    }

    /// The same for what keeps each value.
    fn update_values<'a>(
        &'a self,
        state: &mut AggregateState,
        value: Scalar<'a>,
        (row, params): (&dyn Columns<'a>, &'a [Scalar<'static>]),
        key: &dyn Fn() -> Box<[Scalar<'static>]>,
        times: i64,
    ) {
        match state {
            AggregateState::List(items) => {
                let order = self.order.iter();
                let order =
                    order.map(|key| (key.expr.eval_in(row, params).into_owned(), key.clone()));
                let place = ListPlace { order: order.collect(), row: key() };
                if times > 0 {
                    let beside = self.beside.as_ref();
                    let beside = beside.map_or(Scalar::Str(","), |of| of.eval_in(row, params));
                    let beside = beside.into_owned();
                    let texts = value.text_len() + beside.text_len();
                    work::take_bytes(size_of::<(ListPlace, ListItem)>() + texts);
                    items.insert(place, ListItem { value: value.into_owned(), beside });
                } else {
                    items.remove(&place);
                }
            }
            AggregateState::Distinct(values, plain) => {
                let value = Sorted(value.into_owned());
                if count_value(values, &value, times) {
                    plain.add(value.0, times.signum());
                }
            }
            AggregateState::DistinctMixed(values, plain) => {
                let value = value.into_owned();
                let place = ListPlace { order: Box::default(), row: key() };
                let rows = values.entry(Sorted(value.clone())).or_default();
                let first = |rows: &BTreeMap<ListPlace, ListItem>| {
                    rows.first_key_value().map(|(_, item)| item.value.clone())
                };
                let old = first(rows);
                if times > 0 {
                    rows.insert(place, ListItem { value: value.clone(), beside: Scalar::Null });
                } else {
                    rows.remove(&place);
                }
                let new = first(rows);
                if new.is_none() {
                    values.remove(&Sorted(value));
                }
                if old != new {
                    old.into_iter().for_each(|old| plain.add(old, -1));
                    new.into_iter().for_each(|new| plain.add(new, 1));
                }
            }
            plain => plain.add(value, times),
        }
    }

    pub(crate) fn value(&self, state: &AggregateState) -> Result<Scalar<'static>, Overflow> {
        use AggregateFunction as F;
        Ok(match state {
            AggregateState::Count(count) => Scalar::Int(*count),
            AggregateState::Distinct(_, plain) | AggregateState::DistinctMixed(_, plain) => {
                self.value(plain)?
            }
            AggregateState::Sum(sum) => match self.function {
                F::Total => sum.total(),
                F::Average if sum.values > 0 => match sum.total() {
                    Scalar::Real(total) => Scalar::Real(total / sum.values as f64),
                    other => other,
                },
                F::Sum if sum.values > 0 => sum.value()?,
                _ => Scalar::Null,
            },
            AggregateState::Values(values) => {
                let end = if self.function == F::Min {
                    values.first_key_value()
                } else {
                    values.last_key_value()
                };
                end.map_or(Scalar::Null, |(value, _)| value.0.clone())
            }
            AggregateState::List(items) => match self.function {
                F::First | F::Min | F::Max => {
                    items.values().next().map_or(Scalar::Null, |item| item.value.clone())
                }
                F::Concat => self.joined(items),
                F::JsonObject => self.object(items),
                _ => self.array(items),
            },
        })
    }

    /// The list's items in their order; of equal ones, where only one counts, the first.
    fn items<'k>(
        &self,
        items: &'k BTreeMap<ListPlace, ListItem>,
    ) -> impl Iterator<Item = &'k ListItem> {
        let mut seen = HashSet::new();
        let distinct = self.distinct;
        items.values().filter(move |item| !distinct || seen.insert(Key::from(item.value.clone())))
    }

    fn joined(&self, items: &BTreeMap<ListPlace, ListItem>) -> Scalar<'static> {
        let mut out = String::new();
        for (number, item) in self.items(items).enumerate() {
            if number > 0 {
                out.extend(item.beside.to_text().as_deref());
            }
            out.extend(item.value.to_text().as_deref());
            if !work::fits(out.len()) {
                return Scalar::Null;
            }
        }
        if items.is_empty() { Scalar::Null } else { Scalar::Text(out.into()) }
    }

    /// The members with their names; one without a name is left out.
    fn object(&self, items: &BTreeMap<ListPlace, ListItem>) -> Scalar<'static> {
        let is_json = self.argument.as_ref().is_some_and(Expr::is_json);
        let mut out = String::from("{");
        for item in self.items(items) {
            let Some(name) = item.beside.to_text() else { continue };
            if out.len() > 1 {
                out.push(',');
            }
            json::write(&mut out, &Scalar::Str(&name), false);
            out.push(':');
            json::write(&mut out, &item.value, is_json);
            if !work::fits(out.len()) {
                return Scalar::Null;
            }
        }
        out.push('}');
        Scalar::Text(out.into())
    }

    fn array(&self, items: &BTreeMap<ListPlace, ListItem>) -> Scalar<'static> {
        let is_json = self.argument.as_ref().is_some_and(Expr::is_json);
        let mut out = String::from("[");
        for (number, item) in self.items(items).enumerate() {
            if number > 0 {
                out.push(',');
            }
            json::write(&mut out, &item.value, is_json);
            if !work::fits(out.len()) {
                return Scalar::Null;
            }
        }
        out.push(']');
        Scalar::Text(out.into())
    }
}

impl AggregateState {
    /// See [`Aggregate::keeps_rows`], which says so without making one.
    pub(crate) fn has_rows(&self) -> bool {
        matches!(self, AggregateState::List(_) | AggregateState::DistinctMixed(..))
    }

    fn add(&mut self, value: Scalar<'_>, times: i64) {
        match self {
            AggregateState::Count(count) => *count += times,
            AggregateState::Sum(sum) => sum.add(value, times),
            AggregateState::Values(values) => {
                let _ = count_value(values, &Sorted(value.into_owned()), times);
            }
            AggregateState::Distinct(..)
            | AggregateState::DistinctMixed(..)
            | AggregateState::List(_) => {}
        }
    }
}

/// Adjusts the count of a value; returns whether it appeared or disappeared.
fn count_value(values: &mut BTreeMap<Sorted, u64>, value: &Sorted, times: i64) -> bool {
    if times > 0 {
        match values.get_mut(value) {
            Some(count) => {
                *count += times as u64;
                false
            }
            None => {
                work::take_bytes(size_of::<(Sorted, u64)>() + value.0.text_len());
                values.insert(value.clone(), times as u64);
                true
            }
        }
    } else if let Some(count) = values.get_mut(value) {
        *count = count.saturating_sub(times.unsigned_abs());
        let gone = *count == 0;
        if gone {
            values.remove(value);
        }
        gone
    } else {
        false
    }
}

impl Sum {
    /// Takes a whole number in.
    pub(crate) fn add_whole(&mut self, number: i64) {
        self.values += 1;
        self.whole += i128::from(number);
    }

    /// Adds a number of whole numbers by their sum.
    pub(crate) fn add_wholes(&mut self, values: i64, sum: i128) {
        self.values += values;
        self.whole += sum;
    }

    fn add(&mut self, value: Scalar<'_>, times: i64) {
        self.values += times;
        match value.under(Affinity::Numeric) {
            Scalar::Int(number) => self.whole += i128::from(times) * i128::from(number),
            other => {
                self.not_whole += times;
                match other.to_number() {
                    Scalar::Int(number) => self.rest.add(number as f64, times),
                    Scalar::Real(number) => self.rest.add(number, times),
                    _ => {}
                }
            }
        }
    }

    fn value(&self) -> Result<Scalar<'static>, Overflow> {
        if self.not_whole == 0 {
            return i64::try_from(self.whole).map(Scalar::Int).map_err(|_| Overflow);
        }
        Ok(self.total())
    }

    fn total(&self) -> Scalar<'static> {
        let mut sum = self.rest.clone();
        sum.add_int(self.whole);
        sum.value().map_or(Scalar::Null, Scalar::Real)
    }
}
