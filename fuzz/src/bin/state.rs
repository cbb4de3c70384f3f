//! What a node gets to be, as a server sends it: read, and carried out on a simulated host, twice.
#![no_main]

use constans_core::state::EffectiveState;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|json: &[u8]| {
    let Ok(state) = serde_json::from_slice::<EffectiveState>(json) else { return };
    let _ = (state.is_as_named(), state.names(), state.content_names());
    constans_fuzz::carry_out(&state);
});
