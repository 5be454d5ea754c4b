//! Expressions: from the left to the right, an operator takes what binds more strongly than it.

use super::parser::{Parser, Parsing, is_window_name, is_word};
use super::token::Token;
use super::tree::{Arguments, Binary, Call, Expr, ExprKind, Literal, Name, Over, Unary};
use super::{Location, Refusal};

/// How strongly operators bind, from the weakest to the strongest.
mod binds {
    pub(super) const OR: u8 = 1;
    pub(super) const AND: u8 = 2;
    pub(super) const NOT: u8 = 3;
    /// `=`, `<>`, `IS`, `IN`, `LIKE`, `BETWEEN`, `NOTNULL`.
    pub(super) const EQUALITY: u8 = 4;
    /// `<`, `<=`, `>`, `>=`.
    pub(super) const ORDER: u8 = 5;
    /// `&`, `|`, `<<`, `>>`.
    pub(super) const BITS: u8 = 6;
    pub(super) const SUM: u8 = 7;
    pub(super) const PRODUCT: u8 = 8;
    /// `||`, `->`, `->>`.
    pub(super) const CONCAT: u8 = 9;
    pub(super) const COLLATE: u8 = 10;
    /// Unary minus, plus and `~`.
    pub(super) const SIGN: u8 = 11;
}

/// Operators between two expressions that are symbols.
const SYMBOLS: [(&str, u8, Binary); 20] = [
    ("=", binds::EQUALITY, Binary::Equal),
    ("==", binds::EQUALITY, Binary::Equal),
    ("<>", binds::EQUALITY, Binary::NotEqual),
    ("!=", binds::EQUALITY, Binary::NotEqual),
    ("<", binds::ORDER, Binary::Less),
    ("<=", binds::ORDER, Binary::LessOrEqual),
    (">", binds::ORDER, Binary::Greater),
    (">=", binds::ORDER, Binary::GreaterOrEqual),
    ("&", binds::BITS, Binary::BitAnd),
    ("|", binds::BITS, Binary::BitOr),
    ("<<", binds::BITS, Binary::ShiftLeft),
    (">>", binds::BITS, Binary::ShiftRight),
    ("+", binds::SUM, Binary::Plus),
    ("-", binds::SUM, Binary::Minus),
    ("*", binds::PRODUCT, Binary::Times),
    ("/", binds::PRODUCT, Binary::Divide),
    ("%", binds::PRODUCT, Binary::Remainder),
    ("||", binds::CONCAT, Binary::Concat),
    ("->", binds::CONCAT, Binary::Arrow),
    ("->>", binds::CONCAT, Binary::ArrowText),
];

/// Operators that are words, and may have NOT in front.
const TESTS: [&str; 6] = ["IN", "BETWEEN", "LIKE", "GLOB", "MATCH", "REGEXP"];

/// An operator that follows an expression.
enum Operator {
    Between(Binary),
    Collate,
    Is,
    IsNull,
    NotNull,
    /// One of [`TESTS`].
    Test,
}

impl<'s> Parser<'s> {
    /// An expression of operators that bind at least so strongly.
    pub(super) fn expr_from(&mut self, least: u8) -> Parsing<Expr> {
        let mut left = self.prefix()?;
        while let Some((binds, operator)) = self.operator()
            && binds >= least
        {
            self.count_operator(self.at())?;
            left = self.infix(left, operator, binds)?;
        }
        Ok(left)
    }

    /// The operator that comes next, if one does.
    fn operator(&self) -> Option<(u8, Operator)> {
        let word = match self.peek() {
            Token::Symbol(symbol) => {
                let known = SYMBOLS.iter().find(|(known, ..)| known == symbol);
                return known.map(|(_, binds, of)| (*binds, Operator::Between(*of)));
            }
            Token::Word(word) => *word,
            _ => return None,
        };
        let is = |known: &str| word.eq_ignore_ascii_case(known);
        let is_test = |token: &Token<'_>| TESTS.iter().any(|test| is_word(token, test));
        Some(match word {
            _ if is("OR") => (binds::OR, Operator::Between(Binary::Or)),
            _ if is("AND") => (binds::AND, Operator::Between(Binary::And)),
            _ if is("COLLATE") => (binds::COLLATE, Operator::Collate),
            _ if is("IS") => (binds::EQUALITY, Operator::Is),
            _ if is("ISNULL") => (binds::EQUALITY, Operator::IsNull),
            _ if is("NOTNULL") => (binds::EQUALITY, Operator::NotNull),
            _ if is("NOT") && is_word(self.second(), "NULL") => {
                (binds::EQUALITY, Operator::NotNull)
            }
            _ if is_test(self.peek()) || is("NOT") && is_test(self.second()) => {
                (binds::EQUALITY, Operator::Test)
            }
            _ => return None,
        })
    }

