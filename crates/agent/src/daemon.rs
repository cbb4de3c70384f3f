//! The agent as a daemon: checks in, runs, delivers, and sleeps until the next of them is due.

mod drilling;
mod due;
mod following;
mod reachable;
mod restarting;
mod sweeping;
mod telling;
mod upgrading;
mod way_back;

use crate::error::{AgentError, ServerSeen};
use crate::inspection::do_inspection;
use crate::join::{Asked, JoinAttempt};
use crate::joining::Joining;
use crate::journal::{Journal, run_words};
use crate::membership::Membership;
use crate::memory_store::Store;
use crate::network_part::{Connect, ThroughNetworkPart};
use crate::noted::{Contact, DaemonNote, RestartNote, StartNote};
use crate::run_loop::{Persistence, RunWatcher, Runner, left_behind};
use crate::self_test::do_self_test;
use crate::served::{Served, Takeover};
use crate::server_link::{CheckInContents, CheckedIn, ServerLink, Way};
use crate::spool::Spool;
use crate::state_dir::{SetAside, StateDir};
use crate::under_way::record_unended;
use crate::upgrade;
use crate::way;
use constans_core::run::{AgentUpgrade, Mode, Selection, next_opening, next_opening_of_reactions};
use constans_core::settings::AgentSettings;
use constans_core::state::Clause;
use constans_host::{Host, Machine, Stalls, restart};
use constans_terminal::harmless;
use constans_wire::exit::Exit;
use constans_wire::inspection::InspectionOffer;
use constans_wire::report::{RunReport, StartedBy};
use constans_wire::wake::WaitAnswer;
use due::Due;
use following::FollowedRun;
use jiff::{SignedDuration, Timestamp};
use log::Level;
use reachable::{HeldEnd, Next, Reachable};
use sd_notify::NotifyState;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use sweeping::SweepRun;
use tokio::signal::unix::{Signal, SignalKind, signal};
use tokio::sync::watch;
use tokio::task::JoinSet;

/// How long a run waits for another one to end.
const PATIENCE: Duration = Duration::from_secs(60);
/// How long is waited after a round that did not end.
const PAUSE_AFTER_ERROR: Duration = Duration::from_secs(60);
/// How long is waited between two questions whether an operator has approved.
const PAUSE_WHILE_WAITING: Duration = Duration::from_secs(10);

/// A daemon on a host.
pub struct Daemon<H> {
    state_dir: StateDir,
    /// What it acts on.
    pub host: H,
    connect: Arc<dyn Connect>,
    journal: Journal,
    due: Due,
    since: Timestamp,
    contact: Option<Contact>,
    /// Whether a server was reached the last time that one was asked for.
    is_reached: bool,
    restart: Option<RestartNote>,
    /// Until when the journal has what was set aside.
    told_until: Timestamp,
    /// In how many seconds a server must be reached again after a change, if the command line says so.
    reach_within: Option<Duration>,
    /// In how many seconds a new version of the agent must have reported.
    report_within_secs: u64,
    /// What the server was told last of an upgrade of the agent.
    told_upgrade: Option<AgentUpgrade>,
    reachable: Reachable,
    /// The way to the servers of the last round, as long as a request is to be held on it.
    way: Option<Way>,
    /// The request that is held.
    held: JoinSet<HeldEnd>,
    /// How often the server woke this node.
    woken: watch::Sender<u64>,
    /// Whether somebody follows its runs, as the server said last.
    is_followed: bool,
    /// How long the last whole run in each mode took since this daemon began.
    took: HashMap<Mode, Duration>,
}

