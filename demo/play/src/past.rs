//! The past of the simulated nodes: 30 days that they live through with the real server, whose clock is moved. Nothing is written
//! into the database: agents, client and server do it all.

use crate::fleet::Fleet;
use crate::stage_play::{self, Release};
use constans_clock::MovedClock;
use constans_core::run::{RelatedKind, RelatedRecord};
use constans_crowd::{Crowd, CrowdError, Deed, Operator, Pace, Plan, Rates};
use jiff::civil::Time;
use jiff::{SignedDuration, Timestamp, ToSpan as _};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use tokio::runtime::Runtime;

/// How long the past is.
const DAYS: i64 = 30;
/// How often simulated nodes check in and run in the past, and at the end of it.
const INTERVALS_SECS: [u64; 2] = [10 * 3_600, 1_800];
/// Tariffs of gates, which only a person puts back.
const TARIFFS: &str = "file:/etc/gate/tariffs.csv";
/// The configuration of the kiosks' shell.
const SHELL: &str = "file:/etc/kiosk/shell.conf";
/// What every node shows to whoever signs in: release 1.4.0 of `quay-base` changes it.
const ISSUE: &str = "file:/etc/issue";
/// The gates whose tariffs are changed in one night.
const CHANGED_GATES: [&str; 5] =
    ["gate-corran-11", "gate-corran-13", "gate-corran-15", "gate-corran-17", "gate-corran-19"];

/// The account that is signed in meanwhile.
const NIGHT_ACCOUNT: &str = "dock-service";

/// What happens by chance to each node, beside the story.
const CHANCE: Rates =
    Rates { drift: 0.04, failure: 0.004, off: 0.01, cut: 0.01, leave: 0.0, join: 0.0, slow: 0.0 };

/// Returns where the simulated nodes are kept while no demo runs.
pub fn kept_in(folder: &Path) -> PathBuf {
    folder.join("crowd.json")
}

/// Returns how many simulated nodes the demo has: 200, or what `CROWD` says.
pub fn size_of_environment() -> io::Result<usize> {
    match std::env::var("CROWD") {
        Ok(text) => text
            .parse()
            .map_err(|_| io::Error::other(format!("CROWD is `{text}`: write a number of nodes, 0 for none"))),
        Err(_) => Ok(200),
    }
}

/// Returns a plan of so many simulated nodes.
pub fn plan(nodes: usize) -> Plan {
    let step = SignedDuration::from_mins(5);
    Plan { rates: CHANCE, step, keeps_connections: true, ..Plan::of(nodes, 7) }
}

/// Returns the operator of the crowd.
pub fn operator(fleet: &Fleet) -> io::Result<Operator> {
    let (url, ca, token) = fleet.access();
    Operator::new(&url, ca, token).map_err(io::Error::other)
}

/// Returns the clock of the past, at its beginning: midnight in UTC, 30 days ago.
pub fn clock(folder: &Path) -> io::Result<MovedClock> {
    let today = Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).date();
    let begin = (today - DAYS.days()).in_tz("UTC").map_err(io::Error::other)?.timestamp();
    MovedClock::create(&folder.join("clock"), begin)
}

/// Has so many simulated nodes live through the past, and keeps them.
pub fn tell(fleet: &Fleet, clock: MovedClock, nodes: usize, runtime: &Runtime) -> io::Result<()> {
    let begin = clock.clock()?.now();
    println!("simulating {DAYS} days of {nodes} nodes, once");
    let (ilse, tor) = (fleet.token_of("ilse.maren")?, fleet.token_of("tor.havik")?);
    stage_play::publish(fleet, &ilse, Release::First)?;
    stage_play::make_stages(fleet, &tor)?;
    stage_play::set_groups(fleet, &tor)?;
    stage_play::set_controls(fleet, &tor)?;
    set_interval(fleet, &tor, INTERVALS_SECS[0])?;
    let mut quiet = |_: &str| ();
    let gathering = Crowd::gather(plan(nodes), operator(fleet)?, Pace::Moved(clock), None, &mut quiet);
    let crowd = runtime.block_on(gathering).map_err(|error| in_words(&error))?;
    let mut story = Story { fleet, runtime, crowd, begin, days_told: 0, ilse, tor };
    story.tell()?;
    story.crowd.keep(&kept_in(fleet.folder())).map_err(|error| in_words(&error))
}

/// Sets how often simulated nodes check in and run.
fn set_interval(fleet: &Fleet, token: &str, secs: u64) -> io::Result<()> {
    let file = fleet.folder().join("groups/simulated.toml");
    fs::write(
        &file,
        format!(
            "name = \"simulated\"\npriority = 30\nfilter = \"labels.simulated == 'yes'\"\n\n[settings]\ninterval_secs = {secs}\nrun_interval_secs = {secs}\n"
        ),
    )?;
    fleet.client_by(token, &["group", "set", stage_play::path(&file)]).map(|_| ())
}

