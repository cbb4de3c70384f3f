//! The story of a fleet as it is seen in the console, in headless Chromium: live, by keyboard, with its address.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, signed_in, well};
use constans_e2e::{Fleet, demo_kit};
use std::time::{Duration, Instant};

#[test]
fn a_fleet_is_followed_from_its_first_node_to_drift_that_is_put_right_without_loading_the_page_again() {
    let mut fleet = Fleet::start();
    let mut browser = signed_in(&fleet);
    browser.see("No nodes yet");
    browser.see("constans invite --for 24h");

    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    browser.see("kiosk-auken-1 has never reported");
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    well(&kiosk.run(&["daemon", "--once"]));
    browser.see("Nothing. Every node that reports is in line.");
    assert!(browser.text().contains("1\nrolled out"), "{}", browser.text());
    well(&kiosk.run(&["daemon", "--once"]));
    let end = Instant::now() + Duration::from_secs(15);
    while !browser.text().contains("1\nin line") {
        assert!(Instant::now() < end, "the legend does not follow: {}", browser.text());
        std::thread::sleep(Duration::from_millis(100));
    }

    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    let edited = kiosk.root.read("/etc/kiosk/shell.conf").unwrap().replace("45", "4");
    kiosk.root.write("/etc/kiosk/shell.conf", &edited).unwrap();
    well(&kiosk.run(&["daemon", "--once"]));
    browser.click("link", "kiosk-auken-1: file:/etc/kiosk/shell.conf drifted");
    browser.see("1 clause drifted and not corrected. Mode observe");
    browser.see("out of line, drift");
    assert!(
        browser.address().ends_with("/nodes/kiosk-auken-1?clause=file%3A%2Fetc%2Fkiosk%2Fshell.conf"),
        "{}",
        browser.address()
    );
    browser.click("link", "Result in the run");
    browser.see("would be corrected");
    browser.see("Drift: the node changed");
    browser.see("-idle = 4");

    // The same as a figure, by why it is so; then the node again.
    browser.click("link", "Compliance");
    browser.see("1 noncompliant");
    let text = browser.text().split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(text.contains("0 of 1 node without any deviation"), "{text}");
    browser.click("button", "cause");
    browser.see("drift");
    browser.click("button", "node");
    browser.click("link", "kiosk-auken-1");
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    well(&kiosk.run(&["daemon", "--once"]));
    browser.see("Drift corrected, ");
    assert!(browser.text().contains("drift corrected"), "{}", browser.text());

    fleet.kill_server();
    browser.see("connection to the server lost; retrying");
    fleet.start_server();
    kiosk.root.write("/etc/issue", "who was here?\n").unwrap();
    well(&kiosk.run(&["daemon", "--once"]));
    browser.press("g");
    browser.press("o");
    browser.see("1 drift corrected");
    let complaints: Vec<String> = browser
        .complaints()
        .into_iter()
        .filter(|complaint| !complaint.contains("ERR_CONNECTION_REFUSED"))
        .collect();
    assert!(
        complaints.iter().all(|complaint| !complaint.contains("Content Security Policy")),
        "{complaints:?}"
    );
}

#[test]
fn nodes_are_narrowed_by_keyboard_and_what_is_wrong_with_a_filter_is_said() {
    let fleet = Fleet::start();
    let mut browser = signed_in(&fleet);
    browser.see("No nodes yet");
    for (name, role) in [("kiosk-auken-1", "role=kiosk"), ("gate-auken-1", "role=gate")] {
        drop(joined(&fleet, name, &[role]));
    }
    browser.press("g");
    browser.press("n");
    browser.see("Last full run");
    browser.press("/");
    browser.type_text("labels.ro");
    // The names of labels are loaded when the field is entered; Tab accepts what is shown.
    browser.see("labels.role");
    browser.press("Tab");
    browser.type_text(" == \"gate\"");
    browser.press("Enter");
    browser.see("1 node");
    assert!(
        browser.address().contains("/nodes?filter=labels.role+%3D%3D+%22gate%22"),
        "{}",
        browser.address()
    );
    let text = browser.text();
    assert!(text.contains("gate-auken-1") && !text.contains("kiosk-auken-1"), "{text}");
    browser.open("/nodes?filter=node.statsu%20%3D%3D%20%22failed%22");
    browser.see("`node.statsu` is not known");
    browser.see("did you mean `node.status`?");
    browser.open("/nodes/gate-brisk-9");
    browser.see("there is no node `gate-brisk-9`");
    browser.open("/nowhere");
    browser.see("No page has this address");
}

