//! Any text as output of programs and contents of files of the operating system.

use super::{clock_sources, listening, mount, package_source, packet_rule, ssh_key, trust_anchor};

/// What nft lists, and the file that it reads at boot.
pub fn nft(text: &str) {
    let _ = packet_rule::listed(text);
    let _ = packet_rule::rules_of(text);
}

/// Files of which each line, or the whole, is read.
pub fn system_files(text: &str) {
    for entry in mount::entries(text) {
        assert!(!entry.device.starts_with('#'));
    }
    for line in text.lines() {
        assert_eq!(mount::unescaped(&mount::escaped(line)), line);
        let _ = listening::socket(line, "tcp", "0A");
        let _ = clock_sources::chrony_source(line);
        if let Some(key) = ssh_key::read(line) {
            assert!(line.contains(key.key.split(' ').next_back().unwrap_or_default()));
        }
    }
    let _ = clock_sources::ntp_lines(text);
    let _ = trust_anchor::certificates(text);
    package_source::fuzz(text);
    crate::accounts::fuzz(text);
}
