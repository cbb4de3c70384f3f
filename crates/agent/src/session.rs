//! `constans-agent observe` and `enforce`: runs of a baseline, a document, or the desired state from the server.

use crate::asking::{ask, on_network, place_words, signed_in_as, wait_for_lock};
use crate::repeated::{repeated_arguments, repeated_place};
use constans_agent::command_line::{EnforceArguments, Output, WantedArguments, WhereArguments};
use constans_agent::error::AgentError;
use constans_agent::journal::Journal;
use constans_agent::local::{Wanted, resolve_wanted, state_dir};
use constans_agent::memory_store::Store;
use constans_agent::run_loop::{Persistence, Runner, left_behind};
use constans_agent::served::Served;
use constans_agent::server_link::ServerLink;
use constans_agent::show::{May, Progress, next_step};
use constans_agent::spool::Spool;
use constans_agent::state_dir::{DEFAULT_FOLDER, RunLock, StateDir};
use constans_agent::under_way::record_unended;
use constans_core::digest::DigestKey;
use constans_core::run::{Decision, Mode, Part, RunSettings, Selection};
use constans_core::settings::AgentSettings;
use constans_core::state::{Clause, EffectiveState};
use constans_host::{Host as _, Machine, Stalls};
use constans_terminal::{Shown, count, show_run, style, styled};
use constans_wire::exit::Exit;
use constans_wire::report::{RunReport, StartedBy};
use std::collections::BTreeSet;
use std::io::IsTerminal as _;
use std::sync::Arc;

/// What one command on one machine works with.
struct Session {
    machine: Machine,
    state_dir: StateDir,
    wanted: Wanted,
    /// How the server has set this agent, and what holds for its runs; none for a local run.
    set: Option<(AgentSettings, RunSettings)>,
    key: DigestKey,
    part: Selection,
    reason: Option<String>,
    /// Whether grace and change window are opened.
    now: bool,
    gathers_related: bool,
    _lock: RunLock,
}

impl Session {
    fn open(arguments: &WantedArguments, what: &str) -> Result<Self, AgentError> {
        let is_local = arguments.what.kit.is_some() || arguments.what.file.is_some();
        let state_dir = open_state_dir(&arguments.place, is_local)?;
        if is_local && state_dir.is_joined() && what == "enforce" {
            return Err(AgentError::new("this node belongs to a server, which sets its desired state")
                .hint("use observe, or publish and assign the kit; without --kit, enforce applies the desired state of the server")
                .exit(Exit::Refused));
        }
        let key = state_dir.key()?;
        let lock = wait_for_lock(&state_dir, what, arguments.wait)?;
        let mut machine = Machine::open(&arguments.place.root, &state_dir.scratch())?;
        let served = if is_local { None } else { Some(served(&state_dir)?) };
        let set = match &served {
            Some(served) => {
                Some((served.settings.clone(), served.run_settings(&state_dir, state_dir.now())?))
            }
            None => None,
        };
        let wanted = match served {
            Some(served) => served.wanted(&state_dir)?,
            None => resolve_wanted(arguments, &machine, &state_dir, &key)?,
        };
        let memories = Store::of(&state_dir, &wanted.store).memories()?;
        machine.prepare(&wanted.resolved.state, left_behind(&memories, &wanted.resolved.state));
        let part = part(arguments, is_local, &wanted.resolved.state)?;
        let gathers_related = !arguments.no_related_records;
        Ok(Self {
            machine,
            state_dir,
            wanted,
            set,
            key,
            part,
            reason: None,
            now: false,
            gathers_related,
            _lock: lock,
        })
    }

    fn run(&mut self, mode: Mode, keeping: Persistence) -> Result<RunReport, AgentError> {
        if let Some(unended) = record_unended(&self.state_dir, &self.machine.acted_on)? {
            let words = unended.did_not_end.map(|unended| unended.words()).unwrap_or_default();
            eprintln!("the run that began {:.0} {words}", unended.began);
        }
        let mut progress = Progress::new();
        let mut say = |at: usize, total: usize, doing: &str, clause: &Clause| {
            progress.say(&format!("{} of {total}  {doing} {}", at + 1, clause.address));
        };
        let mut runner = Runner {
            host: &mut self.machine,
            state_dir: &self.state_dir,
            wanted: &self.wanted,
            key: &self.key,
            watcher: &mut say,
            stalls: Stalls::to(|what| eprintln!("{what}")),
            started_by: StartedBy::OperatorOnNode,
            reason: self.reason.clone(),
            by: signed_in_as(),
            sweep: None,
            stop: Arc::default(),
            guards_way: false,
            attic_mib: self
                .set
                .as_ref()
                .map_or_else(AgentSettings::default, |(settings, _)| settings.clone())
                .attic_mib,
        };
        let usual = self.set.as_ref().map_or_else(|| RunSettings::of(mode), |(_, settings)| settings.clone());
        let gathers_related = usual.gathers_related && self.gathers_related;
        let settings = RunSettings { mode, now: self.now, gathers_related, ..usual };
        let report = runner.run(settings, &self.part, keeping);
        progress.end();
        let report = report?;
        if keeping == Persistence::Everything {
            Journal::open(&self.machine.acted_on).tell_run(&report);
        }
        if self.set.is_some() && keeping == Persistence::Everything {
            Spool::of(&self.state_dir).add(&report.clone().for_server())?;
            if !on_network(async {
                ServerLink::open(&self.state_dir).await?.deliver_soon(&self.state_dir).await
            })? {
                eprintln!("the report stays in the spool until the server answers");
            }
        }
        Ok(report)
    }

