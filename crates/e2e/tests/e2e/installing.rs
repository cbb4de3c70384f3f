//! The agent's packages are added and served; a line installs by their digests; a machine that waits goes on asking by itself. What a
//! package does on a real host is tested there (crates/hosts).

use constans_core::digest::hex;
use constans_e2e::story::{KIOSKS, group, publish_and_serve, well};
use constans_e2e::{Fleet, Machine};
use serde_json::Value;
use sha2::{Digest as _, Sha256};
use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Builds a small .deb, as Debian does, with nothing in it but what it says of itself.
pub fn deb(folder: &Path, name: &str, version: &str) -> String {
    let root = folder.join(format!("{name}-{version}"));
    fs::create_dir_all(root.join("DEBIAN")).expect("a folder");
    let control = format!(
        "Package: {name}\nVersion: {version}\nArchitecture: amd64\nMaintainer: Skerry Line\nDepends: libc6 (>= 2.31), libgcc-s1\nDescription: {name}\n"
    );
    fs::write(root.join("DEBIAN/control"), control).expect("a file");
    let file = folder.join(format!("{name}_{version}.deb"));
    let built = Command::new("dpkg-deb")
        .args(["--build", "--root-owner-group", "-Zgzip"])
        .args([&root, &file])
        .output()
        .expect("dpkg-deb starts");
    assert!(built.status.success(), "{}", String::from_utf8_lossy(&built.stderr));
    file.display().to_string()
}

/// Fetches from the agents' listener as a machine does that is no node.
fn fetched(fleet: &Fleet, path: &str) -> (bool, Vec<u8>) {
    let output = Command::new("curl")
        .args(["-fsSk", &format!("{}{path}", fleet.agents_url())])
        .output()
        .expect("curl starts");
    (output.status.success(), output.stdout)
}

fn sha256(bytes: &[u8]) -> String {
    hex(&Sha256::digest(bytes))
}

#[test]
fn packages_of_the_agent_are_added_served_by_their_digest_and_removed() {
    let fleet = Fleet::start();
    let folder = tempfile::tempdir().expect("a folder");
    let file = |name: &str, version: &str| deb(folder.path(), name, version);
    let before = well(&fleet.client(&["agent-package", "list"])).to_owned();
    assert!(before.contains("make packages"), "{before}");
    assert!(fleet.client(&["agent-package", "line"]).stderr.contains("there is no package of the agent"));

    let (first, second) = (file("constans-agent", "0.0.8"), file("constans-agent", "0.1.0"));
    let added = well(&fleet.client(&["agent-package", "add", &first, &second])).to_owned();
    assert!(added.contains("constans-agent 0.1.0 for amd64 as .deb, glibc 2.31 or later"), "{added}");
    assert!(well(&fleet.client(&["agent-package", "add", &second])).starts_with("was there"));

    // What is no package of the agent, or none for this server, is refused, and nothing of it stays.
    for (refused, because) in [
        (file("constans", "0.1.0"), "it is a package of \"constans\", and only those of constans-agent"),
        (file("constans-agent", "9.0.0"), "the package has version 9.0.0, and this server 0.1.0"),
        ("/etc/hostname".to_owned(), "it is neither a .deb nor an .rpm"),
    ] {
        let ended = fleet.client(&["agent-package", "add", &refused]);
        assert!(ended.exit == Some(1) && ended.stderr.contains(because), "{}", ended.stderr);
    }
    let other = {
        fs::write(folder.path().join("constans-agent-0.1.0/more"), "other contents").expect("a file");
        file("constans-agent", "0.1.0")
    };
    let ended = fleet.client(&["agent-package", "add", &other]);
    assert!(ended.stderr.contains("is there already, with other contents"), "{}", ended.stderr);

    // The line leads to a file with its digest, and that file names the package by its own.
    let invited = fleet.client(&["invite"]);
    let line = invited.stderr.lines().find(|line| line.starts_with("f=$(mktemp)")).expect("a line");
    let named = line.split("/installers/").nth(1).and_then(|rest| rest.get(..64)).expect("a digest");
    let (_, installer) = fetched(&fleet, &format!("/installers/{named}"));
    assert_eq!(sha256(&installer), named);
    let installer = String::from_utf8(installer).expect("a text");
    let packages: Value =
        serde_json::from_str(well(&fleet.client(&["agent-package", "list", "--output", "json"])))
            .expect("JSON");
    let newest = packages[0]["sha256"].as_str().expect("a digest");
    assert!(installer.contains(newest) && packages[0]["version"] == "0.1.0", "{installer}");
    let (_, package) = fetched(&fleet, &format!("/packages/{newest}"));
    assert_eq!(sha256(&package), newest);
    assert!(!invited.stderr.contains(invited.stdout.trim()), "the invitation is in no line to paste");

    // Of an earlier version on demand; and the two before the server's own are kept.
    let earlier = fleet.client(&["agent-package", "line", "--agent-version", "0.0.8"]);
    assert!(earlier.stderr.contains("it installs constans-agent 0.0.8"), "{}", earlier.stderr);
    let further = [file("constans-agent", "0.0.9"), file("constans-agent", "0.0.7")];
    assert!(well(&fleet.client(&["agent-package", "add", &further[0]])).starts_with("added"));
    let old = fleet.client(&["agent-package", "add", &further[1]]);
    assert!(old.stderr.contains("0.0.7 is too old to be served"), "{}", old.stderr);

    // Only an administrator; and what is removed no longer installs.
    let operator = fleet.token("tor.havik", "approver");
    let refused = fleet.client_by(&operator, &["agent-package", "remove", newest]);
    assert_eq!(refused.exit, Some(3), "{}", refused.stderr);
    let removed = well(&fleet.client(&["agent-package", "remove", &newest[..12]])).to_owned();
    assert!(removed.contains("removed constans-agent 0.1.0"), "{removed}");
    assert!(!fetched(&fleet, &format!("/installers/{named}")).0);
    assert!(well(&fleet.client(&["audit", "list"])).contains("removed a package of the agent"));
}

