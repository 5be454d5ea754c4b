//! Deltas as a stream, for consumers that take them when they can.

use std::fmt;
use std::pin::Pin;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::task::{Context, Poll, Waker};

use futures_core::Stream;

use super::watch::{Watch, Watchers};
use crate::error::{Error, Result};
use crate::query::{Delta, Query, QueryResult};

/// The deltas of a query, one after the other; it never ends by itself. While the query's result
/// cannot be told, the item is the error.
///
/// ```
/// use std::pin::pin;
/// use std::task::{Context, Poll, Waker};
///
/// use backwater::{Cache, DeltaKind, Schema};
/// use futures_core::Stream;
///
/// let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
/// let all = cache.query("SELECT id FROM t", ())?;
/// let mut deltas = pin!(cache.deltas(&all)?);
/// assert_eq!(deltas.start().len(), 0);
/// for id in [1, 2] {
///     cache.commit("one came", |tx| tx.insert("t", [("id", id)]))?;
/// }
/// // An executor polls it; here it is polled by hand, and has both commits in one delta.
/// let mut context = Context::from_waker(Waker::noop());
/// let Poll::Ready(Some(delta)) = deltas.as_mut().poll_next(&mut context) else { panic!() };
/// assert_eq!(delta?.count(DeltaKind::Enter), 2);
/// assert!(deltas.as_mut().poll_next(&mut context).is_pending());
/// # Ok::<(), backwater::Error>(())
/// ```
#[must_use = "the query is watched only as long as this lives"]
pub struct DeltaStream {
    /// What the deltas that were taken led to.
    shown: QueryResult,
    waiting: Arc<Mutex<Waiting>>,
    watch: Watch,
}

/// What happened since the last delta was taken.
#[derive(Default)]
struct Waiting {
    news: Option<News>,
    waker: Option<Waker>,
}

enum News {
    /// One commit's delta, which goes on where the last one ended.
    One(Delta),
    /// The result after several commits.
    Several(QueryResult),
    Failed(Error),
}

fn lock(waiting: &Mutex<Waiting>) -> MutexGuard<'_, Waiting> {
    waiting.lock().unwrap_or_else(PoisonError::into_inner)
}

impl DeltaStream {
    pub(crate) fn of(watchers: &Arc<Watchers>, query: &Query) -> Result<Self> {
        let waiting = Arc::new(Mutex::new(Waiting::default()));
        let (hears, reads) = (waiting.clone(), query.clone());
        let told = move |reached: &super::ReachedQuery<'_>| {
            let mut waiting = lock(&hears);
            let news = match (reached.delta(), reached.failure(), waiting.news.take()) {
                (_, Some(failure), _) => News::Failed(failure),
                (Some(delta), None, None) => News::One(delta.clone()),
                (Some(delta), None, Some(_)) => News::Several(delta.after().clone()),
                // Computed anew after a failure.
                (None, None, _) => match reads.read() {
                    Ok(result) => News::Several(result),
                    Err(error) => News::Failed(error),
                },
            };
            waiting.news = Some(news);
            let waker = waiting.waker.take();
            drop(waiting);
            waker.into_iter().for_each(Waker::wake);
        };
        let watch = watchers.add(query, Box::new(told))?;
        Ok(Self { shown: watch.start().clone(), waiting, watch })
    }

    /// The result that the first delta begins with.
    ///
    /// See [`DeltaStream`] for an example.
    pub fn start(&self) -> &QueryResult {
        self.watch.start()
    }
}

impl Stream for DeltaStream {
    type Item = Result<Delta>;

    fn poll_next(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        loop {
            let news = {
                let mut waiting = lock(&self.waiting);
                let Some(news) = waiting.news.take() else {
                    waiting.waker = Some(context.waker().clone());
                    return Poll::Pending;
                };
                news
            };
            let delta = match news {
                News::One(delta) if delta.before() == &self.shown => delta,
                News::One(delta) => Delta::between(&self.shown, delta.after()),
                News::Several(after) => Delta::between(&self.shown, &after),
                News::Failed(error) => return Poll::Ready(Some(Err(error))),
            };
            self.shown = delta.after().clone();
            // What happened may have been undone again.
            if delta.rows().next().is_some() {
                return Poll::Ready(Some(Ok(delta)));
            }
        }
    }
}

impl fmt::Debug for DeltaStream {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "DeltaStream({:?})", self.watch)
    }
}
