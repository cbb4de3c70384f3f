//! The story of a small fleet: published, served, assigned, run, drifted, put right, away and back. With the real
//! server, PostgreSQL, agents and client on loopback.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Fleet, Machine, demo_kit};
use constans_wire::activity::Activity;
use std::time::Duration;

#[test]
fn a_fleet_is_observed_enforced_drifts_is_put_right_and_goes_on_alone() {
    let mut fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let gate = joined(&fleet, "gate-auken-1", &["role=gate"]);
    publish_and_serve(&fleet);
    let set = group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe"));
    assert!(well(&set).contains("desired state changed on 1 node"), "{}", set.stdout);

    let before = kiosk.everything();
    let round = kiosk.run(&["daemon", "--once"]);
    assert!(well(&round).contains("rollout waiting"), "{}", round.stdout);
    assert_eq!(kiosk.everything(), before, "a node set to observe is not changed");
    let refused = kiosk.run(&["enforce", "--yes"]);
    assert_eq!(refused.exit, Some(3));
    assert!(refused.stderr.contains("mode is observe"), "{}", refused.stderr);

    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    assert!(well(&kiosk.run(&["daemon", "--once"])).contains("rolled out"));
    assert!(
        kiosk.root.read("/etc/kiosk/shell.conf").unwrap().contains("site = auken\nidle = 45"),
        "labels and the group's parameter are in it"
    );
    for _ in 0..3 {
        assert!(well(&kiosk.run(&["daemon", "--once"])).contains("in line"));
    }
    assert_eq!(
        fleet.query("select count(*) || ' ' || sum(count) from run_span where run is null"),
        "1 3",
        "equal uneventful runs are one span"
    );

    let edited = kiosk.root.read("/etc/kiosk/shell.conf").unwrap().replace("45", "4");
    kiosk.root.write("/etc/kiosk/shell.conf", &edited).unwrap();
    assert!(well(&kiosk.run(&["daemon", "--once"])).contains("drift corrected"));

    fleet.kill_server();
    kiosk.root.write("/etc/issue", "who was here?\n").unwrap();
    let alone = kiosk.run(&["daemon", "--once"]);
    assert!(
        well(&alone).contains("continuing with the last desired state")
            && alone.stdout.contains("the report stays in the spool until the server answers"),
        "{}",
        alone.stdout
    );
    assert!(
        kiosk.root.read("/etc/issue").unwrap().contains("Skerry Line"),
        "it goes on enforcing its last state"
    );
    fleet.start_server();
    well(&kiosk.run(&["check-in"]));

    let runs = fleet.client(&["run", "list", "kiosk-auken-1"]).stdout;
    let statuses: Vec<&str> = runs.lines().map(|line| line[25..43].trim()).collect();
    assert_eq!(
        statuses,
        ["drift corrected", "drift corrected", "in line", "rolled out", "rollout waiting"],
        "{runs}"
    );
    assert!(runs.contains("3 runs since"), "{runs}");
    let id = runs.lines().next().unwrap().rsplit(' ').next().unwrap();
    let shown = fleet.client(&["run", "show", "kiosk-auken-1", &id[..13]]).stdout;
    assert!(
        shown.contains("corrected · drift: the node changed ") && shown.contains("in the attic"),
        "{shown}"
    );

    events_tell_it_in_the_order_in_which_it_was_learned(&fleet);

    let nodes = fleet.client(&["node", "list"]).stdout;
    assert!(
        nodes.contains("kiosk-auken-1  on time         drift corrected")
            && nodes.contains("has kiosk-floor@1.0.0 quay-base@1.3.0")
                | nodes.contains("has quay-base@1.3.0 kiosk-floor@1.0.0"),
        "{nodes}"
    );
    assert!(nodes.contains("gate-auken-1   on time         no full run yet"), "{nodes}");
    let explained = fleet.client(&["node", "show", "kiosk-auken-1"]).stdout;
    for part in ["stage     open-water", "groups    everyone, kiosks", "mode      enforce"] {
        assert!(explained.contains(part), "{part} in {explained}");
    }
    let explained = fleet.client(&["node", "why", "kiosk-auken-1"]).stdout;
    for part in [
        "kiosk-auken-1: stage open-water, groups everyone, kiosks",
        "check-ins        every 1 min ",
        "19 clauses from quay-base@1.3.0/login, kiosk-floor@1.0.0/kiosk-lockdown",
        "kiosk-floor/kiosk-lockdown.idle_seconds = 45   from the group `kiosks`",
        "kiosk-floor/kiosk-lockdown.lanes = [\"A\",\"B\"]   from the default",
    ] {
        assert!(explained.contains(part), "{part} in {explained}");
    }
    let clause = fleet.client(&["node", "why", "kiosk-auken-1", "file:/etc/kiosk/shell.conf"]);
    for part in [
        "desired by  kiosk-floor@1.0.0/kiosk-lockdown",
        "outcome     in line",
        "1 episode, the latest:",
        ", corrected at ",
    ] {
        assert!(well(&clause).contains(part), "{part} in {}", clause.stdout);
    }
    let misspelt = fleet.client(&["node", "why", "kiosk-auken-1", "file:/etc/kiosk/shel.conf"]);
    assert_eq!(misspelt.exit, Some(1));
    assert!(misspelt.stderr.contains("did you mean `file:/etc/kiosk/shell.conf`?"), "{}", misspelt.stderr);
    drop(gate);
}

