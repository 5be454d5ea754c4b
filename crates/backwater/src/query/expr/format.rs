//! `format()`, also called `printf()`: values put into a text. The rules are SQLite's.

use std::borrow::Cow;

use crate::query::expr::numeral::{decimal_digits, round_to, shortened};
use crate::query::expr::scalar::Scalar;
use crate::query::work;

/// What stands between a `%` and its letter.
#[derive(Default)]
struct Directive {
    left: bool,
    /// `+` or a space, in front of a number that is not negative.
    sign: Option<char>,
    alternate: bool,
    /// `!`: lengths are in characters, and numbers are shown with all their digits.
    second_alternate: bool,
    zeros: bool,
    thousands: bool,
    width: usize,
    precision: Option<usize>,
}

/// A text with values in the place of its directives; up to the first one that is not known.
/// `None` is NULL.
pub(crate) fn format(values: &[Scalar<'_>]) -> Option<Scalar<'static>> {
    let form = values.first()?.to_text()?;
    let mut rest = values[1..].iter();
    let mut next = || rest.next().cloned().unwrap_or(Scalar::Null);
    let mut out = String::new();
    let mut form: &str = &form;
    while let Some((before, directive)) = form.split_once('%') {
        out += before;
        let mut letters = directive.chars();
        let Some((directive, letter)) = Directive::read(&mut letters, &mut next) else {
            // A lone sign at the end is a letter.
            out += if letters.as_str().is_empty() && directive.is_empty() { "%" } else { "" };
            return Some(Scalar::Text(out.into()));
        };
        let cuts = matches!(letter, 's' | 'z' | 'q' | 'Q' | 'w');
        let most = directive.width.max(directive.precision.filter(|_| !cuts).unwrap_or(0));
        work::fits(out.len().saturating_add(most)).then_some(())?;
        match directive.written(letter, &mut next) {
            Some(text) => out += &text,
            None => return Some(Scalar::Text(out.into())),
        }
        work::fits(out.len()).then_some(())?;
        form = letters.as_str();
    }
    out += form;
    Some(Scalar::Text(out.into()))
}

impl Directive {
    /// Reads what stands in front of a directive's letter, and that; `None` at the text's end.
    fn read<'v>(
        letters: &mut std::str::Chars<'_>,
        next: &mut dyn FnMut() -> Scalar<'v>,
    ) -> Option<(Self, char)> {
        let mut of = Directive::default();
        let mut letter = letters.next()?;
        loop {
            match letter {
                '-' => of.left = true,
                '+' | ' ' => of.sign = Some(letter),
                '#' => of.alternate = true,
                '!' => of.second_alternate = true,
                '0' => of.zeros = true,
                ',' => of.thousands = true,
                _ => break,
            }
            letter = letters.next()?;
        }
        let width = number(letters, &mut letter, next)?;
        of.left |= width < 0;
        of.width = width.unsigned_abs() as usize;
        if letter == '.' {
            letter = letters.next()?;
            let precision = number(letters, &mut letter, next)?;
            of.precision = Some(precision.unsigned_abs() as usize);
        }
        while letter == 'l' {
            letter = letters.next()?;
        }
        Some((of, letter))
    }

    /// What a directive's value is written as; `None` if there is no such directive.
    fn written<'v>(
        mut self,
        letter: char,
        next: &mut dyn FnMut() -> Scalar<'v>,
    ) -> Option<Cow<'v, str>> {
        let text = match letter {
            '%' => "%".to_owned(),
            'n' => return Some("".into()),
            'd' | 'i' => {
                let number = next().to_int();
                self.whole(number.unsigned_abs(), number < 0, 10, "")
            }
            'u' => {
                self.sign = None;
                self.whole(next().to_int() as u64, false, 10, "")
            }
            'x' | 'p' => self.of_bits(next().to_int() as u64, 16, "0x"),
            'X' => self.of_bits(next().to_int() as u64, 16, "0X").to_ascii_uppercase(),
            'o' => self.of_bits(next().to_int() as u64, 8, "0"),
            'f' | 'e' | 'E' | 'g' | 'G' => self.real(letter, real(&next())),
            'c' => {
                let text = next().to_text().unwrap_or_default().into_owned();
                let first: String = text.chars().take(1).collect();
                self.second_alternate = true;
                first.repeat(self.precision.unwrap_or(1).max(1))
            }
            's' | 'z' => {
                let text = next().to_text().unwrap_or_default().into_owned();
                self.cut(&text).to_owned()
            }
            'q' | 'Q' | 'w' => self.quoted(letter, next().to_text()),
            _ => return None,
        };
        let (mut len, in_letters) = (text.len(), text.chars().count());
        if self.second_alternate {
            len = in_letters;
        }
        let padding = " ".repeat(self.width.saturating_sub(len));
        Some(if self.left { text + &padding } else { padding + &text }.into())
    }

    /// As much of a text as the precision says: in bytes, or if so asked in characters.
    fn cut<'t>(&self, text: &'t str) -> &'t str {
        let Some(precision) = self.precision else { return text };
        let end = match self.second_alternate {
            true => text.char_indices().nth(precision).map_or(text.len(), |(end, _)| end),
            // No letter is cut in the middle.
            false => (0..=precision.min(text.len()))
                .rev()
                .find(|end| text.is_char_boundary(*end))
                .unwrap_or(0),
        };
        &text[..end]
    }

    /// A text whose quotes are doubled.
    fn quoted(&self, letter: char, text: Option<Cow<'_, str>>) -> String {
        let Some(text) = text else {
            return self.cut(if letter == 'Q' { "NULL" } else { "(NULL)" }).to_owned();
        };
        let quote = if letter == 'w' { "\"" } else { "'" };
        let doubled = self.cut(&text).replace(quote, &quote.repeat(2));
        if letter == 'Q' { format!("'{doubled}'") } else { doubled }
    }

    fn of_bits(&mut self, number: u64, base: u64, prefix: &str) -> String {
        (self.sign, self.thousands) = (None, false);
        let prefix = if self.alternate && number != 0 { prefix } else { "" };
        self.whole(number, false, base, prefix)
    }

    fn whole(&self, mut number: u64, negative: bool, base: u64, prefix: &str) -> String {
        let sign = if negative { Some('-') } else { self.sign };
        let mut digits = Vec::new();
        loop {
            digits.extend(char::from_digit((number % base) as u32, base as u32));
            number /= base;
            if number == 0 {
                break;
            }
        }
        let mut least = self.precision.unwrap_or(0);
        if self.zeros {
            least = least.max(self.width.saturating_sub(usize::from(sign.is_some())));
        }
        let zeros = least.saturating_sub(digits.len());
        digits.extend(std::iter::repeat_n('0', zeros));
        let mut out: String = sign.into_iter().collect();
        out.insert_str(0, prefix);
        for (place, digit) in digits.iter().enumerate().rev() {
            out.push(*digit);
            if self.thousands && place > 0 && place % 3 == 0 {
                out.push(',');
            }
        }
        out
    }

    fn real(&self, letter: char, number: f64) -> String {
        let mut precision = self.precision.unwrap_or(6) as i64;
        let round = match letter {
            'f' => -precision,
            'g' | 'G' => {
                precision = precision.max(1);
                precision
            }
            _ => precision + 1,
        };
        if number.is_infinite() && !self.zeros {
            let sign = if number < 0.0 { Some('-') } else { self.sign };
            return sign.into_iter().chain("Inf".chars()).collect();
        }
        let most = if self.second_alternate { 26 } else { 16 };
        let decoded = match number.is_infinite() {
            true => Decoded { digits: vec![9], point: 1000 },
            false => Decoded::of(number.abs(), round, most),
        };
        let is_hidden = self.alternate && self.sign.is_none() && letter == 'f';
        let sign = match number < 0.0 {
            true if is_hidden && decoded.point <= round => None,
            true => Some('-'),
            false => self.sign,
        };
        let exponent = decoded.point - 1;
        let mut has_exponent = matches!(letter, 'e' | 'E');
        let mut drops_zeros = self.second_alternate;
        if matches!(letter, 'g' | 'G') {
            precision -= 1;
            drops_zeros = !self.alternate;
            has_exponent = exponent < -4 || exponent > precision;
            if !has_exponent {
                precision -= exponent;
            }
        }
        let mut out: String = sign.into_iter().collect();
        let mut digits = decoded.digits.iter().map(|digit| char::from(b'0' + digit));
        let mut before = if has_exponent { 0 } else { exponent };
        if before < 0 {
            out.push('0');
        }
        for place in (0..=before).rev() {
            out.push(digits.next().unwrap_or('0'));
            if self.thousands && place % 3 == 0 && place > 1 {
                out.push(',');
            }
        }
        let has_point = precision > 0 || self.alternate || self.second_alternate;
        if has_point {
            out.push('.');
        }
        before += 1;
        while before < 0 && precision > 0 {
            out.push('0');
            (before, precision) = (before + 1, precision - 1);
        }
        for _ in 0..precision.max(0) {
            out.push(digits.next().unwrap_or('0'));
        }
        if drops_zeros && has_point {
            out.truncate(out.trim_end_matches('0').len());
            if out.ends_with('.') {
                if self.second_alternate {
                    out.push('0');
                } else {
                    out.pop();
                }
            }
        }
        if has_exponent {
            let sign = if exponent < 0 { '-' } else { '+' };
            let e = if letter.is_ascii_uppercase() { 'E' } else { 'e' };
            out += &format!("{e}{sign}{:02}", exponent.abs());
        }
        let missing = self.width.saturating_sub(out.len());
        if self.zeros && !self.left {
            out.insert_str(usize::from(sign.is_some()), &"0".repeat(missing));
        }
        out
    }
}