    fn infix(&mut self, left: Expr, operator: Operator, binds: u8) -> Parsing<Expr> {
        let at = left.at;
        let of = Box::new(left);
        let kind = match operator {
            Operator::Between(operator) => {
                self.advance();
                let right = self.expr_from(binds + 1)?;
                ExprKind::Binary(of, operator, Box::new(right))
            }
            Operator::Collate => {
                self.advance();
                if self.begins_join() {
                    return self.expected("the name of a collation");
                }
                ExprKind::Collate(of, self.name("the name of a collation")?)
            }
            Operator::IsNull => {
                self.advance();
                ExprKind::IsNull { of, negated: false }
            }
            Operator::NotNull => {
                if !self.takes_both("NOT", "NULL") {
                    self.advance();
                }
                ExprKind::IsNull { of, negated: true }
            }
            Operator::Is => self.is(of)?,
            Operator::Test => self.test(of)?,
        };
        Ok(Expr { at, kind })
    }

    /// What follows `IS`: in SQLite any expression may.
    fn is(&mut self, of: Box<Expr>) -> Parsing<ExprKind> {
        self.word("IS")?;
        let not = self.takes("NOT");
        let distinct = self.takes_both("DISTINCT", "FROM");
        let right = self.expr_from(binds::EQUALITY + 1)?;
        let negated = not != distinct;
        Ok(match right.kind {
            ExprKind::Literal(Literal::Null) => ExprKind::IsNull { of, negated },
            ExprKind::Literal(Literal::Truth(truth)) => ExprKind::IsTruth { of, truth, negated },
            _ => ExprKind::Is { left: of, right: Box::new(right), negated },
        })
    }

    /// One of [`TESTS`], which may be negated.
    fn test(&mut self, of: Box<Expr>) -> Parsing<ExprKind> {
        let negated = self.takes("NOT");
        if self.takes("BETWEEN") {
            // The first AND belongs to it.
            let low = Box::new(self.expr_from(binds::AND + 1)?);
            self.word("AND")?;
            let high = Box::new(self.expr_from(binds::EQUALITY + 1)?);
            return Ok(ExprKind::Between { of, low, high, negated });
        }
        if self.takes("IN") {
            return self.inside(of, negated);
        }
        if self.takes("LIKE") {
            let pattern = Box::new(self.expr_from(binds::EQUALITY + 1)?);
            let escape = match self.takes("ESCAPE") {
                true => Some(Box::new(self.expr_from(binds::EQUALITY + 1)?)),
                false => None,
            };
            return Ok(ExprKind::Like { of, pattern, escape, negated });
        }
        let words = [("GLOB", Binary::Glob), ("MATCH", Binary::Match), ("REGEXP", Binary::Regexp)];
        let operator = words.into_iter().find(|(word, _)| self.takes(word));
        let Some((_, operator)) = operator else { return self.expected("a test") };
        let right = Box::new(self.expr_from(binds::EQUALITY + 1)?);
        if self.is_word("ESCAPE") {
            let message = format!("{} has no ESCAPE", operator.spelled());
            return Err(Refusal::new(self.at(), message, "LIKE has"));
        }
        let at = of.at;
        let found = ExprKind::Binary(of, operator, right);
        Ok(match negated {
            true => ExprKind::Unary(Unary::Not, Box::new(Expr { at, kind: found })),
            false => found,
        })
    }

    /// What follows `IN`.
    fn inside(&mut self, of: Box<Expr>, negated: bool) -> Parsing<ExprKind> {
        if !self.is_symbol("(") {
            return self.expected("( with a list or a SELECT");
        }
        self.open()?;
        if self.begins_query() {
            let query = Box::new(self.query()?);
            self.close()?;
            return Ok(ExprKind::InQuery { of, query, negated });
        }
        let list = if self.is_symbol(")") { Vec::new() } else { self.comma_list(Self::expr)? };
        self.close()?;
        Ok(ExprKind::InList { of, list, negated })
    }

    /// An operator in front of an expression, or an expression that none stands in front of.
    fn prefix(&mut self) -> Parsing<Expr> {
        let at = self.at();
        let signs = [("-", Unary::Minus), ("+", Unary::Plus), ("~", Unary::Invert)];
        let sign = signs.into_iter().find(|(symbol, _)| self.is_symbol(symbol));
        let (operator, binds) = match sign {
            Some((_, operator)) => (operator, binds::SIGN),
            None if self.is_word("NOT") => (Unary::Not, binds::NOT),
            None => return self.primary(at),
        };
        self.count_operator(at)?;
        self.advance();
        let of = Box::new(self.expr_from(binds)?);
        Ok(Expr { at, kind: ExprKind::Unary(operator, of) })
    }

    fn primary(&mut self, at: Location) -> Parsing<Expr> {
        let literal = |literal| ExprKind::Literal(literal);
        let kind = match self.peek().clone() {
            Token::Number(digits) => literal(Literal::Number(digits.into_owned())),
            Token::Text(text) => literal(Literal::Text(text.into_owned())),
            Token::Blob(digits) => literal(Literal::Blob(digits.to_owned())),
            Token::Param(name) => literal(Literal::Param(name.to_owned())),
            Token::Word(word) if word.eq_ignore_ascii_case("NULL") => literal(Literal::Null),
            Token::Word(word) if word.eq_ignore_ascii_case("TRUE") => literal(Literal::Truth(true)),
            Token::Word(word) if word.eq_ignore_ascii_case("FALSE") => {
                literal(Literal::Truth(false))
            }
            Token::Symbol("(") => return self.inside_parentheses(at),
            Token::Word(_) | Token::Quoted(..) => {
                let kind = self.worded()?;
                return Ok(Expr { at, kind });
            }
            Token::Symbol(_) | Token::End => return self.expected("an expression"),
        };
        self.advance();
        Ok(Expr { at, kind })
    }

