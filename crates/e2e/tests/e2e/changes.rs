//! One way for every change: nothing is overwritten unseen, nothing is left half handed out, and what each node is wanted to be
//! equals resolving from scratch, whatever is changed at the same time.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Fleet, Machine};
use serde_json::Value;
use std::io::Write as _;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A group of nodes that a label chooses; its nodes get other values.
const NIGHT: &str = "name = \"night-trial\"\npriority = 20\nfilter = \"labels.trial == 'night'\"\n[parameters]\n\"kiosk-floor/kiosk-lockdown.idle_seconds\" = 90\n";

/// What is under the lock of the desired state, as an edit of a node takes it.
const SHARE: &str = "select pg_advisory_xact_lock_shared(x'6465736972656421'::bigint);";

/// A session of psql that stays open.
struct Session(Child);

impl Session {
    fn open(fleet: &Fleet) -> Self {
        let mut command = Command::new("psql");
        command
            .args(["-qtA", "-v", "ON_ERROR_STOP=1", fleet.database()])
            .stdin(Stdio::piped())
            .stdout(Stdio::null());
        Self(command.spawn().expect("psql starts"))
    }

    fn says(&mut self, sql: &str) {
        writeln!(self.0.stdin.as_mut().expect("it listens"), "{sql}").expect("it listens");
    }

    fn end(mut self) {
        drop(self.0.stdin.take());
        assert!(self.0.wait().expect("it ends").success(), "psql found an error");
    }
}

pub(crate) fn until(what: &str, holds: impl Fn() -> bool) {
    let end = Instant::now() + Duration::from_secs(60);
    while !holds() {
        assert!(Instant::now() < end, "it did not come to this: {what}");
        std::thread::sleep(Duration::from_millis(30));
    }
}

/// The fleet of one real kiosk and of nodes beside it that only the database knows, half of them gates.
pub(crate) fn fleet_of(nodes: usize) -> (Fleet, Machine) {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    add_nodes(&fleet, nodes);
    (fleet, kiosk)
}

pub(crate) fn add_nodes(fleet: &Fleet, nodes: usize) {
    fleet.query(&format!(
        "with model as (select * from node where name = 'kiosk-auken-1'), new as (
             insert into node (id, name, labels, about, joined_at)
             select gen_random_uuid(), 'quay-tern-' || n, labels || jsonb_build_object('role', case when n % 2 = 0 then 'kiosk' else 'gate' end), about, joined_at
             from model, generate_series(1, {nodes}) n returning id, joined_at
         ) insert into node_now (node) select id from new"
    ));
}

pub(crate) fn ask(fleet: &Fleet, path: &str) -> Value {
    let (status, body) = fleet.curl().with_token(fleet.administrator()).get(path);
    assert_eq!(status, 200, "{path}: {body}");
    serde_json::from_str(&body).expect("it is JSON")
}

/// Resolves all nodes from scratch, as another version of the resolving code does, and returns how many are to be otherwise.
pub(crate) fn otherwise_from_scratch(fleet: &mut Fleet) -> (u64, String) {
    until("no work is left", || {
        fleet.query("select (select count(*) from job where ended_at is null) + (select count(*) from node where input_pending)") == "0"
    });
    fleet.kill_server();
    fleet.query("update fleet set resolver = 0");
    fleet.start_server();
    until("all is resolved anew", || fleet.query("select resolver from fleet") != "0");
    let change = &ask(fleet, "/api/changes")[0];
    assert_eq!((&change["kind"], &change["status"]), (&"resolver".into(), &"handed_out".into()), "{change}");
    let rows = fleet.query(&format!("select count(*) from change_node where change = {}", change["no"]));
    (change["nodes"].as_u64().expect("a number"), rows)
}

/// Has the database refuse a generation that falls.
pub(crate) fn refuse_falling_generations(fleet: &Fleet) {
    fleet.query(
        "create function only_rises() returns trigger language plpgsql as $$ begin
             if (new.epoch, new.counter) < (old.epoch, old.counter) then raise exception 'the generation of % fell', old.node; end if;
             if (new.epoch, new.counter) = (old.epoch, old.counter) and new.state is distinct from old.state then raise exception 'another state under one generation'; end if;
             return new;
         end $$;
         create trigger only_rises before update on node_wanted for each row execute function only_rises();",
    );
}

