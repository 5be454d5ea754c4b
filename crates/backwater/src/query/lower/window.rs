//! Window functions: which windows a statement names, and what its functions are called for.

use super::Lowered;
use super::block::Block;
use super::expression::Clause;
use super::function::aggregate_named;
use super::regroup::Placed;
use crate::query::expr::function::Function;
use crate::query::expr::scalar::Scalar;
use crate::query::expr::window::WindowFunction;
use crate::query::expr::{ColumnNo, Expr};
use crate::query::plan::window::{Bound, Called, Frame, FrameUnit, Window, WindowCall};
use crate::query::plan::{OrderKey, Plan, Windowing};
use crate::query::syntax::tree::{self, Arguments, Call, Over};
use crate::query::syntax::{Location, Refusal};
use crate::schema::Schema;

/// The windows of a SELECT while it is being lowered.
#[derive(Default)]
pub(super) struct OpenWindows<'a> {
    /// Those that WINDOW names.
    pub(super) named: &'a [(tree::Name, tree::Window)],
    /// Whether a window function may stand here.
    pub(super) may_stand: bool,
    windows: Vec<Window>,
    calls: Vec<WindowCall>,
    /// The places of the named ones that are used.
    used: Vec<usize>,
    /// The columns that stand in them, and where.
    met: Vec<(ColumnNo, Location)>,
}

/// What a window is, with what it has from the named ones that it goes on from.
#[derive(Clone, Copy, Default)]
struct Resolved<'a> {
    partition: &'a [tree::Expr],
    order: &'a [tree::OrderTerm],
    frame: Option<&'a tree::Frame>,
}

