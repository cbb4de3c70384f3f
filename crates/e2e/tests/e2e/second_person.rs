//! Separation of duties: who may not hand out requests, and groups and stages may need a second person.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Fleet, Machine};

fn newest(fleet: &Fleet) -> String {
    format!("C{}", fleet.query("select max(no) from change"))
}

fn document(machine: &Machine, idle: u32, more: &str) -> String {
    machine.document(
        "group.toml",
        &KIOSKS
            .replace("MODE", "enforce")
            .replace("= 45", &format!("= {idle}"))
            .replace("priority = 10", &format!("priority = 10{more}")),
    )
}

const IDLE: &str = "select body -> 'parameters' ->> 'kiosk-floor/kiosk-lockdown.idle_seconds' from node_group where name = 'kiosks' and until_at is null";

#[test]
fn who_may_not_hand_out_requests_and_another_person_approves_or_denies_with_the_impact_before_them() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    let operator = fleet.token("program.operator", "operator");
    let approver = fleet.token("tor.havik", "approver");
    let reader = fleet.token("pia.lund", "reader");

    let wanted = document(&kiosk, 60, "");
    assert_eq!(
        fleet.client_by(&reader, &["group", "set", &wanted]).exit,
        Some(3),
        "a reader requests nothing"
    );
    let requested =
        fleet.client_by(&operator, &["group", "set", &wanted, "--because", "idle times of the winter"]);
    let requested = well(&requested);
    assert!(
        requested.contains(
            "requested: the group kiosks is set; nothing is handed out until another person approves it"
        ),
        "{requested}"
    );
    assert!(
        requested.contains("changes on 1 node     file:/etc/kiosk/shell.conf"),
        "its impact is shown: {requested}"
    );
    let change = newest(&fleet);
    assert_eq!(fleet.query(IDLE), "45", "nothing is handed out");
    let shown = fleet.client_by(&reader, &["change", "show", &change]).stdout;
    assert!(
        shown.contains("waits for approval by another person: its author may not hand it out")
            && shown.contains("idle times of the winter"),
        "{shown}"
    );
    assert!(fleet.client(&["change", "list"]).stdout.contains("waits for approval"));
    assert_eq!(
        fleet.client_by(&operator, &["change", "approve", &change]).exit,
        Some(3),
        "who may not hand out approves nothing"
    );

    // Another change comes between: what was prepared is prepared again.
    well(&fleet.client(&["node", "label", "kiosk-auken-1", "--set", "quay=3"]));
    let approved = fleet.client_by(&approver, &["change", "approve", &change]);
    assert!(
        well(&approved).contains(&format!("{change} is approved and handed out")),
        "{}{}",
        approved.stdout,
        approved.stderr
    );
    assert_eq!(fleet.query(IDLE), "60");
    let shown = fleet.client(&["change", "show", &change]).stdout;
    assert!(shown.contains("  program.operator, ") && shown.contains("  approved by tor.havik"), "{shown}");
    assert_eq!(
        fleet.query("select string_agg(who || ' ' || did, ', ' order by id) from event where did in ('requested a change', 'approved a change', 'handed out a change') and subject = 'set the group kiosks'"),
        "program.operator requested a change, tor.havik approved a change, program.operator handed out a change"
    );
    let again = fleet.client_by(&approver, &["change", "approve", &change]);
    assert!(again.stderr.contains("does not wait for approval: it is handed out"), "{}", again.stderr);

    // One that takes clauses is approved with the number; it can be denied, and withdrawn by its author.
    let removed = fleet.client_by(&operator, &["group", "remove", "kiosks"]);
    assert!(well(&removed).contains("takes"), "{}", removed.stdout);
    let change = newest(&fleet);
    let unasked = fleet.client_by(&approver, &["change", "approve", &change]);
    assert!(
        unasked.exit == Some(3) && unasked.stderr.contains("takes clauses from 1 node"),
        "{}",
        unasked.stderr
    );
    let denied = fleet.client_by(&approver, &["change", "deny", &change, "--because", "the festival is on"]);
    assert!(well(&denied).contains("is denied"), "{}", denied.stdout);
    assert!(
        fleet
            .client_by(&operator, &["change", "show", &change])
            .stdout
            .contains("tor.havik denied it: the festival is on")
    );
    well(&fleet.client_by(&operator, &["group", "remove", "kiosks"]));
    let change = newest(&fleet);
    let publisher = fleet.token("program.publisher", "publisher");
    assert_eq!(
        fleet.client_by(&publisher, &["change", "stop", &change]).exit,
        Some(3),
        "that of another person is not stopped"
    );
    well(&fleet.client_by(&operator, &["change", "stop", &change]));
    assert_eq!(fleet.query(&format!("select status from change where no = {}", &change[1..])), "stopped");
    assert_eq!(
        fleet.query("select count(*) from node_group where name = 'kiosks' and until_at is null"),
        "1"
    );

    // Nobody piles up requests without end.
    for number in 0..20 {
        well(
            &fleet.client_by(
                &operator,
                &["node", "label", "kiosk-auken-1", "--set", &format!("quay={number}x")],
            ),
        );
    }
    let piled = fleet.client_by(&operator, &["node", "label", "kiosk-auken-1", "--set", "quay=9"]);
    assert!(
        piled.exit == Some(1) && piled.stderr.contains("20 requests of program.operator wait already"),
        "{}",
        piled.stderr
    );

    // Who may hand out can ask for a second look, too; and what a request was made from may be gone by then.
    well(&fleet.client_by(&approver, &["group", "set", &document(&kiosk, 70, ""), "--request"]));
    let change = newest(&fleet);
    let own = fleet.client_by(&approver, &["change", "approve", &change]);
    assert!(own.exit == Some(1) && own.stderr.contains("you asked for"), "{}", own.stderr);
    well(&fleet.client(&["group", "set", &document(&kiosk, 80, "")]));
    let late = fleet.client(&["change", "approve", &change]);
    assert!(late.stderr.contains("group kiosks was changed meanwhile by C"), "{}", late.stderr);
    assert_eq!(fleet.query(IDLE), "80");
}

