//! Window functions: tuples become rows that stand in partitions, and a row's values follow from
//! its place there.
//!
//! A partition with a row that enters, changes or leaves is gone through again; of its other rows
//! those change for which a function gives something else.

use std::cmp::Ordering;
use std::collections::{BTreeMap, HashMap};
use std::ops::Range;
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::SmallVec;

use crate::query::expr::Expr;
use crate::query::expr::scalar::{Key, Scalar};
use crate::query::expr::window::Answer;
use crate::query::operator::frame::{Extent, Places, Sliding, number};
use crate::query::operator::join::TupleDelta;
use crate::query::operator::order::compare_key;
use crate::query::operator::rows::{
    KeptRow, KeptState, MadeRows, OfGiven, RowEdits, RowOperator, RowsState, edit_windowed,
};
use crate::query::operator::view::View;
use crate::query::operator::walk::Walk;
use crate::query::operator::window_values::{Given, RowNo, WindowValues};
use crate::query::plan::OrderKey;
use crate::query::plan::explain::Operator;
use crate::query::plan::text::PlanNames;
use crate::query::plan::window::{Bound, Called, Frame, FrameUnit, Window, WindowCall, Windowing};
use crate::query::work::{self, Failure};
use crate::sorting::{self, Numbered};
use crate::table::Slot;

/// What a row takes, more or less, besides its values.
const ROW_BYTES: usize = 120;

/// All partitions of one binding.
#[derive(Clone, Default)]
pub(crate) struct Partitions {
    rows: Vec<Option<Arc<KeptRow>>>,
    free: Vec<RowNo>,
    by_key: HashMap<Box<[Key]>, RowNo>,
    /// For each window its partitions: their rows in the window's order. First, numbers go along
    /// with the order in the first window, so that what changes together lies together.
    windows: Vec<HashMap<Box<[Key]>, Vec<RowNo>>>,
    pub(crate) given: WindowValues,
    failure: Option<Failure>,
}

impl Partitions {
    /// Bytes that they take, more or less.
    pub(crate) fn bytes(&self) -> usize {
        self.by_key.len() * ROW_BYTES
    }

    /// Why one of the rows cannot be computed, if so.
    pub(crate) fn failure(&self) -> Option<Failure> {
        self.failure.clone()
    }

    fn row(&self, number: RowNo) -> &KeptRow {
        static NONE: KeptRow =
            KeptRow { values: SmallVec::new_const(), keys: 0, failed: None, number: 0 };
        self.rows[number as usize].as_deref().unwrap_or(&NONE)
    }

    /// Adds a row that is new, and gives its number.
    fn add(&mut self, row: KeptRow) -> RowNo {
        let number = self.free.pop().unwrap_or_else(|| {
            self.rows.push(None);
            self.rows.len() as RowNo - 1
        });
        self.given.reach(number);
        self.by_key.insert(row.place(), number);
        self.rows[number as usize] = Some(Arc::new(KeptRow { number, ..row }));
        number
    }
}

/// A binding's window functions.
struct Binding<'b> {
    windowing: &'b Windowing,
    params: &'b [Scalar<'static>],
    /// For each call.
    extents: Vec<Extent>,
}

/// What rows were that are others now.
type Was = FxHashMap<RowNo, Option<Arc<KeptRow>>>;

/// One for each of the first functions.
fn bit(call: usize) -> u64 {
    if call < u64::BITS as usize { 1 << call } else { 0 }
}

/// What happened to the partitions of a window.
type Shifts = HashMap<Box<[Key]>, Shift>;

/// Rows that left a partition, and those that came to it.
#[derive(Default)]
struct Shift {
    gone: Vec<RowNo>,
    come: Vec<RowNo>,
}

