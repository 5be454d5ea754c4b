//! Deltas as a stream, for consumers that take them when they can.

use std::fmt;
use std::pin::Pin;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::task::{Context, Poll, Wake, Waker};

use futures_core::Stream;

use super::watch::{Watch, Watchers};
use crate::error::{Error, Result};
use crate::query::{Delta, Query, QueryResult};

/// The deltas of a query, one after the other; it never ends by itself. While the query's result
/// cannot be computed, the item is the error.
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
/// let (start, deltas) = cache.deltas(&all)?;
/// assert_eq!(start.len(), 0);
/// let mut deltas = pin!(deltas);
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
    waiting: Arc<Mutex<Waiting>>,
    /// What was shown when the query failed, until it is known again.
    failed: Option<QueryResult>,
    /// Why the query's result cannot be computed, until it can be.
    failure: Option<Error>,
    watch: Watch,
}

#[derive(Default)]
struct Waiting {
    news: Option<News>,
    waker: Option<Waker>,
}

/// What was delivered and not taken yet. Only this holds results, so that an idle stream keeps no
/// version of the tables.
enum News {
    One(Delta),
    /// Several deltas, or a result that no delta leads to: from where, if that is known here.
    Several(Option<QueryResult>, QueryResult),
    Failed(Option<QueryResult>, Error),
}

impl News {
    /// The result that the first of it begins with.
    fn before(self) -> Option<QueryResult> {
        match self {
            News::One(delta) => Some(delta.before().clone()),
            News::Several(before, _) | News::Failed(before, _) => before,
        }
    }
}

fn lock(waiting: &Mutex<Waiting>) -> MutexGuard<'_, Waiting> {
    waiting.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A waker that calls a function.
pub(crate) fn waker(wake: impl Fn() + Send + Sync + 'static) -> Waker {
    struct Call<F>(F);

    impl<F: Fn() + Send + Sync> Wake for Call<F> {
        fn wake(self: Arc<Self>) {
            (self.0)();
        }
    }

    Waker::from(Arc::new(Call(wake)))
}

impl DeltaStream {
    pub(crate) fn of(watchers: &Arc<Watchers>, query: &Query) -> Result<(QueryResult, Self)> {
        let waiting = Arc::new(Mutex::new(Waiting::default()));
        let (hears, reads) = (waiting.clone(), query.clone());
        let on_reach = move |reached: &super::ReachedQuery<'_>| {
            let mut waiting = lock(&hears);
            let known = waiting.news.take();
            let is_first = known.is_none();
            let before = known.map_or_else(|| reached.before().cloned(), News::before);
            let news = match (reached.delta(), reached.failure()) {
                (_, Some(failure)) => News::Failed(before, failure),
                (Some(delta), None) if is_first => News::One(delta.clone()),
                (Some(delta), None) => News::Several(before, delta.after().clone()),
                // Recomputed after a failure.
                (None, None) => match reads.read() {
                    Ok(result) => News::Several(before, result),
                    Err(error) => News::Failed(before, error),
                },
            };
            waiting.news = Some(news);
            let waker = waiting.waker.take();
            drop(waiting);
            waker.into_iter().for_each(Waker::wake);
        };
        let (start, watch) = watchers.add(query, Box::new(on_reach))?;
        Ok((start, Self { waiting, failed: None, failure: None, watch }))
    }
}

impl DeltaStream {
    /// The next delta if there is one already, for a program that does not wait for it.
    ///
    /// # Errors
    /// Why the query's result cannot be computed, as the stream's item.
    ///
    /// ```
    /// # use backwater::{Cache, DeltaKind, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// let (_, mut deltas) = cache.deltas(&all)?;
    /// assert!(deltas.try_next()?.is_none());
    /// cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
    /// assert_eq!(deltas.try_next()?.unwrap().count(DeltaKind::Enter), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn try_next(&mut self) -> Result<Option<Delta>> {
        self.next(None).transpose()
    }

    /// Why the query's result cannot be computed, as far as the stream was taken from.
    pub(crate) fn failure(&self) -> Option<&Error> {
        self.failure.as_ref()
    }

    /// The next delta. The waker is woken when there is another one, also if taking this one fails.
    pub(crate) fn next(&mut self, waker: Option<&Waker>) -> Option<Result<Delta>> {
        loop {
            let news = {
                let mut waiting = lock(&self.waiting);
                if let Some(waker) = waker {
                    waiting.waker = Some(waker.clone());
                }
                waiting.news.take()?
            };
            self.failure = None;
            let shown = self.failed.take();
            let delta = match (news, shown) {
                (News::One(delta), None) => delta,
                (News::One(delta), Some(shown)) => Delta::between(&shown, delta.after()),
                (News::Several(before, after), shown) => {
                    Delta::between(shown.or(before).as_ref().unwrap_or(&after), &after)
                }
                (News::Failed(before, error), shown) => {
                    self.failed = shown.or(before);
                    self.failure = Some(error.clone());
                    return Some(Err(error));
                }
            };
            // What happened may have been undone again.
            if delta.rows().next().is_some() {
                return Some(Ok(delta));
            }
        }
    }
}

impl Stream for DeltaStream {
    type Item = Result<Delta>;

    fn poll_next(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        self.next(Some(context.waker())).map_or(Poll::Pending, |delta| Poll::Ready(Some(delta)))
    }
}

impl fmt::Debug for DeltaStream {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "DeltaStream({:?})", self.watch)
    }
}
