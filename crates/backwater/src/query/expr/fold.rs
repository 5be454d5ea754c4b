//! Texts regardless of case: Unicode's full case folding, without normalization.

use std::borrow::Cow;

use icu_casemap::CaseMapper;
use memchr::memmem::Finder;

use crate::table::TextSearch;

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

impl TextSearch for Needle {
    fn fold<'t>(&self, text: &'t str) -> Cow<'t, str> {
        folded(text)
    }

    fn sought(&self) -> &[u8] {
        self.0.needle()
    }
}

/// Texts up to this length are folded without an allocation, all of that room at once.
const SHORT: usize = 64;

impl Needle {
    pub(crate) fn new(needle: &str) -> Self {
        Self(Finder::new(folded(needle).as_bytes()).into_owned())
    }

    #[inline]
    pub(crate) fn is_in(&self, text: &str) -> bool {
        let mut short = [0_u8; SHORT];
        if let Some(start) = short.get_mut(..text.len()) {
            start.copy_from_slice(text.as_bytes());
            if short.iter().fold(0, |all, byte| all | byte) < 0x80 {
                for byte in &mut short {
                    *byte |= u8::from(byte.is_ascii_uppercase()) << 5;
                }
                return self.0.find(&short[..text.len()]).is_some();
            }
        }
        self.0.find(folded(text).as_bytes()).is_some()
    }
}
