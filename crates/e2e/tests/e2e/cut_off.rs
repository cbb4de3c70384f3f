//! The agent killed by SIGKILL at every one of its steps: nothing half-written, nothing lost, no reaction forgotten.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_e2e::Machine;
use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

const OLD_ISSUE: &str = "Debian GNU/Linux 12\n";
const NEW_ISSUE: &str = "Skerry Line\n";
const OLD_CONF: &str = "idle = 90\n";
const NEW_CONF: &str = "idle = 45\n";

/// Touches every kind that writes, with an old content to lose and two reactions to forget.
fn document(conf: &str) -> String {
    format!(
        r#"
[baseline]
name = "cut-off"

[[clause]]
what = "package:kiosk-shell"

[[clause]]
what = "account_group:kiosk"

[[clause]]
what = "account:kiosk"
primary_group = "kiosk"

[[clause]]
what = "file:/etc/issue"
text = "Skerry Line\n"
permissions = "0600"

[[clause]]
what = "directory:/etc/kiosk"
only_known = true

[[clause]]
what = "file:/etc/kiosk/shell.conf"
text = "{}"

[[clause]]
what = "link:/etc/kiosk/current"
target = "shell.conf"

[[clause]]
what = "service:kiosk-shell"
running = true
enabled = true
needs = ["package:kiosk-shell"]
reacts_to = ["file:/etc/kiosk/shell.conf"]
reaction = "restart"

[[clause]]
what = "command:index"
argv = ["/usr/bin/kiosk-shell", "--index"]
reacts_to = ["file:/etc/kiosk/shell.conf"]
"#,
        conf.replace('\n', "\\n")
    )
}

/// A kiosk on which everything but what the test changes is in line already, or a fresh one.
fn kiosk(prepared: bool) -> Machine {
    let kiosk = Machine::fresh();
    if prepared {
        let first = kiosk.document("cut-off.toml", &document(OLD_CONF));
        let ended = kiosk.run(&["enforce", "--file", &first, "--yes"]);
        assert_eq!(ended.exit, Some(0), "{}{}", ended.stdout, ended.stderr);
        kiosk.root.write("/etc/issue", OLD_ISSUE).unwrap();
    }
    kiosk
}

/// Runs without a kill and returns the steps.
fn steps(prepared: bool) -> Vec<String> {
    let kiosk = kiosk(prepared);
    let wanted = kiosk.document("cut-off.toml", &document(NEW_CONF));
    kiosk.root.write("/steps", "").unwrap();
    let ended = kiosk
        .agent(&["enforce", "--file", &wanted, "--yes"])
        .env("CONSTANS_STEPS", kiosk.root.at("/steps"))
        .output()
        .unwrap();
    assert!(ended.status.success());
    kiosk.root.read("/steps").unwrap().lines().map(str::to_owned).collect()
}

fn attic_contents(kiosk: &Machine) -> BTreeSet<String> {
    let folder = kiosk.root.at("/var/lib/constans/attic/contents");
    fs::read_dir(folder)
        .into_iter()
        .flatten()
        .filter_map(|entry| fs::read_to_string(entry.ok()?.path()).ok())
        .collect()
}

fn read(kiosk: &Machine, path: &str) -> Option<String> {
    kiosk.root.read(path).ok()
}

fn kill_at(step: usize, name: &str, prepared: bool) {
    let kiosk = kiosk(prepared);
    let restarts_before = kiosk.service("kiosk-shell")["restarts"].as_u64().unwrap_or(0);
    let indexes_before = read(&kiosk, "/var/lib/kiosk-shell/index").unwrap_or_default().lines().count();
    let wanted = kiosk.document("cut-off.toml", &document(NEW_CONF));
    let killed = kiosk
        .agent(&["enforce", "--file", &wanted, "--yes"])
        .env("CONSTANS_KILL_AT", step.to_string())
        .output()
        .unwrap();
    assert_eq!(killed.status.code(), None, "step {name}: the agent was to be killed");

    let issue = read(&kiosk, "/etc/issue").unwrap_or_default();
    assert!([OLD_ISSUE, NEW_ISSUE].contains(&issue.as_str()), "step {name}: half a file: {issue:?}");
    assert!(
        issue == OLD_ISSUE || attic_contents(&kiosk).contains(OLD_ISSUE),
        "step {name}: the old contents are lost"
    );
    let conf = read(&kiosk, "/etc/kiosk/shell.conf");
    assert!(
        conf.as_deref().is_none_or(|conf| [OLD_CONF, NEW_CONF].contains(&conf)),
        "step {name}: half a file: {conf:?}"
    );

    let next = kiosk.run(&["enforce", "--file", &wanted, "--yes"]);
    assert_eq!(next.exit, Some(0), "step {name}: the next run fails:\n{}{}", next.stdout, next.stderr);
    assert_eq!(
        (read(&kiosk, "/etc/issue").as_deref(), read(&kiosk, "/etc/kiosk/shell.conf").as_deref()),
        (Some(NEW_ISSUE), Some(NEW_CONF)),
        "step {name}"
    );
    let service = kiosk.service("kiosk-shell");
    if prepared {
        assert!(
            service["restarts"].as_u64().unwrap_or(0) > restarts_before,
            "step {name}: the restart was forgotten"
        );
    }
    assert_eq!(service["running"], true, "step {name}");
    let indexes = read(&kiosk, "/var/lib/kiosk-shell/index").unwrap_or_default().lines().count();
    assert!(indexes > indexes_before, "step {name}: the command that reacts was forgotten");
    let left: Vec<String> =
        kiosk.everything().into_iter().map(|(path, _)| path).filter(|path| is_left_over(path)).collect();
    assert_eq!(left, Vec::<String>::new(), "step {name}: candidates were left");

    let last = kiosk.run(&["observe", "--file", &wanted, "--output", "json"]);
    assert_eq!(last.exit, Some(0), "step {name}: {}", last.stdout);
    assert!(last.report().due.is_empty(), "step {name}: a reaction stays due");
}

fn is_left_over(path: &str) -> bool {
    Path::new(path).extension().is_some_and(|extension| extension == "constans-new")
}

fn kill_at_every_step(prepared: bool) {
    let steps = steps(prepared);
    assert!(steps.len() > 20, "the agent lists its steps: {steps:?}");
    std::thread::scope(|scope| {
        for half in 0..2 {
            let steps = &steps;
            scope.spawn(move || {
                for (at, name) in steps.iter().enumerate().filter(|(at, _)| at % 2 == half) {
                    kill_at(at + 1, name, prepared);
                }
            });
        }
    });
    println!("killed at {} steps", steps.len());
}

#[test]
fn a_first_run_survives_a_kill_at_every_step() {
    kill_at_every_step(false);
}

#[test]
fn a_change_of_a_running_kiosk_survives_a_kill_at_every_step() {
    kill_at_every_step(true);
}
