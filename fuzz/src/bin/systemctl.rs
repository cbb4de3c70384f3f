//! What systemctl prints.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| constans_host::services::fuzz(text));
