//! A statement's syntax tree: what it says, not what that means.

use super::Location;

/// A name as it is written, and where.
#[derive(Debug, Clone)]
pub(crate) struct Name {
    pub(crate) text: String,
    /// The quote in front of it, if there is one.
    pub(crate) quote: Option<char>,
    pub(crate) at: Location,
}

/// A SELECT, or several that are put together, with what stands before and behind.
#[derive(Debug, Clone)]
pub(crate) struct Query {
    /// Where it begins.
    pub(crate) at: Location,
    pub(crate) with: Vec<WithTable>,
    pub(crate) selects: Vec<Select>,
    pub(crate) order: Vec<OrderTerm>,
    pub(crate) limit: Option<Expr>,
    pub(crate) offset: Option<Expr>,
}

/// `name(columns) AS (…)`.
#[derive(Debug, Clone)]
pub(crate) struct WithTable {
    pub(crate) name: Name,
    pub(crate) columns: Vec<Name>,
    pub(crate) query: Query,
}

/// How a SELECT goes with those in front of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Compound {
    UnionAll,
    Union,
    Except,
    Intersect,
}

impl Compound {
    pub(crate) fn spelled(self) -> &'static str {
        match self {
            Compound::UnionAll => "UNION ALL",
            Compound::Union => "UNION",
            Compound::Except => "EXCEPT",
            Compound::Intersect => "INTERSECT",
        }
    }
}

#[derive(Debug, Clone)]
pub(crate) struct Select {
    pub(crate) at: Location,
    /// `None` of the first one.
    pub(crate) compound: Option<Compound>,
    /// Whether it is VALUES, whose rows are left out.
    pub(crate) is_values: bool,
    pub(crate) is_distinct: bool,
    pub(crate) items: Vec<Item>,
    pub(crate) from: Vec<FromTerm>,
    pub(crate) condition: Option<Expr>,
    pub(crate) keys: Vec<Expr>,
    pub(crate) having: Option<Expr>,
    /// The windows that WINDOW names.
    pub(crate) windows: Vec<(Name, Window)>,
}

/// What a SELECT gives: a column, or several.
#[derive(Debug, Clone)]
pub(crate) enum Item {
    /// An expression, the name that AS gives it, and its text in the statement.
    Expr { expr: Expr, alias: Option<Name>, text: String },
    /// `*`.
    All(Location),
    /// `table.*`.
    AllOf(Name),
}