impl<'a> Block<'a, '_> {
    /// A function with OVER.
    pub(super) fn window_call(
        &mut self,
        call: &'a Call,
        name: &str,
        over: &'a Over,
    ) -> Lowered<Expr> {
        let at = call.name.at;
        if self.place != Clause::Group || !self.windows.may_stand {
            let message = format!("the window function {name}() cannot stand here");
            let help = "it stands in result columns and ORDER BY; to filter by it, put the statement \
                        into FROM (SELECT …)";
            return Err(Refusal::new(at, message, help));
        }
        let resolved = self.resolved(over)?;
        // What stands in a window sees no names of result columns, and no window functions.
        let (names, met) = (std::mem::take(&mut self.names), self.met.len());
        self.windows.may_stand = false;
        let lowered = self.windowed(call, name, resolved);
        self.windows.may_stand = true;
        self.names = names;
        self.windows.met.extend(self.met.drain(met.min(self.met.len())..));
        let (window, called, frame) = lowered?;
        let windows = &mut self.windows.windows;
        let known = windows.iter().position(|known| *known == window);
        let window = known.unwrap_or_else(|| {
            windows.push(window);
            windows.len() - 1
        });
        let (made, calls) = (WindowCall { window, called, frame }, &mut self.windows.calls);
        let known = calls.iter().position(|known| *known == made);
        Ok(Expr::Window(known.unwrap_or_else(|| {
            calls.push(made);
            calls.len() - 1
        })))
    }

    fn windowed(
        &mut self,
        call: &'a Call,
        name: &str,
        resolved: Resolved<'a>,
    ) -> Lowered<(Window, Called, Frame)> {
        let called = self.called(call, name)?;
        let partition = resolved.partition.iter().map(|expr| self.folded(expr));
        let partition = partition.collect::<Lowered<Vec<_>>>()?;
        let order = resolved.order.iter().map(|term| {
            let key = self.sort_key(term, &[])?;
            self.windows.met.extend(key.placed.met);
            let (expr, collation) = (key.placed.expr, key.collation);
            let (descending, nulls_first) = (key.descending, key.nulls_first);
            Ok(OrderKey { expr, descending, nulls_first, collation, holds_times: false })
        });
        let order = order.collect::<Lowered<Vec<_>>>()?;
        let frame = match resolved.frame {
            // Those that are no aggregates mostly look at the partition, whatever frame is given.
            Some(frame) => self.frame(frame)?,
            None => Frame::default(),
        };
        Ok((Window { partition, order }, called, frame))
    }

    fn called(&mut self, call: &'a Call, name: &str) -> Lowered<Called> {
        let at = call.name.at;
        if call.distinct == Some(true) {
            let message = "DISTINCT is not supported in a window function";
            return Err(Refusal::new(at, message, "count the distinct rows of a subquery"));
        }
        if !call.order.is_empty() {
            let message = "ORDER BY is not supported inside of a window function";
            return Err(Refusal::new(at, message, "order the window: OVER (ORDER BY …)"));
        }
        if let Some(function) = aggregate_named(name, call) {
            return self.aggregate_over(function, name, call, Clause::Group).map(Called::Aggregate);
        }
        let known = WindowFunction::ALL.iter().find(|(known, ..)| *known == name);
        let Some((_, function, least, most)) = known else {
            let message = format!("{name}() is no window function");
            let names = WindowFunction::ALL.map(|(name, ..)| name).join(", ");
            let help = format!("OVER follows an aggregate, or one of {names}");
            return Err(Refusal::new(at, message, help));
        };
        if call.filter.is_some() {
            let message = format!("{name}() is no aggregate, so it takes no FILTER");
            return Err(Refusal::new(at, message, "leave rows out by WHERE, in a subquery"));
        }
        let list = match &call.arguments {
            Arguments::All => {
                return Err(Refusal::new(at, format!("\"*\" is no argument of {name}()"), ""));
            }
            Arguments::List(list) => list,
        };
        if !(*least..=*most).contains(&list.len()) {
            let expected = match (*least, *most) {
                (0, 0) => "none".to_owned(),
                (least, most) if least == most => least.to_string(),
                (least, most) => format!("{least} to {most}"),
            };
            let message = format!("{name}() has {}, expected {expected}", arguments(list.len()));
            return Err(Refusal::new(at, message, ""));
        }
        let arguments = list.iter().map(|argument| self.expr(argument));
        let arguments = arguments.collect::<Lowered<Vec<_>>>()?;
        if let Some(count) = function.count_argument() {
            let is_fine = match &arguments[count] {
                Expr::Literal(Scalar::Int(number)) => *number > 0,
                Expr::Param(_) => true,
                _ => false,
            };
            if !is_fine {
                let message = format!("{name}() takes a whole number above 0 here");
                return Err(Refusal::new(
                    list[count].at,
                    message,
                    "write a number, or a parameter",
                ));
            }
        }
        Ok(Called::Function(*function, arguments))
    }

    fn resolved(&mut self, over: &'a Over) -> Lowered<Resolved<'a>> {
        match over {
            Over::Named(name) => self.named_window(name, self.windows.named.len()),
            Over::Window(window) => self.going_on(window, self.windows.named.len()),
        }
    }

    /// One of the first named windows.
    fn named_window(&mut self, name: &tree::Name, first: usize) -> Lowered<Resolved<'a>> {
        let named = &self.windows.named[..first];
        let is_it =
            |(known, _): &(tree::Name, tree::Window)| known.text.eq_ignore_ascii_case(&name.text);
        match named.iter().position(is_it) {
            Some(place) => {
                self.windows.used.push(place);
                self.going_on(&named[place].1, place)
            }
            None => {
                let message = format!("there is no window \"{}\"", name.text);
                let help = "name it behind WHERE and GROUP BY: WINDOW w AS (…)";
                Err(Refusal::new(name.at, message, help))
            }
        }
    }

    fn going_on(&mut self, window: &'a tree::Window, first: usize) -> Lowered<Resolved<'a>> {
        let own = Resolved {
            partition: &window.partition,
            order: &window.order,
            frame: window.frame.as_ref(),
        };
        let Some(name) = &window.base else { return Ok(own) };
        let base = self.named_window(name, first)?;
        let twice = |what: &str| {
            let message = format!("the window \"{}\" has {what} already", name.text);
            Err(Refusal::new(window.at, message, "say it once, in one of the two"))
        };
        match () {
            () if !own.partition.is_empty() => {
                let message = format!("PARTITION BY cannot follow the window \"{}\"", name.text);
                Err(Refusal::new(window.at, message, "write out the whole window"))
            }
            () if base.frame.is_some() => twice("a frame"),
            () if !own.order.is_empty() && !base.order.is_empty() => twice("an order"),
            () => {
                let order = if base.order.is_empty() { own.order } else { base.order };
                Ok(Resolved { partition: base.partition, order, frame: own.frame })
            }
        }
    }

    fn frame(&mut self, frame: &'a tree::Frame) -> Lowered<Frame> {
        use tree::Bound as B;
        if let Some(at) = frame.excludes {
            let message = "EXCLUDE is not supported";
            return Err(Refusal::new(at, message, "leave it out, and subtract the current row"));
        }
        // How far behind the first row of a partition a bound lies at least.
        let side = |bound: &B, is_end: bool| match bound {
            B::Preceding(None) => {
                if is_end {
                    None
                } else {
                    Some(0)
                }
            }
            B::Preceding(Some(_)) => Some(1),
            B::CurrentRow => Some(2),
            B::Following(Some(_)) => Some(3),
            B::Following(None) => is_end.then_some(4),
        };
        let sides = (side(&frame.start, false), side(&frame.end, true));
        let is_forward = matches!(sides, (Some(start), Some(end)) if start <= end);
        if !is_forward {
            let message = "this frame ends before it begins";
            let help = "write it as in ROWS BETWEEN 3 PRECEDING AND CURRENT ROW";
            return Err(Refusal::new(frame.at, message, help));
        }
        let unit = match frame.unit {
            tree::FrameUnit::Rows => FrameUnit::Rows,
            tree::FrameUnit::Range => FrameUnit::Range,
            tree::FrameUnit::Groups => FrameUnit::Groups,
        };
        Ok(Frame {
            unit,
            start: self.bound(&frame.start, unit)?,
            end: self.bound(&frame.end, unit)?,
        })
    }

    fn bound(&mut self, bound: &'a tree::Bound, unit: FrameUnit) -> Lowered<Bound> {
        use tree::Bound as B;
        let (B::Preceding(Some(number)) | B::Following(Some(number))) = bound else {
            return Ok(match bound {
                B::CurrentRow => Bound::Current,
                _ => Bound::Unbounded,
            });
        };
        let at = number.at;
        if unit == FrameUnit::Range {
            let message = "RANGE with a number is not supported";
            return Err(Refusal::new(
                at,
                message,
                "count rows with ROWS, or groups of equal rows with GROUPS",
            ));
        }
        let number = self.expr(number)?;
        let is_fine = match &number {
            Expr::Literal(number) => matches!(number, Scalar::Int(number) if *number >= 0),
            other => other.is_constant(),
        };
        if !is_fine {
            let message = "a frame counts a whole number of rows, the same for all of them";
            return Err(Refusal::new(at, message, "use a number of at least 0, or a parameter"));
        }
        Ok(match bound {
            B::Preceding(_) => Bound::Preceding(number),
            _ => Bound::Following(number),
        })
    }
}

