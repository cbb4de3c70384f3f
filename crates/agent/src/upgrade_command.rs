//! `retry-upgrade`: an upgrade of the agent that failed is tried again.

use constans_agent::error::AgentError;
use constans_agent::noted::DaemonNote;
use constans_agent::state_dir::StateDir;
use constans_agent::upgrade;
use constans_wire::exit::Exit;

/// Lets it be tried again.
pub fn retry(state_dir: &StateDir) -> Result<Exit, AgentError> {
    let Some(version) = upgrade::retry(state_dir)? else {
        println!("no upgrade of this agent has failed");
        return Ok(Exit::Well);
    };
    let daemon = DaemonNote::read(state_dir)?.filter(DaemonNote::is_alive);
    match daemon {
        Some(daemon) => {
            println!(
                "the upgrade to {version} is tried again at the next check-in, {:.0}",
                daemon.next_check_in
            );
            println!("Next: systemctl restart constans-agent checks in at once");
        }
        None => println!("the upgrade to {version} is tried again when constans-agent daemon checks in"),
    }
    Ok(Exit::Well)
}
