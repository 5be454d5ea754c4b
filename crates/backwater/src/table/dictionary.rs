//! Texts that repeat in a field, each kept once and called by a number.

use std::hash::Hasher;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use rustc_hash::FxHasher;

/// Longer texts are not worth a look-up.
const LONGEST: usize = 40;
/// A field with more different texts than this is taken for one whose texts do not repeat.
const MOST: usize = 512;
/// How many texts lie together, made room for as one.
const SHELF: usize = 32;
/// Up to this many texts are found in a small table, and all in a large one.
const FEW: usize = 32;

/// A text's number in a field's dictionary.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Symbol(pub(super) u32);

/// A field's dictionary, shared by all versions of its table. It only grows, up to a small bound,
/// and reading it takes no lock: each text is written once, and its number is found by its hash in a
/// table that is at most half full.
#[derive(Clone, Default)]
pub(super) struct Dictionary(Arc<DictionaryInner>);

/// Places for texts, made as one, each filled once.
type Shelf = OnceLock<Box<[OnceLock<Arc<str>>; SHELF]>>;
/// Numbers of texts, each as near behind the place that its hash says as there is room: as many
/// places as a power of two.
type Numbers = OnceLock<Box<[OnceLock<u32>]>>;

#[derive(Default)]
struct DictionaryInner {
    shelves: [Shelf; MOST / SHELF],
    few: Numbers,
    all: Numbers,
    /// How many texts there are; held while one is added.
    len: Mutex<usize>,
    is_full: AtomicBool,
}

impl Dictionary {
    /// The text of a symbol that this dictionary gave out.
    #[inline]
    pub(super) fn text(&self, symbol: Symbol) -> &str {
        self.shared(symbol).map_or("", |text| text)
    }

    /// The same, for an owner.
    #[inline(always)]
    pub(super) fn shared(&self, symbol: Symbol) -> Option<&Arc<str>> {
        let (shelf, place) = shelf(symbol);
        self.0.shelves[shelf].get()?[place].get()
    }

    /// The symbol of a text, or `None` when it is better kept beside its row.
    #[inline]
    pub(super) fn intern(&self, text: &str) -> Option<Symbol> {
        if text.len() > LONGEST {
            return None;
        }
        let hash = hash(text);
        match self.find(text, hash) {
            None if self.0.is_full.load(Ordering::Relaxed) => None,
            None => self.add(text, hash),
            known => known,
        }
    }

    fn find(&self, text: &str, hash: usize) -> Option<Symbol> {
        let numbers = self.0.all.get().or_else(|| self.0.few.get())?;
        let places = places(hash, numbers.len()).map_while(|at| numbers[at].get());
        places.map(|number| Symbol(*number)).find(|symbol| self.text(*symbol) == text)
    }

    #[cold]
    fn add(&self, text: &str, hash: usize) -> Option<Symbol> {
        let mut len = self.0.len.lock().unwrap_or_else(PoisonError::into_inner);
        // Another thread may have added it.
        if let known @ Some(_) = self.find(text, hash) {
            return known;
        }
        if *len >= MOST {
            self.0.is_full.store(true, Ordering::Relaxed);
            return None;
        }
        let symbol = Symbol(*len as u32);
        let (shelf, place) = shelf(symbol);
        let shelf = self.0.shelves[shelf].get_or_init(Box::default);
        let _ = shelf[place].set(text.into());
        let empty = |len: usize| (0..len * 2).map(|_| OnceLock::new()).collect();
        if *len < FEW {
            put(self.0.few.get_or_init(|| empty(FEW)), hash, symbol);
        } else {
            let all = self.0.all.get_or_init(|| {
                let all: Box<[OnceLock<u32>]> = empty(MOST);
                let known = (0..symbol.0).map(Symbol);
                known.for_each(|symbol| put(&all, self::hash(self.text(symbol)), symbol));
                all
            });
            put(all, hash, symbol);
        }
        *len += 1;
        Some(symbol)
    }
}

/// Puts a number into the next free place.
fn put(numbers: &[OnceLock<u32>], hash: usize, symbol: Symbol) {
    let mut places = places(hash, numbers.len());
    places.find(|at| numbers[*at].set(symbol.0).is_ok());
}

/// The places of such a table, from the one that a hash says on.
fn places(hash: usize, len: usize) -> impl Iterator<Item = usize> {
    (0..len).map(move |step| (hash + step) & (len - 1))
}

fn hash(text: &str) -> usize {
    let mut hasher = FxHasher::default();
    hasher.write(text.as_bytes());
    (hasher.finish() >> 32) as usize
}

/// Which shelf, and where on it.
#[inline(always)]
fn shelf(symbol: Symbol) -> (usize, usize) {
    (symbol.0 as usize / SHELF, symbol.0 as usize % SHELF)
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;

    /// Threads that meet the same texts agree on their symbols. One that looks for a text just before
    /// another one adds it, and fills the dictionary, may be told that it has none.
    #[test]
    fn threads_agree() {
        let dictionary = Dictionary::default();
        let symbols = |from: usize| -> Vec<Option<Symbol>> {
            let texts = (0..MOST + 100).map(|n| format!("text {}", (n + from) % (MOST + 100)));
            texts.map(|text| dictionary.intern(&text)).collect()
        };
        let parts = std::thread::scope(|scope| {
            let threads = [0, 77, 300].map(|from| (from, scope.spawn(move || symbols(from))));
            threads.map(|(from, thread)| (from, thread.join().unwrap()))
        });
        let mut given = HashSet::new();
        for (from, symbols) in parts {
            for (n, symbol) in symbols.into_iter().enumerate() {
                let text = format!("text {}", (n + from) % (MOST + 100));
                if let Some(symbol) = symbol {
                    assert_eq!(dictionary.intern(&text), Some(symbol));
                    assert_eq!(dictionary.text(symbol), text);
                    given.insert(symbol.0);
                }
            }
        }
        assert_eq!(given.len(), MOST);
    }

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
