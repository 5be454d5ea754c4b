//! A transport that keeps its calls, to be answered by hand.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::{Arc, Mutex};
use std::time::Duration;

use backwater::remote::{Alarm, Call, Transport};

#[derive(Clone, Default)]
pub(crate) struct KeptCalls(pub(crate) Arc<Mutex<Vec<Call>>>);

impl Transport for KeptCalls {
    fn start(&self, _: http::Request<Vec<u8>>, call: Call) {
        self.0.lock().unwrap().push(call);
    }

    fn wake_after(&self, _: Duration, _: Alarm) {}
}
