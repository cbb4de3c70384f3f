//! What dpkg-query and rpm print.
#![no_main]

use constans_host::packages::fuzzing;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    fuzzing::dpkg(text);
    fuzzing::rpm(text);
});
