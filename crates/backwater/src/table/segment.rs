//! One field's cells in one chunk: typed values side by side, and two state bits a slot.

use super::dictionary::{Dictionary, Symbol};
use super::{Cell, Slot};
use crate::schema::Kind;
use crate::value::Timestamp;

/// How many slots a chunk has.
pub(crate) const CHUNK: usize = 256;

/// A bit for each slot of a chunk.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Bits([u64; CHUNK / 64]);

impl Bits {
    pub(crate) fn get(&self, at: usize) -> bool {
        self.0[at / 64] >> (at % 64) & 1 == 1
    }

    pub(crate) fn set(&mut self, at: usize, on: bool) {
        let bit = 1 << (at % 64);
        if on {
            self.0[at / 64] |= bit;
        } else {
            self.0[at / 64] &= !bit;
        }
    }

    pub(crate) fn ones(self) -> impl Iterator<Item = usize> {
        self.0.into_iter().enumerate().flat_map(|(number, mut word)| {
            std::iter::from_fn(move || {
                let at = (word != 0).then(|| word.trailing_zeros() as usize)?;
                word &= word - 1;
                Some(number * 64 + at)
            })
        })
    }
}

/// The cells of a field in a chunk. A slot is in `valued`, in `null`, or in neither: absent.
#[derive(Clone)]
pub(super) struct Segment {
    valued: Bits,
    null: Bits,
    values: Values,
}

#[derive(Clone)]
enum Values {
    Int(Vec<i64>),
    Float(Vec<f64>),
    Bool(Bits),
    Timestamp(Vec<Timestamp>),
    Link(Vec<u32>),
    /// Texts that repeat, by their numbers in the field's dictionary.
    Symbols(Vec<u32>),
    Texts(Texts),
    Json(Texts),
}

/// Texts side by side in one buffer. A text that is written over stays behind as waste until half
/// of the buffer is waste.
#[derive(Clone, Default)]
struct Texts {
    bytes: String,
    spans: Vec<(u32, u32)>,
    waste: usize,
}

impl Texts {
    fn get(&self, at: usize) -> &str {
        let (start, len) = self.spans[at];
        &self.bytes[start as usize..(start + len) as usize]
    }

    fn set(&mut self, at: usize, text: &str) {
        let spans = &mut self.spans;
        if spans.len() <= at {
            spans.resize(at + 1, (0, 0));
        }
        self.waste += spans[at].1 as usize;
        spans[at] = (self.bytes.len() as u32, text.len() as u32);
        self.bytes.push_str(text);
        if self.waste > 64 && self.waste * 2 > self.bytes.len() {
            self.compact();
        }
    }

    fn clear(&mut self, at: usize) {
        if at < self.spans.len() {
            self.set(at, "");
        }
    }

    fn compact(&mut self) {
        let mut bytes = String::with_capacity(self.bytes.len() - self.waste);
        for (start, len) in &mut self.spans {
            let text = &self.bytes[*start as usize..(*start + *len) as usize];
            *start = bytes.len() as u32;
            bytes.push_str(text);
        }
        self.bytes = bytes;
        self.waste = 0;
    }
}

impl Segment {
    pub(super) fn new(kind: Kind) -> Self {
        let values = match kind {
            Kind::Int => Values::Int(Vec::new()),
            Kind::Float => Values::Float(Vec::new()),
            Kind::Bool => Values::Bool(Bits::default()),
            Kind::Text => Values::Symbols(Vec::new()),
            Kind::Timestamp => Values::Timestamp(Vec::new()),
            Kind::Json => Values::Json(Texts::default()),
            Kind::Link(_) => Values::Link(Vec::new()),
        };
        Self { valued: Bits::default(), null: Bits::default(), values }
    }

    pub(super) fn is_absent(&self, at: usize) -> bool {
        !self.valued.get(at) && !self.null.get(at)
    }

    pub(super) fn get<'a>(&'a self, at: usize, dictionary: &'a Dictionary) -> Cell<'a> {
        if !self.valued.get(at) {
            return if self.null.get(at) { Cell::Null } else { Cell::Absent };
        }
        match &self.values {
            Values::Int(values) => Cell::Int(values[at]),
            Values::Float(values) => Cell::Float(values[at]),
            Values::Bool(values) => Cell::Bool(values.get(at)),
            Values::Timestamp(values) => Cell::Timestamp(values[at]),
            Values::Link(values) => Cell::Link(Slot(values[at])),
            Values::Symbols(values) => Cell::Text(dictionary.text(Symbol(values[at]))),
            Values::Texts(texts) => Cell::Text(texts.get(at)),
            Values::Json(texts) => Cell::Json(texts.get(at)),
        }
    }

    /// Writes a cell, whose type is the field's: whoever writes has checked that.
    pub(super) fn set(&mut self, at: usize, cell: Cell<'_>, dictionary: &Dictionary) {
        match (&mut self.values, cell) {
            (_, Cell::Absent) => return self.clear(at),
            (_, Cell::Null) => {
                self.clear(at);
                self.null.set(at, true);
                return;
            }
            (Values::Int(values), Cell::Int(value)) => put(values, at, value),
            (Values::Float(values), Cell::Float(value)) => put(values, at, value + 0.0),
            (Values::Bool(values), Cell::Bool(value)) => values.set(at, value),
            (Values::Timestamp(values), Cell::Timestamp(value)) => put(values, at, value),
            (Values::Link(values), Cell::Link(Slot(value))) => put(values, at, value),
            (Values::Texts(texts), Cell::Text(value))
            | (Values::Json(texts), Cell::Json(value)) => {
                texts.set(at, value);
            }
            (Values::Symbols(symbols), Cell::Text(value)) => match dictionary.intern(value) {
                Some(Symbol(symbol)) => put(symbols, at, symbol),
                None => {
                    self.spell_out(dictionary);
                    return self.set(at, cell, dictionary);
                }
            },
            _ => {
                debug_assert!(false, "a cell of another type than its field");
                return;
            }
        }
        self.valued.set(at, true);
        self.null.set(at, false);
    }

    pub(super) fn clear(&mut self, at: usize) {
        self.valued.set(at, false);
        self.null.set(at, false);
        if let Values::Texts(texts) | Values::Json(texts) = &mut self.values {
            texts.clear(at);
        }
    }

    /// Replaces symbols by the texts that they stand for.
    fn spell_out(&mut self, dictionary: &Dictionary) {
        if let Values::Symbols(symbols) = &self.values {
            let mut texts = Texts::default();
            for at in self.valued.ones() {
                texts.set(at, dictionary.text(Symbol(symbols[at])));
            }
            self.values = Values::Texts(texts);
        }
    }
}

fn put<T: Copy + Default>(values: &mut Vec<T>, at: usize, value: T) {
    if values.len() <= at {
        values.resize(at + 1, T::default());
    }
    values[at] = value;
}