/// The events of what happened to the kiosk: each once, newest first in the list, and in their order to anyone who follows.
fn events_tell_it_in_the_order_in_which_it_was_learned(fleet: &Fleet) {
    let listed = fleet.client(&["event", "list", "--node", "kiosk-auken-1"]);
    let words: Vec<&str> =
        well(&listed).lines().map(|line| line.split_once(" UTC  ").expect("a time").1).collect();
    assert_eq!(
        words,
        [
            "kiosk-auken-1  drift corrected: file:/etc/issue",
            "kiosk-auken-1  drift corrected: file:/etc/kiosk/shell.conf"
        ],
        "what was rolled out is no event of the node: the change is one"
    );
    let all = fleet.client(&["event", "list"]).stdout;
    assert!(all.contains("  ilse.maren  handed out a change: set the group kiosks"), "{all}");
    let mut oldest_first: Vec<&str> = all
        .lines()
        .map(|line| line.trim_start().split_once("  ").expect("a number and the event").1)
        .collect();
    oldest_first.reverse();
    let followed = fleet.client_for(Duration::from_secs(3), &["event", "follow", "--after", "0.0.0"]);
    assert_eq!(followed.stdout.lines().collect::<Vec<_>>(), oldest_first);
    // Who follows one node does not read the events of all the others again each time.
    let next = |of_node: &str| {
        let path = format!("/api/events?after=0.0.0{of_node}");
        let page = fleet.curl().with_token(fleet.administrator()).get(&path).1;
        serde_json::from_str::<serde_json::Value>(&page).expect("a page")["next"].to_string()
    };
    assert_eq!(next("&node=gate-auken-1"), next(""));
    let unknown = fleet.client(&["event", "list", "--node", "kiosk-auken-9"]);
    assert!(unknown.stderr.contains("there is no node `kiosk-auken-9`"), "{}", unknown.stderr);
}

