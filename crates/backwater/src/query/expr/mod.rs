//! Expressions: what a statement computes from a row, and how.

pub(in crate::query) mod collation;
pub(in crate::query) mod datetime;
pub(in crate::query) mod fold;
pub(in crate::query) mod format;
pub(in crate::query) mod function;
pub(in crate::query) mod json;
pub(in crate::query) mod numeral;
pub(in crate::query) mod scalar;
pub(in crate::query) mod shape;
pub(in crate::query) mod window;

use std::cmp::Ordering;

use crate::query::expr::collation::Collation;
use crate::query::expr::function::{Cast, Function};
use crate::query::expr::scalar::{Affinity, Scalar};
use crate::query::work::{self, Failure};
use crate::schema::FieldNo;

/// A column of one of the relations that a statement reads. The rows of a grouping are one
/// relation, the first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct ColumnNo {
    pub(crate) source: u16,
    pub(crate) column: u32,
}

impl ColumnNo {
    pub(crate) fn new(source: usize, column: usize) -> Self {
        Self { source: source as u16, column: column as u32 }
    }

    /// A column of the only relation.
    pub(crate) fn only(column: usize) -> Self {
        Self::new(0, column)
    }

    pub(crate) fn source(self) -> usize {
        self.source.into()
    }

    pub(crate) fn field(self) -> FieldNo {
        FieldNo(self.column)
    }
}

/// A compiled expression over the columns of the relations that a statement reads.
#[derive(Clone, PartialEq, Hash)]
pub(crate) enum Expr {
    Literal(Scalar<'static>),
    /// A parameter, by its number in the statement.
    Param(usize),
    Column(ColumnNo),
    /// A column of the statement around this one. It stands only until the plan is made.
    Outer(ColumnNo),
    /// An aggregate, by its number in the statement. It stands only until the plan is made.
    Aggregate(usize),
    /// A window function, by its number in the statement. It stands only until the plan is made.
    Window(usize),
    /// A value as an affinity turns it.
    Under(Affinity, Box<Expr>),
    /// What is equal for values that a collation finds equal.
    Folded(Collation, Box<Expr>),
    Negate(Box<Expr>),
    Not(Box<Expr>),
    And(Box<Expr>, Box<Expr>),
    Or(Box<Expr>, Box<Expr>),
    Arithmetic(Arithmetic, Box<Expr>, Box<Expr>),
    Concat(Box<Expr>, Box<Expr>),
    Compare(Comparison, Affinity, Collation, Box<Expr>, Box<Expr>),
    /// `IS` without `NOT`: equal, or both NULL.
    Is(Affinity, Collation, Box<Expr>, Box<Expr>),
    IsTruth(bool, Box<Expr>),
    In(Affinity, Collation, Box<Expr>, Vec<Expr>),
    Cast(Cast, Box<Expr>),
    Like {
        text: Box<Expr>,
        pattern: Box<Expr>,
        escape: Option<Box<Expr>>,
    },
    Case {
        branches: Vec<(Expr, Expr)>,
        otherwise: Option<Box<Expr>>,
    },
    Call(Function, Vec<Expr>),
}

#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Arithmetic {
    Add,
    Subtract,
    Multiply,
    Divide,
    Remainder,
}

#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Comparison {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

impl Comparison {
    /// Whether two values in this order compare so.
    #[inline]
    pub(crate) fn holds(self, order: Ordering) -> bool {
        match self {
            Comparison::Equal => order == Ordering::Equal,
            Comparison::NotEqual => order != Ordering::Equal,
            Comparison::Less => order == Ordering::Less,
            Comparison::LessOrEqual => order != Ordering::Greater,
            Comparison::Greater => order == Ordering::Greater,
            Comparison::GreaterOrEqual => order != Ordering::Less,
        }
    }

    /// The same with its sides exchanged.
    pub(crate) fn mirrored(self) -> Self {
        match self {
            Comparison::Less => Comparison::Greater,
            Comparison::LessOrEqual => Comparison::GreaterOrEqual,
            Comparison::Greater => Comparison::Less,
            Comparison::GreaterOrEqual => Comparison::LessOrEqual,
            same => same,
        }
    }
}

