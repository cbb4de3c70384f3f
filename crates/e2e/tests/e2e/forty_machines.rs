//! The story of a laboratory of forty machines, in the console and by the client: invited, let in by a rule, placed, assigned, followed
//! until all are in line; one is replaced, two are retired, one is brought back. What is mistyped is told where it was typed.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_e2e::story::{group, publish_and_serve, refused, signed_in, well};
use constans_e2e::{Ended, Fleet, Machine};
use std::thread;

/// How many machines there are.
const MACHINES: usize = 40;
/// How many ask before there is a rule.
const BEFORE: usize = 25;

fn name(at: usize) -> String {
    format!("kiosk-lab-{at}")
}

fn ask(machine: &Machine, invitation: &str, name: &str, wait: &str) -> Ended {
    machine.run(&["join", "--invitation-file", invitation, "--name", name, "--wait", wait])
}

/// Has each do something, several at once.
fn all<T: Send>(machines: &[Machine], act: impl Fn(usize, &Machine) -> T + Sync) -> Vec<T> {
    let part = machines.len().div_ceil(4);
    thread::scope(|scope| {
        let act = &act;
        let parts: Vec<_> = machines
            .chunks(part)
            .enumerate()
            .map(|(no, chunk)| {
                scope.spawn(move || {
                    chunk.iter().enumerate().map(|(at, one)| act(no * part + at + 1, one)).collect::<Vec<_>>()
                })
            })
            .collect();
        parts.into_iter().flat_map(|part| part.join().unwrap()).collect()
    })
}

#[test]
fn forty_machines_by_the_client_alone() {
    let fleet = Fleet::start();
    let desk = Machine::fresh();
    publish_and_serve(&fleet);
    well(&group(&fleet, &desk, "name = \"lab\"\npriority = 20\n\n[settings]\nmode = \"enforce\"\n"));
    let client = |words: &[&str]| fleet.client(words);

    refused(&client(&["invite", "--uses", "50", "--label", "role"]), "write KEY=VALUE");
    let invitation = fleet.invite(&desk, &["--uses", "50", "--label", "role=kiosk"]);
    let machines: Vec<Machine> = (0..MACHINES).map(|_| Machine::fresh()).collect();
    all(&machines[..BEFORE], |at, machine| {
        assert!(ask(machine, &invitation, &name(at), "0").stdout.contains("waiting"));
    });
    let waiting = client(&["join", "list", "--filter", "request.name == \"kiosk-lab-7\""]);
    assert!(
        well(&waiting).contains("kiosk-lab-7") && !waiting.stdout.contains("kiosk-lab-8"),
        "{}",
        waiting.stdout
    );

    let rule = |more: &[&str]| {
        let words = [
            "admission",
            "add",
            "--name",
            "kiosk-lab-*",
            "--label",
            "lab=yes",
            "--because",
            "the lab of the depot",
        ];
        fleet.client(&[&words, more].concat())
    };
    refused(&rule(&["--key", "4c1f", "--yes"]), "a fingerprint has 64 hexadecimal digits, and this has 4");
    let made = rule(&["--at-most", "40", "--yes"]);
    assert!(well(&made).contains("25"), "{}", made.stdout);
    all(&machines, |at, machine| {
        let ended = ask(machine, &invitation, &name(at), "30");
        assert!(well(&ended).contains(&format!("as {}", name(at))), "{}", ended.stdout);
    });
    assert_eq!(fleet.query("select count(*) from node where labels ->> 'lab' = 'yes'"), "40");

    // Placed and assigned; nothing is handed out before its impact is seen.
    refused(&client(&["group", "filter", "lab", "labels.lab =="]), "did not expect the end in the condition");
    well(&client(&["group", "filter", "lab", "labels.lab == \"yes\""]));
    refused(&client(&["group", "assign", "lab", "quay-base/logni"]), "did you mean");
    let preview = client(&["group", "assign", "lab", "quay-base/login", "--preview"]);
    assert!(well(&preview).contains("affects 40 nodes"), "{}", preview.stdout);
    let given = "select count(*) from node_wanted w join effective_state s on s.id = w.state where cardinality(s.clauses) > 0";
    assert_eq!(fleet.query(given), "0");
    well(&client(&["group", "assign", "lab", "quay-base/login"]));
    for _ in 0..2 {
        all(&machines, |_, machine| drop(well(&machine.run(&["daemon", "--once"])).to_owned()));
    }
    let in_line = client(&["node", "list", "--filter", "node.status == \"in_line\"", "--output", "json"]);
    let in_line: serde_json::Value = serde_json::from_str(well(&in_line)).unwrap();
    assert_eq!(in_line.as_array().map(Vec::len), Some(MACHINES));

    // One is replaced, two are retired, one is brought back.
    let new = Machine::fresh();
    assert!(ask(&new, &invitation, &name(1), "0").stdout.contains("waiting"));
    refused(&client(&["join", "approve", "kiosk-lab-1", "--yes"]), "in use");
    well(&client(&["join", "approve", "kiosk-lab-1", "--as", "kiosk-lab-1"]));
    well(&ask(&new, &invitation, &name(1), "0"));
    refused(&client(&["node", "retire", "kiosk-lab-2", "kiosk-lba-3", "--because", "sold"]), "kiosk-lba-3");
    well(&client(&["node", "retire", "kiosk-lab-2", "kiosk-lab-3", "--because", "sold"]));
    let retired = client(&["node", "retired", "--filter", "retired.because == \"sold\"", "--sort", "-name"]);
    let (third, second) = (well(&retired).find("kiosk-lab-3"), retired.stdout.find("kiosk-lab-2"));
    assert!(third.is_some() && third < second, "{}", retired.stdout);
    refused(
        &client(&["node", "bring-back", "kiosk-lab-3", "--name", "kiosk lab 3"]),
        "a node's name has letters, digits",
    );
    well(&client(&["node", "bring-back", "kiosk-lab-3"]));
    well(&machines[2].run(&["daemon", "--once"]));
    well(&new.run(&["daemon", "--once"]));
    assert_eq!(
        fleet.query("select count(*) from node_life where until_at is null"),
        "39",
        "counted once each"
    );
}

