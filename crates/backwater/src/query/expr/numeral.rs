//! Numbers as texts and texts as numbers, to the last digit as SQLite has them.

use crate::query::expr::scalar::Scalar;

/// The number that a text begins with, white space before it left out, and whether the whole text
/// is that number.
pub(crate) fn number_prefix(text: &str) -> (Scalar<'static>, bool) {
    let is_space = |byte: &u8| matches!(byte, b' ' | b'\t'..=b'\r');
    let bytes = text.as_bytes();
    let start = bytes.iter().take_while(|byte| is_space(byte)).count();
    let digits =
        |from: usize| bytes[from..].iter().take_while(|byte| byte.is_ascii_digit()).count();
    let unsigned = start + usize::from(matches!(bytes.get(start), Some(b'+' | b'-')));
    let whole_digits = digits(unsigned);
    let mut end = unsigned + whole_digits;
    let mut is_int = true;
    let mut some_digits = whole_digits > 0;
    if bytes.get(end) == Some(&b'.') {
        let decimals = digits(end + 1);
        if some_digits || decimals > 0 {
            some_digits = true;
            is_int = false;
            end += 1 + decimals;
        }
    }
    if some_digits && matches!(bytes.get(end), Some(b'e' | b'E')) {
        let sign = usize::from(matches!(bytes.get(end + 1), Some(b'+' | b'-')));
        let exponent = digits(end + 1 + sign);
        if exponent > 0 {
            is_int = false;
            end += 1 + sign + exponent;
        }
    }
    if !some_digits {
        return (Scalar::Int(0), false);
    }
    let number = &text[start..end];
    let whole = bytes[end..].iter().all(is_space);
    if is_int && let Ok(number) = number.parse() {
        return (Scalar::Int(number), whole);
    }
    (Scalar::Real(real_of(number)), whole)
}

/// The binary64 of a well-formed number. As in SQLite, digits count for as long as they fit 64
/// bits, which are some 19 of them; the rest only shift the point.
fn real_of(number: &str) -> f64 {
    const FULL: u64 = (u64::MAX - 9) / 10;
    let (mantissa, exponent) = number.split_once(['e', 'E']).unwrap_or((number, "0"));
    let (mut digits, mut shift, mut decimals) = (0_u64, 0_i64, false);
    for byte in mantissa.bytes() {
        match byte {
            b'.' => decimals = true,
            b'0'..=b'9' if digits < FULL => {
                digits = digits * 10 + u64::from(byte - b'0');
                shift -= i64::from(decimals);
            }
            b'0'..=b'9' => shift += i64::from(!decimals),
            _ => {}
        }
    }
    let negative = exponent.starts_with('-');
    // An exponent of more digits than these is beyond every binary64 all the same.
    let exponent: i64 = exponent.trim_start_matches(['+', '-']).parse().unwrap_or(100_000);
    let shift = shift + if negative { -exponent } else { exponent };
    let magnitude: f64 = format!("{digits}e{shift}").parse().unwrap_or(0.0);
    if number.starts_with('-') { 0.0 - magnitude } else { magnitude }
}

pub(crate) fn int_prefix(text: &str) -> i64 {
    let text = text.trim_start_matches([' ', '\t', '\n', '\x0b', '\x0c', '\r']);
    let (negative, digits) = match text.strip_prefix('-') {
        Some(digits) => (true, digits),
        None => (false, text.strip_prefix('+').unwrap_or(text)),
    };
    let digits = digits.bytes().take_while(u8::is_ascii_digit).map(|digit| i64::from(digit - b'0'));
    digits.fold(0, |number: i64, digit| {
        let digit = if negative { -digit } else { digit };
        number.saturating_mul(10).saturating_add(digit)
    })
}

/// A number as SQLite writes it: 17 significant digits, or fewer where its rule for shortening
/// finds that they read back as the same number; and always a point.
pub(crate) fn real_text(number: f64) -> String {
    const DIGITS: i32 = 17;
    if number.is_infinite() {
        return if number > 0.0 { "Inf".to_owned() } else { "-Inf".to_owned() };
    }
    if number == 0.0 {
        return "0.0".to_owned();
    }
    let (digits, exponent) = significant(number.abs());
    let mut text = String::from(if number < 0.0 { "-" } else { "" });
    if (-4..DIGITS).contains(&exponent) {
        if exponent < 0 {
            text += "0.";
            text.extend(std::iter::repeat_n('0', (-exponent - 1) as usize));
            text += &digits;
        } else {
            let point = exponent as usize + 1;
            let padded = format!("{digits:0<point$}");
            let (whole, decimals) = padded.split_at(point);
            text += whole;
            text += ".";
            text += if decimals.is_empty() { "0" } else { decimals };
        }
    } else {
        let (first, rest) = digits.split_at(1);
        let rest = if rest.is_empty() { "0" } else { rest };
        let sign = if exponent < 0 { '-' } else { '+' };
        text += &format!("{first}.{rest}e{sign}{:02}", exponent.abs());
    }
    text
}

