//! What is known before it is done: what packages take along, what may be lost to a further edit, what a service missed.

use super::*;

fn package(name: &str) -> Clause {
    clause(&format!("package:{name}"))
}

fn change(package: &str, before: Option<&str>, after: Option<&str>) -> PackageChange {
    PackageChange {
        package: package.into(),
        before: before.map(str::to_owned),
        after: after.map(str::to_owned),
    }
}

fn changes_of(package_preview: Option<PackagePreview>) -> Vec<String> {
    package_preview
        .map(|package_preview| package_preview.packages.iter().map(PackageChange::words).collect())
        .unwrap_or_default()
}

/// A node on which removing kiosk-print takes kiosk-shell along.
fn taking() -> Node {
    let node = Node::default().with("package:kiosk-print", "version", "1.0").with(
        "package:kiosk-shell",
        "version",
        "1.0",
    );
    Node {
        takes: BTreeMap::from([("package:kiosk-print".into(), change("kiosk-shell", Some("1.0"), None))]),
        ..node
    }
}

#[test]
fn an_observing_run_looks_once_at_what_all_packages_that_are_out_of_line_would_take_along() {
    let wanted = state(vec![
        package("kiosk-print").gone(Gone::Yes),
        package("quay-fonts").wait(SwitchFrom::Clause),
        file("/a", "a"),
    ]);
    let mut node = taking();
    let finished = node.run(&wanted, observe());
    assert_eq!(
        changes_of(finished.package_preview),
        ["kiosk-print 1.0 is removed", "quay-fonts 1.1 is installed", "kiosk-shell 1.0 is removed"]
    );
    assert_eq!(node.log, ["preview package:kiosk-print package:quay-fonts"], "also what waits");
    assert_eq!(finished.results[0].would, Some(Decision::Correct));

    let enforced = node.run(&wanted, enforce());
    assert_eq!(enforced.package_preview, None, "it is said what happened");
    node.log.clear();
    node.run(&state(vec![package("kiosk-print").gone(Gone::Yes), file("/a", "b")]), observe());
    assert_eq!(node.log, Vec::<String>::new(), "all packages are in line: nothing is looked at");
}

#[test]
fn what_has_to_wait_for_something_else_is_not_looked_ahead_at() {
    let mut node = taking();
    node.fails.insert("file:/a".into());
    let wanted = state(vec![file("/a", "a"), package("quay-fonts").needs("file:/a")]);
    node.run(&wanted, enforce());
    node.log.clear();
    node.uninspectable.insert("file:/a".into());
    assert_eq!(node.run(&wanted, observe()).package_preview, None);
    assert_eq!(node.log, Vec::<String>::new());
}

#[test]
fn a_clause_that_wants_to_be_alone_refuses_what_takes_another_package_away() {
    let alone = || package("kiosk-print").gone(Gone::Yes).with("only_alone", true);
    let wanted = state(vec![alone()]);
    for settings in [enforce(), observe()] {
        let mut node = taking();
        let finished = node.run(&wanted, settings.clone());
        let why = Leave::NotAlone { packages: vec![change("kiosk-shell", Some("1.0"), None)] };
        assert_eq!(
            why.words().write_dated(),
            "the clause says only_alone = true, but the change includes kiosk-shell 1.0 is removed"
        );
        let left = Decision::Leave { why };
        assert_eq!(finished.results[0].decision, left);
        assert_eq!(finished.results[0].would, (settings.mode == Mode::Observe).then_some(left));
        assert_eq!(
            node.log,
            ["preview package:kiosk-print"],
            "nothing was changed, and it is looked at once"
        );
        assert!(node.things.contains_key("package:kiosk-print"));
    }
    let mut node = Node {
        not_known: vec![Failure {
            at: FailureAt::Correct,
            message: "no such version".into(),
            command: None,
            remedy: None,
        }],
        ..taking()
    };
    node.takes.clear();
    assert_eq!(
        node.run(&wanted, enforce()).results[0].outcome,
        Outcome::Failed,
        "what is not known is not nothing"
    );
    // What another clause wants gone may go, and so may it be changed that nothing comes along with but new packages.
    let mut node = taking();
    let both = state(vec![alone(), package("kiosk-shell").gone(Gone::Yes)]);
    assert_eq!(node.run(&both, enforce()).results[0].outcome, Outcome::Corrected);
    let mut node = taking();
    node.takes.insert("package:kiosk-print".into(), change("quay-fonts", None, Some("1.0")));
    assert_eq!(node.run(&wanted, enforce()).results[0].outcome, Outcome::Corrected);
    assert_eq!(node.log, ["preview package:kiosk-print", "correct package:kiosk-print"]);
}

