//! When rows were last received and read. This is recorded beside the rows of tables that want it
//! and is no part of their versions: it is no change.

use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use rustc_hash::FxHashSet;

use super::Slot;
use super::chunk::CHUNK;
use crate::value::Timestamp;

/// Times are recorded in steps of a row's life, of which it has at least so many, so that a row
/// which is read all the time is not recorded all the time.
const STEPS: u32 = 64;
/// The step where rows do not expire, in seconds.
const STEP: u32 = 600;

/// When a row was last received, and when it was last read, in seconds since 1970; 0 if that is not
/// known.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Times {
    pub(crate) received: u32,
    pub(crate) read: u32,
}

impl Times {
    /// The later of the two.
    pub(crate) fn last(self) -> u32 {
        self.received.max(self.read)
    }
}

/// A time in whole seconds since 1970.
fn seconds(time: Timestamp) -> u32 {
    u32::try_from(time.as_micros().div_euclid(1_000_000)).unwrap_or(1).max(1)
}

/// The times of a chunk's rows, shared by all versions of it.
pub(super) struct RowTimes([AtomicU64; CHUNK]);

impl Default for RowTimes {
    fn default() -> Self {
        Self(std::array::from_fn(|_| AtomicU64::new(0)))
    }
}

impl RowTimes {
    // No order is needed among them: each stands for itself.
    pub(super) fn get(&self, at: usize) -> Times {
        let both = self.0[at].load(Ordering::Relaxed);
        Times { received: (both >> 32) as u32, read: both as u32 }
    }

    pub(super) fn set(&self, at: usize, times: Times) {
        let both = u64::from(times.received) << 32 | u64::from(times.read);
        self.0[at].store(both, Ordering::Relaxed);
    }
}

/// The times of a table's rows.
pub(super) struct Seen {
    now: Arc<Now>,
    step: u32,
    /// Rows that were read, a step later than before, since these were last taken. They are never
    /// more than there are rows.
    read: Mutex<FxHashSet<Slot>>,
}

/// The present, in seconds since 1970, as it was last set; 0 if it was not.
#[derive(Default)]
pub(crate) struct Now(AtomicU32);

impl Now {
    pub(crate) fn set(&self, time: Timestamp) {
        self.0.store(seconds(time), Ordering::Relaxed);
    }

    pub(crate) fn seconds(&self) -> u32 {
        self.0.load(Ordering::Relaxed)
    }
}

impl Seen {
    pub(super) fn new(now: Arc<Now>, expires_after: Option<u32>) -> Self {
        let step = expires_after.map_or(STEP, |seconds| seconds / STEPS).clamp(1, STEP);
        Self { now, step, read: Mutex::default() }
    }

    /// A row is read.
    pub(super) fn note_read(&self, times: &RowTimes, slot: Slot, at: usize) {
        let (now, known) = (self.now.seconds(), times.get(at));
        if now >= known.read.saturating_add(self.step) {
            times.set(at, Times { read: now, ..known });
            self.read.lock().unwrap_or_else(PoisonError::into_inner).insert(slot);
        }
    }

    /// A row is received; returns whether that is to be recorded.
    pub(super) fn receive(&self, times: &RowTimes, at: usize) -> bool {
        let (now, known) = (self.now.seconds(), times.get(at));
        let is_later = now >= known.received.saturating_add(self.step);
        if is_later {
            times.set(at, Times { received: now, ..known });
        }
        is_later
    }

    pub(super) fn take_read(&self) -> FxHashSet<Slot> {
        std::mem::take(&mut self.read.lock().unwrap_or_else(PoisonError::into_inner))
    }
}