/// Where an expression's columns are read: in a row of a table, or of a grouping.
pub(crate) trait Columns<'a> {
    fn column(&self, number: ColumnNo) -> Scalar<'a>;

    /// The value of a column, if it is a whole number.
    #[inline]
    fn whole(&self, number: ColumnNo) -> Option<i64> {
        match self.column(number) {
            Scalar::Int(number) => Some(number),
            _ => None,
        }
    }

    /// The microseconds of a column, if it is a timestamp.
    #[inline]
    fn micros(&self, number: ColumnNo) -> Option<i64> {
        match self.column(number) {
            Scalar::Time(time) => Some(time.as_micros()),
            _ => None,
        }
    }

    /// Whether some of its values cannot be computed, such as a sum beyond 64 bits. These read as
    /// NULL, and are noted as failures.
    #[inline]
    fn may_fail(&self) -> bool {
        false
    }

    /// Takes the failure that was noted since the last call.
    fn take_failure(&self) -> Option<Failure> {
        None
    }

    /// Notes a failure.
    fn note_failure(&self, _failure: Option<Failure>) {}
}

impl<'a> Columns<'a> for &'a [Scalar<'static>] {
    fn column(&self, number: ColumnNo) -> Scalar<'a> {
        self[number.column as usize].lend()
    }
}

/// For expressions that read no row.
pub(crate) struct NoColumns;

impl<'a> Columns<'a> for NoColumns {
    fn column(&self, _: ColumnNo) -> Scalar<'a> {
        Scalar::Null
    }
}

impl Expr {
    /// The column that it plainly is.
    #[cfg(feature = "remote")]
    pub(crate) fn plain_column(&self) -> Option<ColumnNo> {
        match self {
            Expr::Column(column) => Some(*column),
            Expr::Under(_, inner) => inner.plain_column(),
            _ => None,
        }
    }

