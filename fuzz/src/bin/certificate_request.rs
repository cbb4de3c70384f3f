//! Certificate requests of machines that want to join, and invitations as a machine reads them.
#![no_main]

use constans_server::trust::ReadRequest;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let _ = ReadRequest::read(text);
    let _ = constans_agent::join::parse_invitation(text, "a file");
});
