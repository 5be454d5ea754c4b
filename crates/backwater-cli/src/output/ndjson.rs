//! Rows as JSON objects, one a line.

use std::io::Write;

use backwater::Value;
use serde_json::value::RawValue;

use super::Rows;

pub(super) fn write(rows: &Rows, out: &mut dyn Write) -> anyhow::Result<()> {
    for row in &rows.rows {
        writeln!(out, "{}", object(rows, row)?)?;
    }
    Ok(())
}

/// A row as a JSON object with its columns in their order.
pub(super) fn object(rows: &Rows, row: &[Value]) -> anyhow::Result<String> {
    let members = rows
        .columns
        .iter()
        .zip(row)
        .map(|(name, value)| Ok(format!("{}:{}", serde_json::to_string(name)?, json(value)?)));
    Ok(format!("{{{}}}", members.collect::<anyhow::Result<Vec<_>>>()?.join(",")))
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
