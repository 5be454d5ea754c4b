//! Rows as one JSON array of objects.

use std::io::Write;

use super::Rows;
use super::ndjson::object;

pub(super) fn write(rows: &Rows, out: &mut dyn Write) -> anyhow::Result<()> {
    write!(out, "[")?;
    for (number, row) in rows.rows.iter().enumerate() {
        write!(out, "{}\n  {}", if number == 0 { "" } else { "," }, object(rows, row)?)?;
    }
    writeln!(out, "{}]", if rows.rows.is_empty() { "" } else { "\n" })?;
    Ok(())
}
