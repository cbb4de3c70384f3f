//! What nft lists.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| constans_host::kinds::fuzzing::nft(text));
