//! How texts compare: by their bytes, or by the collation of a statement.

use std::borrow::Cow;
use std::cmp::Ordering;
#[cfg(feature = "unicode")]
use std::sync::LazyLock;

#[cfg(feature = "unicode")]
use icu_collator::{CollatorBorrowed, options::CollatorOptions};

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
                self.key(&text).iter().map(|byte| format!("{byte:02x}")).collect()
            }
        };
        Scalar::Text(folded.into())
    }

    fn compare_texts(self, a: &str, b: &str) -> Ordering {
        match self {
            Collation::NoCase => {
                let small = |byte: u8| byte.to_ascii_lowercase();
                a.bytes().map(small).cmp(b.bytes().map(small))
            }
            _ if a == b => Ordering::Equal,
            _ => self.key(a).cmp(&self.key(b)),
        }
    }

    /// The bytes by whose order it orders texts.
    pub(crate) fn key(self, text: &str) -> Cow<'_, [u8]> {
        match self {
            Collation::Binary => text.as_bytes().into(),
            Collation::NoCase => text.to_ascii_lowercase().into_bytes().into(),
            Collation::RTrim => text.trim_end_matches(' ').as_bytes().into(),
            // Texts that the algorithm finds equal are equal: case and accents make a difference,
            // what has no weight does not.
            #[cfg(feature = "unicode")]
            Collation::Unicode => {
                let mut key = Vec::with_capacity(4 * text.len());
                let Ok(()) = ROOT.write_sort_key_to(text, &mut key);
                key.into()
            }
        }
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
