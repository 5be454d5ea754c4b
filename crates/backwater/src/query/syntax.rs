//! SQL text into a syntax tree: the parser is a crate's, the precedences are SQLite's.

use sqlparser::ast::{self, Expr, Statement, UnaryOperator, Value};
use sqlparser::dialect::{Dialect, Precedence};
use sqlparser::keywords::Keyword;
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::{Location, Token};

/// Why a statement is not taken, and where in its text.
#[derive(Debug)]
pub(crate) struct Refusal {
    pub(crate) at: Location,
    pub(crate) message: String,
    pub(crate) help: String,
    /// Whether a name in it is not known.
    pub(crate) unknown_name: bool,
}

impl Refusal {
    pub(crate) fn new(at: Location, message: impl Into<String>, help: impl Into<String>) -> Self {
        Self { at, message: message.into(), help: help.into(), unknown_name: false }
    }
}

/// How deep parentheses and subexpressions may nest.
const DEEPEST: usize = 100;
/// How many operators and names a statement may have; commas and literals are not counted, so
/// that a list of values may be long.
const LONGEST: usize = 4000;

/// Parses one SELECT statement.
pub(crate) fn parse(sql: &str) -> Result<ast::Query, Refusal> {
    let parser = Parser::new(&SqliteDialect).with_recursion_limit(DEEPEST);
    let mut parser = parser.try_with_sql(sql).map_err(refused)?;
    let mut heavy = 0;
    for index in 0.. {
        match &parser.peek_nth_token_ref(index).token {
            Token::EOF => break,
            Token::Comma | Token::Number(..) | Token::SingleQuotedString(_) => {}
            _ => heavy += 1,
        }
        if heavy > LONGEST {
            let at = parser.peek_nth_token_ref(index).span.start;
            return Err(Refusal::new(at, "this statement is too long", "divide it"));
        }
    }
    let first = parser.peek_token_ref().clone();
    if first.token == Token::EOF {
        return Err(Refusal::new(
            Location::new(1, 1),
            "this is empty, expected a SELECT statement",
            "",
        ));
    }
    let statement = parser.parse_statement().map_err(refused)?;
    let _ = parser.consume_token(&Token::SemiColon);
    let next = parser.peek_token_ref();
    if next.token != Token::EOF {
        return Err(Refusal::new(
            next.span.start,
            format!("found {} behind the statement, expected its end", next.token),
            "",
        ));
    }
    match statement {
        Statement::Query(query) => Ok(*query),
        _ => Err(Refusal::new(
            first.span.start,
            format!("found {}, expected a SELECT statement", first.token),
            "a query only reads; write through a commit",
        )),
    }
}

/// The parser's message without the place that it ends with, and that place.
fn refused(error: ParserError) -> Refusal {
    let text = match error {
        ParserError::TokenizerError(text) | ParserError::ParserError(text) => text,
        ParserError::RecursionLimitExceeded => {
            let message = format!("this statement nests deeper than {DEEPEST} levels");
            return Refusal::new(Location::new(1, 1), message, "write it flatter");
        }
    };
    let (message, at) = match text.rsplit_once(" at Line: ") {
        Some((message, place)) => (message, location(place)),
        None => (text.as_str(), None),
    };
    let message = message.strip_prefix("Expected: ").map_or_else(
        || message.to_owned(),
        |rest| match rest.rsplit_once(", found: ") {
            Some((expected, "EOF")) => format!("the statement ends here, expected {expected}"),
            Some((expected, found)) => format!("found {found}, expected {expected}"),
            None => format!("expected {rest}"),
        },
    );
    Refusal::new(at.unwrap_or(Location::new(1, 1)), message, "")
}

fn location(place: &str) -> Option<Location> {
    let (line, column) = place.split_once(", Column: ")?;
    Some(Location::new(line.parse().ok()?, column.parse().ok()?))
}

/// SQLite's SELECT: how its names are quoted and how strongly its operators bind.
#[derive(Debug)]
struct SqliteDialect;

/// From the weakest to the strongest.
mod binds {
    pub(super) const OR: u8 = 5;
    pub(super) const AND: u8 = 10;
    pub(super) const NOT: u8 = 15;
    /// `=`, `<>`, `IS`, `IN`, `LIKE`, `BETWEEN`, `NOTNULL`.
    pub(super) const EQUALITY: u8 = 20;
    /// `<`, `<=`, `>`, `>=`.
    pub(super) const ORDER: u8 = 30;
    /// `&`, `|`, `<<`, `>>`.
    pub(super) const BITS: u8 = 40;
    pub(super) const SUM: u8 = 50;
    pub(super) const PRODUCT: u8 = 60;
    /// `||`, `->`, `->>`.
    pub(super) const CONCAT: u8 = 70;
    /// Unary minus and plus.
    pub(super) const SIGN: u8 = 90;
    pub(super) const MEMBER: u8 = 100;
}

impl Dialect for SqliteDialect {
    fn is_identifier_start(&self, letter: char) -> bool {
        letter.is_ascii_alphabetic() || letter == '_' || letter > '\u{7f}'
    }

    fn is_identifier_part(&self, letter: char) -> bool {
        self.is_identifier_start(letter) || letter.is_ascii_digit() || letter == '$'
    }

    fn is_delimited_identifier_start(&self, letter: char) -> bool {
        matches!(letter, '"' | '`' | '[')
    }

    fn supports_in_empty_list(&self) -> bool {
        true
    }

