//! Anything as a sample: refused, or a schema that reads it.
#![no_main]

#[path = "../properties.rs"]
mod properties;

libfuzzer_sys::fuzz_target!(|data: &[u8]| properties::infer(data));
