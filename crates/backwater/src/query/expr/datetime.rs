//! Date and time functions on given values: `date()`, `time()`, `datetime()`, `julianday()`,
//! `unixepoch()`, `strftime()`. The rules are SQLite's.
//!
//! A time is counted in milliseconds from noon of 24 November 4714 BC, the Julian day's beginning,
//! on the proleptic Gregorian calendar.

use crate::query::expr::scalar::Scalar;

/// The Julian day of 1970-01-01T00:00Z, in milliseconds.
const UNIX: i64 = 210_866_760_000_000;
const DAY: i64 = 86_400_000;
/// The last millisecond of the year 9999.
const LAST: i64 = 464_269_060_799_999;

/// What is made of a time.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum TimeForm {
    Date,
    Time,
    DateTime,
    JulianDay,
    UnixEpoch,
    /// By a format, the first argument.
    Format,
}

/// A time: what is known of it so far, each part from what was written, or from the others.
#[derive(Default, Clone, Copy)]
struct DateTime {
    /// Milliseconds of the Julian day.
    at: Option<i64>,
    /// Year, month and day, which may lie beyond the month's end.
    date: Option<(i64, i64, i64)>,
    /// Hour, minute and second.
    time: Option<(i64, i64, f64)>,
    /// Minutes from UTC that were written behind it, and are yet to be taken off.
    offset: i64,
    /// A number, while it may be a day or seconds.
    number: Option<f64>,
    /// By how many days the date lies beyond its month's end.
    beyond: i64,
    /// Whether fractions of a second are shown.
    subsec: bool,
}

/// The function's value; `None` is NULL.
pub(crate) fn call(form: TimeForm, values: &[Scalar<'_>]) -> Option<Scalar<'static>> {
    let (format, values) = match (form, values) {
        (TimeForm::Format, [format, rest @ ..]) => (Some(format.to_text()?), rest),
        (_, values) => (None, values),
    };
    let (first, modifiers) = values.split_first()?;
    let mut time = read(first)?;
    for (number, modifier) in modifiers.iter().enumerate() {
        time.modify(&modifier.to_text()?, number == 0)?;
    }
    let at = time.at().filter(|at| (0..=LAST).contains(at))?;
    if modifiers.is_empty() && time.date.is_some_and(|(.., day)| day > 28) {
        // A day that was written stays as it was, unless it is all that there is.
        time.date = None;
    }
    let text = |text: String| Some(Scalar::Text(text.into()));
    let seconds = if time.subsec { "%H:%M:%f" } else { "%H:%M:%S" };
    let mut date = || {
        let (year, month, day) = time.date()?;
        let sign = if year < 0 { "-" } else { "" };
        Some(format!("{sign}{:04}-{month:02}-{day:02}", year.abs() % 10_000))
    };
    match form {
        TimeForm::Date => text(date()?),
        TimeForm::Time => text(time.formatted(seconds)?),
        TimeForm::DateTime => text(format!("{} {}", date()?, time.formatted(seconds)?)),
        TimeForm::JulianDay => Some(Scalar::Real(at as f64 / DAY as f64)),
        TimeForm::UnixEpoch if time.subsec => Some(Scalar::Real((at - UNIX) as f64 / 1000.0)),
        TimeForm::UnixEpoch => Some(Scalar::Int(at / 1000 - UNIX / 1000)),
        TimeForm::Format => text(time.formatted(&format?)?),
    }
}

/// Whether a text means the current time, which a function of given values does not know.
pub(crate) fn is_now(text: &str) -> bool {
    text.eq_ignore_ascii_case("now")
        || text.eq_ignore_ascii_case("subsec")
        || text.eq_ignore_ascii_case("subsecond")
}

fn read(value: &Scalar<'_>) -> Option<DateTime> {
    match value {
        Scalar::Null => None,
        Scalar::Int(number) => Some(DateTime::of_number(*number as f64)),
        Scalar::Real(number) => Some(DateTime::of_number(*number)),
        text => {
            let text = text.to_text()?;
            let time = date_and_time(&text).or_else(|| time_of_day(&text));
            time.or_else(|| whole_number(&text).map(DateTime::of_number))
        }
    }
}

/// The number that a text is from one end to the other.
fn whole_number(text: &str) -> Option<f64> {
    match crate::query::expr::numeral::number_prefix(text) {
        (Scalar::Int(number), true) => Some(number as f64),
        (Scalar::Real(number), true) => Some(number),
        _ => None,
    }
}

const SPACE: [char; 6] = [' ', '\t', '\n', '\x0b', '\x0c', '\r'];

/// `YYYY-MM-DD`, and perhaps a time behind it.
fn date_and_time(text: &str) -> Option<DateTime> {
    let (negative, text) = match text.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text),
    };
    let (mut year, rest) = digits(text, 4, 0, 9999)?;
    let (mut month, rest) = digits(rest.strip_prefix('-')?, 2, 1, 12)?;
    let (mut day, rest) = digits(rest.strip_prefix('-')?, 2, 1, 31)?;
    let rest = rest.trim_start_matches(|letter| letter == 'T' || SPACE.contains(&letter));
    let mut time = match time_of_day(rest) {
        Some(time) => time,
        None if rest.is_empty() => DateTime::default(),
        None => return None,
    };
    if let Some((24, minute, second)) = time.time {
        // The next day's beginning.
        time.time = Some((0, minute, second));
        day += 1;
        let most = days_of_month(year, month);
        if day > most {
            (day, month) = (day - most, month + 1);
        }
        if month > 12 {
            (month, year) = (1, year + 1);
        }
    }
    time.set_date(if negative { -year } else { year }, month, day);
    if time.offset != 0 {
        time.at();
    }
    Some(time)
}

