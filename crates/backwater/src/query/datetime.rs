//! Date and time functions on given values: `date()`, `time()`, `datetime()`, `julianday()`,
//! `unixepoch()`, `strftime()`. The rules are SQLite's.
//!
//! A moment is counted in milliseconds from noon of 24 November 4714 BC, the Julian day's
//! beginning, on the Gregorian calendar however early.

use super::numeral::real_text;
use super::scalar::Scalar;

/// The Julian day of 1970-01-01T00:00Z, in milliseconds.
const UNIX: i64 = 210_866_760_000_000;
const DAY: i64 = 86_400_000;
/// The last moment of the year 9999.
const LAST: i64 = 464_269_060_799_999;

/// What is made of a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Shown {
    Date,
    Time,
    DateTime,
    JulianDay,
    UnixEpoch,
    /// By a format, the first argument.
    Format,
}

/// A moment, or a number whose meaning a modifier may yet change.
#[derive(Clone, Copy)]
struct Moment {
    /// Milliseconds of the Julian day.
    at: i64,
    /// The number as it was given, while nothing but it is known.
    raw: Option<f64>,
    /// Year, month and day as they were written, which may be beyond the month's end.
    written: Option<(i64, i64, i64)>,
    /// The offset that was written behind it, which is yet to be taken off.
    offset: i64,
    /// Whether fractions of a second are shown.
    subsec: bool,
}

/// The function's value; `None` is NULL.
pub(crate) fn call(shown: Shown, values: &[Scalar<'_>]) -> Option<Scalar<'static>> {
    let (format, values) = match (shown, values) {
        (Shown::Format, [format, rest @ ..]) => (Some(format.to_text()?), rest),
        (_, values) => (None, values),
    };
    let (first, modifiers) = values.split_first()?;
    let mut moment = read(first)?;
    for (number, modifier) in modifiers.iter().enumerate() {
        moment.modify(&modifier.to_text()?, number == 0)?;
    }
    moment.at -= moment.offset;
    if !(0..=LAST).contains(&moment.at) {
        return None;
    }
    let (at, subsec) = (moment.at, moment.subsec);
    let text = |text: String| Some(Scalar::Text(text.into()));
    // A day that was written stays as it was, unless it is all that there is.
    let of = moment.written.filter(|_| !modifiers.is_empty()).unwrap_or_else(|| date_of(at));
    let (year, month, day) = of;
    let sign = if year < 0 { "-" } else { "" };
    let date = format!("{sign}{:04}-{month:02}-{day:02}", year.abs());
    let seconds = if subsec { "%H:%M:%f" } else { "%H:%M:%S" };
    match shown {
        Shown::Date => text(date),
        Shown::Time => text(formatted(at, of, seconds, subsec)?),
        Shown::DateTime => text(format!("{date} {}", formatted(at, of, seconds, subsec)?)),
        Shown::JulianDay => Some(Scalar::Real(at as f64 / DAY as f64)),
        Shown::UnixEpoch if subsec => Some(Scalar::Real((at - UNIX) as f64 / 1000.0)),
        Shown::UnixEpoch => Some(Scalar::Int(at.div_euclid(1000) - UNIX / 1000)),
        Shown::Format => text(formatted(at, of, &format?, subsec)?),
    }
}

/// Whether a text says the current time, which a function of given values does not know.
pub(crate) fn is_now(text: &str) -> bool {
    text.eq_ignore_ascii_case("now")
        || text.eq_ignore_ascii_case("subsec")
        || text.eq_ignore_ascii_case("subsecond")
}

fn read(value: &Scalar<'_>) -> Option<Moment> {
    match value {
        Scalar::Null => None,
        Scalar::Int(number) => from_number(*number as f64),
        Scalar::Real(number) => from_number(*number),
        text => {
            let text = text.to_text()?;
            if let Some(moment) = date_and_time(&text).or_else(|| time_alone(&text)) {
                return Some(moment);
            }
            let (number, is_whole) = super::numeral::number_prefix(&text);
            match (number, is_whole) {
                (Scalar::Int(number), true) => from_number(number as f64),
                (Scalar::Real(number), true) => from_number(number),
                _ => None,
            }
        }
    }
}

/// A Julian day, until a modifier says otherwise.
fn from_number(number: f64) -> Option<Moment> {
    let is_day = (0.0..5_373_484.5).contains(&number);
    let at = if is_day { (number * DAY as f64 + 0.5) as i64 } else { -1 };
    Some(Moment { at, raw: Some(number), written: None, offset: 0, subsec: false })
}

/// `YYYY-MM-DD`, and perhaps a time behind it.
fn date_and_time(text: &str) -> Option<Moment> {
    let (negative, text) = match text.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text),
    };
    let (year, rest) = digits(text, 4, 0, 9999)?;
    let (month, rest) = digits(rest.strip_prefix('-')?, 2, 1, 12)?;
    let (day, rest) = digits(rest.strip_prefix('-')?, 2, 1, 31)?;
    let year = if negative { -year } else { year };
    let date = day_of(year, month, day);
    let moment = |at: i64, offset: i64| {
        // 24:00 is the next day's beginning.
        let written = Some((year, month, day)).filter(|_| at - date < DAY);
        Some(Moment { at, raw: None, written, offset, subsec: false })
    };
    let rest = rest.trim_start_matches([' ', '\t', '\n', '\x0b', '\x0c', '\r', 'T']);
    if rest.is_empty() {
        return moment(date, 0);
    }
    let (time, offset) = time_of_day(rest)?;
    moment(date + time, offset)
}

