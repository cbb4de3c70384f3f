//! What holds for a time or for one node alone: values of single properties and settings, set, seen, ended by themselves; and values
//! accepted from what was found.

use constans_e2e::Fleet;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, refused, well};
use jiff::{SignedDuration, Timestamp};
use std::os::unix::fs::PermissionsExt as _;
use std::time::{Duration, Instant};

const ISSUE: &str = "file:/etc/issue";
const SHELL: &str = "/etc/kiosk/shell.conf";

#[test]
fn one_property_of_one_node_is_set_for_a_time_and_is_then_as_the_baselines_say_again() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk", "site=auken"]);
    let other = joined(&fleet, "kiosk-brisk-1", &["role=kiosk", "site=brisk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    let permissions = || {
        let file = std::fs::metadata(kiosk.root.path().join("etc/issue")).expect("it is there");
        format!("{:04o}", file.permissions().mode() & 0o7777)
    };
    well(&kiosk.run(&["daemon", "--once"]));
    assert_eq!(permissions(), "0644");

    let set = |words: &[&str]| fleet.client(&[&["node", "set", "kiosk-auken-1"], words].concat());
    refused(&set(&["file:/etc/isue", "permissions=0640", "--for", "7d"]), "did you mean file:/etc/issue?");
    refused(&set(&[ISSUE, "permission=0640", "--for", "7d"]), "did you mean `permissions`?");
    refused(&set(&[ISSUE, "permissions=rw", "--for", "7d"]), "`rw` is not three or four octal digits");
    refused(&set(&[ISSUE, "permissions=0640", "--until", "2026-01-01T00:00:00Z"]), "is over");
    refused(&set(&[ISSUE, "permissions=0640"]), "--without-end");
    refused(&set(&["issue", "permissions=0640", "--without-end"]), "no `:` between kind and name");
    let reader = fleet.token("pia.lund", "reader");
    refused(
        &fleet.client_by(
            &reader,
            &["node", "set", "kiosk-auken-1", ISSUE, "permissions=0640", "--without-end"],
        ),
        "group.edit",
    );
    let preview = set(&[ISSUE, "permissions=640", "--for", "7d", "--preview"]);
    assert!(well(&preview).contains("1 node"), "{}", preview.stdout);
    assert!(!well(&fleet.client(&["node", "why", "kiosk-auken-1"])).contains("values of its own"));

    // The value is read as the property takes it, and the change says what it was.
    let until = Timestamp::now() + SignedDuration::from_secs(25);
    let given =
        set(&[ISSUE, "permissions=640", "--until", &until.to_string(), "--because", "the pier's inspector"]);
    assert!(
        well(&given).contains("permissions = 640 of file:/etc/issue on kiosk-auken-1 alone"),
        "{}",
        given.stdout
    );
    let changes = fleet.client(&["change", "list"]);
    let told = "kiosk-auken-1 alone: permissions of file:/etc/issue 0644 → 0640 until";
    assert!(well(&changes).contains(told), "{}", changes.stdout);
    let why = fleet.client(&["node", "why", "kiosk-auken-1"]);
    assert!(well(&why).contains("file:/etc/issue permissions = \"640\"   until"), "{}", why.stdout);
    assert!(why.stdout.contains("in place of \"0644\""), "{}", why.stdout);
    let why = fleet.client(&["node", "why", "kiosk-auken-1", ISSUE]);
    assert!(well(&why).contains("for this node alone, until"), "{}", why.stdout);
    well(&kiosk.run(&["daemon", "--once"]));
    assert_eq!(permissions(), "0640");
    well(&other.run(&["check-in"]));
    assert!(!well(&fleet.client(&["node", "why", "kiosk-brisk-1"])).contains("values of its own"));

    // Its time is over: the server takes it away by a change of its own, and the node follows.
    let begun = Instant::now();
    while well(&fleet.client(&["node", "why", "kiosk-auken-1"])).contains("values of its own") {
        assert!(begun.elapsed() < Duration::from_secs(90), "its time is over, and it is still given");
        std::thread::sleep(Duration::from_secs(1));
    }
    assert!(Timestamp::now() >= until, "it ended too early");
    let changes = fleet.client(&["change", "list"]);
    assert!(
        well(&changes).contains("end what the node kiosk-auken-1 was given for a time"),
        "{}",
        changes.stdout
    );
    well(&kiosk.run(&["daemon", "--once"]));
    assert_eq!(permissions(), "0644");
    refused(
        &fleet.client(&["node", "unset", "kiosk-auken-1", ISSUE, "permissions"]),
        "the node has no value of its own of permissions of file:/etc/issue",
    );
    // Without end it stays until it is unset.
    well(&set(&[ISSUE, "permissions=0600", "--without-end"]));
    refused(
        &fleet.client(&["node", "unset", "kiosk-auken-1", ISSUE, "owner"]),
        "it has file:/etc/issue permissions",
    );
    well(&fleet.client(&["node", "unset", "kiosk-auken-1", ISSUE, "permissions"]));
    assert_eq!(fleet.query("select own::text from node where name = 'kiosk-auken-1'"), "{}");
}