/// Returns why a crowd does not go on, with the reason of the reason.
pub fn in_words(error: &CrowdError) -> io::Error {
    let reason = std::error::Error::source(&error).map(|reason| format!(": {reason}")).unwrap_or_default();
    io::Error::other(format!("the simulated nodes: {error}{reason}"))
}

/// What a gate has on record of the night at Corran: who signed in shortly before, and changed the tariffs.
fn on_record(now: Timestamp) -> [RelatedRecord; 2] {
    let record = |at, until, kind, text: String| RelatedRecord {
        at,
        until,
        kind,
        account: Some(NIGHT_ACCOUNT.to_owned()),
        text,
        source: "the journal (simulated)".to_owned(),
    };
    let minutes = SignedDuration::from_mins;
    let tariffs = TARIFFS.trim_start_matches("file:");
    [
        record(
            now - minutes(1),
            Some(now + minutes(2)),
            RelatedKind::SignIn,
            "over SSH from 192.0.2.40, by publickey".to_owned(),
        ),
        record(now, None, RelatedKind::Sudo, format!("as root: /usr/bin/tee {tariffs}")),
    ]
}

fn is_number(text: &str) -> bool {
    text.bytes().all(|byte| byte.is_ascii_digit())
}

struct Story<'f> {
    fleet: &'f Fleet,
    runtime: &'f Runtime,
    crowd: Crowd,
    begin: Timestamp,
    days_told: i64,
    /// The token of Ilse Maren, who writes and previews.
    ilse: String,
    /// The token of Tor Havik, who approves.
    tor: String,
}

