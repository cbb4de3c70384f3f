//! A random history: what happens is written down as the truth, and what the server would be sent of it is put into intake.

use crate::database::Database;
use crate::random::Random;
use crate::truth::{Conceded, Fact, Found, OVERDUE, Truths, Version, address};
use constans_clock::MovedClock;
use constans_core::digest::{Digest, of_value};
use constans_server::intake::report::{plain, take_in};
use constans_server::jobs::day_figures::bring_up_to_date;
use constans_server::store::compliance::{Moment, OnlyClauses};
use constans_server::store::concession::{self, AskedRow};
use constans_server::store::effective_state::{self, NewClause};
use constans_server::store::narrowing::Narrowing;
use constans_server::store::{node, run};
use constans_wire::report::RunReport;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use sqlx::{AssertSqlSafe, PgConnection};
use std::collections::{BTreeMap, BTreeSet};
use uuid::Uuid;

/// When every history begins: 2026-10-01T16:00:00Z. The end of a day comes into most of them, so that days are kept, chained and deleted.
pub const BEGIN: Timestamp = Timestamp::constant(1_790_870_400, 0);
const STATES: usize = 5;
const VERSIONS: usize = 3;
const EVENTS: usize = 120;
const SEVERITIES: [&str; 4] = ["low", "medium", "critical", "critical"];
const CONTROLS: [&[&str]; 4] = [&[], &["SK-1"], &["SK-9"], &["SK-1", "SK-9"]];

/// A report that waits to be delivered.
struct Waiting {
    report: RunReport,
    /// Where in the facts of its node the run is.
    fact: usize,
}

struct Node {
    name: String,
    id: Uuid,
    /// How far its clock is ahead, in milliseconds.
    clock_off: i64,
    epoch: Uuid,
    sequence: u64,
    state: Option<usize>,
    is_there: bool,
    is_cut: bool,
    last_run: Timestamp,
    spool: Vec<Waiting>,
    /// The last run that was delivered.
    delivered: Option<(Uuid, u64)>,
    facts: Vec<Fact>,
    /// What is found of each clause now, and since when it is so.
    found: BTreeMap<Version, Found>,
}

/// A history that was told to the end.
pub struct Tale {
    pub truth: Truths,
    /// How many runs the server could notice that no report came of, as their sequences have it.
    pub missing_runs: u64,
    /// How often the database was put back.
    pub put_back: usize,
    end: Timestamp,
    moments: Vec<Timestamp>,
}

struct Teller<'t> {
    connection: PgConnection,
    clock: &'t MovedClock,
    random: &'t mut Random,
    now: Timestamp,
    states: Vec<(i64, Digest, Vec<Version>)>,
    severities: Vec<&'static str>,
    nodes: Vec<Node>,
    concessions: Vec<Conceded>,
    missing_runs: u64,
    put_back: usize,
}