/// Runs until it receives a signal to stop, or for one round.
///
/// # Errors
///
/// Returns what keeps it from going on: no fleet, or a folder that cannot be written. A server that is away does not.
pub async fn run(
    state_dir: &StateDir,
    machine: Machine,
    once: bool,
    reach_within: Option<Duration>,
    report_within_secs: Option<u64>,
) -> Result<(), AgentError> {
    // Asked to end, it finishes the run that it has begun.
    let no_signals = |error: std::io::Error| AgentError::new(format!("cannot listen for signals: {error}"));
    let mut ended = signal(SignalKind::terminate()).map_err(no_signals)?;
    let mut interrupted = signal(SignalKind::interrupt()).map_err(no_signals)?;
    // The guard of an upgrade asks for it, where no service manager restarts the agent.
    let mut replaced = signal(SignalKind::hangup()).map_err(no_signals)?;
    let journal = Journal::open(&machine.acted_on);
    let is_joined = Membership::read(state_dir)?.is_some();
    if !is_joined && let Some(joining) = Joining::read(state_dir)?.filter(|_| !once) {
        let is_node = tokio::select! {
            is_node = wait_to_join(state_dir, &machine, joining, &journal) => is_node,
            _ = ended.recv() => false,
            _ = interrupted.recv() => false,
        };
        if !is_node {
            return Ok(());
        }
    }
    Membership::of(state_dir)?;
    let seed = state_dir.now().as_nanosecond().unsigned_abs() as u64;
    let mut daemon = Daemon::new(state_dir.clone(), machine, Arc::new(ThroughNetworkPart), journal, seed)?;
    daemon.reach_within = reach_within;
    daemon.report_within_secs = report_within_secs.unwrap_or(daemon.report_within_secs);
    let program = upgrading::installed_program();
    // It is ready, and known as going on, before its first round: that may wait for a server that is away.
    daemon.note()?;
    tell_service_manager(&daemon.journal, &[NotifyState::Ready]);
    loop {
        daemon.turn(once).await?;
        if once {
            break;
        }
        tokio::select! {
            is_over = daemon.rest(&mut ended, &mut interrupted) => if is_over { break },
            _ = replaced.recv() => return Err(upgrading::execute(&program)),
        }
    }
    tell_service_manager(&daemon.journal, &[NotifyState::Stopping]);
    Ok(())
}

/// Asks until an operator has decided, and tells the service manager that it does; returns whether the machine is a node now. One that was
/// denied is none, and asking again would change nothing.
async fn wait_to_join(state_dir: &StateDir, machine: &Machine, joining: Joining, journal: &Journal) -> bool {
    let waiting =
        format!("waiting for approval as {}, key fingerprint {}", joining.name, joining.fingerprint);
    tell_service_manager(journal, &[NotifyState::Ready, NotifyState::Status(&waiting)]);
    journal.say(Level::Info, &waiting);
    let mut attempt = JoinAttempt::of(joining);
    loop {
        match attempt.ask(state_dir, machine).await {
            Ok(Asked::Joined) => return true,
            Ok(Asked::Waiting { .. }) => {}
            Err(error) if error.exit == Exit::Refused => {
                journal.say(Level::Error, &error.line());
                return false;
            }
            Err(error) => journal.say(Level::Warn, &format!("{}; asking again", error.line())),
        }
        tokio::time::sleep(PAUSE_WHILE_WAITING).await;
    }
}