#[test]
fn what_no_parameter_makes_is_accepted_for_one_node_and_is_then_in_line_there_only() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk", "site=auken"]);
    let other = joined(&fleet, "kiosk-brisk-1", &["role=kiosk", "site=brisk"]);
    publish_and_serve(&fleet);
    for mode in ["enforce", "observe"] {
        well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", mode)));
        for node in [&kiosk, &other] {
            well(&node.run(&["daemon", "--once"]));
        }
    }
    let before = other.root.read(SHELL).expect("as desired");
    for node in [&kiosk, &other] {
        let text = node.root.read(SHELL).expect("as desired");
        node.root.write(SHELL, &format!("{text}# until the new screens\n")).expect("it is written");
        well(&node.run(&["daemon", "--once"]));
    }
    let clause = format!("file:{SHELL}");
    let accept = ["drift", "accept", "kiosk-auken-1", &clause];
    let shown = fleet.client(&accept);
    for told in ["no parameter makes it desired", "text = ", "for this node alone", "--alone --because"] {
        assert!(well(&shown).contains(told), "{told}: {}", shown.stdout);
    }
    let wrong = fleet.client(&[&accept[..], &["--group", "kiosks"]].concat());
    refused(&wrong, "cannot be accepted as a parameter");
    let because = ["--alone", "--because", "until the new screens come"];
    let accepted = fleet.client(&[&accept[..], &because].concat());
    assert!(
        well(&accepted).contains("is desired on kiosk-auken-1 alone as it has it"),
        "{}",
        accepted.stdout
    );
    for node in [&kiosk, &other] {
        well(&node.run(&["daemon", "--once"]));
    }
    refused(&fleet.client(&accept), "not in line");
    let episodes = "select string_agg(n.name || ' ' || coalesce(e.closed_as, 'open'), ', ' order by n.name) from episode e join node n on n.id = e.node";
    assert_eq!(fleet.query(episodes), "kiosk-auken-1 by_rollout, kiosk-brisk-1 open");
    // Enforced, the node keeps the line, and the other one loses it.
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    for node in [&kiosk, &other] {
        well(&node.run(&["daemon", "--once"]));
    }
    assert!(kiosk.root.read(SHELL).expect("there").ends_with("# until the new screens\n"));
    assert_eq!(other.root.read(SHELL).expect("there"), before);
}

#[test]
fn a_mode_for_a_time_is_told_with_who_and_why_and_ends_by_itself() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk", "site=auken"]);
    joined(&fleet, "kiosk-brisk-1", &["role=kiosk", "site=brisk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    well(&kiosk.run(&["daemon", "--once"]));

    let observe =
        |words: &[&str]| fleet.client(&[&["group", "setting", "kiosks", "mode", "observe"], words].concat());
    refused(&observe(&["--for", "7d"]), "who sets something for a time says why");
    refused(&observe(&["--until", "2026-01-01T00:00:00Z", "--because", "the pier is rebuilt"]), "is over");
    // What is to follow is held to the same rules as what is set.
    let followed = |word: &str, then: &str| {
        let end = format!("\n[settings_until.{word}]\nuntil = \"2099-01-01T00:00:00Z\"\nthen = {then}\n");
        group(&fleet, &kiosk, &(KIOSKS.replace("MODE", "enforce") + &end))
    };
    refused(&followed("interval_secs", "0"), "an interval lasts from 5 s to 7 days");
    refused(&followed("mode", "\"sometimes\""), "the setting mode cannot be");
    refused(&followed("grace_secs", "60"), "`grace_secs` has an end, and is not set");

    let until = Timestamp::now() + SignedDuration::from_secs(25);
    let set = observe(&["--until", &until.to_string(), "--because", "the pier is rebuilt"]);
    assert!(well(&set).contains("mode = \"observe\" for kiosks, until"), "{}", set.stdout);
    well(&fleet.client(&[
        "node",
        "setting",
        "kiosk-brisk-1",
        "grace_secs",
        "15 min",
        "--for",
        "7d",
        "--because",
        "a slow line",
    ]));

    // Who, why, until when, on how many nodes: those that end first first.
    let listed = fleet.curl().with_token(fleet.administrator()).get("/api/temporary-settings").1;
    let listed: Vec<serde_json::Value> = serde_json::from_str(&listed).expect("a list");
    assert_eq!(listed.len(), 2, "{listed:?}");
    let told = |at: usize, pointer: &str| listed[at].pointer(pointer).cloned().unwrap_or_default();
    assert_eq!(told(0, "/group"), "kiosks");
    assert_eq!(
        (told(0, "/word"), told(0, "/value"), told(0, "/nodes")),
        ("mode".into(), "observe".into(), 2.into())
    );
    assert_eq!(
        (told(0, "/change/who"), told(0, "/change/because")),
        ("ilse.maren".into(), "the pier is rebuilt".into())
    );
    assert_eq!(
        (told(1, "/node"), told(1, "/change/because")),
        ("kiosk-brisk-1".into(), "a slow line".into())
    );
    assert!(well(&fleet.client(&["group", "show", "kiosks"])).contains("observe, until "), "of the group");
    let why = fleet.client(&["node", "why", "kiosk-auken-1"]);
    assert!(
        well(&why).contains("observe") && why.stdout.contains("the group kiosks, until "),
        "{}",
        why.stdout
    );

    // Drift is only found as long as it holds.
    kiosk.root.write("etc/issue", "by hand\n").expect("it is written");
    kiosk.run(&["daemon", "--once"]);
    assert_eq!(kiosk.root.read("etc/issue").expect("it is there"), "by hand\n");

    let begun = Instant::now();
    loop {
        let shown = fleet.client(&["group", "show", "kiosks"]);
        if !well(&shown).contains(", until ") {
            break;
        }
        assert!(
            begun.elapsed() < Duration::from_secs(90),
            "its time is over, and it still holds: {}",
            shown.stdout
        );
        std::thread::sleep(Duration::from_secs(1));
    }
    assert!(Timestamp::now() >= until, "it ended too early");
    let changes = fleet.client(&["change", "list", "--filter", "change.who == \"the server\""]);
    assert!(well(&changes).contains("end what the group kiosks was given for a time"), "{}", changes.stdout);
    kiosk.run(&["daemon", "--once"]);
    assert_ne!(kiosk.root.read("etc/issue").expect("it is there"), "by hand\n", "it is corrected again");
}