#[test]
fn a_release_is_checked_again_refused_whole_and_never_changes() {
    let fleet = Fleet::start();
    let machine = Machine::fresh();
    well(&fleet.client(&["kit", "publish", &demo_kit("quay-base")]));
    assert!(
        well(&fleet.client(&["kit", "publish", &demo_kit("quay-base")]))
            .contains("published quay-base@1.3.0"),
        "the same again is the same"
    );
    let listed = fleet.client(&["kit", "list"]).stdout;
    assert!(
        listed.starts_with("quay-base@1.3.0  by ilse.maren at ") && listed.lines().count() == 1,
        "{listed}"
    );

    let copy = machine.root.at("/quay-base");
    std::process::Command::new("cp").arg("-r").arg(demo_kit("quay-base")).arg(&copy).status().unwrap();
    std::fs::write(copy.join("copies/issue"), "other words\n").unwrap();
    let changed = fleet.client(&["kit", "publish", copy.to_str().unwrap()]);
    assert_eq!(changed.exit, Some(1));
    assert!(
        changed.stderr.contains("is already published with other contents")
            && changed.stderr.contains("increase the version"),
        "{}",
        changed.stderr
    );

    std::fs::write(copy.join("baselines/upkeep.toml"), "[baseline]\nname = \"upkeep\n").unwrap();
    let broken = fleet.client(&["kit", "publish", copy.to_str().unwrap()]);
    assert!(
        broken.stderr.contains("nothing was sent") && broken.stderr.contains("error C0101"),
        "{}",
        broken.stderr
    );
    assert_eq!(fleet.query("select count(*) from release"), "1");

    let unmet = fleet.client(&["stage", "serve", "harbour", "gate-reader@2.1.0"]);
    assert!(unmet.stderr.contains("there is no release `gate-reader@2.1.0`"), "{}", unmet.stderr);
    well(&fleet.client(&["kit", "publish", &demo_kit("gate-reader")]));
    let unmet = fleet.client(&["stage", "serve", "harbour", "gate-reader@2.1.0"]);
    assert!(
        unmet.stderr.contains("gate-reader@2.1.0 requires quay-base ^1.0, and the stage serves none"),
        "{}",
        unmet.stderr
    );
    assert_eq!(fleet.query("select count(*) from served"), "0", "all of it or nothing");
}

#[test]
fn a_node_reaches_its_own_state_and_contents_and_nothing_else() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let gate = joined(&fleet, "gate-auken-1", &["role=gate"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    well(&kiosk.run(&["check-in"]));
    let state = fleet
        .query("select digest from effective_state s join node_wanted w on w.state = s.id join node on node.id = node where name = 'kiosk-auken-1'");
    let content = fleet
        .query(&format!("select name from clause_content k join effective_state s on k.clause = any(s.clauses) where s.digest = '{state}' limit 1"));
    let ask = |machine: &Machine, path: &str| {
        let folder = machine.root.at("/var/lib/constans");
        let joined: serde_json::Value =
            serde_json::from_slice(&std::fs::read(folder.join("joined.json")).unwrap()).unwrap();
        let certificate = machine.document("node.pem", joined["certificate"].as_str().unwrap());
        let output = std::process::Command::new("curl")
            .args(["-sk", "-o", "/dev/null", "-w", "%{http_code}", "--cert", &certificate, "--key"])
            .arg(folder.join("node.key"))
            .arg(format!("{}{path}", fleet.agents_url()))
            .output()
            .unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    };
    for path in [format!("/states/{state}"), format!("/contents/{content}")] {
        assert_eq!([ask(&kiosk, &path), ask(&gate, &path)], ["200", "404"], "{path}");
    }
    well(&fleet.client(&["node", "revoke", "kiosk-auken-1"]));
    assert_eq!(ask(&kiosk, &format!("/states/{state}")), "403");
    let refused = kiosk.run(&["daemon", "--once"]);
    assert_eq!(refused.exit, Some(3), "a revoked agent starts no further run");
    assert!(
        refused.stderr.contains("the node kiosk-auken-1 was revoked; the desired state and all secrets were deleted from this machine"),
        "{}",
        refused.stderr
    );
    assert!(!kiosk.root.at("/var/lib/constans/served.json").exists());
    assert_eq!(std::fs::read_dir(kiosk.root.at("/var/lib/constans/contents")).unwrap().count(), 0);
}

#[test]
fn wanted_contents_that_something_else_changed_get_into_no_file_and_lost_ones_come_again() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    assert!(well(&kiosk.run(&["daemon", "--once"])).contains("rolled out"));
    let contents = kiosk.root.at("/var/lib/constans/contents");
    for entry in std::fs::read_dir(&contents).unwrap() {
        std::fs::write(entry.unwrap().path(), "not what was published\n").unwrap();
    }
    assert!(
        well(&kiosk.run(&["enforce", "--yes"])).contains("in line"),
        "what is there is what is wanted all the same"
    );
    kiosk.root.write("/etc/issue", "who was here?\n").unwrap();
    let failed = kiosk.run(&["enforce", "--yes"]);
    let why = "the contents for /etc/issue do not match their digest, sha256:";
    assert!(
        failed.stdout.contains(why) && failed.stdout.contains("the next check-in downloads it again"),
        "{}",
        failed.stdout
    );
    assert!(
        !failed.stdout.contains("+not what was published"),
        "nor is it said to be wanted: {}",
        failed.stdout
    );
    assert_eq!(kiosk.root.read("/etc/issue").unwrap(), "who was here?\n", "nothing was put there");

    std::fs::remove_dir_all(&contents).unwrap();
    let lacking = kiosk.run(&["enforce", "--yes"]);
    assert!(
        lacking.stderr.contains("are missing")
            && lacking.stderr.contains("constans-agent check-in downloads them"),
        "{}",
        lacking.stderr
    );
    well(&kiosk.run(&["check-in"]));
    assert!(well(&kiosk.run(&["enforce", "--yes"])).contains("corrected"));
    assert!(kiosk.root.read("/etc/issue").unwrap().contains("Skerry Line"));
}

