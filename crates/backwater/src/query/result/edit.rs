//! The last step between operators: what happens to the entries of an order.

use std::sync::Arc;

use smallvec::SmallVec;

use crate::error::{Error, ErrorKind};

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

/// What happens to the entries of an order; mostly to one or two.
pub(crate) type Edits<E> = SmallVec<[Edit<E>; 2]>;

/// What happens to one entry of the order.
#[derive(Debug, Clone)]
pub(crate) enum Edit<E> {
    Enter(E),
    Leave(E),
    /// It stays as it is, where it is; what its rows hold has changed, and shows.
    Change(E),
    Replace {
        old: E,
        new: E,
        /// Whether its place in the order may be another one.
        reorder: bool,
        /// Whether its visible columns changed.
        changed: bool,
    },
}
