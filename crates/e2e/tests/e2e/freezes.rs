//! Freezes: brakes that wait for nothing, reach every node, and outlive a restored database.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Fleet, Machine};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

fn kiosk_of(fleet: &Fleet) -> Machine {
    let kiosk = joined(fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(fleet);
    well(&group(fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    well(&kiosk.run(&["daemon", "--once"]));
    kiosk
}

const SHELL: &str = "/etc/kiosk/shell.conf";

/// Holds the lock of the desired state, as a hand-out does that never ends, until it is dropped.
struct HandOut(std::process::Child);

impl HandOut {
    fn begin(fleet: &Fleet) -> Self {
        let sql =
            "begin; select pg_advisory_xact_lock(x'6465736972656421'::bit(64)::bigint); select pg_sleep(60)";
        let child =
            Command::new("psql").args(["-Xq", fleet.database(), "-c", sql]).stdout(Stdio::null()).spawn();
        let begun = Self(child.expect("psql starts"));
        let is_locked = || {
            fleet.query("select count(*) from pg_locks where locktype = 'advisory' and mode = 'ExclusiveLock' and granted") == "1"
        };
        for _ in 0..100 {
            if is_locked() {
                return begun;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        panic!("the lock is not had");
    }
}

impl Drop for HandOut {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn a_freeze_waits_for_no_change_holds_from_the_next_check_in_on_and_ends_by_a_person_or_its_hour() {
    let fleet = Fleet::start();
    let kiosk = kiosk_of(&fleet);
    let other = joined(&fleet, "kiosk-auken-2", &["role=kiosk"]);
    well(&other.run(&["check-in"]));
    let hand_out = HandOut::begin(&fleet);
    let began = Instant::now();
    let set = fleet.client(&["freeze", "set", "--all", "--for", "2h", "--because", "stocktaking"]);
    let set = well(&set);
    assert!(began.elapsed() < Duration::from_secs(5), "it waited for the hand-out: {:?}", began.elapsed());
    assert!(
        set.contains("F1")
            && set.contains("all nodes: all clauses")
            && set.contains("held by 0 of 2 nodes; the last one by 20"),
        "{set}"
    );
    well(&kiosk.run(&["check-in"]));
    drop(hand_out);

    kiosk.root.write(SHELL, "{}").unwrap();
    let left = kiosk.run(&["enforce", "--yes", "--now", "the quay waits"]);
    assert!(
        left.stdout.contains("frozen by F1 until 20") && left.stdout.contains("(stocktaking)"),
        "{}",
        left.stdout
    );
    assert_eq!(kiosk.root.read(SHELL).unwrap(), "{}", "nothing is corrected, whatever a person says");
    assert!(
        well(&kiosk.run(&["status"])).contains("frozen    F1 until 20"),
        "{}",
        kiosk.run(&["status"]).stdout
    );
    well(&kiosk.run(&["check-in"]));
    assert!(well(&fleet.client(&["node", "show", "kiosk-auken-1"])).contains("frozen    by F1 until 20"));
    let listed = fleet.client(&["freeze", "list"]);
    assert!(well(&listed).contains("held by 1 of 2 nodes"), "{}", listed.stdout);

    let reader = fleet.token("pia.lund", "reader");
    let refused = fleet.client_by(&reader, &["freeze", "end", "F1"]);
    assert!(refused.exit == Some(3) && refused.stderr.contains("freeze.set"), "{}", refused.stderr);
    well(&fleet.client(&["freeze", "end", "F1", "--because", "all is counted"]));
    let again = fleet.client(&["freeze", "end", "F1"]);
    assert!(again.stderr.contains("F1 is over: ") && again.stderr.contains("ended it"), "{}", again.stderr);
    assert!(
        well(&kiosk.run(&["daemon", "--once"])).contains("corrected")
            || kiosk.root.read(SHELL).unwrap() != "{}"
    );
    assert_ne!(kiosk.root.read(SHELL).unwrap(), "{}");
    assert!(!well(&kiosk.run(&["status"])).contains("frozen"));
    assert_eq!(
        fleet.query("select string_agg(did, ', ' order by id) from event where subject = 'F1'"),
        "set a freeze, ended a freeze"
    );

    // By its hour, by the node alone.
    well(&fleet.client(&[
        "freeze",
        "set",
        "--node",
        "kiosk-auken-1",
        "--for",
        "8s",
        "--because",
        "a moment",
    ]));
    well(&kiosk.run(&["check-in"]));
    kiosk.root.write(SHELL, "{}").unwrap();
    assert!(kiosk.run(&["enforce", "--yes"]).stdout.contains("frozen by F2"));
    well(&other.run(&["check-in"]));
    assert!(!well(&other.run(&["status"])).contains("frozen"), "it is for the other one only");
    std::thread::sleep(Duration::from_secs(10));
    kiosk.run(&["enforce", "--yes"]);
    assert_ne!(kiosk.root.read(SHELL).unwrap(), "{}");
    assert!(well(&fleet.client(&["freeze", "list"])).contains("nothing is frozen"));
    assert!(well(&fleet.client(&["freeze", "list", "--also-over"])).contains("over since"));
}

#[test]
fn a_freeze_of_clauses_leaves_the_others_and_says_what_it_would_not_stop() {
    let fleet = Fleet::start();
    let kiosk = kiosk_of(&fleet);
    let set = fleet.client(&[
        "freeze",
        "set",
        "--all",
        "--clause",
        "file:/etc/kiosk/*",
        "--clause",
        "file:/etc/kisok/a",
        "--for",
        "1h",
        "--because",
        "a trial",
    ]);
    let set = well(&set);
    assert!(
        set.contains("note: no node has a clause file:/etc/kisok/a")
            && !set.contains("note: no node has a clause file:/etc/kiosk/*"),
        "{set}"
    );
    well(&kiosk.run(&["check-in"]));
    kiosk.root.write(SHELL, "{}").unwrap();
    let motd = kiosk.root.read("/etc/issue").unwrap_or_default();
    kiosk.root.write("/etc/issue", "by hand\n").unwrap();
    let run = kiosk.run(&["enforce", "--yes"]);
    assert!(run.stdout.contains("frozen by F1"), "{}", run.stdout);
    assert_eq!(kiosk.root.read(SHELL).unwrap(), "{}");
    assert_eq!(
        kiosk.root.read("/etc/issue").unwrap_or_default(),
        motd,
        "what is not frozen is corrected: {}",
        run.stdout
    );

    // A node whose state cannot be resolved is reached too, and one that never had any.
    let bare = joined(&fleet, "gate-auken-1", &["role=gate"]);
    fleet.query("update node_wanted set state = null, unusable = 'a trial' where node = (select id from node where name = 'gate-auken-1')");
    well(&bare.run(&["check-in"]));
    assert!(well(&bare.run(&["status"])).contains("frozen    F1"), "{}", bare.run(&["status"]).stdout);

    for (arguments, message) in [
        (&["--all", "--for", "91d", "--because", "x"][..], "a freeze lasts from 1 s to 90 days"),
        (&["--all", "--for", "1h", "--because", " "], "a reason is not empty"),
        (&["--all", "--for", "1h"], "--because"),
        (&["--all", "--because", "x"], "--for"),
        (&["--for", "1h", "--because", "x"], "--all"),
        (&["--node", "kiosk-auken-7", "--for", "1h", "--because", "x"], "there is no node `kiosk-auken-7`"),
        (&["--all", "--clause", "kiosk", "--for", "1h", "--because", "x"], "kind:name"),
    ] {
        let refused = fleet.client(&[&["freeze", "set"], arguments].concat());
        assert!(
            refused.exit != Some(0) && refused.stderr.contains(message),
            "{arguments:?}: {}",
            refused.stderr
        );
    }
    assert_eq!(fleet.query("select count(*) from change_freeze"), "1");
}

#[test]
fn a_freeze_that_a_restored_database_forgot_is_kept_by_the_nodes_and_listed_until_recovering_ends() {
    let mut fleet = Fleet::start();
    let kiosk = kiosk_of(&fleet);
    fleet.back_up();
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce").replace("= 45", "= 50")));
    well(&fleet.client(&["freeze", "set", "--all", "--for", "2h", "--because", "stocktaking"]));
    well(&kiosk.run(&["check-in"]));
    well(&kiosk.run(&["check-in"]));
    fleet.put_back();
    for _ in 0..3 {
        well(&kiosk.run(&["check-in"]));
        assert!(
            well(&kiosk.run(&["status"])).contains("frozen    F1 until 20"),
            "{}",
            kiosk.run(&["status"]).stdout
        );
    }
    let shown = fleet.client(&["recovery", "show"]);
    assert!(
        well(&shown).contains("frozen           F1 until 20")
            && shown.stdout.contains("held by kiosk-auken-1"),
        "{}",
        shown.stdout
    );
    // A brake holds also while the server recovers, beside the forgotten one.
    well(&fleet.client(&[
        "freeze",
        "set",
        "--all",
        "--clause",
        "file:/etc/issue",
        "--for",
        "2h",
        "--because",
        "until we know",
    ]));
    well(&kiosk.run(&["check-in"]));
    let status = kiosk.run(&["status"]).stdout;
    assert!(
        status.contains("(until we know), file:/etc/issue") && status.contains("(stocktaking), all clauses"),
        "{status}"
    );
    well(&fleet.client(&["recovery", "end"]));
    well(&kiosk.run(&["check-in"]));
    let status = kiosk.run(&["status"]).stdout;
    assert!(status.contains("(until we know)") && !status.contains("(stocktaking)"), "{status}");
}
