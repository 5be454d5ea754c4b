//! Expressions: names, literals, operators, functions and aggregates.

use super::Lowered;
use super::block::Block;
use super::regroup::Placed;
use super::scope::NamedColumn;
use crate::query::expr::collation::Collation;
use crate::query::expr::function::Function;
use crate::query::expr::numeral::number_prefix;
use crate::query::expr::scalar::{Affinity, Scalar};
use crate::query::expr::{Arithmetic, ColumnNo, Comparison, Expr};
use crate::query::plan::{AggregateFunction, Param};
use crate::query::syntax::tree::{self, Binary, ExprKind, Literal, Name, Unary};
use crate::query::syntax::{Location, Refusal};
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
    pub(super) fn placed(&mut self, expr: &'a tree::Expr) -> Lowered<Placed> {
        let around = std::mem::take(&mut self.met);
        let expr = self.expr(expr)?;
        Ok(Placed { expr, met: std::mem::replace(&mut self.met, around) })
    }

    /// Takes a condition in that every row must meet.
    pub(super) fn condition(&mut self, expr: &'a tree::Expr) -> Lowered<()> {
        let mut open = vec![expr];
        while let Some(expr) = open.pop() {
            match &expr.kind {
                ExprKind::Binary(left, Binary::And, right) => {
                    open.push(right);
                    open.push(left);
                }
                ExprKind::Exists(query) => drop(self.exists(query, true, expr.at)?),
                ExprKind::InQuery { of, query, negated: false } => {
                    self.in_subquery(of, query, true, expr.at)?;
                }
                _ => {
                    let condition = self.expr(expr)?;
                    self.conditions.extend(condition.conjuncts());
                }
            }
        }
        Ok(())
    }

    /// An expression without the COLLATE behind it, and what that says.
    pub(super) fn collated(
        &self,
        mut expr: &'a tree::Expr,
    ) -> Lowered<(&'a tree::Expr, Option<Collation>)> {
        let mut found = None;
        while let ExprKind::Collate(inner, name) = &expr.kind {
            let known = Collation::named(&name.text).ok_or_else(|| {
                let message = format!("there is no collation {}", name.text);
                let help = match Collation::needs_feature(&name.text) {
                    true => "build with the feature `unicode`".to_owned(),
                    false => {
                        let names: Vec<_> = Collation::names().collect();
                        format!("there are {}", names.join(", "))
                    }
                };
                Refusal::new(name.at, message, help)
            })?;
            // The outermost one counts.
            found = found.or(Some(known));
            expr = inner;
        }
        if let (None, Some(of)) = (found, self.named_with_collation(expr)) {
            return self.collated(of);
        }
        // SQLite takes one from inside of an operand too.
        let within = || inside(expr).and_then(|name| Collation::named(&name.text));
        Ok((expr, found.or_else(within)))
    }

    /// What a result column's name stands for, if a COLLATE is part of that.
    fn named_with_collation(&self, expr: &tree::Expr) -> Option<&'a tree::Expr> {
        let ExprKind::Column(parts) = &expr.kind else { return None };
        let [name] = parts.as_slice() else { return None };
        let (_, of) = self.names.iter().find(|(of, _)| of.eq_ignore_ascii_case(&name.text))?;
        let is_column = !matches!(self.scope.bare(&name.text, name.at), Ok(None));
        (matches!(of.kind, ExprKind::Collate(..)) && !is_column).then_some(*of)
    }

    /// What is equal for values that an expression's COLLATE finds equal.
    pub(super) fn folded(&mut self, expr: &'a tree::Expr) -> Lowered<Expr> {
        let (expr, collation) = self.collated(expr)?;
        Ok(self.expr(expr)?.folded(collation.unwrap_or_default()))
    }

    /// Refuses a COLLATE somewhere in an expression whose values are compared for equality or
    /// ordered.
    pub(super) fn no_collation(&self, expr: &tree::Expr) -> Lowered<()> {
        match inside(expr) {
            None => Ok(()),
            Some(name) => {
                let help = "compare and order by it around the grouping";
                Err(Refusal::new(name.at, "COLLATE inside of this is not supported", help))
            }
        }
    }

    pub(super) fn boxed(&mut self, expr: &'a tree::Expr) -> Lowered<Box<Expr>> {
        self.expr(expr).map(Box::new)
    }

    pub(super) fn expr(&mut self, expr: &'a tree::Expr) -> Lowered<Expr> {
        let at = expr.at;
        Ok(match &expr.kind {
            ExprKind::Column(parts) => return self.column_named(parts, at),
            ExprKind::Literal(literal) => return self.literal(literal, false, at),
            ExprKind::Unary(operator, of) => match (operator, &of.kind) {
                (Unary::Minus, ExprKind::Literal(literal)) => self.literal(literal, true, of.at)?,
                (Unary::Minus, _) => Expr::Negate(self.boxed(of)?),
                // A plus changes nothing but that its operand is no plain column any more.
                (Unary::Plus, _) => Expr::Call(Function::Coalesce, vec![self.expr(of)?]),
                (Unary::Not, _) => Expr::Not(self.boxed(of)?),
                (Unary::Invert, _) => Expr::Call(Function::Invert, vec![self.expr(of)?]),
            },
            ExprKind::Binary(..) => return self.operators(expr),
            ExprKind::IsNull { of, negated } => negate(*negated, is_null(self.expr(of)?)),
            ExprKind::IsTruth { of, truth, negated } => {
                negate(*negated, Expr::IsTruth(*truth, self.boxed(of)?))
            }
            ExprKind::Is { left, right, negated } => negate(*negated, self.is(left, right)?),
            ExprKind::Between { of, low, high, negated } => {
                let low = self.compare(Comparison::GreaterOrEqual, of, low)?;
                let high = self.compare(Comparison::LessOrEqual, of, high)?;
                negate(*negated, Expr::And(Box::new(low), Box::new(high)))
            }
            ExprKind::InList { of, list, negated } if matches!(of.kind, ExprKind::Row(_)) => {
                let any = list.iter().map(|item| self.compare(Comparison::Equal, of, item));
                let any = any.collect::<Lowered<Vec<_>>>()?;
                negate(*negated, any.into_iter().reduce(or).unwrap_or(Expr::Literal(Scalar::FALSE)))
            }
            ExprKind::InList { of, list, negated } => {
                let (of, collation) = self.collated(of)?;
                let of = self.expr(of)?;
                let items = list.iter().map(|item| self.expr(item)).collect::<Lowered<Vec<_>>>()?;
                items.iter().for_each(|item| self.mark_time(&of, item));
                let affinity = Affinity::of_comparison(self.affinity(&of), Affinity::None);
                let collation = collation.unwrap_or_default();
                negate(*negated, Expr::In(affinity, collation, Box::new(of), items))
            }
            ExprKind::Like { of, pattern, escape, negated } => {
                let escape = escape.as_ref().map(|escape| self.escape(escape)).transpose()?;
                let (text, pattern) = (self.boxed(of)?, self.boxed(pattern)?);
                negate(*negated, Expr::Like { text, pattern, escape })
            }
            ExprKind::Case { operand, branches, otherwise } => {
                let branches = branches.iter().map(|(condition, result)| {
                    let when = match operand {
                        Some(operand) => self.compare(Comparison::Equal, operand, condition)?,
                        None => self.expr(condition)?,
                    };
                    Ok((when, self.expr(result)?))
                });
                let branches = branches.collect::<Lowered<Vec<_>>>()?;
                let otherwise = otherwise.as_ref().map(|of| self.boxed(of)).transpose()?;
                Expr::Case { branches, otherwise }
            }
            ExprKind::Call(call) => return self.function(call),
            ExprKind::Exists(query) => self.exists(query, false, at)?,
            ExprKind::InQuery { of, query, negated } => {
                negate(*negated, self.in_subquery(of, query, false, at)?)
            }
            ExprKind::Subquery(query) => return self.scalar_subquery(query),
            ExprKind::Collate(..) => {
                return Err(Refusal::new(
                    at,
                    "COLLATE cannot stand here",
                    "it follows one side of a comparison, or a key of ORDER BY",
                ));
            }
            ExprKind::Cast(of, data_type) => return self.cast(of, data_type, at),
            ExprKind::Row(_) => {
                let help = "compare it with a row of as many values: (a, b) = (1, 2)";
                return Err(Refusal::new(at, "a row of values cannot stand here", help));
            }
        })
    }

    fn column_named(&mut self, parts: &'a [Name], at: Location) -> Lowered<Expr> {
        match parts {
            [column] => self.name(column),
            [table, column] => self.qualified(table, column, at),
            _ => {
                let message = "a column's name has at most two parts";
                Err(Refusal::new(at, message, "write table.column"))
            }
        }
    }

    fn name(&mut self, name: &'a Name) -> Lowered<Expr> {
        let at = name.at;
        if let Some(column) = self.scope.bare(&name.text, at)? {
            let expr = column.expr.clone();
            return Ok(self.meet(expr, at));
        }
        let named = self.names.iter().find(|(known, _)| known.eq_ignore_ascii_case(&name.text));
        if let (Some((_, expr)), Clause::Row | Clause::Group) = (named, self.place) {
            let (expr, names) = (*expr, std::mem::take(&mut self.names));
            let lowered = self.expr(expr);
            self.names = names;
            return lowered;
        }
        if let Some(around) = self.around
            && let Some(column) = around.bare(&name.text, at)?
        {
            return Ok(self.read_around(column.clone()));
        }
        if name.quote == Some('"') {
            let message = format!("there is no column \"{}\"", name.text);
            let help = format!("a text is written in single quotes: '{}'", name.text);
            return Err(Refusal { unknown_name: true, ..Refusal::new(at, message, help) });
        }
        match current_time(&name.text, at) {
            Some(refusal) => Err(refusal),
            None => Err(self.scope.no_column(&name.text, None, at)),
        }
    }

    fn qualified(&mut self, table: &Name, column: &Name, at: Location) -> Lowered<Expr> {
        if let Some(found) = self.scope.qualified(table, column, at)? {
            return Ok(self.meet(found.expr, at));
        }
        if let Some(around) = self.around
            && let Some(found) = around.qualified(table, column, at)?
        {
            return Ok(self.read_around(found));
        }
        Err(self.scope.no_table(&table.text, at))
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

    fn literal(&mut self, literal: &Literal, negative: bool, at: Location) -> Lowered<Expr> {
        let scalar = match literal {
            Literal::Number(digits) => {
                // So that the smallest whole number is one.
                let negated = match digits.strip_prefix('-') {
                    Some(digits) => digits.to_owned(),
                    None => format!("-{digits}"),
                };
                let digits = if negative { &negated } else { digits };
                return number(digits).map(Expr::Literal).ok_or_else(|| {
                    let message = format!("\"{digits}\" is not a number");
                    Refusal::new(at, message, "write it in decimal digits")
                });
            }
            Literal::Text(text) if text.contains('\0') => {
                let message = "this text holds U+0000, which a stored text cannot";
                return Err(Refusal::new(at, message, ""));
            }
            Literal::Text(text) => Scalar::Text(text.as_str().into()),
            Literal::Truth(truth) => Scalar::truth(Some(*truth)),
            Literal::Null => Scalar::Null,
            Literal::Param(name) => {
                let Some(name) = name.strip_prefix(':') else {
                    let message = format!("parameter \"{name}\" has no name");
                    return Err(Refusal::new(at, message, "write it as :name"));
                };
                let param = Expr::Param(self.param(name));
                return Ok(if negative { Expr::Negate(Box::new(param)) } else { param });
            }
            Literal::Blob(digits) => {
                let message = format!("the blob X'{digits}' is not supported");
                return Err(Refusal::new(at, message, "there are numbers and texts"));
            }
        };
        let literal = Expr::Literal(scalar);
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
            Expr::Call(Function::Merged, all) => self.affinity(&all[0]),
            _ => Affinity::None,
        }
    }

    /// Whether an expression's value is known to be JSON.
    pub(super) fn is_json(&self, expr: &Expr) -> bool {
        match expr {
            Expr::Aggregate(number) => {
                use AggregateFunction as F;
                matches!(self.aggregates[*number].function, F::JsonArray | F::JsonObject)
            }
            other => other.is_json(),
        }
    }

    /// Operators in a row, from left to right. A loop, since such a row nests as deep as it is
    /// long.
    fn operators(&mut self, expr: &'a tree::Expr) -> Lowered<Expr> {
        let (mut leftmost, mut links) = (expr, Vec::new());
        while let ExprKind::Binary(left, op, right) = &leftmost.kind {
            links.push((*op, right.as_ref()));
            leftmost = left;
        }
        let (mut so_far, mut collation) = match links.last() {
            Some((op, right)) if comparison(*op).is_some() => {
                let op = comparison(*op).unwrap_or(Comparison::Equal);
                match rows(leftmost, right)? {
                    Some(pairs) => {
                        links.pop();
                        (self.compare_rows(op, &pairs)?, None)
                    }
                    None => {
                        let (leftmost, collation) = self.collated(leftmost)?;
                        (self.expr(leftmost)?, collation)
                    }
                }
            }
            _ => (self.expr(leftmost)?, None),
        };
        for (op, right) in links.into_iter().rev() {
            match comparison(op) {
                Some(comparison) => {
                    let (right, other) = self.collated(right)?;
                    let right = self.expr(right)?;
                    let collation = collation.take().or(other).unwrap_or_default();
                    so_far = self.comparison(comparison, collation, so_far, right);
                }
                None => {
                    let at = right.at;
                    let right = self.expr(right)?;
                    so_far = self.binary(so_far, op, right, at)?;
                }
            }
        }
        Ok(so_far)
    }

    fn binary(&mut self, left: Expr, op: Binary, right: Expr, at: Location) -> Lowered<Expr> {
        let function = match op {
            Binary::BitAnd => Some(Function::BitAnd),
            Binary::BitOr => Some(Function::BitOr),
            Binary::ShiftLeft => Some(Function::ShiftLeft),
            Binary::ShiftRight => Some(Function::ShiftRight),
            Binary::Arrow => Some(Function::Arrow),
            Binary::ArrowText => Some(Function::ArrowText),
            Binary::Glob => return Ok(Expr::Call(Function::Glob, vec![right, left])),
            _ => None,
        };
        if let Some(function) = function {
            return Ok(Expr::Call(function, vec![left, right]));
        }
        let (left, right) = (Box::new(left), Box::new(right));
        let arithmetic = match op {
            Binary::And => return Ok(Expr::And(left, right)),
            Binary::Or => return Ok(Expr::Or(left, right)),
            Binary::Concat => return Ok(Expr::Concat(left, right)),
            Binary::Plus => Arithmetic::Add,
            Binary::Minus => Arithmetic::Subtract,
            Binary::Times => Arithmetic::Multiply,
            Binary::Divide => Arithmetic::Divide,
            Binary::Remainder => Arithmetic::Remainder,
            other => {
                let message = format!("operator {} is not supported", other.spelled());
                return Err(Refusal::new(at, message, ""));
            }
        };
        Ok(Expr::Arithmetic(arithmetic, left, right))
    }

    fn compare(
        &mut self,
        comparison: Comparison,
        left: &'a tree::Expr,
        right: &'a tree::Expr,
    ) -> Lowered<Expr> {
        if let Some(pairs) = rows(left, right)? {
            return self.compare_rows(comparison, &pairs);
        }
        let ((left, one), (right, other)) = (self.collated(left)?, self.collated(right)?);
        let (left, right) = (self.expr(left)?, self.expr(right)?);
        Ok(self.comparison(comparison, one.or(other).unwrap_or_default(), left, right))
    }

    /// Compares rows of values: by their first values that are not equal.
    fn compare_rows(
        &mut self,
        comparison: Comparison,
        pairs: &[(&'a tree::Expr, &'a tree::Expr)],
    ) -> Lowered<Expr> {
        let sides = pairs.iter().map(|(left, right)| {
            let ((left, one), (right, other)) = (self.collated(left)?, self.collated(right)?);
            Ok((one.or(other).unwrap_or_default(), self.expr(left)?, self.expr(right)?))
        });
        let sides = sides.collect::<Lowered<Vec<_>>>()?;
        let differs = match comparison {
            Comparison::LessOrEqual => Comparison::Less,
            Comparison::GreaterOrEqual => Comparison::Greater,
            other => other,
        };
        let mut whole: Option<Expr> = None;
        for (collation, left, right) in sides.into_iter().rev() {
            let mut pair = |by| self.comparison(by, collation, left.clone(), right.clone());
            whole = Some(match (whole, comparison) {
                (None, _) => pair(comparison),
                (Some(rest), Comparison::Equal) => and(pair(Comparison::Equal), rest),
                (Some(rest), Comparison::NotEqual) => or(pair(Comparison::NotEqual), rest),
                (Some(rest), _) => or(pair(differs), and(pair(Comparison::Equal), rest)),
            });
        }
        Ok(whole.unwrap_or(Expr::Literal(Scalar::TRUE)))
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

    fn is(&mut self, left: &'a tree::Expr, right: &'a tree::Expr) -> Lowered<Expr> {
        if let Some(pairs) = rows(left, right)? {
            let all = pairs.into_iter().map(|(left, right)| self.is(left, right));
            let all = all.collect::<Lowered<Vec<_>>>()?;
            return Ok(all.into_iter().reduce(and).unwrap_or(Expr::Literal(Scalar::TRUE)));
        }
        let ((left, one), (right, other)) = (self.collated(left)?, self.collated(right)?);
        let (left, right) = (self.expr(left)?, self.expr(right)?);
        self.mark_time(&left, &right);
        let affinity = Affinity::of_comparison(self.affinity(&left), self.affinity(&right));
        let collation = one.or(other).unwrap_or_default();
        Ok(Expr::Is(affinity, collation, Box::new(left), Box::new(right)))
    }

    fn escape(&mut self, escape: &'a tree::Expr) -> Lowered<Box<Expr>> {
        let lowered = self.boxed(escape)?;
        match lowered.as_ref() {
            Expr::Literal(Scalar::Text(text)) if text.chars().count() == 1 => Ok(lowered),
            _ => Err(Refusal::new(escape.at, "ESCAPE takes a text of one letter", "")),
        }
    }
}

