//! What goes wrong on purpose.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

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
    /// How long a response takes, give or take one half.
    pub delay: Duration,
    /// The share of requests that are answered with status 503, from 0 to 1.
    pub fail: f64,
    /// The share of requests whose connection is cut before the response is whole.
    pub lose: f64,
    /// Where the random choices begin.
    pub seed: u64,
}

/// What goes wrong of each request in turn.
pub(crate) struct Choices {
    faults: Faults,
    made: AtomicU64,
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
        Self { faults, made: AtomicU64::new(0) }
    }

    /// What becomes of the next request, and how long it takes.
    pub(crate) fn next(&self) -> (Fate, Duration) {
        let choice = self.random();
        let fate = match choice {
            _ if choice < self.faults.fail => Fate::Failed,
            _ if choice < self.faults.fail + self.faults.lose => Fate::Lost,
            _ => Fate::Answered,
        };
        (fate, self.faults.delay.mul_f64(0.5 + self.random()))
    }

    /// A number from 0 to 1 (splitmix64).
    fn random(&self) -> f64 {
        let made = self.made.fetch_add(1, Ordering::Relaxed);
        let mut mixed =
            self.faults.seed.wrapping_add(made.wrapping_add(1).wrapping_mul(0x9E37_79B9_7F4A_7C15));
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((mixed ^ (mixed >> 31)) >> 11) as f64 / (1u64 << 53) as f64
    }
}
