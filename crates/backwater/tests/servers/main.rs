//! What programs promise that talk to a server.

#![cfg(feature = "remote")]

mod a_remote_asks_once;
mod a_remote_is_patient;
mod a_view_states_its_query;
mod asks_survive_faults;
mod edits_are_sent;
mod edits_arrive;
mod feeds_are_followed;
mod http_caching_cases;
// What several of them stand on.
mod kept_calls;
mod killed_disk;
mod network;