/// The values of two rows, side by side, if these are what is compared.
fn rows<'e>(
    left: &'e tree::Expr,
    right: &'e tree::Expr,
) -> Lowered<Option<Vec<(&'e tree::Expr, &'e tree::Expr)>>> {
    let (at, message) = match (&left.kind, &right.kind) {
        (ExprKind::Row(one), ExprKind::Row(other)) if one.len() == other.len() => {
            return Ok(Some(one.iter().zip(other).collect()));
        }
        (ExprKind::Row(one), ExprKind::Row(other)) => {
            let (one, other) = (one.len(), other.len());
            (right.at, format!("a row of {one} values is compared with one of {other}"))
        }
        (ExprKind::Row(one), _) => {
            let values = one.len();
            (right.at, format!("a row of {values} values is compared with a single one"))
        }
        (_, ExprKind::Row(other)) => {
            let values = other.len();
            (left.at, format!("a single value is compared with a row of {values}"))
        }
        _ => return Ok(None),
    };
    let help = "write as many values in parentheses on both sides; for those of a subquery, EXISTS";
    Err(Refusal::new(at, message, help))
}

/// The COLLATE in an expression that counts where the expression is compared.
fn inside(expr: &tree::Expr) -> Option<&Name> {
    match &expr.kind {
        ExprKind::Collate(_, name) => Some(name),
        _ => expr.operands().into_iter().find_map(inside),
    }
}

