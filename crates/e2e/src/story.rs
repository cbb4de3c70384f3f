//! Setup that several tests begin with.

use crate::{Browser, Ended, Fleet, Machine, demo_kit};
use std::fs;
use std::path::Path;
use std::process::Command;
use tempfile::TempDir;

/// Brings a machine in as a node.
///
/// # Panics
///
/// Panics if it does not become one.
pub fn joined(fleet: &Fleet, name: &str, labels: &[&str]) -> Machine {
    let machine = Machine::fresh();
    let labels: Vec<&str> = labels.iter().flat_map(|label| ["--label", label]).collect();
    let invitation = fleet.invite(&machine, &labels);
    machine.run(&["join", "--invitation-file", &invitation, "--name", name, "--wait", "0"]);
    assert_eq!(fleet.client(&["join", "approve", name]).exit, Some(0));
    let connected = machine.run(&["join", "--invitation-file", &invitation, "--name", name, "--wait", "0"]);
    assert_eq!(connected.exit, Some(0), "{}", connected.stderr);
    machine
}

/// Returns what a command said that went well.
///
/// # Panics
///
/// Panics if it did not.
pub fn well(ended: &Ended) -> &str {
    assert_eq!(ended.exit, Some(0), "{}{}", ended.stdout, ended.stderr);
    &ended.stdout
}

/// Sees to it that a command was refused, with these words.
///
/// # Panics
///
/// Panics if it was not, or said something else.
pub fn refused(ended: &Ended, said: &str) {
    assert!(
        ended.exit != Some(0) && ended.stderr.contains(said),
        "{said} in {}{}",
        ended.stdout,
        ended.stderr
    );
}

/// Publishes the demo's kits and serves them to the whole fleet.
///
/// # Panics
///
/// Panics if something is refused.
pub fn publish_and_serve(fleet: &Fleet) {
    for kit in ["quay-base", "kiosk-floor", "gate-reader"] {
        assert!(
            well(&fleet.client(&["kit", "publish", &demo_kit(kit)]))
                .starts_with(&format!("published {kit}@"))
        );
    }
    well(&fleet.client(&[
        "stage",
        "serve",
        "open-water",
        "quay-base@1.3.0",
        "kiosk-floor@1.0.0",
        "gate-reader@2.1.0",
    ]));
}

/// Copies the demo's kits beside each other, to be changed.
///
/// # Panics
///
/// Panics if they cannot be copied.
pub fn kits() -> TempDir {
    let folder = tempfile::tempdir().expect("a folder for the test");
    for kit in ["quay-base", "kiosk-floor", "gate-reader", "ship-gateway"] {
        let copied = Command::new("cp").arg("-r").arg(demo_kit(kit)).arg(folder.path()).status();
        assert!(copied.expect("cp(1) starts").success());
    }
    folder
}

/// Changes one place of a file.
///
/// # Panics
///
/// Panics if the file does not have it.
pub fn change(path: &Path, from: &str, to: &str) {
    let before = fs::read_to_string(path).expect("the file is there");
    assert!(before.contains(from), "{from} in {before}");
    fs::write(path, before.replacen(from, to, 1)).expect("the file is written");
}

/// Sets a group.
///
/// # Panics
///
/// Panics if the client cannot be started.
pub fn group(fleet: &Fleet, machine: &Machine, text: &str) -> Ended {
    fleet.client(&["group", "set", &machine.document("group.toml", text)])
}

/// The group of the kiosks; MODE is to be replaced.
pub const KIOSKS: &str = r#"
name = "kiosks"
priority = 10
filter = "labels.role == 'kiosk'"

[[assignments]]
kit = "quay-base"
baseline = "login"

[[assignments]]
kit = "kiosk-floor"
baseline = "kiosk-lockdown"

[parameters]
"kiosk-floor/kiosk-lockdown.idle_seconds" = 45

[settings]
mode = "MODE"
interval_secs = 60
"#;

/// What a crowd's nodes are to have, each kind that a simulated host has.
const QUAYS: &str = r#"
[baseline]
name = "quay"
satisfies = ["SK-7"]

[[clause]]
what = "file:/etc/issue"
text = "Skerry Line, RELEASE\n"

[[clause]]
what = "account:ops"
shell = "/bin/bash"

[[clause]]
what = "package:kiosk-shell"
version = "3.2.*"
where = "labels.role == 'kiosk'"

[[clause]]
what = "file:/etc/kiosk/shell.conf"
text = "site = {{ labels.site }}\nidle = 90\n"
permissions = "0640"
where = "labels.role == 'kiosk'"

[[clause]]
what = "service:kiosk-shell"
running = true
enabled = true
needs = ["package:kiosk-shell"]
reacts_to = ["file:/etc/kiosk/*"]
reaction = "restart"
where = "labels.role == 'kiosk'"
"#;

const QUAYS_GROUP: &str = r#"
name = "quays"
priority = 10
filter = "labels.simulated == 'yes'"

[[assignments]]
kit = "quay-base"
baseline = "quay"

[settings]
mode = "enforce"
"#;

/// Publishes a release of a kit for a crowd, serves it to the whole fleet, and assigns it to all simulated nodes.
///
/// # Panics
///
/// Panics if something is refused.
pub fn serve_quays(fleet: &Fleet, version: &str) {
    let folder = tempfile::tempdir().expect("a folder for the kit");
    let kit = folder.path().join("quay-base");
    let write = |path: &str, text: String| fs::write(folder.path().join(path), text).expect("it is written");
    fs::create_dir_all(kit.join("baselines")).expect("a folder");
    write(
        "quay-base/kit.toml",
        format!("[kit]\nname = \"quay-base\"\nversion = \"{version}\"\nsummary = \"What every node has\"\n"),
    );
    write("quay-base/baselines/quay.toml", QUAYS.replace("RELEASE", version));
    write("group.toml", QUAYS_GROUP.to_owned());
    well(&fleet.client(&["kit", "publish", &kit.display().to_string()]));
    well(&fleet.client(&["stage", "serve", "open-water", &format!("quay-base@{version}")]));
    well(&fleet.client(&["group", "set", &folder.path().join("group.toml").display().to_string()]));
}

/// The password of the administrator in the console.
const PASSWORD: &str = "herring under the pier";

/// Opens the console and signs in by a one-time link.
///
/// # Panics
///
/// Panics if the console does not open.
pub fn signed_in(fleet: &Fleet) -> Browser {
    let mut browser = Browser::start(&fleet.people_url());
    browser.open(&fleet.link("ilse.maren", "administrator"));
    browser.see("Welcome, ilse.maren");
    browser.fill("Password *", PASSWORD);
    browser.fill("Repeat password *", PASSWORD);
    browser.click("button", "Set password");
    browser
}