    fn supports_limit_comma(&self) -> bool {
        true
    }

    fn supports_filter_during_aggregation(&self) -> bool {
        true
    }

    fn prec_value(&self, precedence: Precedence) -> u8 {
        match precedence {
            Precedence::Or => binds::OR,
            Precedence::And => binds::AND,
            Precedence::UnaryNot => binds::NOT,
            Precedence::Between | Precedence::Eq | Precedence::Like | Precedence::Is => {
                binds::EQUALITY
            }
            Precedence::Ampersand | Precedence::Pipe | Precedence::Caret | Precedence::Xor => {
                binds::BITS
            }
            Precedence::PlusMinus => binds::SUM,
            Precedence::MulDivModOp => binds::PRODUCT,
            Precedence::PgOther | Precedence::Colon => binds::CONCAT,
            Precedence::Period | Precedence::DoubleColon | Precedence::AtTz => binds::MEMBER,
        }
    }

    fn get_next_precedence(&self, parser: &Parser<'_>) -> Option<Result<u8, ParserError>> {
        let token = parser.peek_token_ref();
        Some(Ok(match &token.token {
            Token::Word(word) if word.quote_style.is_none() => match word.keyword {
                Keyword::OR => binds::OR,
                Keyword::AND => binds::AND,
                Keyword::IS
                | Keyword::IN
                | Keyword::BETWEEN
                | Keyword::LIKE
                | Keyword::GLOB
                | Keyword::MATCH
                | Keyword::REGEXP
                | Keyword::NOTNULL => binds::EQUALITY,
                Keyword::NOT => match &parser.peek_nth_token_ref(1).token {
                    Token::Word(next) => match next.keyword {
                        Keyword::IN
                        | Keyword::BETWEEN
                        | Keyword::LIKE
                        | Keyword::GLOB
                        | Keyword::MATCH
                        | Keyword::REGEXP
                        | Keyword::NULL => binds::EQUALITY,
                        _ => 0,
                    },
                    _ => 0,
                },
                _ if word.value.eq_ignore_ascii_case("ISNULL") => binds::EQUALITY,
                _ => 0,
            },
            Token::Eq | Token::DoubleEq | Token::Neq => binds::EQUALITY,
            Token::Lt | Token::LtEq | Token::Gt | Token::GtEq => binds::ORDER,
            Token::Ampersand | Token::Pipe | Token::ShiftLeft | Token::ShiftRight => binds::BITS,
            Token::Plus | Token::Minus => binds::SUM,
            Token::Mul | Token::Div | Token::Mod => binds::PRODUCT,
            Token::StringConcat | Token::Arrow | Token::LongArrow => binds::CONCAT,
            Token::Period => binds::MEMBER,
            _ => 0,
        }))
    }

    fn parse_prefix(&self, parser: &mut Parser<'_>) -> Option<Result<Expr, ParserError>> {
        let op = match parser.peek_token_ref().token {
            Token::Minus => UnaryOperator::Minus,
            Token::Plus => UnaryOperator::Plus,
            _ => return None,
        };
        parser.advance_token();
        let expr = parser.parse_subexpr(binds::SIGN);
        Some(expr.map(|expr| Expr::UnaryOp { op, expr: Box::new(expr) }))
    }

    fn parse_infix(
        &self,
        parser: &mut Parser<'_>,
        expr: &Expr,
        _: u8,
    ) -> Option<Result<Expr, ParserError>> {
        let left = || Box::new(expr.clone());
        if parser.parse_keyword(Keyword::IS) {
            return Some(parse_is(parser, left()));
        }
        if parser.parse_keyword(Keyword::NOTNULL)
            || parser.parse_keywords(&[Keyword::NOT, Keyword::NULL])
        {
            return Some(Ok(Expr::IsNotNull(left())));
        }
        if let Token::Word(word) = &parser.peek_token_ref().token
            && word.quote_style.is_none()
            && word.value.eq_ignore_ascii_case("ISNULL")
        {
            parser.advance_token();
            return Some(Ok(Expr::IsNull(left())));
        }
        None
    }
}

/// What follows `IS`: in SQLite any expression may.
fn parse_is(parser: &mut Parser<'_>, left: Box<Expr>) -> Result<Expr, ParserError> {
    let not = parser.parse_keyword(Keyword::NOT);
    let distinct = parser.parse_keywords(&[Keyword::DISTINCT, Keyword::FROM]);
    let right = parser.parse_subexpr(binds::EQUALITY)?;
    let equal = not == distinct;
    let mut bare = &right;
    while let Expr::Nested(inner) = bare {
        bare = inner;
    }
    let literal = match bare {
        Expr::Value(value) => Some(&value.value),
        _ => None,
    };
    Ok(match (literal, equal) {
        (Some(Value::Null), true) => Expr::IsNull(left),
        (Some(Value::Null), false) => Expr::IsNotNull(left),
        (Some(Value::Boolean(true)), true) => Expr::IsTrue(left),
        (Some(Value::Boolean(true)), false) => Expr::IsNotTrue(left),
        (Some(Value::Boolean(false)), true) => Expr::IsFalse(left),
        (Some(Value::Boolean(false)), false) => Expr::IsNotFalse(left),
        (_, true) => Expr::IsNotDistinctFrom(left, Box::new(right)),
        (_, false) => Expr::IsDistinctFrom(left, Box::new(right)),
    })
}
