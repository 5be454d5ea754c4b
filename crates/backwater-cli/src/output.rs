//! How rows are printed: a table for people, JSON, NDJSON and CSV for machines.

use std::io::{self, Write};

use anstyle::Style;
use backwater::Value;
use clap::ValueEnum;
use comfy_table::{CellAlignment, ContentArrangement, Table, presets};
use serde_json::value::RawValue;
use terminal_size::Width;

/// The form in which rows are printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// A table for people
    Table,
    /// One JSON array of objects
    Json,
    /// One JSON object a line
    Ndjson,
    /// Comma-separated values (RFC 4180)
    Csv,
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
    pub(crate) fn write(&self, format: Format, mut out: &mut impl Write) -> anyhow::Result<()> {
        match format {
            Format::Table => self.write_table(&mut out, "")?,
            Format::Json => self.write_json(&mut out)?,
            Format::Ndjson => {
                for row in &self.rows {
                    writeln!(out, "{}", self.object(row)?)?;
                }
            }
            Format::Csv => {
                let mut csv = csv::Writer::from_writer(&mut out);
                csv.write_record(&self.columns)?;
                for row in &self.rows {
                    csv.write_record(row.iter().map(csv_field))?;
                }
                csv.flush()?;
            }
        }
        Ok(())
    }

    /// Writes the rows as a table, every line behind an indent.
    pub(crate) fn write_table(&self, out: &mut impl Write, indent: &str) -> io::Result<()> {
        self.write_table_as(out, indent, |_, value| value_text(value))
    }

    /// The same with what is shown of a value in a column, which may be several lines.
    pub(crate) fn write_table_as(
        &self,
        out: &mut impl Write,
        indent: &str,
        shown: impl Fn(&str, &Value) -> String,
    ) -> io::Result<()> {
        if self.columns.is_empty() {
            return Ok(());
        }
        let mut table = Table::new();
        table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
        // On a terminal that is too narrow, cells are folded; elsewhere a row is a line.
        if let Some(width) = terminal_width() {
            table.set_content_arrangement(ContentArrangement::Dynamic);
            table.set_width(width.saturating_sub(indent.len()) as u16);
        }
        table.set_header(&self.columns);
        for row in &self.rows {
            table.add_row(self.columns.iter().zip(row).map(|(name, value)| shown(name, value)));
        }
        for (number, column) in table.column_iter_mut().enumerate() {
            column.set_padding((0, 2));
            let values = self.rows.iter().map(|row| &row[number]).filter(|value| !value.is_null());
            let mut values = values.peekable();
            if values.peek().is_some()
                && values.all(|value| matches!(value, Value::Int(_) | Value::Float(_)))
            {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
        for (number, line) in table.lines().enumerate() {
            let style = if number == 0 { BOLD } else { Style::new() };
            writeln!(out, "{indent}{style}{}{style:#}", line.trim_end())?;
        }
        Ok(())
    }

    fn write_json(&self, out: &mut impl Write) -> anyhow::Result<()> {
        write!(out, "[")?;
        for (number, row) in self.rows.iter().enumerate() {
            write!(out, "{}\n  {}", if number == 0 { "" } else { "," }, self.object(row)?)?;
        }
        writeln!(out, "{}]", if self.rows.is_empty() { "" } else { "\n" })?;
        Ok(())
    }

    /// A row as a JSON object with its columns in their order.
    fn object(&self, row: &[Value]) -> anyhow::Result<String> {
        let members =
            self.columns.iter().zip(row).map(|(name, value)| {
                Ok(format!("{}:{}", serde_json::to_string(name)?, json(value)?))
            });
        Ok(format!("{{{}}}", members.collect::<anyhow::Result<Vec<_>>>()?.join(",")))
    }
}

fn json(value: &Value) -> anyhow::Result<String> {
    Ok(match value {
        Value::Null => "null".to_owned(),
        Value::Bool(flag) => flag.to_string(),
        Value::Int(number) => number.to_string(),
        // JSON has no infinity; a number beyond binary64 reads back as one.
        Value::Float(number) if number.is_infinite() => {
            if *number > 0.0 { "1e999" } else { "-1e999" }.to_owned()
        }
        Value::Float(number) => serde_json::to_string(number)?,
        Value::Text(text) => serde_json::to_string(&**text)?,
        Value::Timestamp(time) => serde_json::to_string(&time.to_string())?,
        Value::Json(json) => serde_json::from_str::<&RawValue>(json.as_str())?.get().to_owned(),
    })
}

fn csv_field(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        value => value.to_string(),
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

/// A minified JSON text with a member or element a line; empty ones stay together, and so does what is
/// nested very deep.
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