impl<'b> Binding<'b> {
    fn new(windowing: &'b Windowing, params: &'b [Scalar<'static>]) -> Result<Self, Failure> {
        let calls = windowing.calls.iter();
        let extents = calls.map(|call| {
            if let Called::Function(function, arguments) = &call.called
                && let Some(count) = function.count_argument()
            {
                let found = match number(&arguments[count], params) {
                    Ok(0) => "0".to_owned(),
                    Ok(_) => return Extent::of(&call.frame, params),
                    Err(found) => found,
                };
                let (name, expected) = (function.name(), "a whole number above 0");
                return Err(Failure::of(format!(
                    "{name}() is called with {found}, expected {expected}"
                )));
            }
            Extent::of(&call.frame, params)
        });
        Ok(Self { windowing, params, extents: extents.collect::<Result<_, _>>()? })
    }

    fn value<'r>(&'r self, expr: &'r Expr, row: &'r KeptRow) -> Scalar<'r> {
        expr.eval(&&*row.values, self.params)
    }

    /// A tuple's row.
    fn new_row(&self, view: &View<'_>, tuple: &[Slot]) -> KeptRow {
        let mut values = SmallVec::new();
        view.each_of_key(tuple, |part| values.push(part.into_owned()));
        let keys = values.len();
        let row = view.row(tuple);
        let inputs = self.windowing.inputs.iter();
        values.extend(inputs.map(|input| input.eval(&row, self.params).into_owned()));
        KeptRow::new(values, keys)
    }

    /// The partition of a window that a row stands in.
    fn partition(&self, window: &Window, row: &KeptRow) -> Box<[Key]> {
        let by = window.partition.iter();
        by.map(|by| Key::from(self.value(by, row).into_owned())).collect()
    }

    /// How two rows stand to each other, as far as a window's order says.
    fn order(&self, order: &[OrderKey], a: &KeptRow, b: &KeptRow) -> Ordering {
        let keys = order.iter();
        let mut keys =
            keys.map(|key| compare_key(key, &self.value(&key.expr, a), &self.value(&key.expr, b)));
        keys.find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
    }

    /// The same; peers stand in the order of their keys.
    fn compare(&self, window: &Window, a: &KeptRow, b: &KeptRow) -> Ordering {
        self.order(&window.order, a, b).then_with(|| {
            let keys = a.key().iter().zip(b.key());
            keys.map(|(a, b)| a.order(b)).find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
        })
    }

    fn sort(&self, partitions: &Partitions, window: &Window, rows: &mut [RowNo]) {
        let row = |number: usize| partitions.row(number as RowNo);
        let mut numbered: Vec<Numbered> = rows.iter().map(|number| (0, *number)).collect();
        sorting::numbers(&mut numbered, &|a, b| self.compare(window, row(a), row(b)));
        rows.iter_mut().zip(numbered).for_each(|(place, (_, number))| *place = number);
    }

    /// Takes rows out of a partition and puts others in. Gives the places in front of which and
    /// behind which all rows stand where they stood.
    fn shift(
        &self,
        partitions: &Partitions,
        window: &Window,
        rows: &mut Vec<RowNo>,
        Shift { gone, come }: Shift,
    ) -> Range<usize> {
        /// More are put behind the others, and sorted with them.
        const FEW: usize = 8;
        let len = rows.len();
        // How many rows in front, and behind, stand where they stood.
        let (mut front, mut back) = (len, len);
        let mut met = |place: usize, len: usize| {
            (front, back) = (front.min(place), back.min(len - 1 - place))
        };
        if let [gone] = *gone {
            if let Some(place) = rows.iter().position(|row| *row == gone) {
                met(place, len);
                rows.remove(place);
            }
        } else if !gone.is_empty() {
            let gone: FxHashSet<RowNo> = gone.into_iter().collect();
            let places = rows.iter().enumerate().filter(|(_, row)| gone.contains(row));
            places.for_each(|(place, _)| met(place, len));
            rows.retain(|row| !gone.contains(row));
        }
        if come.len() > FEW {
            rows.extend(come);
            self.sort(partitions, window, rows);
            return 0..rows.len();
        }
        for new in come {
            let row = partitions.row(new);
            let stands_before =
                |other: &RowNo| self.compare(window, partitions.row(*other), row).is_lt();
            let place = rows.partition_point(stands_before);
            rows.insert(place, new);
            met(place, rows.len());
        }
        let last = if rows.len() == len { len - back } else { rows.len() };
        front.min(last)..last
    }

    /// Finds where the functions of a window give something else than before for a partition's rows;
    /// `shifted` are the places of those that may have had another place, and of those that are new.
    fn follow(
        &self,
        partitions: &Partitions,
        window: usize,
        (numbers, shifted): (&[RowNo], Range<usize>),
        news: &mut Vec<Given>,
    ) -> Result<(), Failure> {
        let rows: Vec<&KeptRow> = numbers.iter().map(|number| partitions.row(*number)).collect();
        let calls = self.windowing.calls.iter().zip(&self.extents).enumerate();
        let mine = || calls.clone().filter(|(_, (call, _))| call.window == window);
        let by_peers = mine().any(|(_, (call, _))| call.looks_at_peers());
        let order = &self.windowing.windows[window].order;
        let groups = match by_peers {
            true => self.groups(order, &rows),
            false => vec![0, rows.len()],
        };
        let all = || 0..rows.len();
        let places = || Places { rows: rows.len(), groups: &groups };
        for (number, (call, extent)) in mine() {
            let mut give = |at: usize, value: Scalar<'_>| {
                if *partitions.given.get(numbers[at], number) != value {
                    work::take_bytes(size_of::<Given>() + value.text_len());
                    let (row, value) = (numbers[at], value.into_owned());
                    news.push(Given { row, function: number, value });
                }
            };
            match &call.called {
                Called::Function(function, arguments) => {
                    let among = if function.is_of_place() { shifted.clone() } else { all() };
                    places().each(*extent, among, |place| {
                        let of = |number: usize, at: usize| {
                            arguments.get(number).map(|argument| self.value(argument, rows[at]))
                        };
                        let answer = function.answer(&place, |number| of(number, place.at));
                        let value = match answer {
                            Answer::Value(value) => Some(value),
                            Answer::Of(at) => of(0, at),
                            Answer::Nothing => of(2, place.at),
                        };
                        give(place.at, value.unwrap_or(Scalar::Null));
                    });
                }
                Called::Aggregate(aggregate) => {
                    let mut sliding = Sliding::new(aggregate, &rows, self.params, *extent);
                    let mut failure = None;
                    places().each(*extent, all(), |place| match sliding.over(place.frame) {
                        Ok(value) => give(place.at, value),
                        Err(failed) => failure = failure.take().or(Some(failed)),
                    });
                    failure.map_or(Ok(()), Err)?;
                }
            }
        }
        Ok(())
    }

    /// Where groups of peers begin, and where the last one ends.
    fn groups(&self, order: &[OrderKey], rows: &[&KeptRow]) -> Vec<usize> {
        let begins = |at: &usize| {
            *at == 0 || !order.is_empty() && self.order(order, rows[at - 1], rows[*at]).is_ne()
        };
        (0..rows.len()).filter(begins).chain([rows.len()]).collect()
    }
}

