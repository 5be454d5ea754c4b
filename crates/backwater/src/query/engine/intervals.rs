//! Intervals of values, and those of them that hold a value: how ranges and equalities are found
//! from what a row holds, without a look at each.

use std::cmp::Ordering;

use crate::query::expr::scalar::Scalar;

/// At most this many entries are in a block.
const BLOCK: usize = 64;

/// Values that belong together.
#[derive(Debug, Clone)]
pub(super) enum Interval {
    Point(Scalar<'static>),
    /// From one to another, both included; an end that is missing is open.
    Between {
        low: Option<Scalar<'static>>,
        high: Option<Scalar<'static>>,
    },
}

impl Interval {
    fn low(&self) -> Option<&Scalar<'static>> {
        match self {
            Self::Point(value) => Some(value),
            Self::Between { low, .. } => low.as_ref(),
        }
    }

    fn high(&self) -> Option<&Scalar<'static>> {
        match self {
            Self::Point(value) => Some(value),
            Self::Between { high, .. } => high.as_ref(),
        }
    }

    fn order(&self, other: &Self) -> Ordering {
        let low = match (self.low(), other.low()) {
            (Some(a), Some(b)) => a.order(b),
            (a, b) => a.is_some().cmp(&b.is_some()),
        };
        low.then_with(|| order_high(self.high(), other.high()))
    }

    fn begins_by(&self, value: &Scalar<'_>) -> bool {
        self.low().is_none_or(|low| low.order(value).is_le())
    }

    fn holds(&self, value: &Scalar<'_>) -> bool {
        match self {
            Self::Point(point) => point.order(value).is_eq(),
            Self::Between { high, .. } => {
                self.begins_by(value) && order_high(high.as_ref(), Some(value)).is_ge()
            }
        }
    }
}

/// The order of two upper ends, of which an open one is the highest.
fn order_high(a: Option<&Scalar<'_>>, b: Option<&Scalar<'_>>) -> Ordering {
    match (a, b) {
        (Some(a), Some(b)) => a.order(b),
        (a, b) => a.is_none().cmp(&b.is_none()),
    }
}

/// Items that each have an interval, in blocks, ordered by where these begin.
#[derive(Debug)]
pub(super) struct Intervals<T> {
    blocks: Vec<Block<T>>,
}

#[derive(Debug)]
struct Block<T> {
    entries: Vec<(Interval, T)>,
    /// The highest end in this block.
    own: Option<Scalar<'static>>,
    /// The highest end in this block and all before it: behind it, nothing holds a value.
    highest: Option<Scalar<'static>>,
}

impl<T> Block<T> {
    fn new(entries: Vec<(Interval, T)>) -> Self {
        let mut block = Self { entries, own: None, highest: None };
        block.set_own_reach();
        block
    }

    fn set_own_reach(&mut self) {
        let ends = self.entries.iter().map(|(interval, _)| interval.high());
        self.own = ends.max_by(|a, b| order_high(*a, *b)).flatten().cloned();
    }
}

impl<T> Default for Intervals<T> {
    fn default() -> Self {
        Self { blocks: Vec::new() }
    }
}

impl<T: Copy + Ord> Intervals<T> {
    pub(super) fn is_empty(&self) -> bool {
        self.blocks.is_empty()
    }

    /// Calls `found` with all whose interval holds a value; NULL is in none.
    pub(super) fn holding(&self, value: &Scalar<'_>, mut found: impl FnMut(T)) {
        if value.is_null() {
            return;
        }
        // Mostly there is one, which is not worth another look.
        if let [Block { entries, .. }] = &*self.blocks
            && let [(interval, of)] = &**entries
        {
            if interval.holds(value) {
                found(*of);
            }
            return;
        }
        let begun = self.blocks.partition_point(|block| block.entries[0].0.begins_by(value));
        for block in self.blocks[..begun].iter().rev() {
            if order_high(block.highest.as_ref(), Some(value)).is_lt() {
                return;
            }
            for (interval, of) in &block.entries {
                if interval.holds(value) {
                    found(*of);
                }
            }
        }
    }