impl OpenWindows<'_> {
    /// The window functions that were met, with their expressions as `regroup` makes them.
    pub(super) fn close(
        self,
        regroup: &dyn Fn(Placed) -> Lowered<Expr>,
    ) -> Lowered<Option<Windowing>> {
        let Self { windows, calls, met, named, used, .. } = self;
        let unused = (0..named.len()).find(|place| !used.contains(place));
        if let Some((name, _)) = unused.map(|place| &named[place]) {
            let message = format!("the window \"{}\" is not used", name.text);
            return Err(Refusal::new(name.at, message, "leave it out"));
        }
        if calls.is_empty() {
            return Ok(None);
        }
        let mut windowing = Windowing { inputs: Vec::new(), windows, calls };
        let mut refused = None;
        windowing.each_late_expr_mut(&mut |expr| match regroup(Placed {
            expr: expr.clone(),
            met: met.clone(),
        }) {
            Ok(regrouped) => *expr = regrouped,
            Err(refusal) => refused = refused.take().or(Some(refusal)),
        });
        refused.map_or(Ok(Some(windowing)), Err)
    }
}

/// Puts what a plan's window functions and outputs read of tuples into the rows, with what the
/// functions give behind it. What is in a row's key is not put in once more.
pub(super) fn settle(windowing: &mut Windowing, plan: &mut Plan, schema: &Schema) {
    let first = plan.key_len();
    let mut kept = Kept { key: plan.key_columns(schema), inputs: Vec::new() };
    windowing.each_ordering_expr_mut(&mut |expr| kept.put(expr));
    let outputs = plan.outputs.iter_mut().map(|output| &mut output.expr);
    let mut shown: Vec<&mut Expr> =
        outputs.chain(plan.order.iter_mut().map(|key| &mut key.expr)).collect();
    shown.iter_mut().for_each(|expr| beside_windows(expr, &mut |expr| kept.put(expr)));
    // A row's partition is asked for only when it enters or leaves, so what it is computed from does.
    for window in &mut windowing.windows {
        for expr in &mut window.partition {
            if !kept.compute(expr) {
                kept.put(expr);
            }
        }
    }
    shown.into_iter().for_each(|expr| place_given(expr, first + kept.inputs.len()));
    windowing.inputs = kept.inputs;
}