/// `HH:MM`, `HH:MM:SS` or `HH:MM:SS.SSS`, and perhaps an offset.
fn time_of_day(text: &str) -> Option<DateTime> {
    let (hour, rest) = digits(text, 2, 0, 24)?;
    let (minute, mut rest) = digits(rest.strip_prefix(':')?, 2, 0, 59)?;
    let mut second = 0.0;
    if let Some(after) = rest.strip_prefix(':') {
        let (whole, after) = digits(after, 2, 0, 59)?;
        second = whole as f64;
        rest = after;
        let fraction = after.strip_prefix('.').unwrap_or_default();
        let len = fraction.bytes().take_while(u8::is_ascii_digit).count();
        if len > 0 {
            let add = |(value, scale): (f64, f64), digit: u8| {
                (value * 10.0 + f64::from(digit - b'0'), scale * 10.0)
            };
            let (value, scale) = fraction[..len].bytes().fold((0.0, 1.0), add);
            // What rounds up to the next second does not.
            second += (value / scale).min(0.999);
            rest = &fraction[len..];
        }
    }
    if hour == 24 && (minute != 0 || second != 0.0) {
        return None;
    }
    let time = Some((hour, minute, second));
    Some(DateTime { time, offset: offset(rest.trim_start_matches(SPACE))?, ..DateTime::default() })
}

/// `Z`, or `±HH:MM` in minutes; nothing is no offset.
fn offset(text: &str) -> Option<i64> {
    let (offset, rest) = match text.as_bytes().first() {
        None => return Some(0),
        Some(b'Z' | b'z') => (0, &text[1..]),
        Some(sign @ (b'+' | b'-')) => {
            let (hours, rest) = digits(&text[1..], 2, 0, 14)?;
            let (minutes, rest) = digits(rest.strip_prefix(':')?, 2, 0, 59)?;
            let minutes = hours * 60 + minutes;
            (if *sign == b'-' { -minutes } else { minutes }, rest)
        }
        Some(_) => return None,
    };
    rest.trim_start_matches(SPACE).is_empty().then_some(offset)
}

/// This many digits, within a range, and what follows them.
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
    (((years + months + day + leap) as f64 - 1524.5) * DAY as f64) as i64
}

/// Year, month and day of a time.
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

fn days_of_month(year: i64, month: i64) -> i64 {
    match month {
        // Before January is December.
        0 | 1 | 3 | 5 | 7 | 8 | 10 | 12 => 31,
        2 if year % 4 == 0 && (year % 100 != 0 || year % 400 == 0) => 29,
        2 => 28,
        _ => 30,
    }
}

impl DateTime {
    /// A Julian day if it can be one, until a modifier says otherwise.
    fn of_number(number: f64) -> Self {
        let is_day = (0.0..5_373_484.5).contains(&number);
        let at = is_day.then_some((number * DAY as f64 + 0.5) as i64);
        Self { at, number: Some(number), ..Self::default() }
    }

