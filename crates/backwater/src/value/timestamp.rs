//! Points in time: 64-bit microseconds, and their one text form.

use std::fmt;
use std::str::FromStr;

use crate::error::{Error, ErrorKind, Result};

/// A point in time, to the microsecond, from the year 0000 to 9999-12-30T22:00:00Z.
///
/// It is read from RFC 3339, with any offset, and always written in UTC with six decimals; the
/// offset that a response used is not kept, and digits beyond the microsecond are cut off. The
/// default is 1970-01-01T00:00:00Z.
///
/// ```
/// use backwater::Timestamp;
///
/// let time: Timestamp = "2031-05-04T09:40:00+02:00".parse()?;
/// assert_eq!(time.to_string(), "2031-05-04T07:40:00.000000Z");
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Timestamp(i64);

const SECOND: i64 = 1_000_000;
const DAY: i64 = 86_400;
const FIRST: i64 = -62_167_219_200 * SECOND;
/// The last point in time that has a date in every offset of RFC 3339.
const LAST: i64 = 253_402_207_201 * SECOND - 1;

impl Timestamp {
    /// The point in time this many microseconds after 1970-01-01T00:00:00Z (before it, if
    /// negative).
    ///
    /// # Errors
    /// [`ErrorKind::Type`] outside of that span.
    ///
    /// ```
    /// use backwater::Timestamp;
    ///
    /// assert_eq!(Timestamp::from_micros(0)?.to_string(), "1970-01-01T00:00:00.000000Z");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn from_micros(micros: i64) -> Result<Self> {
        if (FIRST..=LAST).contains(&micros) {
            Ok(Self(micros))
        } else {
            Err(Error::new(
                ErrorKind::Type,
                format!("{micros} microseconds lie outside of the years 0000 to 9999"),
            ))
        }
    }

    /// The point in time this many microseconds after 1970-01-01T00:00:00Z, or the nearest one that
    /// can be represented.
    pub(crate) fn nearest(micros: i64) -> Self {
        Self(micros.clamp(FIRST, LAST))
    }

    /// Microseconds since 1970-01-01T00:00:00Z.
    ///
    /// ```
    /// let time: backwater::Timestamp = "1970-01-01T00:00:01Z".parse()?;
    /// assert_eq!(time.as_micros(), 1_000_000);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn as_micros(self) -> i64 {
        self.0
    }

    /// The text form in a buffer on the stack, for comparing with other texts. The microseconds
    /// must be those of a timestamp.
    pub(crate) fn from_known_micros(micros: i64) -> Self {
        debug_assert!((FIRST..=LAST).contains(&micros));
        Self(micros)
    }

    pub(crate) fn text(self) -> TimestampText {
        let seconds = self.0.div_euclid(SECOND);
        let (year, month, day) = civil(seconds.div_euclid(DAY));
        let of_day = seconds.rem_euclid(DAY);
        let mut text = *b"0000-00-00T00:00:00.000000Z";
        let mut put = |at: usize, width: usize, number: i64| {
            let mut rest = number;
            for byte in text[at..at + width].iter_mut().rev() {
                *byte = b'0' + (rest % 10) as u8;
                rest /= 10;
            }
        };
        put(0, 4, year);
        put(5, 2, month);
        put(8, 2, day);
        put(11, 2, of_day / 3600);
        put(14, 2, of_day / 60 % 60);
        put(17, 2, of_day % 60);
        put(20, 6, self.0.rem_euclid(SECOND));
        TimestampText(text)
    }
}

/// The text form of a point in time, borrowed as `&str`.
pub(crate) struct TimestampText([u8; 27]);

impl TimestampText {
    pub(crate) fn as_str(&self) -> &str {
        std::str::from_utf8(&self.0).unwrap_or_default()
    }
}