impl WindowCall {
    /// Whether it looks at which rows are peers.
    fn looks_at_peers(&self) -> bool {
        let (by_itself, has_frame) = match self.called {
            Called::Function(function, _) => (function.looks_at_peers(), function.has_frame()),
            Called::Aggregate(_) => (false, true),
        };
        by_itself || has_frame && self.frame.unit != FrameUnit::Rows
    }
}

impl Windowing {
    /// Puts all rows into their partitions, and finds what functions give for them.
    fn divide(
        &self,
        partitions: &mut Partitions,
        binding: &Binding<'_>,
        rows: Vec<KeptRow>,
    ) -> Result<(), Failure> {
        let mut divided: HashMap<Box<[Key]>, Vec<KeptRow>> = HashMap::new();
        for row in rows {
            divided.entry(binding.partition(&self.windows[0], &row)).or_default().push(row);
        }
        let mut first = HashMap::new();
        for (key, mut rows) in divided {
            rows.sort_unstable_by(|a, b| binding.compare(&self.windows[0], a, b));
            first.insert(key, rows.into_iter().map(|row| partitions.add(row)).collect());
        }
        partitions.windows.push(first);
        for window in &self.windows[1..] {
            let mut divided: HashMap<Box<[Key]>, Vec<RowNo>> = HashMap::new();
            for row in partitions.rows.iter().flatten() {
                divided.entry(binding.partition(window, row)).or_default().push(row.number);
            }
            divided.values_mut().for_each(|rows| binding.sort(partitions, window, rows));
            partitions.windows.push(divided);
        }
        let mut news = Vec::new();
        for (number, window) in partitions.windows.iter().enumerate() {
            for rows in window.values() {
                binding.follow(partitions, number, (rows, 0..rows.len()), &mut news)?;
            }
        }
        partitions.given.set(news.into_iter());
        Ok(())
    }

