//! SQL text into a syntax tree: the parser is a crate's, the precedences are SQLite's.

use sqlparser::ast::{self, BinaryOperator, Expr, Statement, UnaryOperator, Value};
use sqlparser::dialect::{Dialect, Precedence};
use sqlparser::keywords::Keyword;
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::{Location, Token, TokenWithSpan, Tokenizer};

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
const DEEPEST: usize = 40;
/// How deep the parser may call itself: several times for each level, and once for an operator in
/// front of another.
const MOST_CALLS: usize = 4 * DEEPEST + MOST_OPERATORS;
/// How many operators a statement may have: a row of them nests as deep as it is long.
const MOST_OPERATORS: usize = 500;

/// Does something that descends by calls as deep as a statement may nest, with as much stack as
/// that takes, wherever it is called.
pub(crate) fn with_deep_stack<T>(work: impl FnOnce() -> T) -> T {
    // Measured with statements of the greatest depth; unoptimized calls take several times as much.
    const NEEDED: usize = if cfg!(debug_assertions) { 24 << 20 } else { 4 << 20 };
    stacker::maybe_grow(NEEDED, 2 * NEEDED, work)
}

/// A parsed SELECT statement.
pub(crate) struct Parsed {
    pub(crate) query: ast::Query,
    /// The text of each result column as it stands in the statement.
    pub(crate) items: Vec<String>,
    /// The names of all its parameters, also of those in what is not used.
    pub(crate) params: Vec<String>,
}

/// Parses one SELECT statement.
pub(crate) fn parse(sql: &str) -> Result<Parsed, Refusal> {
    let tokens = Tokenizer::new(&SqliteDialect, sql).tokenize_with_location();
    let mut tokens = tokens.map_err(|error| refused(error.into()))?;
    tokens.iter_mut().for_each(|token| as_plain_name(&mut token.token));
    tokens.iter_mut().try_for_each(as_plain_number)?;
    let end = tokens.last().map_or(Location::new(1, 1), |token| token.span.end);
    count_operators(&tokens)?;
    measure_depth(&tokens)?;
    let (items, params) = (items(&tokens), params(&tokens));
    let parser = Parser::new(&SqliteDialect).with_recursion_limit(MOST_CALLS);
    let mut parser = parser.with_tokens_with_locations(tokens);
    let first = parser.peek_token_ref().clone();
    if first.token == Token::EOF {
        let message = "this is empty, expected a SELECT statement";
        return Err(Refusal::new(Location::new(1, 1), message, ""));
    }
    let statement = parser.parse_statement().map_err(refused).map_err(|refusal| {
        // What is not there has no place of its own.
        let at = if refusal.message.starts_with(ENDS) { end } else { refusal.at };
        Refusal { at, ..refusal }
    })?;
    let _ = parser.consume_token(&Token::SemiColon);
    let next = parser.peek_token_ref();
    if next.token != Token::EOF {
        let message = format!("found {} behind the statement, expected its end", next.token);
        return Err(Refusal::new(next.span.start, message, ""));
    }
    match statement {
        Statement::Query(query) => Ok(Parsed { query: *query, items, params }),
        _ => {
            let message = format!("found {}, expected a SELECT statement", first.token);
            let help = "a query only reads; write through a commit";
            Err(Refusal::new(first.span.start, message, help))
        }
    }
}

/// How a message begins of a statement that lacks its end.
const ENDS: &str = "the statement ends here";

/// `0x10` is a number of 64 bits, which the parser takes for the blob `X'10'`.
fn as_plain_number(token: &mut TokenWithSpan) -> Result<(), Refusal> {
    let (start, end) = (token.span.start, token.span.end);
    let Token::HexStringLiteral(digits) = &token.token else { return Ok(()) };
    let is_blob = end.column.saturating_sub(start.column) != digits.chars().count() as u64 + 2;
    if is_blob {
        return Ok(());
    }
    match i64::from_str_radix(digits, 16) {
        Ok(number) => {
            token.token = Token::Number(number.to_string(), false);
            Ok(())
        }
        Err(_) => {
            let message = format!("0x{digits} is beyond the whole numbers of 64 bits");
            Err(Refusal::new(start, message, "write it with fewer digits, or as a sum"))
        }
    }
}

/// Functions whose arguments the parser reads in a way of its own are functions like others here.
fn as_plain_name(token: &mut Token) {
    if let Token::Word(word) = token
        && matches!(
            word.keyword,
            Keyword::TRIM
                | Keyword::SUBSTR
                | Keyword::SUBSTRING
                | Keyword::CEIL
                | Keyword::FLOOR
                | Keyword::POSITION
                | Keyword::EXTRACT
                | Keyword::OVERLAY
                | Keyword::DATE
                | Keyword::DATETIME
                | Keyword::TIME
                | Keyword::TIMESTAMP
        )
    {
        word.keyword = Keyword::NoKeyword;
    }
}

fn count_operators(tokens: &[TokenWithSpan]) -> Result<(), Refusal> {
    let is_operator = |token: &Token| *token != Token::Period && binding(token).is_some();
    let mut operators = tokens.iter().filter(|token| is_operator(&token.token));
    match operators.nth(MOST_OPERATORS) {
        None => Ok(()),
        Some(token) => {
            let message = format!("this statement has more than {MOST_OPERATORS} operators");
            Err(Refusal::new(token.span.start, message, "divide it, or use IN with a list"))
        }
    }
}

