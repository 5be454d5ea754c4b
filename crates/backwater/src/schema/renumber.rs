//! Renumbers tables, so that a schema that is read again keeps the numbers of an earlier one.

use std::sync::Arc;

use super::{Branch, FieldKind, ResponsePart, Rule, TableDef, TableNo, TableOrigin};
use crate::sorting;

/// Puts tables into the order of some names, those that are not among them behind. What points at a
/// table points at it still.
pub(super) fn in_order_of(known: &[Arc<str>], tables: &mut Vec<TableDef>, rules: &mut [Rule]) {
    let place = |table: &TableDef| known.iter().position(|name| *name == table.name);
    let mut order: Vec<usize> = (0..tables.len()).collect();
    let places: Vec<usize> =
        tables.iter().map(|table| place(table).unwrap_or(usize::MAX)).collect();
    sorting::few(&mut order, |a, b| places[*a] < places[*b]);
    let mut numbers = vec![TableNo(0); tables.len()];
    for (new, old) in order.iter().enumerate() {
        numbers[*old] = TableNo(new as u32);
    }
    let new = |table: &mut TableNo| *table = numbers[table.index()];
    for table in tables.iter_mut() {
        if let TableOrigin::Entries { owner, .. } = &mut table.made {
            new(owner);
        }
        for field in &mut table.fields {
            if let FieldKind::Link(to) | FieldKind::Links(to) = &mut field.kind {
                new(to);
            }
            let by = field.link.as_mut().and_then(|link| link.by.as_mut());
            by.into_iter().for_each(|by| new(&mut by.table));
            let one_of = field.link.as_mut().and_then(|link| link.one_of.as_mut());
            one_of.into_iter().flat_map(|one_of| &mut one_of.tables).for_each(|(_, to)| new(to));
        }
    }
    for rule in rules {
        new(&mut rule.table);
        rule.aliases.iter_mut().for_each(|(table, ..)| new(table));
        rule.list.iter_mut().for_each(|list| new(&mut list.table));
        part(&mut rule.places, &new);
    }
    let mut old: Vec<Option<TableDef>> = tables.drain(..).map(Some).collect();
    tables.extend(order.into_iter().filter_map(|place| old[place].take()));
}

fn part(branch: &mut Branch<ResponsePart>, new: &impl Fn(&mut TableNo)) {
    for part in &mut branch.here {
        if let ResponsePart::Value(table, _) | ResponsePart::Rows(table, _) = part {
            new(table);
        }
    }
    branch.inside.branches_mut().for_each(|inside| self::part(inside, new));
}
