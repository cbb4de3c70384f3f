//! Writing kits with the client: from nothing to a kit that checks, is tried, shown, ordered and compared.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_e2e::story::{change, kits};
use constans_e2e::{Ended, client, demo_kit};
use std::fs;
use std::path::Path;

fn run(arguments: &[&str]) -> Ended {
    client(arguments)
}

fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

#[test]
fn a_new_kit_checks_is_formatted_and_its_case_comes_out_as_expected() {
    let folder = tempfile::tempdir().unwrap();
    let made = run(&["kit", "new", "lighthouse", "--into", text(folder.path())]);
    assert_eq!(made.exit, Some(0), "{}", made.stderr);
    assert!(made.stdout.contains("no findings"), "{}", made.stdout);
    let kit = folder.path().join("lighthouse");
    assert!(run(&["kit", "check", "--strict", text(&kit)]).stdout.ends_with("no findings\n"));
    assert_eq!(run(&["kit", "fmt", "--check", text(&kit)]).exit, Some(0));
    let tried = run(&["kit", "test", text(&kit)]);
    assert_eq!((tried.exit, tried.stdout.ends_with("passed: 1 case\n")), (Some(0), true), "{}", tried.stdout);
    let again = run(&["kit", "new", "lighthouse", "--into", text(folder.path())]);
    assert!(
        again.exit == Some(1) && again.stderr.contains("already exists; nothing was written"),
        "{}",
        again.stderr
    );
    assert!(run(&["kit", "new", "Light House"]).stderr.contains("`Light House` is not a valid kit name"));
}

#[test]
fn the_demos_kits_check_strictly_are_formatted_and_all_their_cases_come_out() {
    for kit in ["quay-base", "kiosk-floor", "gate-reader", "ship-gateway"] {
        let kit = demo_kit(kit);
        let checked = run(&["kit", "check", "--strict", &kit]);
        assert_eq!(checked.exit, Some(0), "{}", checked.stdout);
        assert_eq!(run(&["kit", "fmt", "--check", &kit]).exit, Some(0));
        let tried = run(&["kit", "test", &kit]);
        assert_eq!(tried.exit, Some(0), "{}", tried.stdout);
    }
}

#[test]
fn a_case_that_comes_out_otherwise_shows_what_and_where() {
    let kits = kits();
    let kit = kits.path().join("kiosk-floor");
    change(&kit.join("cases/two-lanes.toml"), "idle = 90", "idle = 60");
    change(
        &kit.join("cases/two-lanes.toml"),
        "what = \"file:/etc/kiosk/lanes/C.conf\"\nabsent = true",
        "what = \"file:/etc/kiosk/lanes/C.conf\"",
    );
    let tried = run(&["kit", "test", text(&kit)]);
    assert_eq!(tried.exit, Some(1));
    for part in [
        "-idle = 90",
        "+idle = 60",
        "presence  expected a clause   got none",
        "cases/two-lanes.toml:",
        "1 of 3 cases failed",
    ] {
        assert!(tried.stdout.contains(part), "{part} in {}", tried.stdout);
    }
    let junit = run(&["kit", "test", "--output", "junit", text(&kit)]);
    assert!(
        junit.stdout.contains("tests=\"3\" failures=\"1\"")
            && junit.stdout.contains("<failure message=\"2 failed\">"),
        "{}",
        junit.stdout
    );
}

#[test]
fn a_required_kit_is_found_beside_or_named_and_missed_all_at_once() {
    let kits = kits();
    let ship = kits.path().join("ship-gateway");
    fs::rename(kits.path().join("quay-base"), kits.path().join("elsewhere")).unwrap();
    let alone = run(&["kit", "check", text(&ship)]);
    assert!(
        alone.exit == Some(0)
            && alone.stdout.contains("C0182")
            && alone.stdout.contains("--with ../quay-base"),
        "{}",
        alone.stdout
    );
    let named = run(&["kit", "check", text(&ship), "--with", text(&kits.path().join("elsewhere"))]);
    assert!(named.stdout.ends_with("no findings\n"), "{}", named.stdout);
    change(&ship.join("kit.toml"), "^1.0", "^2.0");
    let unmet = run(&["kit", "check", text(&ship), "--with", text(&kits.path().join("elsewhere"))]);
    assert_eq!(unmet.exit, Some(1));
    assert!(
        unmet
            .stdout
            .contains("ship-gateway@0.9.0 requires quay-base ^2.0, and no release of quay-base matches"),
        "{}",
        unmet.stdout
    );
    assert!(unmet.stdout.contains("hint: there are quay-base 1.3.0"), "{}", unmet.stdout);
}

