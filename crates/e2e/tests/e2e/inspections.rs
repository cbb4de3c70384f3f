//! What is there on a node is read at the server: by the request that it holds, with a reason on record, and nothing that not everybody
//! on the node may read.

use crate::waking::wait_until_held;
use constans_core::digest::of_contents;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, refused, signed_in, well};
use constans_e2e::{Fleet, Machine, Running};
use serde_json::{Value, json};
use std::fs;
use std::os::unix::fs::PermissionsExt as _;

const WHY: &str = "the till prints nothing";

fn kiosk_and_gate(fleet: &Fleet) -> (Machine, Machine, Running) {
    publish_and_serve(fleet);
    let kiosk = joined(fleet, "kiosk-auken-1", &["role=kiosk"]);
    let gate = joined(fleet, "gate-auken-1", &["role=gate"]);
    let kiosks = KIOSKS.replace("MODE", "observe").replace("interval_secs = 60", "interval_secs = 900");
    well(&group(fleet, &kiosk, &kiosks));
    let daemon = kiosk.daemon();
    wait_until_held(fleet, 1);
    (kiosk, gate, daemon)
}

/// Writes a file below the machine's root, with permissions for it and its folder.
fn put(machine: &Machine, path: &str, text: &str, folder: u32, file: u32) {
    machine.root.write(path, text).expect("the file is written");
    let path = machine.root.at(path);
    let set = |path: &std::path::Path, mode| {
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).expect("its permissions are set");
    };
    set(&path, file);
    set(path.parent().expect("it has a folder"), folder);
}

#[test]
fn what_is_there_is_told_within_seconds_and_nothing_that_is_not_for_everybody() {
    let fleet = Fleet::start();
    let (kiosk, _gate, _daemon) = kiosk_and_gate(&fleet);
    put(&kiosk, "/etc/ferry/notice", "the tide is out\n", 0o755, 0o644);
    put(&kiosk, "/etc/ferry/pin", "4711\n", 0o755, 0o600);
    put(&kiosk, "/srv/hidden/pin", "4711\n", 0o700, 0o644);
    put(&kiosk, "/etc/cron.d/till", "# till\n0 6 * * * root /usr/bin/till --pin 4711\n", 0o755, 0o600);
    let inspect = |words: &[&str]| {
        fleet.client(&[&["node", "inspect", "kiosk-auken-1"], words, &["--because", WHY]].concat())
    };
    let notice = inspect(&["file", "/etc/ferry/notice"]);
    let said = well(&notice);
    assert!(said.starts_with("# kiosk-auken-1, 20") && said.contains("asked as I1"), "{said}");
    assert!(said.contains("what = \"file:/etc/ferry/notice\"") && said.contains("the tide is out"), "{said}");
    // The same as the agent says on the node itself.
    let on_node = kiosk.run(&["inspect", "file", "/etc/ferry/notice"]);
    let clause = |text: &str| text.split_once("[[clause]]").unwrap().1.trim().to_owned();
    assert_eq!(clause(said), clause(well(&on_node)));

    for thing in [["file", "/etc/ferry/pin"], ["file", "/srv/hidden/pin"], ["schedule", "till"]] {
        let told = inspect(&thing);
        let all = format!("{}{}", told.stdout, told.stderr);
        assert!(!all.contains("4711"), "{all}");
        assert!(thing[0] == "schedule" || all.contains("because not everybody may read"), "{all}");
        let digest = of_contents(b"4711\n");
        assert!(!all.contains(digest.as_str()), "a digest of something short tells what it is: {all}");
    }
    refused(&inspect(&["file", "/etc/ferry/none"]), "there is no file /etc/ferry/none on kiosk-auken-1");
    refused(&inspect(&["file", "--all"]), "a machine has too many of the kind file: name one");
    refused(&inspect(&["fille", "/etc/ferry/notice"]), "there is no kind `fille`; did you mean `file`?");
    refused(&inspect(&["line", "/etc/ferry/notice#tide"]), "it is a part of a file: look at the file");
    well(&inspect(&["account", "--all"]));

    // Who asked, for what and why, is on record; what was told is not, and goes after a day.
    let audit = fleet.client(&["audit", "list", "--output", "json"]);
    assert!(well(&audit).contains("inspected a node") && audit.stdout.contains(WHY));
    assert!(!audit.stdout.contains("the tide is out"));
    assert_eq!(fleet.query("select count(*) from inspection where told_at is null"), "0");
}

