//! What goes wrong on purpose.

use std::sync::{Mutex, PoisonError};
use std::time::Duration;

/// A longer delay is this one.
const LONGEST_DELAY: Duration = Duration::from_secs(24 * 3600);

/// How a server fails on purpose, repeatably.
///
/// ```
/// use std::time::Duration;
///
/// use backwater_serve::Faults;
///
/// let faults = Faults { delay: Duration::from_millis(200), fail: 0.1, ..Faults::default() };
/// assert_eq!(faults.seed, 0);
/// ```
#[derive(Debug, Clone, Default)]
pub struct Faults {
    /// How long a response takes, give or take one half; at most a day.
    pub delay: Duration,
    /// The share of requests that are answered with status 503, from 0 to 1.
    pub fail: f64,
    /// The share of requests whose connection is cut before the response is whole.
    pub lose: f64,
    /// The share of a feed's events at which its connection is cut, so that they do not arrive.
    pub cut: f64,
    /// Where the random choices begin.
    pub seed: u64,
}

/// What goes wrong of each request in turn.
pub(crate) struct Choices {
    faults: Faults,
    random: Mutex<fastrand::Rng>,
}

/// What becomes of a request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Fate {
    Answered,
    Failed,
    Lost,
}

impl Choices {
    pub(crate) fn of(faults: Faults) -> Self {
        let random = Mutex::new(fastrand::Rng::with_seed(faults.seed));
        Self { faults, random }
    }

    /// Whether a feed is cut at its next event.
    pub(crate) fn cuts(&self) -> bool {
        let mut random = self.random.lock().unwrap_or_else(PoisonError::into_inner);
        self.faults.cut > 0.0 && random.f64() < self.faults.cut
    }

    /// What becomes of the next request, and how long it takes.
    pub(crate) fn next(&self) -> (Fate, Duration) {
        let mut random = self.random.lock().unwrap_or_else(PoisonError::into_inner);
        let (choice, slowness) = (random.f64(), random.f64());
        drop(random);
        let Faults { delay, fail, lose, .. } = self.faults;
        let fate = match choice {
            _ if choice < fail => Fate::Failed,
            _ if choice < fail + lose => Fate::Lost,
            _ => Fate::Answered,
        };
        (fate, delay.min(LONGEST_DELAY).mul_f64(0.5 + slowness))
    }
}