    /// The expression's value for one row.
    #[inline]
    pub(crate) fn eval<'a>(
        &'a self,
        row: &impl Columns<'a>,
        params: &'a [Scalar<'static>],
    ) -> Scalar<'a> {
        // Most are columns, which are not worth a call.
        match self {
            Expr::Column(number) => row.column(*number),
            other => other.eval_other(row, params),
        }
    }

    /// Whether it is true of a row, and neither false nor null.
    #[inline]
    pub(crate) fn holds<'a>(
        &'a self,
        row: &impl Columns<'a>,
        params: &'a [Scalar<'static>],
    ) -> bool {
        self.eval(row, params).as_truth() == Some(true)
    }

    /// The same inside of another expression. There is one of this for all kinds of rows.
    pub(crate) fn eval_in<'a>(
        &'a self,
        row: &dyn Columns<'a>,
        params: &'a [Scalar<'static>],
    ) -> Scalar<'a> {
        match self {
            Expr::Column(number) => row.column(*number),
            other => other.eval_other(row, params),
        }
    }

    fn eval_other<'a>(
        &'a self,
        row: &dyn Columns<'a>,
        params: &'a [Scalar<'static>],
    ) -> Scalar<'a> {
        match self {
            Expr::Literal(Scalar::Text(text)) => Scalar::Str(text),
            Expr::Literal(value) => value.clone(),
            Expr::Param(number) => params[*number].lend(),
            Expr::Column(number) => row.column(*number),
            Expr::Aggregate(_) | Expr::Window(_) | Expr::Outer(_) => Scalar::Null,
            Expr::Under(affinity, of) => of.eval_in(row, params).under(*affinity),
            Expr::Folded(collation, of) => collation.folded(of.eval_in(row, params)),
            Expr::Negate(of) => match of.eval_in(row, params).to_number() {
                Scalar::Int(number) => match number.checked_neg() {
                    Some(negated) => Scalar::Int(negated),
                    None => Scalar::Real(-(number as f64)),
                },
                Scalar::Real(number) => Scalar::Real(-number),
                _ => Scalar::Null,
            },
            Expr::Not(of) => Scalar::truth(of.eval_in(row, params).as_truth().map(|truth| !truth)),
            Expr::And(left, right) => {
                let left = left.eval_in(row, params).as_truth();
                if left == Some(false) {
                    return Scalar::FALSE;
                }
                match (left, right.eval_in(row, params).as_truth()) {
                    (_, Some(false)) => Scalar::FALSE,
                    (Some(true), Some(true)) => Scalar::TRUE,
                    _ => Scalar::Null,
                }
            }
            Expr::Or(left, right) => {
                let left = left.eval_in(row, params).as_truth();
                if left == Some(true) {
                    return Scalar::TRUE;
                }
                match (left, right.eval_in(row, params).as_truth()) {
                    (_, Some(true)) => Scalar::TRUE,
                    (Some(false), Some(false)) => Scalar::FALSE,
                    _ => Scalar::Null,
                }
            }
            Expr::Arithmetic(operator, left, right) => {
                let (left, right) = sides(left, right, row, params);
                arithmetic(*operator, &left, &right)
            }
            Expr::Concat(left, right) => {
                let (left, right) = sides(left, right, row, params);
                match (left.to_text(), right.to_text()) {
                    (Some(left), Some(right)) if work::fits(left.len() + right.len()) => {
                        Scalar::Text(format!("{left}{right}").into())
                    }
                    _ => Scalar::Null,
                }
            }
            Expr::Compare(comparison, affinity, collation, left, right) => {
                let (left, right) = sides(left, right, row, params);
                let (left, right) = (left.under(*affinity), right.under(*affinity));
                Scalar::truth(compare(*comparison, *collation, &left, &right))
            }
            Expr::Is(affinity, collation, left, right) => {
                let left = left.eval_in(row, params).under(*affinity);
                let right = right.eval_in(row, params).under(*affinity);
                Scalar::Int(collation.compare(&left, &right).is_eq().into())
            }
            Expr::Cast(cast, of) => cast.apply(of.eval_in(row, params)),
            Expr::IsTruth(truth, of) => {
                Scalar::Int((of.eval_in(row, params).as_truth() == Some(*truth)).into())
            }
            Expr::In(affinity, collation, of, list) => {
                let of = of.eval_in(row, params).under(*affinity);
                is_in(
                    *collation,
                    &of,
                    list.iter().map(|item| item.eval_in(row, params).under(*affinity)),
                    list.is_empty(),
                )
            }
            Expr::Like { text, pattern, escape } => {
                let (text, pattern) = (text.eval_in(row, params), pattern.eval_in(row, params));
                let escape = match escape.as_ref().map(|escape| escape.eval_in(row, params)) {
                    None => None,
                    Some(escape) => match escape.to_text().and_then(|text| text.chars().next()) {
                        None => return Scalar::Null,
                        some => some,
                    },
                };
                match (text.to_text(), pattern.to_text()) {
                    (Some(text), Some(pattern)) => {
                        Scalar::Int(like(&text, &pattern, escape).into())
                    }
                    _ => Scalar::Null,
                }
            }
            Expr::Case { branches, otherwise } => {
                let branch = branches
                    .iter()
                    .find(|(when, _)| when.eval_in(row, params).as_truth() == Some(true));
                match (branch, otherwise) {
                    (Some((_, then)), _) => then.eval_in(row, params),
                    (None, Some(otherwise)) => otherwise.eval_in(row, params),
                    (None, None) => Scalar::Null,
                }
            }
            Expr::Call(function, arguments) => function.call(arguments, row, params),
        }
    }

    /// The same for all values that a collation finds equal.
    pub(crate) fn folded(self, collation: Collation) -> Expr {
        match collation {
            Collation::Binary => self,
            other => Expr::Folded(other, Box::new(self)),
        }
    }

    /// A condition as those that must all be true, one behind the other.
    pub(crate) fn conjuncts(self) -> Vec<Expr> {
        let (mut open, mut out) = (vec![self], Vec::new());
        while let Some(expr) = open.pop() {
            match expr {
                Expr::And(left, right) => {
                    open.push(*right);
                    open.push(*left);
                }
                other => out.push(other),
            }
        }
        out
    }

    /// The columns in the expression.
    pub(crate) fn columns(&self) -> Vec<ColumnNo> {
        let mut out = Vec::new();
        self.walk(&mut |expr| {
            if let Expr::Column(column) = expr {
                out.push(*column);
            }
        });
        out
    }

    /// Puts another expression in the place of each column.
    pub(crate) fn replace_columns(&mut self, by: &dyn Fn(ColumnNo) -> Expr) {
        match self {
            Expr::Column(column) => *self = by(*column),
            other => other.children_mut(&mut |child| child.replace_columns(by)),
        }
    }

    /// Whether it reads a column of the statement around this one.
    pub(crate) fn reads_around(&self) -> bool {
        let mut found = false;
        self.walk(&mut |expr| found |= matches!(expr, Expr::Outer(_)));
        found
    }

    /// Puts another expression in the place of each column of the statement around this one.
    pub(crate) fn replace_outer(&mut self, by: &dyn Fn(ColumnNo) -> Expr) {
        match self {
            Expr::Outer(number) => *self = by(*number),
            other => other.children_mut(&mut |child| child.replace_outer(by)),
        }
    }

    /// Gives columns and parameters other numbers.
    pub(crate) fn renumber(&mut self, columns: &dyn Fn(ColumnNo) -> ColumnNo, params: &[usize]) {
        match self {
            Expr::Column(column) => *column = columns(*column),
            Expr::Param(param) => *param = params[*param],
            other => other.children_mut(&mut |child| child.renumber(columns, params)),
        }
    }

    /// Whether it reads a column of the only relation from this one on.
    pub(crate) fn reads_from(&self, first: usize) -> bool {
        let mut reads = false;
        self.walk(&mut |expr| {
            reads |= matches!(expr, Expr::Column(column) if column.column as usize >= first);
        });
        reads
    }

    /// Whether its value is known to be JSON, and not only a text that may be.
    pub(crate) fn is_json(&self) -> bool {
        match self {
            Expr::Call(Function::JsonExtract, arguments) => arguments.len() > 2,
            Expr::Call(function, _) => function.gives_json(),
            _ => false,
        }
    }

    /// Whether it is the same for all rows.
    pub(crate) fn is_constant(&self) -> bool {
        let mut constant = true;
        self.walk(&mut |expr| {
            constant &= !matches!(
                expr,
                Expr::Column(_) | Expr::Aggregate(_) | Expr::Window(_) | Expr::Outer(_)
            );
        });
        constant
    }

    /// Whether a function in it may make a very long text.
    pub(crate) fn may_grow(&self) -> bool {
        let mut may_grow = false;
        self.walk(&mut |expr| {
            may_grow |= matches!(expr, Expr::Call(function, _) if function.may_grow());
        });
        may_grow
    }

    /// Calls `f` on this expression and all below it.
    pub(crate) fn walk<'e>(&'e self, f: &mut dyn FnMut(&'e Expr)) {
        f(self);
        self.children(&mut |child| child.walk(f));
    }
}

