//! Lines in files that others own.
#![no_main]

use constans_core::part::Line;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let mut parts = text.splitn(4, '\n');
    let [line, replaces, place] = [(); 3].map(|()| parts.next().filter(|part| !part.is_empty()));
    let text = parts.next().unwrap_or_default();
    let Ok(line) = Line::new(line, replaces, place) else { return };
    let _ = line.read(text);
    if let Ok(written) = line.write(text) {
        assert!(line.is_there(&written), "{written:?}");
        assert_eq!(line.write(&written).ok().as_ref(), Some(&written), "a second time changes nothing");
    }
    let removed = line.remove(text);
    assert!(!line.is_there(&removed), "{removed:?}");
});
