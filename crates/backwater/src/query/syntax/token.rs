//! A statement's text into tokens, divided as SQLite divides it.

use std::borrow::Cow;

use super::{Location, Refusal};

#[derive(Debug, Clone, PartialEq)]
pub(super) enum Token<'s> {
    /// A word, which may be a keyword.
    Word(&'s str),
    /// A name in quotes, without them, and which quotes these were.
    Quoted(Cow<'s, str>, char),
    Text(Cow<'s, str>),
    /// The digits of `X'…'`.
    Blob(&'s str),
    Number(Cow<'s, str>),
    /// A parameter with the sign in front of its name.
    Param(&'s str),
    Symbol(&'static str),
    End,
}

/// A token and where it stands.
#[derive(Debug, Clone)]
pub(super) struct Placed<'s> {
    pub(super) token: Token<'s>,
    /// Its bytes.
    pub(super) start: usize,
    pub(super) end: usize,
    pub(super) at: Location,
}

/// All signs that are not part of a word, a number or a text; of two that begin alike the longer
/// comes first.
const SYMBOLS: [&str; 26] = [
    "->>", "->", "||", "<<", ">>", "<=", ">=", "<>", "==", "!=", "=", "<", ">", "+", "-", "*", "/",
    "%", "&", "|", "~", "(", ")", ",", ".", ";",
];

/// The tokens of a statement; the last one is its end.
pub(super) fn tokens(sql: &str) -> Result<Vec<Placed<'_>>, Refusal> {
    let mut lexer = Lexer { sql, next: 0, counted: 0, at: Location::START };
    let mut tokens = Vec::new();
    loop {
        lexer.skip_space();
        let (start, at) = (lexer.next, lexer.location(lexer.next));
        let token = lexer.token(at)?;
        let is_end = token == Token::End;
        tokens.push(Placed { token, start, end: lexer.next, at });
        if is_end {
            return Ok(tokens);
        }
    }
}

struct Lexer<'s> {
    sql: &'s str,
    /// The byte that comes next.
    next: usize,
    /// Up to here the place is counted.
    counted: usize,
    at: Location,
}

impl<'s> Lexer<'s> {
    fn rest(&self) -> &'s str {
        &self.sql[self.next..]
    }

    /// The place of a byte that is not in front of those that were asked for.
    fn location(&mut self, byte: usize) -> Location {
        for letter in self.sql[self.counted..byte].chars() {
            self.at = match letter {
                '\n' => Location { line: self.at.line + 1, column: 1 },
                _ => Location { column: self.at.column + 1, ..self.at },
            };
        }
        self.counted = byte;
        self.at
    }

    /// Passes over white space and comments. A comment between `/*` and `*/` may lack its end.
    fn skip_space(&mut self) {
        loop {
            let rest = self.rest();
            // A byte order mark is space as well.
            let is_space =
                |letter: char| matches!(letter, ' ' | '\t' | '\n' | '\x0c' | '\r' | '\u{feff}');
            let text = rest.trim_start_matches(is_space);
            let text = match (text.strip_prefix("--"), text.strip_prefix("/*")) {
                (Some(comment), _) => comment.find('\n').map_or("", |end| &comment[end..]),
                (_, Some(comment)) => comment.find("*/").map_or("", |end| &comment[end + 2..]),
                _ => text,
            };
            self.next = self.sql.len() - text.len();
            if text.len() == rest.len() {
                return;
            }
        }
    }

    /// Takes as much as fits.
    fn take_while(&mut self, fits: impl Fn(char) -> bool) -> &'s str {
        let rest = self.rest();
        let taken = &rest[..rest.find(|letter| !fits(letter)).unwrap_or(rest.len())];
        self.next += taken.len();
        taken
    }

    fn token(&mut self, at: Location) -> Result<Token<'s>, Refusal> {
        let rest = self.rest();
        let mut letters = rest.chars();
        let Some(first) = letters.next() else { return Ok(Token::End) };
        let second = letters.next().unwrap_or('\0');
        Ok(match first {
            '\'' => Token::Text(self.quoted('\'', at)?),
            '"' | '`' => Token::Quoted(self.quoted(first, at)?, first),
            '[' => Token::Quoted(self.in_brackets(at)?, first),
            'x' | 'X' if second == '\'' => self.blob(at)?,
            '0'..='9' => self.number(at)?,
            '.' if second.is_ascii_digit() => self.number(at)?,
            '?' => {
                self.next += 1;
                self.take_while(|letter| letter.is_ascii_digit());
                Token::Param(&rest[..rest.len() - self.rest().len()])
            }
            ':' | '@' | '$' | '#' if is_in_word(second) => {
                self.next += 1;
                self.take_while(is_in_word);
                Token::Param(&rest[..rest.len() - self.rest().len()])
            }
            letter if begins_word(letter) => Token::Word(self.take_while(is_in_word)),
            other => match SYMBOLS.iter().find(|symbol| rest.starts_with(**symbol)) {
                Some(symbol) => {
                    self.next += symbol.len();
                    Token::Symbol(symbol)
                }
                None => {
                    let message = format!("found {other:?}, which is no part of SQL");
                    return Err(Refusal::new(at, message, ""));
                }
            },
        })
    }

    /// What stands between two quotes; one that stands twice is one of the text.
    fn quoted(&mut self, quote: char, at: Location) -> Result<Cow<'s, str>, Refusal> {
        let text = &self.rest()[1..];
        let mut from = 0;
        while let Some(found) = text[from..].find(quote) {
            let end = from + found;
            if !text[end + 1..].starts_with(quote) {
                self.next += end + 2;
                let text = &text[..end];
                return Ok(match from {
                    0 => text.into(),
                    _ => {
                        text.replace(&String::from_iter([quote, quote]), &quote.to_string()).into()
                    }
                });
            }
            from = end + 2;
        }
        let what = if quote == '\'' { "text" } else { "name" };
        Err(Refusal::new(at, format!("this {what} has no end"), format!("close it with {quote}")))
    }

    fn in_brackets(&mut self, at: Location) -> Result<Cow<'s, str>, Refusal> {
        let text = &self.rest()[1..];
        let Some(end) = text.find(']') else {
            return Err(Refusal::new(at, "this name has no end", "close it with ]"));
        };
        self.next += end + 2;
        Ok(text[..end].into())
    }

    fn blob(&mut self, at: Location) -> Result<Token<'s>, Refusal> {
        self.next += 2;
        let digits = self.take_while(|letter| letter.is_ascii_hexdigit());
        if digits.len() % 2 == 1 || !self.rest().starts_with('\'') {
            let help = "it has two hexadecimal digits for each byte between its quotes";
            return Err(Refusal::new(at, "this is no blob", help));
        }
        self.next += 1;
        Ok(Token::Blob(digits))
    }

    fn number(&mut self, at: Location) -> Result<Token<'s>, Refusal> {
        let rest = self.rest();
        let hex = rest.strip_prefix("0x").or(rest.strip_prefix("0X"));
        if hex.is_some_and(|hex| hex.starts_with(|digit: char| digit.is_ascii_hexdigit())) {
            self.next += 2;
            let digits = self.take_while(|letter| letter.is_ascii_hexdigit() || letter == '_');
            self.end_number(rest, at)?;
            let digits = without_separators(digits);
            // Of 64 bits, the highest of which is the sign.
            return match u64::from_str_radix(&digits, 16) {
                Ok(number) => Ok(Token::Number(number.cast_signed().to_string().into())),
                Err(_) => {
                    let message = format!("0x{digits} is beyond the whole numbers of 64 bits");
                    let help = "write it with fewer digits, or as a sum";
                    Err(Refusal::new(at, message, help))
                }
            };
        }
        let is_digit = |letter: char| letter.is_ascii_digit() || letter == '_';
        self.take_while(is_digit);
        if self.rest().starts_with('.') {
            self.next += 1;
            self.take_while(is_digit);
        }
        if let Some(exponent) = self.rest().strip_prefix(['e', 'E']) {
            let digits = exponent.strip_prefix(['+', '-']).unwrap_or(exponent);
            if digits.starts_with(|digit: char| digit.is_ascii_digit()) {
                self.next = self.sql.len() - digits.len();
                self.take_while(is_digit);
            }
        }
        self.end_number(rest, at)?;
        let digits = &rest[..rest.len() - self.rest().len()];
        Ok(Token::Number(without_separators(digits)))
    }

    /// Refuses a number in which a letter stands, or a `_` that is not between two digits.
    fn end_number(&mut self, rest: &'s str, at: Location) -> Result<(), Refusal> {
        self.take_while(is_in_word);
        let number = &rest[..rest.len() - self.rest().len()];
        let is_hex = number.starts_with("0x") || number.starts_with("0X");
        let is_digit = |byte: Option<&u8>| {
            byte.is_some_and(|byte| byte.is_ascii_digit() || is_hex && byte.is_ascii_hexdigit())
        };
        let bytes = number.as_bytes();
        let is_lost = |place: usize| {
            !is_digit(bytes.get(place.wrapping_sub(1))) || !is_digit(bytes.get(place + 1))
        };
        let lost = { bytes.iter().enumerate() }.any(|(at, byte)| *byte == b'_' && is_lost(at));
        let decimal = without_separators(number);
        if lost || !is_hex && decimal.trim_end_matches('.').parse::<f64>().is_err() {
            let message = format!("{number:?} is not a number");
            return Err(Refusal::new(at, message, "write it in decimal digits"));
        }
        if is_hex && !number[2..].bytes().all(|byte| byte == b'_' || byte.is_ascii_hexdigit()) {
            let message = format!("{number:?} is not a number");
            return Err(Refusal::new(at, message, "write it in hexadecimal digits"));
        }
        Ok(())
    }
}

fn without_separators(digits: &str) -> Cow<'_, str> {
    if digits.contains('_') { digits.replace('_', "").into() } else { digits.into() }
}

fn begins_word(letter: char) -> bool {
    letter.is_ascii_alphabetic() || letter == '_' || !letter.is_ascii()
}

fn is_in_word(letter: char) -> bool {
    begins_word(letter) || letter.is_ascii_digit() || letter == '$'
}
