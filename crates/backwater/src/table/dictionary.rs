//! Texts that repeat in a field, each kept once and called by a number.

use std::sync::{Arc, OnceLock, PoisonError, RwLock};

use rustc_hash::FxBuildHasher;
use std::collections::HashMap;

/// Longer texts are not worth a look-up.
const LONGEST: usize = 40;
/// A field with more different texts than this is taken for one whose texts do not repeat.
const MOST: usize = 512;
const FIRST: usize = 16;

/// A text's number in a field's dictionary.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Symbol(pub(super) u32);

/// A field's dictionary, shared by all versions of its table. It only grows, up to a small bound,
/// and reading a symbol takes no lock: shelf `n` holds `FIRST << n` texts, each written once.
#[derive(Clone, Default)]
pub(super) struct Dictionary(Arc<Inner>);

/// Places for texts, made as one, each filled once.
type Shelf = OnceLock<Box<[OnceLock<Arc<str>>]>>;

#[derive(Default)]
struct Inner {
    shelves: [Shelf; 6],
    numbers: RwLock<HashMap<Arc<str>, u32, FxBuildHasher>>,
}

impl Dictionary {
    /// The text of a symbol that this dictionary gave out.
    #[inline]
    pub(super) fn text(&self, symbol: Symbol) -> &str {
        self.shared(symbol).map_or("", |text| text)
    }

    /// The same, for whoever keeps it.
    #[inline(always)]
    pub(super) fn shared(&self, symbol: Symbol) -> Option<&Arc<str>> {
        let (shelf, place) = shelf(symbol);
        self.0.shelves[shelf].get().and_then(|shelf| shelf[place].get())
    }

    /// The symbol of a text, or `None` when it is better kept beside its row.
    pub(super) fn intern(&self, text: &str) -> Option<Symbol> {
        if text.len() > LONGEST {
            return None;
        }
        let numbers = self.0.numbers.read().unwrap_or_else(PoisonError::into_inner);
        if let Some(number) = numbers.get(text) {
            return Some(Symbol(*number));
        }
        if numbers.len() >= MOST {
            return None;
        }
        drop(numbers);
        let mut numbers = self.0.numbers.write().unwrap_or_else(PoisonError::into_inner);
        if numbers.len() >= MOST {
            return None;
        }
        let number = numbers.len() as u32;
        let text: Arc<str> = text.into();
        let (shelf, place) = shelf(Symbol(number));
        let shelf = self.0.shelves[shelf]
            .get_or_init(|| (0..FIRST << shelf).map(|_| OnceLock::new()).collect());
        let _ = shelf[place].set(text.clone());
        numbers.insert(text, number);
        Some(Symbol(number))
    }
}

/// Which shelf, and where on it.
#[inline(always)]
fn shelf(symbol: Symbol) -> (usize, usize) {
    let shifted = symbol.0 as usize + FIRST;
    let shelf = (shifted.ilog2() - FIRST.ilog2()) as usize;
    (shelf, shifted - (FIRST << shelf))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn gives_each_text_one_symbol_up_to_its_bound() {
        let dictionary = Dictionary::default();
        let symbols: Vec<_> =
            (0..MOST).map(|n| dictionary.intern(&n.to_string()).unwrap()).collect();
        assert_eq!(dictionary.intern("one more"), None);
        assert_eq!(dictionary.intern(&"long ".repeat(20)), None);
        for (number, symbol) in symbols.into_iter().enumerate() {
            assert_eq!(dictionary.text(symbol), number.to_string());
            assert_eq!(dictionary.intern(&number.to_string()), Some(symbol));
        }
    }
}