/// A time of the first day of the year 2000.
fn time_alone(text: &str) -> Option<Moment> {
    let (time, offset) = time_of_day(text)?;
    let at = day_of(2000, 1, 1) + time;
    Some(Moment { at, raw: None, written: Some((2000, 1, 1)), offset, subsec: false })
}

/// `HH:MM`, `HH:MM:SS` or `HH:MM:SS.SSS`, in milliseconds, and its offset, also so.
fn time_of_day(text: &str) -> Option<(i64, i64)> {
    let (hours, rest) = digits(text, 2, 0, 24)?;
    let (minutes, mut rest) = digits(rest.strip_prefix(':')?, 2, 0, 59)?;
    let mut seconds = 0.0;
    if let Some(after) = rest.strip_prefix(':') {
        let (whole, after) = digits(after, 2, 0, 59)?;
        seconds = whole as f64;
        rest = after;
        if let Some(fraction) = after.strip_prefix('.') {
            let len = fraction.bytes().take_while(u8::is_ascii_digit).count();
            if len > 0 {
                let mut scale = 1.0;
                let mut value = 0.0;
                for digit in fraction[..len].bytes() {
                    value = value * 10.0 + f64::from(digit - b'0');
                    scale *= 10.0;
                }
                // What rounds up to the next second does not.
                seconds += (value / scale).min(0.999);
                rest = &fraction[len..];
            }
        }
    }
    let at = hours * 3_600_000 + minutes * 60_000 + (seconds * 1000.0 + 0.5) as i64;
    let rest = rest.trim_start_matches([' ', '\t', '\n', '\x0b', '\x0c', '\r']);
    let (sign, rest) = match rest.as_bytes().first() {
        None => return Some((at, 0)),
        Some(b'Z' | b'z') => {
            let end = rest[1..].trim_start_matches([' ', '\t', '\n', '\x0b', '\x0c', '\r']);
            return end.is_empty().then_some((at, 0));
        }
        Some(b'+') => (1, &rest[1..]),
        Some(b'-') => (-1, &rest[1..]),
        Some(_) => return None,
    };
    let (hours, rest) = digits(rest, 2, 0, 14)?;
    let (minutes, rest) = digits(rest.strip_prefix(':')?, 2, 0, 59)?;
    let is_end = rest.trim_start_matches([' ', '\t', '\n', '\x0b', '\x0c', '\r']).is_empty();
    let offset = sign * (hours * 60 + minutes) * 60_000;
    is_end.then_some((at, offset))
}

/// So many digits, within a range, and what follows them.
fn digits(text: &str, count: usize, least: i64, most: i64) -> Option<(i64, &str)> {
    let number = text.get(..count).filter(|digits| digits.bytes().all(|b| b.is_ascii_digit()))?;
    let number: i64 = number.parse().ok()?;
    (least..=most).contains(&number).then_some((number, &text[count..]))
}

/// The beginning of a day. A day beyond its month's end is one of the next month.
fn day_of(year: i64, month: i64, day: i64) -> i64 {
    let (year, month) = if month <= 2 { (year - 1, month + 12) } else { (year, month) };
    let century = (year + 4800) / 100;
    let leap = 38 - century + century / 4;
    let years = 36525 * (year + 4716) / 100;
    let months = 306_001 * (month + 1) / 10_000;
    // Days begin at midnight, Julian days at noon.
    ((years + months + day + leap) as f64 - 1524.5).mul_add(DAY as f64, 0.0) as i64
}

