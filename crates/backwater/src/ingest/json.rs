//! JSON text, token by token (RFC 8259): a small reader that borrows what it finds and builds
//! nothing.
//!
//! Every byte that is passed over is checked, also in values that are skipped. The caller counts
//! nesting as it descends; skipping a value does not recurse.

use std::borrow::Cow;

use smallvec::SmallVec;

use crate::schema::line_and_column;

/// A place in a JSON text.
pub(crate) struct JsonReader<'de> {
    text: &'de str,
    bytes: &'de [u8],
    at: usize,
}

/// Why a text is not JSON, and where.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Fault {
    pub(crate) at: usize,
    pub(crate) kind: FaultKind,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum FaultKind {
    /// The text ends inside of a value.
    End,
    /// It nests deeper than is allowed.
    Depth,
    /// Something else stands here than what was expected.
    Syntax(&'static str),
}

impl Fault {
    /// What is wrong, in words; so deep a text may nest.
    pub(crate) fn explain(self, text: &str, deepest: usize) -> String {
        let position = line_and_column(text, self.at).replace(':', " column ");
        match self.kind {
            FaultKind::End if text.trim().is_empty() => "it is empty, expected JSON".to_owned(),
            FaultKind::End => {
                format!("it ends in the middle of a value at line {position}: is it truncated?")
            }
            FaultKind::Depth => {
                format!("it is nested deeper than {deepest} levels at line {position}")
            }
            FaultKind::Syntax(what) => format!("it is not JSON at line {position}: {what}"),
        }
    }
}

/// What kind of value comes next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Next {
    Object,
    Array,
    Text,
    Number,
    True,
    False,
    Null,
}

/// A number, in the smallest type that has it exactly.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) enum Number {
    Int(i64),
    /// A whole number above those of 64 bits with a sign.
    Large(u64),
    Float(f64),
}

type Read<T> = Result<T, Fault>;

/// This many digits fit into 64 bits, whichever they are.
const SAFE_DIGITS: usize = 19;

impl<'de> JsonReader<'de> {
    pub(crate) fn new(text: &'de str) -> Self {
        Self { text, bytes: text.as_bytes(), at: 0 }
    }

    /// Where the reader is, in bytes.
    pub(crate) fn at(&self) -> usize {
        self.at
    }

    /// Goes to a place where a value begins or ends, to read on from there.
    pub(crate) fn go(&mut self, to: usize) {
        debug_assert!(self.text.is_char_boundary(to));
        self.at = to;
    }