#[test]
fn a_label_that_was_committed_late_is_caught_up() {
    let (mut fleet, kiosk) = fleet_of(700);
    let idle = "select count(*) from node_wanted w join node on node.id = w.node join effective_state s on s.id = w.state, clause c
                where c.id = any(s.clauses) and c.body ->> 'address' = 'file:/etc/kiosk/shell.conf' and node.name = 'quay-tern-2'";
    let before = fleet.query(
        "select w.state from node_wanted w join node on node.id = w.node where node.name = 'kiosk-auken-1'",
    );
    // The edit begins before the change and is committed after all its nodes were prepared.
    let mut edit = Session::open(&fleet);
    edit.says(&format!(
        "begin; {SHARE} update node set labels = labels || '{{\"trial\": \"night\"}}' where name in ('quay-tern-2', 'kiosk-auken-1');"
    ));
    until("the edit is under way", || {
        fleet.query(
            "select count(*) from pg_locks where locktype = 'advisory' and mode = 'ShareLock' and granted",
        ) == "1"
    });
    std::thread::scope(|scope| {
        let change = scope.spawn(|| group(&fleet, &kiosk, NIGHT));
        until("all nodes are prepared", || {
            fleet.query("select count(*) from job where ended_at is null and done = 701") == "1"
        });
        std::thread::sleep(Duration::from_millis(600));
        assert!(!change.is_finished(), "it waits for the edit");
        assert_eq!(
            fleet.query("select count(*) from change_node where change = (select max(no) from change)"),
            "700",
            "only what was never resolved: nobody has the label yet"
        );
        edit.says("commit;");
        edit.end();
        assert!(
            well(&change.join().unwrap()).contains("desired state changed on 701 nodes"),
            "the two are caught up with"
        );
    });
    let after = fleet.query(
        "select w.state from node_wanted w join node on node.id = w.node where node.name = 'kiosk-auken-1'",
    );
    assert_ne!(before, after, "the label is seen: {}", fleet.query(idle));
    assert_eq!(otherwise_from_scratch(&mut fleet), (0, "0".to_owned()));
}

#[test]
fn a_node_that_was_resolved_by_itself_after_a_change_was_prepared_is_looked_at_again() {
    let (mut fleet, kiosk) = fleet_of(3);
    well(&group(&fleet, &kiosk, NIGHT));
    let state = "select state from node_wanted w join node on node.id = w.node where name = 'kiosk-auken-1'";
    let day = fleet.query(state);
    // The label is there when the preview begins, and nobody has resolved the node since.
    fleet.query("update node set labels = labels || '{\"trial\": \"night\"}' where name = 'kiosk-auken-1'");
    let preview = fleet.client(&["group", "remove", "night-trial", "--preview"]);
    let no =
        well(&preview).split("change confirm ").nth(1).unwrap().split_whitespace().next().unwrap().to_owned();
    // For the preview the node stays as it is: without the group the label means nothing. By itself it becomes otherwise.
    fleet.query("update node set input_pending = true where name = 'kiosk-auken-1'");
    until("the node is resolved by itself", || fleet.query(state) != day);
    well(&fleet.client(&["change", "confirm", &no, "--confirm", "0"]));
    assert_eq!(fleet.query(state), day, "without the group it is as before");
    assert_eq!(otherwise_from_scratch(&mut fleet), (0, "0".to_owned()));
}

#[test]
fn of_two_changes_of_one_group_the_later_is_told_by_whom_it_was_changed() {
    let (fleet, kiosk) = fleet_of(1_500);
    let texts =
        [45, 60].map(|idle| KIOSKS.replace("MODE", "enforce").replace("= 45", &format!("= {}", idle + 1)));
    let ended = std::thread::scope(|scope| {
        let all: Vec<_> = texts
            .iter()
            .enumerate()
            .map(|(at, text)| {
                let (fleet, document) = (&fleet, kiosk.document(&format!("{at}.toml"), text));
                scope.spawn(move || {
                    fleet.client(&["group", "set", &document, "--because", "idle times of the winter"])
                })
            })
            .collect();
        all.into_iter().map(|one| one.join().unwrap()).collect::<Vec<_>>()
    });
    let (made, refused): (Vec<_>, Vec<_>) = ended.into_iter().partition(|one| one.exit == Some(0));
    assert_eq!((made.len(), refused.len()), (1, 1));
    let refused = &refused[0];
    let no = ask(&fleet, "/api/changes")[1]["no"].clone();
    assert!(
        refused.stderr.contains(&format!("group kiosks was changed meanwhile by C{no}, ilse.maren")),
        "{}",
        refused.stderr
    );
    assert!(refused.stderr.contains("constans group list"), "{}", refused.stderr);
    let listed = fleet.client(&["change", "list"]);
    let listed = well(&listed);
    assert!(listed.contains("refused") && listed.contains("\"idle times of the winter\""), "{listed}");
}

