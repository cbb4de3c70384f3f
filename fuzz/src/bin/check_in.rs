//! What a node says as it checks in and asks to join, and filters over what it says of itself.
#![no_main]

use constans_core::filter::{Condition, NodeView};
use constans_wire::{check_in::CheckIn, join::JoinRequest, text::without_nul};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|json: &[u8]| {
    let mut json = json.to_vec();
    without_nul(&mut json);
    let _ = serde_json::from_slice::<JoinRequest>(&json);
    let Ok(said) = serde_json::from_slice::<CheckIn>(&json) else { return };
    let stable = said.about.only_stable();
    assert!(!serde_json::to_string(&stable).expect("it is JSON").contains("\\u0000"));
    let view = NodeView { about: stable, ..NodeView::sample() };
    for filter in
        ["about.os.name == \"debian\" && labels.site != \"\"", "has(labels.site) || about.memory.mib > 1"]
    {
        if let Ok(condition) = Condition::parse_for_group(filter) {
            let _ = condition.holds(&view, &Default::default());
        }
    }
});