    /// Milliseconds of the Julian day. A time alone is one of the first day of the year 2000.
    fn at(&mut self) -> Option<i64> {
        if self.at.is_some() {
            return self.at;
        }
        let (year, month, day) = match (self.date, &mut self.time) {
            (Some(date), _) => date,
            (None, Some((hour @ 24, ..))) => {
                *hour = 0;
                (2000, 1, 2)
            }
            (None, _) => (2000, 1, 1),
        };
        if !(-4713..=9999).contains(&year) || self.number.is_some() {
            return None;
        }
        let mut at = day_of(year, month, day);
        if let Some((hour, minute, second)) = self.time {
            at += hour * 3_600_000 + minute * 60_000 + (second * 1000.0 + 0.5) as i64;
            if self.offset != 0 {
                at -= self.offset * 60_000;
                (self.date, self.time, self.offset) = (None, None, 0);
            }
        }
        self.at = Some(at);
        self.at
    }

    fn date(&mut self) -> Option<(i64, i64, i64)> {
        let date = match (self.date, self.at) {
            (Some(date), _) => date,
            (None, None) => (2000, 1, 1),
            (None, Some(at)) if (0..=LAST).contains(&at) => date_of(at),
            (None, Some(_)) => return None,
        };
        self.date = Some(date);
        self.date
    }

    fn time(&mut self) -> Option<(i64, i64, f64)> {
        if self.time.is_none() {
            let within = (self.at()? + DAY / 2) % DAY;
            let second = (within % 60_000) as f64 / 1000.0;
            self.number = None;
            self.time = Some((within / 3_600_000, within / 60_000 % 60, second));
        }
        self.time
    }

    fn set_date(&mut self, year: i64, month: i64, day: i64) {
        self.date = Some((year, month, day));
        self.at = None;
        self.note_beyond(year, month, day);
    }

    fn note_beyond(&mut self, year: i64, month: i64, day: i64) {
        self.beyond = (day - days_of_month(year, month)).max(0);
    }

    /// From here on it is a full time, however it was written.
    fn become_at(&mut self, at: i64) {
        (self.at, self.date, self.time, self.offset) = (Some(at), None, None, 0);
    }

    /// Changes the time as a modifier says; `first` is whether it stands behind the value.
    fn modify(&mut self, modifier: &str, first: bool) -> Option<()> {
        let modifier = modifier.to_ascii_lowercase();
        if let Some(what) = modifier.strip_prefix("start of ") {
            return self.go_to(what, (0, 0, 0.0));
        }
        if let Some(what) = modifier.strip_prefix("end of ") {
            return self.go_to(what, (23, 59, 59.999));
        }
        if let Some(day) = modifier.strip_prefix("weekday ") {
            return self.go_to_weekday(day);
        }
        match modifier.as_str() {
            "auto" if first => {
                if let (Some(seconds), None) = (self.number, self.at) {
                    if !(-210_866_760_000.0..=253_402_300_799.0).contains(&seconds) {
                        return Some(());
                    }
                    self.become_at((seconds * 1000.0 + UNIX as f64 + 0.5) as i64);
                }
                self.number = None;
            }
            "unixepoch" if first => {
                let at = self.number? * 1000.0 + UNIX as f64;
                let is_known = (0.0..464_269_060_800_000.0).contains(&at);
                self.become_at(is_known.then_some((at + 0.5) as i64)?);
                self.number = None;
            }
            "julianday" if first => {
                self.number.and(self.at)?;
                self.number = None;
            }
            "ceiling" => {
                let at = self.at()?;
                self.become_at(at);
                self.beyond = 0;
            }
            "floor" => {
                let at = self.at()? - self.beyond * DAY;
                self.become_at(at);
            }
            "subsec" | "subsecond" => self.subsec = true,
            other
                if other.starts_with(|sign: char| sign.is_ascii_digit() || "+-".contains(sign)) =>
            {
                self.shift(other)?;
            }
            _ => return None,
        }
        Some(())
    }

    /// Goes to the beginning or to the end of a day, month or year.
    fn go_to(&mut self, what: &str, time: (i64, i64, f64)) -> Option<()> {
        if self.at.is_none() && self.date.is_none() && self.time.is_none() {
            return None;
        }
        let is_end = time.0 > 0;
        let (year, month, day) = self.date()?;
        (self.at, self.time, self.number, self.offset) = (None, Some(time), None, 0);
        self.date = Some(match (what, is_end) {
            ("day", _) => (year, month, day),
            ("month", false) => (year, month, 1),
            ("year", false) => (year, 1, 1),
            ("year", true) => (year, 12, 31),
            ("month", true) => {
                let next = if month == 12 { (year + 1, 1, 1) } else { (year, month + 1, 1) };
                self.date = Some(next);
                self.beyond = 0;
                let at = self.at()? - DAY;
                self.become_at(at);
                return Some(());
            }
            _ => return None,
        });
        Some(())
    }

