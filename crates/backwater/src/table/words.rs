//! The words of a chunk's rows, in memory that is used again.
//!
//! Each commit copies those of the chunks that it writes to, and frees those that it replaced:
//! pieces of some kilobytes, for which allocators are slow.

use std::cell::RefCell;
use std::ops::{Deref, DerefMut};

/// Smaller pieces are fast to get.
const SMALL: usize = 256;
/// Larger ones would keep too much.
const LARGE: usize = 8192;
/// This many pieces are kept, by each thread.
const KEPT: usize = 16;

thread_local! {
    static SPARE: RefCell<Vec<Vec<u32>>> = const { RefCell::new(Vec::new()) };
}

/// Words, whose memory the next that are copied use.
#[derive(Default)]
pub(super) struct Words(Vec<u32>);

impl Words {
    /// None, with room for this many.
    pub(super) fn with_room(len: usize) -> Self {
        Self(spare(len).unwrap_or_else(|| Vec::with_capacity(len)))
    }
}

/// An empty piece with room for this many words, if one is kept that is not much larger.
fn spare(len: usize) -> Option<Vec<u32>> {
    if !(SMALL..=LARGE).contains(&len) {
        return None;
    }
    // Where a thread ends nothing is kept any more.
    let found = SPARE.try_with(|kept| {
        let mut kept = kept.try_borrow_mut().ok()?;
        let fits = |words: &Vec<u32>| (len..=len * 2).contains(&words.capacity());
        let place = kept.iter().rposition(fits)?;
        Some(kept.swap_remove(place))
    });
    found.ok().flatten()
}

impl Clone for Words {
    fn clone(&self) -> Self {
        let mut copy = Self::with_room(self.0.len());
        copy.0.extend_from_slice(&self.0);
        copy
    }
}

impl Drop for Words {
    fn drop(&mut self) {
        let mut words = std::mem::take(&mut self.0);
        if (SMALL..=LARGE).contains(&words.capacity()) {
            words.clear();
            let _ = SPARE.try_with(|kept| {
                if let Ok(mut kept) = kept.try_borrow_mut()
                    && kept.len() < KEPT
                {
                    kept.push(words);
                }
            });
        }
    }
}

impl Deref for Words {
    type Target = Vec<u32>;

    #[inline]
    fn deref(&self) -> &Vec<u32> {
        &self.0
    }
}

impl DerefMut for Words {
    #[inline]
    fn deref_mut(&mut self) -> &mut Vec<u32> {
        &mut self.0
    }
}
