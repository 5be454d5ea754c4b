//! Scalar functions: what they are called, and what they give. The rules are SQLite's.

use std::borrow::Cow;

use crate::query::expr::collation::Collation;
use crate::query::expr::datetime::{self, TimeForm};
use crate::query::expr::numeral::number_prefix;
use crate::query::expr::scalar::{Affinity, Scalar};
use crate::query::expr::{Columns, Comparison, Expr, compare, fold, format, json};
use crate::query::work;

macro_rules! functions {
    ($($function:ident $name:literal $least:literal $most:literal;)*) => {
        #[derive(Clone, Copy, PartialEq, Eq, Hash)]
        pub(crate) enum Function {
            $($function,)*
            /// Marks a value that is JSON; not to be called by name.
            IsJson,
            /// What json_extract() gives, written as JSON; not to be called by name.
            JsonExtracted,
            /// A value written as JSON; not to be called by name.
            ToJson,
            /// The first value that is not null, of columns that are one by USING; not to be called
            /// by name.
            Merged,
        }

        impl Function {
            /// Name, function, and how many arguments it takes.
            pub(crate) const ALL: &[(&str, Function, usize, usize)] =
                &[$(($name, Function::$function, $least, $most),)*];
        }
    };
}

functions! {
    Abs "abs" 1 1;
    Coalesce "coalesce" 2 100;
    Concat "concat" 1 100;
    ConcatWith "concat_ws" 2 100;
    Char "char" 1 100;
    Contains "contains" 2 2;
    Date "date" 1 100;
    DateTime "datetime" 1 100;
    Format "format" 1 100;
    Printf "printf" 1 100;
    Glob "glob" 2 2;
    Hex "hex" 1 1;
    IfNull "ifnull" 2 2;
    Instr "instr" 2 2;
    JulianDay "julianday" 1 100;
    Json "json" 1 1;
    JsonArray "json_array" 0 100;
    JsonArrayLength "json_array_length" 1 2;
    JsonExtract "json_extract" 2 100;
    JsonObject "json_object" 0 100;
    JsonType "json_type" 1 2;
    JsonValid "json_valid" 1 1;
    Length "length" 1 1;
    Lower "lower" 1 1;
    Greatest "max" 2 100;
    Least "min" 2 100;
    NullIf "nullif" 2 2;
    Replace "replace" 3 3;
    Round "round" 1 2;
    Sign "sign" 1 1;
    Strftime "strftime" 2 100;
    Substr "substr" 2 3;
    Substring "substring" 2 3;
    Trim "trim" 1 2;
    LeftTrim "ltrim" 1 2;
    RightTrim "rtrim" 1 2;
    Time "time" 1 100;
    TypeOf "typeof" 1 1;
    Unicode "unicode" 1 1;
    UnixEpoch "unixepoch" 1 100;
    Upper "upper" 1 1;
    Arrow "->" 2 2;
    ArrowText "->>" 2 2;
    BitAnd "&" 2 2;
    BitOr "|" 2 2;
    ShiftLeft "<<" 2 2;
    ShiftRight ">>" 2 2;
    Invert "~" 1 1;
}

/// What CAST turns a value into.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Cast {
    Integer,
    Real,
    Text,
}

impl Cast {
    pub(crate) fn apply<'a>(self, value: Scalar<'a>) -> Scalar<'a> {
        if value.is_null() {
            return Scalar::Null;
        }
        match self {
            Cast::Integer => Scalar::Int(value.to_int()),
            Cast::Real => match value.to_number() {
                Scalar::Int(number) => Scalar::Real(number as f64),
                other => other,
            },
            Cast::Text => match value {
                Scalar::Int(_) | Scalar::Real(_) => value.under(Affinity::Text),
                text => text,
            },
        }
    }

    pub(crate) fn affinity(self) -> Affinity {
        match self {
            Cast::Integer | Cast::Real => Affinity::Numeric,
            Cast::Text => Affinity::Text,
        }
    }
}