/// A number with this many decimals, rounded as SQLite rounds: half away from zero, by the number's
/// own digits.
pub(crate) fn fixed(number: f64, decimals: usize) -> String {
    if number == 0.0 {
        return format!("{number:.decimals$}");
    }
    let (scaled, power) = scale(number.abs());
    let mut digits: Vec<u8> = scaled.to_string().bytes().map(|digit| digit - b'0').collect();
    let mut before_point = digits.len() as i32 - power;
    let keep = before_point + decimals as i32;
    if keep < 0 {
        digits.clear();
    } else if (keep as usize) < digits.len() {
        before_point += i32::from(round_to(&mut digits, keep as usize));
    }
    let digit = |place: i32| {
        let digit = usize::try_from(place).ok().and_then(|place| digits.get(place));
        char::from(b'0' + digit.copied().unwrap_or(0))
    };
    let mut text = String::from(if number < 0.0 { "-" } else { "" });
    match before_point {
        ..=0 => text.push('0'),
        _ => text.extend((0..before_point).map(digit)),
    }
    text.push('.');
    text.extend((before_point..before_point + decimals as i32).map(digit));
    text
}

/// The significant digits of a positive number, and the power of ten of the first.
fn significant(number: f64) -> (String, i32) {
    let (scaled, power) = scale(number);
    let mut digits: Vec<u8> = scaled.to_string().bytes().map(|digit| digit - b'0').collect();
    let mut exponent = digits.len() as i32 - 1 - power;
    let keep = shortened(number, &digits, exponent.into()).unwrap_or(17);
    exponent += i32::from(round_to(&mut digits, keep));
    while digits.len() > 1 && digits.pop_if(|digit| *digit == 0).is_some() {}
    (digits.into_iter().map(|digit| char::from(b'0' + digit)).collect(), exponent)
}

/// Rounds to the first `keep` digits, nines at their end left out; returns whether all of them were
/// nines, so that a 1 stands one place further to the left.
pub(super) fn round_to(digits: &mut Vec<u8>, keep: usize) -> bool {
    let up = digits[keep] >= 5;
    digits.truncate(keep);
    if !up {
        return false;
    }
    while digits.pop_if(|digit| *digit == 9).is_some() {}
    match digits.last_mut() {
        Some(last) => {
            *last += 1;
            false
        }
        None => {
            digits.push(1);
            true
        }
    }
}

/// The digits of a positive number, 18 or more, or so many as are needed to round it to `round` of
/// them, and how many of them stand in front of the point.
pub(super) fn decimal_digits(number: f64, round: i64) -> (Vec<u8>, i64) {
    let enough = if (1..18).contains(&round) { round as i32 + 1 } else { 18 };
    let (scaled, power) = scale_to(enough, number);
    let digits: Vec<u8> = scaled.to_string().bytes().map(|digit| digit - b'0').collect();
    let point = digits.len() as i64 - i64::from(power);
    (digits, point)
}

/// A positive number times a power of ten, as a whole number of 18 or 19 digits, and that power.
fn scale(number: f64) -> (u64, i32) {
    scale_to(18, number)
}

/// The same of so many digits or one more; if of fewer than 18, rounded down. SQLite computes with
/// the 64 highest bits of the power, and so do we, to the last digit.
fn scale_to(digits: i32, number: f64) -> (u64, i32) {
    let bits = number.to_bits();
    let fraction = bits & ((1 << 52) - 1);
    let (mantissa, exponent) = match bits >> 52 {
        0 => (fraction << fraction.leading_zeros(), -1074 - fraction.leading_zeros() as i32),
        exponent => ((fraction | 1 << 52) << 11, exponent as i32 - 1086),
    };
    // Both products round a logarithm down; they are exact in the range of binary64.
    let power = digits - 1 - (((exponent + 63) * 78_913) >> 18);
    let power_in_bits = (power * 108_853) >> 15;
    let high = ((u128::from(mantissa) * u128::from(power_of_ten(power))) >> 64) as u64;
    if digits < 18 {
        return (high >> -(exponent + power_in_bits + 1), power);
    }
    let twice = high >> -(exponent + power_in_bits + 2);
    ((twice + (twice & 1)) >> 1, power)
}