#[test]
fn releases_are_read_in_plain_words_with_their_documents_and_differences() {
    let fleet = Fleet::start();
    let mut browser = signed_in(&fleet);
    browser.see("No nodes yet");
    browser.click("link", "Kits");
    browser.see("constans kit publish DIR");
    let kits = tempfile::tempdir().unwrap();
    assert!(
        std::process::Command::new("cp")
            .arg("-r")
            .arg(demo_kit("quay-base"))
            .arg(kits.path())
            .status()
            .unwrap()
            .success()
    );
    let kit = kits.path().join("quay-base");
    well(&fleet.client(&["kit", "publish", kit.to_str().unwrap()]));
    browser.see("quay-base@1.3.0");
    for (file, from, to) in
        [("kit.toml", "1.3.0", "1.4.0"), ("copies/issue", "Skerry Line", "Skerry Line, five islands")]
    {
        let text = std::fs::read_to_string(kit.join(file)).unwrap();
        std::fs::write(kit.join(file), text.replace(from, to)).unwrap();
    }
    well(&fleet.client(&["kit", "publish", kit.to_str().unwrap()]));
    browser.click("link", "differences from 1.3.0");
    browser.see("The account guest must not exist.");
    browser.see("+Skerry Line, five islands");
    browser.click("tab", "copies/issue");
    assert!(
        browser.address().contains("/kits/quay-base/1.4.0?from=1.3.0&file=copies%2Fissue"),
        "{}",
        browser.address()
    );
    browser.click("link", "Kinds");
    browser.see("What do you want to achieve?");
    browser.open("/kinds/packet_rule?find=close%20port");
    browser.see("what = \"packet_rule:nobody prints from outside\"");
    let complaints = browser.complaints();
    assert!(
        complaints.iter().all(|complaint| !complaint.contains("Content Security Policy")),
        "{complaints:?}"
    );
}

#[test]
fn a_change_is_looked_into_and_taken_back_from_its_page() {
    let fleet = Fleet::start();
    let mut browser = signed_in(&fleet);
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    let state = fleet.query("select state from node_wanted");
    let typo = kiosk.document("typo.toml", &KIOSKS.replace("MODE", "enforce").replace("'kiosk'", "'kisok'"));
    well(&fleet.client(&["group", "set", &typo, "--confirm", "1", "--because", "kiosks of the winter"]));
    assert_ne!(fleet.query("select coalesce(state::text, '') from node_wanted"), state);

    browser.click("link", "Changes");
    browser.see("kiosks of the winter");
    browser.see("the node lacks it");
    let no = fleet.query("select max(no) from change");
    browser.click("link", &format!("C{no}"));
    browser.see("Takes 19 clauses from 1 node.");
    browser.see("filter\": \"labels.role == 'kisok'");
    browser.click("button", "Take back…");
    browser.fill("Reason", "it took everything from the kiosks");
    browser.click("button", "Show the impact");
    browser.see("new on 1 node");
    assert_eq!(
        fleet.query("select count(*) from change where status = 'handed_out' and kind = 'go_back'"),
        "0",
        "nothing is handed out yet"
    );
    browser.click("button", "Hand out");
    browser.see(&format!("take back C{no}: set the group kiosks"));
    browser.see("it took everything from the kiosks");
    assert_eq!(fleet.query("select state from node_wanted"), state);
    browser.click("link", "Nodes");
    browser.click("link", "kiosk-auken-1");
    browser.see("Changed by");
    let complaints = browser.complaints();
    assert!(
        complaints.iter().all(|complaint| !complaint.contains("Content Security Policy")),
        "{complaints:?}"
    );
}

#[test]
fn a_group_is_edited_as_a_draft_that_survives_a_reload_and_is_saved_after_its_impact() {
    let fleet = Fleet::start();
    let mut browser = signed_in(&fleet);
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));

    browser.click("link", "Groups");
    browser.see("labels.role == 'kiosk'");
    browser.click("link", "kiosks");
    browser.see("Assignments, in this order");
    let parameter = "kiosk-floor/kiosk-lockdown.idle_seconds";
    browser.fill(parameter, "60");
    browser.press("Enter");
    browser.see("1 edit");
    browser.fill("place of quay-base/login", "9");
    browser.press("Enter");
    browser.see("3 edits");
    browser.open("/groups/kiosks");
    browser.see("3 edits");
    // Somebody else edits another thing meanwhile: the edits are made on top of that.
    well(&fleet.client(&["group", "setting", "kiosks", "grace_secs", "30 min"]));
    browser.see("The group was changed since you began.");
    browser.click("button", "Show the impact");
    browser.see("file:/etc/kiosk/shell.conf");
    assert_eq!(fleet.query("select body #>> array['parameters', 'kiosk-floor/kiosk-lockdown.idle_seconds'] from node_group where name = 'kiosks' and until_at is null"), "45");
    browser.click("button", "Save…");
    browser.click("button", "Hand out");
    browser.see("the node lacks it");
    let stored = fleet.query(
        "select (body #>> array['parameters', 'kiosk-floor/kiosk-lockdown.idle_seconds']) || ' ' || (body #>> '{settings,grace_secs}') || ' ' || (body #>> '{assignments,0,baseline}')
            from node_group where name = 'kiosks' and until_at is null",
    );
    assert_eq!(stored, "60 1800 kiosk-lockdown");
    browser.open("/groups/kiosks");
    browser.see("Nothing is edited.");

    browser.fill("Filter", "labels.role == 'kisok'");
    browser.see("going, 1 node: kiosk-auken-1");
    browser.click("button", "Discard");
    let complaints = browser.complaints();
    assert!(
        complaints.iter().all(|complaint| !complaint.contains("Content Security Policy")),
        "{complaints:?}"
    );
}
