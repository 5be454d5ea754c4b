//! Rows as comma-separated values (RFC 4180).

use std::io::Write;

use backwater::Value;

use super::Rows;

pub(super) fn write(rows: &Rows, out: &mut dyn Write) -> anyhow::Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    csv.write_record(&rows.columns)?;
    for row in &rows.rows {
        csv.write_record(row.iter().map(csv_field))?;
    }
    Ok(csv.flush()?)
}

fn csv_field(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        value => value.to_string(),
    }
}