#[test]
fn what_is_left_for_its_grace_is_kept_once_as_it_is_and_again_after_a_further_edit() {
    let wanted = state(vec![file("/a", "a").grace(250)]);
    let mut node = Node::default();
    node.run(&wanted, enforce());
    node = node.with("file:/a", "content", "first");
    node.log.clear();
    assert_eq!(
        node.run(&wanted, observe()).results[0].kept,
        Vec::new(),
        "nothing will be lost to a run that only observes"
    );
    assert_eq!(node.run(&wanted, enforce()).results[0].kept.len(), 1);
    node = node.with("file:/a", "content", "second");
    node.run(&wanted, enforce());
    node.run(&wanted, enforce());
    assert_eq!(node.log, ["keep file:/a \"first\"", "keep file:/a \"second\""]);
}

#[test]
fn a_service_says_what_was_changed_before_it_was_related_to_it() {
    let alone = || clause("service:kiosk-shell").with("running", true);
    let mut node = Node::default();
    node.run(&state(vec![conf("1"), alone()]), enforce());
    // It runs, the file changes, and nothing relates the two.
    node.run(&state(vec![conf("2"), alone()]), enforce());
    let related = state(vec![conf("2"), service()]);
    let finished = node.run(&related, enforce());
    let missed = &finished.results[1].missed;
    assert_eq!(missed.len(), 1, "{missed:?}");
    assert_eq!(
        (missed[0].cause.as_str(), missed[0].changed_at.as_second(), missed[0].running_since.as_second()),
        ("file:/etc/kiosk/shell.conf", 200, 100)
    );
    assert!(!node.log.iter().any(|done| done.starts_with("restart")), "it is said, not done");
    assert_eq!(
        node.run(&related, enforce()).results[1].missed.len(),
        1,
        "as long as it is not known to have taken it up"
    );
    // The next change restarts it, and so nothing is missed.
    assert_eq!(node.run(&state(vec![conf("3"), service()]), enforce()).results[1].missed, Vec::new());
    assert_eq!(node.run(&state(vec![conf("3"), service()]), enforce()).results[1].missed, Vec::new());
}

#[test]
fn a_service_that_was_restarted_by_hand_has_missed_nothing() {
    let alone = || clause("service:kiosk-shell").with("running", true);
    let mut node = Node::default();
    node.run(&state(vec![conf("1"), alone()]), enforce());
    node.run(&state(vec![conf("2"), alone()]), enforce());
    node.restarted_by_hand_at = Some(node.now());
    assert_eq!(node.run(&state(vec![conf("2"), service()]), enforce()).results[1].missed, Vec::new());
}

#[test]
fn also_a_service_that_is_wanted_only_to_react_says_what_it_missed() {
    let only_reacts = |reaction| clause("service:kiosk-shell").reacts("file:/etc/kiosk/shell.conf", reaction);
    let mut node = Node::default().with("service:kiosk-shell", "running", true);
    node.restarted_by_hand_at = Some(Timestamp::from_second(50).unwrap());
    node.run(&state(vec![conf("1")]), enforce());
    let finished = node.run(&state(vec![conf("1"), only_reacts(Reaction::Reload)]), enforce());
    assert_eq!((finished.results[1].outcome, finished.results[1].missed.len()), (Outcome::InLine, 1));
    // It reloads after the next change, and has missed nothing although it still runs as before.
    let reloads = state(vec![conf("2"), only_reacts(Reaction::Reload)]);
    assert_eq!(node.run(&reloads, enforce()).results[1].missed, Vec::new());
    let finished = node.run(&reloads, enforce());
    assert_eq!((finished.results[1].outcome, &finished.results[1].missed[..]), (Outcome::InLine, &[][..]));
}
