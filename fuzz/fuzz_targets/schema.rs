//! Anything as a schema: problems with their places, or a schema that a cache can be made with.
#![no_main]

#[path = "../properties.rs"]
mod properties;

libfuzzer_sys::fuzz_target!(|text: &str| properties::schema(text));
