//! A result in order: which rows it has, of tables or stored, in a rank tree of their kind.

use std::sync::Arc;

use crate::query::expr::Columns;
use crate::query::expr::scalar::{Key, Scalar};
use crate::query::operator::order::rank_tree::{Leaf, RankTree};
use crate::query::operator::rows::{Kept, KeptRow};
use crate::query::operator::statement_rows::StatementRow;
use crate::query::operator::view::{Tuple, View};
use crate::query::operator::window_values::WindowValues;
use crate::query::plan::Plan;
use crate::table::Slot;

/// A result in order, all of it: the excerpt is cut out where it is read.
#[derive(Clone)]
pub(crate) enum Ordered {
    /// Rows of one table.
    One(RankTree<Slot>),
    /// Rows of two tables that go together; they are half as large as others, and so a fifth
    /// faster to follow (`commit/join-fanout`).
    Two(RankTree<[Slot; 2]>),
    /// Rows of more tables.
    Many(RankTree<Tuple>),
    /// Rows that keep their values, and what window functions give for them.
    Kept(RankTree<Arc<KeptRow>>, WindowValues),
}

/// Dispatches on whether a result's rows are those of tables, by how many make a tuple, or stored
/// ones.
macro_rules! of_tables {
    ($kind:ident, $ordered:expr, $ranked:ident => $body:expr, kept $kept:ident, $given:pat => $other:expr) => {
        match $ordered {
            $kind::One($ranked) => $body,
            $kind::Two($ranked) => $body,
            $kind::Many($ranked) => $body,
            $kind::Kept($kept, $given) => $other,
        }
    };
}
pub(in crate::query) use of_tables;

/// Which rows of the tables an entry of an order is.
pub(crate) trait Slots: Clone {
    fn of(tuple: &[Slot]) -> Self;
    fn slots(&self) -> &[Slot];
}

impl Slots for Slot {
    fn of(tuple: &[Slot]) -> Self {
        tuple[0]
    }

    fn slots(&self) -> &[Slot] {
        std::slice::from_ref(self)
    }
}

impl Slots for [Slot; 2] {
    fn of(tuple: &[Slot]) -> Self {
        [tuple[0], tuple[1]]
    }

    fn slots(&self) -> &[Slot] {
        self
    }
}

impl Slots for Tuple {
    fn of(tuple: &[Slot]) -> Self {
        Tuple::from_slice(tuple)
    }

    fn slots(&self) -> &[Slot] {
        self
    }
}

/// A leaf of a result: rows that stand one after the other.
#[derive(Clone, Copy)]
pub(crate) enum LeafOf<'r> {
    One(&'r Leaf<Slot>),
    Two(&'r Leaf<[Slot; 2]>),
    Many(&'r Leaf<Tuple>),
    Kept(&'r Leaf<Arc<KeptRow>>, &'r WindowValues),
}

impl LeafOf<'_> {
    pub(crate) fn len(&self) -> usize {
        of_tables!(LeafOf, self, leaf => leaf.len(), kept leaf, _ => leaf.len())
    }
}

impl Ordered {
    /// The leaf that holds a rank, and its place there.
    pub(crate) fn leaf(&self, rank: usize) -> Option<(LeafOf<'_>, usize)> {
        Some(match self {
            Ordered::One(ranked) => one_of(ranked.leaf(rank)?, LeafOf::One),
            Ordered::Two(ranked) => one_of(ranked.leaf(rank)?, LeafOf::Two),
            Ordered::Many(ranked) => one_of(ranked.leaf(rank)?, LeafOf::Many),
            Ordered::Kept(ranked, given) => {
                let (leaf, place) = ranked.leaf(rank)?;
                (LeafOf::Kept(leaf, given), place)
            }
        })
    }

    pub(crate) fn len(&self) -> usize {
        of_tables!(Ordered, self, ranked => ranked.len(), kept ranked, _ => ranked.len())
    }

    /// Whether the rows up to this rank are there; else only the first ones are kept, and fewer.
    pub(crate) fn reaches(&self, rank: usize) -> bool {
        of_tables!(Ordered, self, ranked => ranked.reaches(rank), kept ranked, _ => ranked.reaches(rank))
    }

    /// Bytes that it takes, more or less.
    pub(crate) fn bytes(&self) -> usize {
        let one = of_tables!(Ordered, self, ranked => ranked.entry_bytes(), kept _ranked, _ => 160);
        self.len() * one
    }

    /// The entry of a rank as a statement that reads this one sees it.
    pub(crate) fn statement_row(
        &self,
        rank: usize,
        view: &View<'_>,
        params: &[Scalar<'static>],
    ) -> Option<(Box<[Key]>, StatementRow)> {
        of_tables!(
            Ordered, self,
            ranked => ranked.get(rank).map(|entry| row_of_tuple(entry.slots(), view, params)),
            kept ranked, given => ranked.get(rank).map(|row| kept_row(given.of(row), view.plan, params))
        )
    }
}

fn row_of_tuple(
    slots: &[Slot],
    view: &View<'_>,
    params: &[Scalar<'static>],
) -> (Box<[Key]>, StatementRow) {
    let row = view.row(slots);
    let key = view.key(slots);
    let place = key.iter().cloned().map(Key::from).collect();
    let values = outputs(view.plan, &row, params);
    (place, StatementRow { values, key: key.into(), failed: None })
}

fn kept_row(kept: Kept<'_>, plan: &Plan, params: &[Scalar<'static>]) -> (Box<[Key]>, StatementRow) {
    let (values, row) = (outputs(plan, &kept, params), kept.row);
    (row.place(), StatementRow { values, key: row.key().into(), failed: row.failed.clone() })
}

fn outputs<'a>(
    plan: &'a Plan,
    row: &impl Columns<'a>,
    params: &'a [Scalar<'static>],
) -> Box<[Scalar<'static>]> {
    plan.outputs.iter().map(|output| output.expr.eval(row, params).into_owned()).collect()
}

fn one_of<T, U, V>((one, with): (T, V), of: fn(T) -> U) -> (U, V) {
    (of(one), with)
}