/// Calls a function on the operands of an expression, by reference or mutably.
macro_rules! children {
    ($name:ident, $list:ident $(, $lent:lifetime)?; $($reference:tt)+) => {
        impl Expr {
            /// Calls `f` on the expressions that this one is made of.
            pub(crate) fn $name$(<$lent>)?(
                $($reference)+ self,
                f: &mut dyn FnMut($($reference)+ Expr),
            ) {
                match self {
                    Expr::Literal(_)
                    | Expr::Param(_)
                    | Expr::Column(_)
                    | Expr::Outer(_)
                    | Expr::Aggregate(_)
                    | Expr::Window(_) => {}
                    Expr::Under(_, of) | Expr::Folded(_, of) | Expr::Cast(_, of) | Expr::Negate(of) | Expr::Not(of) | Expr::IsTruth(_, of) => f(of),
                    Expr::And(left, right)
                    | Expr::Or(left, right)
                    | Expr::Arithmetic(_, left, right)
                    | Expr::Concat(left, right)
                    | Expr::Compare(_, _, _, left, right)
                    | Expr::Is(_, _, left, right) => {
                        f(left);
                        f(right);
                    }
                    Expr::In(_, _, of, list) => {
                        f(of);
                        list.$list().for_each(f);
                    }
                    Expr::Like { text, pattern, escape } => {
                        f(text);
                        f(pattern);
                        escape.$list().for_each(|escape| f(escape));
                    }
                    Expr::Case { branches, otherwise } => {
                        for (when, then) in branches {
                            f(when);
                            f(then);
                        }
                        otherwise.$list().for_each(|otherwise| f(otherwise));
                    }
                    Expr::Call(_, arguments) => arguments.$list().for_each(f),
                }
            }
        }
    };
}

children!(children, iter, 'e; &'e);
children!(children_mut, iter_mut; &mut);

/// Both sides of an operator that gives NULL if one of them is NULL. Then the other side need not
/// be computable, as in SQLite.
#[inline]
fn sides<'a>(
    left: &'a Expr,
    right: &'a Expr,
    row: &dyn Columns<'a>,
    params: &'a [Scalar<'static>],
) -> (Scalar<'a>, Scalar<'a>) {
    if !row.may_fail() {
        return (left.eval_in(row, params), right.eval_in(row, params));
    }
    let before = row.take_failure();
    let sides = [left, right].map(|side| (side.eval_in(row, params), row.take_failure()));
    let is_null = sides.iter().any(|(value, failure)| value.is_null() && failure.is_none());
    let [(left, left_failure), (right, right_failure)] = sides;
    row.note_failure(before.or(left_failure.or(right_failure).filter(|_| !is_null)));
    (left, right)
}