/// What the rows under window functions keep of tuples.
struct Kept {
    /// The columns that a row's key consists of.
    key: Vec<Option<ColumnNo>>,
    /// What stands behind the key.
    inputs: Vec<Expr>,
}

impl Kept {
    /// Where an expression's value stands in a row, if it does.
    fn place(&self, expr: &Expr) -> Option<usize> {
        let of_key = match expr {
            Expr::Column(column) => self.key.iter().position(|key| *key == Some(*column)),
            _ => None,
        };
        let of_inputs = || self.inputs.iter().position(|known| known == expr);
        of_key.or_else(|| Some(self.key.len() + of_inputs()?))
    }

    /// Replaces an expression over a tuple by the column that has its value.
    fn put(&mut self, expr: &mut Expr) {
        if expr.is_constant() {
            return;
        }
        let place = self.place(expr).unwrap_or_else(|| {
            self.inputs.push(expr.clone());
            self.key.len() + self.inputs.len() - 1
        });
        let value = Expr::Column(ColumnNo::only(place));
        let is_json = expr.is_json();
        *expr = if is_json { Expr::Call(Function::IsJson, vec![value]) } else { value };
    }

    /// Replaces the columns that an expression is computed from, if the rows have all of them.
    fn compute(&self, expr: &mut Expr) -> bool {
        let is_kept = expr.columns().iter().all(|of| self.place(&Expr::Column(*of)).is_some());
        if is_kept {
            self.replace_columns(expr);
        }
        is_kept
    }

    fn replace_columns(&self, expr: &mut Expr) {
        match expr {
            Expr::Column(_) => {
                if let Some(place) = self.place(expr) {
                    *expr = Expr::Column(ColumnNo::only(place));
                }
            }
            other => other.children_mut(&mut |child| self.replace_columns(child)),
        }
    }
}

/// Calls `input` with the largest parts of an expression that hold no window function.
fn beside_windows(expr: &mut Expr, input: &mut dyn FnMut(&mut Expr)) {
    let mut has_window = false;
    expr.walk(&mut |expr| has_window |= matches!(expr, Expr::Window(_)));
    match has_window {
        true => expr.children_mut(&mut |child| beside_windows(child, input)),
        false => input(expr),
    }
}

/// Puts the columns of what window functions give in their places.
fn place_given(expr: &mut Expr, first: usize) {
    match expr {
        Expr::Window(number) => *expr = Expr::Column(ColumnNo::only(first + *number)),
        other => other.children_mut(&mut |child| place_given(child, first)),
    }
}

fn arguments(count: usize) -> String {
    format!("{count} argument{}", if count == 1 { "" } else { "s" })
}