/// Year, month and day of a moment.
fn date_of(at: i64) -> (i64, i64, i64) {
    let z = (at + DAY / 2) / DAY;
    let alpha = ((z as f64 + 32_044.75) / 36_524.25) as i64 - 52;
    let a = z + 1 + alpha - ((alpha + 100) / 4) + 25;
    let b = a + 1524;
    let c = ((b as f64 - 122.1) / 365.25) as i64;
    let d = (36_525 * (c & 32_767)) / 100;
    let e = ((b - d) as f64 / 30.6001) as i64;
    let x = (30.6001 * e as f64) as i64;
    let day = b - d - x;
    let month = if e < 14 { e - 1 } else { e - 13 };
    let year = if month > 2 { c - 4716 } else { c - 4715 };
    (year, month, day)
}

impl Moment {
    /// Changes the moment as a modifier says; `first` is whether it stands behind the value.
    fn modify(&mut self, modifier: &str, first: bool) -> Option<()> {
        let modifier = modifier.to_ascii_lowercase();
        match modifier.as_str() {
            "unixepoch" if first => {
                let seconds = self.raw?;
                if !(-210_866_760_000.0..=253_402_300_799.999).contains(&seconds) {
                    return None;
                }
                self.at = (seconds * 1000.0 + UNIX as f64 + 0.5) as i64;
            }
            "julianday" if first => {
                self.raw.filter(|_| self.at >= 0)?;
            }
            "auto" if first && self.raw.is_none() => return Some(()),
            "auto" if first => {
                let number = self.raw;
                if let Some(seconds) = number.filter(|_| self.at < 0) {
                    if !(-210_866_760_000.0..=253_402_300_799.0).contains(&seconds) {
                        return None;
                    }
                    self.at = (seconds * 1000.0 + UNIX as f64 + 0.5) as i64;
                }
            }
            "subsec" | "subsecond" => self.subsec = true,
            "start of day" => {
                let (year, month, day) = self.date()?;
                return self.begin(year, month, day);
            }
            "start of month" => {
                let (year, month, _) = self.date()?;
                return self.begin(year, month, 1);
            }
            "start of year" => {
                let (year, ..) = self.date()?;
                return self.begin(year, 1, 1);
            }
            other => match other.strip_prefix("weekday ") {
                Some(day) => {
                    let (day, is_whole) = super::numeral::number_prefix(day);
                    let Scalar::Int(day @ 0..=6) = day else { return None };
                    let here = self.written.map_or_else(|| self.valid(), |_| Some(self.at))?;
                    let today = weekday(here);
                    self.at = is_whole.then(|| here + (day - today).rem_euclid(7) * DAY)?;
                }
                None => self.shift(other)?,
            },
        }
        match modifier.as_str() {
            "subsec" | "subsecond" => {}
            _ => (self.raw, self.written, self.offset) = (None, None, 0),
        }
        Some(())
    }

    fn date(&self) -> Option<(i64, i64, i64)> {
        self.written.or_else(|| self.valid().map(date_of))
    }

    /// Goes to the beginning of a day, which stays as if it was written.
    fn begin(&mut self, year: i64, month: i64, day: i64) -> Option<()> {
        self.at = day_of(year, month, day);
        (self.raw, self.written, self.offset) = (None, Some((year, month, day)), 0);
        Some(())
    }

    fn time(&self) -> i64 {
        match self.written {
            Some((year, month, day)) => self.at - day_of(year, month, day),
            None => time_within(self.at),
        }
    }

    fn valid(&self) -> Option<i64> {
        (0..=LAST).contains(&self.at).then_some(self.at)
    }