impl Function {
    /// What it is called by in a statement: not an operator.
    pub(crate) fn named(name: &str) -> Option<(Function, usize, usize)> {
        let known = Self::ALL.iter().find(|(known, ..)| *known == name);
        let known = known.filter(|_| name.starts_with(|letter: char| letter.is_ascii_alphabetic()));
        known.map(|(_, function, least, most)| (*function, *least, *most))
    }

    /// How an operator is written.
    pub(crate) fn sign(self) -> Option<&'static str> {
        let (name, ..) = Self::ALL.iter().find(|(_, other, ..)| *other == self)?;
        (!name.starts_with(|letter: char| letter.is_ascii_alphabetic())).then_some(name)
    }

    pub(crate) fn gives_json(self) -> bool {
        matches!(
            self,
            Function::IsJson
                | Function::JsonExtracted
                | Function::ToJson
                | Function::Json
                | Function::JsonArray
                | Function::JsonObject
                | Function::Arrow
        )
    }

    /// Whether it makes a text that may be very much longer than those that it is given.
    pub(crate) fn may_grow(self) -> bool {
        matches!(
            self,
            Function::Replace
                | Function::Format
                | Function::Printf
                | Function::Hex
                | Function::ConcatWith
                | Function::JsonArray
                | Function::JsonObject
        )
    }

    /// Whether it computes with a time that its arguments give.
    pub(crate) fn is_of_time(self) -> bool {
        matches!(
            self,
            Function::Date
                | Function::Time
                | Function::DateTime
                | Function::JulianDay
                | Function::UnixEpoch
                | Function::Strftime
        )
    }

    pub(crate) fn call<'a>(
        self,
        arguments: &'a [Expr],
        row: &dyn Columns<'a>,
        params: &'a [Scalar<'static>],
    ) -> Scalar<'a> {
        let mut values = arguments.iter().map(|argument| argument.eval_in(row, params));
        match self {
            Function::IsJson => return values.next().unwrap_or(Scalar::Null),
            Function::Coalesce | Function::IfNull | Function::Merged => {
                return values.find(|value| !value.is_null()).unwrap_or(Scalar::Null);
            }
            Function::NullIf => {
                let (Some(first), Some(second)) = (values.next(), values.next()) else {
                    return Scalar::Null;
                };
                let equal = compare(Comparison::Equal, Collation::Binary, &first, &second);
                return if equal == Some(true) { Scalar::Null } else { first };
            }
            Function::Greatest | Function::Least => {
                let mut best: Option<Scalar<'a>> = None;
                for value in values {
                    if value.is_null() {
                        return Scalar::Null;
                    }
                    let better = best.as_ref().is_none_or(|best| {
                        let order = value.order(best);
                        if self == Function::Least { order.is_le() } else { order.is_gt() }
                    });
                    if better {
                        best = Some(value);
                    }
                }
                return best.unwrap_or(Scalar::Null);
            }
            _ => {}
        }
        let values: smallvec::SmallVec<[Scalar<'a>; 4]> = values.collect();
        self.of_values(arguments, &values).unwrap_or(Scalar::Null)
    }

    /// `None` is NULL.
    fn of_values(self, arguments: &[Expr], values: &[Scalar<'_>]) -> Option<Scalar<'static>> {
        let text = |number: usize| values.get(number).and_then(Scalar::to_text);
        let int = |number: usize| values.get(number).filter(|of| !of.is_null()).map(Scalar::to_int);
        let json_at = || -> Option<_> {
            let path = if values.len() > 1 { text(1)? } else { "$".into() };
            Some((text(0)?, path))
        };
        Some(match self {
            Function::Lower => new_text(text(0)?.to_ascii_lowercase()),
            Function::Upper => new_text(text(0)?.to_ascii_uppercase()),
            Function::Length => Scalar::Int(text(0)?.chars().count() as i64),
            Function::Abs => match &values[0] {
                Scalar::Null => return None,
                Scalar::Int(number) => match number.checked_abs() {
                    Some(number) => Scalar::Int(number),
                    None => Scalar::Real(-(*number as f64)),
                },
                other => Scalar::Real(real(other).abs()),
            },
            Function::Sign => {
                let number = match values[0].clone().under(Affinity::Numeric) {
                    Scalar::Int(number) => number as f64,
                    Scalar::Real(number) => number,
                    _ => return None,
                };
                Scalar::Int(i64::from(number > 0.0) - i64::from(number < 0.0))
            }
            Function::Round => round(values)?,
            Function::Substr | Function::Substring => substring(values)?,
            Function::Trim => trimmed(values, true, true)?,
            Function::LeftTrim => trimmed(values, true, false)?,
            Function::RightTrim => trimmed(values, false, true)?,
            Function::Replace => match (text(0)?, text(1)?) {
                (text, from) if from.is_empty() => new_text(text.into_owned()),
                (of, from) => {
                    let to = text(2)?;
                    let times = if to.len() > from.len() { of.matches(&*from).count() } else { 0 };
                    let more = times.saturating_mul(to.len().saturating_sub(from.len()));
                    work::fits(of.len().saturating_add(more)).then_some(())?;
                    new_text(of.replace(&*from, &to))
                }
            },
            Function::Instr => {
                let (text, needle) = (text(0)?, text(1)?);
                let found = text.find(&*needle);
                Scalar::Int(found.map_or(0, |at| text[..at].chars().count() as i64 + 1))
            }
            Function::TypeOf => new_text(
                match values[0] {
                    Scalar::Null => "null",
                    Scalar::Int(_) => "integer",
                    Scalar::Real(_) => "real",
                    _ => "text",
                }
                .to_owned(),
            ),
            Function::Hex => {
                let text = text(0).unwrap_or_default();
                work::fits(2 * text.len()).then_some(())?;
                new_text(text.bytes().map(|byte| format!("{byte:02X}")).collect())
            }
            Function::Unicode => Scalar::Int(u32::from(text(0)?.chars().next()?).into()),
            Function::Concat => {
                let parts = values.iter().filter_map(Scalar::to_text);
                work::fits(parts.clone().map(|part| part.len()).sum()).then_some(())?;
                new_text(parts.collect::<String>())
            }
            Function::ConcatWith => {
                let separator = text(0)?;
                let parts: Vec<Cow<'_, str>> =
                    values[1..].iter().filter_map(Scalar::to_text).collect();
                let len = parts.iter().map(|part| part.len() + separator.len()).sum::<usize>();
                work::fits(len.saturating_sub(separator.len())).then_some(())?;
                new_text(parts.join(&separator))
            }
            Function::Contains => {
                let (text, needle) = (text(0)?, text(1)?);
                Scalar::Int(fold::contains(&text, &needle).into())
            }
            Function::JsonArray => {
                let mut out = String::from("[");
                for (number, (value, of)) in values.iter().zip(arguments).enumerate() {
                    if number > 0 {
                        out.push(',');
                    }
                    json::write(&mut out, value, of.is_json());
                }
                out.push(']');
                work::fits(out.len()).then(|| new_text(out))?
            }
            Function::JsonObject => {
                let mut out = String::from("{");
                for (number, pair) in values.chunks(2).enumerate() {
                    if number > 0 {
                        out.push(',');
                    }
                    json::write(&mut out, &pair[0], false);
                    out.push(':');
                    json::write(&mut out, &pair[1], arguments[number * 2 + 1].is_json());
                }
                out.push('}');
                work::fits(out.len()).then(|| new_text(out))?
            }
            Function::JsonArrayLength => {
                let (json, path) = json_at()?;
                Scalar::Int(json::find_path(&json, &path)?.elements() as i64)
            }
            Function::JsonType => {
                let (json, path) = json_at()?;
                new_text(json::find_path(&json, &path)?.type_name().to_owned())
            }
            Function::Char => {
                let letters = values.iter().map(|value| {
                    let known = u32::try_from(value.to_int()).ok().and_then(char::from_u32);
                    // A stored text has no U+0000.
                    known.filter(|letter| *letter != '\0').unwrap_or(char::REPLACEMENT_CHARACTER)
                });
                new_text(letters.collect())
            }
            Function::Format | Function::Printf => format::format(values)?,
            Function::Glob => Scalar::Int(glob(&text(1)?, &text(0)?).into()),
            Function::BitAnd => Scalar::Int(int(0)? & int(1)?),
            Function::BitOr => Scalar::Int(int(0)? | int(1)?),
            Function::ShiftLeft => Scalar::Int(shifted(int(0)?, int(1)?)),
            Function::ShiftRight => Scalar::Int(shifted(int(0)?, int(1)?.saturating_neg())),
            Function::Invert => Scalar::Int(!int(0)?),
            Function::Arrow => json::find(&text(0)?, &values[1])?.as_json(),
            Function::ArrowText => json::find(&text(0)?, &values[1])?.as_sql(),
            Function::JsonExtract if values.len() == 2 => {
                json::find_path(&text(0)?, &text(1)?)?.as_sql()
            }
            Function::JsonExtract => {
                let (of, mut found) = (text(0)?, Vec::new());
                for path in 1..values.len() {
                    found.push(json::find_path(&of, &text(path)?));
                }
                json::find_path(&of, "$")?;
                json::array(&found)
            }
            Function::ToJson => {
                text(0)?;
                let mut out = String::new();
                json::write(&mut out, &values[0], false);
                new_text(out)
            }
            Function::JsonExtracted => json::find_path(&text(0)?, &text(1)?)?.as_sql_json(),
            Function::Json => json::find_path(&text(0)?, "$")?.as_json(),
            Function::JsonValid => Scalar::Int(json::find_path(&text(0)?, "$").is_some().into()),
            Function::Date => return datetime::call(TimeForm::Date, values),
            Function::Time => return datetime::call(TimeForm::Time, values),
            Function::DateTime => return datetime::call(TimeForm::DateTime, values),
            Function::JulianDay => return datetime::call(TimeForm::JulianDay, values),
            Function::UnixEpoch => return datetime::call(TimeForm::UnixEpoch, values),
            Function::Strftime => return datetime::call(TimeForm::Format, values),
            Function::IsJson
            | Function::Merged
            | Function::Coalesce
            | Function::IfNull
            | Function::NullIf
            | Function::Greatest
            | Function::Least => return None,
        })
    }
}

/// A number's bits moved to the left, or if `by` is negative to the right, where its sign stays.
fn shifted(number: i64, by: i64) -> i64 {
    match by {
        0..64 => number << by,
        64.. => 0,
        -63..0 => number >> -by,
        _ => number >> 63,
    }
}

/// `GLOB`: `*` stands for any letters, `?` for one, and `[a-z]` or `[^a-z]` for one of a set.
fn glob(text: &str, pattern: &str) -> bool {
    let (text, pattern): (Vec<char>, Vec<char>) =
        (text.chars().collect(), pattern.chars().collect());
    let (mut at, mut part) = (0, 0);
    // Where to go on when what followed the last `*` did not match.
    let mut retry: Option<(usize, usize)> = None;
    while at < text.len() {
        let behind = match pattern.get(part) {
            Some('*') => {
                part += 1;
                retry = Some((at, part));
                continue;
            }
            Some('?') => Some(part + 1),
            Some('[') => in_set(&pattern[part + 1..], text[at]).map(|len| part + 1 + len),
            Some(letter) => (*letter == text[at]).then_some(part + 1),
            None => None,
        };
        match (behind, &mut retry) {
            (Some(behind), _) => (at, part) = (at + 1, behind),
            (None, Some((from, after))) => {
                *from += 1;
                (at, part) = (*from, *after);
            }
            (None, None) => return false,
        }
    }
    pattern[part..].iter().all(|letter| *letter == '*')
}

/// How long a set in a pattern is, from behind its `[` on, if a letter is in it.
fn in_set(pattern: &[char], letter: char) -> Option<usize> {
    let is_inverted = pattern.first() == Some(&'^');
    let mut at = usize::from(is_inverted);
    let (mut is_in, mut before) = (false, None);
    // One that comes first is a letter like others.
    if pattern.get(at) == Some(&']') {
        is_in = letter == ']';
        at += 1;
    }
    loop {
        match (pattern.get(at)?, before, pattern.get(at + 1)) {
            (']', ..) => return (is_in != is_inverted).then_some(at + 1),
            ('-', Some(first), Some(last)) if *last != ']' => {
                is_in |= (first..=*last).contains(&letter);
                (at, before) = (at + 2, None);
            }
            (one, ..) => {
                is_in |= *one == letter;
                (at, before) = (at + 1, Some(*one));
            }
        }
    }
}

fn new_text(text: String) -> Scalar<'static> {
    Scalar::Text(text.into())
}

