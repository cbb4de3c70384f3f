//! Nodes are reached within two seconds, and say when they check in where they are not.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, refused, well};
use constans_e2e::{Fleet, Machine, Running};
use serde_json::Value;
use std::time::{Duration, Instant};

/// For answers that are expected.
const LONG: Duration = Duration::from_secs(30);

/// How many nodes the server can wake, by what it measures of itself.
fn held(fleet: &Fleet) -> usize {
    fleet.metric("constans_held_requests") as usize
}

pub fn wait_until_held(fleet: &Fleet, nodes: usize) {
    let end = Instant::now() + Duration::from_secs(30);
    while held(fleet) != nodes {
        assert!(Instant::now() < end, "{} requests are held, not {nodes}", held(fleet));
        std::thread::sleep(Duration::from_millis(50));
    }
}

fn json(ended: &str) -> Value {
    serde_json::from_str(ended).unwrap_or_else(|error| panic!("{error}: {ended}"))
}

/// Kiosks that check in every quarter of an hour.
fn kiosks() -> String {
    KIOSKS.replace("MODE", "enforce").replace("interval_secs = 60", "interval_secs = 900")
}

/// Two kiosks whose daemons rest, and one that is off.
fn three_kiosks(fleet: &Fleet) -> (Vec<Machine>, Vec<Running>) {
    publish_and_serve(fleet);
    let machines: Vec<Machine> =
        (1..=3).map(|number| joined(fleet, &format!("kiosk-auken-{number}"), &["role=kiosk"])).collect();
    well(&group(fleet, &machines[0], &kiosks()));
    well(&machines[2].run(&["check-in"]));
    let daemons: Vec<Running> = machines[..2].iter().map(Machine::daemon).collect();
    wait_until_held(fleet, 2);
    (machines, daemons)
}

#[test]
fn a_change_is_fetched_within_two_seconds_and_who_is_not_reached_says_when_it_checks_in() {
    let fleet = Fleet::start();
    let (machines, _daemons) = three_kiosks(&fleet);
    let some = fleet.client(&["node", "reach", "--within", "3"]);
    assert_eq!(some.exit, Some(1));
    refused(&some, "1 of 3 nodes did not answer");
    assert!(some.stdout.starts_with("W1   3 nodes asked to check in at "), "{}", some.stdout);
    assert!(some.stdout.contains("2 of 3 answered, half of them within "), "{}", some.stdout);
    let off = some.stdout.lines().find(|line| line.starts_with("kiosk-auken-3")).unwrap();
    assert!(
        off.contains("cannot be woken: last heard 20") && off.contains("; checks in by itself at 20"),
        "{off}"
    );
    wait_until_held(&fleet, 2);

    let both = fleet.client(&["node", "reach", "node.name != \"kiosk-auken-3\"", "--output", "json"]);
    let both = json(well(&both));
    assert_eq!(both["wake"]["answered"], 2);
    for node in both["nodes"].as_array().unwrap() {
        assert!(node["answered_ms"].as_u64().is_some_and(|after| after < 2_000), "{node}");
    }
    wait_until_held(&fleet, 2);

    let sooner = kiosks().replace("= 45", "= 30");
    well(&group(&fleet, &machines[0], &sooner));
    let change = fleet.query("select 'C' || max(no) from change");
    let fetched =
        fleet.client(&["change", "fetch-now", &change, "--within", "5", "--because", "the fair begins"]);
    refused(&fetched, "1 of 3 nodes did not answer");
    assert!(fetched.stdout.contains("2 of 3 have what is desired of them now"), "{}", fetched.stdout);
    // The agents run what is new by themselves, without waiting for their interval.
    let end = Instant::now() + Duration::from_secs(30);
    while !machines[0].root.read("/etc/kiosk/shell.conf").unwrap().contains("30") {
        assert!(Instant::now() < end, "it was not applied");
        std::thread::sleep(Duration::from_millis(100));
    }
    well(&machines[2].run(&["daemon", "--once"]));
    let all = fleet.client(&["node", "reach", "--wake", "W3"]);
    assert!(well(&all).contains("3 of 3 answered"), "{}", all.stdout);
    refused(&fleet.client(&["change", "fetch-now", &change]), "there is no node to wake");
    let audit = fleet.client(&["audit", "list"]);
    assert!(well(&audit).contains("ilse.maren  asked nodes to check in: W3"), "{}", audit.stdout);
}

