//! What is known before it is done: what packages take along, what a further edit would destroy, what a service missed.

use constans_core::run::{ClauseResult, Decision, Leave, Outcome};
use constans_e2e::Machine;
use constans_wire::report::RunReport;

fn of<'r>(report: &'r RunReport, address: &str) -> &'r ClauseResult {
    report.clauses.iter().find(|result| result.address.as_str() == address).expect("the report has it")
}

fn run(machine: &Machine, verb: &str, clauses: &str) -> RunReport {
    machine.run(&arguments(verb, &document(machine, clauses), &["--output", "json"])).report()
}

fn document(machine: &Machine, clauses: &str) -> String {
    machine.document("ahead.toml", &format!("[baseline]\nname = \"ahead\"\n\n{clauses}"))
}

fn arguments<'a>(verb: &'a str, document: &'a str, more: &[&'a str]) -> Vec<&'a str> {
    let yes = if verb == "enforce" { &["--yes"][..] } else { &[] };
    [&[verb, "--file", document], yes, more].concat()
}

const SHELL: &str = "[[clause]]\nwhat = \"package:kiosk-shell\"\nversion = \"3.2.4\"\n";
const NO_FONTS: &str = "[[clause]]\nwhat = \"package:quay-fonts\"\ngone = true\n";

#[test]
fn what_packages_take_along_is_what_observing_said() {
    let machine = Machine::fresh();
    run(&machine, "enforce", SHELL);
    let before = machine.everything();
    let observed = run(&machine, "observe", NO_FONTS);
    assert_eq!(machine.everything(), before, "looking ahead changes nothing");
    let package_preview = observed.package_preview.clone().unwrap();
    let changes: Vec<String> = package_preview.packages.iter().map(|change| change.words()).collect();
    assert_eq!(changes, ["kiosk-shell 3.2.4 is removed", "quay-fonts 1.1 is removed"], "{package_preview:?}");
    assert_eq!(package_preview.native.len(), 1, "one reckoning");
    let shown = machine.run(&arguments("observe", &document(&machine, NO_FONTS), &[])).stdout;
    assert!(
        shown.contains(
            "packages that would be installed, removed or changed\n   kiosk-shell 3.2.4 is removed\n"
        ),
        "{shown}"
    );

    // The reckoning is compared with what truly happens.
    let alone = format!("{NO_FONTS}only_alone = true\n");
    let refused = run(&machine, "enforce", &alone);
    let Decision::Leave { why: Leave::NotAlone { packages } } = &of(&refused, "package:quay-fonts").decision
    else {
        panic!("{refused:?}")
    };
    assert_eq!(packages[..], package_preview.packages[..1]);
    let both = format!("{alone}{}", SHELL.replace("version = \"3.2.4\"", "gone = true"));
    assert_eq!(
        run(&machine, "observe", &both).package_preview.unwrap().packages,
        package_preview.packages,
        "both are wanted gone"
    );
    let done = run(&machine, "enforce", NO_FONTS);
    assert_eq!(of(&done, "package:quay-fonts").packages, package_preview.packages);
    assert_eq!(done.package_preview, None);

    // What comes along is said too, of all packages at once; and nothing is asked when all are in line.
    let two = format!(
        "{SHELL}[[clause]]\nwhat = \"package:gate-reader\"\nversion = \"9.*\"\n[[clause]]\nwhat = \"package:quay-games\"\n"
    );
    let ahead = run(&machine, "observe", &two).package_preview.unwrap();
    let changes: Vec<String> = ahead.packages.iter().map(|change| change.words()).collect();
    assert_eq!(
        changes,
        ["kiosk-shell 3.2.4 is installed", "quay-fonts 1.1 is installed", "quay-games 1.1 is installed"]
    );
    let [unknown] = &ahead.not_known[..] else { panic!("{:?}", ahead.not_known) };
    assert_eq!(
        unknown.message,
        "no offered version of gate-reader matches 9.*, by the present package index"
    );
    assert!(
        unknown.command.as_ref().is_some_and(|step| step.what.contains("gate-reader")),
        "with the command that found it out: {unknown:?}"
    );
    let nowhere = "[[clause]]\nwhat = \"package:quay-gmaes\"\n";
    let unknown = run(&machine, "observe", nowhere).package_preview.unwrap().not_known;
    assert_eq!(unknown[0].message, "no package source offers quay-gmaes, by the present package index");
    let shown = machine.run(&arguments("observe", &document(&machine, nowhere), &[]));
    assert!(
        shown.stdout.contains("no package source offers quay-gmaes") && shown.stdout.contains("$ "),
        "{}",
        shown.stdout
    );
    run(&machine, "enforce", SHELL);
    let in_line = run(&machine, "observe", SHELL);
    assert!(
        in_line.package_preview.is_none()
            && in_line
                .clauses
                .iter()
                .all(|result| result.native.iter().all(|step| !step.what.contains("--simulate")))
    );
}

