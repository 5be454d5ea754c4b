//! Expressions: names, literals, operators, functions and aggregates.

use sqlparser::ast::{
    self, BinaryOperator, FunctionArg, FunctionArgExpr, FunctionArguments, Spanned, UnaryOperator,
};
use sqlparser::tokenizer::Location;

use super::place::{kind, place, start};
use super::regroup::Placed;
use super::{Lowered, Lowering};
use crate::error::{did_you_mean, nearest, nearest_name};
use crate::query::aggregate::Aggregate;
use crate::query::expr::{Arithmetic, Comparison, Expr, Function};
use crate::query::numeral::number_prefix;
use crate::query::plan::Param;
use crate::query::scalar::{Affinity, Scalar};
use crate::query::syntax::Refusal;
use crate::schema::Kind;

/// What may be named at a place of the statement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Scope {
    /// Columns: the arguments of aggregates and the result columns' own expressions.
    Columns,
    /// Columns and names of result columns, but no aggregates.
    Row,
    /// All three.
    Group,
}

impl<'a> Lowering<'a> {
    pub(super) fn placed(&mut self, expr: &'a ast::Expr) -> Lowered<Placed> {
        self.met.clear();
        let expr = self.expr(expr)?;
        Ok(Placed { expr, met: std::mem::take(&mut self.met) })
    }

    pub(super) fn in_scope(&mut self, scope: Scope, expr: &'a ast::Expr) -> Lowered<Expr> {
        let before = std::mem::replace(&mut self.scope, scope);
        let lowered = self.expr(expr);
        self.scope = before;
        lowered
    }

    pub(super) fn boxed(&mut self, expr: &'a ast::Expr) -> Lowered<Box<Expr>> {
        self.expr(expr).map(Box::new)
    }

    pub(super) fn expr(&mut self, expr: &'a ast::Expr) -> Lowered<Expr> {
        Ok(match expr {
            ast::Expr::Identifier(ident) => return self.name(ident, start(ident.span)),
            ast::Expr::CompoundIdentifier(parts) => return self.qualified(parts, place(expr)),
            ast::Expr::Value(value) => return self.literal(&value.value, false, start(value.span)),
            ast::Expr::Nested(inner) => return self.expr(inner),
            ast::Expr::UnaryOp { op, expr: of } => match (op, of.as_ref()) {
                (UnaryOperator::Minus, ast::Expr::Value(value)) => {
                    self.literal(&value.value, true, start(value.span))?
                }
                (UnaryOperator::Minus, of) => Expr::Negate(self.boxed(of)?),
                // A plus changes nothing but that its operand is no plain column any more.
                (UnaryOperator::Plus, of) => Expr::Call(Function::Coalesce, vec![self.expr(of)?]),
                (UnaryOperator::Not, of) => Expr::Not(self.boxed(of)?),
                (op, _) => {
                    return Err(Refusal::new(
                        place(expr),
                        format!("operator {op} is not supported"),
                        "",
                    ));
                }
            },
            ast::Expr::BinaryOp { .. } => return self.chain(expr),
            ast::Expr::IsNull(of) => Expr::Is(Affinity::None, self.boxed(of)?, null()),
            ast::Expr::IsNotNull(of) => not(Expr::Is(Affinity::None, self.boxed(of)?, null())),
            ast::Expr::IsTrue(of) => Expr::IsTruth(true, self.boxed(of)?),
            ast::Expr::IsNotTrue(of) => not(Expr::IsTruth(true, self.boxed(of)?)),
            ast::Expr::IsFalse(of) => Expr::IsTruth(false, self.boxed(of)?),
            ast::Expr::IsNotFalse(of) => not(Expr::IsTruth(false, self.boxed(of)?)),
            ast::Expr::IsNotDistinctFrom(left, right) => self.is(left, right)?,
            ast::Expr::IsDistinctFrom(left, right) => not(self.is(left, right)?),
            ast::Expr::Between { expr, negated, low, high } => {
                let low = self.compare(Comparison::GreaterOrEqual, expr, low)?;
                let high = self.compare(Comparison::LessOrEqual, expr, high)?;
                negate(*negated, Expr::And(Box::new(low), Box::new(high)))
            }
            ast::Expr::InList { expr, list, negated } => {
                let of = self.expr(expr)?;
                let items = list.iter().map(|item| self.expr(item)).collect::<Lowered<Vec<_>>>()?;
                items.iter().for_each(|item| self.mark_time(&of, item));
                negate(*negated, Expr::In(self.affinity(&of), Box::new(of), items))
            }
            ast::Expr::Like { negated, any: false, expr, pattern, escape_char } => {
                let escape = escape_char.as_ref().map(|escape| self.escape(escape)).transpose()?;
                let (text, pattern) = (self.boxed(expr)?, self.boxed(pattern)?);
                negate(*negated, Expr::Like { text, pattern, escape })
            }
            ast::Expr::Case { operand, conditions, else_result, .. } => {
                let branches = conditions.iter().map(|branch| {
                    let when = match operand {
                        Some(operand) => {
                            self.compare(Comparison::Equal, operand, &branch.condition)?
                        }
                        None => self.expr(&branch.condition)?,
                    };
                    Ok((when, self.expr(&branch.result)?))
                });
                let branches = branches.collect::<Lowered<Vec<_>>>()?;
                let otherwise =
                    else_result.as_ref().map(|otherwise| self.boxed(otherwise)).transpose()?;
                Expr::Case { branches, otherwise }
            }
            ast::Expr::Function(function) => {
                return self.function(function, start(function.name.span()));
            }
            ast::Expr::Exists { .. } | ast::Expr::Subquery(_) | ast::Expr::InSubquery { .. } => {
                return Err(Refusal::new(
                    place(expr),
                    "subqueries are not supported",
                    "define a query for each part",
                ));
            }
            ast::Expr::Collate { .. } => {
                return Err(Refusal::new(
                    place(expr),
                    "COLLATE is not supported",
                    "texts compare by their bytes",
                ));
            }
            other => {
                let message = format!("{} is not supported", kind(other));
                return Err(Refusal::new(place(expr), message, ""));
            }
        })
    }

