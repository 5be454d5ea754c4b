//! Timing: ours and the baseline in turn, and the middle of each.

use std::hint::black_box;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};
use std::time::Instant;

/// How often each side runs.
const RUNS: usize = 7;

/// At most so often.
static MOST_RUNS: AtomicUsize = AtomicUsize::new(usize::MAX);

/// Has each side run so often at most.
pub(crate) fn limit_runs(most: usize) {
    MOST_RUNS.store(most, Relaxed);
}

/// One line of the result.
pub(crate) struct Figure {
    pub(crate) case: &'static str,
    pub(crate) size: usize,
    pub(crate) ours: f64,
    pub(crate) baseline_name: &'static str,
    pub(crate) baseline: f64,
    /// The target: the highest ratio that is good enough.
    pub(crate) at_most: f64,
    /// `s` for seconds, `bytes` for memory, `x` for growth.
    pub(crate) unit: &'static str,
}

impl Figure {
    pub(crate) fn ratio(&self) -> f64 {
        self.ours / self.baseline
    }
}

/// Seconds that two pieces of work take, run in turn; what `prepare` makes is not timed, nor is the
/// end of what the work leaves behind.
pub(crate) fn alternate<P, A, B>(
    prepare: impl FnMut() -> P,
    ours: impl FnMut(&mut P) -> A,
    baseline: impl FnMut(&mut P) -> B,
) -> (f64, f64) {
    alternate_so_often(RUNS, prepare, ours, baseline)
}

/// As [`alternate`], with this many runs: for short work whose times differ by less than the machine's
/// speed does from one moment to the next.
pub(crate) fn alternate_so_often<P, A, B>(
    runs: usize,
    mut prepare: impl FnMut() -> P,
    mut ours: impl FnMut(&mut P) -> A,
    mut baseline: impl FnMut(&mut P) -> B,
) -> (f64, f64) {
    let (mut ours_took, mut baseline_took) = (Vec::new(), Vec::new());
    for run in 0..=runs.min(MOST_RUNS.load(Relaxed)) {
        let mut prepared = prepare();
        let mut both = (0.0, 0.0);
        let mut time_ours = |prepared: &mut P| both.0 = time(|| ours(prepared));
        let mut time_baseline = |prepared: &mut P| both.1 = time(|| baseline(prepared));
        if run % 2 == 0 {
            time_ours(&mut prepared);
            time_baseline(&mut prepared);
        } else {
            time_baseline(&mut prepared);
            time_ours(&mut prepared);
        }
        // The first run warms up.
        if run > 0 {
            ours_took.push(both.0);
            baseline_took.push(both.1);
        }
    }
    (median(ours_took), median(baseline_took))
}

fn time<T>(work: impl FnOnce() -> T) -> f64 {
    settle();
    let start = Instant::now();
    let left = black_box(work());
    let took = start.elapsed().as_secs_f64();
    drop(left);
    took
}

/// Lets the allocator merge what the other side has freed: it does so at the next larger
/// allocations, some thousand pieces at each, and the side that makes them would pay for it.
fn settle() {
    for _ in 0..512 {
        drop(black_box(Vec::<u8>::with_capacity(100_000)));
    }
}

fn median(mut numbers: Vec<f64>) -> f64 {
    numbers.sort_by(f64::total_cmp);
    numbers[numbers.len() / 2]
}
