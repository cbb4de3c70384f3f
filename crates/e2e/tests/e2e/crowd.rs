//! What the server says of its fleet, compared with what truly happened to a crowd of simulated nodes: real check-ins and
//! reports, over hours that pass in seconds.

use constans_clock::MovedClock;
use constans_crowd::{Crowd, Deed, Fact, Operator, Pace, Plan, Rates, Truth};
use constans_e2e::Fleet;
use constans_e2e::story::serve_quays;
use constans_wire::run::{Episode, RunSummary};
use jiff::{SignedDuration, Timestamp};
use serde::de::DeserializeOwned;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io::Write as _;
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};

const NODES: usize = 200;
const FROM: &str = "2026-10-01T06:00:00Z";

/// What truly happened to one node.
#[derive(Default)]
struct Life {
    /// When each run was, and the status that it must have come to.
    runs: Vec<(Timestamp, &'static str)>,
    last_state: Option<String>,
    /// When what was changed by hand.
    changed: Vec<(Timestamp, String)>,
    /// When it left for good.
    left: Option<Timestamp>,
    /// Since when it is off or cut off, or since when it is no more.
    away: Option<Timestamp>,
    back: Option<Timestamp>,
    off: bool,
    cut: bool,
}

impl Life {
    fn add(&mut self, fact: &Fact) {
        match &fact.truth {
            Truth::Joined | Truth::Fixed { .. } => {}
            Truth::Left => self.left = Some(fact.at),
            Truth::Drifted { address } | Truth::Failing { address } => {
                self.changed.push((fact.at, address.clone()));
            }
            Truth::Off => self.go(fact.at, true, self.cut),
            Truth::On => self.go(fact.at, false, self.cut),
            Truth::Cut => self.go(fact.at, self.off, true),
            Truth::Reaching => self.go(fact.at, self.off, false),
            Truth::Ran { state, drifted, failing } => {
                let is_new = self.last_state.as_ref() != Some(state);
                self.last_state = Some(state.clone());
                let status = match (failing.is_empty(), drifted.is_empty(), is_new) {
                    (false, ..) => "failed",
                    (true, false, _) => "drift_corrected",
                    (true, true, true) => "rolled_out",
                    (true, true, false) => "in_line",
                };
                self.runs.push((fact.at, status));
            }
        }
    }

    fn go(&mut self, at: Timestamp, off: bool, cut: bool) {
        let was_away = self.off || self.cut;
        (self.off, self.cut) = (off, cut);
        match (was_away, off || cut) {
            (false, true) => self.away = Some(at),
            (true, false) => self.back = Some(at),
            _ => {}
        }
    }

    fn is_away(&self) -> bool {
        self.off || self.cut || self.left.is_some()
    }