    /// Goes on to a day of the week, or back to it.
    fn go_to_weekday(&mut self, text: &str) -> Option<()> {
        let day = whole_number(text).filter(|day| day.fract() == 0.0 && day.abs() <= 6.0)? as i64;
        self.date()?;
        self.time()?;
        (self.offset, self.at) = (0, None);
        let mut at = self.at()?;
        let (here, there) = (weekday(at), day.abs());
        if here != there {
            at += (there - here).rem_euclid(7) * DAY;
            if text.contains('-') {
                at -= 7 * DAY;
            }
        }
        self.become_at(at);
        Some(())
    }

    /// `+3 days`, `-1.5 hours`, `2 months`, `+01:30`, `-0001-02-03 04:05`.
    fn shift(&mut self, modifier: &str) -> Option<()> {
        let is_year = |at: usize| {
            let is_at = |len: usize| {
                let year = modifier.get(1..=len);
                at == len + 1 && year.is_some_and(|year| digits(year, len, 0, 14_712).is_some())
            };
            is_at(4) || is_at(5)
        };
        let end = modifier.char_indices().skip(1).find(|(at, letter)| match letter {
            ':' => true,
            '-' => is_year(*at),
            letter => SPACE.contains(letter),
        });
        let (len, after) = match end {
            Some((len, letter)) => (len, Some(letter)),
            None => (modifier.len(), None),
        };
        let number = whole_number(&modifier[..len])?;
        let is_back = modifier.starts_with('-');
        match after {
            Some('-') => {
                let time = self.shift_date(modifier, is_back)?;
                match time {
                    Some(time) => self.shift_time(time, is_back),
                    None => Some(()),
                }
            }
            Some(':') => self.shift_time(modifier.trim_start_matches(['+', '-']), is_back),
            _ => self.shift_by(number, modifier[len..].trim_start_matches(SPACE)),
        }
    }

