//! Formatting: what it writes, it leaves as it is.
#![no_main]

use constans_core::kit::format;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    if let Ok(formatted) = format(text) {
        assert_eq!(format(&formatted).ok().as_ref(), Some(&formatted));
    }
});