#[test]
fn whoever_may_not_inspect_is_refused_and_a_node_answers_only_what_it_was_asked() {
    let fleet = Fleet::start();
    let (kiosk, gate, _daemon) = kiosk_and_gate(&fleet);
    put(&kiosk, "/etc/ferry/notice", "the tide is out\n", 0o755, 0o644);
    let (reader, limited) = (fleet.token("pia.lund", "reader"), fleet.token("tor.havik", "operator@kiosks"));
    let by = |token: &str, node: &str| {
        let words =
            ["node", "inspect", node, "file", "/etc/ferry/notice", "--because", WHY, "--within", "10"];
        fleet.client_by(token, &words)
    };
    assert_eq!(by(&reader, "kiosk-auken-1").exit, Some(3));
    refused(&by(&reader, "kiosk-auken-1"), "node.inspect");
    refused(&by(&limited, "gate-auken-1"), "only on nodes of kiosks, and not on gate-auken-1");
    assert!(well(&by(&limited, "kiosk-auken-1")).contains("the tide is out"));
    refused(&fleet.client_by(&reader, &["node", "inspect", "--inspection", "I1"]), "node.inspect");
    assert!(
        well(&fleet.client_by(&limited, &["node", "inspect", "--inspection", "I1"])).contains("the tide")
    );

    // The gate is off: it says so, and is asked when it comes.
    let asked = ["node", "inspect", "gate-auken-1", "host_name", "--all", "--because", WHY, "--within", "0"];
    refused(&fleet.client(&asked), "it cannot be woken");
    refused(&fleet.client_by(&limited, &["node", "inspect", "--inspection", "I2"]), "not on gate-auken-1");
    // Another node does not answer for it, and nobody answers twice.
    let report = json!({ "things": [], "left_out": 0 }).to_string();
    let (status, _) = fleet.curl().as_node(&kiosk).deliver("/inspections/2", &report);
    assert_eq!(status, 404);
    well(&gate.run(&["daemon", "--once"]));
    assert!(well(&fleet.client(&["node", "inspect", "--inspection", "I2"])).contains("host_name:"));
    let (status, _) = fleet.curl().as_node(&gate).deliver("/inspections/2", &report);
    assert_eq!(status, 404);

    // What a node tells is bounded, whatever it sends, and does not control a terminal.
    well(&fleet.client(&["group", "setting", "everyone", "wakeable", "false"]));
    let ask = json!({ "node": "gate-auken-1", "kind": "file", "name": "/etc/issue", "because": WHY });
    let (status, asked) =
        fleet.curl().with_token(fleet.administrator()).post("/api/inspections", &ask.to_string());
    assert_eq!(status, 200, "{asked}");
    let thing = json!({ "what": "file:/etc/issue", "properties": { "owner": "\u{1b}[31mroot" }, "remarks": ["\u{1b}]0;till\u{7}"] });
    let many: Vec<Value> = (0..300).map(|_| thing.clone()).collect();
    let report = json!({ "things": many, "left_out": 1 }).to_string();
    let no = fleet.query("select max(no) from inspection");
    let (status, answer) = fleet.curl().as_node(&gate).deliver(&format!("/inspections/{no}"), &report);
    assert_eq!(status, 200, "{answer}");
    let shown = fleet.client(&["node", "inspect", "--inspection", &format!("I{no}")]);
    assert!(
        well(&shown).contains("101 more would be too much to tell") && !shown.stdout.contains('\u{1b}'),
        "{}",
        shown.stdout
    );
    let wrong = [
        json!({ "node": "gate-auken-1", "kind": "file", "name": "", "because": WHY }),
        json!({ "node": "gate-auken-1", "kind": "file", "name": "/etc/\u{1b}", "because": WHY }),
        json!({ "node": "gate-auken-1", "kind": "file", "name": "/etc/issue", "because": "" }),
    ];
    for body in wrong {
        let (status, said) =
            fleet.curl().with_token(fleet.administrator()).post("/api/inspections", &body.to_string());
        assert_eq!(status, 422, "{said}");
    }
    let unknown = json!({ "node": "till-auken-9", "kind": "file", "name": "/etc/issue", "because": WHY });
    assert_eq!(
        fleet.curl().with_token(fleet.administrator()).post("/api/inspections", &unknown.to_string()).0,
        404
    );
}

#[test]
fn what_is_there_is_read_in_the_console() {
    let fleet = Fleet::start();
    let (kiosk, _gate, _daemon) = kiosk_and_gate(&fleet);
    put(&kiosk, "/etc/ferry/notice", "the tide is out\n", 0o755, 0o644);
    let mut browser = signed_in(&fleet);
    browser.see("Needs attention");
    browser.open("/nodes/kiosk-auken-1");
    browser.click("button", "Actions");
    browser.click("menuitem", "Inspect…");
    browser.see("Nothing on it is altered");
    browser.fill("Name, a path for files (empty: all of the kind)", "/etc/ferry/notice");
    browser.fill("Reason", WHY);
    browser.click("button", "Inspect");
    browser.see("I1, file /etc/ferry/notice: told at");
    browser.see("the tide is out");
    assert!(browser.complaints().is_empty(), "{:?}", browser.complaints());
    assert!(browser.violations().is_empty(), "{:?}", browser.violations());
}
