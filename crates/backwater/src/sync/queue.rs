//! A queue of news that one thread at a time delivers.

use std::collections::VecDeque;
use std::sync::PoisonError;

use super::sync::{Mutex, MutexGuard};

/// News in the order in which they came. A delivery may push further ones: they wait for their
/// turn.
pub(crate) struct Queue<T>(Mutex<Waiting<T>>);

struct Waiting<T> {
    news: VecDeque<T>,
    /// Whether a thread is delivering now.
    delivering: bool,
}

/// A thread delivers for as long as this lives.
struct Delivering<'q, T>(&'q Queue<T>);

impl<T> Drop for Delivering<'_, T> {
    fn drop(&mut self) {
        self.0.lock().delivering = false;
    }
}

impl<T> Default for Queue<T> {
    fn default() -> Self {
        Self(Mutex::new(Waiting { news: VecDeque::new(), delivering: false }))
    }
}

impl<T> Queue<T> {
    pub(crate) fn push(&self, news: T) {
        self.lock().news.push_back(news);
    }

    /// Delivers what waits, unless a thread is at it already, which then delivers that as well.
    pub(crate) fn deliver(&self, mut each: impl FnMut(&T)) {
        loop {
            let news = {
                let mut waiting = self.lock();
                if waiting.delivering && !super::was_cut_off() {
                    return;
                }
                let Some(news) = waiting.news.pop_front() else { return };
                waiting.delivering = true;
                news
            };
            // Delivering ends with a panic as well.
            let _telling = Delivering(self);
            each(&news);
        }
    }

    fn lock(&self) -> MutexGuard<'_, Waiting<T>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