impl Story<'_> {
    fn tell(&mut self) -> io::Result<()> {
        self.retire(3, "gate-dunmoy-41")?;
        self.until(6, 8, 30)?;
        self.befall("bridge-tern-11", &Deed::Cut)?;
        self.until(9, 17, 10)?;
        self.befall("bridge-tern-11", &Deed::Reach)?;
        self.retire(11, "kiosk-eldrey-40")?;
        self.until(14, 6, 0)?;
        self.befall("bridge-gannet-15", &Deed::Cut)?;
        self.two_old_kiosks()?;
        self.retire(16, "depot-print-13")?;
        self.until(18, 20, 0)?;
        self.befall("bridge-gannet-15", &Deed::Reach)?;
        self.next_release_in_the_harbour()?;
        self.a_night_at_corran()?;
        self.next_release_for_all()?;
        self.a_busy_kiosk()?;
        self.until_now()
    }

    /// The screens of two kiosks are too old for their configuration, and may deviate until five days from now.
    fn two_old_kiosks(&mut self) -> io::Result<()> {
        self.until(15, 10, 0)?;
        let kiosks = self.names(|name| name.starts_with("kiosk-auken-"));
        let [first, second, ..] = kiosks.as_slice() else { return Ok(()) };
        let until = (self.begin + SignedDuration::from_hours(24 * (DAYS + 5))).to_string();
        let because = "two old screens, replaced when the pier is rebuilt";
        let asked: [&str; 12] = [
            "concession",
            "ask",
            "--node",
            first,
            "--node",
            second,
            "--clause",
            SHELL,
            "--until",
            &until,
            "--because",
            because,
        ];
        self.fleet.client_by(&self.ilse, &asked)?;
        self.fleet.client_by(&self.tor, &["concession", "approve", "D1"])?;
        // They learn of its freeze at their next check-in.
        self.until(15, 22, 0)?;
        for kiosk in [first, second] {
            self.befall(kiosk, &Deed::Change(SHELL.to_owned()))?;
        }
        Ok(())
    }

    /// Release 1.4.0 reaches half of the nodes on Brisk: the disks of the others are full, which is found two days later.
    fn next_release_in_the_harbour(&mut self) -> io::Result<()> {
        self.until(20, 9, 0)?;
        let full: Vec<String> =
            self.names(|name| name.contains("brisk") && !name.ends_with(['0', '2', '4', '6', '8']));
        for node in &full {
            self.befall(
                node,
                &Deed::Fail(ISSUE.to_owned(), "No space left on device (simulated)".to_owned()),
            )?;
        }
        stage_play::publish(self.fleet, &self.ilse, Release::Second)?;
        self.serve("harbour", "five islands are on the banner")?;
        self.until(22, 10, 0)?;
        for node in &full {
            self.befall(node, &Deed::Mend(ISSUE.to_owned()))?;
        }
        Ok(())
    }

    /// Within 20 minutes the tariffs of five gates are changed, while one account is signed in; they are put back in the afternoon.
    fn a_night_at_corran(&mut self) -> io::Result<()> {
        self.until(22, 23, 40)?;
        for gate in CHANGED_GATES {
            for record in on_record(self.crowd.now()) {
                self.befall(gate, &Deed::OnRecord(record))?;
            }
            self.befall(gate, &Deed::Change(TARIFFS.to_owned()))?;
            self.live(SignedDuration::from_mins(4))?;
        }
        self.until(23, 14, 0)?;
        for gate in CHANGED_GATES {
            self.befall(gate, &Deed::Restore(TARIFFS.to_owned()))?;
        }
        Ok(())
    }

    fn next_release_for_all(&mut self) -> io::Result<()> {
        self.until(24, 10, 0)?;
        self.serve("open-water", "the harbour had it for four days")
    }

    /// The configuration of a kiosk is changed again and again, and put right each time.
    fn a_busy_kiosk(&mut self) -> io::Result<()> {
        for day in 26..=28 {
            for hour in (9..21).step_by(2) {
                self.until(day, hour, 5)?;
                self.befall("kiosk-dunmoy-10", &Deed::Change(SHELL.to_owned()))?;
            }
        }
        self.until(29, 2, 0)?;
        self.befall("bridge-puffin-19", &Deed::Cut)
    }

    /// Until now, in the end with the interval that they keep: each learns of it within the one before.
    fn until_now(&mut self) -> io::Result<()> {
        let nearly = Timestamp::now() - SignedDuration::from_hours(11);
        self.live(nearly.duration_since(self.crowd.now()))?;
        set_interval(self.fleet, &self.tor, INTERVALS_SECS[1])?;
        // What is left then passes while the server starts again, by the system's clock.
        let is_nearly_now =
            |now: Timestamp| Timestamp::now().duration_since(now) < SignedDuration::from_secs(2);
        while !is_nearly_now(self.crowd.now()) {
            self.live(Timestamp::now().duration_since(self.crowd.now()))?;
        }
        Ok(())
    }

    /// Ilse Maren asks for release 1.4.0 in a stage, and Tor Havik hands it out.
    fn serve(&self, stage: &str, because: &str) -> io::Result<()> {
        let release = Release::Second.name();
        let asked = self
            .fleet
            .client_by(&self.ilse, &["stage", "serve", stage, &release, "--request", "--because", because])?;
        let is_change = |word: &&str| word.len() > 1 && word.strip_prefix('C').is_some_and(is_number);
        let change = asked.split(|letter: char| !letter.is_ascii_alphanumeric()).find(is_change);
        let change = change.ok_or_else(|| io::Error::other(format!("no change was requested:\n{asked}")))?;
        self.fleet.client_by(&self.tor, &["change", "approve", change]).map(|_| ())
    }

    fn retire(&mut self, day: i64, node: &str) -> io::Result<()> {
        self.until(day, 11, 0)?;
        if self.names(|name| name == node).is_empty() {
            return Ok(());
        }
        self.befall(node, &Deed::Leave)?;
        self.fleet.client_by(&self.tor, &["node", "retire", node]).map(|_| ())
    }

    fn names(&self, is_one: impl Fn(&str) -> bool) -> Vec<String> {
        self.crowd.names().filter(|name| is_one(name)).map(str::to_owned).collect()
    }

    /// Does something to a node; a smaller crowd may not have it.
    fn befall(&mut self, node: &str, deed: &Deed) -> io::Result<()> {
        self.crowd.befall(node, deed).map(|_| ()).map_err(|error| in_words(&error))
    }

    /// Lives until a day of the past, at this time in UTC.
    fn until(&mut self, day: i64, hour: i8, minute: i8) -> io::Result<()> {
        let time = Time::new(hour, minute, 0, 0).map_err(io::Error::other)?;
        let at = self.begin + SignedDuration::from_hours(24 * day) + time.duration_since(Time::midnight());
        self.live(at.duration_since(self.crowd.now()))
    }

    fn live(&mut self, span: SignedDuration) -> io::Result<()> {
        let end = self.crowd.now() + span;
        while self.crowd.now() < end {
            let next_day = self.begin + SignedDuration::from_hours(24 * (self.days_told + 1));
            let span = next_day.min(end).duration_since(self.crowd.now());
            self.runtime.block_on(self.crowd.live(span, &mut |_| ())).map_err(|error| in_words(&error))?;
            if self.crowd.now() >= next_day {
                self.days_told += 1;
                println!("  day {} of {DAYS}", self.days_told);
            }
        }
        Ok(())
    }
}