/// A numeric literal: whole if it has neither point nor exponent and fits 64 bits.
fn number(digits: &str) -> Option<Scalar<'static>> {
    let (number, is_whole_text) = number_prefix(digits);
    is_whole_text.then_some(number)
}

/// The comparison that an operator is.
fn comparison(op: Binary) -> Option<Comparison> {
    Some(match op {
        Binary::Equal => Comparison::Equal,
        Binary::NotEqual => Comparison::NotEqual,
        Binary::Less => Comparison::Less,
        Binary::LessOrEqual => Comparison::LessOrEqual,
        Binary::Greater => Comparison::Greater,
        Binary::GreaterOrEqual => Comparison::GreaterOrEqual,
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

fn and(left: Expr, right: Expr) -> Expr {
    Expr::And(Box::new(left), Box::new(right))
}

fn or(left: Expr, right: Expr) -> Expr {
    Expr::Or(Box::new(left), Box::new(right))
}

fn negate(negated: bool, expr: Expr) -> Expr {
    if negated { not(expr) } else { expr }
}

/// Why a name is not known that stands for the current time.
fn current_time(name: &str, at: Location) -> Option<Refusal> {
    let names = ["CURRENT_TIME", "CURRENT_DATE", "CURRENT_TIMESTAMP"];
    names.iter().any(|known| known.eq_ignore_ascii_case(name)).then(|| {
        let help = "give the time as a parameter: :now";
        Refusal::new(at, "the current time is not known here", help)
    })
}
