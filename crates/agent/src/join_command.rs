//! `constans-agent join`.

use crate::command_line::{JoinArguments, Output, Until};
use crate::daemon;
use crate::error::AgentError;
use crate::join::{Asked, JoinAttempt, check_in, parse_invitation, say};
use crate::joining::Joining;
use crate::kept_runs::KeptRuns;
use crate::local::state_dir;
use crate::membership::{Membership, NodeKey};
use crate::served::Served;
use crate::state_dir::StateDir;
use constans_core::run::Status;
use constans_host::Machine;
use constans_wire::exit::Exit;
use constans_wire::join::Invitation;
use serde_json::json;
use std::path::Path;
use std::time::{Duration, Instant};

/// How long is waited between two questions, while an operator decides.
const PAUSE: Duration = Duration::from_secs(2);

/// Joins the fleet that an invitation leads to.
///
/// # Errors
///
/// Returns what is wrong with the invitation, or why the server did not answer.
pub async fn join(arguments: &JoinArguments) -> Result<Exit, AgentError> {
    let state_dir = state_dir(&arguments.place.root, arguments.place.state_dir.as_ref())?;
    let before = Membership::read(&state_dir)?;
    let dismissed = before.as_ref().and_then(|membership| membership.dismissed.clone());
    // A node that was revoked asks to be itself again, whatever it would like to be called.
    let revoked_as = before
        .as_ref()
        .filter(|_| dismissed.as_ref().is_some_and(|dismissed| !dismissed.is_retired))
        .map(|node| node.name.clone());
    if let Some(membership) = before.filter(|_| !arguments.again && dismissed.is_none()) {
        return Err(AgentError::new(format!(
            "this machine already belongs to a fleet, as {}",
            membership.name
        ))
        .hint("constans-agent check-in tests the connection; --again joins with another invitation")
        .exit(Exit::Refused));
    }
    let waiting = Joining::read(&state_dir)?.filter(|_| arguments.invitation_file.is_none());
    let invitation = match &waiting {
        Some(waiting) => waiting.invitation.clone(),
        None => read_invitation(arguments.invitation_file.as_deref())?,
    };
    let machine = Machine::open(&arguments.place.root, &state_dir.scratch())?;
    if dismissed.is_some_and(|dismissed| dismissed.is_retired) {
        // A node that was retired is no more: this machine becomes another.
        NodeKey::forget(&state_dir);
    }
    let name = revoked_as
        .or_else(|| arguments.name.clone())
        .or(waiting.map(|waiting| waiting.name))
        .unwrap_or_else(|| machine.acted_on.machine.clone());
    let fingerprint = NodeKey::open(&state_dir)?.fingerprint;
    let since = state_dir.now();
    let mut attempt = JoinAttempt::of(Joining { invitation, name, fingerprint, since });
    let patience = Instant::now() + Duration::from_secs(arguments.wait);
    let mut has_printed = false;
    loop {
        let Asked::Waiting { request, url } = attempt.ask(&state_dir, &machine).await? else { break };
        let Joining { name, fingerprint, .. } = &attempt.joining;
        if !has_printed && arguments.output == Output::Text {
            println!("waiting for approval as {name}, key fingerprint {fingerprint}");
            println!("request {request} at {url}");
            println!("Next: an operator compares the fingerprint and approves: constans join approve {name}");
        }
        has_printed = true;
        if Instant::now() >= patience {
            match arguments.output {
                Output::Text => {
                    println!("not approved yet; constans-agent join asks again, and the daemon by itself");
                }
                Output::Json => say(
                    &json!({ "state": "waiting", "name": name, "fingerprint": fingerprint, "request": request, "server": url }),
                ),
            }
            return Ok(Exit::Error);
        }
        tokio::time::sleep(PAUSE).await;
    }
    match arguments.until {
        Until::Joined => check_in(&state_dir, &machine, arguments.output).await,
        Until::InLine => {
            // Its result is that of the last run.
            let quiet = arguments.output == Output::Json;
            if !quiet {
                check_in(&state_dir, &machine, Output::Text).await?;
            }
            until_in_line(&state_dir, &arguments.place.root, patience, arguments.output).await
        }
    }
}

/// Checks in and runs until all is in line, or the time is over; tells each status once.
async fn until_in_line(
    state_dir: &StateDir,
    root: &Path,
    patience: Instant,
    output: Output,
) -> Result<Exit, AgentError> {
    let mut told = None;
    loop {
        let machine = Machine::open(root, &state_dir.scratch())?;
        daemon::run(state_dir, machine, true, None, None).await?;
        let has_clauses = Served::read(state_dir)?.is_some_and(|served| !served.state.clauses.is_empty());
        let last = KeptRuns::of(state_dir).all()?.into_iter().next().filter(|_| has_clauses);
        let status = last.map(|run| run.status);
        let is_in_line = status == Some(Status::InLine);
        let words = status.map_or("no desired state yet", Status::words);
        if output == Output::Text && told != Some(words) {
            println!("{words}");
        }
        told = Some(words);
        let is_over = Instant::now() >= patience;
        if is_in_line || is_over {
            if output == Output::Json {
                say(
                    &json!({ "state": if is_in_line { "in_line" } else { "not_in_line" }, "status": status }),
                );
            } else if is_over && !is_in_line {
                println!(
                    "not in line within the time; constans-agent runs shows why, and the daemon goes on"
                );
            }
            return Ok(match status {
                // What was put right just now is in line as of the next run.
                Some(status) if is_in_line || Exit::of_status(status) != Exit::Well => {
                    Exit::of_status(status)
                }
                _ => Exit::OutOfLine,
            });
        }
        // What was put right or rolled out is looked at again at once.
        if status.is_none_or(|status| Exit::of_status(status) != Exit::Well) {
            tokio::time::sleep(PAUSE_BETWEEN_RUNS).await;
        }
    }
}

/// How long is waited between two runs, while something is not in line.
const PAUSE_BETWEEN_RUNS: Duration = Duration::from_secs(10);

/// Reads the invitation from a file, from standard input, or from the terminal, which does not show it.
fn read_invitation(from: Option<&str>) -> Result<Invitation, AgentError> {
    let unreadable = |error: std::io::Error| {
        let place = from.unwrap_or("the terminal");
        AgentError::new(format!("the invitation cannot be read from {place}: {error}"))
            .hint("give --invitation-file with the file that has it, or - for standard input")
    };
    let text = match from {
        None => rpassword::prompt_password("invitation, as constans invite printed it (it is not shown): ")
            .map_err(unreadable)?,
        Some("-") => std::io::read_to_string(std::io::stdin()).map_err(unreadable)?,
        Some(file) => std::fs::read_to_string(file).map_err(unreadable)?,
    };
    parse_invitation(&text, from.unwrap_or("what was typed"))
}