/// The 64 highest bits of a power of ten.
fn power_of_ten(power: i32) -> u64 {
    // 128 bits are kept on the way, so that what each step cuts off does not add up to one.
    let mut bits = 1_u128 << 127;
    const LOW: u128 = u64::MAX as u128;
    for _ in 0..power.unsigned_abs() {
        let (high, low) = (bits >> 64, bits & LOW);
        if power > 0 {
            let (high, low) = (high * 10 + ((low * 10) >> 64), (low * 10) & LOW);
            let over = 64 - high.leading_zeros();
            bits = high << (64 - over) | low >> over;
        } else {
            let under = if bits >= 10 << 124 { 3 } else { 4 };
            let (high, low) = ((high << under) + (low << under >> 64), low << under & LOW);
            bits = ((high / 10) << 64) + ((high % 10) << 64 | low) / 10;
        }
    }
    (bits >> 64) as u64
}

/// How many digits SQLite keeps where it sees a run of nines or zeros at the end, provided that
/// the shorter text reads back as the same number.
pub(super) fn shortened(number: f64, digits: &[u8], exponent: i64) -> Option<usize> {
    let run_from = |from: usize, digit: u8| {
        let run = digits[..from].iter().rev().take_while(|other| **other == digit).count();
        from - run
    };
    let reads_back = |kept: usize, one_more: u64| {
        let head =
            digits[..kept].iter().fold(0_u64, |number, digit| number * 10 + u64::from(*digit));
        let text = format!("{}e{}", head + one_more, exponent + 1 - kept as i64);
        text.parse() == Ok(number)
    };
    let (kept, one_more) = if digits[14] == 9 && digits[15] == 9 {
        (run_from(14, 9), 1)
    } else if exponent + 1 >= digits.len() as i64 || digits[13..16] == [0, 0, 0] {
        (run_from(13, 0), 0)
    } else {
        return None;
    };
    reads_back(kept, one_more).then_some(kept + 1)
}

#[cfg(test)]
#[cfg(feature = "sqlite")]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn number() -> impl Strategy<Value = f64> {
        let decimal =
            (any::<i32>(), 0..12_i32).prop_map(|(n, scale)| f64::from(n) / 10_f64.powi(scale));
        let text =
            "-?[0-9]{1,18}(\\.[0-9]{0,18})?(e-?[0-9]{1,2})?".prop_map(|text| text.parse().unwrap());
        prop_oneof![
            any::<f64>().prop_filter("finite", |n| n.is_finite()),
            decimal,
            text,
            (any::<i64>()).prop_map(|n| n as f64)
        ]
    }

    /// Against SQLite itself: a number's text, and the number in a text.
    #[test]
    fn numbers_and_texts_convert_as_in_sqlite() {
        let sqlite = rusqlite::Connection::open_in_memory().unwrap();
        let ask = |sql: &str, value: &dyn rusqlite::ToSql| -> rusqlite::types::Value {
            sqlite.prepare_cached(sql).unwrap().query_row([value], |row| row.get(0)).unwrap()
        };
        proptest!(ProptestConfig { cases: 3000, failure_persistence: None, ..ProptestConfig::default() }, |(number in number(), text in "[ +-]{0,2}[0-9]{0,24}[.]?[0-9]{0,9}([eE][+-]?[0-9]{0,3})?[ x]?")| {
            let spelled = ask("SELECT ?1 || ''", &number);
            prop_assert_eq!(spelled, rusqlite::types::Value::Text(real_text(number)));
            let scalar = match ask("SELECT ?1 + 0", &text) {
                rusqlite::types::Value::Integer(number) => Scalar::Int(number),
                rusqlite::types::Value::Real(number) => Scalar::Real(number),
                other => panic!("{other:?}"),
            };
            prop_assert_eq!(Scalar::Str(&text).to_number(), scalar, "{:?}", text);
            let whole = ask("SELECT CAST(?1 AS INTEGER)", &text);
            prop_assert_eq!(whole, rusqlite::types::Value::Integer(Scalar::Str(&text).to_int()), "{:?}", text);
        });
    }
}