/// Refuses what nests too deep, by parentheses or by CASE, where it does so.
fn measure_depth(tokens: &[TokenWithSpan]) -> Result<(), Refusal> {
    let is = |token: &Token, keyword: Keyword| matches!(token, Token::Word(word) if word.keyword == keyword);
    let mut depth = 0_usize;
    for token in tokens {
        match &token.token {
            Token::LParen => depth += 1,
            of if is(of, Keyword::CASE) => depth += 1,
            Token::RParen => depth = depth.saturating_sub(1),
            of if is(of, Keyword::END) => depth = depth.saturating_sub(1),
            _ => {}
        }
        if depth > DEEPEST {
            let message = format!("this statement nests deeper than {DEEPEST} levels");
            return Err(Refusal::new(token.span.start, message, "write it flatter"));
        }
    }
    Ok(())
}

/// The texts between the commas from SELECT to FROM, outside of all parentheses.
fn params(tokens: &[TokenWithSpan]) -> Vec<String> {
    let pairs = tokens.iter().zip(tokens.iter().skip(1));
    let names = pairs.filter_map(|(colon, name)| match (&colon.token, &name.token) {
        (Token::Colon, Token::Word(word)) => Some(word.value.clone()),
        _ => None,
    });
    names.collect()
}

fn items(tokens: &[TokenWithSpan]) -> Vec<String> {
    let word = |token: &Token, keyword: Keyword| matches!(token, Token::Word(word) if word.keyword == keyword);
    let mut depth = 0_usize;
    // In WITH stand others before it.
    let outermost = tokens.iter().position(|token| {
        match token.token {
            Token::LParen => depth += 1,
            Token::RParen => depth = depth.saturating_sub(1),
            _ => {}
        }
        depth == 0 && word(&token.token, Keyword::SELECT)
    });
    let mut items = vec![String::new()];
    let mut after_distinct = false;
    depth = 0;
    let list = tokens.iter().map(|token| &token.token);
    let list = list.skip(outermost.map_or(tokens.len(), |place| place + 1));
    let says_which = |token: &Token| word(token, Keyword::DISTINCT) || word(token, Keyword::ALL);
    let list = list.skip_while(|token| matches!(token, Token::Whitespace(_)) || says_which(token));
    for token in list {
        match token {
            Token::LParen => depth += 1,
            Token::RParen => depth = depth.saturating_sub(1),
            Token::EOF => break,
            // IS DISTINCT FROM goes on; any other FROM is the end.
            token if depth == 0 && word(token, Keyword::FROM) && !after_distinct => break,
            _ => {}
        }
        if !matches!(token, Token::Whitespace(_)) {
            after_distinct = word(token, Keyword::DISTINCT);
        }
        match items.last_mut() {
            Some(item) if depth > 0 || *token != Token::Comma => *item += &token.to_string(),
            _ => items.push(String::new()),
        }
    }
    items.iter().map(|item| item.trim().to_owned()).collect()
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
    if message.starts_with("No infix parser") {
        let at = at.unwrap_or(Location::new(1, 1));
        return Refusal::new(at, "this is not supported as an operator", "");
    }
    let message = message.strip_prefix("Expected: ").map_or_else(
        || message.to_owned(),
        |rest| match rest.rsplit_once(", found: ") {
            Some((expected, "EOF")) => format!("{ENDS}, expected {expected}"),
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
        let negated = match &parser.peek_nth_token_ref(1).token {
            Token::Word(next) => next.keyword == Keyword::NULL || is_test(next.keyword),
            _ => false,
        };
        Some(Ok(match &parser.peek_token_ref().token {
            Token::Word(word) if word.keyword == Keyword::NOT && !negated => 0,
            token => binding(token).unwrap_or(0),
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
        for (keyword, op) in [
            (Keyword::GLOB, BinaryOperator::Glob),
            (Keyword::MATCH, BinaryOperator::Match),
            (Keyword::REGEXP, BinaryOperator::Regexp),
        ] {
            if parser.parse_keyword(keyword) {
                let right = parser.parse_subexpr(binds::EQUALITY);
                return Some(right.map(|right| Expr::BinaryOp {
                    left: left(),
                    op,
                    right: Box::new(right),
                }));
            }
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

/// How strongly a token binds as an operator between two expressions; `None` if it is none.
fn binding(token: &Token) -> Option<u8> {
    Some(match token {
        Token::Word(word) if word.quote_style.is_none() => match word.keyword {
            Keyword::OR => binds::OR,
            Keyword::AND => binds::AND,
            Keyword::IS | Keyword::NOT | Keyword::NOTNULL => binds::EQUALITY,
            keyword if is_test(keyword) => binds::EQUALITY,
            _ if word.value.eq_ignore_ascii_case("ISNULL") => binds::EQUALITY,
            _ => return None,
        },
        Token::Eq | Token::DoubleEq | Token::Neq => binds::EQUALITY,
        Token::Lt | Token::LtEq | Token::Gt | Token::GtEq => binds::ORDER,
        Token::Ampersand | Token::Pipe | Token::ShiftLeft | Token::ShiftRight => binds::BITS,
        Token::Plus | Token::Minus => binds::SUM,
        Token::Mul | Token::Div | Token::Mod => binds::PRODUCT,
        Token::StringConcat | Token::Arrow | Token::LongArrow => binds::CONCAT,
        Token::Period => binds::MEMBER,
        _ => return None,
    })
}

/// The words of tests that may have NOT in front.
fn is_test(keyword: Keyword) -> bool {
    matches!(
        keyword,
        Keyword::IN
            | Keyword::BETWEEN
            | Keyword::LIKE
            | Keyword::GLOB
            | Keyword::MATCH
            | Keyword::REGEXP
    )
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