#[test]
fn who_read_an_older_document_overwrites_nothing_and_a_repeated_request_makes_no_second_change() {
    let (fleet, kiosk) = fleet_of(3);
    let document = |idle: u32| {
        let text = KIOSKS.replace("MODE", "enforce").replace("= 45", &format!("= {idle}"));
        kiosk.document(&format!("{idle}.toml"), &text)
    };
    let read = fleet.query("select max(no) from change");
    well(&fleet.client(&["group", "set", &document(50)]));
    let late = fleet.client(&["group", "set", &document(60), "--unless-changed-after", &format!("C{read}")]);
    assert!(
        late.exit == Some(1)
            && late.stderr.contains(&format!("group kiosks was changed after C{read}, by C")),
        "{}",
        late.stderr
    );
    let newest = fleet.query("select max(no) from change");
    well(&fleet.client(&["group", "set", &document(60), "--unless-changed-after", &newest]));

    let group =
        serde_json::json!({ "name": "gates", "filter": "labels.role == 'gate'", "priority": 5 }).to_string();
    let keyed = |key: &str| fleet.curl().with_token(fleet.administrator()).with_request_key(key);
    let changes = || fleet.query("select count(*) from change");
    let (status, first) = keyed("night-7").put("/api/groups", &group);
    assert_eq!(status, 200, "{first}");
    let made = changes();
    let again = keyed("night-7").put("/api/groups", &group);
    assert_eq!(
        (again.0, serde_json::from_str::<Value>(&again.1).unwrap()["change"].clone()),
        (200, serde_json::from_str::<Value>(&first).unwrap()["change"].clone())
    );
    let (status, removed) = keyed("night-8").delete("/api/groups/gates");
    assert_eq!(status, 200, "{removed}");
    let (status, repeated) = keyed("night-8").delete("/api/groups/gates");
    assert_eq!((status, repeated), (200, removed), "although there is no such group any more");
    assert_eq!(changes().parse::<u32>().unwrap(), made.parse::<u32>().unwrap() + 1);
    // The same request several times at once is one change, too.
    let before = changes().parse::<u32>().unwrap();
    let answers: Vec<(u16, Value)> = std::thread::scope(|scope| {
        let all: Vec<_> = (0..6)
            .map(|_| {
                let caller = keyed("night-9");
                let group = &group;
                scope.spawn(move || {
                    let (status, body) = caller.put("/api/groups", group);
                    (status, serde_json::from_str::<Value>(&body).unwrap()["change"].clone())
                })
            })
            .collect();
        all.into_iter().map(|one| one.join().unwrap()).collect()
    });
    assert!(answers.iter().all(|answer| *answer == answers[0] && answer.0 == 200), "{answers:?}");
    assert_eq!(changes().parse::<u32>().unwrap(), before + 1);
    let (status, bad) = keyed(&"k".repeat(129)).put("/api/groups", &group);
    assert!(status == 422 && bad.contains("Idempotency-Key"), "{status} {bad}");
}