#[test]
fn a_change_that_makes_a_state_unusable_is_refused_unless_insisted_on_and_the_last_good_one_stays() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    well(&kiosk.run(&["daemon", "--once"]));
    let trial = kiosk.document(
        "trial.toml",
        "name = \"night-trial\"\npriority = 10\nnodes = [\"kiosk-auken-1\"]\n\n[parameters]\n\"kiosk-floor/kiosk-lockdown.idle_seconds\" = 600\n",
    );
    let refused = fleet.client(&["group", "set", &trial]);
    assert_eq!(refused.exit, Some(1));
    assert!(
        refused.stderr.contains(
            "kiosk-auken-1: the groups `kiosks` and `night-trial` have the same priority and conflict in"
        ),
        "{}",
        refused.stderr
    );
    assert_eq!(fleet.query("select count(*) from node_group where name = 'night-trial'"), "0");

    well(&fleet.client(&["group", "set", &trial, "--although-unusable"]));
    assert!(
        fleet
            .client(&["node", "show", "kiosk-auken-1"])
            .stdout
            .contains("problem   the desired state cannot be resolved; the node keeps its last usable one")
    );
    assert!(well(&kiosk.run(&["daemon", "--once"])).contains("in line"), "it goes on with the last good one");
}

#[test]
fn a_report_that_is_sent_twice_is_stored_once_and_an_older_state_is_refused() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    well(&kiosk.run(&["check-in"]));
    let mut fleet = fleet;
    fleet.kill_server();
    kiosk.run(&["observe"]);
    let spool = kiosk.root.at("/var/lib/constans/spool");
    let waiting = std::fs::read_dir(&spool).unwrap().next().unwrap().unwrap().path();
    let report = std::fs::read(&waiting).unwrap();
    fleet.start_server();
    well(&kiosk.run(&["check-in"]));
    assert!(!waiting.exists(), "what was delivered waits no more");
    kiosk
        .root
        .write("/var/lib/constans/spool/00000000000000000001.json", &String::from_utf8(report).unwrap())
        .unwrap();
    well(&kiosk.run(&["check-in"]));
    assert_eq!(fleet.query("select count(*) from run"), "1");

    fleet.query("update node_wanted set counter = 0");
    let older = kiosk.run(&["check-in"]);
    assert_eq!(older.exit, Some(1));
    assert!(
        older.stderr.contains("the server offers generation 1.0, and this node has 1."),
        "{}",
        older.stderr
    );
}

