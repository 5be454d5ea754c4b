//! Texts regardless of case: Unicode's full case folding, without normalization.

use std::borrow::Cow;

use icu_casemap::CaseMapper;
use memchr::memmem;

/// Whether a text contains another one, in any case. Every text contains the empty one.
pub(crate) fn contains(text: &str, needle: &str) -> bool {
    memmem::find(folded(text).as_bytes(), folded(needle).as_bytes()).is_some()
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
