//! `constans-agent`: keeps one machine as its documents say.

use clap::Parser as _;
use constans_agent::attic::{AtticStore, Kept};
use constans_agent::command_line::{
    AtticCommand, AtticListArguments, AtticOneArguments, Command, CommandLine, EnforceArguments, Output, PutBackArguments, WantedArguments,
    WhereArguments,
};
use constans_agent::error::AgentError;
use constans_agent::local::{Wanted, resolve_wanted, state_dir};
use constans_agent::run_loop::{Keeping, Runner, left_behind};
use constans_agent::served::Served;
use constans_agent::server_link::ServerLink;
use constans_agent::show::{Progress, Shown, show_list, show_run};
use constans_agent::spool::Spool;
use constans_agent::state_dir::StateDir;
use constans_agent::{daemon, diagnose, join};
use constans_core::address::{ClauseAddress, fits};
use constans_core::compare::text_diff;
use constans_core::digest::DigestKey;
use constans_core::group::AgentSettings;
use constans_core::run::{Decision, Mode, Part, Settings};
use constans_core::state::EffectiveState;
use constans_host::Machine;
use constans_host::files::{Ownership, What};
use constans_wire::exit::Exit;
use constans_wire::report::{RunReport, StartedBy};
use std::collections::BTreeSet;
use std::io::{IsTerminal as _, Write as _};
use std::process::ExitCode;
use std::time::Duration;

fn main() -> ExitCode {
    let command_line = match CommandLine::try_parse() {
        Ok(command_line) => command_line,
        Err(error) => {
            let exit = if error.use_stderr() { Exit::Usage } else { Exit::Well };
            let _ = error.print();
            return exit.into();
        }
    };
    let result = match command_line.command {
        Command::Observe(arguments) => observe(&arguments.wanted),
        Command::Enforce(arguments) => enforce(&arguments),
        Command::Join(arguments) => on_network(join::join(&arguments)),
        Command::CheckIn(place) => open_place(&place).and_then(|(state_dir, machine)| on_network(join::check_in(&state_dir, &machine))),
        Command::Daemon(arguments) => open_place(&arguments.place)
            .and_then(|(state_dir, mut machine)| on_network(daemon::run(&state_dir, &mut machine, arguments.once)).map(|()| Exit::Well)),
        Command::Diagnose(place) => open_place(&place).and_then(|(state_dir, machine)| on_network(diagnose::diagnose(&state_dir, &machine))),
        Command::Attic(arguments) => match arguments.command {
            AtticCommand::List(arguments) => attic_list(&arguments),
            AtticCommand::Show(arguments) => attic_show(&arguments),
            AtticCommand::Compare(arguments) => attic_compare(&arguments),
            AtticCommand::PutBack(arguments) => attic_put_back(&arguments),
        },
    };
    match result {
        Ok(exit) => exit.into(),
        Err(error) => {
            anstream::eprintln!("error: {}", error.message.trim_end());
            if let Some(hint) = &error.hint {
                anstream::eprintln!("hint: {hint}");
            }
            error.exit.into()
        }
    }
}

/// Does something that waits for the network.
fn on_network<T>(work: impl Future<Output = Result<T, AgentError>>) -> Result<T, AgentError> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    runtime.map_err(|error| AgentError::new(format!("no runtime can be started: {error}")))?.block_on(work)
}

fn open_place(place: &WhereArguments) -> Result<(StateDir, Machine), AgentError> {
    let state_dir = state_dir(&place.root, place.state_dir.as_ref())?;
    let machine = Machine::open(&place.root, &state_dir.scratch())?;
    Ok((state_dir, machine))
}

/// What one command on one machine works with.
struct Session {
    machine: Machine,
    state_dir: StateDir,
    wanted: Wanted,
    /// How the server has set this agent; none for a local run.
    settings: Option<AgentSettings>,
    key: DigestKey,
    part: Part,
    reason: Option<String>,
    _lock: constans_agent::state_dir::RunLock,
}

impl Session {
    fn open(arguments: &WantedArguments, what: &str) -> Result<Self, AgentError> {
        let is_local = arguments.what.kit.is_some() || arguments.what.file.is_some();
        let state_dir = open_state_dir(&arguments.place, is_local)?;
        if is_local && state_dir.is_joined() && what == "enforce" {
            return Err(AgentError::new("this node belongs to a server, and what it should be comes from there")
                .hint("look with observe, or have the server want it; without --kit, enforce does what the server wants")
                .exit(Exit::Refused));
        }
        let key = state_dir.key()?;
        let lock = wait_for_lock(&state_dir, what, arguments.wait)?;
        let mut machine = Machine::open(&arguments.place.root, &state_dir.scratch())?;
        let served = if is_local { None } else { Some(served(&state_dir)?) };
        let settings = served.as_ref().map(|served| served.settings.clone());
        let wanted = match served {
            Some(served) => served.wanted(&state_dir)?,
            None => resolve_wanted(arguments, &machine, &state_dir, &key)?,
        };
        let memories = state_dir.store(&wanted.store)?.memories()?;
        machine.leave(left_behind(&memories, &wanted.resolved.state));
        let part = part(arguments, &wanted.resolved.state)?;
        Ok(Self { machine, state_dir, wanted, settings, key, part, reason: None, _lock: lock })
    }

