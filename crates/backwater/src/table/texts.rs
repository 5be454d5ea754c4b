//! The texts of one chunk that are no symbols, side by side in one buffer.

use std::sync::Arc;

/// A longer text has an allocation of its own, so that its neighbours can be written without it.
const LONGEST: usize = 4096;
/// The mark of a text of its own, whose number is in the other bits.
const APART: u32 = 1 << 31;
/// A text's length stands in front of it in a byte below this, or else in five of seven bits
/// behind this one: ASCII all of them, so that the buffer is UTF-8.
const LONG: u8 = 0x7f;

/// Texts by their places. One that is written over stays behind as waste until the chunk is
/// compacted.
#[derive(Clone, Default)]
pub(super) struct Texts {
    buffer: String,
    apart: Vec<Option<Arc<str>>>,
    /// How much of the buffer no row points at any more.
    waste: usize,
}

impl Texts {
    pub(super) fn get(&self, place: u32) -> &str {
        if place & APART != 0 {
            return self.apart[(place & !APART) as usize].as_deref().unwrap_or_default();
        }
        let (start, len) = self.span(place);
        &self.buffer[start..start + len]
    }

    /// Where a text begins and how long it is.
    fn span(&self, place: u32) -> (usize, usize) {
        let bytes = &self.buffer.as_bytes()[place as usize..];
        match bytes[0] {
            LONG => {
                let len = bytes[1..6].iter().rev().fold(0, |len, byte| len << 7 | *byte as usize);
                (place as usize + 6, len)
            }
            short => (place as usize + 1, short as usize),
        }
    }

    /// Adds a text; gives its place.
    pub(super) fn add(&mut self, text: &str) -> u32 {
        if text.len() > LONGEST {
            let free = self.apart.iter().position(Option::is_none);
            let number = free.unwrap_or_else(|| {
                self.apart.push(None);
                self.apart.len() - 1
            });
            self.apart[number] = Some(text.into());
            return APART | number as u32;
        }
        let place = self.buffer.len() as u32;
        debug_assert!(place & APART == 0, "a chunk has few and short texts in its buffer");
        if text.len() < LONG as usize {
            self.buffer.push(char::from(text.len() as u8));
        } else {
            self.buffer.push(char::from(LONG));
            for byte in 0..5 {
                self.buffer.push(char::from((text.len() >> (7 * byte)) as u8 & 0x7f));
            }
        }
        self.buffer.push_str(text);
        place
    }

    pub(super) fn remove(&mut self, place: u32) {
        if place & APART != 0 {
            self.apart[(place & !APART) as usize] = None;
        } else {
            let (start, len) = self.span(place);
            self.waste += start + len - place as usize;
        }
    }

    /// Whether more than half of the buffer is waste.
    pub(super) fn is_wasteful(&self) -> bool {
        self.waste > 64 && self.waste * 2 > self.buffer.len()
    }

    #[cfg(test)]
    pub(super) fn buffer_len(&self) -> usize {
        self.buffer.len()
    }
}
