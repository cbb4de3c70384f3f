//! Stages made, renamed, moved and removed by the operator, and groups that are checked as strictly as kits.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Fleet, Machine};

fn stages(fleet: &Fleet) -> String {
    let listed = fleet.client(&["stage", "list"]);
    well(&listed)
        .lines()
        .map(|line| line.split_whitespace().collect::<Vec<_>>().join(" "))
        .collect::<Vec<_>>()
        .join("; ")
}

#[test]
fn stages_are_made_moved_renamed_and_removed_and_nodes_and_groups_follow() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(
        &fleet,
        &kiosk,
        &KIOSKS.replace("MODE", "enforce").replace("priority = 10", "priority = 10\nstage = \"open-water\""),
    ));
    let state = "select string_agg(state::text, ' ') from node_wanted";
    let before = fleet.query(state);

    well(&fleet.client(&[
        "stage",
        "make",
        "pilot",
        "--before",
        "harbour",
        "--because",
        "two kiosks try first",
    ]));
    assert!(
        stages(&fleet)
            .starts_with("pilot serves no releases yet; harbour serves no releases yet; open-water"),
        "{}",
        stages(&fleet)
    );
    well(&fleet.client(&["stage", "move", "pilot"]));
    assert!(stages(&fleet).ends_with("pilot serves no releases yet"), "{}", stages(&fleet));
    let renamed = fleet.client(&["stage", "rename", "open-water", "sea"]);
    let renamed = well(&renamed);
    assert!(
        renamed.contains("the stage open-water is called sea")
            && renamed.contains("desired state changed on 0 nodes"),
        "{renamed}"
    );
    assert_eq!(fleet.query(state), before, "a name alone gives no node anything else");
    assert!(fleet.client(&["node", "show", "kiosk-auken-1"]).stdout.contains("stage     sea"));
    assert!(well(&fleet.client(&["group", "list"])).contains("stage sea"), "the group follows");

    let named = fleet.client(&["stage", "remove", "sea"]);
    assert!(named.stderr.contains("the stage `sea` is named by the group kiosks"), "{}", named.stderr);
    assert!(fleet.client(&["stage", "make", "sea"]).stderr.contains("there is a stage `sea` already"));
    assert!(fleet.client(&["stage", "make", "Open Water"]).stderr.contains("lower-case letters"));
    let reader = fleet.token("pia.lund", "reader");
    assert_eq!(
        fleet.client_by(&reader, &["stage", "make", "pilot"]).exit,
        Some(3),
        "a reader makes no stage"
    );
    let no = well(&fleet.client(&["change", "list"]))
        .lines()
        .find(|line| line.contains("rename the stage"))
        .unwrap()
        .split_whitespace()
        .next()
        .unwrap()
        .to_owned();
    well(&fleet.client(&["change", "go-back", &no]));
    assert!(
        fleet.client(&["node", "show", "kiosk-auken-1"]).stdout.contains("stage     open-water"),
        "and all of it goes back together"
    );
    assert_eq!(fleet.query(state), before);
    well(&fleet.client(&["stage", "remove", "pilot"]));
    let again = fleet.client(&["change", "go-back", &no]);
    assert!(again.stderr.contains("cannot be taken back: stages was changed since by C"), "{}", again.stderr);
}

/// Sets a group that is refused, and returns why.
fn refused(fleet: &Fleet, machine: &Machine, text: &str) -> String {
    let ended = group(fleet, machine, text);
    assert_eq!(ended.exit, Some(1), "{}{}", ended.stdout, ended.stderr);
    ended.stderr
}