#[test]
fn what_takes_clauses_is_asked_and_a_preview_hands_out_nothing() {
    let (mut fleet, kiosk) = fleet_of(9);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce").replace("= 45", "= 46")));
    let wanted =
        "select string_agg(coalesce(state, 0) || ':' || counter, ' ' order by node) from node_wanted";
    let before = fleet.query(wanted);
    let typo = KIOSKS.replace("MODE", "enforce").replace("= 45", "= 46").replace("'kiosk'", "'kisok'");
    let document = kiosk.document("typo.toml", &typo);

    let preview = fleet.client(&["group", "set", &document, "--preview"]);
    let preview_warnings = preview.stderr.clone();
    let preview = well(&preview);
    assert!(
        preview.contains("affects 5 nodes")
            && preview.contains("takes from 5 nodes")
            && preview.contains("nothing is handed out"),
        "{preview}"
    );
    assert_eq!(fleet.query(wanted), before, "a preview hands nothing out");

    let refused = fleet.client(&["group", "set", &document]);
    assert_eq!(refused.exit, Some(3), "{}{}", refused.stdout, refused.stderr);
    assert!(
        refused.stderr.contains("takes clauses from 5 nodes") && refused.stderr.contains("--confirm 5"),
        "{}",
        refused.stderr
    );
    assert!(refused.stderr.contains("kiosk-auken-1"), "{}", refused.stderr);
    for (shown, why) in [(&refused.stderr, "where it is refused"), (&preview_warnings, "in a preview")] {
        assert!(
            shown.contains("warning C0143: no node has the label role = `kisok`")
                && shown.contains("hint: did you mean `kiosk`?"),
            "{why}: {shown}"
        );
    }
    assert_eq!(fleet.query(wanted), before, "and nothing is handed out unasked");
    let too_few = fleet.client(&["group", "set", &document, "--confirm", "4"]);
    assert_eq!(too_few.exit, Some(3), "{}", too_few.stderr);
    assert_eq!(fleet.query(wanted), before);

    // Typed on a terminal: the number of nodes, since it is not small.
    let handed_out = fleet.client(&["group", "set", &document, "--confirm", "5", "--because", "a typo"]);
    let output = well(&handed_out);
    assert!(output.contains("desired state changed on 5 nodes"), "{output}");
    let no = ask(&fleet, "/api/changes")[0]["no"].as_u64().unwrap();
    let shown = fleet.client(&["change", "show", &format!("C{no}")]);
    let shown = well(&shown);
    assert!(
        shown.contains("because: a typo")
            && shown.contains("0 of 5 have it")
            && shown.contains("-   \"filter\": \"labels.role == 'kiosk'\""),
        "{shown}"
    );

    let back = fleet.client(&["change", "go-back", &format!("C{no}"), "--because", "it was a typo"]);
    assert!(well(&back).contains("desired state changed on 5 nodes"), "{}", back.stdout);
    let states = "select string_agg(coalesce(state, 0)::text, ' ' order by node) from node_wanted";
    let had: Vec<String> = before.split(' ').map(|one| one.split(':').next().unwrap().to_owned()).collect();
    assert_eq!(fleet.query(states), had.join(" "), "all is as before it");
    let again = fleet.client(&["change", "go-back", &format!("C{no}")]);
    assert!(
        again.stderr.contains("cannot be taken back: group kiosks was changed since"),
        "{}",
        again.stderr
    );
    assert_eq!(otherwise_from_scratch(&mut fleet), (0, "0".to_owned()));
}

#[test]
fn a_node_is_said_to_have_a_change_when_it_showed_that() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    let no = ask(&fleet, "/api/changes")[0]["no"].as_u64().unwrap();
    let show = || ask(&fleet, &format!("/api/changes/{no}"));
    assert_eq!(show()["change"]["outstanding"], 1, "{}", show());
    well(&kiosk.run(&["daemon", "--once"]));
    well(&kiosk.run(&["check-in"]));
    assert_eq!(show()["change"]["outstanding"], 0, "{}", show());
    assert!(show()["nodes"][0]["has_since"].is_string(), "{}", show());
    assert_eq!(show()["last_by"], Value::Null);
}

