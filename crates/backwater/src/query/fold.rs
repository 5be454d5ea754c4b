//! Texts regardless of case: Unicode's full case folding, without normalization.

use std::borrow::Cow;

use icu_casemap::CaseMapper;
use memchr::memmem::Finder;

/// Whether a text contains another one, in any case. Every text contains the empty one.
pub(crate) fn contains(text: &str, needle: &str) -> bool {
    Needle::new(needle).is_in(text)
}

/// A text whose cases are folded.
pub(crate) fn folded(text: &str) -> Cow<'_, str> {
    if text.is_ascii() {
        return if text.bytes().any(|byte| byte.is_ascii_uppercase()) {
            Cow::Owned(text.to_ascii_lowercase())
        } else {
            Cow::Borrowed(text)
        };
    }
    CaseMapper::new().fold_string(text)
}

/// A text to be looked for in many others, in any case.
pub(crate) struct Needle(Finder<'static>);

/// Texts up to this length are folded without an allocation.
const SHORT: usize = 128;

impl Needle {
    pub(crate) fn new(needle: &str) -> Self {
        Self(Finder::new(folded(needle).as_bytes()).into_owned())
    }

    pub(crate) fn is_in(&self, text: &str) -> bool {
        let mut short = [0; SHORT];
        if let Some(short) = short.get_mut(..text.len())
            && text.is_ascii()
        {
            short.copy_from_slice(text.as_bytes());
            short.make_ascii_lowercase();
            return self.0.find(short).is_some();
        }
        self.0.find(folded(text).as_bytes()).is_some()
    }
}
