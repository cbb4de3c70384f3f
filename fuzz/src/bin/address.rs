//! Addresses, patterns of them, and versions of packages.
#![no_main]

use constans_core::address::{ClauseAddress, fits};
use constans_core::kind::{VersionRequirement, duration_secs};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let (pattern, address) = text.split_once('\n').unwrap_or((text, text));
    if let Ok(address) = ClauseAddress::parse(address) {
        assert_eq!(ClauseAddress::parse(address.as_str()).as_ref(), Ok(&address));
        let _ = fits(pattern, &address);
    }
    if let Ok(wish) = VersionRequirement::parse(text) {
        assert_eq!(
            VersionRequirement::parse(&wish.to_string()).map(|again| again.to_string()),
            Ok(wish.to_string())
        );
    }
    let _ = duration_secs(text);
});