    fn name(&mut self, ident: &'a ast::Ident, at: Location) -> Lowered<Expr> {
        if let Some(column) = self.table.field_no(&ident.value) {
            self.met.push((column.index(), at));
            return Ok(Expr::Column(column.index()));
        }
        let named = self.names.iter().find(|(name, _)| name.eq_ignore_ascii_case(&ident.value));
        if let (Some((_, expr)), Scope::Row | Scope::Group) = (named, self.scope) {
            let (expr, names) = (*expr, std::mem::take(&mut self.names));
            let lowered = self.expr(expr);
            self.names = names;
            return lowered;
        }
        if ident.quote_style == Some('"') {
            let message = format!("there is no column {ident}");
            let help = format!("a text stands in single quotes: '{}'", ident.value);
            return Err(Refusal { unknown_name: true, ..Refusal::new(at, message, help) });
        }
        Err(self.no_column(&ident.value, at))
    }

    fn qualified(&mut self, parts: &[ast::Ident], at: Location) -> Lowered<Expr> {
        let [table, column] = parts else {
            return Err(Refusal::new(
                at,
                "a column's name has at most two parts",
                "write table.column",
            ));
        };
        if !table.value.eq_ignore_ascii_case(&self.alias) {
            let message = format!("the statement reads no table \"{}\"", table.value);
            let help = format!("it reads \"{}\"", self.alias);
            return Err(Refusal { unknown_name: true, ..Refusal::new(at, message, help) });
        }
        match self.table.field_no(&column.value) {
            Some(column) => {
                self.met.push((column.index(), at));
                Ok(Expr::Column(column.index()))
            }
            None => Err(self.no_column(&column.value, at)),
        }
    }

