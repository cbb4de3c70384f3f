//! Settings in files of sections and of keyed lines.
#![no_main]

use constans_core::part::Format;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| constans_fuzz::setting(
    text,
    &[Format::Ini, Format::KeyEqualsValue, Format::KeySpaceValue]
));
