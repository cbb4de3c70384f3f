//! What the commands share: opening the machine, taking the lock, asking for confirmation, using the network.

use constans_agent::command_line::WhereArguments;
use constans_agent::error::AgentError;
use constans_agent::local::state_dir;
use constans_agent::state_dir::{RunLock, StateDir};
use constans_host::Machine;
use constans_wire::exit::Exit;
use std::io::{IsTerminal as _, Write as _};
use std::time::Duration;

/// Returns the words for a machine and its root.
pub fn place_words(machine: &Machine) -> String {
    if machine.acted_on.is_private_root() {
        format!("{}, below {}", machine.acted_on.machine, machine.acted_on.root.display())
    } else {
        machine.acted_on.machine.clone()
    }
}

/// Asks a question that only `yes` answers.
pub fn ask(question: &str) -> Result<bool, AgentError> {
    if !std::io::stdin().is_terminal() {
        return Err(AgentError::new("confirmation needed, but standard input is not a terminal")
            .hint("run `constans-agent observe` first, then add --yes")
            .exit(Exit::Refused));
    }
    print!("\n{question} Type yes to go on: ");
    let _ = std::io::stdout().flush();
    let mut answer = String::new();
    std::io::stdin()
        .read_line(&mut answer)
        .map_err(|error| AgentError::new(format!("the answer cannot be read: {error}")))?;
    Ok(matches!(answer.trim(), "yes" | "y"))
}

/// Waits until nobody else runs, saying so.
pub fn wait_for_lock(state_dir: &StateDir, what: &str, secs: u64) -> Result<RunLock, AgentError> {
    state_dir.lock(what, Duration::from_secs(secs), |who| {
        eprintln!("waiting up to {secs} s for another run to finish: {who}");
    })
}

/// Opens the agent's own folder and the machine.
pub fn open_place(place: &WhereArguments) -> Result<(StateDir, Machine), AgentError> {
    let state_dir = state_dir(&place.root, place.state_dir.as_ref())?;
    let machine = Machine::open(&place.root, &state_dir.scratch())?;
    Ok((state_dir, machine))
}

/// Does something that waits for the network.
pub fn on_network<T>(work: impl Future<Output = Result<T, AgentError>>) -> Result<T, AgentError> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    runtime.map_err(|error| AgentError::new(format!("no runtime can be started: {error}")))?.block_on(work)
}

/// Does what a daemon does: what it began on the network goes on while a run keeps the thread that waits here.
pub fn on_network_beside_runs<T>(work: impl Future<Output = Result<T, AgentError>>) -> Result<T, AgentError> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build();
    runtime.map_err(|error| AgentError::new(format!("no runtime can be started: {error}")))?.block_on(work)
}

/// Returns the name that the user who runs this signed in with, through sudo or su too: what the kernel keeps of the session, else
/// what sudo says, else the account that runs it.
pub fn signed_in_as() -> Option<String> {
    // Unset, it is the largest number (proc(5)).
    let by_kernel = std::fs::read_to_string("/proc/self/loginuid")
        .ok()
        .and_then(|text| text.trim().parse::<u32>().ok())
        .filter(|uid| *uid != u32::MAX);
    let by_sudo = std::env::var("SUDO_UID").ok().and_then(|text| text.parse::<u32>().ok());
    let uid = by_kernel.or(by_sudo).unwrap_or_else(|| rustix::process::getuid().as_raw());
    let known = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let of_line = |line: &str| {
        let mut fields = line.split(':');
        let name = fields.next()?;
        (fields.nth(1)?.parse::<u32>().ok()? == uid).then(|| name.to_owned())
    };
    Some(known.lines().find_map(of_line).unwrap_or_else(|| format!("uid {uid}")))
}