#[test]
fn whoever_may_not_wake_is_refused_and_a_role_for_a_group_wakes_its_nodes_only() {
    let fleet = Fleet::start();
    publish_and_serve(&fleet);
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let _gate = joined(&fleet, "gate-auken-1", &["role=gate"]);
    well(&group(&fleet, &kiosk, &kiosks()));
    let (reader, limited) = (fleet.token("pia.lund", "reader"), fleet.token("tor.havik", "operator@kiosks"));
    let reach =
        |token: &str, node: &str| fleet.client_by(token, &["node", "reach", "--node", node, "--within", "0"]);
    assert_eq!(reach(&reader, "kiosk-auken-1").exit, Some(3));
    refused(&reach(&reader, "kiosk-auken-1"), "node.wake");
    refused(&reach(&limited, "gate-auken-1"), "only on nodes of kiosks, and not on gate-auken-1");
    refused(&reach(&limited, "kiosk-auken-1"), "1 of 1 node did not answer");
    refused(&reach(&limited, "kiosk-auken-9"), "there is no node `kiosk-auken-9`");
    refused(&fleet.client_by(&limited, &["node", "reach"]), "not on gate-auken-1");
    refused(&fleet.client(&["node", "reach", "labels.role == \"ferry\""]), "there is no node to wake");
    refused(&fleet.client(&["node", "reach", "labels.role = 1"]), "filter");
    refused(&fleet.client(&["node", "reach", "--wake", "W99"]), "there is no wake `W99`");
    refused(&fleet.client(&["change", "fetch-now", "C99"]), "there is no change `C99`");
}