    /// `+3 days`, `-1.5 hours`, `2 months`.
    fn shift(&mut self, modifier: &str) -> Option<()> {
        let len = modifier
            .bytes()
            .position(|byte| byte == b' ' || byte == b':')
            .filter(|len| modifier.as_bytes()[*len] == b' ')?;
        let (number, is_whole) = super::numeral::number_prefix(&modifier[..len]);
        let number = match (number, is_whole) {
            (Scalar::Int(number), true) => number as f64,
            (Scalar::Real(number), true) => number,
            _ => return None,
        };
        let unit = modifier[len..].trim();
        let unit = unit.strip_suffix('s').unwrap_or(unit);
        // A number that is no day is no moment yet.
        let here = if self.raw.is_some() { self.valid()? } else { self.at } - self.offset;
        let rounding = if number < 0.0 { -0.5 } else { 0.5 };
        let milliseconds = |each: f64, most: f64| {
            (-most < number && number < most).then_some((number * each + rounding) as i64)
        };
        match unit {
            "second" => self.at = here + milliseconds(1000.0, 4.6427e14)?,
            "minute" => self.at = here + milliseconds(60_000.0, 7.7379e12)?,
            "hour" => self.at = here + milliseconds(3_600_000.0, 1.2897e11)?,
            "day" => self.at = here + milliseconds(DAY as f64, 5_373_485.0)?,
            "month" => {
                let (year, month, day) = self.date()?;
                let whole = Self::whole(number, 176_546.0)?;
                let months = month - 1 + whole;
                let (year, month) = (year + months.div_euclid(12), months.rem_euclid(12) + 1);
                let rest = (number - whole as f64) * 30.0 * DAY as f64;
                let rest = if rest == 0.0 { 0 } else { (rest + rounding) as i64 };
                self.at = day_of(year, month, day) + self.time() - self.offset + rest;
            }
            "year" => {
                let (year, month, day) = self.date()?;
                let whole = Self::whole(number, 14_713.0)?;
                let rest = (number - whole as f64) * 365.0 * DAY as f64;
                let rest = if rest == 0.0 { 0 } else { (rest + rounding) as i64 };
                self.at = day_of(year + whole, month, day) + self.time() - self.offset + rest;
            }
            _ => return None,
        }
        Some(())
    }

    fn whole(number: f64, most: f64) -> Option<i64> {
        (-most < number && number < most).then_some(number as i64)
    }
}

fn time_within(at: i64) -> i64 {
    (at + DAY / 2) % DAY
}

/// 0 for Sunday.
fn weekday(at: i64) -> i64 {
    ((at + DAY * 3 / 2) / DAY) % 7
}

fn formatted(
    at: i64,
    (year, month, day): (i64, i64, i64),
    format: &str,
    subsec: bool,
) -> Option<String> {
    let within = time_within(at);
    let (hour, minute) = (within / 3_600_000, within / 60_000 % 60);
    let (second, milli) = (within / 1000 % 60, within % 1000);
    let first = day_of(year, 1, 1);
    let day_of_year = (at - first) / DAY;
    let mut out = String::new();
    let mut letters = format.chars();
    while let Some(letter) = letters.next() {
        if letter != '%' {
            out.push(letter);
            continue;
        }
        let twelve = (hour + 11) % 12 + 1;
        let half = if hour < 12 { "AM" } else { "PM" };
        match letters.next()? {
            'd' => out += &format!("{day:02}"),
            'e' => out += &format!("{day:2}"),
            'f' => out += &format!("{second:02}.{milli:03}"),
            'F' => out += &format!("{year:04}-{month:02}-{day:02}"),
            'H' => out += &format!("{hour:02}"),
            'k' => out += &format!("{hour:2}"),
            'I' => out += &format!("{twelve:02}"),
            'l' => out += &format!("{twelve:2}"),
            'j' => out += &format!("{:03}", day_of_year + 1),
            'J' => out += real_text(at as f64 / DAY as f64).trim_end_matches(".0"),
            'm' => out += &format!("{month:02}"),
            'M' => out += &format!("{minute:02}"),
            'p' => out += half,
            'P' => out += &half.to_ascii_lowercase(),
            'R' => out += &format!("{hour:02}:{minute:02}"),
            's' if subsec => out += &format!("{:.3}", (at - UNIX) as f64 / 1000.0),
            's' => out += &(at.div_euclid(1000) - UNIX / 1000).to_string(),
            'S' => out += &format!("{second:02}"),
            'T' => out += &format!("{hour:02}:{minute:02}:{second:02}"),
            'u' => out += &(if weekday(at) == 0 { 7 } else { weekday(at) }).to_string(),
            'w' => out += &weekday(at).to_string(),
            'W' => {
                let since_monday = (weekday(at) + 6) % 7;
                out += &format!("{:02}", (day_of_year + 7 - since_monday) / 7);
            }
            'Y' => out += &format!("{year:04}"),
            '%' => out.push('%'),
            _ => return None,
        }
    }
    Some(out)
}