    /// Returns what a person may do here next.
    fn may(&self) -> May {
        let is_observing = self.set.as_ref().is_some_and(|(settings, _)| settings.mode == Mode::Observe);
        May {
            is_joined: self.set.is_some(),
            is_observing,
            is_local_on_joined: self.set.is_none() && self.state_dir.is_joined(),
            can_be_asked: std::io::stdin().is_terminal(),
        }
    }

    fn show(&self, report: &RunReport, arguments: &WantedArguments, is_preview: bool) {
        match arguments.output {
            Output::Json => println!("{}", serde_json::to_string_pretty(report).expect("a report is JSON")),
            Output::Text => {
                let repeated = repeated_arguments(arguments);
                let place = repeated_place(&arguments.place);
                let excluded = &self.wanted.resolved.excluded;
                let shown = Shown { verbose: arguments.verbose, excluded, is_preview };
                anstream::print!("{}", show_run(report, &shown));
                if !is_preview {
                    anstream::println!(
                        "\n{} {}",
                        styled(style::STRONG, "Next:"),
                        next_step(report, &repeated, &place, self.may())
                    );
                }
            }
        }
    }
}

/// Opens the agent's own folder; without a kit or document this machine must belong to a fleet.
fn open_state_dir(place: &WhereArguments, is_local: bool) -> Result<StateDir, AgentError> {
    let usual = place.state_dir.clone().unwrap_or_else(|| place.root.join(DEFAULT_FOLDER));
    if !is_local && !usual.join("joined.json").exists() {
        let hint = "name a kit with --kit DIR and --baseline NAME, or one document with --file FILE; a node that joined a fleet needs neither";
        return Err(AgentError::new("no desired state given").hint(hint).exit(Exit::Usage));
    }
    state_dir(&place.root, place.state_dir.as_ref())
}

fn served(state_dir: &StateDir) -> Result<Served, AgentError> {
    Served::read(state_dir)?.ok_or_else(|| {
        AgentError::new("the server has no desired state for this node yet")
            .hint("constans-agent check-in asks for it; constans node show lists the assigned baselines")
    })
}

/// Returns the part that was chosen by address, topic and, of what the server wants, by baseline.
fn part(
    arguments: &WantedArguments,
    is_local: bool,
    state: &EffectiveState,
) -> Result<Selection, AgentError> {
    let part = Part {
        clauses: arguments.clauses.iter().cloned().collect(),
        topics: arguments.topics.iter().cloned().collect(),
        baseline: arguments.what.baseline.clone().filter(|_| !is_local),
    };
    part.of(state).map_err(|none| {
        let hint = none.hint.unwrap_or_else(|| "`constans-agent observe -v` lists all clauses".to_owned());
        AgentError::new(none.message).hint(hint)
    })
}

/// Looks and changes nothing.
pub fn observe(arguments: &WantedArguments) -> Result<Exit, AgentError> {
    let mut session = Session::open(arguments, "observe")?;
    let report = session.run(Mode::Observe, Persistence::Everything)?;
    session.show(&report, arguments, false);
    Ok(Exit::of_status(report.status))
}

/// Shows what would be done, asks, and does it.
pub fn enforce(arguments: &EnforceArguments) -> Result<Exit, AgentError> {
    let wanted = &arguments.wanted;
    if wanted.output == Output::Json && !arguments.yes {
        return Err(AgentError::new("--output json cannot ask for confirmation")
            .hint("add --yes to confirm")
            .exit(Exit::Usage));
    }
    let mut session = Session::open(wanted, "enforce")?;
    session.now = arguments.now.is_some();
    let reasons: BTreeSet<&str> =
        [&arguments.although_observing, &arguments.now].into_iter().flatten().map(String::as_str).collect();
    session.reason = (!reasons.is_empty()).then(|| reasons.into_iter().collect::<Vec<_>>().join("; "));
    if let Some((settings, _)) = session.set.as_ref().filter(|(settings, _)| settings.mode == Mode::Observe)
        && arguments.although_observing.is_none()
    {
        let by = settings
            .described()
            .into_iter()
            .find(|setting| setting.word == "mode")
            .map(|setting| setting.from)
            .unwrap_or_default();
        return Err(AgentError::new(format!("mode is observe, so nothing may be changed on this node ({by})"))
            .hint("an operator sets the mode in the groups of the node; --although-observing REASON overrides it once and records the reason")
            .exit(Exit::Refused));
    }
    if !arguments.yes {
        let preview = session.run(Mode::Observe, Persistence::Nothing)?;
        let changes = preview.clauses.iter().filter(|result| result.would == Some(Decision::Correct)).count();
        if changes + preview.due.len() > 0 {
            session.show(&preview, wanted, true);
            if !ask(&question(changes, preview.due.len(), &session.machine))? {
                eprintln!("nothing was changed");
                return Ok(Exit::Refused);
            }
            println!();
        }
    }
    let report = session.run(Mode::Enforce, Persistence::Everything)?;
    session.show(&report, wanted, false);
    Ok(Exit::of_status(report.status))
}

fn question(changes: usize, due: usize, machine: &Machine) -> String {
    let mut doing = Vec::new();
    if changes > 0 {
        doing.push(format!("correct {}", count(changes, "clause", "clauses")));
    }
    if due > 0 {
        doing.push(format!("apply {}", count(due, "due reaction", "due reactions")));
    }
    format!("{} on {}?", doing.join(" and "), place_words(machine))
}