#[test]
fn runs_whose_reports_were_lost_on_the_node_are_named_wherever_the_server_relies_on_the_run_before() {
    let mut fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    well(&kiosk.run(&["daemon", "--once"]));
    assert_eq!(fleet.query("select count(*) from missing_runs"), "0");
    fleet.kill_server();
    for _ in 0..2 {
        kiosk.run(&["observe"]);
    }
    let lost = jiff::Timestamp::now().to_string();
    kiosk.run(&["observe"]);
    let spool = kiosk.root.at("/var/lib/constans/spool");
    let mut waiting: Vec<_> = std::fs::read_dir(&spool).unwrap().map(|entry| entry.unwrap().path()).collect();
    waiting.sort();
    assert_eq!(waiting.len(), 3, "{waiting:?}");
    waiting[..2].iter().for_each(|report| std::fs::remove_file(report).unwrap());
    fleet.start_server();
    well(&kiosk.run(&["check-in"]));
    assert_eq!(fleet.query("select runs from missing_runs"), "2");
    let listed = fleet.client(&["run", "list", "kiosk-auken-1"]);
    assert!(well(&listed).contains("2 runs before it never reported"), "{}", listed.stdout);
    let then = fleet.client(&["compliance", "--as-of", &lost]);
    assert!(
        well(&then).contains("1 node ran again before that, and no report of that run ever came"),
        "{}",
        then.stdout
    );
    let now = fleet.client(&["compliance"]);
    assert!(!well(&now).contains("no report of that run"), "{}", now.stdout);
}

#[test]
fn two_machines_with_one_identity_are_told_and_secrets_withheld_until_a_person_decides() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    well(&kiosk.run(&["check-in"]));
    let copy = Machine::fresh();
    for name in ["joined.json", "node.key"] {
        copy.root
            .write(
                &format!("/var/lib/constans/{name}"),
                &kiosk.root.read(&format!("/var/lib/constans/{name}")).unwrap(),
            )
            .unwrap();
    }
    for machine in [&kiosk, &kiosk, &kiosk] {
        well(&machine.run(&["check-in"]));
    }
    assert!(
        !fleet.client(&["node", "list"]).stdout.contains("duplicate identity"),
        "one machine that comes again is one machine"
    );
    well(&copy.run(&["check-in"]));
    assert!(fleet.client(&["node", "list"]).stdout.contains("duplicate identity"));
    well(&fleet.client(&["node", "resolve-duplicate", "kiosk-auken-1"]));
    let shown = || {
        serde_json::from_str::<serde_json::Value>(&kiosk.root.read("/var/lib/constans/joined.json").unwrap())
            .unwrap()["mark"]
            .clone()
    };
    let lose_answer = |had: &serde_json::Value| {
        let mut membership: serde_json::Value =
            serde_json::from_str(&kiosk.root.read("/var/lib/constans/joined.json").unwrap()).unwrap();
        membership["mark"] = had.clone();
        kiosk.root.write("/var/lib/constans/joined.json", &membership.to_string()).unwrap();
    };
    for _ in 0..3 {
        let had = shown();
        well(&kiosk.run(&["check-in"]));
        lose_answer(&had);
    }
    assert!(
        !fleet.client(&["node", "list"]).stdout.contains("duplicate identity"),
        "answers that were lost, the first after the decision too, make no second machine"
    );
    // A copy that comes each time between two check-ins shows each time what was given one before.
    well(&kiosk.run(&["check-in"]));
    copy.root
        .write("/var/lib/constans/joined.json", &kiosk.root.read("/var/lib/constans/joined.json").unwrap())
        .unwrap();
    for machine in [&kiosk, &copy, &kiosk] {
        well(&machine.run(&["check-in"]));
    }
    assert!(
        fleet.client(&["node", "list"]).stdout.contains("duplicate identity"),
        "two that take turns are two"
    );
    assert!(
        fleet
            .client(&["node", "show", "kiosk-auken-1"])
            .stdout
            .contains("problem   duplicate identity: two machines use the identity of this node")
    );

    let kit = kiosk.root.at("/keys");
    std::fs::create_dir_all(kit.join("baselines")).unwrap();
    std::fs::write(kit.join("kit.toml"), "[kit]\nname = \"keys\"\nversion = \"1.0.0\"\n").unwrap();
    std::fs::write(
        kit.join("baselines/a.toml"),
        "[baseline]\nname = \"a\"\n\n[[clause]]\nwhat = \"file:/etc/gate.key\"\ntext = \"Tern-1234\"\nconceal = true\n",
    )
    .unwrap();
    well(&fleet.client(&["kit", "publish", kit.to_str().unwrap()]));
    well(&fleet.client(&["stage", "serve", "open-water", "keys@1.0.0"]));
    well(&group(
        &fleet,
        &kiosk,
        "name = \"everyone\"\n\n[[assignments]]\nkit = \"keys\"\nbaseline = \"a\"\n\n[settings]\nmode = \"enforce\"\n",
    ));
    assert_eq!(
        fleet.query("select count(*) from clause where body::text like '%Tern-1234%'"),
        "0",
        "a state holds no secret"
    );
    let withheld = kiosk.run(&["check-in"]);
    assert!(
        withheld.stderr.contains("there is no content of this node"),
        "{}{}",
        withheld.stdout,
        withheld.stderr
    );

    well(&fleet.client(&["node", "resolve-duplicate", "kiosk-auken-1"]));
    assert!(well(&kiosk.run(&["daemon", "--once"])).contains("rolled out"));
    assert_eq!(kiosk.root.read("/etc/gate.key").unwrap(), "Tern-1234");
    assert_eq!(fleet.client(&["node", "resolve-duplicate", "kiosk-auken-1"]).exit, Some(1));
}