    /// Puts changed rows into the place of those that they were. Gives what those were, by number,
    /// and for each window which rows left which partition, and came to it.
    fn replace(
        &self,
        partitions: &mut Partitions,
        binding: &Binding<'_>,
        changed: BTreeMap<Box<[Key]>, Option<KeptRow>>,
    ) -> (Was, Vec<Shifts>) {
        let mut was = Was::default();
        let mut shifts: Vec<Shifts> = self.windows.iter().map(|_| Shifts::new()).collect();
        for (place, new) in changed {
            let known = partitions.by_key.get(&place).copied();
            let old = known.and_then(|number| partitions.rows[number as usize].clone());
            let (number, new) = match (known, new) {
                (None, None) => continue,
                (None, Some(new)) => {
                    let number = partitions.add(new);
                    (number, partitions.rows[number as usize].clone())
                }
                (Some(number), new) => (number, new.map(|new| Arc::new(KeptRow { number, ..new }))),
            };
            if let (Some(old), Some(new)) = (&old, &new)
                && old.values == new.values
            {
                continue;
            }
            for (window, shifts) in self.windows.iter().zip(&mut shifts) {
                if let Some(old) = &old {
                    let left = shifts.entry(binding.partition(window, old));
                    left.or_default().gone.push(number);
                }
                if let Some(new) = &new {
                    let entered = shifts.entry(binding.partition(window, new));
                    entered.or_default().come.push(number);
                }
            }
            if new.is_none() {
                partitions.by_key.remove(&place);
            }
            partitions.rows[number as usize] = new;
            was.insert(number, old);
        }
        (was, shifts)
    }
}

impl RowOperator for Windowing {
    fn compute(&self, view: &View<'_>, params: &[Scalar<'static>], empty: bool) -> MadeRows {
        let given = WindowValues::new(self.calls.len());
        let mut partitions = Partitions { given, ..Partitions::default() };
        let made = Binding::new(self, params).and_then(|binding| {
            let mut rows = Vec::new();
            if !empty {
                Walk { view, params }.all(&mut |tuple| {
                    let row = binding.new_row(view, tuple);
                    if work::take_row(row.bytes() + ROW_BYTES) {
                        rows.push(row);
                    }
                });
            }
            self.divide(&mut partitions, &binding, rows)
        });
        partitions.failure = made.err();
        let rows = partitions.rows.iter().flatten().cloned().collect();
        MadeRows { rows, state: KeptState::Partitions(partitions).into() }
    }

    fn apply(
        &self,
        state: &mut RowsState,
        (before, after): (&View<'_>, &View<'_>),
        params: &[Scalar<'static>],
        tuples: &[TupleDelta],
    ) -> Option<RowEdits> {
        let Some(KeptState::Partitions(partitions)) = state.0.as_deref_mut() else { return None };
        let binding = Binding::new(self, params).ok()?;
        let mut changed: BTreeMap<Box<[Key]>, Option<KeptRow>> = BTreeMap::new();
        for tuple in tuples {
            if tuple.before {
                let key = before.key(&tuple.tuple).into_iter().map(Key::from).collect();
                changed.entry(key).or_default();
            }
            if tuple.after {
                let row = binding.new_row(after, &tuple.tuple);
                changed.insert(row.place(), Some(row));
            }
        }
        let given = partitions.given.clone();
        let (was, shifts) = self.replace(partitions, &binding, changed);
        let mut news = Vec::new();
        for (number, shifts) in shifts.into_iter().enumerate() {
            for (key, shift) in shifts {
                let mut rows = partitions.windows[number].remove(&key).unwrap_or_default();
                let shifted = binding.shift(partitions, &self.windows[number], &mut rows, shift);
                let rows_and_shifted = (&*rows, shifted);
                if let Err(failure) =
                    binding.follow(partitions, number, rows_and_shifted, &mut news)
                {
                    partitions.failure = Some(failure);
                }
                if !rows.is_empty() {
                    partitions.windows[number].insert(key, rows);
                }
            }
        }
        // Of the other rows, for which functions something else is given.
        let news_of_old = news.iter().filter(|given| !was.contains_key(&given.row));
        let mut differing: Vec<(RowNo, u64)> = Vec::with_capacity(news.len());
        differing.extend(news_of_old.map(|given| (given.row, bit(given.function))));
        differing.sort_unstable();
        differing.dedup_by(|(row, more), (of, calls)| {
            let is_same = row == of;
            *calls |= if is_same { *more } else { 0 };
            is_same
        });
        partitions.given.set(news.into_iter());
        let is = &partitions.given;
        let mut edits = RowEdits::with_capacity(was.len() + differing.len());
        for (number, old) in was {
            let new = partitions.rows[number as usize].clone();
            if new.is_none() {
                partitions.free.push(number);
            }
            edits.extend(edit_windowed(after.plan, params, (old, &given), (new, is)));
        }
        let of_given =
            OfGiven::new(after.plan, params, after.plan.tuple_key_len + self.inputs.len());
        for (number, calls) in differing {
            let Some(row) = &partitions.rows[number as usize] else { continue };
            let differs = |call: usize| calls & bit(call) != 0;
            edits.extend(of_given.edit(row, (&given, is), differs));
        }
        Some(edits)
    }

    fn each_expr<'e>(&'e self, each: &mut dyn FnMut(&'e Expr)) {
        self.inputs.iter().for_each(each);
    }

    fn each_late_expr<'e>(&'e self, each: &mut dyn FnMut(&'e Expr)) {
        Windowing::each_late_expr(self, each);
    }

    fn is_by_tuple(&self) -> bool {
        false
    }

    fn fails_by_row(&self) -> bool {
        false
    }

    fn value_name(&self, names: &PlanNames<'_>, value: usize, keys: usize) -> String {
        let Some(value) = value.checked_sub(keys) else { return names.key(value) };
        match self.inputs.get(value) {
            Some(input) => names.text_of(input),
            None => self.call_text(names, &self.calls[value - self.inputs.len()]),
        }
    }

    fn keeps(&self) -> &'static str {
        "its rows' values"
    }

    fn describe(&self, names: &PlanNames<'_>) -> Option<Operator> {
        let windows = self.windows.iter().map(|window| window_text(names, window));
        let windows: Vec<String> = windows.collect();
        let calls = self.calls.iter().map(|call| self.call_text(names, call));
        let calls: Vec<String> = calls.collect();
        let what = match windows.join(", and ") {
            all if all.is_empty() => "over all rows".to_owned(),
            windows => windows,
        };
        Some(
            Operator::new("window", what)
                .fact("computes", calls.join(", "))
                .fact("keeps", "each row's values, and for each partition its rows in order")
                .fact(
                    "follows",
                    "goes through a partition again when a row enters, changes or leaves there",
                ),
        )
    }
}