    fn run(&mut self, mode: Mode, keeping: Keeping) -> Result<RunReport, AgentError> {
        let mut progress = Progress::new();
        let mut say = |at: usize, total: usize, doing: &str, clause: &constans_core::state::Clause| {
            progress.say(&format!("{} of {total}  {doing} {}", at + 1, clause.address));
        };
        let mut runner = Runner {
            machine: &mut self.machine,
            state_dir: &self.state_dir,
            wanted: &self.wanted,
            key: &self.key,
            progress: &mut say,
            started_by: StartedBy::OperatorOnNode,
            reason: self.reason.clone(),
        };
        let usual = Settings::of(mode);
        let settings = match &self.settings {
            Some(set) => Settings { on_drift: set.on_drift, on_rollout: set.on_rollout, ..usual },
            None => usual,
        };
        let report = runner.run(settings, &self.part, keeping);
        progress.end();
        let report = report?;
        if self.settings.is_some() && keeping == Keeping::Everything {
            Spool::open(&self.state_dir)?.add(&report.clone().for_server())?;
            if !on_network(async { ServerLink::open(&self.state_dir)?.deliver_soon(&self.state_dir).await })? {
                eprintln!("the report waits until the server is back");
            }
        }
        Ok(report)
    }

    fn show(&self, report: &RunReport, arguments: &WantedArguments, is_preview: bool) {
        match arguments.output {
            Output::Json => println!("{}", serde_json::to_string_pretty(report).expect("a report is JSON")),
            Output::Text => {
                let repeated = repeated_arguments(arguments);
                let place = repeated_place(&arguments.place);
                let excluded = &self.wanted.resolved.excluded;
                let shown = Shown { verbose: arguments.verbose, excluded, arguments: &repeated, place: &place, is_preview };
                anstream::print!("{}", show_run(report, &shown));
            }
        }
    }
}

/// Opens the agent's own folder; without a kit or document this machine must belong to a fleet.
fn open_state_dir(place: &WhereArguments, is_local: bool) -> Result<StateDir, AgentError> {
    let usual = place.state_dir.clone().unwrap_or_else(|| place.root.join(constans_agent::state_dir::USUAL));
    if !is_local && !usual.join("joined.json").exists() {
        let hint = "name a kit with --kit DIR and --baseline NAME, or one document with --file FILE; a node that joined a fleet needs neither";
        return Err(AgentError::new("nothing says what is wanted").hint(hint).exit(Exit::Usage));
    }
    state_dir(&place.root, place.state_dir.as_ref())
}

fn served(state_dir: &StateDir) -> Result<Served, AgentError> {
    Served::read(state_dir)?.ok_or_else(|| {
        AgentError::new("the server wants nothing of this node yet")
            .hint("constans-agent check-in asks it; constans node show says what it is assigned")
    })
}

fn wait_for_lock(state_dir: &StateDir, what: &str, secs: u64) -> Result<constans_agent::state_dir::RunLock, AgentError> {
    state_dir.lock(what, Duration::from_secs(secs), |who| eprintln!("waiting up to {secs} s for another run to end: {who}"))
}

/// Returns the part that was chosen by address and topic.
fn part(arguments: &WantedArguments, state: &EffectiveState) -> Result<Part, AgentError> {
    if arguments.clauses.is_empty() && arguments.topics.is_empty() {
        return Ok(Part::Whole);
    }
    for pattern in &arguments.clauses {
        if !state.clauses.iter().any(|clause| fits(pattern, &clause.address)) {
            let near = constans_core::kind::nearest_word(pattern, state.clauses.iter().map(|clause| clause.address.as_str()));
            let hint = near.map_or_else(|| "`constans-agent observe -v` lists them all".to_owned(), |near| format!("did you mean `{near}`?"));
            return Err(AgentError::new(format!("no clause fits `{pattern}`")).hint(hint));
        }
    }
    for topic in &arguments.topics {
        if !state.clauses.iter().any(|clause| clause.topics.contains(topic)) {
            let known: BTreeSet<&str> = state.clauses.iter().flat_map(|clause| &clause.topics).map(String::as_str).collect();
            return Err(AgentError::new(format!("no clause has the topic `{topic}`"))
                .hint(format!("topics are {}", known.into_iter().collect::<Vec<_>>().join(", "))));
        }
    }
    let chosen = state.clauses.iter().filter(|clause| {
        let by_address = arguments.clauses.is_empty() || arguments.clauses.iter().any(|pattern| fits(pattern, &clause.address));
        let by_topic = arguments.topics.is_empty() || arguments.topics.iter().any(|topic| clause.topics.contains(topic));
        by_address && by_topic
    });
    let chosen: BTreeSet<ClauseAddress> = chosen.map(|clause| clause.address.clone()).collect();
    if chosen.is_empty() {
        return Err(AgentError::new("no clause fits both the addresses and the topics"));
    }
    Ok(Part::Chosen(chosen))
}