    fn inside_parentheses(&mut self, at: Location) -> Parsing<Expr> {
        self.open()?;
        if self.begins_query() {
            let query = Box::new(self.query()?);
            self.close()?;
            return Ok(Expr { at: query.at, kind: ExprKind::Subquery(query) });
        }
        let mut list = self.comma_list(Self::expr)?;
        self.close()?;
        match (list.pop(), list.is_empty()) {
            (Some(only), true) => Ok(only),
            (last, _) => {
                list.extend(last);
                Ok(Expr { at, kind: ExprKind::Row(list) })
            }
        }
    }

    /// What begins with a word or a name.
    fn worded(&mut self) -> Parsing<ExprKind> {
        if self.is_word("CASE") {
            return self.case();
        }
        if self.is_word("CAST") {
            return self.cast();
        }
        if self.takes("EXISTS") {
            return Ok(ExprKind::Exists(self.query_inside()?));
        }
        if self.begins_own_form() {
            return self.expected("an expression");
        }
        let name = self.name("an expression")?;
        if self.is_symbol("(") {
            return self.call(name);
        }
        let mut parts = vec![name];
        while parts.len() < 3 && self.takes_symbol(".") {
            parts.push(self.name("the name of a column")?);
        }
        Ok(ExprKind::Column(parts))
    }

    fn case(&mut self) -> Parsing<ExprKind> {
        self.deeper(self.at())?;
        self.advance();
        let operand = match self.is_word("WHEN") {
            true => None,
            false => Some(Box::new(self.expr()?)),
        };
        let mut branches = Vec::new();
        while self.takes("WHEN") {
            let condition = self.expr()?;
            self.word("THEN")?;
            branches.push((condition, self.expr()?));
        }
        if branches.is_empty() {
            return self.expected("WHEN");
        }
        let otherwise = match self.takes("ELSE") {
            true => Some(Box::new(self.expr()?)),
            false => None,
        };
        self.word("END")?;
        self.less_deep();
        Ok(ExprKind::Case { operand, branches, otherwise })
    }

    fn cast(&mut self) -> Parsing<ExprKind> {
        self.advance();
        self.open()?;
        let of = Box::new(self.expr()?);
        self.word("AS")?;
        let mut words = Vec::new();
        while matches!(self.peek(), Token::Word(_) | Token::Quoted(..)) && !self.begins_join() {
            words.push(self.name("a type")?.text);
        }
        if words.is_empty() {
            return self.expected("a type");
        }
        if self.is_symbol("(") {
            self.open()?;
            self.comma_list(|parser| {
                let _ = parser.takes_symbol("-") || parser.takes_symbol("+");
                match parser.advance() {
                    Token::Number(_) => Ok(()),
                    _ => parser.expected("a number"),
                }
            })?;
            self.close()?;
        }
        self.close()?;
        Ok(ExprKind::Cast(of, words.join(" ")))
    }

    /// A function whose name has been read.
    fn call(&mut self, name: Name) -> Parsing<ExprKind> {
        self.open()?;
        let mut call = Call {
            name,
            arguments: Arguments::List(Vec::new()),
            distinct: None,
            order: Vec::new(),
            filter: None,
            over: None,
        };
        if self.takes_symbol("*") {
            call.arguments = Arguments::All;
        } else {
            if self.takes("DISTINCT") {
                call.distinct = Some(true);
            } else if self.takes("ALL") {
                call.distinct = Some(false);
            }
            let orders = |parser: &Self| parser.is_word("ORDER") && is_word(parser.second(), "BY");
            if !self.is_symbol(")") && !orders(self) {
                call.arguments = Arguments::List(self.comma_list(Self::expr)?);
            }
            if self.takes_both("ORDER", "BY") {
                call.order = self.order_terms()?;
            }
        }
        self.close()?;
        let follows = *self.second() == Token::Symbol("(");
        if follows && self.takes("FILTER") {
            self.open()?;
            self.word("WHERE")?;
            call.filter = Some(Box::new(self.expr()?));
            self.close()?;
        }
        let is_over = self.is_word("OVER")
            && (is_window_name(self.second()) || *self.second() == Token::Symbol("("));
        if is_over {
            self.advance();
            call.over = Some(match self.is_symbol("(") {
                true => Over::Window(Box::new(self.window()?)),
                false => Over::Named(self.name("the name of a window")?),
            });
        }
        Ok(ExprKind::Call(call))
    }
}

impl Expr {
    /// The number that it is, if it is a whole one and nothing else.
    pub(crate) fn whole_number(&self) -> Option<usize> {
        match &self.kind {
            ExprKind::Literal(Literal::Number(digits)) => digits.parse().ok(),
            _ => None,
        }
    }
}
