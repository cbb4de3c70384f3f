//! What a node reports, as the server takes it.
#![no_main]

use constans_core::attention::ExceptionSort;
use constans_core::episode::{follow, keep_causes};
use constans_server::intake::{report::plain, report_times::bounded_times, texts};
use constans_wire::{report::RunReport, text::without_nul};
use jiff::Timestamp;
use libfuzzer_sys::fuzz_target;
use serde_json::json;
use std::collections::BTreeMap;

/// The largest report that is kept, in bytes of JSON.
const MAX_KEPT: usize = 8 * 1024 * 1024;

fuzz_target!(|json: &[u8]| {
    let mut json = json.to_vec();
    without_nul(&mut json);
    let Ok(report) = serde_json::from_slice::<RunReport>(&json) else { return };
    let _ = plain(&report, report.run, Vec::new());
    let mut report = report.bounded();
    assert_eq!(report.clone().bounded(), report, "bounded once is bounded");
    bounded_times(&mut report, jiff::SignedDuration::ZERO, Timestamp::now());
    for result in &report.clauses {
        let _ = ExceptionSort::of(result);
    }
    let _ = follow(&BTreeMap::new(), &report.clauses, !report.partial);
    keep_causes(&BTreeMap::new(), &mut report.clauses);
    let mut body = json!(report);
    assert!(body.to_string().len() < MAX_KEPT);
    assert!(!body.to_string().contains("\\u0000"), "PostgreSQL holds no NUL");
    let whole = body.clone();
    let taken = texts::take_out(&mut body);
    let places = serde_json::from_value(json!(taken.places)).expect("what was written is read");
    texts::put_in(&mut body, &places, &taken.texts);
    assert_eq!(body, whole, "texts that were taken out come in again");
});