#[test]
fn a_kit_is_shown_to_people_who_read_no_documents_and_nothing_in_it_can_act_in_a_browser() {
    let kits = kits();
    let kit = kits.path().join("quay-base");
    let shown = run(&["kit", "show", text(&kit)]).stdout;
    for part in [
        "The account guest must not exist.",
        "satisfies SK-3",
        "Days that journals are kept (default 90)",
        "Left over from the old image",
    ] {
        assert!(shown.contains(part), "{part} in {shown}");
    }
    change(&kit.join("kit.toml"), "What every node", "<script>alert(1)</script> What every node");
    let page = run(&["kit", "show", "--output", "html", text(&kit)]).stdout;
    assert!(
        page.starts_with("<!doctype html>") && page.contains("&lt;script&gt;") && !page.contains("<script"),
        "{page}"
    );
}

#[test]
fn the_order_tells_the_reason_of_each_move() {
    let order = run(&["kit", "order", &demo_kit("quay-base"), "upkeep"]).stdout;
    assert!(
        order.contains(
            "directory:/etc/security/limits.d   moved up: file:/etc/security/limits.d/quay-core.conf needs it"
        ),
        "{order}"
    );
    assert!(order.contains("lies in directory:/etc/security  (implied)"), "{order}");
    let dot = run(&["kit", "order", "--output", "dot", &demo_kit("quay-base"), "upkeep"]).stdout;
    assert!(dot.starts_with("digraph order {") && dot.contains("style = dashed"), "{dot}");
    assert!(
        run(&["kit", "order", &demo_kit("quay-base"), "upkep"]).stderr.contains("did you mean `upkeep`?")
    );
}

#[test]
fn two_folders_are_compared_clause_by_clause() {
    let kits = kits();
    let new = kits.path().join("gate-reader");
    change(&new.join("baselines/reader.toml"), "version = \"2.1.4\"", "version = \"2.2.*\"");
    change(&new.join("copies/tariffs.csv"), "adult", "grown-up");
    let difference = run(&["kit", "diff", &demo_kit("gate-reader"), text(&new)]).stdout;
    for part in [
        "baseline reader  changed",
        "package:gate-reader  changed",
        "version  was 2.1.4, is 2.2.*",
        "copies/tariffs.csv  changed",
        "grown-up",
    ] {
        assert!(difference.contains(part), "{part} in {difference}");
    }
    assert!(
        run(&["kit", "diff", &demo_kit("gate-reader"), &demo_kit("gate-reader")]).stdout.ends_with("none\n")
    );
}

#[test]
fn kinds_are_found_shown_and_codes_explained() {
    assert!(run(&["kind", "find", "close", "a", "port"]).stdout.starts_with("packet_rule"));
    let shown = run(&["kind", "show", "file"]).stdout;
    assert!(shown.contains("check_with") && shown.contains("what = \"file:/etc/issue\""), "{shown}");
    assert!(run(&["kind", "show", "firewall"]).stderr.contains("did you mean `packet_rule`?"));
    assert!(run(&["explain", "C0120"]).stdout.contains("an unknown kind"));
    assert!(run(&["explain", "C9999"]).stderr.contains("no finding has the code"));
    let schema: serde_json::Value = serde_json::from_str(&run(&["kind", "schema"]).stdout).unwrap();
    assert!(schema["properties"]["clause"].is_object());
}

#[test]
fn formatting_replaces_a_document_whole_and_leaves_a_broken_one_as_it_is() {
    let kits = kits();
    let document = kits.path().join("gate-reader/baselines/reader.toml");
    change(&document, "summary = \"A gate", "# kept\nsummary   = \"A gate");
    assert_eq!(run(&["kit", "fmt", "--check", text(&document)]).exit, Some(1));
    assert_eq!(run(&["kit", "fmt", text(&document)]).exit, Some(0));
    assert!(fs::read_to_string(&document).unwrap().contains("# kept\nsummary = \"A gate"));
    fs::write(&document, "[baseline\n").unwrap();
    let broken = run(&["kit", "fmt", text(&document)]);
    assert!(
        broken.exit == Some(1) && broken.stderr.contains("the file was not changed"),
        "{}",
        broken.stderr
    );
    assert_eq!(fs::read_to_string(&document).unwrap(), "[baseline\n");
}