/// Publishes the next release of quay-base.
fn change_version(kiosk: &Machine, fleet: &Fleet) {
    let folder = kiosk.root.at("/quay-base");
    let copied = std::process::Command::new("cp")
        .arg("-r")
        .arg(constans_e2e::demo_kit("quay-base"))
        .arg(&folder)
        .status();
    assert!(copied.is_ok_and(|status| status.success()), "it is copied");
    constans_e2e::story::change(&folder.join("kit.toml"), "1.3.0", "1.3.1");
    well(&fleet.client(&["kit", "publish", folder.to_str().unwrap_or_default()]));
}

#[test]
fn a_group_or_stage_that_needs_a_second_person_is_changed_by_nobody_alone() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    let approver = fleet.token("tor.havik", "approver");
    let protect = document(&kiosk, 45, "\nsecond_person = true");
    let first = fleet.client(&["group", "set", &protect]);
    assert!(
        well(&first).contains("requested: "),
        "already what protects it needs a second person: {}",
        first.stdout
    );
    well(&fleet.client_by(&approver, &["change", "approve", &newest(&fleet)]));
    assert!(fleet.client(&["group", "list"]).stdout.contains("changes need a second person"));

    let alone = fleet.client(&["group", "set", &document(&kiosk, 60, "")]);
    assert!(
        well(&alone).contains("requested: "),
        "not even an administrator takes it off alone: {}",
        alone.stdout
    );
    let change = newest(&fleet);
    assert!(
        fleet.client(&["change", "show", &change]).stdout.contains("the group kiosks needs a second person")
    );
    assert_eq!(fleet.client(&["change", "approve", &change]).exit, Some(1));
    let confirmed = fleet.client(&["change", "confirm", &change]);
    assert!(confirmed.stderr.contains("does not wait for confirmation"), "{}", confirmed.stderr);
    assert_eq!(fleet.query(IDLE), "45");
    well(&fleet.client_by(&approver, &["change", "approve", &change]));
    assert_eq!(fleet.query(IDLE), "60");

    // A preview that is confirmed is no way around it.
    well(&fleet.client(&["stage", "second-person", "open-water", "required"]));
    well(&fleet.client_by(&approver, &["stage", "list"]));
    assert!(fleet.client(&["stage", "list"]).stdout.contains("(changes need a second person)"));
    change_version(&kiosk, &fleet);
    let preview = fleet.client(&["stage", "serve", "open-water", "quay-base@1.3.1", "--preview"]);
    assert!(well(&preview).contains("preview: "), "{}", preview.stdout);
    let change = newest(&fleet);
    let confirmed = fleet.client(&["change", "confirm", &change]);
    assert!(well(&confirmed).contains("requested: "), "{}{}", confirmed.stdout, confirmed.stderr);
    assert!(fleet.client(&["stage", "list"]).stdout.contains("quay-base@1.3.0"));
    well(&fleet.client_by(&approver, &["change", "approve", &change]));
    assert!(fleet.client(&["stage", "list"]).stdout.contains("quay-base@1.3.1"));
    let off = fleet.client(&["stage", "second-person", "open-water", "not-required"]);
    assert!(well(&off).contains("requested: "), "{}", off.stdout);
    let removed = fleet.client(&["stage", "remove", "open-water"]);
    assert!(removed.stdout.contains("requested: "), "{}{}", removed.stdout, removed.stderr);
}
