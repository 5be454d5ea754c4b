//! One derived value: its function, what that last gave, and what it read for it.

use std::any::Any;
use std::cell::RefCell;
use std::cmp::Ordering;
use std::hash::{BuildHasher, RandomState};
use std::sync::atomic::{AtomicU64, Ordering as Atomic};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};
use std::thread;

use super::reader::Reader;
use super::reads::Read;
use crate::caught::caught;
use crate::error::{Error, ErrorKind, Result};
use crate::query::{AsOf, Published};
use crate::sync::InTurn;

type Function<T> = Box<dyn Fn(&Reader) -> Result<T> + Send + Sync>;

pub(crate) struct DerivedNode<T> {
    published: Arc<Published>,
    evaluation: Arc<Evaluation>,
    name: Arc<str>,
    function: Function<T>,
    shown: RwLock<LastValue<T>>,
    /// What the function read; the evaluation's lock guards it as well.
    reads: Mutex<Vec<Read>>,
    runs: AtomicU64,
}

/// What the function gave last.
struct LastValue<T> {
    value: Option<Result<Arc<T>>>,
    /// The commit that it is surely true of.
    commit: u64,
}

/// What others can read of a derived value, whatever its type.
pub(crate) trait AnyDerived: Send + Sync {
    /// Brings it up to a commit; returns whether its value there is the one that it has given.
    fn still_gives(&self, given: &(dyn Any + Send + Sync), now: &AsOf) -> bool;
}

/// The turn in which derived values are evaluated: one thread at a time, so that no two wait for
/// each other.
pub(crate) struct Evaluation {
    turn: InTurn,
    /// With what prints of rows are made.
    pub(crate) key: (u64, u64),
}

impl Evaluation {
    /// Whether a derived value's function is running on this thread.
    pub(crate) fn is_here(&self) -> bool {
        self.turn.free_if_cut_off();
        self.turn.is_mine()
    }
}

impl Default for Evaluation {
    fn default() -> Self {
        let (a, b) = (RandomState::new(), RandomState::new());
        Self { turn: InTurn::default(), key: (a.hash_one(0), b.hash_one(1)) }
    }
}

thread_local! {
    /// The derived values that are being evaluated on this thread, from the outermost in: where
    /// they are, and what they are called.
    static RUNNING: RefCell<Vec<(usize, Arc<str>)>> = const { RefCell::new(Vec::new()) };
}

/// A value that is being evaluated.
struct Running;