impl Windowing {
    /// A window function as SQL has it.
    fn call_text(&self, names: &PlanNames<'_>, call: &WindowCall) -> String {
        let of = |expr: &Expr| names.text_of_filter(expr);
        let called = match &call.called {
            Called::Function(function, arguments) => {
                let arguments: Vec<String> = arguments.iter().map(of).collect();
                format!("{}({})", function.name(), arguments.join(", "))
            }
            Called::Aggregate(aggregate) => names.aggregate(aggregate, &of),
        };
        let window = window_text(names, &self.windows[call.window]);
        let frame = match &call.frame {
            frame if *frame == Frame::default() => String::new(),
            frame => frame_text(names, frame),
        };
        let over: Vec<String> =
            [window, frame].into_iter().filter(|text| !text.is_empty()).collect();
        format!("{called} OVER ({})", over.join(" "))
    }
}

fn window_text(names: &PlanNames<'_>, window: &Window) -> String {
    let of = |expr: &Expr| names.text_of_filter(expr);
    let by: Vec<String> = window.partition.iter().map(of).collect();
    let partition = format!("PARTITION BY {}", by.join(", "));
    let order = format!("ORDER BY {}", names.order(&window.order, &of));
    let parts = [(partition, by.is_empty()), (order, window.order.is_empty())];
    let parts = parts.into_iter().filter(|(_, is_empty)| !is_empty).map(|(text, _)| text);
    parts.collect::<Vec<_>>().join(" ")
}

fn frame_text(names: &PlanNames<'_>, frame: &Frame) -> String {
    let unit = match frame.unit {
        FrameUnit::Rows => "ROWS",
        FrameUnit::Range => "RANGE",
        FrameUnit::Groups => "GROUPS",
    };
    let bound = |bound: &Bound, far: &str| match bound {
        Bound::Unbounded => format!("UNBOUNDED {far}"),
        Bound::Current => "CURRENT ROW".to_owned(),
        Bound::Preceding(by) => format!("{} PRECEDING", names.text_of_filter(by)),
        Bound::Following(by) => format!("{} FOLLOWING", names.text_of_filter(by)),
    };
    let (start, end) = (bound(&frame.start, "PRECEDING"), bound(&frame.end, "FOLLOWING"));
    format!("{unit} BETWEEN {start} AND {end}")
}