/// The form that nearly all times have: `2031-05-04T09:40:00`, decimals or not, `Z` or an offset of
/// hours and minutes. Anything else, right or wrong, is left to the crate that knows all forms.
fn plain(text: &[u8]) -> Option<Timestamp> {
    let number = |from: usize, to: usize| {
        let digits = text.get(from..to)?;
        digits.iter().all(u8::is_ascii_digit).then(|| {
            digits.iter().fold(0_i64, |number, digit| number * 10 + i64::from(digit - b'0'))
        })
    };
    let marks = [(4, b'-'), (7, b'-'), (10, b'T'), (13, b':'), (16, b':')];
    if text.len() < 20 || marks.iter().any(|(at, mark)| text[*at] != *mark) {
        return None;
    }
    // The letters at fixed places, two digits at a time; what is none of them shows at the end.
    let head: &[u8; 19] = text.first_chunk()?;
    let mut all_digits = true;
    let mut two = |at: usize| {
        let (tens, ones) = (head[at].wrapping_sub(b'0'), head[at + 1].wrapping_sub(b'0'));
        all_digits &= tens <= 9 && ones <= 9;
        i64::from(tens) * 10 + i64::from(ones)
    };
    let (year, month, day) = (two(0) * 100 + two(2), two(5), two(8));
    let (hour, minute, second) = (two(11), two(14), two(17));
    if !all_digits {
        return None;
    }
    let leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    let days = match month {
        2 => 28 + i64::from(leap),
        4 | 6 | 9 | 11 => 30,
        1..=12 => 31,
        _ => return None,
    };
    if !(1..=days).contains(&day) || hour > 23 || minute > 59 || second > 59 {
        return None;
    }
    let mut at = 19;
    let mut micros = 0;
    if text[at] == b'.' {
        let decimals = text[at + 1..].iter().take_while(|byte| byte.is_ascii_digit()).count();
        if !(1..=9).contains(&decimals) {
            return None;
        }
        let kept = decimals.min(6);
        micros = number(at + 1, at + 1 + kept)? * 10_i64.pow(6 - kept as u32);
        at += 1 + decimals;
    }
    let offset = match text.get(at..)? {
        b"Z" => 0,
        [sign @ (b'+' | b'-'), _, _, b':', _, _] => {
            let (hours, minutes) = (number(at + 1, at + 3)?, number(at + 4, at + 6)?);
            if hours > 23 || minutes > 59 {
                return None;
            }
            let seconds = hours * 3600 + minutes * 60;
            if *sign == b'-' { -seconds } else { seconds }
        }
        _ => return None,
    };
    let seconds = day_number(year, month, day) * DAY + hour * 3600 + minute * 60 + second - offset;
    Timestamp::from_micros(seconds * SECOND + micros).ok()
}

/// The day number of a date, counted from 1970-01-01: the inverse of [`civil`].
fn day_number(year: i64, month: i64, day: i64) -> i64 {
    let shifted = year - i64::from(month <= 2);
    let era = shifted.div_euclid(400);
    let of_era = shifted.rem_euclid(400);
    let march_month = (month + 9) % 12;
    let of_year = (153 * march_month + 2) / 5 + day - 1;
    era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468
}

/// Year, month and day of a day number counted from 1970-01-01, in the proleptic Gregorian
/// calendar. Eras of 400 years begin on 1 March, so that the leap day is the last.
fn civil(days: i64) -> (i64, i64, i64) {
    let shifted = days + 719_468;
    let era = shifted.div_euclid(146_097);
    let of_era = shifted.rem_euclid(146_097);
    let year_of_era = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let march_month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * march_month + 2) / 5 + 1;
    let month = if march_month < 10 { march_month + 3 } else { march_month - 9 };
    (year_of_era + era * 400 + i64::from(month <= 2), month, day)
}

impl fmt::Display for Timestamp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.text().as_str())
    }
}

impl FromStr for Timestamp {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let unreadable = || {
            Error::new(
                ErrorKind::Type,
                format!(
                    "{text:?} is not a time of RFC 3339, such as \"2031-05-04T09:40:00+02:00\""
                ),
            )
        };
        if let Some(time) = plain(text.as_bytes()) {
            return Ok(time);
        }
        let parsed: jiff::Timestamp =
            text.parse().map_err(|error| unreadable().caused_by(error))?;
        let micros = parsed.as_nanosecond().div_euclid(1000);
        i64::try_from(micros)
            .map_err(|_| unreadable())
            .and_then(|micros| Self::from_micros(micros).map_err(|_| unreadable()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn text_is_what_the_calendar_says_and_orders_as_time_does(a in FIRST..=LAST, b in FIRST..=LAST) {
            let (a, b) = (Timestamp(a), Timestamp(b));
            let judge = jiff::Timestamp::from_microsecond(a.0).unwrap();
            prop_assert_eq!(a.to_string(), format!("{judge:.6}"));
            prop_assert_eq!(a.to_string().parse::<Timestamp>().unwrap(), a);
            prop_assert_eq!(a.cmp(&b), a.to_string().cmp(&b.to_string()));
        }

        /// Every form, near misses among them: the same time as the judge's, or neither.
        #[test]
        fn texts_are_read_as_the_judge_reads_them(
            text in "[0-9]{4}-[01][0-9]-[0-3][0-9][Tt ][0-2][0-9]:[0-5][0-9]:[0-6][0-9](\\.[0-9]{1,9})?(Z|z|[+-][0-2][0-9]:[0-6][0-9]|)",
        ) {
            let judged = text.parse::<jiff::Timestamp>().ok().map(|time| time.as_nanosecond().div_euclid(1000));
            let judged = judged.and_then(|micros| Timestamp::from_micros(micros as i64).ok());
            prop_assert_eq!(text.parse::<Timestamp>().ok(), judged, "{}", text);
        }
    }
}
