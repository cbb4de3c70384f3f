//! Settings in JSON and TOML files.
#![no_main]

use constans_core::part::Format;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| constans_fuzz::setting(text, &[Format::Json, Format::Toml]));
