//! Functions and aggregates, also those that SQL spells in a way of its own.

use super::Lowered;
use super::block::Block;
use super::expression::Clause;
use crate::error::{did_you_mean, nearest_name};
use crate::query::expr::collation::Collation;
use crate::query::expr::function::{Cast, Function};
use crate::query::expr::scalar::{Affinity, Scalar};
use crate::query::expr::window::WindowFunction;
use crate::query::expr::{Comparison, Expr, datetime};
use crate::query::plan::{Aggregate, AggregateFunction, OrderKey};
use crate::query::syntax::tree::{self, Arguments, Call};
use crate::query::syntax::{Location, Refusal};

/// Aggregates by name; min and max are so with one argument only.
const AGGREGATES: [(&str, AggregateFunction); 10] = [
    ("count", AggregateFunction::Count),
    ("sum", AggregateFunction::Sum),
    ("total", AggregateFunction::Total),
    ("avg", AggregateFunction::Average),
    ("min", AggregateFunction::Min),
    ("max", AggregateFunction::Max),
    ("group_concat", AggregateFunction::Concat),
    ("string_agg", AggregateFunction::Concat),
    ("json_group_array", AggregateFunction::JsonArray),
    ("json_group_object", AggregateFunction::JsonObject),
];

impl<'a> Block<'a, '_> {
    pub(super) fn function(&mut self, call: &'a Call) -> Lowered<Expr> {
        let (name, at) = (call.name.text.to_ascii_lowercase(), call.name.at);
        if let Some(over) = &call.over {
            return self.window_call(call, &name, over);
        }
        let list = match &call.arguments {
            Arguments::All => None,
            Arguments::List(list) => Some(list.as_slice()),
        };
        if let Some(function) = aggregate_named(&name, call) {
            return self.aggregate(function, &name, call);
        }
        if call.distinct.is_some() || !call.order.is_empty() || call.filter.is_some() {
            let message = format!("{name}() is no aggregate, so it counts no rows");
            return Err(Refusal::new(at, message, "DISTINCT, ORDER BY and FILTER belong to those"));
        }
        let conditional = ["iif", "if"].contains(&name.as_str());
        let known = Function::named(&name);
        let (least, most) = match known {
            Some((_, least, most)) => (least, most),
            None if conditional => (2, 3),
            None if WindowFunction::ALL.iter().any(|(known, ..)| *known == name) => {
                let message = format!("{name}() is a window function, and needs OVER");
                return Err(Refusal::new(
                    at,
                    message,
                    format!("write {name}(…) OVER (ORDER BY …)"),
                ));
            }
            None => return Err(unknown(&name, at)),
        };
        let Some(list) = list else {
            return Err(Refusal::new(at, format!("\"*\" is no argument of {name}()"), ""));
        };
        let count = list.len();
        if !(least..=most).contains(&count) {
            let expected = match (least, most) {
                (1, 1) => "one".to_owned(),
                (2, 2) => "two".to_owned(),
                (3, 3) => "three".to_owned(),
                (least, 100) => format!("at least {least}"),
                (least, most) => format!("{least} to {most}"),
            };
            let message = format!("{name}() has {count} arguments, expected {expected}");
            return Err(Refusal::new(at, message, ""));
        }
        if let (Some((Function::NullIf, ..)), [of, other]) = (known, list) {
            return self.null_if(of, other);
        }
        let compares = matches!(name.as_str(), "min" | "max");
        let arguments = list.iter().map(|argument| {
            if compares {
                self.no_collation(argument)?;
            }
            self.expr(argument)
        });
        let mut arguments = arguments.collect::<Lowered<Vec<_>>>()?;
        let Some((function, ..)) = known else {
            let mut arguments = arguments.into_iter();
            let branches = arguments.next().zip(arguments.next()).into_iter().collect();
            return Ok(Expr::Case { branches, otherwise: arguments.next().map(Box::new) });
        };
        match function {
            Function::JsonObject => {
                let label = |label: &Expr| matches!(label, Expr::Literal(Scalar::Text(_)));
                if count % 2 == 1 || !arguments.iter().step_by(2).all(label) {
                    let message = "json_object() takes pairs of a name and a value";
                    return Err(Refusal::new(at, message, "write the names as texts: 'name'"));
                }
                self.mark_json(&mut arguments);
            }
            Function::JsonArray => self.mark_json(&mut arguments),
            function if function.is_of_time() => {
                let says = |wanted: &dyn Fn(&str) -> bool| {
                    arguments
                        .iter()
                        .any(|of| matches!(of, Expr::Literal(Scalar::Text(text)) if wanted(text)))
                };
                let first = arguments.get(usize::from(function == Function::Strftime));
                let is_now = |of: &Expr| matches!(of, Expr::Literal(Scalar::Text(text)) if datetime::is_now(text));
                if first.is_none_or(is_now) {
                    let help = "give the time as a parameter: :now";
                    return Err(Refusal::new(at, "the current time is not known here", help));
                }
                let local = |text: &str| {
                    ["localtime", "utc"].iter().any(|word| text.eq_ignore_ascii_case(word))
                };
                if says(&local) {
                    let message = "a statement knows no local time";
                    return Err(Refusal::new(
                        at,
                        message,
                        "shift it by '+2 hours', as a parameter",
                    ));
                }
            }
            _ => {}
        }
        Ok(Expr::Call(function, arguments))
    }

    fn null_if(&mut self, of: &'a tree::Expr, other: &'a tree::Expr) -> Lowered<Expr> {
        let ((of, left), (other, right)) = (self.collated(of)?, self.collated(other)?);
        let (of, other) = (self.expr(of)?, self.expr(other)?);
        let collation = left.or(right).unwrap_or_default();
        if collation == Collation::Binary {
            return Ok(Expr::Call(Function::NullIf, vec![of, other]));
        }
        let sides = (Box::new(of.clone()), Box::new(other));
        let is_it = Expr::Compare(Comparison::Equal, Affinity::None, collation, sides.0, sides.1);
        let branches = vec![(is_it, Expr::Literal(Scalar::Null))];
        Ok(Expr::Case { branches, otherwise: Some(Box::new(of)) })
    }

    /// Marks those of some expressions whose values are JSON, or may be.
    fn mark_json(&self, arguments: &mut [Expr]) {
        for argument in arguments.iter_mut().filter(|argument| self.carries_json(argument)) {
            let of = std::mem::replace(argument, Expr::Literal(Scalar::Null));
            *argument = match self.to_json(of) {
                known if known.is_json() => known,
                other => Expr::Call(Function::IsJson, vec![other]),
            };
        }
    }

    fn carries_json(&self, expr: &Expr) -> bool {
        match expr {
            Expr::Column(column) => self.as_json.iter().any(|(of, _)| of == column),
            Expr::Call(Function::JsonExtract, _) => true,
            Expr::Call(Function::Coalesce | Function::IfNull, all) => {
                all.iter().any(|one| self.carries_json(one))
            }
            Expr::Case { branches, otherwise } => {
                let results = branches.iter().map(|(_, result)| result);
                results.chain(otherwise.as_deref()).any(|result| self.carries_json(result))
            }
            other => self.is_json(other),
        }
    }

    /// The same value as JSON.
    fn to_json(&self, expr: Expr) -> Expr {
        match expr {
            Expr::Column(column) => match self.as_json.iter().find(|(of, _)| *of == column) {
                Some((_, json)) => Expr::Column(*json),
                None => Expr::Call(Function::ToJson, vec![expr]),
            },
            Expr::Call(Function::JsonExtract, of) if of.len() == 2 => {
                Expr::Call(Function::JsonExtracted, of)
            }
            Expr::Call(function @ (Function::Coalesce | Function::IfNull), all) => {
                let all = all.into_iter().map(|one| self.to_json(one)).collect();
                Expr::Call(function, all)
            }
            Expr::Case { branches, otherwise } => {
                let branches = branches.into_iter();
                let branches = branches.map(|(when, then)| (when, self.to_json(then))).collect();
                let otherwise = otherwise.map(|otherwise| Box::new(self.to_json(*otherwise)));
                Expr::Case { branches, otherwise }
            }
            other if self.is_json(&other) => other,
            other => Expr::Call(Function::ToJson, vec![other]),
        }
    }

    fn aggregate(
        &mut self,
        function: AggregateFunction,
        name: &str,
        call: &'a Call,
    ) -> Lowered<Expr> {
        let at = call.name.at;
        if self.place != Clause::Group {
            let help = "aggregates stand in the result columns, HAVING and ORDER BY, not inside of each other";
            let message = format!("the aggregate {name}() cannot stand here");
            return Err(Refusal::new(at, message, help));
        }
        let aggregate = self.aggregate_over(function, name, call, Clause::Columns)?;
        let known = self.aggregates.iter().position(|known| *known == aggregate);
        Ok(Expr::Aggregate(known.unwrap_or_else(|| {
            self.aggregates.push(aggregate);
            self.aggregates.len() - 1
        })))
    }

    /// An aggregate with its arguments, in which that may be named.
    pub(super) fn aggregate_over(
        &mut self,
        function: AggregateFunction,
        name: &str,
        call: &'a Call,
        within: Clause,
    ) -> Lowered<Aggregate> {
        let at = call.name.at;
        let mut aggregate = Aggregate::new(function, None);
        aggregate.distinct = call.distinct == Some(true);
        use AggregateFunction as F;
        let is_list = matches!(function, F::Concat | F::JsonArray | F::JsonObject);
        // Columns inside of an aggregate are not bare.
        let (names, met) = (std::mem::take(&mut self.names), self.met.len());
        let before = std::mem::replace(&mut self.place, within);
        let wrong = || Err(Refusal::new(at, format!("{name}() takes one argument"), ""));
        let list = match &call.arguments {
            Arguments::All => &[],
            Arguments::List(list) => list.as_slice(),
        };
        match list {
            [] if function == AggregateFunction::Count && !aggregate.distinct => {
                aggregate.function = AggregateFunction::CountRows;
            }
            [argument, rest @ ..] => {
                let orders = matches!(function, AggregateFunction::Min | AggregateFunction::Max);
                let mut argument = match aggregate.distinct {
                    true if function == AggregateFunction::Count => [self.folded(argument)?],
                    is_distinct => {
                        if orders || is_distinct {
                            self.no_collation(argument)?;
                        }
                        [self.expr(argument)?]
                    }
                };
                if function == F::JsonArray {
                    self.mark_json(&mut argument);
                }
                let [argument] = argument;
                aggregate.argument = Some(argument);
                match rest {
                    [value] if function == AggregateFunction::JsonObject && !aggregate.distinct => {
                        let mut value = [self.expr(value)?];
                        self.mark_json(&mut value);
                        let [value] = value;
                        aggregate.beside = aggregate.argument.replace(value);
                    }
                    _ if function == AggregateFunction::JsonObject => {
                        let message = format!("{name}() takes a name and a value, each time");
                        return Err(Refusal::new(
                            at,
                            message,
                            "write json_group_object(name, value)",
                        ));
                    }
                    [] if name == "string_agg" => {
                        return Err(Refusal::new(at, "string_agg() takes two arguments", ""));
                    }
                    [] => {}
                    [separator] if function == AggregateFunction::Concat && !aggregate.distinct => {
                        aggregate.beside = Some(self.expr(separator)?);
                    }
                    _ => return wrong(),
                }
            }
            _ => return wrong(),
        }
        // Elsewhere an order changes nothing.
        for key in call.order.iter().filter(|_| is_list) {
            let key = self.sort_key(key, &[])?;
            aggregate.order.push(OrderKey {
                expr: key.placed.expr,
                descending: key.descending,
                nulls_first: key.nulls_first,
                collation: key.collation,
                holds_times: false,
            });
        }
        aggregate.filter = call.filter.as_ref().map(|filter| self.expr(filter)).transpose()?;
        if within == Clause::Columns {
            self.met.truncate(met);
        }
        self.names = names;
        self.place = before;
        Ok(aggregate)
    }

    pub(super) fn cast(
        &mut self,
        of: &'a tree::Expr,
        data_type: &str,
        at: Location,
    ) -> Lowered<Expr> {
        let name = data_type.to_ascii_uppercase();
        let has = |parts: &[&str]| parts.iter().any(|part| name.contains(part));
        let cast = if has(&["INT"]) {
            Cast::Integer
        } else if has(&["CHAR", "CLOB", "TEXT"]) {
            Cast::Text
        } else if has(&["REAL", "FLOA", "DOUB"]) {
            Cast::Real
        } else {
            let message = format!("CAST to {data_type} is not supported");
            return Err(Refusal::new(at, message, "cast to INTEGER, REAL or TEXT"));
        };
        Ok(Expr::Cast(cast, self.boxed(of)?))
    }
}

/// The aggregate that a name stands for.
pub(super) fn aggregate_named(name: &str, call: &Call) -> Option<AggregateFunction> {
    let (_, function) = AGGREGATES.iter().find(|(known, _)| *known == name)?;
    let one = matches!(function, AggregateFunction::Min | AggregateFunction::Max);
    let has_one = match &call.arguments {
        Arguments::All => true,
        Arguments::List(list) => list.len() == 1,
    };
    (!one || has_one).then_some(*function)
}

fn unknown(name: &str, at: Location) -> Refusal {
    let aggregates = AGGREGATES.map(|(known, _)| known);
    let functions = Function::ALL.iter().map(|(known, ..)| *known);
    let functions = functions
        .filter(|known| !known.starts_with(|sign: char| sign.is_ascii_punctuation()))
        .chain(["iif"]);
    let known = aggregates.into_iter().chain(functions);
    let help = nearest_name(name, &mut known.clone()).map_or_else(
        || format!("supported are {}", known.collect::<Vec<_>>().join(", ")),
        did_you_mean,
    );
    Refusal::new(at, format!("function {name}() is not supported"), help)
}
