#![no_main]

#[path = "../bodies.rs"]
#[allow(dead_code)]
mod bodies;

libfuzzer_sys::fuzz_target!(|data: &[u8]| bodies::arrow(data));