impl Running {
    /// # Errors
    /// [`ErrorKind::Circle`] if it is being evaluated already.
    fn begin(at: usize, name: &Arc<str>) -> Result<Self> {
        RUNNING.with_borrow_mut(|running| {
            if let Some(first) = running.iter().position(|(other, _)| *other == at) {
                let names = running[first..].iter().map(|(_, name)| &**name).chain([&**name]);
                let circle = names.collect::<Vec<_>>().join(" -> ");
                let message = format!("derived values read each other in a circle: {circle}");
                return Err(Error::new(ErrorKind::Circle, message)
                    .help("let one of them read tables or queries instead"));
            }
            running.push((at, name.clone()));
            Ok(Self)
        })
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        RUNNING.with_borrow_mut(|running| drop(running.pop()));
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn is_same<T: PartialEq>(old: &Result<Arc<T>>, new: &Result<Arc<T>>) -> bool {
    match (old, new) {
        (Ok(old), Ok(new)) => Arc::ptr_eq(old, new) || **old == **new,
        (Err(old), Err(new)) => old.to_string() == new.to_string(),
        _ => false,
    }
}

impl<T: PartialEq + Send + Sync + 'static> DerivedNode<T> {
    pub(crate) fn new(
        published: Arc<Published>,
        evaluation: Arc<Evaluation>,
        name: Arc<str>,
        function: Function<T>,
    ) -> Self {
        let shown = RwLock::new(LastValue { value: None, commit: 0 });
        let (reads, runs) = (Mutex::default(), AtomicU64::new(0));
        Self { published, evaluation, name, function, shown, reads, runs }
    }

    /// The value as of the last commit.
    pub(crate) fn get(&self) -> Result<Arc<T>> {
        loop {
            let now = self.published.now();
            if let Some(value) = self.shown_at(now.commit) {
                return value;
            }
            if let Some(value) = self.at(&now) {
                return value;
            }
            // A query knows a later commit already, which is about to be published.
            thread::yield_now();
        }
    }

    /// The value as of a commit; `None` if something that it reads is ahead of that.
    pub(crate) fn at(&self, now: &AsOf) -> Option<Result<Arc<T>>> {
        let _turn = self.evaluation.turn.begin();
        let running = Running::begin(std::ptr::from_ref(self).addr(), &self.name);
        let _running = match running {
            Ok(running) => running,
            Err(circle) => return Some(Err(circle)),
        };
        let (known, since) = {
            let shown = self.shown.read().unwrap_or_else(PoisonError::into_inner);
            match (&shown.value, shown.commit.cmp(&now.commit)) {
                (Some(value), Ordering::Equal) => return Some(value.clone()),
                // What it was then is not known any more.
                (Some(_), Ordering::Greater) => return None,
                _ => {}
            }
            (shown.value.is_some(), shown.commit)
        };
        // No other thread changes them, as it is this thread's turn.
        let reads = std::mem::take(&mut *lock(&self.reads));
        let key = self.evaluation.key;
        // What a program compares with is its own as well.
        let has_changed = || reads.iter().any(|read| read.has_changed(since, now, key));
        if known && !caught(has_changed).unwrap_or(true) {
            *lock(&self.reads) = reads;
            let mut shown = self.shown.write().unwrap_or_else(PoisonError::into_inner);
            shown.commit = now.commit;
            return shown.value.clone();
        }
        let reader = Reader::new(self.published.clone(), now.clone(), key);
        self.runs.fetch_add(1, Atomic::Relaxed);
        let value = caught(|| (self.function)(&reader));
        let value = value.unwrap_or_else(|panic| Err(self.panicked(&panic)));
        let (read, is_torn) = reader.finish();
        if is_torn {
            *lock(&self.reads) = reads;
            return None;
        }
        if value.as_ref().is_err_and(|error| error.kind() == ErrorKind::Stopped) {
            // Another reader of the value does not get this panic.
            *lock(&self.reads) = reads;
            return Some(value.map(Arc::new));
        }
        *lock(&self.reads) = read;
        let mut shown = self.shown.write().unwrap_or_else(PoisonError::into_inner);
        shown.commit = now.commit;
        let value = value.map(Arc::new);
        let is_same = |old| caught(|| is_same(old, &value)).unwrap_or(false);
        if !shown.value.as_ref().is_some_and(is_same) {
            shown.value = Some(value);
        }
        shown.value.clone()
    }

    fn shown_at(&self, commit: u64) -> Option<Result<Arc<T>>> {
        let shown = self.shown.read().unwrap_or_else(PoisonError::into_inner);
        if shown.commit >= commit { shown.value.clone() } else { None }
    }

    fn panicked(&self, panic: &str) -> Error {
        let message = format!("its function panicked: {panic}");
        Error::new(ErrorKind::Result, message)
            .at(format!("derived value \"{}\"", self.name))
            .help("it runs again when something that it read has changed")
    }

    pub(crate) fn is_of(&self, published: &Arc<Published>) -> bool {
        Arc::ptr_eq(&self.published, published)
    }
}

impl<T> DerivedNode<T> {
    pub(crate) fn name(&self) -> &str {
        &self.name
    }

    pub(crate) fn runs(&self) -> u64 {
        self.runs.load(Atomic::Relaxed)
    }
}

impl<T: PartialEq + Send + Sync + 'static> AnyDerived for DerivedNode<T> {
    fn still_gives(&self, given: &(dyn Any + Send + Sync), now: &AsOf) -> bool {
        // A value that cannot be computed at this commit counts as changed.
        let given = given.downcast_ref::<Result<Arc<T>>>();
        given.zip(self.at(now)).is_some_and(|(old, new)| is_same(old, &new))
    }
}
