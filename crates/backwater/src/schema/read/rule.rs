//! Reading response rules.

use super::{Reader, Value};
use crate::schema::{Pointer, Rule, Table};

impl<'t> Reader<'t> {
    pub(super) fn rule(
        &mut self,
        name: &str,
        value: &Value<'t>,
        _tables: &[Table],
    ) -> Option<Rule> {
        let parts = self.as_table(value, "a table with `records` and `table`")?;
        let at = value.span().start;
        let [records, table] = self.parts(parts, "a response rule", ["records", "table"]);
        let records = match records {
            None => Pointer::parse("").ok(),
            Some(value) => self.as_pointer(value),
        };
        let Some(table) = table else {
            self.problem(
                at,
                format!("rule \"{name}\" does not say which table its records go to"),
                "add `table = \"TABLE\"`",
            );
            return None;
        };
        let table = self.as_table_no(table, "the name of a table")?;
        Some(Rule { name: name.into(), records: records?, table })
    }
}
