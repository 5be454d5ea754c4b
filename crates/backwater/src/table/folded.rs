//! Columns of texts made ready to be searched: those of a chunk one behind the other, folded as
//! the search asks, so that one search goes through all of them.
//!
//! They are made when somebody searches, stay with their chunk until it is written to, and are no
//! part of what the chunk holds: a copy begins without them.

use std::borrow::Cow;
use std::sync::OnceLock;

use crate::schema::FieldNo;

/// A text that others are searched for, in whatever way.
pub(crate) trait TextSearch {
    /// A text as the search sees it; the same for all searches.
    fn fold<'t>(&self, text: &'t str) -> Cow<'t, str>;

    /// The first place where folded texts hold what is searched for.
    fn find(&self, folded: &[u8]) -> Option<usize>;
}

/// In front of each text stands what no text holds, so that nothing is found across two of them.
const BORDER: u8 = 0xff;

/// The columns of a chunk that were searched.
#[derive(Default)]
pub(super) struct FoldedColumns(OnceLock<Box<FoldedColumn>>);

impl Clone for FoldedColumns {
    fn clone(&self) -> Self {
        Self::default()
    }
}

struct FoldedColumn {
    field: FieldNo,
    texts: Box<[u8]>,
    /// For each text its place in the chunk, and where it ends.
    ends: Box<[(u8, u32)]>,
    next: FoldedColumns,
}

impl FoldedColumns {
    /// Forgets them, as the chunk is written to.
    #[inline]
    pub(super) fn forget(&mut self) {
        if self.0.get().is_some() {
            self.0 = OnceLock::new();
        }
    }

    /// A bit for each place whose text is found; `texts` are those of the field with their places.
    pub(super) fn places<'t>(
        &self,
        field: FieldNo,
        search: &dyn TextSearch,
        texts: impl Fn() -> Box<dyn Iterator<Item = (usize, &'t str)> + 't>,
    ) -> u64 {
        let column = self.0.get_or_init(|| FoldedColumn::new(field, search, texts()).into());
        match column.field == field {
            true => column.places(search),
            false => column.next.places(field, search, texts),
        }
    }
}

impl FoldedColumn {
    fn new<'t>(
        field: FieldNo,
        search: &dyn TextSearch,
        each: impl Iterator<Item = (usize, &'t str)>,
    ) -> Self {
        let (mut texts, mut ends) = (Vec::new(), Vec::new());
        for (place, text) in each {
            texts.push(BORDER);
            texts.extend_from_slice(search.fold(text).as_bytes());
            ends.push((place as u8, texts.len() as u32));
        }
        let next = FoldedColumns::default();
        Self { field, texts: texts.into(), ends: ends.into(), next }
    }

    fn places(&self, search: &dyn TextSearch) -> u64 {
        let (mut bits, mut from, mut text) = (0, 0, 0);
        while let Some(found) = search.find(&self.texts[from..]) {
            // The empty text is found on each border, which is in front of its text.
            let found = (from + found) as u32;
            let Some(next) = self.ends[text..].iter().position(|(_, end)| found < *end) else {
                break;
            };
            let (place, end) = self.ends[text + next];
            bits |= 1 << place;
            from = end as usize;
            text += next + 1;
        }
        bits
    }
}