impl Tale {
    /// Has a history happen.
    pub async fn tell(database: &Database, clock: &MovedClock, random: &mut Random) -> Self {
        let addresses = usize::try_from(random.between(2, 8)).unwrap();
        let severities: Vec<_> = (0..addresses).map(|_| random.one_of(&SEVERITIES)).collect();
        // What a clause satisfies may be otherwise in each state.
        let usual: Vec<_> = (0..addresses).map(|_| random.one_of(&CONTROLS).to_vec()).collect();
        let of_state = |random: &mut Random| {
            let of_clause = |usual: &Vec<&'static str>| {
                if random.percent(80) { usual.clone() } else { random.one_of(&CONTROLS).to_vec() }
            };
            usual.iter().map(of_clause).collect()
        };
        let controls: Vec<Vec<Vec<&'static str>>> = (0..STATES).map(|_| of_state(&mut *random)).collect();
        let mut teller = Teller {
            connection: database.connection().await,
            clock,
            random,
            now: BEGIN,
            states: Vec::new(),
            severities,
            nodes: Vec::new(),
            concessions: Vec::new(),
            missing_runs: 0,
            put_back: 0,
        };
        teller.clock.set(BEGIN).unwrap();
        let month = |month: i8| jiff::civil::date(2026, month, 1);
        run::make_partition(&mut teller.connection, month(10), month(11)).await.unwrap();
        teller.make_states(&controls).await;
        for number in 0..teller.random.between(1, 6) {
            teller.come(&format!("kiosk-auken-{number}")).await;
        }
        let mut moments = vec![BEGIN];
        for _ in 0..EVENTS {
            let wait = teller.random.one_of(&[1, 20, 90, 600, 1_500, 4_000]);
            let wait = 1 + teller.random.between(0, wait);
            teller.pass(SignedDuration::from_secs(wait));
            teller.event().await;
            if teller.random.percent(10) {
                bring_up_to_date(&database.pool).await.unwrap();
            }
            moments.push(teller.now);
        }
        let truth = Truths {
            concessions: teller.concessions,
            nodes: teller.nodes.into_iter().map(|node| (node.name, node.facts)).collect(),
            severities: teller.severities,
            controls,
        };
        Self { truth, missing_runs: teller.missing_runs, put_back: teller.put_back, end: teller.now, moments }
    }

    /// Returns two moments to compare, as known at the same one.
    pub fn moments(&self, random: &mut Random) -> [Moment; 2] {
        let (one, other) = (random.one_of(&self.moments), random.one_of(&self.moments));
        let known_at = if random.percent(50) { self.end } else { one.max(other) };
        [one.min(other), one.max(other)].map(|at| Moment { at, known_at, is_now: false })
    }

    /// Returns which clauses to ask about: all of them every other time.
    pub fn only(&self, random: &mut Random) -> Option<OnlyClauses> {
        let place = random.below(self.truth.severities.len() as u64);
        match random.below(6) {
            0 => Some(OnlyClauses::Control("SK-1".to_owned())),
            1 => Some(OnlyClauses::Severity("critical".to_owned())),
            2 => Some(OnlyClauses::Clause(address(usize::try_from(place).unwrap()))),
            _ => None,
        }
    }

    /// Returns a moment to ask about: now, now of the past, or of the past as known at another moment since.
    pub fn moment(&self, random: &mut Random, question: usize) -> Moment {
        let any = |random: &mut Random| {
            let near = SignedDuration::from_micros(random.between(-1, 1));
            (random.one_of(&self.moments) + near).clamp(BEGIN, self.end)
        };
        let (one, other) = (any(random), any(random));
        match question {
            0 | 1 => Moment { at: self.end, known_at: self.end, is_now: question == 0 },
            2..4 => Moment { at: one, known_at: self.end, is_now: false },
            4..6 => Moment { at: one, known_at: one, is_now: false },
            _ => Moment { at: one.min(other), known_at: one.max(other), is_now: false },
        }
    }
}

