//! Where a field lies in the rows of a table: words of 32 bits, the states of all fields first.

use super::dictionary::Dictionary;
use crate::schema::{FieldKind, FieldNo};

/// Two bits of state a field, this many fields in a word.
const STATES: usize = 16;

/// The layout of a table's rows, shared by all versions of the table.
pub(super) struct Layout {
    fields: Box<[FieldPlace]>,
    /// The fields of the words that hold values.
    of_words: Box<[FieldNo]>,
    /// How many words a row has.
    width: usize,
}

/// Where a field's state and value lie in a row.
pub(super) struct FieldPlace {
    pub(super) kind: FieldKind,
    pub(super) state_word: u16,
    pub(super) shift: u8,
    /// The first word of the value.
    pub(super) word: u16,
    pub(super) dictionary: Dictionary,
}

impl Layout {
    pub(super) fn new(kinds: impl ExactSizeIterator<Item = FieldKind>) -> Self {
        let mut word = kinds.len().div_ceil(STATES);
        let mut of_words = Vec::new();
        let fields = kinds.enumerate().map(|(number, kind)| {
            let place = FieldPlace {
                kind,
                state_word: (number / STATES) as u16,
                shift: (number % STATES * 2) as u8,
                word: word as u16,
                dictionary: Dictionary::default(),
            };
            word += words(kind);
            of_words.extend(std::iter::repeat_n(FieldNo(number as u32), words(kind)));
            place
        });
        let fields = fields.collect();
        Self { fields, of_words: of_words.into(), width: word }
    }

    pub(super) fn width(&self) -> usize {
        self.width
    }

    #[inline]
    pub(super) fn place(&self, field: FieldNo) -> &FieldPlace {
        &self.fields[field.index()]
    }

    pub(super) fn places(&self) -> &[FieldPlace] {
        &self.fields
    }

    pub(super) fn field_numbers(&self) -> impl Iterator<Item = FieldNo> + use<> {
        (0..self.fields.len() as u32).map(FieldNo)
    }

    /// The fields of which something stands in these bits of a row's word.
    pub(super) fn fields_of_word(&self, word: usize, bits: u32) -> impl Iterator<Item = FieldNo> {
        let states = self.width - self.of_words.len();
        let of_value = word.checked_sub(states).map(|value| self.of_words[value]);
        let mut left = if of_value.is_none() { (bits | bits >> 1) & 0x5555_5555 } else { 0 };
        let of_states = std::iter::from_fn(move || {
            let first = (left != 0).then(|| left.trailing_zeros())?;
            left &= left - 1;
            Some(FieldNo((word * STATES) as u32 + first / 2))
        });
        of_value.into_iter().chain(of_states)
    }
}

/// How many words a value takes; a boolean is in its state alone.
fn words(kind: FieldKind) -> usize {
    match kind {
        FieldKind::Int
        | FieldKind::Float
        | FieldKind::Timestamp
        | FieldKind::OneOf
        | FieldKind::Links(_) => 2,
        FieldKind::Bool => 0,
        FieldKind::Text | FieldKind::Json | FieldKind::Link(_) => 1,
    }
}