#[test]
fn a_wake_of_any_server_process_ends_a_held_request_and_none_is_missed() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    well(&kiosk.run(&["check-in"]));
    let (_other, other) = fleet.another_server();
    let node = fleet.curl().as_node(&kiosk);
    let wait = |after: &str| node.ask_within(LONG, &format!("/wait?after={after}"));
    let wake = || {
        let at_other = ["node", "reach", "--node", "kiosk-auken-1", "--within", "0", "--server", &other];
        refused(&fleet.client(&at_other), "1 of 1 node did not answer");
    };
    let (answer, after) = std::thread::scope(|scope| {
        let held = scope.spawn(|| {
            let answer = wait("0");
            (answer, Instant::now())
        });
        wait_until_held(&fleet, 1);
        let began = Instant::now();
        wake();
        let (answer, at) = held.join().unwrap();
        (answer, at.duration_since(began))
    });
    assert_eq!(answer, (200, r#"{"wake":1}"#.to_owned()));
    assert!(after < Duration::from_secs(2), "{after:?}");
    // Nobody waited when this one came.
    wake();
    assert_eq!(wait("1"), (200, r#"{"wake":2}"#.to_owned()));
    // The database was put back to before them: another number is news too.
    assert_eq!(wait("77"), (200, r#"{"wake":2}"#.to_owned()));
    // A check-in answers all of them, and says which is the newest.
    assert_eq!(fleet.query("select count(*) from wake_node where answered_at is null"), "2");
    well(&kiosk.run(&["check-in"]));
    assert_eq!(fleet.query("select count(*) from wake_node where answered_at is null"), "0");
}

#[test]
fn the_door_holds_requests_of_admitted_nodes_only_and_lets_them_go_when_the_connection_breaks() {
    let mut fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let node = fleet.curl().as_node(&kiosk);
    assert_eq!(fleet.curl().ask_within(LONG, "/wait?after=0").0, 401);
    let (status, answer) = node.ask_within(LONG, "/wait");
    assert!(status == 422 && answer.contains("the number of the newest wake"), "{status} {answer}");
    assert_eq!(node.ask_within(LONG, "/wait?after=x").0, 422);
    assert_eq!(node.deliver("/wait?after=0", "{}").0, 405);
    // Connections to the database come and go with what else is done.
    let descriptors = |fleet: &Fleet| {
        let of_database = |state: &str| {
            fleet.metric(&format!("constans_database_connections{{state=\"{state}\"}}")) as usize
        };
        let open = std::fs::read_dir(format!("/proc/{}/fd", fleet.process())).unwrap().count();
        open - of_database("used") - of_database("idle")
    };
    let before = descriptors(&fleet);
    std::thread::scope(|scope| {
        let held = scope.spawn(|| node.ask_within(LONG, "/wait?after=0"));
        wait_until_held(&fleet, 1);
        let end = Instant::now() + Duration::from_secs(5);
        while descriptors(&fleet) > before + 1 {
            assert!(Instant::now() < end, "one socket each: {before}, then {}", descriptors(&fleet));
            std::thread::sleep(Duration::from_millis(50));
        }
        // Another one of the same node takes its place.
        let again = scope.spawn(|| node.ask_within(Duration::from_secs(2), "/wait?after=0"));
        assert_eq!(held.join().unwrap(), (200, r#"{"wake":null}"#.to_owned()));
        assert_eq!(again.join().unwrap().0, 0, "it was held until curl gave up");
    });
    wait_until_held(&fleet, 0);
    let end = Instant::now() + Duration::from_secs(5);
    while fleet.query("select count(*) from node_wake where waits_until > now()") != "0" {
        assert!(Instant::now() < end, "it is noted that it waits");
        std::thread::sleep(Duration::from_millis(50));
    }
    std::thread::scope(|scope| {
        let held = scope.spawn(|| node.ask_within(LONG, "/wait?after=0"));
        wait_until_held(&fleet, 1);
        let began = Instant::now();
        fleet.stop_server();
        assert!(held.join().unwrap().1.contains("stopping"), "it is told that the server stops");
        assert!(began.elapsed() < Duration::from_secs(3));
    });
    fleet.start_server();
    well(&fleet.client(&["node", "revoke", "kiosk-auken-1"]));
    let (status, answer) = node.ask_within(LONG, "/wait?after=0");
    assert!(status == 403 && answer.contains("revoked"), "{status} {answer}");
}

#[test]
fn a_node_whose_setting_says_so_holds_nothing_and_says_so() {
    let fleet = Fleet::start();
    publish_and_serve(&fleet);
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    well(&group(&fleet, &kiosk, &kiosks()));
    let _daemon = kiosk.daemon();
    wait_until_held(&fleet, 1);
    assert!(well(&kiosk.run(&["status"])).contains("the server can have it check in at once"));
    well(&fleet.client(&["group", "setting", "kiosks", "wakeable", "false"]));
    well(&fleet.client(&["node", "reach", "--node", "kiosk-auken-1"]));
    wait_until_held(&fleet, 0);
    let status = kiosk.run(&["status"]);
    assert!(
        well(&status).contains("the server cannot have it check in at once: wakeable is off"),
        "{}",
        status.stdout
    );
}

#[test]
fn a_self_test_proves_a_node_without_a_desired_state_and_alters_nothing() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let other = joined(&fleet, "gate-auken-1", &["role=gate"]);
    // The folders of the agent itself apart, which notes its rounds.
    let outside = |machine: &Machine| {
        let mut files = machine.everything();
        files.retain(|(path, _)| !path.contains("/var/lib/constans"));
        files
    };
    well(&kiosk.run(&["check-in"]));
    let before = outside(&kiosk);
    let off = fleet.client(&["selftest", "kiosk-auken-1", "--within", "1"]);
    refused(&off, "kiosk-auken-1 did not report within 1 s");
    assert!(
        off.stdout.contains("asked       cannot be woken; it checks in by itself at 20"),
        "{}",
        off.stdout
    );
    assert!(off.stdout.contains("checked in  not yet"), "{}", off.stdout);
    let stranger = fleet.curl().as_node(&other);
    assert_eq!(stranger.ask_within(LONG, "/self-tests/1/state").0, 404, "it is another node's");
    assert_eq!(stranger.deliver("/self-tests/1", r#"{"fetched_us":1,"compared_us":1}"#).0, 404);

    let daemon = kiosk.daemon();
    wait_until_held(&fleet, 1);
    let late = fleet.client(&["selftest", "--test", "T1", "--within", "5"]);
    assert!(
        well(&late).contains("proven: the node is asked, fetches, compares and reports"),
        "{}",
        late.stdout
    );
    let again = fleet.curl().as_node(&kiosk).deliver("/self-tests/1", r#"{"fetched_us":1,"compared_us":1}"#);
    assert_eq!(again.0, 404, "only the first report counts");

    let began = Instant::now();
    let proven = fleet.client(&["selftest", "kiosk-auken-1", "--output", "json"]);
    let proven = json(well(&proven));
    assert!(began.elapsed() < Duration::from_secs(3), "{:?}", began.elapsed());
    assert_eq!(proven["report"]["seen"]["directory:/etc"], "alike");
    assert_eq!(proven["report"]["seen"]["file:/run/constans-self-test"], "different");
    drop(daemon);
    assert_eq!(outside(&kiosk), before);
    assert_eq!(fleet.query("select count(*) from run"), "0", "it is no run");
    let reader = fleet.token("pia.lund", "reader");
    assert_eq!(fleet.client_by(&reader, &["selftest", "kiosk-auken-1"]).exit, Some(3));
}
