//! Anything as a response or a patch: an error that leaves nothing behind, or rows.
#![no_main]

#[path = "../properties.rs"]
mod properties;

libfuzzer_sys::fuzz_target!(|data: &[u8]| properties::ingest(data));