    fn no_column(&self, name: &str, at: Location) -> Refusal {
        let message = format!("table \"{}\" has no column \"{name}\"", self.table.name);
        Refusal {
            unknown_name: true,
            ..Refusal::new(at, message, nearest(name, self.table.field_names()))
        }
    }

    fn literal(&mut self, value: &ast::Value, negative: bool, at: Location) -> Lowered<Expr> {
        let literal = match value {
            ast::Value::Number(digits, false) => {
                let digits = if negative { format!("-{digits}") } else { digits.clone() };
                return number(&digits).map(Expr::Literal).ok_or_else(|| {
                    Refusal::new(
                        at,
                        format!("\"{digits}\" is not a number"),
                        "write it in decimal digits",
                    )
                });
            }
            ast::Value::SingleQuotedString(text) if text.contains('\0') => {
                return Err(Refusal::new(
                    at,
                    "this text holds U+0000, which a stored text cannot",
                    "",
                ));
            }
            ast::Value::SingleQuotedString(text) => Scalar::Text(text.as_str().into()),
            ast::Value::Boolean(truth) => Scalar::truth(Some(*truth)),
            ast::Value::Null => Scalar::Null,
            ast::Value::Placeholder(name) => {
                let Some(name) = name.strip_prefix(':') else {
                    return Err(Refusal::new(
                        at,
                        format!("parameter \"{name}\" has no name"),
                        "write it as :name",
                    ));
                };
                let param = Expr::Param(self.param(name));
                return Ok(if negative { Expr::Negate(Box::new(param)) } else { param });
            }
            other => {
                return Err(Refusal::new(at, format!("literal {other} is not supported"), ""));
            }
        };
        let literal = Expr::Literal(literal);
        Ok(if negative { Expr::Negate(Box::new(literal)) } else { literal })
    }

    fn param(&mut self, name: &str) -> usize {
        let known = self.params.iter().position(|param| param.name == name);
        known.unwrap_or_else(|| {
            self.params.push(Param { name: name.to_owned(), is_time: false });
            self.params.len() - 1
        })
    }

    /// A parameter that is compared with a time may be given as any RFC 3339 text.
    fn mark_time(&mut self, one: &Expr, other: &Expr) {
        for (column, param) in [(one, other), (other, one)] {
            if let (Expr::Column(column), Expr::Param(param)) = (column, param)
                && self.table.fields[*column].kind == Kind::Timestamp
            {
                self.params[*param].is_time = true;
            }
        }
    }

    fn affinity(&self, expr: &Expr) -> Affinity {
        match expr {
            Expr::Column(number) => Affinity::of(&self.table.fields[*number], self.schema),
            _ => Affinity::None,
        }
    }

    /// Operators one behind the other, from left to right. A loop, since such a chain is as deep
    /// as it is long.
    fn chain(&mut self, expr: &'a ast::Expr) -> Lowered<Expr> {
        let (mut leftmost, mut links) = (expr, Vec::new());
        while let ast::Expr::BinaryOp { left, op, right } = leftmost {
            links.push((op, right.as_ref()));
            leftmost = left;
        }
        let mut chain = self.expr(leftmost)?;
        for (op, right) in links.into_iter().rev() {
            let at = place(right);
            let right = self.expr(right)?;
            chain = self.binary(chain, op, right, at)?;
        }
        Ok(chain)
    }