    pub(super) fn insert(&mut self, interval: Interval, of: T) {
        let order = |(other, one): &(Interval, T)| other.order(&interval).then(one.cmp(&of));
        let place = self.blocks.partition_point(|block| order(&block.entries[0]).is_le());
        let place = place.saturating_sub(1);
        match self.blocks.get_mut(place) {
            None => {
                self.blocks.push(Block::new(vec![(interval, of)]));
                self.set_reach(place, place);
            }
            Some(block) => {
                let at = block.entries.partition_point(|entry| order(entry).is_lt());
                block.entries.insert(at, (interval, of));
                let rest = block.entries.len() > BLOCK;
                let rest = rest.then(|| block.entries.split_off(BLOCK / 2));
                block.set_own_reach();
                let mut last = place;
                if let Some(rest) = rest {
                    last = place + 1;
                    self.blocks.insert(last, Block::new(rest));
                }
                self.set_reach(place, last);
            }
        }
    }

    pub(super) fn remove(&mut self, interval: &Interval, of: T) {
        let order = |(other, one): &(Interval, T)| other.order(interval).then(one.cmp(&of));
        let place = self.blocks.partition_point(|block| order(&block.entries[0]).is_le());
        let Some(place) = place.checked_sub(1) else { return };
        let block = &mut self.blocks[place];
        if let Ok(at) = block.entries.binary_search_by(order) {
            block.entries.remove(at);
        }
        if block.entries.is_empty() {
            self.blocks.remove(place);
        } else {
            block.set_own_reach();
        }
        self.set_reach(place, place);
    }

    /// Puts one in the place of another.
    pub(super) fn turn(&mut self, from: &Interval, to: Interval, of: T) {
        if let [Block { entries, own, highest }] = &mut *self.blocks
            && let [(interval, _)] = &mut **entries
        {
            *own = to.high().cloned();
            highest.clone_from(own);
            *interval = to;
            return;
        }
        self.remove(from, of);
        self.insert(to, of);
    }

    /// Recomputes how high blocks reach, from one on; behind the last one that was changed only for
    /// as long as that makes a difference.
    fn set_reach(&mut self, from: usize, last_changed: usize) {
        for place in from..self.blocks.len() {
            let before = place.checked_sub(1).map(|before| &self.blocks[before].highest);
            let (block, own) = (&self.blocks[place], &self.blocks[place].own);
            let higher = before.filter(|before| order_high(before.as_ref(), own.as_ref()).is_gt());
            let highest = higher.unwrap_or(own);
            if place > last_changed && *highest == block.highest {
                return;
            }
            self.blocks[place].highest = highest.clone();
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn interval() -> impl Strategy<Value = (Option<i64>, Option<i64>)> {
        (prop::option::of(0..20_i64), prop::option::of(0..20_i64))
    }

    proptest! {
        /// Against a look at each, while intervals come and go.
        #[test]
        fn those_that_hold_a_value_are_found(
            steps in prop::collection::vec((interval(), any::<bool>(), 0..500_usize), 0..400),
            values in prop::collection::vec(-1..21_i64, 10),
        ) {
            let (mut index, mut all) = (Intervals::default(), Vec::new());
            for (number, ((low, high), leaves, which)) in steps.into_iter().enumerate() {
                let interval = |low: Option<i64>, high: Option<i64>| match (low, high) {
                    (Some(low), Some(high)) if low == high => Interval::Point(Scalar::Int(low)),
                    (low, high) => Interval::Between {
                        low: low.map(Scalar::Int),
                        high: high.map(Scalar::Int),
                    },
                };
                if leaves && !all.is_empty() {
                    let (low, high, of) = all.swap_remove(which % all.len());
                    index.remove(&interval(low, high), of);
                } else {
                    index.insert(interval(low, high), number);
                    all.push((low, high, number));
                }
            }
            for value in values {
                let mut found = Vec::new();
                index.holding(&Scalar::Int(value), |of| found.push(of));
                found.sort_unstable();
                let holds = |(low, high, _): &&(Option<i64>, Option<i64>, usize)| {
                    low.is_none_or(|low| low <= value) && high.is_none_or(|high| value <= high)
                };
                let mut expected: Vec<usize> = all.iter().filter(holds).map(|(.., of)| *of).collect();
                expected.sort_unstable();
                prop_assert_eq!(found, expected);
            }
            prop_assert_eq!(index.is_empty(), all.is_empty());
        }
    }
}
