//! Where a field lies in the rows of a table: words of 32 bits, the states of all fields first.

use super::dictionary::Dictionary;
use crate::schema::{FieldKind, FieldNo};

/// Two bits of state a field, this many fields in a word.
const STATES: usize = 16;

/// The layout of a table's rows, shared by all versions of the table.
pub(super) struct Layout {
    fields: Box<[FieldPlace]>,
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
    /// How many words the value takes.
    pub(super) len: u16,
    pub(super) dictionary: Dictionary,
}

impl Layout {
    pub(super) fn new(kinds: impl ExactSizeIterator<Item = FieldKind>) -> Self {
        let mut word = kinds.len().div_ceil(STATES);
        let fields = kinds.enumerate().map(|(number, kind)| {
            let place = FieldPlace {
                kind,
                state_word: (number / STATES) as u16,
                shift: (number % STATES * 2) as u8,
                word: word as u16,
                len: words(kind) as u16,
                dictionary: Dictionary::default(),
            };
            word += words(kind);
            place
        });
        let fields = fields.collect();
        Self { fields, width: word }
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
