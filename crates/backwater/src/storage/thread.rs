//! The writer thread: moves what waits to the storage, soon after it was committed.

use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{self, JoinHandle};
use std::time::Duration;

use super::persister::Persister;
use crate::caught::caught;
use crate::sync::{Signal, Woken};

/// How long it waits for further commits to write with the first one.
const LINGER: Duration = Duration::from_millis(10);
/// How long it waits after a failure, at first and at most.
const FIRST_PAUSE: Duration = Duration::from_millis(100);
const LONGEST_PAUSE: Duration = Duration::from_secs(10);

/// The writer thread of a cache; it begins with the first write.
pub(crate) struct WriterThread {
    persister: Arc<Persister>,
    signal: Arc<Signal>,
    thread: Mutex<Option<JoinHandle<()>>>,
}

impl WriterThread {
    pub(crate) fn new(persister: Arc<Persister>) -> Self {
        Self { persister, signal: Arc::default(), thread: Mutex::default() }
    }

    /// There is something to write.
    pub(crate) fn wake(&self) {
        // It is started once.
        if !self.signal.raise() {
            return;
        }
        let mut thread = self.thread.lock().unwrap_or_else(PoisonError::into_inner);
        if thread.is_none() {
            let (persister, signal) = (self.persister.clone(), self.signal.clone());
            let named = thread::Builder::new().name("backwater writer".to_owned());
            // Without a thread, what waits is written at a flush and at the end.
            *thread = named.spawn(move || run(&persister, &signal)).ok();
        }
    }
}

/// Closing writes what waits.
impl Drop for WriterThread {
    fn drop(&mut self) {
        self.signal.end();
        let thread = self.thread.get_mut().unwrap_or_else(PoisonError::into_inner).take();
        match thread {
            // The last handle may be dropped by the thread itself, in its handler.
            Some(thread) if thread.thread().id() == thread::current().id() => {}
            Some(thread) => drop(thread.join()),
            None => drop(self.persister.write_or_report()),
        }
    }
}

fn run(persister: &Persister, signal: &Signal) {
    let mut pause = None;
    loop {
        let woken = signal.wait(pause, LINGER);
        // A panic is a failure as well: the thread goes on, and tries again.
        match caught(|| persister.write_or_report()) {
            Ok(Ok(())) => pause = None,
            Ok(Err(_)) | Err(_) => {
                let next = pause.map_or(FIRST_PAUSE, |pause: Duration| pause * 2);
                pause = Some(next.min(LONGEST_PAUSE));
            }
        }
        if woken == Woken::End {
            return;
        }
    }
}
