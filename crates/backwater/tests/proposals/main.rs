//! What proposed schemas promise.

mod proposals_hold_for_later_responses;
mod proposals_read_their_samples;