fn observe(arguments: &WantedArguments) -> Result<Exit, AgentError> {
    let mut session = Session::open(arguments, "observe")?;
    let report = session.run(Mode::Observe, Keeping::Everything)?;
    session.show(&report, arguments, false);
    Ok(Exit::of_status(report.status))
}

fn enforce(arguments: &EnforceArguments) -> Result<Exit, AgentError> {
    let wanted = &arguments.wanted;
    if wanted.output == Output::Json && !arguments.yes {
        return Err(AgentError::new("--output json cannot ask").hint("add --yes to go on without asking").exit(Exit::Usage));
    }
    let mut session = Session::open(wanted, "enforce")?;
    if session.settings.as_ref().is_some_and(|settings| settings.mode == Mode::Observe) {
        let Some(reason) = &arguments.although_observing else {
            return Err(AgentError::new("this node is set to observe: its groups let nothing be changed on it")
                .hint("an operator changes that in its groups; --although-observing REASON goes on once, and the reason is recorded")
                .exit(Exit::Refused));
        };
        session.reason = Some(reason.clone());
    }
    if !arguments.yes {
        let preview = session.run(Mode::Observe, Keeping::Nothing)?;
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
    let report = session.run(Mode::Enforce, Keeping::Everything)?;
    session.show(&report, wanted, false);
    Ok(Exit::of_status(report.status))
}

fn question(changes: usize, due: usize, machine: &Machine) -> String {
    let mut doing = Vec::new();
    if changes > 0 {
        doing.push(format!("correct {}", constans_agent::show::count(changes, "clause", "clauses")));
    }
    if due > 0 {
        doing.push(format!("carry out {}", constans_agent::show::count(due, "due reaction", "due reactions")));
    }
    format!("{} on {}?", doing.join(" and "), place_words(machine))
}

fn place_words(machine: &Machine) -> String {
    if machine.place.is_private_root() {
        format!("{}, below {}", machine.place.machine, machine.place.root.display())
    } else {
        machine.place.machine.clone()
    }
}

/// Asks a question that only `yes` answers.
fn ask(question: &str) -> Result<bool, AgentError> {
    if !std::io::stdin().is_terminal() {
        return Err(AgentError::new("nobody can be asked here, since standard input is no terminal")
            .hint("look with observe first, then add --yes")
            .exit(Exit::Refused));
    }
    print!("\n{question} Type yes to go on: ");
    let _ = std::io::stdout().flush();
    let mut answer = String::new();
    std::io::stdin().read_line(&mut answer).map_err(|error| AgentError::new(format!("the answer cannot be read: {error}")))?;
    Ok(matches!(answer.trim(), "yes" | "y"))
}

/// Returns the words that name what is wanted and where, for the next command.
fn repeated_arguments(arguments: &WantedArguments) -> String {
    let mut words = Vec::new();
    let mut add = |option: &str, value: String| words.push(format!("{option} {}", quoted(&value)));
    if let Some(kit) = &arguments.what.kit {
        add("--kit", kit.display().to_string());
    }
    if let Some(baseline) = &arguments.what.baseline {
        add("--baseline", baseline.clone());
    }
    if let Some(file) = &arguments.what.file {
        add("--file", file.display().to_string());
    }
    for (option, pairs) in [("--set", &arguments.set), ("--label", &arguments.labels)] {
        for (name, value) in pairs {
            add(option, format!("{name}={value}"));
        }
    }
    for (option, values) in [("--clause", &arguments.clauses), ("--topic", &arguments.topics)] {
        for value in values {
            add(option, value.clone());
        }
    }
    format!("{}{}", words.join(" "), repeated_place(&arguments.place)).trim_start().to_owned()
}

fn repeated_place(place: &WhereArguments) -> String {
    let mut words = String::new();
    if place.root != std::path::Path::new("/") {
        words += &format!(" --root {}", quoted(&place.root.display().to_string()));
    }
    if let Some(folder) = &place.state_dir {
        words += &format!(" --state-dir {}", quoted(&folder.display().to_string()));
    }
    words
}

fn quoted(word: &str) -> String {
    let is_plain = !word.is_empty() && word.chars().all(|c| c.is_alphanumeric() || "-_=./:,+@%".contains(c));
    if is_plain { word.to_owned() } else { format!("'{}'", word.replace('\'', "'\\''")) }
}

fn open_attic(place: &WhereArguments) -> Result<(StateDir, AtticStore, Machine), AgentError> {
    let (state_dir, machine) = open_place(place)?;
    let attic = AtticStore::open(&state_dir, None)?;
    Ok((state_dir, attic, machine))
}

fn attic_list(arguments: &AtticListArguments) -> Result<Exit, AgentError> {
    let (_, attic, machine) = open_attic(&arguments.place)?;
    let mut found: Vec<&Kept> = Vec::new();
    for kept in attic.all() {
        let by_path = arguments.path.as_ref().is_none_or(|pattern| constans_core::address::fits_text(pattern, &kept.path));
        let by_run = arguments.run.as_ref().is_none_or(|run| kept.run.is_some_and(|id| id.to_string().starts_with(run)));
        let by_time = arguments.since.is_none_or(|since| kept.at >= since) && arguments.until.is_none_or(|until| kept.at <= until);
        if by_path && by_run && by_time && holds(&attic, kept, arguments.content.as_deref())? {
            found.push(kept);
        }
    }
    match arguments.output {
        Output::Json => println!("{}", serde_json::to_string_pretty(&found).expect("it is plain data")),
        Output::Text => anstream::print!("{}", show_list(&found, &place_words(&machine))),
    }
    Ok(Exit::Well)
}

fn holds(attic: &AtticStore, kept: &Kept, text: Option<&str>) -> Result<bool, AgentError> {
    let Some(text) = text else { return Ok(true) };
    Ok(String::from_utf8_lossy(&attic.contents(kept)?).contains(text))
}

fn attic_show(arguments: &AtticOneArguments) -> Result<Exit, AgentError> {
    let (_, attic, _) = open_attic(&arguments.place)?;
    let contents = attic.contents(attic.find(arguments.number)?)?;
    std::io::stdout().write_all(&contents).map_err(|error| AgentError::new(format!("cannot write: {error}")))?;
    Ok(Exit::Well)
}

fn attic_compare(arguments: &AtticOneArguments) -> Result<Exit, AgentError> {
    let (_, attic, machine) = open_attic(&arguments.place)?;
    let kept = attic.find(arguments.number)?;
    let contents = attic.contents(kept)?;
    let Some(now) = machine.files().read(&kept.path)? else {
        println!("{} is not there now; number {} has {} bytes", kept.path, kept.number, kept.bytes);
        return Ok(Exit::Well);
    };
    if now == contents {
        println!("{} has the same contents now as number {}", kept.path, kept.number);
        return Ok(Exit::Well);
    }
    match text_diff(&now, &contents, true) {
        Ok(diff) => print!(
            "{}",
            diff.text
                .replace("--- found", &format!("--- {} now", kept.path))
                .replace("+++ wanted", &format!("+++ number {}, replaced {}", kept.number, constans_agent::show::time(kept.at)))
        ),
        Err(_) => println!("both differ: {} bytes now, {} bytes in the attic", now.len(), kept.bytes),
    }
    Ok(Exit::Well)
}

fn attic_put_back(arguments: &PutBackArguments) -> Result<Exit, AgentError> {
    let (state_dir, mut attic, machine) = open_attic(&arguments.one.place)?;
    let kept = attic.find(arguments.one.number)?.clone();
    let contents = attic.contents(&kept)?;
    if !arguments.yes
        && !ask(&format!("put {} back as it was until {} on {}?", kept.path, constans_agent::show::time(kept.at), place_words(&machine)))?
    {
        eprintln!("nothing was changed");
        return Ok(Exit::Refused);
    }
    let _lock = wait_for_lock(&state_dir, "attic put-back", arguments.wait)?;
    if let Some(entry) = machine.files().look(&kept.path)? {
        if entry.what != What::File {
            return Err(AgentError::new(format!("{} is {} now", kept.path, entry.what.words())).hint("take it away first"));
        }
        let now = machine.files().read(&kept.path)?.unwrap_or_default();
        attic.keep_before_put_back(&kept.path, &now, &entry)?;
    }
    let owners = rustix::process::geteuid().is_root();
    let ownership =
        Ownership { uid: owners.then_some(kept.uid), gid: owners.then_some(kept.gid), permissions: u32::from_str_radix(&kept.permissions, 8).ok() };
    machine.files().replace(&kept.path, &contents, ownership, |_| Ok(()))?;
    println!("{} is as it was until {}", kept.path, constans_agent::show::time(kept.at));
    match &kept.clause {
        Some(clause) => println!("Next: {clause} wants it otherwise, so the next enforcing run will undo this; change the document to keep it"),
        None => println!("Next: constans-agent attic list shows what stood there before"),
    }
    Ok(Exit::Well)
}
