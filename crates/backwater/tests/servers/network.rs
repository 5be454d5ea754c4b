//! A network for tests in which requests and responses lie until they are moved by hand.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

use backwater::clock::{Clock, SetClock};
use backwater::remote::{Alarm, Call, FailureKind, FeedCall, Transport};

/// A request in the network, and what the server has answered, once it has.
pub(crate) struct Flight<R> {
    pub(crate) client: usize,
    pub(crate) request: http::Request<Vec<u8>>,
    pub(crate) call: Call,
    pub(crate) response: Option<R>,
}

/// A feed: one that waits for the server, or one that is open, by what it was told last.
#[allow(dead_code, reason = "not every test has feeds")]
pub(crate) struct Followed {
    pub(crate) request: http::Request<Vec<u8>>,
    pub(crate) call: FeedCall,
    pub(crate) told: Option<i64>,
}

struct Lying<R> {
    flights: Vec<Flight<R>>,
    feeds: Vec<Followed>,
    alarms: Vec<Alarm>,
}

/// Requests and alarms of all clients. Clones are of the same network.
pub(crate) struct Network<R>(Arc<Mutex<Lying<R>>>);

impl<R> Default for Network<R> {
    fn default() -> Self {
        Self(Arc::new(Mutex::new(Lying {
            flights: Vec::new(),
            feeds: Vec::new(),
            alarms: Vec::new(),
        })))
    }
}

/// The way of one client into it.
pub(crate) struct Way<R>(usize, Network<R>);

impl<R: Send + 'static> Transport for Way<R> {
    fn start(&self, request: http::Request<Vec<u8>>, call: Call) {
        let flight = Flight { client: self.0, request, call, response: None };
        self.1.lock().flights.push(flight);
    }

    fn open(&self, request: http::Request<Vec<u8>>, call: FeedCall) {
        self.1.lock().feeds.push(Followed { request, call, told: None });
    }

    fn wake_after(&self, _: Duration, alarm: Alarm) {
        self.1.lock().alarms.push(alarm);
    }
}

impl<R> Network<R> {
    pub(crate) fn way_of(&self, client: usize) -> Way<R> {
        Way(client, Network(self.0.clone()))
    }

    fn lock(&self) -> MutexGuard<'_, Lying<R>> {
        self.0.lock().unwrap()
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.lock().flights.is_empty()
    }

    /// What all that lies in it is.
    pub(crate) fn look<T>(&self, look: impl FnOnce(&[Flight<R>]) -> T) -> T {
        look(&self.lock().flights)
    }

    /// The server answers one of the requests that it has not answered.
    pub(crate) fn serve(&self, place: usize, serve: impl FnOnce(&http::Request<Vec<u8>>) -> R) {
        let mut lying = self.lock();
        let mut waiting = lying.flights.iter_mut().filter(|flight| flight.response.is_none());
        if let Some(flight) = waiting.nth(place) {
            flight.response = Some(serve(&flight.request));
        }
    }

    /// One of the responses, which leaves the network.
    pub(crate) fn take_response(&self, place: usize) -> Option<(Flight<R>, R)> {
        let mut lying = self.lock();
        let mut there = (0..lying.flights.len())
            .filter(|index| lying.flights[*index].response.is_some())
            .skip(place);
        let index = there.next()?;
        let mut flight = lying.flights.remove(index);
        let response = flight.response.take()?;
        Some((flight, response))
    }

    /// A request or response is lost.
    pub(crate) fn lose(&self, place: usize) {
        let mut lying = self.lock();
        let lost = (place < lying.flights.len()).then(|| lying.flights.remove(place));
        drop(lying);
        if let Some(Flight { call, .. }) = lost {
            call.fail(FailureKind::Network, "lost");
        }
    }

    /// Lets something happen to one of the feeds that wait, or are open; returns whether there was
    /// one. It stays, unless that takes it.
    #[allow(dead_code, reason = "not every test has feeds")]
    pub(crate) fn with_feed(
        &self,
        is_open: bool,
        place: usize,
        happen: impl FnOnce(Followed) -> Option<Followed>,
    ) -> bool {
        let mut lying = self.lock();
        let feeds = std::mem::take(&mut lying.feeds);
        // One that is dropped tells its remote, which may open another one.
        let (wanted, unwanted): (Vec<_>, Vec<_>) =
            feeds.into_iter().partition(|feed| feed.call.is_wanted());
        lying.feeds.extend(wanted);
        let mut meant =
            (0..lying.feeds.len()).filter(|at| lying.feeds[*at].told.is_some() == is_open);
        let at = meant.nth(place);
        let feed = at.map(|at| lying.feeds.remove(at));
        drop(lying);
        drop(unwanted);
        let Some((at, feed)) = at.zip(feed) else { return false };
        if let Some(feed) = happen(feed) {
            let mut lying = self.lock();
            let at = at.min(lying.feeds.len());
            lying.feeds.insert(at, feed);
        }
        true
    }

    /// Time passes, in which alarms ring in the order of their times.
    pub(crate) fn pass(&self, clock: &SetClock, time: Duration) {
        let end = clock.ticks() + time;
        loop {
            let mut lying = self.lock();
            let first = (0..lying.alarms.len()).min_by_key(|index| lying.alarms[*index].due());
            let first = first.filter(|index| lying.alarms[*index].due() <= end);
            let alarm = first.map(|index| lying.alarms.swap_remove(index));
            drop(lying);
            let until = alarm.as_ref().map_or(end, Alarm::due);
            clock.advance(until.saturating_sub(clock.ticks()));
            match alarm {
                Some(alarm) => alarm.ring(),
                None => return,
            }
        }
    }
}
