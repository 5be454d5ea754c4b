//! A result from that of a binding with wider conditions: rows only leave. The texts that a search
//! has gone through are kept for the next letter, which takes half as long then (`search/letters`).

use std::sync::Arc;

use super::{Filter, Plain};
use crate::query::expr::fold::Needle;
use crate::query::operator::limit::thinned;
use crate::query::operator::order::moves::{Moved, Moves};
use crate::query::operator::order::ordered::{Ordered, Slots};
use crate::query::operator::order::rank_tree::RankTree;
use crate::query::operator::view::View;
use crate::query::plan::{BoundPlan, Excerpt, Relation, Source};
use crate::schema::{FieldNo, Tuning};
use crate::table::{Bits, CHUNK, FoldedTexts, Slot, TableRows, TextSearch};

/// Of the rows of a result the texts that were searched, and those of some others: the next letter
/// has only these to go through.
pub(crate) struct SearchedTexts {
    field: FieldNo,
    /// How often the table had been written to.
    writes: u64,
    slots: Vec<Slot>,
    texts: FoldedTexts,
}

/// More bytes than this are not worth to be kept.
const MOST_BYTES: usize = 64 << 20;

impl SearchedTexts {
    fn new(table: &TableRows, field: FieldNo) -> Self {
        let texts = FoldedTexts::default();
        Self { field, writes: table.writes(), slots: Vec::new(), texts }
    }

    pub(crate) fn bytes(&self) -> usize {
        self.texts.bytes() + self.slots.capacity() * size_of::<Slot>()
    }
}

/// Which rows of a table are selected.
struct Places {
    /// A bit for each slot, chunk by chunk.
    bits: Vec<u64>,
    count: usize,
    /// Whether these are all rows that could be in the result.
    are_all: bool,
}

impl Places {
    /// Those among the rows of an order, and the texts that were searched, if they are worth to be
    /// kept.
    fn of<E: Slots>(
        table: &TableRows,
        plain: &Plain<'_>,
        ranked: &RankTree<E>,
        tuning: &Tuning,
    ) -> (Self, Option<SearchedTexts>) {
        let selection = plain.selection();
        let mut chunks = Vec::new();
        if ranked.len() < table.rows() as usize / 8 {
            chunks.resize(table.slots().div_ceil(CHUNK), false);
            let mut mark = |entry: &E| chunks[entry.slots()[0].0 as usize / CHUNK] = true;
            ranked.each(0..ranked.len(), |_, _, entry| mark(entry));
        }
        let is_met = |chunk: usize| chunks.get(chunk).is_none_or(|is_met| *is_met);
        let search = plain.only_search().filter(|_| table.rows() as usize >= tuning.searched_texts);
        let mut kept = search.map(|(field, _)| SearchedTexts::new(table, field));
        let (mut bits, mut count) = (Vec::new(), 0);
        for chunk in 0..table.slots().div_ceil(CHUNK) {
            let places = if is_met(chunk) { table.places_in(chunk, &selection) } else { 0 };
            bits.push(places);
            count += Bits(places).len();
            if let Some(SearchedTexts { field, slots, texts, .. }) = &mut kept {
                table.copy_folded(chunk, places, *field, texts);
                slots.extend(Bits(places).ones().map(|at| Slot((chunk * CHUNK + at) as u32)));
                // Of many that are found, the next letter will find fewer.
                let seen = bits.len() * CHUNK;
                if seen >= tuning.searched_texts && count > seen / 2 || texts.bytes() > MOST_BYTES {
                    kept = None;
                }
            }
        }
        (Self { bits, count, are_all: count == table.rows() as usize }, kept)
    }

    /// Those among texts that were searched before.
    fn among(
        table: &TableRows,
        needle: &Needle,
        known: &Arc<SearchedTexts>,
    ) -> (Self, Arc<SearchedTexts>) {
        let mut found: Vec<usize> = Vec::with_capacity(known.slots.len());
        known.texts.each_found(needle.sought(), |number| found.push(number));
        if found.len() == known.slots.len() {
            return (Self { bits: Vec::new(), count: found.len(), are_all: true }, known.clone());
        }
        let mut bits = vec![0; table.slots().div_ceil(CHUNK)];
        let mut kept = SearchedTexts::new(table, known.field);
        for number in &found {
            let slot = known.slots[*number];
            bits[slot.0 as usize / CHUNK] |= 1 << (slot.0 as usize % CHUNK);
            kept.slots.push(slot);
            kept.texts.copy(&known.texts, *number);
        }
        (Self { bits, count: found.len(), are_all: false }, Arc::new(kept))
    }

    #[inline]
    fn has(&self, slot: Slot) -> bool {
        let (chunk, at) = (slot.0 as usize / CHUNK, slot.0 as usize % CHUNK);
        self.bits[chunk] >> at & 1 == 1
    }
}