#[test]
fn a_certificate_is_renewed_from_its_half_life_on() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &[]);
    let path = "/var/lib/constans/joined.json";
    let mut membership: serde_json::Value = serde_json::from_str(&kiosk.root.read(path).unwrap()).unwrap();
    let before = membership["certificate"].clone();
    membership["renew_after"] = "2026-01-01T00:00:00Z".into();
    kiosk.root.write(path, &membership.to_string()).unwrap();
    well(&kiosk.run(&["check-in"]));
    let membership: serde_json::Value = serde_json::from_str(&kiosk.root.read(path).unwrap()).unwrap();
    assert_ne!(membership["certificate"], before);
    well(&kiosk.run(&["check-in"]));
    assert_eq!(fleet.query("select count(*) from event where did = 'renewed its certificate'"), "1");
}

#[test]
fn what_many_nodes_say_at_once_is_taken_in_together_and_of_a_refused_one_nothing() {
    const ROUNDS: usize = 4;
    let fleet = Fleet::start();
    let machines: Vec<Machine> =
        (1..=6).map(|number| joined(&fleet, &format!("kiosk-auken-{number}"), &["role=kiosk"])).collect();
    publish_and_serve(&fleet);
    well(&group(&fleet, &machines[0], &KIOSKS.replace("MODE", "enforce")));
    for machine in &machines {
        well(&machine.run(&["daemon", "--once"]));
    }
    let heard_before: u64 = fleet.query("select sum(count) from heard").parse().unwrap();
    let (refused, others) = machines.split_last().unwrap();
    well(&fleet.client(&["node", "revoke", "kiosk-auken-6"]));
    std::thread::scope(|scope| {
        for machine in others {
            scope.spawn(|| {
                (0..ROUNDS)
                    .for_each(|_| assert!(well(&machine.run(&["daemon", "--once"])).contains("in line")));
            });
        }
        scope.spawn(|| assert!(refused.run(&["daemon", "--once"]).stderr.contains("was revoked")));
    });
    let expected = others.len() * ROUNDS;
    assert_eq!(
        fleet.query("select count(*) || ' ' || sum(count) from run_span where run is null"),
        format!("{} {expected}", others.len()),
        "each run once, a span a node"
    );
    assert_eq!(
        fleet.query("select sum(count) from heard").parse(),
        Ok(heard_before + expected as u64),
        "each check-in once"
    );
    assert_eq!(
        fleet.query("select count(*) from heard"),
        machines.len().to_string(),
        "kept promises are one span"
    );
}

