//! How far a result may be computed: how large it may become, how long its texts, and whether it
//! was cancelled.
//!
//! Joins and expressions are deep inside of what computes a result, so what they may take is known
//! by thread: [`within`] says it, and gives what went beyond it.

use std::cell::{Cell, RefCell};
use std::mem::size_of;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use crate::error::{Error, ErrorKind};
use crate::schema::ResultLimits;

/// Why a result cannot be computed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Failure {
    pub(crate) message: Arc<str>,
    /// Whether it was given up, and may be computed another time.
    pub(crate) is_stopped: bool,
}

impl Failure {
    pub(crate) fn of(message: String) -> Self {
        Self { message: message.into(), is_stopped: false }
    }

    pub(crate) fn stopped() -> Self {
        let message = "it was stopped before the result was computed".into();
        Self { message, is_stopped: true }
    }

    pub(crate) fn error(&self) -> Error {
        let kind = if self.is_stopped { ErrorKind::Stopped } else { ErrorKind::Result };
        Error::new(kind, self.message.to_string())
    }
}

thread_local! {
    static WORK: Work = const { Work::ENDLESS };
    static STOP: RefCell<Option<Stop>> = const { RefCell::new(None) };
    static CAN_STOP: Cell<bool> = const { Cell::new(false) };
}

/// What may still be taken.
struct Work {
    limits: Cell<ResultLimits>,
    rows: Cell<usize>,
    bytes: Cell<usize>,
    /// How often the stop was looked at.
    checks: Cell<u32>,
    beyond: Cell<Option<Beyond>>,
}

/// Which limit was exceeded.
#[derive(Clone, Copy)]
enum Beyond {
    Rows,
    Bytes,
    Text,
    NoEnd,
    Stopped,
}

impl Work {
    #[expect(clippy::declare_interior_mutable_const, reason = "each thread begins with a copy")]
    const ENDLESS: Self = Self {
        limits: Cell::new(ResultLimits::NONE),
        rows: Cell::new(usize::MAX),
        bytes: Cell::new(usize::MAX),
        checks: Cell::new(0),
        beyond: Cell::new(None),
    };

    fn fail(&self, beyond: Beyond) {
        self.beyond.set(self.beyond.get().or(Some(beyond)));
    }

    fn take(left: &Cell<usize>, more: usize) -> bool {
        let rest = left.get().checked_sub(more);
        rest.inspect(|rest| left.set(*rest)).is_some()
    }

    fn failure(&self) -> Option<Failure> {
        let ResultLimits { rows, bytes, text } = self.limits.get();
        let less = "ask for less, with a condition or a LIMIT";
        Some(match self.beyond.get()? {
            Beyond::Rows => Failure::of(format!(
                "the result has more than {rows} rows; {less}, or raise `limits.result_rows`"
            )),
            Beyond::Bytes => Failure::of(format!(
                "the result takes more than {bytes} bytes; {less}, or raise `limits.result_bytes`"
            )),
            Beyond::Text => Failure::of(format!(
                "a text would be longer than {text} bytes; make a shorter one, or raise `limits.text_bytes`"
            )),
            Beyond::NoEnd => Failure::of(
                "the recursion does not end, since its rows lead back to themselves; add a condition \
                 on its depth, or write UNION without a column that counts"
                    .to_owned(),
            ),
            Beyond::Stopped => Failure::stopped(),
        })
    }

    fn set(&self, (limits, rows, bytes, beyond): Left) {
        self.limits.set(limits);
        self.rows.set(rows);
        self.bytes.set(bytes);
        self.beyond.set(beyond);
    }
}

/// Limits, what is left of them, and which one was exceeded.
type Left = (ResultLimits, usize, usize, Option<Beyond>);

/// Puts back what was valid before, also where a panic goes by.
struct Restored(Left);

impl Drop for Restored {
    fn drop(&mut self) {
        WORK.with(|work| work.set(self.0));
    }
}

/// Does something within limits.
pub(super) fn within<T>(limits: &ResultLimits, work: impl FnOnce() -> T) -> Result<T, Failure> {
    let _before = WORK.with(|work| {
        let Work { limits: old, rows, bytes, beyond, .. } = work;
        let before = Restored((old.get(), rows.get(), bytes.get(), beyond.get()));
        work.set((*limits, limits.rows, limits.bytes, None));
        before
    });
    let done = work();
    WORK.with(Work::failure).map_or(Ok(done), Err)
}

/// Does something that may be given up, if [`Stop::during`] says so.
pub(crate) fn may_stop<T>(work: impl FnOnce() -> T) -> T {
    can_stop(true, work)
}

