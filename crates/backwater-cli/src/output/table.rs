//! Rows as a table for people.

use std::io::{self, Write};

use anstyle::Style;
use backwater::Value;
use comfy_table::{CellAlignment, ContentArrangement, Table, presets};

use super::{BOLD, Rows, terminal_width, value_text};

pub(super) fn write(rows: &Rows, out: &mut dyn Write) -> anyhow::Result<()> {
    Ok(rows.write_table(out, "")?)
}

impl Rows {
    /// Writes the rows as a table, every line behind an indent.
    pub(crate) fn write_table(
        &self,
        out: &mut (impl Write + ?Sized),
        indent: &str,
    ) -> io::Result<()> {
        self.write_table_as(out, indent, |_, value| value_text(value))
    }

    /// The same with what is shown of a value in a column, which may be several lines.
    pub(crate) fn write_table_as(
        &self,
        out: &mut (impl Write + ?Sized),
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
}
