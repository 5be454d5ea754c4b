//! Which names a statement mentions.

use std::collections::HashSet;

use super::tree::{Call, Expr, ExprKind, Item, Over, Query, Select, Source};

/// The names of columns that a statement may read of what it has in FROM.
#[derive(Default)]
pub(crate) struct Mentioned {
    /// Whether it says `*`, or NATURAL, which may mean any.
    all: bool,
    /// In small letters.
    names: HashSet<String>,
    /// Whether it calls something that makes JSON of values.
    pub(crate) makes_json: bool,
    /// The tables in FROM, also of its subqueries.
    tables: Vec<String>,
}

impl Mentioned {
    /// Those of a SELECT, with what stands behind it in a query.
    pub(crate) fn in_statement(select: &Select, query: Option<&Query>) -> Self {
        let mut out = Self::default();
        let is_all = |item: &Item| matches!(item, Item::All(_) | Item::AllOf(_));
        out.all = select.items.iter().any(is_all) || select.from.iter().any(|of| of.is_natural);
        out.select(select);
        query.into_iter().flat_map(|query| &query.order).for_each(|term| out.expr(&term.expr));
        out
    }

    pub(crate) fn has(&self, name: &str) -> bool {
        self.all || self.names.contains(&name.to_ascii_lowercase())
    }

    fn query(&mut self, query: &Query) {
        query.with.iter().for_each(|table| self.query(&table.query));
        query.selects.iter().for_each(|select| self.select(select));
        let limits = query.limit.iter().chain(&query.offset);
        query.order.iter().map(|term| &term.expr).chain(limits).for_each(|expr| self.expr(expr));
    }

    fn select(&mut self, select: &Select) {
        for item in &select.items {
            if let Item::Expr { expr, .. } = item {
                self.expr(expr);
            }
        }
        for term in &select.from {
            match &term.source {
                Source::Table { name, .. } => self.tables.push(name.text.clone()),
                Source::Query(query) => self.query(query),
                Source::Function { .. } | Source::Joined => {}
            }
            self.names.extend(term.using.iter().map(|name| name.text.to_ascii_lowercase()));
            let arguments = match &term.source {
                Source::Function { arguments, .. } => arguments.as_slice(),
                _ => &[],
            };
            term.on.iter().chain(arguments).for_each(|expr| self.expr(expr));
        }
        let conditions = select.condition.iter().chain(&select.keys).chain(&select.having);
        conditions.for_each(|expr| self.expr(expr));
        for (_, window) in &select.windows {
            window.partition.iter().for_each(|expr| self.expr(expr));
            window.order.iter().for_each(|term| self.expr(&term.expr));
        }
    }

    fn expr(&mut self, expr: &Expr) {
        match &expr.kind {
            ExprKind::Column(parts) => {
                self.names.extend(parts.last().map(|name| name.text.to_ascii_lowercase()));
            }
            ExprKind::Exists(query) | ExprKind::Subquery(query) => self.query(query),
            ExprKind::InQuery { query, .. } => self.query(query),
            ExprKind::Call(Call { name, order, filter, over, .. }) => {
                let makers = ["json_array", "json_object", "json_group_array", "json_group_object"];
                self.makes_json |= makers.iter().any(|of| name.text.eq_ignore_ascii_case(of));
                order.iter().for_each(|term| self.expr(&term.expr));
                filter.iter().for_each(|filter| self.expr(filter));
                if let Some(Over::Window(window)) = over {
                    window.partition.iter().for_each(|expr| self.expr(expr));
                    window.order.iter().for_each(|term| self.expr(&term.expr));
                }
            }
            _ => {}
        }
        expr.operands().into_iter().for_each(|operand| self.expr(operand));
    }
}

/// The tables that a SELECT has in FROM, also in that of its subqueries.
pub(crate) fn tables_of(select: &Select) -> Vec<String> {
    Mentioned::in_statement(select, None).tables
}
