//! Columns of texts prepared for searches: those of a chunk one behind the other, folded as the
//! search needs, so that one search goes through all of them.
//!
//! They are made by the first search, stay with their chunk until it is written to, and are no part
//! of what the chunk holds: a copy begins without them.

use std::borrow::Cow;
use std::sync::OnceLock;

use wide::u8x64;

use super::chunk::{Bits, CHUNK};
use crate::schema::FieldNo;

/// A text that others are searched for.
pub(crate) trait TextSearch {
    /// A text as the search sees it; the same for all searches.
    fn fold<'t>(&self, text: &'t str) -> Cow<'t, str>;

    /// What is searched for, as it stands in such texts.
    fn sought(&self) -> &[u8];
}

/// In front of each text stands what no text holds, so that nothing is found across two of them.
const BORDER: u8 = 0xff;

/// How many bytes are looked at at once.
const BLOCK: usize = 64;

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
    /// A bit for each place that has a text.
    places: u64,
    /// For each place which of the letters a to z its text has: what is typed first is one letter.
    letters: [u32; CHUNK],
    texts: FoldedTexts,
    next: FoldedColumns,
}

/// Texts one behind the other, as searches see them.
#[derive(Debug, Default)]
pub(crate) struct FoldedTexts {
    texts: Vec<u8>,
    /// Where each of them ends.
    ends: Vec<u32>,
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
            true => column.found(search),
            false => column.next.places(field, search, texts),
        }
    }

    /// Copies the texts of some places, if the column is ready.
    pub(super) fn copy(&self, places: u64, field: FieldNo, into: &mut FoldedTexts) {
        let Some(column) = self.0.get() else { return };
        if column.field != field {
            return column.next.copy(places, field, into);
        }
        for at in Bits(places & column.places).ones() {
            let before = column.places & ((1 << at) - 1);
            into.copy(&column.texts, before.count_ones() as usize);
        }
    }
}

impl FoldedColumn {
    fn new<'t>(
        field: FieldNo,
        search: &dyn TextSearch,
        each: impl Iterator<Item = (usize, &'t str)>,
    ) -> Self {
        let (mut places, mut letters, mut texts) = (0, [0; CHUNK], FoldedTexts::default());
        for (place, text) in each {
            let folded = search.fold(text);
            places |= 1 << place;
            letters[place] = folded.bytes().fold(0, |all, byte| all | letter(byte));
            texts.push(folded.as_bytes());
        }
        texts.shrink();
        Self { field, places, letters, texts, next: FoldedColumns::default() }
    }

    /// A bit for each place whose text is found.
    fn found(&self, search: &dyn TextSearch) -> u64 {
        if let [byte] = *search.sought()
            && letter(byte) != 0
        {
            let has =
                |(place, letters): (usize, &u32)| u64::from(letters & letter(byte) != 0) << place;
            return self.letters.iter().enumerate().map(has).fold(0, |all, bit| all | bit);
        }
        let (mut bits, mut left, mut number) = (0, self.places, 0);
        self.texts.each_found(search.sought(), |found| {
            // The bit of the text of that number.
            while number < found {
                left &= left - 1;
                number += 1;
            }
            bits |= left & left.wrapping_neg();
        });
        bits
    }
}

/// The bit of a letter; none for any other byte.
#[inline]
fn letter(byte: u8) -> u32 {
    match byte {
        b'a'..=b'z' => 1 << (byte - b'a'),
        _ => 0,
    }
}

impl FoldedTexts {
    /// Adds a text that is folded.
    fn push(&mut self, folded: &[u8]) {
        self.texts.push(BORDER);
        self.texts.extend_from_slice(folded);
        self.ends.push(self.texts.len() as u32);
    }

    /// Adds one of other texts.
    pub(crate) fn copy(&mut self, of: &Self, number: usize) {
        let from = number.checked_sub(1).map_or(0, |before| of.ends[before]);
        self.texts.extend_from_slice(&of.texts[from as usize..of.ends[number] as usize]);
        self.ends.push(self.texts.len() as u32);
    }

    fn shrink(&mut self) {
        self.texts.shrink_to_fit();
        self.ends.shrink_to_fit();
    }

    pub(crate) fn bytes(&self) -> usize {
        self.texts.capacity() + self.ends.capacity() * size_of::<u32>()
    }

    /// Calls `each` with the numbers of the texts that hold a needle, in order.
    pub(crate) fn each_found(&self, needle: &[u8], mut each: impl FnMut(usize)) {
        let (Some(first), Some(last)) = (needle.first(), needle.last()) else {
            return (0..self.ends.len()).for_each(each);
        };
        let (first, last, span) = (u8x64::splat(*first), u8x64::splat(*last), needle.len() - 1);
        // A text is done with as soon as it is found: what lies before `from` counts no more.
        let (mut text, mut from, mut block) = (0, 0, 0);
        while block + span < self.texts.len() {
            let ends = self.block(block).simd_eq(first) & self.block(block + span).simd_eq(last);
            let mut places = ends.to_bitmask();
            while places != 0 {
                let place = block + places.trailing_zeros() as usize;
                places &= places - 1;
                if span > 1 && self.texts[place + 1..place + span] != needle[1..span] {
                    continue;
                }
                while self.ends[text] as usize <= place {
                    text += 1;
                }
                each(text);
                from = self.ends[text] as usize;
                text += 1;
                places &= u64::MAX.checked_shl((from - block) as u32).unwrap_or(0);
            }
            block = from.max(block + BLOCK);
        }
    }

    /// As many bytes from a place on; behind the last text stand borders.
    #[inline]
    fn block(&self, at: usize) -> u8x64 {
        let rest = &self.texts[at..];
        match rest.first_chunk() {
            Some(block) => u8x64::from(*block),
            None => {
                let mut block = [BORDER; BLOCK];
                block[..rest.len()].copy_from_slice(rest);
                u8x64::from(block)
            }
        }
    }
}