#[test]
fn a_server_killed_in_any_step_leaves_the_old_or_the_new_everywhere_and_goes_on() {
    let (mut fleet, kiosk) = fleet_of(600);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce").replace("= 45", "= 46")));
    refuse_falling_generations(&fleet);
    let values = "select string_agg(distinct value, ' ') from (select (c.body -> 'properties' ->> 'content') as value from node_wanted w join effective_state s on s.id = w.state
                  join clause c on c.id = any(s.clauses) where c.body ->> 'address' = 'file:/etc/kiosk/shell.conf') v";
    let documents = "select body -> 'parameters' ->> 'kiosk-floor/kiosk-lockdown.idle_seconds' from node_group where name = 'kiosks' and until_at is null";
    for (at, step) in
        ["drafted", "preparing", "caught_up", "locked", "documents_stored", "handing_out", "handed_out"]
            .into_iter()
            .enumerate()
    {
        let idle = 50 + at;
        let before = fleet.query(values);
        fleet.kill_server();
        fleet.start_server_until(step);
        let document = kiosk
            .document("group.toml", &KIOSKS.replace("MODE", "enforce").replace("= 45", &format!("= {idle}")));
        assert_ne!(fleet.client(&["group", "set", &document]).exit, Some(0), "{step}");
        fleet.wait_for_end();
        let is_new = fleet.query(documents) == idle.to_string();
        assert_eq!(is_new, step == "handed_out", "{step}");
        assert_eq!(
            fleet.query(values) != before,
            is_new,
            "{step}: what nodes are wanted to be follows the documents"
        );
        assert!(!fleet.query(values).contains(' '), "{step}: the same everywhere: {}", fleet.query(values));
        fleet.start_server();
        until(step, || {
            fleet.query("select count(*) from change where status in ('waiting', 'preparing')") == "0"
        });
        assert_eq!(fleet.query(documents), idle.to_string(), "{step}: it went on by itself");
        assert_ne!(fleet.query(values), before, "{step}");
        assert!(!fleet.query(values).contains(' '), "{step}: the same everywhere: {}", fleet.query(values));
    }
    assert_eq!(otherwise_from_scratch(&mut fleet), (0, "0".to_owned()));
}

#[test]
fn two_servers_share_the_work_and_one_goes_on_where_the_other_was_killed() {
    let (mut fleet, kiosk) = fleet_of(1_200);
    refuse_falling_generations(&fleet);
    for round in 0..3 {
        let (other, url) = fleet.another_server();
        let document = kiosk.document(
            "group.toml",
            &KIOSKS.replace("MODE", "enforce").replace("= 45", &format!("= {}", 60 + round)),
        );
        std::thread::scope(|scope| {
            let other_url = url.clone();
            let fleet = &fleet;
            let change =
                scope.spawn(move || fleet.client(&["group", "set", &document, "--server", &other_url]));
            until("somebody works at it", || {
                fleet.query("select count(*) from job where ended_at is null and owner is not null") == "1"
            });
            drop(other);
            drop(change.join().unwrap());
        });
        until("the other one went on", || {
            fleet.query("select count(*) from job where ended_at is null") == "0"
        });
        assert_eq!(
            fleet.query(
                "select body -> 'parameters' ->> 'kiosk-floor/kiosk-lockdown.idle_seconds' from node_group where name = 'kiosks' and until_at is null"
            ),
            (60 + round).to_string()
        );
    }
    assert_eq!(otherwise_from_scratch(&mut fleet), (0, "0".to_owned()));
}

#[test]
fn a_database_restored_from_the_middle_of_a_change_drops_it_and_hands_nothing_out_until_recovering_ends() {
    let (mut fleet, kiosk) = fleet_of(600);
    let set = |fleet: &Fleet, idle: u32| {
        let document = kiosk
            .document("group.toml", &KIOSKS.replace("MODE", "enforce").replace("= 45", &format!("= {idle}")));
        fleet.client(&["group", "set", &document])
    };
    let status = "select status from change where what = 'set the group kiosks' order by no desc limit 1";
    fleet.kill_server();
    fleet.start_server_until("preparing");
    assert_ne!(set(&fleet, 50).exit, Some(0));
    fleet.wait_for_end();
    assert_eq!(fleet.query(status), "preparing");
    // The dump is of this moment; the server goes on, and the node is given what came of it.
    fleet.back_up();
    until("the change is handed out", || fleet.query(status) == "handed_out");
    well(&kiosk.run(&["check-in"]));
    well(&kiosk.run(&["daemon", "--once"]));
    let has = kiosk.root.read("/etc/kiosk/shell.conf").unwrap();
    let given = "select string_agg(distinct state::text || ' ' || counter, ', ') from node_wanted w join node on node.id = w.node where node.name = 'kiosk-auken-1'";

    fleet.put_back();
    assert!(well(&fleet.client(&["recovery", "show"])).contains("recovering since"));
    assert_eq!(fleet.query(status), "dropped", "what was prepared before holds no longer");
    assert_eq!(fleet.query("select count(*) from job where ended_at is null"), "0");
    assert_eq!(fleet.query("select count(*) from change_node c join change on change.no = c.change where change.status = 'dropped'"), "0");
    let before = fleet.query(given);
    let refused = set(&fleet, 60);
    assert!(refused.stderr.contains("the server is recovering"), "{}", refused.stderr);
    well(&kiosk.run(&["daemon", "--once"]));
    assert_eq!(kiosk.root.read("/etc/kiosk/shell.conf").unwrap(), has, "the node keeps what it was given");
    assert_eq!(fleet.query(given), before);

    well(&fleet.client(&["recovery", "end", "--although-not-heard"]));
    well(&set(&fleet, 60));
    well(&kiosk.run(&["daemon", "--once"]));
    assert!(
        kiosk.root.read("/etc/kiosk/shell.conf").unwrap().contains("60"),
        "{}",
        kiosk.root.read("/etc/kiosk/shell.conf").unwrap()
    );
    assert_eq!(otherwise_from_scratch(&mut fleet), (0, "0".to_owned()));
}