    /// Returns how many of its runs the server must know at least: what was before it went away, or all.
    fn known_runs(&self, now: Timestamp, in_peace: bool) -> usize {
        let is_back_for_long =
            self.back.is_none_or(|back| now.duration_since(back) > SignedDuration::from_mins(30));
        if !self.is_away() && is_back_for_long {
            return self.runs.len();
        }
        // Where the server failed, what was before may wait on the node still: it was acknowledged by nobody.
        if !in_peace {
            return 0;
        }
        let until = [self.away, self.left].into_iter().flatten().min().unwrap_or(now);
        self.runs.iter().filter(|(at, _)| *at < until).count()
    }
}

fn ask<T: DeserializeOwned>(fleet: &Fleet, path: &str) -> T {
    let (status, body) = fleet.curl().with_token(fleet.administrator()).get(path);
    assert_eq!(status, 200, "{path}: {body}");
    serde_json::from_str(&body).expect("an answer as JSON")
}

/// Each episode that ended is in one event, and what begins and ends by turns does so in the events of each node.
fn events_agree_with_what_is_stored(fleet: &Fleet) {
    let ended_by_events = "select coalesce(sum(jsonb_array_length(detail -> 'clauses') + (detail ->> 'more')::int), 0) from event where kind = 'drift_ended'";
    let ended = "select count(*) from episode where closed_at is not null and closed_as <> 'retired'";
    let (by_events, stored) = (fleet.query(ended_by_events), fleet.query(ended));
    assert_eq!(by_events, stored, "episodes that ended");
    assert_ne!(stored, "0");
    for (begins, ends) in [("silent", "checked_in_again"), ("run_failed", "run_recovered")] {
        let twice = fleet.query(&format!(
            "select count(*) from (select kind, lag(kind) over (partition by node order by id) as before from event where kind in ('{begins}', '{ends}')) of_node
                 where kind = before or before is null and kind = '{ends}'"
        ));
        assert_eq!(twice, "0", "{begins} and {ends} by turns");
        assert_ne!(
            fleet.query(&format!("select count(*) from event where kind = '{begins}'")),
            "0",
            "{begins}"
        );
    }
}

#[test]
fn crowd_truth_equals_reports() {
    // More happens than usual, so that a few hours show all of it.
    let rates = Rates { drift: 4.0, failure: 1.0, off: 0.5, cut: 1.0, leave: 0.2, join: 0.1, slow: 0.05 };
    let fleet = live(Plan { rates, ..Plan::of(NODES, 7) }, 110, true, |_| {});
    let log = fleet.log();
    assert!(!log.contains("ERROR"), "{log}");
    events_agree_with_what_is_stored(&fleet);
    // The command line on the server's machine goes by the system's clock.
    fleet.query(
        "alter table event disable trigger user; alter table audit_chain disable trigger user;
                 delete from audit_chain; delete from event where who like '%on the server''s machine'",
    );
    assert_eq!(
        fleet.query(&format!("select count(*) from ({}) leaked", leaks(&fleet))),
        "0",
        "{}",
        fleet.query(&leaks(&fleet))
    );
}

#[test]
fn a_story_happens_to_a_crowd_and_a_kept_one_goes_on_where_it_was() {
    let plan = Plan { rates: Rates::none(), keeps_connections: true, ..Plan::of(6, 3) };
    let mut world = World::gather(plan.clone());
    world.live(60);
    let shell = "file:/etc/kiosk/shell.conf".to_owned();
    let ended = "select count(*) from episode where closed_as = 'corrected'";
    let mut befall = |node: &str, deed: Deed| world.crowd.befall(node, &deed).expect("it can be done");
    assert!(befall("kiosk-auken-10", Deed::Change(shell.clone())));
    assert!(befall("kiosk-brisk-10", Deed::Change(shell.clone())));
    assert!(befall("kiosk-brisk-10", Deed::Restore(shell)));
    assert!(!befall("kiosk-auken-99", Deed::Cut), "there is no such node");
    world.live(30);
    assert_eq!(world.fleet.query(ended), "1", "what is put back in time is never found");

    let kept = world.folder.path().join("crowd.json");
    assert!(world.crowd.befall("kiosk-corran-10", &Deed::Cut).expect("it can be done"));
    world.crowd.keep(&kept).expect("it is kept");
    let (whole, heard) = ("select count(*) from run", "select sum(count) from heard");
    let before = (world.fleet.query(whole), world.fleet.query(heard).parse::<u64>().expect("a number"));
    let now = world.crowd.now() + SignedDuration::from_hours(5);
    let moved = MovedClock::create(&world.folder.path().join("clock"), now).expect("a clock");
    let operator = Operator::new(&world.fleet.people_url(), &world.fleet.ca, world.fleet.administrator())
        .expect("an operator");
    world.crowd = Crowd::come_back(plan, operator, Pace::Moved(moved), &kept).expect("it is read");
    world.live(30);
    assert_eq!(world.fleet.query(whole), before.0, "nothing new is found: their disks are as they were");
    assert!(
        world.fleet.query(heard).parse::<u64>().expect("a number") >= before.1 + 5,
        "they check in again"
    );
    assert_eq!(
        world.fleet.query("select name from node join node_now n on n.node = id where n.heard_at < (select max(heard_at) from node_now) - interval '4 hours'"),
        "kiosk-corran-10",
        "the one that is cut off stays so"
    );
    assert_eq!(
        world.fleet.query("select count(*) from node_now where duplicate_identity_since is not null"),
        "0"
    );
}

#[test]
#[ignore = "takes minutes: make test-long"]
fn two_thousand_nodes_lose_nothing_whatever_becomes_of_the_database() {
    let rates = Rates { drift: 6.0, failure: 2.0, off: 2.0, cut: 2.0, leave: 0.0, join: 0.0, slow: 0.05 };
    let mut blows = [0; 4];
    let mut disk = None;
    let fleet = live(Plan { rates, ..Plan::of(2_000, 11) }, 20, false, |fleet| {
        let secs = |secs| std::thread::sleep(std::time::Duration::from_secs(secs));
        let kind = blows.iter().sum::<usize>() % blows.len();
        match kind {
            0 => fleet.crash_database(),
            1 => {
                fleet.pause_database(true);
                secs(6);
                fleet.pause_database(false);
            }
            2 => {
                fleet.let_database_in(false);
                secs(3);
                fleet.let_database_in(true);
            }
            _ => {
                let disk = disk.get_or_insert_with(|| SmallDisk::under(fleet));
                disk.fill(fleet);
                secs(3);
                disk.make_room(fleet);
            }
        }
        blows[kind] += 1;
        secs(8);
    });
    let full = if disk.as_ref().is_some_and(SmallDisk::is_real) {
        "had a full disk"
    } else {
        "took no changes, in place of a full disk: only root can mount one"
    };
    println!("the database crashed, was paused, let nobody in and {full}: {blows:?} times");
    assert!(blows.iter().all(|times| *times > 0), "{blows:?}");
    assert_eq!(fleet.curl().get("/ready").0, 200);
}

#[test]
#[ignore = "takes minutes: make test-long"]
fn two_thousand_nodes_go_on_after_the_database_is_restored() {
    let rates = Rates { drift: 6.0, failure: 2.0, off: 2.0, cut: 2.0, leave: 0.0, join: 0.0, slow: 0.05 };
    let mut world = World::gather(Plan { rates, ..Plan::of(2_000, 13) });
    world.live(20);
    world.fleet.back_up();
    // Generations that the restored database knows nothing of.
    serve_quays(&world.fleet, "1.4.0");
    world.live(20);
    world.fleet.put_back_while_serving();
    world.live(40);
    let recovery: serde_json::Value = ask(&world.fleet, "/api/recovery");
    assert!(recovery["recovering"].is_object(), "{recovery}");
    let (status, shown) = world
        .fleet
        .curl()
        .with_token(world.fleet.administrator())
        .post("/api/recovery/end", r#"{"although_not_heard": true}"#);
    assert_eq!(status, 200, "{shown}");
    world.live(60);
    let now = world.crowd.now();
    let mut same = 0;
    for (name, life) in world.lives() {
        let is_here = !life.is_away()
            && life.back.is_none_or(|back| now.duration_since(back) > SignedDuration::from_mins(40));
        let (true, Some((_, last))) = (is_here, life.runs.last()) else { continue };
        let node: serde_json::Value = ask(&world.fleet, &format!("/api/nodes/{name}"));
        assert_eq!(
            (&node["run_status"], &node["last_contact"]),
            (&(*last).into(), &"on_time".into()),
            "{name}"
        );
        same += 1;
    }
    assert!(same > 1_000, "{same} nodes were there to be compared");
    assert_eq!(
        world.fleet.query("select count(*) from node_now where duplicate_identity_since is not null"),
        "0"
    );
    assert_eq!(world.fleet.query("select count(*) from node where revoked_at is not null"), "0");
    println!("{same} nodes are known as they are after the restore");
}

/// A small file system with the tables of a fleet's database, which can be filled. Without root's rights nothing can be mounted:
/// the database then takes no changes instead.
struct SmallDisk(Option<tempfile::TempDir>);

impl SmallDisk {
    fn under(fleet: &Fleet) -> Self {
        let folder = tempfile::tempdir().expect("a folder");
        let run = |program: &str, arguments: &[&str]| {
            Command::new(program).args(arguments).status().is_ok_and(|status| status.success())
        };
        let path = folder.path().to_str().expect("a path").to_owned();
        if !run("mount", &["-t", "tmpfs", "-o", "size=700m,mode=0755", "tmpfs", &path]) {
            return Self(None);
        }
        fleet.move_database_to(folder.path());
        Self(Some(folder))
    }

    fn is_real(&self) -> bool {
        self.0.is_some()
    }

    fn fill(&self, fleet: &Fleet) {
        let Some(folder) = &self.0 else { return fleet.let_database_be_changed(false) };
        let mut file = fs::File::create(folder.path().join("fill")).expect("a file");
        let block = vec![0; 64 * 1024];
        while file.write_all(&block).is_ok() {}
        while file.write_all(&block[..512]).is_ok() {}
    }

    fn make_room(&self, fleet: &Fleet) {
        let Some(folder) = &self.0 else { return fleet.let_database_be_changed(true) };
        fs::remove_file(folder.path().join("fill")).expect("the file is removed");
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        if let Some(folder) = &self.0 {
            let _ = Command::new("umount").arg("--lazy").arg(folder.path()).status();
        }
    }
}

/// A server by a moved clock, and a crowd that has joined it.
struct World {
    fleet: Fleet,
    runtime: tokio::runtime::Runtime,
    crowd: Crowd,
    folder: tempfile::TempDir,
}

impl World {
    fn gather(plan: Plan) -> Self {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let folder = tempfile::tempdir().expect("a folder");
        let moved =
            MovedClock::create(&folder.path().join("clock"), FROM.parse().expect("a time")).expect("a clock");
        let fleet = Fleet::start_by(moved.path());
        serve_quays(&fleet, "1.3.0");
        let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
        let operator =
            Operator::new(&fleet.people_url(), &fleet.ca, fleet.administrator()).expect("an operator");
        let truth = folder.path().join("truth.jsonl");
        let crowd = runtime
            .block_on(Crowd::gather(plan, operator, Pace::Moved(moved), Some(&truth), &mut |_| ()))
            .expect("all join");
        Self { fleet, runtime, crowd, folder }
    }

    fn live(&mut self, mins: i64) {
        self.runtime
            .block_on(self.crowd.live(SignedDuration::from_mins(mins), &mut |_| ()))
            .expect("they live");
    }

    /// Returns what truly happened to each node, as it was written down.
    fn lives(&self) -> BTreeMap<String, Life> {
        let written = fs::read_to_string(self.folder.path().join("truth.jsonl")).expect("the truth");
        let mut facts: Vec<Fact> =
            written.lines().map(|line| serde_json::from_str(line).expect("a fact")).collect();
        assert_eq!(facts, self.crowd.facts(), "the file holds the whole truth");
        let mut lives: BTreeMap<String, Life> = BTreeMap::new();
        facts.sort_by_key(|fact| fact.at);
        facts.iter().for_each(|fact| lives.entry(fact.node.clone()).or_default().add(fact));
        lives
    }
}

/// Lets a crowd live for twice this many minutes, between which another release is served, and holds what the server says against
/// what truly happened; meanwhile `blow` is called again and again.
fn live(plan: Plan, mins: i64, in_peace: bool, mut blow: impl FnMut(&Fleet) + Send) -> Fleet {
    // Joining and leaving is an operator's doing, who does not try again.
    let somebody_leaves = plan.rates.leave > 0.0;
    let nodes = plan.nodes;
    let mut world = World::gather(plan);
    for release in ["1.4.0", ""] {
        let ends = AtomicBool::new(false);
        let World { fleet, runtime, crowd, .. } = &mut world;
        std::thread::scope(|scope| {
            scope.spawn(|| {
                while !ends.load(Ordering::Relaxed) {
                    blow(fleet);
                    std::thread::sleep(std::time::Duration::from_millis(100));
                }
            });
            runtime.block_on(crowd.live(SignedDuration::from_mins(mins), &mut |_| ())).expect("they live");
            ends.store(true, Ordering::Relaxed);
        });
        if !release.is_empty() {
            serve_quays(&world.fleet, release);
        }
    }
    // In peace, what waits is delivered when the nodes try again, at the latest after half an hour.
    world.live(40);

    let lives = world.lives();
    let now = world.crowd.now();
    let mut seen = Seen { in_peace, ..Seen::default() };
    lives.iter().for_each(|(name, life)| seen.compare(&world.fleet, name, life, now));
    assert!(
        lives.len() >= nodes && seen.is_rich() && (seen.revoked > 0 || !somebody_leaves),
        "{} nodes, {seen:?}",
        lives.len()
    );
    println!("{} nodes: {seen:?}", lives.len());
    world.fleet
}

/// How much of what there was to see was seen.
#[derive(Debug, Default)]
struct Seen {
    runs: BTreeMap<&'static str, usize>,
    episodes: usize,
    silent: usize,
    revoked: usize,
    /// Whether the server was there all the time.
    in_peace: bool,
}

impl Seen {
    /// Holds what the server says of a node against its life.
    fn compare(&mut self, fleet: &Fleet, name: &str, life: &Life, now: Timestamp) {
        let rows: Vec<RunSummary> = ask(fleet, &format!("/api/nodes/{name}/runs"));
        let shown: Vec<String> = rows
            .iter()
            .rev()
            .flat_map(|row| {
                std::iter::repeat_n(
                    serde_json::json!(row.status).as_str().expect("a status is a word").to_owned(),
                    row.count.try_into().expect("a small count"),
                )
            })
            .collect();
        let truly: Vec<&'static str> =
            life.runs.iter().map(|(_, status)| *status).take(shown.len()).collect();
        assert_eq!(shown, truly, "{name}: {:?}", life.runs);
        let must = life.known_runs(now, self.in_peace);
        assert!(
            shown.len() >= must,
            "{name}: {} of {} runs are known, {must} must be",
            shown.len(),
            life.runs.len()
        );
        truly.iter().for_each(|status| *self.runs.entry(status).or_default() += 1);

        let episodes: Vec<Episode> = ask(fleet, &format!("/api/nodes/{name}/episodes"));
        let known_until = life.runs.get(shown.len().wrapping_sub(1)).map(|(at, _)| *at);
        let found: BTreeSet<(String, Timestamp)> = life
            .changed
            .iter()
            .filter(|(at, _)| Some(*at) <= known_until)
            .map(|(at, address)| (address.clone(), *at))
            .collect();
        assert_eq!(episodes.len(), found.len(), "{name}: {episodes:?} and {found:?}");
        for (address, at) in &found {
            let is_it = |episode: &&Episode| {
                episode.address == *address && episode.in_line_until <= *at && *at <= episode.detected_at
            };
            assert!(
                episodes.iter().any(|episode| is_it(&episode)),
                "{name}: {address} was changed at {at}: {episodes:?}"
            );
        }
        self.episodes += episodes.len();

        let node: serde_json::Value = ask(fleet, &format!("/api/nodes/{name}"));
        assert_eq!(node["labels"]["simulated"], "yes");
        let away_since = [life.away, life.left].into_iter().flatten().max().filter(|_| life.is_away());
        if life.left.is_some() {
            assert_eq!(node["status"], "revoked", "{name}");
            self.revoked += 1;
        } else if away_since.is_some_and(|since| now.duration_since(since) > SignedDuration::from_mins(60)) {
            // A node that left before its first check-in was never silent.
            let expected = if node["last_contact"] == "never_reported" && shown.is_empty() && !self.in_peace {
                "never_reported"
            } else {
                "silent"
            };
            assert_eq!(node["last_contact"], expected, "{name}: away since {away_since:?}");
            self.silent += 1;
        } else if !life.is_away()
            && life.back.is_none_or(|back| now.duration_since(back) > SignedDuration::from_mins(30))
        {
            assert_eq!(node["last_contact"], "on_time", "{name}");
        }
    }

    fn is_rich(&self) -> bool {
        self.runs.len() == 4
            && self.runs.values().all(|count| *count > 20)
            && self.episodes > 50
            && self.silent > 3
    }
}

/// Returns SQL that names every column that holds a time of the system's clock and not of the crowd's. The tests' own persons
/// and their tokens are made without the server.
fn leaks(fleet: &Fleet) -> String {
    fleet.query(
        "select string_agg(format('select %L as place where exists (select 1 from %I where %I between now() - interval ''1 day'' and now() + interval ''8 days'')',
             table_name || '.' || column_name, table_name, column_name), ' union all ')
         from information_schema.columns join information_schema.tables using (table_schema, table_name)
         where table_schema = 'public' and data_type = 'timestamp with time zone' and table_type = 'BASE TABLE'
             and table_name not in ('_sqlx_migrations', 'person', 'token')",
    )
}
