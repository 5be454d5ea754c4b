//! The parts of a SELECT that are supported, and the table that it reads.

use std::mem;

use sqlparser::ast::{self, GroupByExpr, LimitClause, SelectItem, SetExpr, Spanned, TableFactor};
use sqlparser::tokenizer::Location;

use super::Lowered;
use super::place::start;
use crate::error::nearest;
use crate::query::syntax::{Parsed, Refusal};
use crate::schema::{Schema, TableNo};

/// The parts of a statement that are supported.
pub(super) struct Select {
    pub(super) start: Location,
    pub(super) items: Vec<SelectItem>,
    /// The items as they stand in the statement.
    pub(super) texts: Vec<String>,
    pub(super) from: Vec<ast::TableWithJoins>,
    pub(super) condition: Option<ast::Expr>,
    pub(super) keys: Vec<ast::Expr>,
    pub(super) having: Option<ast::Expr>,
    pub(super) order: Option<ast::OrderBy>,
    pub(super) limit: Option<LimitClause>,
    pub(super) identity: String,
}

impl Select {
    /// Takes a statement apart. What then remains of it must be nothing.
    pub(super) fn of(parsed: Parsed) -> Lowered<Self> {
        let Parsed { mut query, identity, items: texts } = parsed;
        let start = match query.body.as_ref() {
            SetExpr::Select(select) => select.select_token.0.span.start,
            _ => Location::new(1, 1),
        };
        let refuse = |message: &str, help: &str| Err(Refusal::new(start, message, help));
        if query.with.is_some() {
            return refuse("WITH is not supported", "write the statement without it");
        }
        let SetExpr::Select(select) = query.body.as_mut() else {
            let message = "only a plain SELECT is supported, no UNION or VALUES";
            return refuse(message, "define a query for each part");
        };
        if select.distinct.is_some() {
            return refuse("SELECT DISTINCT is not supported", "GROUP BY the columns instead");
        }
        let keys = match &mut select.group_by {
            GroupByExpr::Expressions(keys, _) => mem::take(keys),
            GroupByExpr::All(_) => Vec::new(),
        };
        let parts = Self {
            start,
            items: mem::take(&mut select.projection),
            texts,
            from: mem::take(&mut select.from),
            condition: select.selection.take(),
            keys,
            having: select.having.take(),
            order: query.order_by.take(),
            limit: query.limit_clause.take(),
            identity,
        };
        if query.to_string().trim() != "SELECT" {
            let help = "use FROM, WHERE, GROUP BY, HAVING, ORDER BY, LIMIT and OFFSET";
            return refuse("this statement has a clause that is not supported", help);
        }
        Ok(parts)
    }
}

/// The one table that a statement reads, and what it calls it.
pub(super) fn source(select: &Select, schema: &Schema) -> Lowered<(TableNo, String)> {
    let start = select.start;
    let from = match select.from.as_slice() {
        [] => {
            return Err(Refusal::new(start, "this reads no table", "add FROM with a table's name"));
        }
        [one] if one.joins.is_empty() => one,
        _ => {
            return Err(Refusal::new(
                start,
                "joins are not supported",
                "read one table; follow links from its rows",
            ));
        }
    };
    let at = match &from.relation {
        TableFactor::Table { name, .. } => self::start(name.span()),
        other => self::start(other.span()),
    };
    let TableFactor::Table { name, alias, .. } = &from.relation else {
        return Err(Refusal::new(
            at,
            "only a table can stand in FROM",
            "name a table of the schema",
        ));
    };
    let plain = alias.as_ref().is_none_or(|alias| alias.columns.is_empty());
    let [part] = name.0.as_slice() else {
        return Err(Refusal::new(
            at,
            format!("there is no table {name}"),
            "a table has a name without dots",
        ));
    };
    let (Some(ident), true) = (part.as_ident(), plain) else {
        return Err(Refusal::new(
            at,
            "only a table can stand in FROM",
            "name a table of the schema",
        ));
    };
    let table = schema.table_no(&ident.value).map_err(|_| Refusal {
        unknown_name: true,
        ..Refusal::new(
            at,
            format!("there is no table \"{}\"", ident.value),
            nearest(&ident.value, schema.table_names()),
        )
    })?;
    let spelled = match alias {
        Some(alias) => format!("{ident} {}{}", if alias.explicit { "AS " } else { "" }, alias.name),
        None => ident.to_string(),
    };
    if spelled != from.to_string() {
        return Err(Refusal::new(
            at,
            format!("\"{from}\" is not supported"),
            "name the table alone",
        ));
    }
    Ok((table, alias.as_ref().map_or(&ident.value, |alias| &alias.name.value).clone()))
}

/// The result columns that have a name of their own.
pub(super) fn named_items(select: &Select) -> Vec<(&str, &ast::Expr)> {
    let named = select.items.iter().filter_map(|item| match item {
        SelectItem::ExprWithAlias { expr, alias } => Some((alias.value.as_str(), expr)),
        _ => None,
    });
    named.collect()
}