/// Compares two values that their affinities have been applied to; unknown if one is NULL.
pub(crate) fn compare(
    comparison: Comparison,
    collation: Collation,
    left: &Scalar<'_>,
    right: &Scalar<'_>,
) -> Option<bool> {
    if left.is_null() || right.is_null() {
        return None;
    }
    Some(comparison.holds(collation.compare(left, right)))
}

fn is_in<'a>(
    collation: Collation,
    of: &Scalar<'_>,
    list: impl Iterator<Item = Scalar<'a>>,
    is_empty: bool,
) -> Scalar<'static> {
    if is_empty {
        return Scalar::FALSE;
    }
    let mut unknown = of.is_null();
    for item in list {
        match compare(Comparison::Equal, collation, of, &item) {
            Some(true) => return Scalar::TRUE,
            Some(false) => {}
            None => unknown = true,
        }
    }
    if unknown { Scalar::Null } else { Scalar::FALSE }
}

/// Whole numbers stay whole until they overflow; a division by zero is NULL.
fn arithmetic(operator: Arithmetic, left: &Scalar<'_>, right: &Scalar<'_>) -> Scalar<'static> {
    let numbers = (left.to_number(), right.to_number());
    if let (Scalar::Int(left), Scalar::Int(right)) = &numbers {
        let whole = match operator {
            Arithmetic::Add => left.checked_add(*right),
            Arithmetic::Subtract => left.checked_sub(*right),
            Arithmetic::Multiply => left.checked_mul(*right),
            Arithmetic::Divide | Arithmetic::Remainder if *right == 0 => return Scalar::Null,
            Arithmetic::Divide => left.checked_div(*right),
            Arithmetic::Remainder => Some(left.wrapping_rem(*right)),
        };
        if let Some(number) = whole {
            return Scalar::Int(number);
        }
    }
    let (Some(a), Some(b)) = (as_real(&numbers.0), as_real(&numbers.1)) else {
        return Scalar::Null;
    };
    let number = match operator {
        Arithmetic::Add => a + b,
        Arithmetic::Subtract => a - b,
        Arithmetic::Multiply => a * b,
        Arithmetic::Divide if b == 0.0 => return Scalar::Null,
        Arithmetic::Divide => a / b,
        Arithmetic::Remainder => match right.to_int() {
            0 => return Scalar::Null,
            right => left.to_int().wrapping_rem(right) as f64,
        },
    };
    if number.is_nan() { Scalar::Null } else { Scalar::Real(number) }
}

fn as_real(number: &Scalar<'_>) -> Option<f64> {
    match number {
        Scalar::Int(number) => Some(*number as f64),
        Scalar::Real(number) => Some(*number),
        _ => None,
    }
}

/// `LIKE`: `%` stands for any letters, `_` for one, and the 26 letters of ASCII match in either
/// case.
pub(crate) fn like(text: &str, pattern: &str, escape: Option<char>) -> bool {
    enum Part {
        Any,
        One,
        Letter(char),
    }
    let mut parts = Vec::new();
    let mut letters = pattern.chars();
    while let Some(letter) = letters.next() {
        parts.push(match letter {
            _ if Some(letter) == escape => match letters.next() {
                Some(next) => Part::Letter(next),
                None => return false,
            },
            '%' => Part::Any,
            '_' => Part::One,
            letter => Part::Letter(letter),
        });
    }
    let text: Vec<char> = text.chars().collect();
    let (mut at, mut part) = (0, 0);
    // Where to go on when what followed the last `%` did not match.
    let mut retry: Option<(usize, usize)> = None;
    while at < text.len() {
        match parts.get(part) {
            Some(Part::Any) => {
                retry = Some((at, part + 1));
                part += 1;
                continue;
            }
            Some(Part::One) => {}
            Some(Part::Letter(letter)) if letter.eq_ignore_ascii_case(&text[at]) => {}
            _ => match &mut retry {
                Some((from, after)) => {
                    *from += 1;
                    (at, part) = (*from, *after);
                    continue;
                }
                None => return false,
            },
        }
        at += 1;
        part += 1;
    }
    parts[part..].iter().all(|part| matches!(part, Part::Any))
}