/// A result that was narrowed: its rows, how they have moved, and the texts that were searched, if
/// it is worth to keep them.
pub(crate) type Narrowed<O> = (O, Moves, Option<Arc<SearchedTexts>>);

/// The rows of a result that meet the narrower conditions of another binding; `searched` are the texts
/// that were searched for it. `None` if rows keep their values, of which nothing can be tested.
pub(crate) fn narrowed(
    ordered: &Ordered,
    view: &View<'_>,
    to: &BoundPlan,
    old: Excerpt,
    searched: Option<&Arc<SearchedTexts>>,
) -> Option<Narrowed<Ordered>> {
    fn of<E>(
        (ranked, moved, texts): Narrowed<RankTree<E>>,
        of: fn(RankTree<E>) -> Ordered,
    ) -> Option<Narrowed<Ordered>> {
        Some((of(ranked), moved, texts))
    }
    match ordered {
        Ordered::One(ranked) => of(those_that_meet(ranked, view, to, old, searched), Ordered::One),
        Ordered::Two(ranked) => of(those_that_meet(ranked, view, to, old, None), Ordered::Two),
        Ordered::Many(ranked) => of(those_that_meet(ranked, view, to, old, None), Ordered::Many),
        Ordered::Kept(..) => None,
    }
}

/// The entries of an order that meet conditions.
fn those_that_meet<E: Slots>(
    ranked: &RankTree<E>,
    view: &View<'_>,
    to: &BoundPlan,
    old: Excerpt,
    searched: Option<&Arc<SearchedTexts>>,
) -> Narrowed<RankTree<E>> {
    let mut filter = Filter::of(&to.plan.late, &to.params);
    let len = ranked.len();
    let (mut stays, mut left, mut kept) = (Ranks::none(len), Vec::new(), None);
    if let [Source { relation: Relation::Table(number), .. }] = &*to.plan.sources {
        let table = view.state.table(*number);
        let plain = filter.take_plain(table);
        let unfiltered = filter.is_empty();
        let places = match (plain.only_search().filter(|_| unfiltered), searched) {
            (Some((field, needle)), Some(known))
                if known.field == field && known.writes == table.writes() =>
            {
                let (places, texts) = Places::among(table, needle, known);
                kept = Some(texts);
                places
            }
            _ => {
                let (places, texts) = Places::of(table, &plain, ranked, &view.plan.tuning);
                kept = texts.filter(|_| unfiltered).map(Arc::new);
                places
            }
        };
        if unfiltered && places.are_all {
            stays = Ranks::all(len);
        } else {
            let mut read = view.row_reader(*number);
            left.reserve(places.count.min(len));
            ranked.each(0..len, |rank, prefix, entry| {
                let slot = entry.slots()[0];
                if places.has(slot) && (unfiltered || filter.holds(&read(slot))) {
                    stays.add(rank);
                    left.push((prefix, entry.clone()));
                }
            });
        }
    } else {
        ranked.each(0..len, |rank, prefix, entry| {
            if filter.holds(&view.row(entry.slots())) {
                stays.add(rank);
                left.push((prefix, entry.clone()));
            }
        });
    }

    let moved = if old.is_whole() && to.excerpt.is_whole() {
        let mut gone: Vec<Moved> = Vec::with_capacity(len - stays.count);
        gone.extend(stays.others(len).map(Moved::left));
        gone.into()
    } else {
        let mut next = 0..;
        let after = |rank: usize| (rank, stays.has(rank).then(|| next.next()).flatten());
        thinned((0..len).map(after), old, to.excerpt)
    };
    let ordered = match stays.count == len {
        true => ranked.clone(),
        false => RankTree::from_sorted(&mut left.into_iter()),
    };
    (ordered, moved, kept)
}

/// Some of the ranks of an order.
struct Ranks {
    bits: Vec<u64>,
    count: usize,
}

impl Ranks {
    fn none(len: usize) -> Self {
        Self { bits: vec![0; len.div_ceil(64)], count: 0 }
    }

    fn all(len: usize) -> Self {
        Self { bits: vec![u64::MAX; len.div_ceil(64)], count: len }
    }

    /// Adds a rank that is not among them.
    #[inline]
    fn add(&mut self, rank: usize) {
        self.bits[rank / 64] |= 1 << (rank % 64);
        self.count += 1;
    }

    #[inline]
    fn has(&self, rank: usize) -> bool {
        self.bits[rank / 64] >> (rank % 64) & 1 == 1
    }

    /// The other ranks below a length.
    fn others(&self, len: usize) -> impl Iterator<Item = usize> {
        let words = self.bits.iter().enumerate();
        let others =
            words.flat_map(|(word, bits)| Bits(!bits).ones().map(move |bit| word * 64 + bit));
        others.take_while(move |rank| *rank < len)
    }
}
