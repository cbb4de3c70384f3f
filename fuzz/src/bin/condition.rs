//! Conditions and loops.
#![no_main]

use constans_core::filter::{Condition, Items, NodeView};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let nothing = Default::default();
    if let Ok(condition) = Condition::parse(text, &["a"]) {
        let _ = condition.holds(&NodeView::sample(), &nothing);
    }
    if let Ok(items) = Items::parse(text, &["a"]) {
        let _ = items.of(&NodeView::sample(), &nothing);
    }
});