#[test]
fn forty_machines_are_invited_let_in_by_a_rule_placed_and_followed_until_all_are_in_line() {
    let fleet = Fleet::start();
    let desk = Machine::fresh();
    publish_and_serve(&fleet);
    well(&group(&fleet, &desk, "name = \"lab\"\npriority = 20\n\n[settings]\nmode = \"enforce\"\n"));
    let mut browser = signed_in(&fleet);

    // One invitation for all, made on its page; a typing error in its labels is told before.
    browser.click("link", "Joining");
    browser.see("No machine asks to join.");
    browser.click("link", "Invitations");
    browser.click("button", "Invite…");
    browser.fill("How many machines may use it, at most 10,000", "50");
    browser.fill("Labels of the machines that use it", "role");
    browser.see("“role” is no label: write site=auken");
    browser.fill("Labels of the machines that use it", "role=kiosk site=auken");
    browser.click("button", "Invite");
    browser.see("The invitation is shown only now.");
    browser.click("button", "Close");
    browser.see("50 of 50");
    // Its text is only shown to people; this one is the same by the client.
    let invitation = fleet.invite(&desk, &["--uses", "50", "--label", "role=kiosk"]);
    let machines: Vec<Machine> = (0..MACHINES).map(|_| Machine::fresh()).collect();
    all(&machines[..BEFORE], |at, machine| {
        assert!(ask(machine, &invitation, &name(at), "0").stdout.contains("waiting"));
    });
    browser.click("link", "Waiting");
    browser.see("25 machines");

    // A rule lets in those that wait, at once, and the others with their first request.
    browser.click("link", "Admission rules");
    browser.click("button", "Make a rule…");
    browser.fill("Its name is, or fits", "kiosk-lab-*");
    browser.see("At once it lets in 25 waiting machines");
    browser.see("nothing bounds how many machines it lets in");
    browser.fill("Its key has one of the fingerprints, one in a line", "4c1f");
    browser.see("a fingerprint has 64 hexadecimal digits, and this has 4");
    browser.fill("Its key has one of the fingerprints, one in a line", "");
    browser.fill("How many machines at most", "40");
    browser.fill("Labels, over those of their invitations", "lab=yes");
    browser.fill("Reason", "the lab of the depot");
    // What is typed survives a reload of the page.
    browser.open("/joining/rules?make=yes");
    browser.see("At once it lets in 25 waiting machines");
    browser.click("button", "Make the rule");
    browser.see("25 of 40");
    all(&machines, |at, machine| {
        // While a change is handed out, the rule lets nobody in for a moment.
        let ended = ask(machine, &invitation, &name(at), "30");
        assert!(well(&ended).contains(&format!("as {}", name(at))), "{}", ended.stdout);
    });
    browser.open("/joining/rules?rule=1");
    browser.see("has let in as many as it may");
    assert_eq!(fleet.query("select count(*) from node where labels ->> 'lab' = 'yes'"), "40");

    // They are placed in a group by their label and assigned a baseline; nothing is handed out before its impact is seen.
    browser.open("/groups/lab");
    browser.fill("Filter", "labels.lab ==");
    browser.see("did not expect the end in the condition");
    browser.fill("Filter", "labels.lab == \"yes\"");
    browser.see("Coming, 40 nodes");
    let curl = fleet.curl().with_token(&fleet.token("pia.lund", "reader"));
    let baselines: Vec<serde_json::Value> = serde_json::from_str(&curl.get("/api/baselines").1).unwrap();
    browser.fill(&format!("Assign a baseline: search {} published", baselines.len()), "quay-base/login");
    browser.press("ArrowDown");
    browser.press("Enter");
    browser.see("2 edits");
    browser.click("button", "Show the impact");
    browser.see("Affects 40 nodes.");
    assert_eq!(fleet.query("select count(*) from node_wanted w join effective_state s on s.id = w.state where cardinality(s.clauses) > 0"), "0");
    browser.click("button", "Save…");
    browser.click("button", "Hand out");
    browser.see("0 of 40 nodes have it");
    for _ in 0..2 {
        all(&machines, |_, machine| drop(well(&machine.run(&["daemon", "--once"])).to_owned()));
    }
    browser.see("all 40 nodes have it");
    browser.open("/nodes?filter=node.status+%3D%3D+%22in_line%22");
    browser.see("40 nodes");

    // One is replaced: a new machine claims its name, and is approved as it.
    let new = Machine::fresh();
    assert!(ask(&new, &invitation, &name(1), "0").stdout.contains("waiting"));
    browser.open("/joining");
    browser.see("fits the rule A1, but claims a name that another node has");
    browser.click("checkbox", "select kiosk-lab-1");
    browser.click("button", "Approve…");
    browser.see("the name kiosk-lab-1 is in use");
    browser.click("checkbox", "it is the node kiosk-lab-1 on a new machine");
    browser.see("open-water, enforce");
    browser.click("button", "Approve 1 machine");
    browser.see("kiosk-lab-1 is approved");
    assert!(well(&ask(&new, &invitation, &name(1), "30")).contains("as kiosk-lab-1"));
    let old = machines[0].run(&["check-in"]);
    assert!(old.exit != Some(0) && old.stderr.contains("revoked"), "{}", old.stderr);
    assert_eq!(fleet.query("select count(*) from node"), "40", "it is the same node");

    // Two are retired by one change, with what happens next said before; one of them is brought back.
    browser.open("/nodes?filter=node.name+in+%5B%22kiosk-lab-2%22%2C%22kiosk-lab-3%22%5D");
    browser.see("2 nodes");
    browser.click("checkbox", "Select all rows");
    browser.see("2 nodes selected");
    browser.click("button", "Retire…");
    browser.see("What happens next: their next requests are refused");
    browser.fill("Reason", "sold");
    browser.click("button", "Show the impact");
    browser.see("No node is given anything else.");
    browser.click("button", "Hand out…");
    browser.click("button", "Hand out");
    browser.see("retire 2 nodes");
    browser.open("/joining/retired?filter=retired.name+%3D%3D+%22kiosk-lab-3%22");
    browser.see("ilse.maren");
    browser.see("“sold”");
    browser.click("button", "Bring back… kiosk-lab-3");
    browser.fill("Name", "kiosk lab 3");
    browser.click("button", "Bring back");
    browser.see("a node's name has letters, digits");
    browser.fill("Name", "kiosk-lab-3");
    browser.click("button", "Bring back");
    browser.see("kiosk-lab-3 is of the fleet again");
    assert!(well(&machines[2].run(&["check-in"])).contains("as kiosk-lab-3"));
    assert!(machines[1].run(&["check-in"]).stderr.contains("was retired"));
    well(&machines[2].run(&["daemon", "--once"]));
    well(&new.run(&["daemon", "--once"]));
    browser.open("/nodes");
    browser.see("39 nodes");
    assert_eq!(
        fleet.query("select count(*) from node_life where until_at is null"),
        "39",
        "counted once each"
    );

    // A node's own action: it observes, whatever its groups say.
    browser.open("/nodes/kiosk-lab-4");
    browser.click("button", "Actions");
    browser.click("menuitem", "Mode of its own");
    browser.click("combobox", "Mode of its own");
    browser.click("option", "observe");
    browser.click("button", "Show the impact");
    browser.see("Other settings of the agent on 1 node.");
    browser.click("button", "Hand out…");
    browser.click("button", "Hand out");
    browser.see("the node lacks it");
    assert_eq!(
        fleet.query("select own::text from node where name = 'kiosk-lab-4'"),
        "{\"settings\": {\"mode\": \"observe\"}}"
    );
    let complaints = browser.complaints();
    assert!(
        complaints.iter().all(|complaint| !complaint.contains("Content Security Policy")),
        "{complaints:?}"
    );
}