    fn binary(
        &mut self,
        left: Expr,
        op: &BinaryOperator,
        right: Expr,
        at: Location,
    ) -> Lowered<Expr> {
        let comparison = match op {
            BinaryOperator::Eq => Some(Comparison::Equal),
            BinaryOperator::NotEq => Some(Comparison::NotEqual),
            BinaryOperator::Lt => Some(Comparison::Less),
            BinaryOperator::LtEq => Some(Comparison::LessOrEqual),
            BinaryOperator::Gt => Some(Comparison::Greater),
            BinaryOperator::GtEq => Some(Comparison::GreaterOrEqual),
            _ => None,
        };
        if let Some(comparison) = comparison {
            return Ok(self.comparison(comparison, left, right));
        }
        let (left, right) = (Box::new(left), Box::new(right));
        let arithmetic = match op {
            BinaryOperator::And => return Ok(Expr::And(left, right)),
            BinaryOperator::Or => return Ok(Expr::Or(left, right)),
            BinaryOperator::StringConcat => return Ok(Expr::Concat(left, right)),
            BinaryOperator::Plus => Arithmetic::Add,
            BinaryOperator::Minus => Arithmetic::Subtract,
            BinaryOperator::Multiply => Arithmetic::Multiply,
            BinaryOperator::Divide => Arithmetic::Divide,
            BinaryOperator::Modulo => Arithmetic::Remainder,
            other => {
                return Err(Refusal::new(at, format!("operator {other} is not supported"), ""));
            }
        };
        Ok(Expr::Arithmetic(arithmetic, left, right))
    }

    fn compare(
        &mut self,
        comparison: Comparison,
        left: &'a ast::Expr,
        right: &'a ast::Expr,
    ) -> Lowered<Expr> {
        let (left, right) = (self.expr(left)?, self.expr(right)?);
        Ok(self.comparison(comparison, left, right))
    }

    fn comparison(&mut self, comparison: Comparison, left: Expr, right: Expr) -> Expr {
        self.mark_time(&left, &right);
        let affinity = Affinity::of_comparison(self.affinity(&left), self.affinity(&right));
        Expr::Compare(comparison, affinity, Box::new(left), Box::new(right))
    }

    fn is(&mut self, left: &'a ast::Expr, right: &'a ast::Expr) -> Lowered<Expr> {
        let (left, right) = (self.expr(left)?, self.expr(right)?);
        self.mark_time(&left, &right);
        let affinity = Affinity::of_comparison(self.affinity(&left), self.affinity(&right));
        Ok(Expr::Is(affinity, Box::new(left), Box::new(right)))
    }

    fn escape(&mut self, escape: &'a ast::Expr) -> Lowered<Box<Expr>> {
        let lowered = self.boxed(escape)?;
        match lowered.as_ref() {
            Expr::Literal(Scalar::Text(text)) if text.chars().count() == 1 => Ok(lowered),
            _ => Err(Refusal::new(place(escape), "ESCAPE takes a text of one letter", "")),
        }
    }

