//! Sizes at which queries switch to another way of doing the same. They affect time and memory,
//! never results: tests draw them at random.

/// The sizes that a cache is built with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) struct Tuning {
    /// From this many changed rows on, if they are also more than a sixteenth of all, a query is
    /// recomputed.
    pub(crate) recomputed_rows: usize,
    /// Up to this many changed rows, over this many commits, an unwatched query catches up by
    /// deltas.
    pub(crate) backlog_rows: usize,
    pub(crate) backlog_commits: u64,
    /// From this many rows on, if they are also more than an eighth of all, a rebound query is
    /// recomputed.
    pub(crate) rebound_rows: usize,
    /// Up to this many bindings of a group, it is sent only rows with the keys of one of them.
    pub(crate) listed_keys: usize,
    /// From this many rows on, the first result of a query is computed while commits go on.
    pub(crate) rows_apart: usize,
    /// With fewer rows than this, a table is searched for a text as quickly as what was found by
    /// the last one.
    pub(crate) searched_texts: usize,
    /// Rows kept behind those that a LIMIT shows, in reserve for rows that leave.
    pub(crate) rows_beyond_excerpt: usize,
    /// From this many rows found for a LIMIT on, those that it does not need are dropped while
    /// others are looked for.
    pub(crate) pruned_rows: usize,
    /// From this many changed rows on, what is the same for all of them is found out first.
    pub(crate) prepared_rows: usize,
}

impl Default for Tuning {
    fn default() -> Self {
        Self {
            recomputed_rows: 512,
            backlog_rows: 512,
            backlog_commits: 256,
            rebound_rows: 64,
            listed_keys: 4,
            rows_apart: 10_000,
            searched_texts: 1024,
            rows_beyond_excerpt: 256,
            pruned_rows: 1 << 20,
            prepared_rows: 64,
        }
    }
}

#[cfg(test)]
impl Tuning {
    /// The shipped sizes, or small ones, so that a few rows take every way.
    pub(crate) fn any() -> impl proptest::strategy::Strategy<Value = Self> {
        use proptest::prelude::*;
        let small = || prop::sample::select(vec![0, 1, 2, 4, 8, usize::MAX]);
        let drawn = [(); Self::SIZES].map(|()| small()).prop_map(Self::of);
        prop_oneof![1 => Just(Self::default()), 4 => drawn]
    }

    /// How many sizes there are.
    pub(crate) const SIZES: usize = 10;

    pub(crate) fn of(sizes: [usize; Self::SIZES]) -> Self {
        let mut sizes = sizes.into_iter();
        let mut next = || sizes.next().unwrap_or_default();
        Self {
            recomputed_rows: next(),
            backlog_rows: next(),
            backlog_commits: next() as u64,
            rebound_rows: next(),
            listed_keys: next(),
            rows_apart: next(),
            searched_texts: next(),
            rows_beyond_excerpt: next(),
            pruned_rows: next(),
            prepared_rows: next(),
        }
    }

    /// The sizes, as [`Self::of`] takes them.
    pub(crate) fn numbers(&self) -> [usize; Self::SIZES] {
        [
            self.recomputed_rows,
            self.backlog_rows,
            self.backlog_commits as usize,
            self.rebound_rows,
            self.listed_keys,
            self.rows_apart,
            self.searched_texts,
            self.rows_beyond_excerpt,
            self.pruned_rows,
            self.prepared_rows,
        ]
    }
}