impl Teller<'_> {
    fn pass(&mut self, time: SignedDuration) {
        self.now += time;
        self.clock.set(self.now).unwrap();
    }

    async fn make_states(&mut self, controls: &[Vec<Vec<&'static str>>]) {
        for (at, controls) in controls.iter().enumerate() {
            let mut versions = Vec::new();
            for of in 0..self.severities.len() {
                if at == 0 || self.random.percent(75) {
                    let version = usize::try_from(self.random.below(VERSIONS as u64)).unwrap();
                    versions.push((of, version));
                }
            }
            let clauses: Vec<NewClause> = versions
                .iter()
                .map(|version| {
                    let body = json!({
                        "address": address(version.0), "wanted": wanted(*version), "severity": self.severities[version.0],
                        "satisfies": controls[version.0], "origins": [{ "kit": "quay-base", "version": "1.3.0", "baseline": "floor" }],
                    });
                    NewClause { digest: of_value("c1", &body), body: body.to_string(), names: Vec::new(), is_counted: true }
                })
                .collect();
            effective_state::store_clauses(&mut self.connection, &clauses.iter().collect::<Vec<_>>())
                .await
                .unwrap();
            let digests: Vec<&str> = clauses.iter().map(|clause| clause.digest.as_str()).collect();
            let ids: BTreeMap<String, i64> = effective_state::clause_ids(&mut self.connection, &digests)
                .await
                .unwrap()
                .into_iter()
                .collect();
            let ids: Vec<i64> = digests.iter().map(|digest| ids[*digest]).collect();
            let digest = of_value("s2", &json!([at, digests]));
            effective_state::store(&mut self.connection, digest.as_str(), &ids, &[]).await.unwrap();
            let id = effective_state::ids(&mut self.connection, &[digest.as_str()]).await.unwrap()[0].1;
            self.states.push((id, digest, versions));
        }
    }

    async fn come(&mut self, name: &str) {
        let id = Uuid::now_v7();
        node::add(&mut self.connection, id, name).await.unwrap();
        let key = id.simple();
        self.sql(&format!(
            "update node_now set overdue_secs = {} where node = '{id}';
             insert into node_key (spki_digest, node, certificate, ends_at, issued_at) values ('\\x{key}', '{id}', '', 'infinity', now())",
            OVERDUE.as_secs()
        ))
        .await;
        let facts = vec![Fact::Came { at: self.now }];
        self.nodes.push(Node {
            name: name.to_owned(),
            id,
            clock_off: 0,
            epoch: Uuid::now_v7(),
            sequence: 0,
            state: None,
            is_there: true,
            is_cut: false,
            last_run: self.now,
            spool: Vec::new(),
            delivered: None,
            facts,
            found: BTreeMap::new(),
        });
    }

    async fn sql(&mut self, sql: &str) {
        sqlx::raw_sql(AssertSqlSafe(sql.to_owned())).execute(&mut self.connection).await.unwrap();
    }

    async fn event(&mut self) {
        let of = usize::try_from(self.random.below(self.nodes.len() as u64)).unwrap();
        match self.random.below(100) {
            0..12 => self.hand_out(of).await,
            12..16 => self.leave_or_come_back(of).await,
            16..20 => self.set_clock(of).await,
            20..26 => self.nodes[of].is_cut = !self.nodes[of].is_cut,
            26..28 => self.lose_memory(of),
            28..30 => self.lose_a_report(of),
            30..33 => self.concede().await,
            33..34 => self.put_back().await,
            34..47 => self.drift(of),
            _ => self.run(of),
        }
        self.deliver(of).await;
    }

    /// The database is put back to where it was some runs ago: what was learned since is lost, and the agents will not send it again.
    async fn put_back(&mut self) {
        let since = self.now;
        let delivered: Vec<_> = self.nodes.iter().map(|node| node.delivered).collect();
        let missing_runs = self.missing_runs;
        self.sql("begin").await;
        for _ in 0..self.random.between(1, 12) {
            let wait = self.random.between(1, 900);
            self.pass(SignedDuration::from_secs(wait));
            let of = usize::try_from(self.random.below(self.nodes.len() as u64)).unwrap();
            if self.random.percent(20) {
                self.drift(of);
            }
            self.run(of);
            self.deliver(of).await;
        }
        self.sql("rollback").await;
        self.missing_runs = missing_runs;
        self.put_back += 1;
        for (node, delivered) in self.nodes.iter_mut().zip(delivered) {
            node.delivered = delivered;
            for fact in &mut node.facts {
                if let Fact::Ran { learned_at, .. } = fact {
                    learned_at.take_if(|learned| *learned > since);
                }
            }
        }
    }

    /// Gives a node another state, or none.
    async fn hand_out(&mut self, of: usize) {
        let state = if self.random.percent(6) { None } else { Some(self.random.below(5) as usize) };
        let (id, now) = (self.nodes[of].id, self.now);
        if !self.nodes[of].is_there {
            return;
        }
        let row = state.map_or_else(|| "null".to_owned(), |state| self.states[state].0.to_string());
        self.sql(&format!(
            "with placed as (insert into placement (digest, stage, groups, mode, settings, settings_digest, overdue_secs)
                     values ('p', 'harbour', '[]', 'enforce', '{{}}', '', 3600) on conflict (digest) do update set stage = excluded.stage returning id),
                 made as (insert into change (epoch, kind, what, who, edits, status, drafted_at, ended_at)
                     values (1, 'group', 'set', 'tor.havik', '[]', 'handed_out', '{now}', '{now}') returning no)
            , given as (insert into change_node (change, node, state, placement, is_new) select no, '{id}', {row}, placed.id, true from made, placed)
             insert into node_wanted (node, state, placement, epoch, counter, settings_since) select '{id}', {row}, placed.id, 1, 1, '{now}' from placed
                 on conflict (node) do update set state = excluded.state"
        ))
        .await;
        let desired = state.map(|state| self.states[state].2.clone());
        let change: i64 =
            sqlx::query_scalar("select max(no) from change").fetch_one(&mut self.connection).await.unwrap();
        self.nodes[of].facts.push(Fact::Desired { at: now, state: desired, no: state, change });
        // Some learn it late.
        if state.is_some() && !self.nodes[of].is_cut {
            self.nodes[of].state = state;
        }
    }

    /// A concession is approved, covers other nodes, or ends.
    async fn concede(&mut self) {
        let in_force = self.concessions.iter().position(|one| one.from <= self.now && self.now < one.until);
        match in_force {
            Some(at) if self.random.percent(60) => self.cover_otherwise_or_end(at).await,
            _ if self.concessions.len() < 4 => self.approve().await,
            _ => {}
        }
    }

    fn some_nodes(&mut self) -> (BTreeSet<String>, Narrowing) {
        let chosen: Vec<usize> = (0..self.nodes.len()).filter(|_| self.random.percent(60)).collect();
        let names = chosen.iter().map(|of| self.nodes[*of].name.clone()).collect();
        (names, Narrowing::Only(chosen.iter().map(|of| self.nodes[*of].id).collect()))
    }

    async fn approve(&mut self) {
        let of_all = self.random.percent(30);
        let one = usize::try_from(self.random.below(self.severities.len() as u64)).unwrap();
        let addresses: BTreeSet<usize> =
            if of_all { (0..self.severities.len()).collect() } else { [one].into() };
        let clauses = [if of_all { "file:/etc/skerry/*".to_owned() } else { address(one) }];
        let patterns = [clauses[0].replace('*', "%")];
        let covers_unknown = self.random.percent(30);
        let until = self.now + SignedDuration::from_secs(self.random.between(60, 200_000));
        let asked = AskedRow {
            clauses: &clauses,
            patterns: &patterns,
            filter: None,
            because: "the old screens stay",
            covers_unknown,
            asked_by: "ilse.maren",
            until,
        };
        let no = concession::add(&mut self.connection, &asked).await.unwrap();
        assert_eq!(no, self.concessions.len() as i64 + 1);
        let (names, nodes) = self.some_nodes();
        concession::cover(&mut self.connection, no, &nodes).await.unwrap();
        let nodes = vec![(self.now, names)];
        self.pass(SignedDuration::from_secs(1));
        let is_approved =
            concession::decide(&mut self.connection, no, "tor.havik", true, None).await.unwrap();
        assert!(is_approved);
        self.concessions.push(Conceded { addresses, covers_unknown, from: self.now, until, nodes });
    }

    async fn cover_otherwise_or_end(&mut self, at: usize) {
        let no = at as i64 + 1;
        if self.random.percent(30) {
            assert!(concession::end(&mut self.connection, no, "ilse.maren", "rebuilt").await.unwrap());
            self.concessions[at].until = self.now;
        } else {
            let (names, nodes) = self.some_nodes();
            concession::cover(&mut self.connection, no, &nodes).await.unwrap();
            self.concessions[at].nodes.push((self.now, names));
        }
    }

    async fn leave_or_come_back(&mut self, of: usize) {
        let (id, now) = (self.nodes[of].id, self.now);
        self.nodes[of].is_there = !self.nodes[of].is_there;
        if self.nodes[of].is_there {
            node::let_back(&mut self.connection, id, id.as_bytes()).await.unwrap();
            self.nodes[of].facts.push(Fact::Came { at: now });
        } else {
            node::revoke(&mut self.connection, id).await.unwrap();
            self.nodes[of].facts.push(Fact::Left { at: now });
        }
    }

    /// The node's clock is wrong by something else, which its next check-in shows: what waits was dated by it as it was.
    async fn set_clock(&mut self, of: usize) {
        if !self.nodes[of].spool.is_empty() {
            return;
        }
        let clock_off = self.random.one_of(&[0, 0, 400, -90_000, 7_200_000, -86_400_000]);
        self.nodes[of].clock_off = clock_off;
        let id = self.nodes[of].id;
        self.sql(&format!("update node_now set clock_off_ms = {clock_off} where node = '{id}'")).await;
    }

    fn lose_memory(&mut self, of: usize) {
        self.nodes[of].epoch = Uuid::now_v7();
        self.nodes[of].sequence = 0;
    }

    fn lose_a_report(&mut self, of: usize) {
        if !self.nodes[of].spool.is_empty() {
            self.nodes[of].spool.remove(0);
        }
    }

    /// Someone changes something on the node, or it cannot be read any more, or is well again.
    fn drift(&mut self, of: usize) {
        let Some(state) = self.nodes[of].state else { return };
        let versions = &self.states[state].2;
        if versions.is_empty() {
            return;
        }
        let version = versions[self.random.below(versions.len() as u64) as usize];
        let found = self.random.one_of(&[Found::Different, Found::Different, Found::Unseen, Found::Alike]);
        self.nodes[of].found.insert(version, found);
    }

    /// The node runs, whole or in part, and its report waits to be delivered.
    fn run(&mut self, of: usize) {
        let now = self.now;
        let is_full = self.random.percent(85);
        let is_killed = self.random.percent(4);
        let corrects = self.random.percent(40);
        let node = &self.nodes[of];
        let Some(state) = node.state else { return };
        let (_, digest, versions) = &self.states[state];
        let part: BTreeSet<Version> =
            versions.iter().copied().filter(|_| is_full || self.random.percent(50)).collect();
        let off = SignedDuration::from_millis(node.clock_off);
        let (mut clauses, mut found, mut doubts, mut corrected) =
            (Vec::new(), BTreeMap::new(), Vec::new(), Vec::new());
        for version in part {
            let is = node.found.get(&version).copied().unwrap_or(Found::Alike);
            let has_window = is == Found::Different && node.last_run < now && self.random.percent(70);
            let window = has_window.then(|| json!({ "from": node.last_run + off, "to": now + off }));
            let is_corrected = is == Found::Different && corrects;
            let before = last_found(&node.facts, version, &node.spool);
            if window.is_some() && before != Some(Found::Different) && before != Some(Found::Unseen) {
                doubts.push((version, node.last_run, now));
            }
            clauses.push(clause(version, self.severities[version.0], is, is_corrected, window));
            found.insert(version, if is_corrected { Found::Alike } else { is });
            corrected.extend(is_corrected.then_some(version));
        }
        if is_killed {
            (clauses, found, doubts) = (Vec::new(), BTreeMap::new(), Vec::new());
            corrected.clear();
        }
        let report = self.report(of, digest, is_full, is_killed, &clauses);
        let node = &mut self.nodes[of];
        node.sequence += 1;
        node.last_run = now;
        for version in corrected {
            node.found.insert(version, Found::Alike);
        }
        let is_full = is_full && !is_killed;
        node.facts.push(Fact::Ran { at: now, learned_at: None, is_full, found, doubts });
        node.spool.push(Waiting { report, fact: node.facts.len() - 1 });
    }

    fn report(
        &self,
        of: usize,
        digest: &Digest,
        is_full: bool,
        is_killed: bool,
        clauses: &[Value],
    ) -> RunReport {
        let node = &self.nodes[of];
        let is_in_line = clauses.iter().all(|clause| clause["outcome"] == "in_line") && !is_killed;
        let in_line = clauses.iter().filter(|clause| clause["outcome"] == "in_line").count();
        let counts = json!({ "in_line": in_line, "corrected": 0, "out_of_line": clauses.len() - in_line, "blocked": 0, "failed": 0, "unsupported": 0, "idle": 0 });
        let mut report = json!({
            "form": 1, "run": Uuid::now_v7(), "machine": node.name, "agent": "0.1.0", "wanted": { "digest": digest, "releases": [] },
            "mode": "enforce", "started_by": "interval", "partial": !is_full,
            "began": self.now + SignedDuration::from_millis(node.clock_off), "took_us": 1_000, "memory_epoch": node.epoch, "sequence": node.sequence + 1,
            "status": if is_killed { "failed" } else if is_in_line { "in_line" } else { "drift_found" },
            "counts": counts, "clauses": clauses,
        });
        if is_killed {
            report["did_not_end"] = json!({ "reached": 1, "of": 3 });
        }
        serde_json::from_value(report).unwrap()
    }

    /// What waits at a node that reaches the server is delivered, in order, some of it twice.
    async fn deliver(&mut self, of: usize) {
        // Some wait for a while, less long than what they found counts.
        if self.nodes[of].is_cut || !self.nodes[of].is_there || self.random.percent(30) {
            return;
        }
        for Waiting { report, fact } in std::mem::take(&mut self.nodes[of].spool) {
            self.pass(SignedDuration::from_millis(20));
            let delivered = (report.memory_epoch, report.sequence);
            self.missing_runs += match self.nodes[of].delivered.replace(delivered) {
                None => 0,
                Some((epoch, sequence)) if epoch == delivered.0 => delivered.1 - sequence - 1,
                Some(_) => delivered.1 - 1,
            };
            let bytes = serde_json::to_vec(&report).unwrap();
            let times = if self.random.percent(10) { 2 } else { 1 };
            let id = self.nodes[of].id;
            for _ in 0..times {
                // As the server does: many nodes' equal runs in one statement, all others alone.
                let equal = plain(&report, id, id.as_bytes().to_vec());
                let taken = run::lengthen_plain(&mut self.connection, &Vec::from_iter(equal)).await.unwrap();
                if taken.is_empty() {
                    take_in(&mut self.connection, id, report.clone(), &bytes).await.unwrap();
                }
            }
            let Fact::Ran { learned_at, .. } = &mut self.nodes[of].facts[fact] else { panic!("it ran") };
            *learned_at = Some(self.now);
        }
    }
}

