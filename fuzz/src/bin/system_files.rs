//! Files of the operating system that say something line by line, and certificates.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| constans_host::kinds::fuzzing::system_files(text));