    /// By years, months and days; gives the time that stands behind these.
    fn shift_date<'m>(&mut self, modifier: &'m str, is_back: bool) -> Option<Option<&'m str>> {
        let written = modifier.strip_prefix(['+', '-'])?;
        let (years, rest) = match written.find('-')? {
            len @ (4 | 5) => digits(written, len, 0, 14_712)?,
            _ => return None,
        };
        let (months, rest) = digits(rest.strip_prefix('-')?, 2, 0, 11)?;
        let (days, rest) = digits(rest.strip_prefix('-')?, 2, 0, 30)?;
        self.date()?;
        self.time()?;
        let way = if is_back { -1 } else { 1 };
        self.add_months(way * (years * 12 + months))?;
        let at = self.at()? + way * days * DAY;
        (self.at, self.date, self.time) = (Some(at), None, None);
        match rest.chars().next() {
            None => Some(None),
            Some(space) if SPACE.contains(&space) => {
                let time = &rest[1..];
                let (_, minutes) = digits(time, 2, 0, 24)?;
                digits(minutes.strip_prefix(':')?, 2, 0, 59)?;
                Some(Some(time))
            }
            Some(_) => None,
        }
    }

    fn shift_time(&mut self, text: &str, is_back: bool) -> Option<()> {
        let within = (time_of_day(text)?.at()? - DAY / 2).rem_euclid(DAY);
        let at = self.at()? + if is_back { -within } else { within };
        self.become_at(at);
        Some(())
    }

    /// Adds this many months; the day stays, also beyond the month's end.
    fn add_months(&mut self, months: i64) -> Option<()> {
        let (year, month, day) = self.date()?;
        let month = month - 1 + months;
        self.set_date(year + month.div_euclid(12), month.rem_euclid(12) + 1, day);
        Some(())
    }

    fn shift_by(&mut self, number: f64, unit: &str) -> Option<()> {
        if !(3..=10).contains(&unit.len()) {
            return None;
        }
        let unit = unit.strip_suffix('s').unwrap_or(unit);
        let (most, seconds) = match unit {
            "second" => (4.6427e14_f32, 1.0),
            "minute" => (7.7379e12, 60.0),
            "hour" => (1.2897e11, 3600.0),
            "day" => (5_373_485.0, 86_400.0),
            "month" => (176_546.0, 2_592_000.0),
            "year" => (14_713.0, 31_536_000.0),
            _ => return None,
        };
        let most = f64::from(most);
        if !(-most < number && number < most) {
            return None;
        }
        self.at()?;
        self.beyond = 0;
        let mut rest = number;
        if let "month" | "year" = unit {
            let each = if unit == "year" { 12 } else { 1 };
            self.date()?;
            self.time()?;
            self.add_months(number.trunc() as i64 * each)?;
            rest = number - number.trunc();
        }
        let rounding = if number < 0.0 { -0.5 } else { 0.5 };
        let at = self.at()?
            + (rest * 1000.0 * seconds + if rest == 0.0 { 0.0 } else { rounding }) as i64;
        self.become_at(at);
        Some(())
    }

    fn formatted(&mut self, format: &str) -> Option<String> {
        let at = self.at()?;
        let (year, month, day) = self.date()?;
        let (hour, minute, second) = self.time()?;
        let whole = second as i64;
        let day_of_year = (at - self.january()? + DAY / 2) / DAY;
        // The Thursday of its week.
        let thursday = || {
            let mut thursday = DateTime { at: Some(at + (3 - monday(at)) * DAY), ..*self };
            thursday.date = None;
            let (year, ..) = thursday.date()?;
            Some((year, (thursday.at? - thursday.january()? + DAY / 2) / DAY))
        };
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
                'f' => out += &format!("{:06.3}", second.min(59.999)),
                'F' => out += &format!("{year:04}-{month:02}-{day:02}"),
                'g' => out += &format!("{:02}", thursday()?.0 % 100),
                'G' => out += &format!("{:04}", thursday()?.0),
                'H' => out += &format!("{hour:02}"),
                'k' => out += &format!("{hour:2}"),
                'I' => out += &format!("{twelve:02}"),
                'l' => out += &format!("{twelve:2}"),
                'j' => out += &format!("{:03}", day_of_year + 1),
                'J' => out += &sixteen_digits(at as f64 / DAY as f64),
                'm' => out += &format!("{month:02}"),
                'M' => out += &format!("{minute:02}"),
                'p' => out += half,
                'P' => out += &half.to_ascii_lowercase(),
                'R' => out += &format!("{hour:02}:{minute:02}"),
                's' if self.subsec => out += &format!("{:.3}", (at - UNIX) as f64 / 1000.0),
                's' => out += &(at / 1000 - UNIX / 1000).to_string(),
                'S' => out += &format!("{whole:02}"),
                'T' => out += &format!("{hour:02}:{minute:02}:{whole:02}"),
                'u' => out += &(monday(at) + 1).to_string(),
                'U' => out += &format!("{:02}", (day_of_year - weekday(at) + 7) / 7),
                'V' => out += &format!("{:02}", thursday()?.1 / 7 + 1),
                'w' => out += &weekday(at).to_string(),
                'W' => out += &format!("{:02}", (day_of_year - monday(at) + 7) / 7),
                'Y' => out += &format!("{year:04}"),
                '%' => out.push('%'),
                _ => return None,
            }
        }
        Some(out)
    }

    /// The same time on the first day of its year.
    fn january(&self) -> Option<i64> {
        let (year, ..) = self.date?;
        DateTime { at: None, date: Some((year, 1, 1)), ..*self }.at()
    }
}

/// 0 for Sunday.
fn weekday(at: i64) -> i64 {
    ((at + DAY * 3 / 2) / DAY) % 7
}

/// 0 for Monday.
fn monday(at: i64) -> i64 {
    ((at + DAY / 2) / DAY) % 7
}

/// A number with sixteen significant digits, as C's `%.16g` writes it.
fn sixteen_digits(number: f64) -> String {
    let scientific = format!("{number:.15e}");
    let Some((digits, power)) = scientific.split_once('e') else { return scientific };
    let power: i32 = power.parse().unwrap_or(0);
    if (-4..16).contains(&power) {
        let plain = format!("{number:.*}", (15 - power) as usize);
        let plain = if plain.contains('.') { plain.trim_end_matches('0') } else { &plain };
        return plain.trim_end_matches('.').to_owned();
    }
    let digits = digits.trim_end_matches('0').trim_end_matches('.');
    let sign = if power < 0 { '-' } else { '+' };
    format!("{digits}e{sign}{:02}", power.abs())
}