/// A width or a precision, which may be given as a value. `letter` is what comes next.
fn number<'v>(
    letters: &mut std::str::Chars<'_>,
    letter: &mut char,
    next: &mut dyn FnMut() -> Scalar<'v>,
) -> Option<i64> {
    if *letter == '*' {
        *letter = letters.next()?;
        // As many bits as SQLite keeps of it.
        return Some(i64::from(next().to_int() as i32));
    }
    let mut number = 0_i64;
    while let Some(digit) = letter.to_digit(10) {
        number = (number * 10 + i64::from(digit)) & 0x7fff_ffff;
        *letter = letters.next()?;
    }
    Some(number)
}

/// The decimal digits of a number, and where the point stands in them.
struct Decoded {
    digits: Vec<u8>,
    point: i64,
}

impl Decoded {
    /// Rounded to so many digits, or if that is not positive, to so many behind the point.
    fn of(number: f64, mut round: i64, most: usize) -> Self {
        if number == 0.0 {
            return Self { digits: vec![0], point: 1 };
        }
        let (mut digits, mut point) = decimal_digits(number, round);
        if round <= 0 {
            round = point - round;
            if round == 0 && digits[0] >= 5 {
                return Self { digits: vec![1], point: point + 1 };
            }
        }
        if round > 0 && ((round as usize) < digits.len() || digits.len() > most) {
            let keep = match (round as usize).min(most).min(digits.len() - 1) {
                // With so many, fewer are shown if they are the same number.
                17 => shortened(number, &digits, point - 1).unwrap_or(17),
                keep => keep,
            };
            point += i64::from(round_to(&mut digits, keep));
        }
        while digits.len() > 1 && digits.pop_if(|digit| *digit == 0).is_some() {}
        Self { digits, point }
    }
}

fn real(value: &Scalar<'_>) -> f64 {
    match value.to_number() {
        Scalar::Int(number) => number as f64,
        Scalar::Real(number) => number,
        _ => 0.0,
    }
}