/// What the last examination that the server knows, or will know, found of a clause.
fn last_found(facts: &[Fact], version: Version, spool: &[Waiting]) -> Option<Found> {
    facts
        .iter()
        .enumerate()
        .filter_map(|(at, fact)| match fact {
            Fact::Ran { learned_at, found, .. }
                if learned_at.is_some() || spool.iter().any(|waiting| waiting.fact == at) =>
            {
                found.get(&version).copied()
            }
            _ => None,
        })
        .next_back()
}

fn wanted(version: Version) -> Digest {
    of_value("w1", &json!([address(version.0), version.1]))
}

fn clause(
    version: Version,
    severity: &str,
    found: Found,
    is_corrected: bool,
    window: Option<Value>,
) -> Value {
    let (verdict, outcome, decision) = match found {
        Found::Alike => ("alike", "in_line", json!({ "due": "nothing" })),
        Found::Different if is_corrected => ("different", "corrected", json!({ "due": "correct" })),
        Found::Different => {
            ("different", "out_of_line", json!({ "due": "leave", "why": { "reason": "observing" } }))
        }
        Found::Unseen => ("unseen", "unsupported", json!({ "due": "nothing" })),
    };
    let mut result = json!({
        "address": address(version.0), "severity": severity, "origins": [], "wanted": wanted(version), "verdict": verdict,
        "decision": decision, "outcome": outcome, "took_us": 10,
    });
    if found == Found::Different {
        result["cause"] = if window.is_some() { "drift".into() } else { "rollout".into() };
    }
    if let Some(window) = window {
        result["drift_window"] = window;
    }
    result
}
