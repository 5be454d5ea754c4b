//! How rows are printed. A format is a file here and a line in the list of [`Format`].

mod csv;
mod json;
mod ndjson;
mod table;

use std::io::{self, Write};

use anstyle::Style;
use backwater::Value;
use clap::ValueEnum;
use terminal_size::Width;

/// Declares the formats of rows: for each a name, its help, and the file that writes it.
macro_rules! formats {
    ($($(#[$help:meta])* $name:ident => $file:ident,)*) => {
        /// The form in which rows are printed.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
        pub(crate) enum Format {
            $($(#[$help])* $name,)*
        }

        impl Format {
            fn write(self, rows: &Rows, out: &mut dyn Write) -> anyhow::Result<()> {
                match self {
                    $(Format::$name => $file::write(rows, out),)*
                }
            }
        }
    };
}

formats! {
    /// A table for people
    Table => table,
    /// One JSON array of objects
    Json => json,
    /// One JSON object a line
    Ndjson => ndjson,
    /// Comma-separated values (RFC 4180)
    Csv => csv,
}

/// Rows under their columns' names.
pub(crate) struct Rows {
    pub(crate) columns: Vec<String>,
    pub(crate) rows: Vec<Vec<Value>>,
}

impl Rows {
    pub(crate) fn of(result: &backwater::QueryResult) -> Self {
        Self {
            columns: result.columns().map(str::to_owned).collect(),
            rows: result.rows().map(|row| row.values().to_vec()).collect(),
        }
    }

    /// Prints the rows to standard output, and nothing else.
    pub(crate) fn print(&self, format: Format) -> anyhow::Result<()> {
        let mut out = io::BufWriter::new(anstream::stdout().lock());
        self.write(format, &mut out)?;
        Ok(out.flush()?)
    }

    /// Writes the rows, and nothing else.
    pub(crate) fn write(&self, format: Format, out: &mut impl Write) -> anyhow::Result<()> {
        format.write(self, out)
    }
}

/// A value as a person reads it in a table: a time without decimals that are all zero, and no
/// letter that would break the line or steer the terminal.
pub(crate) fn value_text(value: &Value) -> String {
    let text = match value {
        Value::Timestamp(time) => {
            let text = time.to_string();
            match text.strip_suffix(".000000Z") {
                Some(seconds) => format!("{seconds}Z"),
                None => text,
            }
        }
        value => value.to_string(),
    };
    if !text.contains(char::is_control) {
        return text;
    }
    text.chars()
        .map(|c| if c.is_control() { c.escape_default().to_string() } else { c.to_string() })
        .collect()
}

/// A minified JSON text with a member or element a line; empty ones stay together, and so does what
/// is nested very deep.
pub(crate) fn indented(json: &str) -> String {
    const DEEPEST: usize = 64;
    let (mut out, mut depth, mut in_string, mut escaped) = (String::new(), 0_usize, false, false);
    let mut letters = json.chars().peekable();
    while let Some(letter) = letters.next() {
        let closes = matches!(letters.peek(), Some('}' | ']'));
        out.push(letter);
        if in_string {
            (escaped, in_string) = (letter == '\\' && !escaped, letter != '"' || escaped);
        } else if letter == ':' {
            out.push(' ');
        } else if letter == '"' {
            in_string = true;
        }
        if in_string {
            continue;
        }
        let opens = matches!(letter, '{' | '[');
        depth += usize::from(opens);
        if closes && !opens {
            depth = depth.saturating_sub(1);
        } else if closes {
            depth = depth.saturating_sub(1);
            continue;
        }
        if (opens || closes || letter == ',') && depth <= DEEPEST {
            out.push('\n');
            out.extend(std::iter::repeat_n("  ", depth));
        }
    }
    out
}

/// How wide the terminal is; nothing if standard output is none.
fn terminal_width() -> Option<usize> {
    let (Width(width), _) = terminal_size::terminal_size_of(io::stdout())?;
    Some(width.into())
}

/// How wide a report may be: as the terminal, or 100 letters.
pub(crate) fn report_width() -> usize {
    terminal_width().unwrap_or(100).min(100)
}

/// A text in at most this many letters, its middle left out if need be.
pub(crate) fn shortened(text: &str, most: usize) -> String {
    let letters: Vec<char> = text.chars().collect();
    if letters.len() <= most {
        return text.to_owned();
    }
    let kept = most.saturating_sub(1);
    let (start, end) = (kept - kept / 2, letters.len() - kept / 2);
    letters[..start].iter().chain(&['…']).chain(&letters[end..]).collect()
}

/// A list with commas in lines of at most this many letters, as far as its parts allow it.
pub(crate) fn folded(list: &str, most: usize) -> String {
    let (mut out, mut length) = (String::new(), 0);
    for part in list.split_inclusive(", ") {
        let letters = part.trim_end().chars().count();
        if length > 0 && length + letters > most {
            out.truncate(out.trim_end().len());
            out.push('\n');
            length = 0;
        }
        out.push_str(part);
        length += part.chars().count();
    }
    out
}

/// A count with its noun: `1 row`, `2 rows`.
pub(crate) fn count(number: usize, noun: &str) -> String {
    format!("{} {noun}{}", grouped(number), if number == 1 { "" } else { "s" })
}

/// A number with its digits in groups of three.
pub(crate) fn grouped(number: usize) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (place, digit) in digits.chars().enumerate() {
        if place > 0 && (digits.len() - place).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// Bold, on a terminal.
pub(crate) const BOLD: Style = Style::new().bold();
/// Stepping back, on a terminal.
pub(crate) const DIM: Style = Style::new().dimmed();
