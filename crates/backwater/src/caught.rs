//! Calls of a program's own code, whose panics harm nothing but themselves.

use std::any::Any;
use std::panic::{AssertUnwindSafe, catch_unwind};

/// Calls something of a program's own; a panic becomes its message.
pub(crate) fn caught<T>(call: impl FnOnce() -> T) -> Result<T, String> {
    catch_unwind(AssertUnwindSafe(call)).map_err(|payload| {
        let message = message(&*payload);
        // What was thrown may panic as it goes.
        if let Err(again) = catch_unwind(AssertUnwindSafe(|| drop(payload))) {
            std::mem::forget(again);
        }
        message
    })
}

fn message(payload: &(dyn Any + Send)) -> String {
    let text = payload.downcast_ref::<&str>().map(|text| (*text).to_owned());
    text.or_else(|| payload.downcast_ref::<String>().cloned()).unwrap_or_else(|| "…".to_owned())
}

/// Where tests let something fail, or happen meanwhile.
#[cfg(all(test, feature = "sqlite", feature = "unicode"))]
pub(crate) use crate::tests::step;

#[cfg(not(all(test, feature = "sqlite", feature = "unicode")))]
#[inline(always)]
pub(crate) fn step(_place: &str) {}