#[test]
fn a_drift_that_is_left_for_its_grace_is_in_the_attic_before_somebody_edits_it_again() {
    let machine = Machine::fresh();
    let banner = "[[clause]]\nwhat = \"file:/etc/issue.net\"\ntext = \"Skerry Line\\n\"\ngrace = \"1h\"\n";
    run(&machine, "enforce", banner);
    machine.root.write("/etc/issue.net", "first edit\n").unwrap();
    let left = run(&machine, "enforce", banner);
    let kept = &of(&left, "file:/etc/issue.net").kept;
    assert_eq!((kept.len(), kept[0].attic), (1, 1), "{left:?}");
    machine.root.write("/etc/issue.net", "second edit\n").unwrap();
    let shown = machine.run(&arguments("enforce", &document(&machine, banner), &[])).stdout;
    assert!(shown.contains("a copy of /etc/issue.net as it is now is number 2 in the attic"), "{shown}");
    assert_eq!(machine.run(&["attic", "show", "1"]).stdout, "first edit\n");
    let listed = machine.run(&["attic", "list"]).stdout;
    assert_eq!(listed.matches("copy of file:/etc/issue.net during its grace").count(), 2, "{listed}");
    // Replaced at last, it is not kept twice.
    let now = machine
        .run(&arguments(
            "enforce",
            &document(&machine, banner),
            &["--now", "the quay waits", "--output", "json"],
        ))
        .report();
    let result = of(&now, "file:/etc/issue.net");
    assert_eq!((result.outcome, result.kept[0].attic), (Outcome::Corrected, 2));
    assert_eq!(machine.root.read("/etc/issue.net").unwrap(), "Skerry Line\n");
}

#[test]
fn a_service_says_what_changed_before_anything_related_the_two() {
    let machine = Machine::fresh();
    let wants = |idle: u32, relation: &str| {
        format!(
            "{SHELL}[[clause]]\nwhat = \"file:/etc/kiosk-idle.conf\"\ntext = \"idle = {idle}\\n\"\n[[clause]]\nwhat = \"service:kiosk-shell\"\nrunning = true\nneeds = [\"package:kiosk-shell\"]\n{relation}"
        )
    };
    let related = "reacts_to = [\"file:/etc/kiosk-idle.conf\"]\nreaction = \"restart\"\n";
    run(&machine, "enforce", &wants(60, ""));
    run(&machine, "enforce", &wants(90, ""));
    let missed = run(&machine, "enforce", &wants(90, related));
    assert_eq!(of(&missed, "service:kiosk-shell").missed.len(), 1, "{missed:?}");
    assert_eq!(machine.service("kiosk-shell")["restarts"], 0);
    let shown = machine.run(&arguments("observe", &document(&machine, &wants(90, related)), &[])).stdout;
    assert!(
        shown.contains("file:/etc/kiosk-idle.conf was changed at ")
            && shown.contains("restart it by hand if it has to load the change"),
        "{shown}"
    );
    let restarted = run(&machine, "enforce", &wants(120, related));
    assert_eq!(
        (
            of(&restarted, "service:kiosk-shell").missed.len(),
            machine.service("kiosk-shell")["restarts"].as_u64()
        ),
        (0, Some(1))
    );
}