    fn function(&mut self, function: &'a ast::Function, at: Location) -> Lowered<Expr> {
        let name = function.name.to_string().to_ascii_lowercase();
        let FunctionArguments::List(list) = &function.args else {
            return Err(Refusal::new(
                at,
                format!("{name} needs parentheses with its arguments"),
                "",
            ));
        };
        if list.duplicate_treatment.is_some() {
            let message = format!("DISTINCT in {name}() is not supported");
            return Err(Refusal::new(at, message, "GROUP BY the values instead"));
        }
        let plain = !function.uses_odbc_syntax
            && matches!(function.parameters, FunctionArguments::None)
            && function.within_group.is_empty()
            && function.filter.is_none()
            && function.null_treatment.is_none()
            && function.over.is_none()
            && list.clauses.is_empty();
        if !plain {
            let message = format!("what follows {name}(…) is not supported");
            return Err(Refusal::new(
                at,
                message,
                "call the function alone; CASE in its argument can filter",
            ));
        }
        let aggregate = match (name.as_str(), list.args.len()) {
            ("count", _) => Some(Aggregate::Count),
            ("sum", _) => Some(Aggregate::Sum),
            ("total", _) => Some(Aggregate::Total),
            ("avg", _) => Some(Aggregate::Average),
            ("min", 1) => Some(Aggregate::Min),
            ("max", 1) => Some(Aggregate::Max),
            _ => None,
        };
        if let Some(aggregate) = aggregate {
            return self.aggregate(aggregate, &name, &list.args, at);
        }
        const KNOWN: [(&str, std::ops::RangeInclusive<usize>, &str); 8] = [
            ("coalesce", 2..=100, "at least two"),
            ("ifnull", 2..=2, "two"),
            ("nullif", 2..=2, "two"),
            ("lower", 1..=1, "one"),
            ("upper", 1..=1, "one"),
            ("length", 1..=1, "one"),
            ("iif", 2..=3, "two or three"),
            ("if", 2..=3, "two or three"),
        ];
        let Some((_, wanted, told)) = KNOWN.iter().find(|(known, ..)| *known == name) else {
            let aggregates = ["count", "sum", "total", "avg", "min", "max"];
            let known = aggregates.into_iter().chain(KNOWN.map(|(known, ..)| known));
            let help = nearest_name(&name, known.clone()).map_or_else(
                || format!("supported are {}", known.collect::<Vec<_>>().join(", ")),
                did_you_mean,
            );
            return Err(Refusal::new(at, format!("function {name}() is not supported"), help));
        };
        if !wanted.contains(&list.args.len()) {
            let message = format!("{name}() has {} arguments, expected {told}", list.args.len());
            return Err(Refusal::new(at, message, ""));
        }
        let arguments = list.args.iter().map(|argument| match argument {
            FunctionArg::Unnamed(FunctionArgExpr::Expr(argument)) => self.expr(argument),
            other => Err(Refusal::new(at, format!("\"{other}\" is no argument of {name}()"), "")),
        });
        let arguments = arguments.collect::<Lowered<Vec<_>>>()?;
        Ok(match name.as_str() {
            "coalesce" | "ifnull" => Expr::Call(Function::Coalesce, arguments),
            "nullif" => Expr::Call(Function::NullIf, arguments),
            "lower" => Expr::Call(Function::Lower, arguments),
            "upper" => Expr::Call(Function::Upper, arguments),
            "length" => Expr::Call(Function::Length, arguments),
            _ => {
                let mut arguments = arguments.into_iter();
                let branches = arguments.next().zip(arguments.next()).into_iter().collect();
                Expr::Case { branches, otherwise: arguments.next().map(Box::new) }
            }
        })
    }

    fn aggregate(
        &mut self,
        mut aggregate: Aggregate,
        name: &str,
        arguments: &'a [FunctionArg],
        at: Location,
    ) -> Lowered<Expr> {
        if self.scope != Scope::Group {
            let help = "aggregates stand in the result columns, HAVING and ORDER BY, not inside of each other";
            return Err(Refusal::new(
                at,
                format!("the aggregate {name}() cannot stand here"),
                help,
            ));
        }
        let argument = match arguments {
            [] | [FunctionArg::Unnamed(FunctionArgExpr::Wildcard)]
                if aggregate == Aggregate::Count =>
            {
                aggregate = Aggregate::CountRows;
                None
            }
            [FunctionArg::Unnamed(FunctionArgExpr::Expr(argument))] => {
                // Columns inside of an aggregate are not bare.
                let (names, met) = (std::mem::take(&mut self.names), self.met.len());
                let lowered = self.in_scope(Scope::Columns, argument);
                self.met.truncate(met);
                self.names = names;
                Some(lowered?)
            }
            _ => return Err(Refusal::new(at, format!("{name}() takes one argument"), "")),
        };
        let wanted = (aggregate, argument);
        let known = self.aggregates.iter().position(|known| *known == wanted);
        Ok(Expr::Aggregate(known.unwrap_or_else(|| {
            self.aggregates.push(wanted);
            self.aggregates.len() - 1
        })))
    }
}

/// A numeric literal: whole if it has neither point nor exponent and fits 64 bits.
fn number(digits: &str) -> Option<Scalar<'static>> {
    let (number, is_whole_text) = number_prefix(digits);
    is_whole_text.then_some(number)
}

fn null() -> Box<Expr> {
    Box::new(Expr::Literal(Scalar::Null))
}

fn not(expr: Expr) -> Expr {
    Expr::Not(Box::new(expr))
}

fn negate(negated: bool, expr: Expr) -> Expr {
    if negated { not(expr) } else { expr }
}
