//! A whole kit from one text: manifest, baseline and case are cut out of it.
#![no_main]

use constans_core::check::{Surroundings, check};
use constans_core::document::KitFiles;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let mut parts = text.splitn(4, "----\n");
    let mut part = || parts.next().unwrap_or_default().as_bytes().to_vec();
    let files = [
        ("baselines/a.toml", part()),
        ("kit.toml", part()),
        ("cases/a.toml", part()),
        ("renders/a.jinja", part()),
    ];
    let files = KitFiles::new(files.map(|(path, bytes)| (path.to_owned(), bytes)));
    for finding in check(files.clone(), None, Surroundings::default()).findings {
        let _ = finding.explain(&files, "");
    }
});