/// Tells the service manager how the agent is, if one started it (sd_notify(3)).
fn tell_service_manager(journal: &Journal, state: &[NotifyState<'_>]) {
    if let Err(error) = sd_notify::notify(state) {
        journal.say(Level::Warn, &format!("cannot notify the service manager: {error}"));
    }
}

/// Tells whether the node or only the agent was started since the last time.
fn started_by(state_dir: &StateDir) -> Result<StartedBy, AgentError> {
    let (before, boot_id) = (StartNote::read(state_dir)?, restart::boot_id());
    let is_new = before.boot_id.is_some() && before.boot_id != boot_id;
    let now = StartNote { boot_id, ..before.clone() };
    if now != before {
        now.keep(state_dir)?;
    }
    Ok(if is_new { StartedBy::Boot } else { StartedBy::AfterRestart })
}

/// Returns how the agent is set now; the defaults before the server sent settings.
fn settings(state_dir: &StateDir) -> AgentSettings {
    Served::read(state_dir).ok().flatten().map(|served| served.settings).unwrap_or_default()
}

impl<H: Host> Daemon<H> {
    /// Prepares a daemon, for which a check-in and a run are due at once. `seed` sets its chances apart from those of others.
    ///
    /// # Errors
    ///
    /// Returns what of the agent's own folder cannot be read or written.
    pub fn new(
        state_dir: StateDir,
        host: H,
        connect: Arc<dyn Connect>,
        journal: Journal,
        seed: u64,
    ) -> Result<Self, AgentError> {
        let since = state_dir.now();
        let due = Due::from_start(state_dir.clock().clone(), seed, started_by(&state_dir)?);
        Ok(Self {
            state_dir,
            host,
            connect,
            journal,
            due,
            since,
            contact: None,
            is_reached: false,
            restart: None,
            told_until: since - SignedDuration::from_millis(1),
            reach_within: None,
            report_within_secs: upgrade::REPORT_WITHIN_SECS,
            told_upgrade: None,
            reachable: Reachable::default(),
            way: None,
            held: JoinSet::new(),
            woken: watch::Sender::new(0),
            is_followed: false,
            took: HashMap::new(),
        })
    }

    /// Rests until something is due, or the server wakes it. Returns whether it was asked to end meanwhile.
    async fn rest(&mut self, ended: &mut Signal, interrupted: &mut Signal) -> bool {
        loop {
            self.hold(self.way.clone());
            let state_dir = &self.state_dir;
            tokio::select! {
                is_over = self.due.sleep(ended, interrupted, || settings(state_dir)) => return is_over,
                Some(ended) = self.held.join_next() => {
                    if let Ok(end) = ended {
                        self.hold_ended(end);
                    }
                }
            }
        }
    }

    /// Has the server hold a request, if it should and none is under way. Returns whether it now begins to.
    fn hold(&mut self, way: Option<Way>) -> bool {
        let Some(way) = way else { return false };
        let Some(request) = self.reachable.begin() else { return false };
        let woken = self.woken.clone();
        self.held.spawn(async move {
            tokio::time::sleep(request.wait).await;
            let began = Instant::now();
            let answer = way.wait(&request.url).await;
            if let Ok(WaitAnswer { wake: Some(_) }) = answer {
                woken.send_modify(|times| *times += 1);
            }
            HeldEnd::of(&request, began, answer)
        });
        true
    }

    /// A request that the server held has ended.
    fn hold_ended(&mut self, end: HeldEnd) {
        let why_not = self.reachable.why_not().map(str::to_owned);
        let Some(next) = self.reachable.ended(end, self.due.chance_now()) else { return };
        match next {
            Next::CheckIn => {
                self.journal.say(Level::Info, "the server asks for a check-in");
                self.due.wants_check_in();
            }
            Next::Again(wait) => {
                if let (None, Some(why)) = (&why_not, self.reachable.why_not()) {
                    let again = format!(
                        "{why}; it cannot have this node check in at once, trying again in {} s",
                        wait.as_secs()
                    );
                    self.journal.say(Level::Info, &again);
                }
            }
            Next::NotNow(why) => {
                self.journal.say(Level::Info, &format!("{why}; waiting for the next check-in"));
            }
        }
        if why_not.as_deref() != self.reachable.why_not()
            && let Err(error) = self.note()
        {
            self.journal.say(Level::Error, &error.message);
        }
    }

    /// Ends the daemon, and returns what it acted on.
    pub fn into_host(self) -> H {
        self.host
    }

    /// Returns when something is due next.
    pub fn next(&self) -> Timestamp {
        self.due.check_in.min(self.due.run)
    }

    /// What keeps one round from its end, as a full disk or another run that does not end, may be over at the next.
    fn could_not_go_on(&mut self, error: &AgentError) {
        self.due.not_before(self.state_dir.now() + PAUSE_AFTER_ERROR);
        self.journal.say(
            Level::Error,
            &format!("{}; retrying at {:.0}", error.line(), self.due.check_in.min(self.due.run)),
        );
    }

    fn note(&self) -> Result<(), AgentError> {
        let due = &self.due;
        let note = DaemonNote {
            pid: std::process::id(),
            since: self.since,
            next_check_in: due.check_in,
            next_run: due.run,
            next_run_for: due.run_for_words(),
            unanswered: due.unanswered,
            contact: self.contact.clone(),
            restart: self.restart.clone(),
            not_wakeable: self.reachable.why_not().map(str::to_owned),
        };
        note.keep(&self.state_dir)
    }

    /// Does what is due, and notes how the daemon is. What keeps a round from its end, and may be over at the next, is told in
    /// the journal, unless this is the only one.
    ///
    /// # Errors
    ///
    /// Returns what ends the daemon.
    pub async fn turn(&mut self, is_only_one: bool) -> Result<(), AgentError> {
        match self.round().await {
            Err(error) if is_only_one || error.server.is_dismissal() => return Err(error),
            Err(error) => self.could_not_go_on(&error),
            Ok(()) => {}
        }
        if let Err(error) = self.note() {
            self.journal.say(Level::Error, &error.message);
        }
        let told_until = self.told_until;
        for SetAside { name, at, because } in
            self.state_dir.all_set_aside().into_iter().filter(|aside| aside.at > told_until)
        {
            self.told_until = at;
            self.journal.say(
                Level::Error,
                &format!("{name} in the state folder is unusable and was set aside: {because}"),
            );
        }
        Ok(())
    }

    /// One round: checks in and runs as far as either is due; what cuts the way to the server is put back. What is due is done
    /// whatever the result of the rest is.
    async fn round(&mut self) -> Result<(), AgentError> {
        let connect = self.connect.clone();
        let before = self.way.take();
        let link = ServerLink::open_by(&*connect, &self.state_dir, before.clone()).await;
        let ended = self.round_over(&link).await;
        // What did not lead to a server is prepared anew.
        let way = link.ok().map(|link| link.way()).filter(|_| self.is_reached && self.reachable.is_wanted());
        if !Way::are_one(before.as_ref(), way.as_ref()) {
            self.held.abort_all();
            self.reachable.left();
        }
        self.way = way;
        ended
    }

    async fn round_over(&mut self, link: &Result<ServerLink<'_>, AgentError>) -> Result<(), AgentError> {
        let mut may_sweep = false;
        if self.due.check_in <= self.state_dir.now() {
            (self.is_reached, may_sweep) = self.check_in(link).await?;
        }
        self.attend_to_drill(link.as_ref().ok()).await?;
        // An agent that was cut off between a change and the next contact ends here what it began to guard.
        self.guard_way().await?;
        if let Ok(link) = link {
            let is_left = self.upgrade_if_due(link).await?;
            self.tell_upgrade()?;
            if is_left {
                return Ok(());
            }
        }
        if let (true, Ok(link)) = (may_sweep, link) {
            self.sweep(link).await?;
        }
        if self.due.run > self.state_dir.now() {
            return Ok(());
        }
        let started_by = self.due.begin_run(&settings(&self.state_dir));
        let Some(served) = Served::read(&self.state_dir)? else { return Ok(()) };
        let lock = self.state_dir.lock("daemon", PATIENCE, |_| ())?;
        let report = self.run_followed(served, started_by, None, link.as_ref().ok()).await?;
        drop(lock);
        self.run_ended(&report, link.as_ref().ok()).await
    }

    /// Delivers the report of a run, and does what follows from the run.
    async fn run_ended(
        &mut self,
        report: &RunReport,
        link: Option<&ServerLink<'_>>,
    ) -> Result<(), AgentError> {
        let delivered = match link {
            Some(link) => link.deliver_soon(&self.state_dir).await?,
            None => false,
        };
        self.is_reached = delivered;
        self.note_drill(report)?;
        self.attend_to_drill(link).await?;
        if delivered {
            upgrade::note_reported(&self.state_dir)?;
            self.tell_upgrade()?;
        }
        let waits = if delivered { "" } else { "; the report stays in the spool until the server answers" };
        self.journal.say_run(level_of(report), &run_words(report), waits);
        tell_service_manager(
            &self.journal,
            &[NotifyState::Status(&format!("{}, {:.0}", report.status.words(), self.state_dir.now()))],
        );
        self.guard_way().await?;
        self.restart_if_due()
    }

    /// Checks in, and returns whether a server answered, and whether sweeps can be begun that wait.
    async fn check_in(
        &mut self,
        link: &Result<ServerLink<'_>, AgentError>,
    ) -> Result<(bool, bool), AgentError> {
        let before = settings(&self.state_dir);
        let next = self.due.next_check_in(&before);
        let told_upgrade = upgrade::reported(&self.state_dir)?;
        match self.ask(link, next).await {
            Ok(checked_in) => {
                self.told_upgrade = told_upgrade;
                let recovering = if checked_in.recovering {
                    ", which is recovering; continuing with the last desired state"
                } else {
                    ""
                };
                self.journal.say(
                    Level::Info,
                    &format!("connected to {} as {}{recovering}", checked_in.url, checked_in.name),
                );
                for failed in &checked_in.failed {
                    self.journal.say(Level::Warn, &format!("{}; retrying at {next:.0}", failed.line()));
                }
                way::reached(&self.state_dir);
                self.due.answered(next);
                self.reachable.checked_in(
                    &checked_in.url,
                    checked_in.wake,
                    settings(&self.state_dir).wakeable,
                );
                if checked_in.takeover == Some(Takeover::New) {
                    self.due.wants_run(StartedBy::NewState);
                    self.due.rhythm_changed(&before, &settings(&self.state_dir));
                }
                if checked_in.has_news {
                    self.confirm(link).await;
                }
                self.is_followed = checked_in.is_followed;
                if let Ok(link) = link {
                    for offer in &checked_in.inspections {
                        self.inspect(link, &checked_in.url, offer).await;
                    }
                }
                if let Some(offer) = &checked_in.drill
                    && let Err(error) = self.drill(offer)
                {
                    self.journal.say(Level::Warn, &error.about("the drill was not begun").line());
                }
                if let (Some(offer), Ok(link)) = (&checked_in.self_test, link) {
                    self.journal
                        .say(Level::Info, &format!("self-test T{}: comparing, nothing is altered", offer.no));
                    let (url, host) = (&checked_in.url, &mut self.host);
                    if let Err(error) = do_self_test(link, url, offer, &self.state_dir, host).await {
                        self.journal.say(Level::Warn, &error.about("the self-test was not reported").line());
                    }
                }
                self.contact = Some(Contact { url: checked_in.url, at: self.state_dir.now() });
                Ok((true, checked_in.may_sweep))
            }
            Err(error) if error.server.is_dismissal() => Err(error),
            Err(error) => {
                self.due.unanswered(next, &before);
                let again = format!("{:.0}", self.due.check_in);
                self.journal.say(
                    Level::Warn,
                    &format!(
                        "{}; continuing with the last desired state, retrying at {again}",
                        error.message
                    ),
                );
                let is_there = error.server == ServerSeen::Answering;
                if is_there {
                    way::reached(&self.state_dir);
                }
                Ok((is_there, false))
            }
        }
    }

    /// Tells what is there, and in the journal that somebody asked.
    async fn inspect(&mut self, link: &ServerLink<'_>, url: &str, offer: &InspectionOffer) {
        let thing = offer.name.as_deref().unwrap_or("all");
        self.journal.say(
            Level::Info,
            &harmless(&format!("inspection I{}: telling what is there, {} {thing}", offer.no, offer.kind)),
        );
        if let Err(error) = do_inspection(link, url, offer, &mut self.host).await {
            self.journal.say(Level::Warn, &error.about("what is there was not told").line());
        }
    }

    /// Tells the server what this node has now, so that it need not wait for the next check-in to learn it. If that fails, it does.
    async fn confirm(&mut self, link: &Result<ServerLink<'_>, AgentError>) {
        if let Ok(confirmed) = self.ask(link, self.due.check_in).await
            && confirmed.takeover == Some(Takeover::New)
        {
            self.due.wants_run(StartedBy::NewState);
        }
    }

    async fn ask(
        &self,
        link: &Result<ServerLink<'_>, AgentError>,
        next: Timestamp,
    ) -> Result<CheckedIn, AgentError> {
        let contents = CheckInContents::of(&self.state_dir, &self.host, next)?;
        match link {
            Ok(link) => link.check_in(&self.state_dir, contents).await,
            Err(error) => Err(error.clone()),
        }
    }

    /// Returns how long the last run in a mode took, if it was one of everything, as this is.
    fn last_took(&self, mode: Mode, part: &Selection) -> Option<Duration> {
        self.took.get(&mode).copied().filter(|_| *part == Selection::Whole)
    }

    /// Runs, and tells what comes out while it goes on to whoever follows.
    async fn run_followed(
        &mut self,
        served: Served,
        started_by: StartedBy,
        sweep: Option<&SweepRun<'_>>,
        link: Option<&ServerLink<'_>>,
    ) -> Result<RunReport, AgentError> {
        let (mode, part) = match sweep {
            Some(sweep) => (sweep.offer.order.mode, &sweep.part),
            None => (served.settings.mode, &Selection::Whole),
        };
        let last_took = self.last_took(mode, part);
        let mut followed = FollowedRun::new(self.state_dir.clock().clone(), self.is_followed, last_took);
        let way = link.filter(|_| self.is_reached && self.reachable.is_wanted()).map(ServerLink::way);
        // Who begins to follow meanwhile wakes it.
        if self.hold(way) {
            self.note()?;
        }
        let contact = self.contact.as_ref().filter(|_| self.is_reached);
        let telling = match (link, contact) {
            (Some(link), Some(contact)) => {
                Some(followed.tell(link.way(), &contact.url, self.woken.subscribe()))
            }
            _ => None,
        };
        let report = self.run_served(served, started_by, sweep, &mut followed)?;
        if !report.partial {
            self.took.insert(report.mode, Duration::from_micros(report.took_us));
        }
        if let Some(telling) = telling {
            telling.end(&report).await;
        }
        Ok(report)
    }

    /// Runs what is wanted, as it is set or as a sweep asks, puts the report into the spool, and returns when the next run is due. Nobody
    /// else runs meanwhile.
    fn run_served(
        &mut self,
        served: Served,
        started_by: StartedBy,
        sweep: Option<&SweepRun<'_>>,
        watcher: &mut dyn RunWatcher,
    ) -> Result<RunReport, AgentError> {
        if let Some(unended) = record_unended(&self.state_dir, self.host.acted_on())? {
            let words = unended.did_not_end.map(|unended| unended.words()).unwrap_or_default();
            self.journal.say(Level::Error, &format!("the run that began {:.0} {words}", unended.began));
        }
        let usual = served.run_settings(&self.state_dir, self.state_dir.now())?;
        let attic_mib = served.settings.attic_mib;
        let key = self.state_dir.key()?;
        let wanted = served.wanted(&self.state_dir)?;
        let memories = Store::of(&self.state_dir, &wanted.store).memories()?;
        self.host.prepare(&wanted.resolved.state, left_behind(&memories, &wanted.resolved.state));
        let acted_on = self.host.acted_on().clone();
        let mut runner = Runner {
            host: &mut self.host,
            state_dir: &self.state_dir,
            wanted: &wanted,
            key: &key,
            watcher,
            stalls: Stalls::to(move |what| Journal::open(&acted_on).say(Level::Warn, what)),
            started_by,
            reason: sweep.map(|sweep| sweep.offer.because.clone()),
            by: sweep.map(|sweep| sweep.offer.who.clone()),
            sweep: sweep.map(SweepRun::told),
            stop: sweep.map(|sweep| sweep.stop.clone()).unwrap_or_default(),
            guards_way: self.is_reached,
            attic_mib,
        };
        let (settings, part) = match sweep {
            None => (usual.clone(), Selection::Whole),
            Some(sweep) => {
                let observed = sweep.offer.observed.clone();
                let settings = sweep.offer.order.run_settings(usual.clone(), &sweep.part, observed);
                (settings, sweep.part.clone())
            }
        };
        let report = runner.run(settings, &part, Persistence::Everything)?;
        self.journal.tell_run(&report);
        Spool::of(&self.state_dir).add(&report.clone().for_server())?;
        let now = self.state_dir.now();
        if let Some(at) = next_opening(&report.clauses, &usual, now) {
            self.due.run_by(at, StartedBy::AnnouncedHour);
        }
        let is_due = |clause: &&Clause| report.due.iter().any(|due| due.target == clause.address);
        let due = wanted.resolved.state.clauses.iter().filter(is_due);
        if let Some(at) = next_opening_of_reactions(due, &usual, now) {
            self.due.run_by(at, StartedBy::DueReaction);
        }
        Ok(report)
    }
}

fn level_of(report: &RunReport) -> Level {
    if report.status == constans_core::run::Status::Failed { Level::Error } else { Level::Info }
}
