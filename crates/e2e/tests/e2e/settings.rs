//! How agents are set by their groups, and that their daemons keep to it: rhythms, hours, grace, holds, `--now`, restarts.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Fleet, Machine};
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

/// A daemon that ends with the test.
struct Daemon(Child);

impl Daemon {
    fn start(machine: &Machine) -> Self {
        Self(
            machine
                .agent(&["daemon"])
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .spawn()
                .expect("the agent starts"),
        )
    }
}

impl Drop for Daemon {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn kiosk() -> (Fleet, Machine) {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    (fleet, kiosk)
}

/// Sets the kiosks to enforce, with further settings.
fn set(fleet: &Fleet, kiosk: &Machine, settings: &str) {
    well(&group(fleet, kiosk, &format!("{}{settings}\n", KIOSKS.replace("MODE", "enforce"))));
}

fn wait_for(what: &str, mut is_so: impl FnMut() -> bool) {
    let end = Instant::now() + Duration::from_secs(40);
    while !is_so() {
        assert!(Instant::now() < end, "{what}: waited for too long");
        std::thread::sleep(Duration::from_millis(200));
    }
}

fn drift(kiosk: &Machine) {
    kiosk.root.write("/etc/issue", "who was here?\n").expect("it is written");
}

fn is_drifted(kiosk: &Machine) -> bool {
    kiosk.root.read("/etc/issue").expect("it is there") == "who was here?\n"
}

#[test]
fn settings_that_cannot_be_meant_are_refused_and_say_why() {
    let (fleet, kiosk) = kiosk();
    for (settings, why) in [
        ("spread_secs = 86401", "spread_secs is at most 86400, a day"),
        ("check_in_at = [\"06:00\"]", "a group sets an interval or fixed hours, not both"),
        ("run_at = [\"6:00\"]", "`6:00` is no hour of the day: write it as \"06:30\""),
        ("zone = \"Auken\"", "the time zone `Auken` is not known"),
        ("freeze = { until = \"2026-12-24T00:00:00Z\", because = \"x\" }", "unknown field `freeze`"),
        (
            "restart = \"always\"",
            "unknown variant `always`, expected one of `never`, `in_window`, `when_needed`",
        ),
        (
            "[[settings.change_window]]\nday = [\"mon\"]\nfrom = \"22:00\"\nuntil = \"04:00\"",
            "unknown field `day`",
        ),
    ] {
        let refused = group(&fleet, &kiosk, &format!("{}{settings}\n", KIOSKS.replace("MODE", "enforce")));
        assert_eq!(refused.exit.filter(|exit| *exit != 0), refused.exit, "{settings}");
        assert!(refused.stderr.contains(why), "{settings}: {}", refused.stderr);
    }
}

#[test]
fn a_node_says_how_it_is_set_and_by_whom_and_what_it_did() {
    let (fleet, kiosk) = kiosk();
    set(
        &fleet,
        &kiosk,
        "grace_secs = 3600\nzone = \"Europe/Oslo\"\n[[settings.change_window]]\ndays = [\"sat\", \"sun\"]\nfrom = \"22:00\"\nuntil = \"04:00\"",
    );
    let before = kiosk.run(&["status"]).stdout;
    assert!(
        before.contains("daemon    not started on this machine") && before.contains("last run  none yet"),
        "{before}"
    );
    well(&kiosk.run(&["check-in"]));
    let status = kiosk.run(&["status"]).stdout;
    for (word, value, from) in [
        ("mode", "enforce", "the group kiosks"),
        ("check-ins", "every 1 min", "the group kiosks"),
        ("grace", "1 h", "the group kiosks"),
        ("change window", "sat sun 22:00–04:00 Europe/Oslo", "the group kiosks"),
        ("on_drift", "correct", "default"),
    ] {
        let line = status.lines().find(|line| line.trim_start().starts_with(&format!("{word} "))).unwrap();
        assert!(line.contains(&format!("  {value} ")) && line.ends_with(from), "{word}: {status}");
    }
    let explained = fleet.client(&["node", "why", "kiosk-auken-1"]).stdout;
    assert!(
        explained.contains("change window    sat sun 22:00–04:00 Europe/Oslo  the group kiosks"),
        "{explained}"
    );

    set(&fleet, &kiosk, "");
    well(&kiosk.run(&["check-in"]));
    kiosk.run(&["enforce", "--yes", "--now", "the quay waits"]);
    for _ in 0..2 {
        well(&kiosk.run(&["daemon", "--once"]));
    }
    let runs = kiosk.run(&["runs"]).stdout;
    let lines: Vec<&str> = runs.lines().collect();
    assert!(
        lines[0].contains("in line             enforce  2 runs since")
            && lines[1].contains("rolled out          enforce"),
        "{runs}"
    );
    let id = lines[1].rsplit(' ').next().unwrap();
    let shown = kiosk.run(&["runs", &id[..20]]).stdout;
    assert!(
        shown.contains("started by a person on the node (")
            && shown.contains("), grace and change window opened: the quay waits"),
        "{shown}"
    );
    let unknown = kiosk.run(&["runs", "ffff"]);
    assert!(unknown.stderr.contains("no stored run begins with ffff"), "{}", unknown.stderr);
}

#[test]
fn drift_is_left_for_its_grace_until_the_announced_hour_unless_a_person_says_now() {
    let (fleet, kiosk) = kiosk();
    set(&fleet, &kiosk, "grace_secs = 3600");
    well(&kiosk.run(&["daemon", "--once"]));
    drift(&kiosk);
    let left = kiosk.run(&["daemon", "--once"]);
    assert!(well(&left).contains("drift found"), "{}", left.stdout);
    let shown = kiosk.run(&["observe"]).stdout;
    assert!(
        shown.contains("the grace lasts until") && shown.contains("enforce --now REASON applies them now"),
        "{shown}"
    );
    assert!(is_drifted(&kiosk));

    let part =
        kiosk.run(&["enforce", "--yes", "--baseline", "kiosk-lockdown", "--now", "it is the shell's file"]);
    assert!(
        part.stdout.contains("partial: 6 clauses were left out, 1 of them known to be out of line"),
        "{}",
        part.stdout
    );
    assert!(
        part.stdout.contains("Next: nothing to do for this part") && is_drifted(&kiosk),
        "{}",
        part.stdout
    );
    let misspelt = kiosk.run(&["enforce", "--yes", "--baseline", "quay-base/logn"]);
    assert!(misspelt.stderr.contains("did you mean `quay-base/login`?"), "{}", misspelt.stderr);
    let now = kiosk.run(&[
        "enforce",
        "--yes",
        "--baseline",
        "quay-base/login",
        "--now",
        "the banner is on every screen",
    ]);
    assert!(now.stdout.contains("drift corrected") && !is_drifted(&kiosk), "{}", now.stdout);
    let runs = fleet.client(&["run", "list", "kiosk-auken-1"]).stdout;
    let id = runs
        .lines()
        .find(|line| line.contains("drift corrected"))
        .unwrap()
        .rsplit(' ')
        .next()
        .unwrap()
        .to_owned();
    let shown = fleet.client(&["run", "show", "kiosk-auken-1", &id]).stdout;
    assert!(shown.contains("grace and change window opened: the banner is on every screen"), "{shown}");
}

#[test]
fn a_daemon_runs_by_its_own_rhythm_and_at_the_announced_hour_and_asks_less_and_less_for_a_server_that_is_away()
 {
    let (mut fleet, kiosk) = kiosk();
    set(&fleet, &kiosk, "grace_secs = 6\nrun_interval_secs = 5\nspread_secs = 0");
    let _daemon = Daemon::start(&kiosk);
    let status = |kiosk: &Machine| -> serde_json::Value {
        serde_json::from_str(&kiosk.run(&["status", "--output", "json"]).stdout).unwrap()
    };
    wait_for("it is in line", || status(&kiosk)["last_run"]["status"] == "in_line");
    let heard = fleet.query("select count(*) from heard");
    drift(&kiosk);
    wait_for("drift is found", || status(&kiosk)["last_run"]["status"] == "drift_found");
    assert!(is_drifted(&kiosk), "it is left for its grace");
    wait_for("its grace ends", || !is_drifted(&kiosk));
    assert_eq!(fleet.query("select count(*) from heard"), heard, "runs come more often than check-ins");
    wait_for("the report of the correction is there", || {
        fleet.client(&["run", "list", "kiosk-auken-1"]).stdout.contains("drift corrected")
    });
    let runs = fleet.client(&["run", "list", "kiosk-auken-1"]).stdout;
    let id = runs
        .lines()
        .find(|line| line.contains("drift corrected"))
        .unwrap()
        .rsplit(' ')
        .next()
        .unwrap()
        .to_owned();
    let shown = fleet.client(&["run", "show", "kiosk-auken-1", &id]).stdout;
    assert!(shown.contains("started by an announced hour"), "{shown}");
    drop(_daemon);

    fleet.kill_server();
    let _daemon = Daemon::start(&kiosk);
    wait_for("nobody answers", || status(&kiosk)["daemon"]["unanswered"] == 1);
    let seen = kiosk.run(&["status"]).stdout;
    assert!(seen.contains("no server answered once") && seen.contains("checks in in "), "{seen}");
    drift(&kiosk);
    wait_for("it enforces alone", || !is_drifted(&kiosk));
    let seen = kiosk.run(&["status"]).stdout;
    assert!(seen.contains("for the server"), "its reports wait: {seen}");
    fleet.start_server();
    wait_for("it comes back by itself before its interval is over", || {
        status(&kiosk)["daemon"]["unanswered"] == 0
    });
    wait_for("what waited is delivered", || status(&kiosk)["spooled_reports"] == 0);
}

#[test]
fn a_server_whose_database_is_away_has_refused_nobody() {
    let (fleet, kiosk) = kiosk();
    set(&fleet, &kiosk, "run_interval_secs = 5\nspread_secs = 0");
    let mut daemon = Daemon::start(&kiosk);
    let status = || -> serde_json::Value {
        serde_json::from_str(&kiosk.run(&["status", "--output", "json"]).stdout).unwrap()
    };
    wait_for("it is in line", || status()["last_run"]["status"] == "in_line");
    fleet.let_database_in(false);
    wait_for("it is drifted, put right and told to nobody", || {
        if status()["spooled_reports"] == 0 {
            drift(&kiosk);
        }
        !is_drifted(&kiosk) && status()["spooled_reports"].as_u64() > Some(0)
    });
    let checked = kiosk.run(&["check-in"]);
    assert!(
        checked.exit != Some(0) && checked.stderr.contains("the database does not answer"),
        "{}",
        checked.stderr
    );
    assert!(daemon.0.try_wait().unwrap().is_none(), "the daemon goes on");
    fleet.let_database_in(true);
    wait_for("what waited is delivered", || status()["spooled_reports"] == 0);
    assert!(
        daemon.0.try_wait().unwrap().is_none()
            && fleet.client(&["run", "list", "kiosk-auken-1"]).stdout.contains("drift corrected")
    );
}

#[test]
fn a_restart_that_the_operating_system_needs_is_told_everywhere() {
    let (fleet, kiosk) = kiosk();
    set(&fleet, &kiosk, "restart = \"when_needed\"");
    kiosk.root.write("/run/reboot-required.pkgs", "linux-image-amd64\n").unwrap();
    kiosk.root.write("/run/reboot-required", "").unwrap();
    let round = kiosk.run(&["daemon", "--once"]);
    assert!(
        well(&round)
            .contains("restart pending (linux-image-amd64): a private root folder cannot be restarted"),
        "{}",
        round.stdout
    );
    let status = kiosk.run(&["status"]).stdout;
    assert!(
        status.contains("restart   pending since")
            && status.contains("linux-image-amd64; a private root folder cannot be restarted"),
        "{status}"
    );
    let shown = fleet.client(&["node", "show", "kiosk-auken-1"]).stdout;
    assert!(shown.contains("restart   pending since") && shown.contains("linux-image-amd64"), "{shown}");
    kiosk.run(&["enforce", "--yes", "--now", "to see it in the run"]);
    let runs = fleet.client(&["run", "list", "kiosk-auken-1"]).stdout;
    let id = runs
        .lines()
        .find(|line| !line.contains("uneventful"))
        .unwrap()
        .rsplit(' ')
        .next()
        .unwrap()
        .to_owned();
    assert!(fleet.client(&["run", "show", "kiosk-auken-1", &id]).stdout.contains("restart pending since"));

    std::fs::remove_file(kiosk.root.at("/run/reboot-required")).unwrap();
    well(&kiosk.run(&["daemon", "--once"]));
    assert!(
        !fleet.client(&["node", "show", "kiosk-auken-1"]).stdout.contains("restart "),
        "after it nothing is pending"
    );
}