fn real(value: &Scalar<'_>) -> f64 {
    match value.to_number() {
        Scalar::Int(number) => number as f64,
        Scalar::Real(number) => number,
        _ => 0.0,
    }
}

/// Away from zero in the middle, as the number's decimal digits have it.
fn round(values: &[Scalar<'_>]) -> Option<Scalar<'static>> {
    let digits = match values.get(1) {
        None => 0,
        Some(Scalar::Null) => return None,
        Some(digits) => digits.to_int().clamp(0, 30) as usize,
    };
    if values[0].is_null() {
        return None;
    }
    let number = real(&values[0]);
    /// From here on no number has a fraction.
    const WHOLE: f64 = 4_503_599_627_370_496.0;
    if !(-WHOLE..=WHOLE).contains(&number) {
        return Some(Scalar::Real(number));
    }
    if digits == 0 {
        let half = if number < 0.0 { -0.5 } else { 0.5 };
        return Some(Scalar::Real((number + half).trunc() + 0.0));
    }
    let text = crate::query::expr::numeral::fixed(number, digits);
    match number_prefix(&text).0 {
        Scalar::Int(number) => Some(Scalar::Real(number as f64)),
        other => Some(other),
    }
}

fn substring(values: &[Scalar<'_>]) -> Option<Scalar<'static>> {
    if values[1..].iter().any(Scalar::is_null) {
        return None;
    }
    let text = values[0].to_text()?;
    let len = text.chars().count() as i128;
    let mut from = i128::from(values[1].to_int());
    let given = values.get(2).map(|count| i128::from(count.to_int()));
    let mut count = given.map_or(i128::from(i64::MAX), i128::abs);
    if from < 0 {
        from += len;
        if from < 0 {
            count = (count + from).max(0);
            from = 0;
        }
    } else if from > 0 {
        from -= 1;
    } else if count > 0 {
        count -= 1;
    }
    if given.is_some_and(|count| count < 0) {
        from -= count;
        if from < 0 {
            count += from;
            from = 0;
        }
    }
    let (from, count) = (usize::try_from(from).ok()?, usize::try_from(count.max(0)).ok()?);
    Some(new_text(text.chars().skip(from).take(count).collect()))
}

fn trimmed(values: &[Scalar<'_>], left: bool, right: bool) -> Option<Scalar<'static>> {
    let text = values[0].to_text()?;
    let letters: Vec<char> = match values.get(1) {
        Some(letters) => letters.to_text()?.chars().collect(),
        None => vec![' '],
    };
    let mut rest: &str = &text;
    if left {
        rest = rest.trim_start_matches(&letters[..]);
    }
    if right {
        rest = rest.trim_end_matches(&letters[..]);
    }
    Some(new_text(rest.to_owned()))
}
