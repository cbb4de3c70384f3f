//! Every page of the console, with something on it: without what keeps people from using it, at widths of a phone and of a wall.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, signed_in, well};
use constans_e2e::{Browser, Fleet, Machine};
use serde_json::Value;

const WIDTHS: [(u32, u32); 3] = [(390, 844), (1280, 800), (2560, 1440)];

/// Makes a fleet of which every page has something to show, and returns the pages.
fn furnished(fleet: &Fleet) -> Vec<String> {
    let kiosk = joined(fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(fleet);
    well(&group(fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    well(&kiosk.run(&["daemon", "--once"]));
    let gone = joined(fleet, "kiosk-auken-2", &["role=kiosk"]);
    well(&fleet.client(&["node", "retire", "kiosk-auken-2", "--because", "sold"]));
    drop(gone);
    let (waiting, denied) = (Machine::fresh(), Machine::fresh());
    for (machine, name) in [(&waiting, "gate-auken-1"), (&denied, "gate-auken-2")] {
        let invitation = fleet.invite(machine, &[]);
        machine.run(&["join", "--invitation-file", &invitation, "--name", name, "--wait", "0"]);
    }
    well(&fleet.client(&["join", "deny", "gate-auken-2", "--because", "not on the list of the depot"]));
    well(&fleet.client(&["invite", "--label", "site=auken"]));
    well(&fleet.client(&[
        "admission",
        "add",
        "--name",
        "kiosk-lab-*",
        "--because",
        "the lab of the depot",
        "--for",
        "7d",
        "--yes",
    ]));
    well(&fleet.client(&[
        "concession",
        "ask",
        "--clause",
        "file:/etc/kiosk/shell.conf",
        "--node",
        "kiosk-auken-1",
        "--for",
        "30d",
        "--because",
        "old kiosks keep theirs",
    ]));
    well(&fleet.client(&["sweep", "observe", "--because", "the winter timetable", "--no-wait"]));
    // A rollout is under way, and another change is previewed.
    let document = kiosk.document("group.toml", &KIOSKS.replace("MODE", "observe").replace("= 45", "= 90"));
    well(&fleet.client(&["group", "set", &document, "--preview"]));
    let in_waves = format!("C{}", fleet.query("select max(no) from change"));
    well(&fleet.client(&["rollout", "begin", &in_waves, "--waves", "50%,100%", "--yes"]));
    let document = kiosk.document(
        "group.toml",
        "name = \"lab\"\npriority = 30\nfilter = \"true\"\n[settings]\nspread_secs = 7\n",
    );
    well(&fleet.client(&["group", "set", &document, "--preview"]));
    let runs: Value =
        serde_json::from_str(well(&fleet.client(&["run", "list", "kiosk-auken-1", "--output", "json"])))
            .expect("JSON");
    let run = latest_run(&runs).expect("it ran");
    [
        "/",
        "/nodes",
        "/nodes/kiosk-auken-1",
        "/nodes/kiosk-auken-1/follow",
        "/drift",
        "/compliance",
        "/compliance/controls",
        "/compliance/concessions",
        "/compliance/evidence",
        "/changes",
        "/changes/1",
        "/groups",
        "/groups/kiosks",
        "/freezes",
        "/joining",
        "/joining/invitations",
        "/joining/rules",
        "/joining/decided",
        "/joining/retired",
        "/kits",
        "/kits/kiosk-floor/1.0.0",
        "/kinds",
        "/kinds/file",
        "/activity",
        "/activity/S1",
        "/activity?compare=S1&with=S1",
        "/server",
        "/nowhere",
    ]
    .map(str::to_owned)
    .into_iter()
    .chain([format!("/nodes/kiosk-auken-1/runs/{run}"), format!("/changes/{in_waves}")])
    .collect()
}

fn latest_run(value: &Value) -> Option<String> {
    match value {
        Value::Array(items) => items.iter().find_map(latest_run),
        Value::Object(map) => map
            .get("run")
            .and_then(Value::as_str)
            .map(str::to_owned)
            .or_else(|| map.values().find_map(latest_run)),
        _ => None,
    }
}

/// Looks at all pages, and returns what is wrong with any.
fn wrong(browser: &mut Browser, pages: &[String]) -> Vec<String> {
    let mut wrong = Vec::new();
    for page in pages {
        browser.open(page);
        browser.settle();
        for (width, height) in WIDTHS {
            browser.resize(width, height);
            wrong.extend(browser.overflow().into_iter().map(|what| format!("{page} at {width}: {what}")));
        }
        browser.resize(1280, 800);
        for scheme in ["light", "dark"] {
            browser.prefer(scheme);
            wrong.extend(browser.violations().into_iter().map(|what| format!("{page} in {scheme}: {what}")));
        }
    }
    wrong
}

#[test]
fn every_page_fits_a_phone_and_a_wall_and_keeps_nobody_out() {
    let fleet = Fleet::start_given(&["--title", "Skerry Line, the harbour at Auken"]);
    let pages = furnished(&fleet);
    let mut browser = signed_in(&fleet);
    browser.see("Needs attention");
    let wrong = wrong(&mut browser, &pages);
    assert!(wrong.is_empty(), "{} faults:\n{}", wrong.len(), wrong.join("\n"));
    assert_eq!(browser.complaints(), Vec::<String>::new());
}

/// Each form and menu: its page, and what is clicked until it is open.
const FORMS: &[(&str, &[(&str, &str)])] = &[
    ("/nodes", &[("button", "Columns")]),
    ("/changes/IN_WAVES", &[("button", "Halt…")]),
    ("/changes/IN_WAVES", &[("button", "Go on…")]),
    ("/changes/IN_WAVES", &[("button", "Turn back…")]),
    ("/changes/PREVIEWED", &[("button", "Hand out…"), ("button", "In waves…")]),
    ("/activity", &[("button", "Run now…")]),
    ("/activity", &[("button", "Run now…"), ("button", "enforce")]),
    ("/nodes/kiosk-auken-1", &[("button", "Actions"), ("menuitem", "Run now…")]),
    ("/nodes", &[("button", "… actions of kiosk-auken-1")]),
    ("/nodes", &[("checkbox", "Select all rows"), ("button", "Label…")]),
    ("/nodes", &[("checkbox", "Select all rows"), ("button", "Reach now…")]),
    ("/nodes/kiosk-auken-1", &[("button", "Actions"), ("menuitem", "Reach now…")]),
    ("/nodes/kiosk-auken-1", &[("button", "Actions"), ("menuitem", "Inspect…")]),
    ("/nodes/kiosk-auken-1", &[("button", "Actions"), ("menuitem", "Self-test…")]),
    ("/nodes/kiosk-auken-1", &[("button", "Actions"), ("menuitem", "Label…")]),
    ("/nodes/kiosk-auken-1", &[("button", "Actions"), ("menuitem", "Rename…")]),
    ("/nodes/kiosk-auken-1", &[("button", "Actions"), ("menuitem", "Mode of its own…")]),
    ("/nodes/kiosk-auken-1", &[("button", "Actions"), ("menuitem", "Freeze…")]),
    ("/nodes/kiosk-auken-1", &[("button", "Actions"), ("menuitem", "Retire…")]),
    ("/nodes/kiosk-auken-1", &[("button", "Actions"), ("menuitem", "Revoke…")]),
    ("/groups", &[("button", "New group…")]),
    ("/freezes", &[("button", "Freeze all nodes…")]),
    ("/joining", &[("checkbox", "select gate-auken-1"), ("button", "Approve…")]),
    ("/joining", &[("checkbox", "select gate-auken-1"), ("button", "Deny…")]),
    ("/joining/invitations", &[("button", "Invite…")]),
    ("/joining/rules", &[("button", "Make a rule…")]),
    ("/joining/retired", &[("button", "Bring back… kiosk-auken-2")]),
    ("/kits/kiosk-floor/1.0.0", &[("button", "Serve…")]),
    ("/compliance/concessions", &[("button", "Ask for one…")]),
    ("/compliance/evidence", &[("button", "Make…")]),
];

#[test]
fn every_form_does_so_too_and_is_left_by_a_key() {
    let fleet = Fleet::start();
    furnished(&fleet);
    let [in_waves, previewed] = ["in_waves", "previewed"]
        .map(|status| fleet.query(&format!("select 'C' || max(no) from change where status = '{status}'")));
    let mut browser = signed_in(&fleet);
    browser.see("Needs attention");
    let mut wrong = Vec::new();
    for (page, clicks) in FORMS {
        let (_, last) = clicks.last().expect("something is clicked");
        browser.prefer("light");
        browser.open(&page.replace("IN_WAVES", &in_waves).replace("PREVIEWED", &previewed));
        for (role, name) in *clicks {
            browser.click(role, name);
        }
        browser.settle();
        browser.resize(390, 844);
        wrong.extend(browser.overflow().into_iter().map(|what| format!("{last} of {page} at 390: {what}")));
        browser.resize(1280, 800);
        for scheme in ["light", "dark"] {
            browser.prefer(scheme);
            // A menu stands beside the page while it is open; that it is within no landmark keeps nobody from it.
            let found = browser.violations().into_iter().filter(|what| !what.starts_with("region "));
            wrong.extend(found.map(|what| format!("{last} of {page} in {scheme}: {what}")));
        }
        let open = browser.count("[role=dialog], [role=menu]");
        browser.press("Escape");
        browser.settle();
        if open != 1 || browser.count("[role=dialog], [role=menu]") != 0 {
            wrong.push(format!("{last} of {page}: {open} were open, and Escape leaves one"));
        }
    }
    assert!(wrong.is_empty(), "{} faults:\n{}", wrong.len(), wrong.join("\n"));
    assert_eq!(browser.complaints(), Vec::<String>::new());
}

#[test]
fn the_pages_before_signing_in_do_so_too() {
    let fleet = Fleet::start();
    let mut browser = Browser::start(&fleet.people_url());
    let welcome = fleet.link("tor.havik", "operator");
    let wrong = wrong(&mut browser, &["/".to_owned(), welcome]);
    assert!(wrong.is_empty(), "{} faults:\n{}", wrong.len(), wrong.join("\n"));
}
