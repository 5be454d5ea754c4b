//! How texts compare: by their bytes, or by the collation of a statement.

use std::borrow::Cow;
use std::cmp::Ordering;
#[cfg(feature = "unicode")]
use std::sync::LazyLock;

#[cfg(feature = "unicode")]
use icu_collator::{CollationKeySink, CollatorBorrowed, options::CollatorOptions};

use crate::query::expr::scalar::Scalar;

/// An order of texts. Numbers and NULL stand as they stand without it.
#[derive(Clone, Copy, PartialEq, Eq, Default, Hash)]
pub(crate) enum Collation {
    /// By their bytes.
    #[default]
    Binary,
    /// As if the 26 letters of ASCII were small.
    NoCase,
    /// Without the spaces at their ends.
    RTrim,
    /// As people look names up: the root order of Unicode's collation algorithm (UTS #10).
    #[cfg(feature = "unicode")]
    Unicode,
}

/// Names as a statement writes them.
const NAMES: &[(&str, Collation)] = &[
    ("BINARY", Collation::Binary),
    ("NOCASE", Collation::NoCase),
    ("RTRIM", Collation::RTrim),
    #[cfg(feature = "unicode")]
    ("UNICODE", Collation::Unicode),
];

impl Collation {
    pub(crate) fn named(name: &str) -> Option<Self> {
        NAMES.iter().find(|(known, _)| known.eq_ignore_ascii_case(name)).map(|(_, one)| *one)
    }

    /// Whether it would be known with a feature that this is built without.
    pub(crate) fn needs_feature(name: &str) -> bool {
        cfg!(not(feature = "unicode")) && name.eq_ignore_ascii_case("UNICODE")
    }

    pub(crate) fn names() -> impl Iterator<Item = &'static str> {
        NAMES.iter().map(|(name, _)| *name)
    }

    pub(crate) fn compare(self, a: &Scalar<'_>, b: &Scalar<'_>) -> Ordering {
        if self == Collation::Binary || !a.is_text() || !b.is_text() {
            return a.order(b);
        }
        match (a.to_text(), b.to_text()) {
            (Some(a), Some(b)) => self.compare_texts(&a, &b),
            _ => a.order(b),
        }
    }

    /// A value that is equal for those values, and only those, that compare as equal.
    pub(crate) fn folded<'a>(self, of: Scalar<'a>) -> Scalar<'a> {
        if self == Collation::Binary || !of.is_text() {
            return of;
        }
        let Some(text) = of.to_text() else { return of };
        let folded = match self {
            Collation::Binary => return of,
            Collation::NoCase => text.to_ascii_lowercase(),
            Collation::RTrim => text.trim_end_matches(' ').to_owned(),
            // As digits.
            #[cfg(feature = "unicode")]
            Collation::Unicode => {
                self.key(&text, usize::MAX).iter().map(|byte| format!("{byte:02x}")).collect()
            }
        };
        Scalar::Text(folded.into())
    }

    fn compare_texts(self, a: &str, b: &str) -> Ordering {
        if a == b {
            return Ordering::Equal;
        }
        let start = apart(a, b);
        let (a, b) = (&a[start..], &b[start..]);
        // Long texts mostly differ where they begin.
        let mut most = 64;
        loop {
            let (one, other) = (self.key(a, most), self.key(b, most));
            let end = |key: &[u8]| key.len().min(most);
            let order = one[..end(&one)].cmp(&other[..end(&other)]);
            if order.is_ne() || one.len() < most {
                return order;
            }
            most = most.saturating_mul(16);
        }
    }

    /// The bytes by whose order it orders texts: all of them, or at least so many.
    pub(crate) fn key(self, text: &str, most: usize) -> Cow<'_, [u8]> {
        match self {
            Collation::Binary => text.as_bytes().into(),
            Collation::NoCase => {
                text.as_bytes()[..text.len().min(most)].to_ascii_lowercase().into()
            }
            Collation::RTrim => text.trim_end_matches(' ').as_bytes().into(),
            // Texts that the algorithm finds equal are equal: case and accents make a difference,
            // what has no weight does not.
            #[cfg(feature = "unicode")]
            Collation::Unicode => {
                let mut key = Beginning { bytes: Vec::new(), most };
                // An error only says that there are enough.
                let _ = ROOT.write_sort_key_to(text, &mut key);
                key.bytes.into()
            }
        }
    }
}

/// How much two texts have in common at their beginnings, up to a place between two letters or
/// digits of ASCII: no collation sees these as one.
fn apart(a: &str, b: &str) -> usize {
    let (a, b) = (a.as_bytes(), b.as_bytes());
    let same = a.iter().zip(b).take_while(|(a, b)| a == b).count();
    let is_between = |at: &usize| a[at - 1..=*at].iter().all(u8::is_ascii_alphanumeric);
    (1..same).rev().find(is_between).unwrap_or(0)
}

/// The first bytes of a key.
#[cfg(feature = "unicode")]
struct Beginning {
    bytes: Vec<u8>,
    most: usize,
}

#[cfg(feature = "unicode")]
impl CollationKeySink for Beginning {
    type Error = ();
    type State = ();
    type Output = ();

    fn write(&mut self, (): &mut (), bytes: &[u8]) -> Result<(), ()> {
        self.bytes.extend_from_slice(bytes);
        if self.bytes.len() < self.most { Ok(()) } else { Err(()) }
    }

    fn finish(&mut self, (): ()) -> Result<(), ()> {
        Ok(())
    }
}

#[cfg(feature = "unicode")]
static ROOT: LazyLock<CollatorBorrowed<'static>> =
    LazyLock::new(|| CollatorBorrowed::new_root(CollatorOptions::default()));

/// The same as SQLite is to have it, by the algorithm itself.
#[cfg(all(feature = "sqlite", feature = "unicode"))]
pub(crate) fn compare_unicode(a: &str, b: &str) -> Ordering {
    ROOT.compare(a, b)
}

#[cfg(test)]
#[cfg(all(feature = "sqlite", feature = "unicode"))]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Letters that the algorithm finds alike, with marks, and long beginnings in common.
    fn text() -> impl Strategy<Value = String> {
        let part =
            prop_oneof!["[aàåzZ e\u{301}\u{327}\u{ad}ßıœ-]{0,5}", "\\PC{0,4}", "[ab1]{0,70}"];
        prop::collection::vec(part, 0..4).prop_map(|parts| parts.concat())
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn keys_order_texts_as_the_algorithm_does(a in text(), b in text()) {
            prop_assert_eq!(Collation::Unicode.compare_texts(&a, &b), compare_unicode(&a, &b));
        }

        #[test]
        fn the_beginnings_of_keys_are_in_order(a in text(), b in text(), most in 1..200_usize) {
            for (_, collation) in NAMES {
                let key = |text| collation.key(text, most)[..].iter().take(most).copied().collect::<Vec<u8>>();
                let (one, other) = (key(&a), key(&b));
                let order = collation.compare_texts(&a, &b);
                prop_assert!(one == other || one.cmp(&other) == order, "{:?}", order);
            }
        }
    }
}