/// Has eight writers change the fleet at once for this long, and returns how often each had its way.
fn write_at_once(fleet: &Fleet, machine: &Machine, nodes: usize, lasts: Duration) -> Vec<usize> {
    let end = Instant::now() + lasts;
    let document = |name: &str, text: &str| machine.document(&format!("{name}.toml"), text);
    let kiosks = [70, 80].map(|idle| {
        document(
            &format!("kiosks-{idle}"),
            &KIOSKS.replace("MODE", "enforce").replace("= 45", &format!("= {idle}")),
        )
    });
    let night = document("night", NIGHT);
    let gates = ["observe", "enforce"].map(|mode| {
        let text = format!("name = \"gates\"\nfilter = \"labels.role == 'gate'\"\n[[assignments]]\nkit = \"gate-reader\"\nbaseline = \"reader\"\n[settings]\nmode = \"{mode}\"\n");
        document(&format!("gates-{mode}"), &text)
    });
    let is_done = |ended: constans_e2e::Ended| ended.exit == Some(0);
    let change = |arguments: &[&str]| is_done(fleet.client(arguments));
    let pick = |round: usize| 1 + (round * 37) % nodes;
    let edit = |what: &str, round: usize| {
        fleet.query(&format!("begin; {SHARE} update node set {what}, input_pending = true where name = 'quay-tern-{}'; commit;", pick(round)));
        true
    };
    let no = |status: &str| {
        fleet.query(&format!("select coalesce(max(no), 0) from change where status = '{status}' and jsonb_array_length(edits) > 0"))
    };
    let writers: [&(dyn Fn(usize) -> bool + Sync); 8] = [
        &|round| change(&["group", "set", &kiosks[round % 2], "--confirm", "100000"]),
        &|round| change(&["group", "set", &gates[round % 2], "--confirm", "100000", "--although-unusable"]),
        &|round| {
            if round % 2 == 0 {
                change(&["group", "set", &night])
            } else {
                change(&["group", "remove", "night-trial", "--confirm", "100000"])
            }
        },
        &|round| {
            change(&[
                "stage",
                "serve",
                "open-water",
                ["quay-base@1.3.0", "quay-base@1.3.1"][round % 2],
                "--confirm",
                "100000",
            ])
        },
        &|round| {
            edit(&format!("labels = labels || '{{\"trial\": \"{}\"}}'", ["night", "day"][round % 2]), round)
        },
        &|round| {
            // As a check-in that came while something was handed out.
            fleet.query(&format!(
                "update node set about = about || '{{\"cpu.count\": {}}}', input_pending = true where name = 'quay-tern-{}'",
                1 + round % 4,
                pick(round + 5)
            ));
            true
        },
        &|round| {
            let machine = Machine::fresh();
            let name = format!("kiosk-brisk-{}", 100 + round);
            let invitation = fleet.invite(&machine, &["--label", "role=kiosk"]);
            machine.run(&["join", "--invitation-file", &invitation, "--name", &name, "--wait", "0"]);
            let approved = change(&["join", "approve", &name]);
            machine.run(&["join", "--invitation-file", &invitation, "--name", &name, "--wait", "0"]);
            machine.run(&["daemon", "--once"]);
            approved
        },
        &|round| match round % 3 {
            0 => change(&["change", "go-back", &no("handed_out"), "--confirm", "100000"]),
            1 => change(&["group", "set", &kiosks[round % 2], "--preview"]),
            _ => change(&["change", "stop", &no("preparing")]),
        },
    ];
    std::thread::scope(|scope| {
        let all: Vec<_> = writers
            .iter()
            .map(|write| {
                scope.spawn(move || {
                    let mut done = 0;
                    for round in 0.. {
                        if Instant::now() >= end {
                            break;
                        }
                        done += usize::from(write(round));
                    }
                    done
                })
            })
            .collect();
        all.into_iter().map(|one| one.join().expect("it goes on")).collect()
    })
}