#[test]
fn what_a_group_names_must_be_there_and_what_is_not_is_shown_in_its_document() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    let kiosks = KIOSKS.replace("MODE", "observe");
    for (right, wrong, message, hint) in [
        (
            "kit = \"quay-base\"",
            "kit = \"quay-bsae\"",
            "no release of a kit `quay-bsae` is published",
            "did you mean `quay-base`?",
        ),
        (
            "baseline = \"login\"",
            "baseline = \"logins\"",
            "the kit quay-base has no baseline `logins`",
            "did you mean `login`?",
        ),
        (
            "idle_seconds\"",
            "idle_second\"",
            "the baseline kiosk-lockdown declares no parameter `idle_second`",
            "did you mean `idle_seconds`?",
        ),
        ("= 45", "= \"long\"", "`idle_seconds` takes an integer", ""),
        ("labels.role == 'kiosk'", "labels.role = 'kiosk'", "=", ""),
        (
            "priority = 10",
            "priority = 10\nstage = \"habour\"",
            "there is no stage `habour`",
            "did you mean `harbour`?",
        ),
    ] {
        let refusal = refused(&fleet, &kiosk, &kiosks.replace(right, wrong));
        assert!(
            refusal.contains("the group kiosks was refused: ")
                && refusal.contains(message)
                && refusal.contains(hint),
            "{wrong}: {refusal}"
        );
        let line = kiosks
            .replace(right, wrong)
            .lines()
            .position(|line| line.contains(wrong.lines().last().unwrap()))
            .unwrap()
            + 1;
        assert!(
            refusal.contains(&format!("group.toml:{line}:")) && refusal.contains("^"),
            "{wrong}: {refusal}"
        );
    }
    assert_eq!(
        fleet.query("select count(*) from node_group where name = 'kiosks'"),
        "0",
        "nothing of it is stored"
    );
    let warned = group(&fleet, &kiosk, &kiosks.replace("labels.role ==", "labels.rolle =="));
    assert_eq!(warned.exit, Some(0), "{}", warned.stderr);
    assert!(
        warned.stderr.contains("no node has the label `rolle`")
            && warned.stderr.contains("did you mean `role`?"),
        "{}",
        warned.stderr
    );
}

#[test]
fn an_assignment_sets_severity_controls_switches_and_the_hours_in_which_its_clauses_are_corrected() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    let later = |hours: i64| {
        (jiff::Timestamp::now() + jiff::SignedDuration::from_hours(hours)).strftime("%H:%M").to_string()
    };
    let terms = format!(
        "baseline = \"login\"\nseverity = \"critical\"\nsatisfies = [\"SK-12\"]\nchange_window = [{{ from = \"{}\", until = \"{}\" }}]",
        later(2),
        later(3)
    );
    let kiosks = KIOSKS.replace("MODE", "enforce").replace("baseline = \"login\"", &terms);
    well(&group(&fleet, &kiosk, &kiosks));
    let listed = well(&fleet.client(&["group", "list"])).to_owned();
    assert!(
        listed
            .contains("assigned quay-base/login, severity critical, satisfies SK-12, corrected only daily "),
        "{listed}"
    );
    let run = kiosk.run(&["daemon", "--once"]);
    assert!(well(&run).contains("rollout waiting"), "{}", run.stdout);
    let shown = kiosk.run(&["observe"]).stdout;
    assert!(shown.contains("outside the change window of the assignment, which opens at 20"), "{shown}");
    assert!(
        kiosk.root.read("/etc/kiosk/shell.conf").is_ok(),
        "the other assignment's clauses are corrected: {shown}"
    );
    let is_applied = || kiosk.root.read("/etc/issue").is_ok_and(|text| text.contains("Skerry Line"));
    assert!(!is_applied(), "those of the one with hours wait");
    let own = fleet.client(&["node", "why", "kiosk-auken-1", "file:/etc/issue"]);
    assert!(
        well(&own).contains("severity    low, satisfies SK-1 SK-12"),
        "a clause's own severity stays: {}",
        own.stdout
    );
    let why = fleet.client(&["node", "why", "kiosk-auken-1", "account:ops"]);
    let why = well(&why);
    assert!(
        why.contains("severity    critical")
            && why.contains("SK-12")
            && why.contains("corrected   only daily "),
        "{why}"
    );
    // A person opens it as the node's own.
    let opened = kiosk.run(&["enforce", "--yes", "--now", "the quay waits"]);
    assert!(is_applied(), "{}", opened.stdout);

    let other = "name = \"night-trial\"\npriority = 20\nfilter = \"labels.role == 'kiosk'\"\n[[assignments]]\nkit = \"quay-base\"\nbaseline = \"login\"\non_drift = \"report\"\nseverity = \"low\"\n";
    well(&group(&fleet, &kiosk, other));
    well(&kiosk.run(&["daemon", "--once"]));
    let why = fleet.client(&["node", "why", "kiosk-auken-1", "account:ops"]);
    assert!(
        well(&why).contains("severity    critical"),
        "the higher severity of two assignments counts: {}",
        why.stdout
    );
    for (wrong, message) in [
        ("severity = \"worst\"", "unknown variant `worst`"),
        ("satisfies = [\"\"]", "satisfies"),
        ("change_window = [{ from = \"25:00\", until = \"04:00\" }]", "`25:00` is no hour of the day"),
    ] {
        let refused = group(
            &fleet,
            &kiosk,
            &KIOSKS
                .replace("MODE", "enforce")
                .replace("baseline = \"login\"", &format!("baseline = \"login\"\n{wrong}")),
        );
        assert!(refused.exit != Some(0) && refused.stderr.contains(message), "{wrong}: {}", refused.stderr);
    }
}
