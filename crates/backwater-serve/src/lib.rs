//! A stand-in server, on this machine alone: the made-up API of the Saltmere ferries, or a recorded
//! session that is played.
//!
//! What it answers is a function of requests and a little state ([`Ferries::answer`],
//! [`Playback::answer`]), which tests call without a socket; [`start`] puts one behind a socket,
//! with faults if they are asked for.
//!
//! ```
//! use std::sync::Arc;
//!
//! use backwater_serve::{Faults, Ferries};
//!
//! let server = backwater_serve::start(Arc::new(Ferries::new()), Faults::default(), 0)?;
//! println!("listening on {}", server.url()); // such as http://127.0.0.1:40123
//! # Ok::<(), std::io::Error>(())
//! ```

mod faults;
mod ferries;
mod socket;

use backwater::remote::Playback;
use http::{Request, Response};

pub use faults::Faults;
pub use ferries::Ferries;
pub use socket::{Running, start};

/// What follows the response of a request for a feed, as it happens: texts for its body.
pub type Events = tokio::sync::mpsc::UnboundedReceiver<String>;

/// What was sent in answer to a request.
///
/// See [`Answers::note`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Sent {
    /// A response of that status, with a body of so many bytes.
    Response(u16, usize),
    /// Status 503, on purpose.
    Failure,
    /// A part of the response, on purpose.
    Part,
}

/// Answers requests.
///
/// See [`Ferries`] for an example.
pub trait Answers: Send + Sync {
    /// The response to a request.
    fn answer(&self, request: &Request<Vec<u8>>) -> Response<Vec<u8>>;

    /// What became of a request, for a log.
    fn note(&self, request: &Request<Vec<u8>>, sent: Sent) {
        let _ = (request, sent);
    }

    /// What follows the response of a request for a feed, as it happens; `None` if it is not one.
    fn follow(&self, request: &Request<Vec<u8>>) -> Option<Events> {
        let _ = request;
        None
    }
}

impl Answers for Playback {
    fn answer(&self, request: &Request<Vec<u8>>) -> Response<Vec<u8>> {
        Playback::answer(self, request)
    }
}