#[test]
fn a_machine_that_waits_is_asked_nothing_twice_and_its_daemon_joins_when_it_is_approved() {
    let fleet = Fleet::start();
    let machine = Machine::fresh();
    let invitation = fleet.invite(&machine, &[]);
    let secret = fs::read_to_string(&invitation).expect("the invitation");
    let waits = machine.run_on_terminal(&["join", "--name", "kiosk-auken-1", "--wait", "0"], &secret);
    assert!(
        waits.stdout.contains("it is not shown") && !waits.stdout.contains(secret.trim()),
        "{}",
        waits.stdout
    );
    assert!(
        waits.stdout.contains("waiting for approval as kiosk-auken-1"),
        "{}{}",
        waits.stdout,
        waits.stderr
    );
    let status = well(&machine.run(&["status"])).to_owned();
    assert!(status.contains("waits for approval as kiosk-auken-1 since"), "{status}");
    let pulled = machine.run(&["check-in"]);
    assert!(pulled.stderr.contains("waits for approval as kiosk-auken-1"), "{}", pulled.stderr);
    // The same request, without the invitation.
    let again = machine.run(&["join", "--wait", "0"]);
    assert!(
        again.stdout.contains("waiting for approval as kiosk-auken-1"),
        "{}{}",
        again.stdout,
        again.stderr
    );

    let mut daemon =
        machine.agent(&["daemon"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts");
    well(&fleet.client(&["join", "approve", "kiosk-auken-1"]));
    let end = Instant::now() + Duration::from_secs(30);
    while machine.run(&["status"]).stdout.contains("waits for approval") {
        assert!(Instant::now() < end, "the daemon never joined");
        std::thread::sleep(Duration::from_millis(200));
    }
    daemon.kill().expect("it can be ended");
    daemon.wait().expect("it ends");
    assert!(
        !machine.root.path().join("var/lib/constans/joining.json").exists(),
        "the invitation's secret is gone"
    );
    well(&machine.run(&["check-in"]));
}

#[test]
fn a_machine_that_is_denied_stops_asking_and_keeps_no_invitation() {
    let fleet = Fleet::start();
    let machine = Machine::fresh();
    let invitation = fleet.invite(&machine, &[]);
    machine.run(&["join", "--invitation-file", &invitation, "--name", "kiosk-auken-1", "--wait", "0"]);
    well(&fleet.client(&["join", "deny", "kiosk-auken-1", "--because", "not on the list of the depot"]));
    // A service manager that starts again what fails has nothing to start again.
    let ended = machine.run(&["daemon"]);
    assert_eq!(ended.exit, Some(0), "{}", ended.stderr);
    let said = format!("{}{}", ended.stdout, ended.stderr);
    assert!(said.contains("an operator denied it: not on the list of the depot"), "{said}");
    assert!(!machine.root.path().join("var/lib/constans/joining.json").exists());
    assert!(machine.run(&["check-in"]).stderr.contains("belongs to no fleet"));
}

#[test]
fn a_first_boot_waits_until_all_is_in_line_and_says_what_it_waits_for() {
    let fleet = Fleet::start();
    publish_and_serve(&fleet);
    let machine = Machine::fresh();
    let invitation = fleet.invite(&machine, &["--label", "role=kiosk"]);
    let first_boot = |wait: &str| {
        machine.run(&[
            "join",
            "--invitation-file",
            &invitation,
            "--name",
            "kiosk-auken-1",
            "--until",
            "in_line",
            "--wait",
            wait,
        ])
    };
    assert!(first_boot("0").stdout.contains("not approved yet"));
    well(&fleet.client(&["join", "approve", "kiosk-auken-1"]));
    let nothing = first_boot("0");
    assert!(
        nothing.exit == Some(4) && nothing.stdout.contains("no desired state yet"),
        "{}{}",
        nothing.stdout,
        nothing.stderr
    );
}

#[test]
fn a_first_boot_that_is_let_in_and_placed_ends_in_line() {
    let fleet = Fleet::start();
    publish_and_serve(&fleet);
    let machine = Machine::fresh();
    well(&group(&fleet, &machine, &KIOSKS.replace("MODE", "enforce")));
    well(&fleet.client(&[
        "admission",
        "add",
        "--name",
        "kiosk-*",
        "--for",
        "1d",
        "--because",
        "new kiosks",
        "--label",
        "role=kiosk",
        "--yes",
    ]));
    let invitation = fleet.invite(&machine, &[]);
    let ended = machine.run(&[
        "join",
        "--invitation-file",
        &invitation,
        "--name",
        "kiosk-auken-1",
        "--until",
        "in_line",
        "--wait",
        "60",
    ]);
    assert_eq!(ended.exit, Some(0), "{}{}", ended.stdout, ended.stderr);
    assert!(ended.stdout.trim_end().ends_with("in line"), "{}", ended.stdout);
    assert!(well(&fleet.client(&["node", "list"])).contains("in line"));
}