    /// The text from a place on.
    pub(crate) fn rest(&self, from: usize) -> &'de [u8] {
        &self.bytes[from..]
    }

    /// The text between two places, if it is whole letters.
    pub(crate) fn between(&self, from: usize, to: usize) -> Option<&'de str> {
        self.text.get(from..to)
    }

    /// What was read since a place.
    pub(crate) fn since(&self, from: usize) -> &'de str {
        &self.text[from..self.at]
    }

    pub(crate) fn fault<T>(&self, kind: FaultKind) -> Read<T> {
        Err(Fault { at: self.at, kind })
    }

    fn expected<T>(&self, what: &'static str) -> Read<T> {
        let kind =
            if self.at < self.bytes.len() { FaultKind::Syntax(what) } else { FaultKind::End };
        self.fault(kind)
    }

    #[inline]
    fn byte(&self) -> Option<u8> {
        self.bytes.get(self.at).copied()
    }

    #[inline]
    fn space(&mut self) {
        while let Some(b' ' | b'\n' | b'\r' | b'\t') = self.byte() {
            self.at += 1;
        }
    }

    /// What comes next, its first byte not taken yet.
    #[inline]
    pub(crate) fn peek(&mut self) -> Read<Next> {
        self.space();
        Ok(match self.byte() {
            Some(b'"') => Next::Text,
            Some(b'-' | b'0'..=b'9') => Next::Number,
            Some(b'{') => Next::Object,
            Some(b'[') => Next::Array,
            Some(b't') => Next::True,
            Some(b'f') => Next::False,
            Some(b'n') => Next::Null,
            _ => return self.expected("expected a value"),
        })
    }

    /// Takes the bracket that opens an object or an array.
    pub(crate) fn open(&mut self) {
        self.at += 1;
    }

    /// Whether there is another member, whose name comes next; false behind the object's end.
    #[inline]
    pub(crate) fn member(&mut self, first: bool) -> Read<bool> {
        self.space();
        match self.byte() {
            Some(b'}') => {
                self.at += 1;
                return Ok(false);
            }
            Some(b',') if !first => {
                self.at += 1;
                self.space();
            }
            _ if first => {}
            _ => return self.expected("expected \",\" or \"}\""),
        }
        if self.byte() == Some(b'"') {
            Ok(true)
        } else {
            self.expected("expected a member's name in double quotes")
        }
    }

    /// Takes a member's name and its colon.
    #[inline]
    pub(crate) fn name(&mut self) -> Read<Cow<'de, str>> {
        let name = self.text()?;
        self.colon()?;
        Ok(name)
    }

    /// Takes a member's name and its colon if they are spelled just so.
    #[inline]
    pub(crate) fn take(&mut self, spelled: &str) -> bool {
        let same = self.bytes[self.at..].starts_with(spelled.as_bytes());
        self.at += if same { spelled.len() } else { 0 };
        same
    }

    #[inline]
    fn colon(&mut self) -> Read<()> {
        self.space();
        if self.byte() != Some(b':') {
            return self.expected("expected \":\"");
        }
        self.at += 1;
        Ok(())
    }

    /// Whether there is another element; false behind the array's end.
    pub(crate) fn element(&mut self, first: bool) -> Read<bool> {
        self.space();
        match self.byte() {
            Some(b']') => {
                self.at += 1;
                Ok(false)
            }
            Some(b',') if !first => {
                self.at += 1;
                Ok(true)
            }
            Some(_) if first => Ok(true),
            _ => self.expected("expected \",\" or \"]\""),
        }
    }

    /// Takes `true`, `false` or `null`.
    #[inline]
    pub(crate) fn word(&mut self, word: &'static str) -> Read<()> {
        if self.bytes[self.at..].starts_with(word.as_bytes()) {
            self.at += word.len();
            return Ok(());
        }
        let same = self.bytes[self.at..].iter().zip(word.as_bytes()).take_while(|(a, b)| a == b);
        self.at += same.count();
        self.expected("expected true, false or null")
    }

    /// Takes a text, borrowed if it has no escapes.
    #[inline]
    pub(crate) fn text(&mut self) -> Read<Cow<'de, str>> {
        let start = self.at + 1;
        self.at = self.plain(start);
        if self.byte() == Some(b'"') {
            let text = &self.text[start..self.at];
            self.at += 1;
            return Ok(Cow::Borrowed(text));
        }
        self.escaped(start).map(Cow::Owned)
    }

    /// The end of the run of letters from a place that need no second look: a quote, a backslash,
    /// a control character, or the end. Eight bytes at a time.
    #[inline]
    fn plain(&self, from: usize) -> usize {
        const ONES: u64 = 0x0101_0101_0101_0101;
        const HIGHS: u64 = ONES << 7;
        let zero = |word: u64| word.wrapping_sub(ONES) & !word & HIGHS;
        let mut at = from;
        while let Some(eight) = self.bytes.get(at..at + 8).and_then(|eight| eight.try_into().ok()) {
            let word = u64::from_le_bytes(eight);
            // A byte below 0x20 borrows when 0x20 is taken from it; one above 0x7f does not count.
            let control = word.wrapping_sub(ONES * 0x20) & !word & HIGHS;
            let special = control
                | zero(word ^ (ONES * u64::from(b'"')))
                | zero(word ^ (ONES * u64::from(b'\\')));
            if special != 0 {
                return at + special.trailing_zeros() as usize / 8;
            }
            at += 8;
        }
        while let Some(byte) = self.bytes.get(at) {
            if *byte < 0x20 || *byte == b'"' || *byte == b'\\' {
                break;
            }
            at += 1;
        }
        at
    }

    /// The rest of a text in which something needs a second look.
    #[cold]
    fn escaped(&mut self, start: usize) -> Read<String> {
        let mut out = self.text[start..self.at].to_owned();
        loop {
            match self.byte() {
                Some(b'"') => {
                    self.at += 1;
                    return Ok(out);
                }
                Some(b'\\') => {
                    self.at += 1;
                    out.push(self.escape()?);
                }
                _ => return self.expected("a control character in a text must be escaped"),
            }
            let from = self.at;
            self.at = self.plain(from);
            out.push_str(&self.text[from..self.at]);
        }
    }

    fn escape(&mut self) -> Read<char> {
        let letter = match self.byte() {
            Some(b'n') => '\n',
            Some(b't') => '\t',
            Some(b'r') => '\r',
            Some(b'b') => '\u{8}',
            Some(b'f') => '\u{c}',
            Some(byte @ (b'"' | b'\\' | b'/')) => char::from(byte),
            Some(b'u') => {
                self.at += 1;
                return self.unicode();
            }
            _ => return self.expected("this is no escape"),
        };
        self.at += 1;
        Ok(letter)
    }

    /// `XXXX`, or both halves of a surrogate pair.
    fn unicode(&mut self) -> Read<char> {
        let first = self.hex()?;
        let code = match first {
            0xd800..=0xdbff if self.bytes[self.at..].starts_with(b"\\u") => {
                self.at += 2;
                match self.hex()? {
                    second @ 0xdc00..=0xdfff => {
                        0x1_0000 + ((first - 0xd800) << 10) + (second - 0xdc00)
                    }
                    _ => return self.expected("half of a surrogate pair"),
                }
            }
            code => code,
        };
        match char::from_u32(code) {
            Some(letter) => Ok(letter),
            None => self.expected_behind("half of a surrogate pair"),
        }
    }

    /// As `expected`, for what was found too late: the text may well end here.
    fn expected_behind<T>(&self, what: &'static str) -> Read<T> {
        self.fault(FaultKind::Syntax(what))
    }

    fn hex(&mut self) -> Read<u32> {
        let mut code = 0;
        for _ in 0..4 {
            let Some(digit) = self.byte().and_then(|byte| char::from(byte).to_digit(16)) else {
                return self.expected("expected four hexadecimal digits");
            };
            code = code << 4 | digit;
            self.at += 1;
        }
        Ok(code)
    }

    /// Takes a number.
    #[inline]
    pub(crate) fn number(&mut self) -> Read<Number> {
        let start = self.at;
        let negative = self.byte() == Some(b'-');
        self.at += usize::from(negative);
        let digits = self.at;
        let mut value = 0_u64;
        let mut fits = true;
        while let Some(digit @ b'0'..=b'9') = self.byte() {
            self.at += 1;
            let digit = u64::from(digit - b'0');
            if self.at - digits <= SAFE_DIGITS {
                value = value * 10 + digit;
                continue;
            }
            let next = value.checked_mul(10).and_then(|value| value.checked_add(digit));
            fits &= next.is_some();
            value = next.unwrap_or(value);
        }
        match self.at - digits {
            0 => return self.expected("expected a digit"),
            1 => {}
            _ if self.bytes[digits] == b'0' => {
                self.at = digits + 1;
                return self.expected("a number does not begin with 0");
            }
            _ => {}
        }
        if !matches!(self.byte(), Some(b'.' | b'e' | b'E')) && fits {
            match (negative, i64::try_from(value)) {
                (false, Ok(value)) => return Ok(Number::Int(value)),
                (false, Err(_)) => return Ok(Number::Large(value)),
                // -0 is a binary64 of its own, as in serde_json; a sign makes one more whole number.
                (true, Ok(0)) => return Ok(Number::Float(-0.0)),
                (true, _) if value <= 1 << 63 => {
                    return Ok(Number::Int((value as i64).wrapping_neg()));
                }
                _ => {}
            }
        }
        self.float(start)
    }

    /// What may follow the digits of a whole number: a fraction and an exponent.
    fn fraction(&mut self) -> Read<()> {
        if self.byte() == Some(b'.') {
            self.at += 1;
            self.digits()?;
        }
        if let Some(b'e' | b'E') = self.byte() {
            self.at += 1;
            if let Some(b'+' | b'-') = self.byte() {
                self.at += 1;
            }
            self.digits()?;
        }
        Ok(())
    }

    fn float(&mut self, start: usize) -> Read<Number> {
        self.fraction()?;
        match self.text[start..self.at].parse::<f64>() {
            Ok(number) if number.is_finite() => Ok(Number::Float(number)),
            _ => self.expected_behind("the number is beyond binary64"),
        }
    }

    fn digits(&mut self) -> Read<()> {
        let start = self.at;
        while self.byte().is_some_and(|byte| byte.is_ascii_digit()) {
            self.at += 1;
        }
        if self.at == start { self.expected("expected a digit") } else { Ok(()) }
    }

    /// Goes down to a place inside of the value that comes next, and stops in front of it; returns
    /// whether it is there.
    pub(crate) fn descend(&mut self, way: &[String]) -> Read<bool> {
        for name in way {
            let next = self.peek()?;
            if !matches!(next, Next::Object | Next::Array) {
                return Ok(false);
            }
            self.open();
            let mut index = 0;
            loop {
                let is_object = next == Next::Object;
                let first = index == 0;
                if !(if is_object { self.member(first)? } else { self.element(first)? }) {
                    return Ok(false);
                }
                let here =
                    if is_object { *self.name()? == **name } else { index.to_string() == *name };
                if here {
                    break;
                }
                self.skip()?;
                index += 1;
            }
        }
        Ok(true)
    }

    /// Where on a way a null stands, as far as it leads.
    pub(crate) fn null_on(&mut self, way: &[String]) -> Read<Option<usize>> {
        for part in way {
            if self.peek()? == Next::Null {
                break;
            }
            if !self.descend(std::slice::from_ref(part))? {
                return Ok(None);
            }
        }
        Ok((self.peek()? == Next::Null).then_some(self.at))
    }

    /// Passes over a value; gives its text.
    pub(crate) fn skip(&mut self) -> Read<&'de str> {
        self.space();
        let start = self.at;
        // The brackets that are open: true for an object.
        let mut open: SmallVec<[bool; 16]> = SmallVec::new();
        loop {
            match self.peek()? {
                Next::Object => {
                    self.open();
                    open.push(true);
                    if self.skip_name(true)? {
                        continue;
                    }
                    open.pop();
                }
                Next::Array => {
                    self.open();
                    open.push(false);
                    if self.element(true)? {
                        continue;
                    }
                    open.pop();
                }
                Next::Text => self.skip_text()?,
                Next::Number => self.skip_number()?,
                Next::True => self.word("true")?,
                Next::False => self.word("false")?,
                Next::Null => self.word("null")?,
            }
            // A value has ended: go on in what is around it, as far as that does not end as well.
            loop {
                let more = match open.last() {
                    None => return Ok(&self.text[start..self.at]),
                    Some(true) => self.skip_name(false)?,
                    Some(false) => self.element(false)?,
                };
                if more {
                    break;
                }
                open.pop();
            }
        }
    }

    /// As [`Self::member`], its name passed over.
    fn skip_name(&mut self, first: bool) -> Read<bool> {
        let more = self.member(first)?;
        if more {
            self.skip_text()?;
            self.colon()?;
        }
        Ok(more)
    }

    fn skip_text(&mut self) -> Read<()> {
        let mut from = self.at + 1;
        loop {
            self.at = self.plain(from);
            match self.byte() {
                Some(b'"') => {
                    self.at += 1;
                    return Ok(());
                }
                Some(b'\\') => {
                    self.at += 1;
                    match self.byte() {
                        Some(b'u') => {
                            self.at += 1;
                            self.hex()?;
                        }
                        _ => drop(self.escape()?),
                    }
                    from = self.at;
                }
                _ => return self.expected("a control character in a text must be escaped"),
            }
        }
    }

    /// A number that is skipped may be of any size.
    fn skip_number(&mut self) -> Read<()> {
        self.at += usize::from(self.byte() == Some(b'-'));
        let leading = self.byte() == Some(b'0');
        let digits = self.at;
        self.digits()?;
        if leading && self.at > digits + 1 {
            self.at = digits + 1;
            return self.expected("a number does not begin with 0");
        }
        self.fraction()
    }

    /// Whether nothing but white space follows.
    pub(crate) fn is_at_end(&mut self) -> bool {
        self.space();
        self.at == self.bytes.len()
    }

    /// Nothing but white space may follow.
    pub(crate) fn end(&mut self) -> Read<()> {
        if self.is_at_end() { Ok(()) } else { self.expected("expected the end") }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::Value;

    /// A tree, as a judge builds it.
    fn tree(reader: &mut JsonReader<'_>) -> Read<Value> {
        Ok(match reader.peek()? {
            Next::Null => reader.word("null").map(|()| Value::Null)?,
            Next::True => reader.word("true").map(|()| Value::Bool(true))?,
            Next::False => reader.word("false").map(|()| Value::Bool(false))?,
            Next::Text => Value::String(reader.text()?.into_owned()),
            Next::Number => match reader.number()? {
                Number::Int(number) => number.into(),
                Number::Large(number) => number.into(),
                Number::Float(number) => number.into(),
            },
            Next::Array => {
                reader.open();
                let mut elements = Vec::new();
                while reader.element(elements.is_empty())? {
                    elements.push(tree(reader)?);
                }
                Value::Array(elements)
            }
            Next::Object => {
                reader.open();
                let (mut members, mut first) = (serde_json::Map::new(), true);
                while reader.member(first)? {
                    let name = reader.name()?.into_owned();
                    members.insert(name, tree(reader)?);
                    first = false;
                }
                Value::Object(members)
            }
        })
    }

    fn check(text: &str) -> Result<(), TestCaseError> {
        let judged = serde_json::from_str::<Value>(text);
        let mut reader = JsonReader::new(text);
        let read = tree(&mut reader).and_then(|value| reader.end().map(|()| value));
        prop_assert_eq!(
            read.as_ref().ok(),
            judged.as_ref().ok(),
            "{:?}: {:?} {:?}",
            text,
            read,
            judged
        );
        let mut skipping = JsonReader::new(text);
        let skipped = skipping.skip().and_then(|raw| skipping.end().map(|()| raw));
        let ignored = serde_json::from_str::<serde::de::IgnoredAny>(text);
        prop_assert_eq!(
            skipped.is_ok(),
            ignored.is_ok(),
            "{:?}: {:?} {:?}",
            text,
            skipped,
            ignored
        );
        if let Ok(raw) = skipped {
            prop_assert_eq!(raw, text.trim_matches([' ', '\n', '\r', '\t']));
        }
        Ok(())
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 3000, failure_persistence: None, ..ProptestConfig::default() })]

        /// Against `serde_json`: the same trees out of the same texts, and the same texts refused.
        #[test]
        fn reads_what_serde_json_reads(
            parts in prop::collection::vec(prop::sample::select(vec![
                "{", "}", "[", "]", ",", ":", "\"a\"", "\"\"", "\"é\\n\\u00e9\"", "\"\\ud83d\\ude00\"", "\"\\ud83d\"", "\"\\x\"",
                "\"long enough to be read eight at a time\"", "\"\u{1}\"", "null", "true", "false", "nul", "0", "-0", "-", "01", "1.5", "1.", ".5", "1e5",
                "1E+2", "1e", "18446744073709551615", "18446744073709551616", "-9223372036854775808", "-9223372036854775809", " ", "\n",
            ]), 0..12),
            value in "\\PC{0,12}",
            cut in 0..200_usize,
        ) {
            check(&parts.concat())?;
            let whole = serde_json::json!({ "a": [1, -2.5, { "b": value.clone(), value: null }], "c": [[], {}, true], "d": "x\u{7f}\u{80}y" });
            for text in [whole.to_string(), serde_json::to_string_pretty(&whole).unwrap()] {
                check(&text)?;
                let cut = (cut.min(text.len())..).find(|at| text.is_char_boundary(*at)).unwrap_or(text.len());
                check(&text[..cut])?;
                let mut broken = text.clone();
                broken.remove(text.char_indices().map(|(at, _)| at).take_while(|at| *at < cut.max(1)).last().unwrap_or(0));
                check(&broken)?;
            }
        }
    }
}