#[test]
fn a_change_for_many_says_how_far_it_is_and_stores_of_their_states_what_differs() {
    const NODES: usize = 2_400;
    let fleet = Fleet::start();
    let gate = joined(&fleet, "gate-auken-1", &["role=gate"]);
    fleet.query(&format!(
        "insert into node (id, name, labels, about, joined_at)
         select gen_random_uuid(), 'gate-tern-' || n, labels, about, joined_at from node, generate_series(1, {}) n",
        NODES - 1
    ));
    let clauses: String = (0..60)
        .map(|lane| format!("\n[[clause]]\nwhat = \"file:/etc/lanes/{lane}\"\ntext = \"lane {lane}\\n\"\n"))
        .collect();
    std::fs::create_dir_all(gate.root.at("/lanes/baselines")).unwrap();
    gate.root.write("/lanes/kit.toml", "[kit]\nname = \"lanes\"\nversion = \"1.0.0\"\n").unwrap();
    let named = "\n[[clause]]\nwhat = \"directory:/etc/lanes\"\n\n[[clause]]\nwhat = \"file:/etc/lanes/own\"\ntext = \"{{ node.name }}\\n\"\n";
    gate.root
        .write("/lanes/baselines/all.toml", &format!("[baseline]\nname = \"all\"\n{clauses}{named}"))
        .unwrap();
    well(&fleet.client(&["kit", "publish", gate.root.at("/lanes").to_str().unwrap()]));
    well(&fleet.client(&["stage", "serve", "open-water", "lanes@1.0.0"]));
    let reader = fleet.curl().with_token(&fleet.token("pia.lund", "reader"));
    let under_way = || -> Vec<Activity> { serde_json::from_str(&reader.get("/api/activities").1).unwrap() };
    assert_eq!(under_way(), []);

    let text = "name = \"gates\"\nfilter = \"labels.role == 'gate'\"\n[[assignments]]\nkit = \"lanes\"\nbaseline = \"all\"\n[settings]\nmode = \"enforce\"\n";
    let seen: Vec<Activity> = std::thread::scope(|scope| {
        let change = scope.spawn(|| group(&fleet, &gate, text));
        let mut seen = Vec::new();
        while !change.is_finished() {
            seen.extend(under_way());
            std::thread::sleep(Duration::from_millis(100));
        }
        well(&change.join().unwrap());
        seen
    });
    let first = seen.first().expect("it takes more than a second");
    assert!(first.what.ends_with(": make the group gates"), "{first:?}");
    assert!(
        seen.iter().all(|work| (0..=NODES).contains(&work.done)) && seen.is_sorted_by_key(|work| work.done),
        "{seen:?}"
    );
    for _ in 0..50 {
        if under_way().is_empty() {
            break;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    assert_eq!(under_way(), [], "what ended is not under way");

    assert_eq!(
        fleet.query("select count(distinct state) || ' of ' || count(*) from node_wanted"),
        format!("{NODES} of {NODES}"),
        "each has its name in it"
    );
    let stored = fleet.query("select count(*) from clause where body ->> 'address' like 'file:/etc/lanes/%'");
    assert_eq!(stored.parse(), Ok(NODES + 60), "the others are the same everywhere");
    well(&gate.run(&["daemon", "--once"]));
    assert_eq!(gate.root.read("/etc/lanes/own").unwrap(), "gate-auken-1\n");
    assert_eq!(gate.root.read("/etc/lanes/59").unwrap(), "lane 59\n");
}