/// A table in FROM and how it goes with those in front of it.
#[derive(Debug, Clone)]
pub(crate) struct FromTerm {
    pub(crate) join: Join,
    pub(crate) is_natural: bool,
    pub(crate) at: Location,
    pub(crate) source: Source,
    pub(crate) alias: Option<Name>,
    pub(crate) on: Option<Expr>,
    /// The columns that USING names.
    pub(crate) using: Vec<Name>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Join {
    Inner,
    Left,
    Right,
    Full,
}

#[derive(Debug, Clone)]
pub(crate) enum Source {
    /// A table, and the database that is named in front of it.
    Table {
        database: Option<Name>,
        name: Name,
    },
    /// A function that gives rows.
    Function {
        name: Name,
        arguments: Vec<Expr>,
    },
    Query(Box<Query>),
    /// Tables in parentheses, which are left out.
    Joined,
}

#[derive(Debug, Clone)]
pub(crate) struct OrderTerm {
    pub(crate) expr: Expr,
    pub(crate) descending: bool,
    pub(crate) nulls_first: Option<bool>,
}

/// An expression and where it begins. Parentheses around one are not part of it.
#[derive(Debug, Clone)]
pub(crate) struct Expr {
    pub(crate) at: Location,
    pub(crate) kind: ExprKind,
}

#[derive(Debug, Clone)]
pub(crate) enum ExprKind {
    /// The parts of a column's name.
    Column(Vec<Name>),
    Literal(Literal),
    Unary(Unary, Box<Expr>),
    Binary(Box<Expr>, Binary, Box<Expr>),
    /// `IS NULL`, or if it is negated `IS NOT NULL`.
    IsNull {
        of: Box<Expr>,
        negated: bool,
    },
    /// `IS TRUE`, `IS NOT FALSE` and so on.
    IsTruth {
        of: Box<Expr>,
        truth: bool,
        negated: bool,
    },
    Is {
        left: Box<Expr>,
        right: Box<Expr>,
        negated: bool,
    },
    Between {
        of: Box<Expr>,
        low: Box<Expr>,
        high: Box<Expr>,
        negated: bool,
    },
    InList {
        of: Box<Expr>,
        list: Vec<Expr>,
        negated: bool,
    },
    InQuery {
        of: Box<Expr>,
        query: Box<Query>,
        negated: bool,
    },
    Like {
        of: Box<Expr>,
        pattern: Box<Expr>,
        escape: Option<Box<Expr>>,
        negated: bool,
    },
    Case {
        operand: Option<Box<Expr>>,
        branches: Vec<(Expr, Expr)>,
        otherwise: Option<Box<Expr>>,
    },
    Call(Call),
    Exists(Box<Query>),
    Subquery(Box<Query>),
    Collate(Box<Expr>, Name),
    Cast(Box<Expr>, String),
    /// Several values in parentheses.
    Row(Vec<Expr>),
}

#[derive(Debug, Clone)]
pub(crate) enum Literal {
    /// The digits of a number.
    Number(String),
    Text(String),
    Blob(String),
    Truth(bool),
    Null,
    /// A parameter with the sign in front of its name.
    Param(String),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Unary {
    Minus,
    Plus,
    Not,
    /// `~`.
    Invert,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Binary {
    Or,
    And,
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
    Glob,
    Match,
    Regexp,
    BitAnd,
    BitOr,
    ShiftLeft,
    ShiftRight,
    Plus,
    Minus,
    Times,
    Divide,
    Remainder,
    Concat,
    Arrow,
    ArrowText,
}

impl Binary {
    pub(crate) fn spelled(self) -> &'static str {
        match self {
            Binary::Or => "OR",
            Binary::And => "AND",
            Binary::Equal => "=",
            Binary::NotEqual => "<>",
            Binary::Less => "<",
            Binary::LessOrEqual => "<=",
            Binary::Greater => ">",
            Binary::GreaterOrEqual => ">=",
            Binary::Glob => "GLOB",
            Binary::Match => "MATCH",
            Binary::Regexp => "REGEXP",
            Binary::BitAnd => "&",
            Binary::BitOr => "|",
            Binary::ShiftLeft => "<<",
            Binary::ShiftRight => ">>",
            Binary::Plus => "+",
            Binary::Minus => "-",
            Binary::Times => "*",
            Binary::Divide => "/",
            Binary::Remainder => "%",
            Binary::Concat => "||",
            Binary::Arrow => "->",
            Binary::ArrowText => "->>",
        }
    }
}

/// A function with its arguments.
#[derive(Debug, Clone)]
pub(crate) struct Call {
    pub(crate) name: Name,
    pub(crate) arguments: Arguments,
    /// Whether DISTINCT stands in front of them; `None` if neither that nor ALL does.
    pub(crate) distinct: Option<bool>,
    /// ORDER BY behind them.
    pub(crate) order: Vec<OrderTerm>,
    pub(crate) filter: Option<Box<Expr>>,
    pub(crate) over: Option<Over>,
}

/// Which rows a window function is called for.
#[derive(Debug, Clone)]
pub(crate) enum Over {
    Named(Name),
    Window(Box<Window>),
}

/// A window in parentheses.
#[derive(Debug, Clone)]
pub(crate) struct Window {
    pub(crate) at: Location,
    /// The named one that it goes on from.
    pub(crate) base: Option<Name>,
    pub(crate) partition: Vec<Expr>,
    pub(crate) order: Vec<OrderTerm>,
    pub(crate) frame: Option<Frame>,
}

/// Which rows of a window count for one of them.
#[derive(Debug, Clone)]
pub(crate) struct Frame {
    pub(crate) at: Location,
    pub(crate) unit: FrameUnit,
    pub(crate) start: Bound,
    pub(crate) end: Bound,
    /// Where EXCLUDE stands, unless it excludes nothing.
    pub(crate) excludes: Option<Location>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum FrameUnit {
    Rows,
    Range,
    Groups,
}

/// Where a frame begins or ends.
#[derive(Debug, Clone)]
pub(crate) enum Bound {
    CurrentRow,
    /// This many in front; without a number, all.
    Preceding(Option<Expr>),
    /// This many behind; without a number, all.
    Following(Option<Expr>),
}

#[derive(Debug, Clone)]
pub(crate) enum Arguments {
    /// `*`.
    All,
    List(Vec<Expr>),
}

impl Expr {
    /// The expressions that this one's value is made of, from left to right, without those inside
    /// of its subqueries. A row of operators nests as deep as it is long, and gives all of its
    /// operands.
    pub(crate) fn operands(&self) -> Vec<&Expr> {
        let mut out: Vec<&Expr> = Vec::new();
        match &self.kind {
            ExprKind::Unary(_, of)
            | ExprKind::Collate(of, _)
            | ExprKind::Cast(of, _)
            | ExprKind::IsNull { of, .. }
            | ExprKind::IsTruth { of, .. }
            | ExprKind::InQuery { of, .. } => out.push(of),
            ExprKind::Binary(..) => {
                let mut leftmost = self;
                let mut rights = Vec::new();
                while let ExprKind::Binary(left, _, right) = &leftmost.kind {
                    rights.push(right.as_ref());
                    leftmost = left;
                }
                out.push(leftmost);
                out.extend(rights.into_iter().rev());
            }
            ExprKind::Is { left, right, .. } => out.extend([left.as_ref(), right]),
            ExprKind::Between { of, low, high, .. } => out.extend([of.as_ref(), low, high]),
            ExprKind::Like { of, pattern, .. } => out.extend([pattern.as_ref(), of]),
            ExprKind::InList { of, list, .. } => {
                out.push(of);
                out.extend(list);
            }
            ExprKind::Case { operand, branches, otherwise } => {
                out.extend(operand.as_deref());
                out.extend(branches.iter().flat_map(|(condition, result)| [condition, result]));
                out.extend(otherwise.as_deref());
            }
            ExprKind::Call(Call { arguments: Arguments::List(list), .. }) | ExprKind::Row(list) => {
                out.extend(list);
            }
            ExprKind::Call(_)
            | ExprKind::Column(_)
            | ExprKind::Literal(_)
            | ExprKind::Exists(_)
            | ExprKind::Subquery(_) => {}
        }
        out
    }
}
