//! The clock that a program may give its cache; without one, times are absent.

use std::fmt;
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use super::Timestamp;
use crate::caught::caught;

/// Gives the time to a cache, which reads no clock of its own.
///
/// ```
/// use std::time::Duration;
/// use backwater::{Cache, Schema, Timestamp, clock::Clock};
///
/// /// It is always noon here.
/// struct Noon;
///
/// impl Clock for Noon {
///     fn now(&self) -> Timestamp {
///         "2031-05-04T12:00:00Z".parse().unwrap()
///     }
///     fn ticks(&self) -> Duration {
///         Duration::ZERO
///     }
/// }
///
/// let cache = Cache::builder()
///     .schema(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?)
///     .clock(Noon)
///     .build()?;
/// let report = cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
/// assert_eq!(report.at().unwrap().to_string(), "2031-05-04T12:00:00.000000Z");
/// assert_eq!(report.took(), Some(Duration::ZERO));
/// # Ok::<(), backwater::Error>(())
/// ```
pub trait Clock: Send + Sync {
    /// The time of day.
    fn now(&self) -> Timestamp;

    /// The time since some fixed point: monotonic, for measuring how long something takes.
    fn ticks(&self) -> Duration;
}

/// The clock of the machine. There is none on `wasm32-unknown-unknown`: there it panics.
///
/// ```
/// use backwater::{SystemClock, clock::Clock};
///
/// let clock = SystemClock::new();
/// assert!(clock.ticks() <= clock.ticks());
/// ```
pub struct SystemClock {
    began: Instant,
}

impl SystemClock {
    /// A clock whose ticks begin now.
    ///
    /// See [`SystemClock`] for an example.
    #[expect(clippy::new_without_default, reason = "it reads the clock, which a default does not")]
    pub fn new() -> Self {
        Self { began: Instant::now() }
    }
}

impl Clock for SystemClock {
    fn now(&self) -> Timestamp {
        let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        let micros = i64::try_from(since.as_micros()).unwrap_or(i64::MAX);
        Timestamp::nearest(micros)
    }

    fn ticks(&self) -> Duration {
        self.began.elapsed()
    }
}

impl fmt::Debug for SystemClock {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SystemClock")
    }
}

/// A clock that stands until it is set, for tests of programs. Clones are the same clock.
///
/// ```
/// use std::time::Duration;
/// use backwater::{Cache, Schema, clock::SetClock};
///
/// let clock = SetClock::at("2031-05-04T12:00:00Z".parse()?);
/// let cache = Cache::builder()
///     .schema(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?)
///     .clock(clock.clone())
///     .build()?;
/// clock.advance(Duration::from_secs(90));
/// let report = cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
/// assert_eq!(report.at().unwrap().to_string(), "2031-05-04T12:01:30.000000Z");
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone)]
pub struct SetClock(Arc<Mutex<(Timestamp, Duration)>>);

impl SetClock {
    /// A clock that stands at a time.
    ///
    /// See [`SetClock`] for an example.
    pub fn at(time: Timestamp) -> Self {
        Self(Arc::new(Mutex::new((time, Duration::ZERO))))
    }

    /// Lets so much time go by, to the microsecond; both the time of day and the ticks move on.
    ///
    /// See [`SetClock`] for an example.
    pub fn advance(&self, by: Duration) {
        let mut stands = self.stands();
        let micros = i64::try_from(by.as_micros()).unwrap_or(i64::MAX);
        stands.0 = Timestamp::nearest(stands.0.as_micros().saturating_add(micros));
        stands.1 = stands.1.saturating_add(by);
    }

    /// Sets the time of day; the ticks, which never go back, stay.
    ///
    /// ```
    /// use backwater::clock::{Clock, SetClock};
    ///
    /// let clock = SetClock::at("2031-05-04T12:00:00Z".parse()?);
    /// clock.set("2031-05-03T08:00:00Z".parse()?);
    /// assert_eq!(clock.now().to_string(), "2031-05-03T08:00:00.000000Z");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn set(&self, time: Timestamp) {
        self.stands().0 = time;
    }

    fn stands(&self) -> MutexGuard<'_, (Timestamp, Duration)> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Clock for SetClock {
    fn now(&self) -> Timestamp {
        self.stands().0
    }

    fn ticks(&self) -> Duration {
        self.stands().1
    }
}

/// A program's clock, which stands still where it panics: no commit depends on what time it is.
pub(crate) struct GuardedClock<C> {
    clock: C,
    /// What it said last, in microseconds and in nanoseconds.
    time: AtomicI64,
    ticks: AtomicU64,
}

impl<C: Clock> GuardedClock<C> {
    pub(crate) fn new(clock: C) -> Self {
        Self { clock, time: AtomicI64::new(0), ticks: AtomicU64::new(0) }
    }
}

impl<C: Clock> Clock for GuardedClock<C> {
    fn now(&self) -> Timestamp {
        match caught(|| self.clock.now()) {
            Ok(time) => {
                self.time.store(time.as_micros(), Ordering::Relaxed);
                time
            }
            Err(_) => Timestamp::nearest(self.time.load(Ordering::Relaxed)),
        }
    }

    fn ticks(&self) -> Duration {
        match caught(|| self.clock.ticks()) {
            Ok(ticks) => {
                let nanos = u64::try_from(ticks.as_nanos()).unwrap_or(u64::MAX);
                self.ticks.store(nanos, Ordering::Relaxed);
                ticks
            }
            Err(_) => Duration::from_nanos(self.ticks.load(Ordering::Relaxed)),
        }
    }
}

/// Measures durations, if there is a clock.
#[derive(Clone, Copy)]
pub(crate) struct Stopwatch<'c> {
    clock: Option<&'c dyn Clock>,
    began: Duration,
}

impl<'c> Stopwatch<'c> {
    pub(crate) fn start(clock: Option<&'c dyn Clock>) -> Self {
        Self { clock, began: clock.map_or(Duration::ZERO, Clock::ticks) }
    }

    /// How long it took since the start, or since the last call.
    pub(crate) fn lap(&mut self) -> Option<Duration> {
        let now = self.clock?.ticks();
        let took = now.saturating_sub(self.began);
        self.began = now;
        Some(took)
    }
}