/// The same, or something that must not be given up.
pub(super) fn can_stop<T>(can: bool, work: impl FnOnce() -> T) -> T {
    struct Before(bool);
    impl Drop for Before {
        fn drop(&mut self) {
            CAN_STOP.set(self.0);
        }
    }
    let _before = Before(CAN_STOP.replace(can));
    work()
}

/// Whether to end the computation, as it is beyond its limits or cancelled.
#[inline]
pub(super) fn is_over() -> bool {
    /// The stop is looked at once in this many steps.
    const EVERY: u32 = 4096;
    WORK.with(|work| {
        let checks = work.checks.get().wrapping_add(1);
        work.checks.set(checks);
        if checks % EVERY == 0 {
            look_for_stop(work);
        }
        work.beyond.get().is_some()
    })
}

#[cold]
fn look_for_stop(work: &Work) {
    let is_stopped = || STOP.with(|stop| stop.borrow().as_ref().is_some_and(Stop::is_stopped));
    if CAN_STOP.get() && is_stopped() {
        work.fail(Beyond::Stopped);
    }
}

/// How many rows of a size a result may have, all in all.
pub(super) fn most_rows<R>(limits: &ResultLimits) -> usize {
    limits.rows.min(limits.bytes / size_of::<R>().max(1))
}

/// There are more rows than may be.
pub(super) fn too_many_rows(limits: &ResultLimits, rows: usize) {
    let beyond = if rows >= limits.rows { Beyond::Rows } else { Beyond::Bytes };
    WORK.with(|work| work.fail(beyond));
}

/// What is computed would go on for ever.
pub(super) fn has_no_end() {
    WORK.with(|work| work.fail(Beyond::NoEnd));
}

/// Takes a row of this many bytes; returns whether there is room for it.
pub(super) fn take_row(bytes: usize) -> bool {
    WORK.with(|work| {
        if !Work::take(&work.rows, 1) {
            work.fail(Beyond::Rows);
        }
    });
    take_bytes(bytes)
}

/// Takes this many bytes; returns whether there is room for them.
pub(super) fn take_bytes(bytes: usize) -> bool {
    WORK.with(|work| {
        if !Work::take(&work.bytes, bytes) {
            work.fail(Beyond::Bytes);
        }
        work.beyond.get().is_none()
    })
}

/// Whether a text may be so long.
pub(super) fn fits(bytes: usize) -> bool {
    WORK.with(|work| {
        let fits = bytes <= work.limits.get().text;
        if !fits {
            work.fail(Beyond::Text);
        }
        fits
    })
}

/// Cancels the computation of results that are no longer needed: those of a view that was left, of
/// a statement that joins far more than its author thought.
///
/// Defining a query, reading it and rebinding it may have to go through very many rows. Inside of
/// [`Stop::during`], that ends with [`ErrorKind::Stopped`](crate::ErrorKind::Stopped) once another
/// thread has called [`Stop::stop`], and the cache is as if the call had not been made. Commits are
/// never stopped.
///
/// ```
/// use backwater::{Cache, ErrorKind, Schema, Stop};
///
/// let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
/// cache.commit("filled", |tx| (0..3000).try_for_each(|id| tx.insert("t", [("id", id)])))?;
///
/// let stop = Stop::new();
/// let timer = stop.clone();
/// std::thread::spawn(move || {
///     std::thread::sleep(std::time::Duration::from_millis(50));
///     timer.stop();
/// });
/// let triples = stop.during(|| cache.query("SELECT count(*) FROM t AS a, t AS b, t AS c", ()));
/// assert_eq!(triples.unwrap_err().kind(), ErrorKind::Stopped);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, Default)]
pub struct Stop(Arc<AtomicBool>);

impl Stop {
    /// One that was not called yet.
    ///
    /// See [`Stop`] for an example.
    pub fn new() -> Self {
        Self::default()
    }

    /// Stops what is computed in [`Stop::during`], and what would be from here on.
    ///
    /// See [`Stop`] for an example.
    pub fn stop(&self) {
        self.0.store(true, Ordering::Release);
    }

    /// Whether it was stopped.
    ///
    /// ```
    /// let stop = backwater::Stop::new();
    /// stop.stop();
    /// assert!(stop.is_stopped());
    /// ```
    pub fn is_stopped(&self) -> bool {
        self.0.load(Ordering::Acquire)
    }

    /// Does something that computes results, which may be stopped meanwhile.
    ///
    /// See [`Stop`] for an example.
    pub fn during<T>(&self, work: impl FnOnce() -> T) -> T {
        struct Before(Option<Stop>);
        impl Drop for Before {
            fn drop(&mut self) {
                STOP.with(|stop| *stop.borrow_mut() = self.0.take());
            }
        }
        let _before = Before(STOP.with(|stop| stop.borrow_mut().replace(self.clone())));
        work()
    }
}
