//! Whatever someone writes, a check ends with findings whose places are in the document.

use constans_core::check::{Surroundings, check, check_single};
use constans_core::document::{KitFiles, Level};
use constans_core::filter::Condition;
use proptest::prelude::*;
use std::collections::BTreeMap;

const DOCUMENT: &str = include_str!("../../../demo/kits/kiosk-floor/baselines/kiosk-lockdown.toml");
const CASE: &str = include_str!("../../../demo/kits/kiosk-floor/cases/two-lanes.toml");
const MANIFEST: &str = include_str!("../../../demo/kits/kiosk-floor/kit.toml");

fn kit(manifest: &str, baseline: &str, case: &str) -> KitFiles {
    let files = [
        ("kit.toml", manifest),
        ("baselines/kiosk-lockdown.toml", baseline),
        ("cases/two-lanes.toml", case),
        ("renders/shell.conf.jinja", "x\n"),
    ];
    KitFiles::new(files.map(|(path, text)| (path.to_owned(), text.as_bytes().to_vec())))
}

/// Checks a kit and holds each finding's place against the file that it names.
fn places_are_true(files: &KitFiles) -> Result<(), TestCaseError> {
    for finding in check(files.clone(), None, Surroundings::default()).findings {
        let place = &finding.place;
        if let Some(text) = files.text(&place.file).filter(|_| place.end > 0) {
            prop_assert!(place.start <= place.end && place.end <= text.len(), "{finding:?}");
            prop_assert!(
                text.is_char_boundary(place.start) && text.is_char_boundary(place.end),
                "{finding:?}"
            );
            prop_assert_eq!(text[..place.start].matches('\n').count() + 1, place.line, "{:?}", finding);
        }
        prop_assert!(!finding.message.contains('\n') && !finding.message.is_empty(), "{finding:?}");
        let _ = finding.explain(files, "");
    }
    Ok(())
}

/// Cuts something out of a text, doubles it or puts something else there.
fn mutated(text: &'static str) -> impl Strategy<Value = String> {
    let other = prop_oneof![
        Just(String::new()),
        "[\\[\\]{}\"'=#\n.,:*|%é\u{7f}]{1,6}",
        Just("{{ params.lanes }}".to_owned()),
        Just("\"\"\"".to_owned()),
        Just("99999999999999999999".to_owned()),
        Just("gone = true\n".to_owned()),
    ];
    (any::<prop::sample::Index>(), 0..40_usize, other).prop_map(move |(at, length, other)| {
        let mut start = at.index(text.len());
        while !text.is_char_boundary(start) {
            start -= 1;
        }
        let mut end = (start + length).min(text.len());
        while !text.is_char_boundary(end) {
            end -= 1;
        }
        format!("{}{other}{}", &text[..start], &text[end.max(start)..])
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn a_mutated_baseline_ends_with_true_places(baseline in mutated(DOCUMENT)) {
        places_are_true(&kit(MANIFEST, &baseline, CASE))?;
    }

    #[test]
    fn a_mutated_case_or_manifest_ends_with_true_places(case in mutated(CASE), manifest in mutated(MANIFEST)) {
        places_are_true(&kit(&manifest, DOCUMENT, &case))?;
    }

    #[test]
    fn any_text_is_read_to_its_end(text in "[\\[\\]{}\"'=#a-c\n .\u{0}é]{0,200}") {
        places_are_true(&kit(&text, &text, &text))?;
        let _ = Condition::parse(&text, &["a"]);
        if let Ok(formatted) = constans_core::kit::format(&text) {
            prop_assert_eq!(constans_core::kit::format(&formatted).ok(), Some(formatted.clone()));
        }
    }
}

fn errors(text: &str) -> Vec<String> {
    let checked = check_single("hostile.toml", text.as_bytes().to_vec());
    checked
        .findings
        .iter()
        .filter(|finding| finding.level == Level::Error)
        .map(|finding| finding.code.to_string())
        .collect()
}

fn clause(rest: &str) -> String {
    format!("[baseline]\nname = \"hostile\"\n[[clause]]\n{rest}\n")
}

#[test]
fn what_is_built_to_explode_is_a_finding() {
    let deep = |open: &str, close: &str| {
        clause(&format!("what = \"file:/x\"\ntext = {}{}", open.repeat(100_000), close.repeat(100_000)))
    };
    let lists = clause(&format!(
        "what = \"file:/x\"\nwhere = \"[{0}].all(a, [{0}].all(b, true))\"",
        vec!["1"; 400].join(",")
    ));
    for (text, code) in [
        (deep("[", "]"), "C0114"),
        (deep("{a=", "}"), "C0114"),
        ("[a]\n".repeat(1_000_000), "C0101"),
        ("x".repeat(5 * 1024 * 1024), "C0114"),
        (
            clause(
                "what = \"file:/x\"\ntext = \"{% for a in range(99999) %}{% for b in range(99999) %}x{% endfor %}{% endfor %}\"",
            ),
            "C0150",
        ),
        (
            clause("what = \"file:/x\"\ntext = \"{% macro f(n) %}{{ f(n) }}{% endmacro %}{{ f(1) }}\""),
            "C0150",
        ),
        (clause("what = \"file:/x\"\ntext = \"{{ 'x' * 1000000000 }}\""), "C0150"),
        (
            clause(
                "for = { n = \"[1,2,3].map(a, [1,2,3].map(b, [1,2].map(c, c)))\" }\nwhat = \"file:/{{ n }}\"",
            ),
            "C0142",
        ),
        (lists, "C0140"),
        (clause("what = \"file:/x\\u0007\""), "C0121"),
        (clause("what = \"file:/../etc/shadow\""), "C0121"),
        (clause("what = \"file:/x\"\ncopy = \"../../etc/shadow\""), "C0112"),
    ] {
        let found = errors(&text);
        assert!(
            found.iter().any(|found| found == code),
            "{code} in {found:?} for {}",
            &text[..text.len().min(120)]
        );
    }
}

#[test]
fn many_mistakes_are_all_found_in_bounded_time() {
    let many: String = (0..2_000)
        .map(|at| format!("[[clause]]\nwhat = \"pakage:{at}\"\nneeds = [\"package:{at}\"]\n"))
        .collect();
    let files =
        BTreeMap::from([("hostile.toml".to_owned(), format!("[baseline]\nname = \"hostile\"\n{many}"))]);
    assert_eq!(errors(&files["hostile.toml"]).len(), 2_000);
}
