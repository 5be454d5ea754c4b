//! Expressions: names, literals, operators, functions and aggregates.

use sqlparser::ast::{self, BinaryOperator, Spanned, UnaryOperator};
use sqlparser::tokenizer::Location;

use super::Lowered;
use super::block::Block;
use super::place::{kind, place, start};
use super::regroup::Placed;
use super::scope::NamedColumn;
use crate::query::expr::collation::Collation;
use crate::query::expr::function::Function;
use crate::query::expr::numeral::number_prefix;
use crate::query::expr::scalar::{Affinity, Scalar};
use crate::query::expr::{Arithmetic, ColumnNo, Comparison, Expr};
use crate::query::plan::{AggregateFunction, Param};
use crate::query::syntax::Refusal;
use crate::schema::FieldKind;

/// What may be named at a place of the statement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Clause {
    /// Columns: the arguments of aggregates and the result columns' own expressions.
    Columns,
    /// Columns and names of result columns, but no aggregates.
    Row,
    /// All three.
    Group,
}

impl<'a> Block<'a, '_> {
    pub(super) fn placed(&mut self, expr: &'a ast::Expr) -> Lowered<Placed> {
        self.met.clear();
        let expr = self.expr(expr)?;
        Ok(Placed { expr, met: std::mem::take(&mut self.met) })
    }

    pub(super) fn at_place(&mut self, place: Clause, expr: &'a ast::Expr) -> Lowered<Expr> {
        let before = std::mem::replace(&mut self.place, place);
        let lowered = self.expr(expr);
        self.place = before;
        lowered
    }

    /// Takes a condition in that every row must meet.
    pub(super) fn condition(&mut self, expr: &'a ast::Expr) -> Lowered<()> {
        let mut open = vec![expr];
        while let Some(expr) = open.pop() {
            match expr {
                ast::Expr::Nested(inner) => open.push(inner),
                ast::Expr::BinaryOp { left, op: BinaryOperator::And, right } => {
                    open.push(right);
                    open.push(left);
                }
                ast::Expr::Exists { subquery, negated: false } => {
                    self.exists(subquery, true, place(expr))?;
                }
                ast::Expr::InSubquery { expr: of, subquery, negated: false } => {
                    self.in_subquery(of, subquery, true, place(expr))?;
                }
                other => {
                    let condition = self.expr(other)?;
                    self.conditions.extend(condition.conjuncts());
                }
            }
        }
        Ok(())
    }

    /// An expression without the COLLATE behind it, and what that says.
    pub(super) fn collated(
        &self,
        mut expr: &'a ast::Expr,
    ) -> Lowered<(&'a ast::Expr, Option<Collation>)> {
        let mut found = None;
        loop {
            match expr {
                ast::Expr::Nested(inner) => expr = inner,
                ast::Expr::Collate { expr: inner, collation } => {
                    let name = collation.to_string();
                    let known = Collation::named(&name).ok_or_else(|| {
                        let at = start(collation.span());
                        let message = format!("there is no collation {name}");
                        let names: Vec<_> = Collation::names().collect();
                        Refusal::new(at, message, format!("there are {}", names.join(", ")))
                    })?;
                    // The outermost one counts.
                    found = found.or(Some(known));
                    expr = inner;
                }
                // SQLite takes one from inside of an operand too.
                other => match found {
                    Some(_) => return Ok((other, found)),
                    None => {
                        let within = inside(other).map(|name| name.to_string());
                        let known = within.and_then(|name| Collation::named(&name));
                        return Ok((other, known));
                    }
                },
            }
        }
    }

    /// Refuses a COLLATE somewhere in an expression whose values are compared for equality or
    /// ordered.
    pub(super) fn no_collation(&self, expr: &ast::Expr) -> Lowered<()> {
        match inside(expr) {
            None => Ok(()),
            Some(name) => {
                let at = start(name.span());
                let help = "compare and order by it around the grouping";
                Err(Refusal::new(at, "COLLATE inside of this is not supported", help))
            }
        }
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
            ast::Expr::BinaryOp { .. } => return self.operators(expr),
            ast::Expr::IsNull(of) => is_null(self.expr(of)?),
            ast::Expr::IsNotNull(of) => not(is_null(self.expr(of)?)),
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
                let (expr, collation) = self.collated(expr)?;
                let of = self.expr(expr)?;
                let items = list.iter().map(|item| self.expr(item)).collect::<Lowered<Vec<_>>>()?;
                items.iter().for_each(|item| self.mark_time(&of, item));
                let (affinity, collation) = (self.affinity(&of), collation.unwrap_or_default());
                negate(*negated, Expr::In(affinity, collation, Box::new(of), items))
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
            ast::Expr::Exists { subquery, negated } => {
                let exists = self.exists(subquery, false, place(expr))?;
                negate(*negated, exists)
            }
            ast::Expr::InSubquery { expr: of, subquery, negated } => {
                let found = self.in_subquery(of, subquery, false, place(of))?;
                negate(*negated, found)
            }
            ast::Expr::Subquery(subquery) => return self.scalar_subquery(subquery),
            ast::Expr::Collate { .. } => {
                return Err(Refusal::new(
                    place(expr),
                    "COLLATE cannot stand here",
                    "it follows one side of a comparison, or a key of ORDER BY",
                ));
            }
            ast::Expr::Cast { .. } => return self.cast(expr),
            other => {
                let message = format!("{} is not supported", kind(other));
                return Err(Refusal::new(place(expr), message, ""));
            }
        })
    }

    fn name(&mut self, ident: &'a ast::Ident, at: Location) -> Lowered<Expr> {
        if let Some(column) = self.scope.bare(&ident.value, at)? {
            let expr = column.expr.clone();
            return Ok(self.meet(expr, at));
        }
        let named = self.names.iter().find(|(name, _)| name.eq_ignore_ascii_case(&ident.value));
        if let (Some((_, expr)), Clause::Row | Clause::Group) = (named, self.place) {
            let (expr, names) = (*expr, std::mem::take(&mut self.names));
            let lowered = self.expr(expr);
            self.names = names;
            return lowered;
        }
        if let Some(around) = self.around
            && let Some(column) = around.bare(&ident.value, at)?
        {
            return Ok(self.read_around(column.clone()));
        }
        if ident.quote_style == Some('"') {
            let message = format!("there is no column {ident}");
            let help = format!("a text is written in single quotes: '{}'", ident.value);
            return Err(Refusal { unknown_name: true, ..Refusal::new(at, message, help) });
        }
        Err(self.scope.no_column(&ident.value, None, at))
    }

    fn qualified(&mut self, parts: &[ast::Ident], at: Location) -> Lowered<Expr> {
        let [table, column] = parts else {
            return Err(Refusal::new(
                at,
                "a column's name has at most two parts",
                "write table.column",
            ));
        };
        if let Some(found) = self.scope.qualified(table, column, at)? {
            let expr = found.expr.clone();
            return Ok(self.meet(expr, at));
        }
        if let Some(around) = self.around
            && let Some(found) = around.qualified(table, column, at)?
        {
            return Ok(self.read_around(found.clone()));
        }
        Err(self.scope.no_table(&table.value, at))
    }

    /// Notes the columns that stand at a place.
    fn meet(&mut self, expr: Expr, at: Location) -> Expr {
        self.met.extend(expr.columns().into_iter().map(|column| (column, at)));
        expr
    }

    /// A column of the statement around this one.
    fn read_around(&mut self, column: NamedColumn) -> Expr {
        self.outer.push(column);
        Expr::Outer(ColumnNo::only(self.outer.len() - 1))
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
    pub(super) fn mark_time(&mut self, one: &Expr, other: &Expr) {
        for (column, param) in [(one, other), (other, one)] {
            let declared = match column {
                Expr::Column(column) => self.column(*column).0,
                Expr::Outer(number) => self.outer[number.column as usize].declared,
                _ => None,
            };
            if let (Some(FieldKind::Timestamp), Expr::Param(param)) = (declared, param) {
                self.params[*param].is_time = true;
            }
        }
    }

    pub(super) fn affinity(&self, expr: &Expr) -> Affinity {
        match expr {
            Expr::Column(column) => self.column(*column).1,
            Expr::Outer(number) => self.outer[number.column as usize].affinity,
            Expr::Cast(cast, _) => cast.affinity(),
            _ => Affinity::None,
        }
    }

    /// Whether an expression's value is known to be JSON.
    pub(super) fn is_json(&self, expr: &Expr) -> bool {
        match expr {
            Expr::Aggregate(number) => {
                self.aggregates[*number].function == AggregateFunction::JsonArray
            }
            other => other.is_json(),
        }
    }

    /// Operators in a row, from left to right. A loop, since such a row nests as deep as it is
    /// long.
    fn operators(&mut self, expr: &'a ast::Expr) -> Lowered<Expr> {
        let (mut leftmost, mut links) = (expr, Vec::new());
        while let ast::Expr::BinaryOp { left, op, right } = leftmost {
            links.push((op, right.as_ref()));
            leftmost = left;
        }
        let (leftmost, mut collation) = match links.last() {
            Some((op, _)) if comparison(op).is_some() => self.collated(leftmost)?,
            _ => (leftmost, None),
        };
        let mut so_far = self.expr(leftmost)?;
        for (op, right) in links.into_iter().rev() {
            let at = place(right);
            match comparison(op) {
                Some(comparison) => {
                    let (right, other) = self.collated(right)?;
                    let right = self.expr(right)?;
                    let collation = collation.take().or(other).unwrap_or_default();
                    so_far = self.comparison(comparison, collation, so_far, right);
                }
                None => {
                    let right = self.expr(right)?;
                    so_far = self.binary(so_far, op, right, at)?;
                }
            }
        }
        Ok(so_far)
    }

    fn binary(
        &mut self,
        left: Expr,
        op: &BinaryOperator,
        right: Expr,
        at: Location,
    ) -> Lowered<Expr> {
        if matches!(op, BinaryOperator::Arrow | BinaryOperator::LongArrow) {
            return self.arrow(left, op, right, at);
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

    fn arrow(
        &mut self,
        left: Expr,
        op: &BinaryOperator,
        right: Expr,
        at: Location,
    ) -> Lowered<Expr> {
        let is_json = match &left {
            Expr::Column(column) => self.column(*column).0 == Some(FieldKind::Json),
            Expr::Outer(number) => {
                self.outer[number.column as usize].declared == Some(FieldKind::Json)
            }
            Expr::Call(Function::JsonExtract, _) => true,
            other => self.is_json(other),
        };
        if !is_json {
            let help = "it finds members in a column of type json, or in what json_object() gives";
            return Err(Refusal::new(at, format!("what is left of {op} is not JSON"), help));
        }
        let function =
            if *op == BinaryOperator::Arrow { Function::Arrow } else { Function::ArrowText };
        Ok(Expr::Call(function, vec![left, right]))
    }

    fn compare(
        &mut self,
        comparison: Comparison,
        left: &'a ast::Expr,
        right: &'a ast::Expr,
    ) -> Lowered<Expr> {
        let ((left, one), (right, other)) = (self.collated(left)?, self.collated(right)?);
        let (left, right) = (self.expr(left)?, self.expr(right)?);
        Ok(self.comparison(comparison, one.or(other).unwrap_or_default(), left, right))
    }

    pub(super) fn comparison(
        &mut self,
        comparison: Comparison,
        collation: Collation,
        left: Expr,
        right: Expr,
    ) -> Expr {
        self.mark_time(&left, &right);
        let affinity = Affinity::of_comparison(self.affinity(&left), self.affinity(&right));
        Expr::Compare(comparison, affinity, collation, Box::new(left), Box::new(right))
    }

    fn is(&mut self, left: &'a ast::Expr, right: &'a ast::Expr) -> Lowered<Expr> {
        let ((left, one), (right, other)) = (self.collated(left)?, self.collated(right)?);
        let (left, right) = (self.expr(left)?, self.expr(right)?);
        self.mark_time(&left, &right);
        let affinity = Affinity::of_comparison(self.affinity(&left), self.affinity(&right));
        let collation = one.or(other).unwrap_or_default();
        Ok(Expr::Is(affinity, collation, Box::new(left), Box::new(right)))
    }

    fn escape(&mut self, escape: &'a ast::Expr) -> Lowered<Box<Expr>> {
        let lowered = self.boxed(escape)?;
        match lowered.as_ref() {
            Expr::Literal(Scalar::Text(text)) if text.chars().count() == 1 => Ok(lowered),
            _ => Err(Refusal::new(place(escape), "ESCAPE takes a text of one letter", "")),
        }
    }
}

/// The COLLATE in an expression that counts where the expression is compared.
fn inside(expr: &ast::Expr) -> Option<&ast::ObjectName> {
    let mut parts: Vec<&ast::Expr> = Vec::new();
    match expr {
        ast::Expr::Collate { collation, .. } => return Some(collation),
        ast::Expr::Nested(of)
        | ast::Expr::UnaryOp { expr: of, .. }
        | ast::Expr::Cast { expr: of, .. }
        | ast::Expr::IsNull(of)
        | ast::Expr::IsNotNull(of)
        | ast::Expr::IsTrue(of)
        | ast::Expr::IsNotTrue(of)
        | ast::Expr::IsFalse(of)
        | ast::Expr::IsNotFalse(of)
        | ast::Expr::InSubquery { expr: of, .. } => parts.push(of),
        ast::Expr::BinaryOp { .. } => {
            // A row of operators nests as deep as it is long.
            let mut leftmost = expr;
            let mut rights = Vec::new();
            while let ast::Expr::BinaryOp { left, right, .. } = leftmost {
                rights.push(right.as_ref());
                leftmost = left;
            }
            parts.push(leftmost);
            parts.extend(rights.into_iter().rev());
        }
        ast::Expr::IsDistinctFrom(left, right) | ast::Expr::IsNotDistinctFrom(left, right) => {
            parts.extend([left.as_ref(), right]);
        }
        ast::Expr::Between { expr, low, high, .. } => parts.extend([expr.as_ref(), low, high]),
        ast::Expr::Like { expr, pattern, .. } => parts.extend([pattern.as_ref(), expr]),
        ast::Expr::InList { expr, list, .. } => {
            parts.push(expr);
            parts.extend(list);
        }
        ast::Expr::Case { operand, conditions, else_result, .. } => {
            parts.extend(operand.as_deref());
            for branch in conditions {
                parts.extend([&branch.condition, &branch.result]);
            }
            parts.extend(else_result.as_deref());
        }
        ast::Expr::Function(function) => {
            if let ast::FunctionArguments::List(list) = &function.args {
                parts.extend(list.args.iter().filter_map(|argument| match argument {
                    ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(of)) => Some(of),
                    _ => None,
                }));
            }
        }
        _ => {}
    }
    parts.into_iter().find_map(inside)
}

/// A numeric literal: whole if it has neither point nor exponent and fits 64 bits.
fn number(digits: &str) -> Option<Scalar<'static>> {
    let (number, is_whole_text) = number_prefix(digits);
    is_whole_text.then_some(number)
}

/// The comparison that an operator is.
fn comparison(op: &BinaryOperator) -> Option<Comparison> {
    Some(match op {
        BinaryOperator::Eq => Comparison::Equal,
        BinaryOperator::NotEq => Comparison::NotEqual,
        BinaryOperator::Lt => Comparison::Less,
        BinaryOperator::LtEq => Comparison::LessOrEqual,
        BinaryOperator::Gt => Comparison::Greater,
        BinaryOperator::GtEq => Comparison::GreaterOrEqual,
        _ => return None,
    })
}

pub(super) fn is_null(of: Expr) -> Expr {
    let null = Expr::Literal(Scalar::Null);
    Expr::Is(Affinity::None, Collation::Binary, Box::new(of), Box::new(null))
}

pub(super) fn not(expr: Expr) -> Expr {
    Expr::Not(Box::new(expr))
}

fn negate(negated: bool, expr: Expr) -> Expr {
    if negated { not(expr) } else { expr }
}