fn eight_writers(nodes: usize, lasts: Duration) {
    let (mut fleet, kiosk) = fleet_of(nodes);
    let folder = tempfile::tempdir().expect("a folder");
    assert!(
        Command::new("cp")
            .arg("-r")
            .arg(constans_e2e::demo_kit("quay-base"))
            .arg(folder.path())
            .status()
            .is_ok_and(|status| status.success())
    );
    constans_e2e::story::change(&folder.path().join("quay-base/kit.toml"), "1.3.0", "1.3.1");
    well(&fleet.client(&["kit", "publish", &folder.path().join("quay-base").display().to_string()]));
    refuse_falling_generations(&fleet);
    let done = write_at_once(&fleet, &kiosk, nodes, lasts);
    println!("{nodes} nodes, {lasts:.0?}, changes by writer: {done:?}");
    assert!(done.iter().all(|&done| done > 0), "each writer had its way at least once: {done:?}");
    let log = fleet.log();
    let wrong: Vec<&str> = log
        .lines()
        .filter(|line| line.contains("ERROR") || line.contains("deadlock") || line.contains("fell"))
        .collect();
    assert!(wrong.is_empty(), "{wrong:#?}");
    assert_eq!(fleet.query("select deadlocks from pg_stat_database where datname = 'constans'"), "0");
    assert_eq!(
        otherwise_from_scratch(&mut fleet),
        (0, "0".to_owned()),
        "what each node is wanted to be equals resolving from scratch"
    );
}

#[test]
fn eight_writers_at_once_leave_what_resolving_from_scratch_makes() {
    eight_writers(300, Duration::from_secs(12));
}

#[test]
#[ignore = "takes minutes: make test-long"]
fn eight_writers_and_two_thousand_nodes_for_a_minute() {
    eight_writers(2_000, Duration::from_secs(60));
}

#[test]
fn states_of_changes_that_came_to_nothing_are_deleted_and_no_other_is() {
    let (fleet, kiosk) = fleet_of(40);
    let states = || fleet.query("select count(*) from effective_state").parse::<u32>().unwrap();
    let wanted = "select string_agg(distinct s.digest, ' ') from node_wanted w join effective_state s on s.id = w.state";
    let preview = |idle: u32| {
        let text = KIOSKS.replace("MODE", "enforce").replace("= 45", &format!("= {idle}"));
        well(&fleet.client(&["group", "set", &kiosk.document("group.toml", &text), "--preview"]));
    };
    let age = || {
        fleet.query("update change set ended_at = ended_at - interval '2 hours' where status = 'previewed' returning 1")
    };
    let (before, given) = (states(), fleet.query(wanted));
    preview(50);
    let after_one = states();
    assert!(after_one > before, "a preview stores the states that it computed");
    age();
    until("the states are deleted", || states() == before);
    assert_eq!(fleet.query(wanted), given, "what nodes have stays");
    assert_eq!(fleet.query("select count(*) from dropped_state"), "0");

    // The same values are previewed twice; the second becomes the desired state, so that its states are kept.
    preview(50);
    preview(50);
    let second = fleet.query("select max(no) from change");
    well(&fleet.client(&["change", "confirm", &format!("C{second}"), "--confirm", "0"]));
    age();
    until("the first one is dropped", || {
        fleet.query("select count(*) from change where status = 'previewed'") == "0"
            && fleet.query("select count(*) from dropped_state") == "0"
    });
    assert_eq!(states(), after_one);
    well(&kiosk.run(&["check-in"]));
    well(&kiosk.run(&["daemon", "--once"]));
    assert!(kiosk.root.read("/etc/kiosk/shell.conf").unwrap().contains("50"));
}
