//! Keys of package repositories.
#![no_main]

use constans_host::openpgp::fingerprint;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|key: &[u8]| {
    if let Ok(fingerprint) = fingerprint(key) {
        assert!(matches!(fingerprint.len(), 40 | 64), "{fingerprint}");
    }
});
