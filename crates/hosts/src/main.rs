//! The agent on real Debian hosts: every kind, and what it survives. `make test-hosts` starts it.

mod faults;
mod hub;
mod inspected;
mod joining;
mod kinds;
mod lab;
mod packages;
mod repository;

use hub::Hub;
use lab::{Failed, Lab};
use repository::Repository;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if let [on, folder] = &arguments[..]
        && on == "hub"
    {
        return match hub::serve(Path::new(folder)) {
            Ok(()) => ExitCode::SUCCESS,
            Err(why) => {
                eprintln!("{why}");
                ExitCode::FAILURE
            }
        };
    }
    if let Some(why) = Lab::cannot_run() {
        println!("NOT RUN: real hosts cannot be started on this machine, since {why}.");
        println!("What only they show was not tested: every kind against Debian's own programs, power cuts, services, the network.");
        return ExitCode::SUCCESS;
    }
    match run() {
        Ok(0) => ExitCode::SUCCESS,
        Ok(failed) => {
            println!("\n{failed} failed");
            ExitCode::FAILURE
        }
        Err(why) => {
            println!("error: {why}");
            ExitCode::FAILURE
        }
    }
}

fn run() -> Result<usize, Failed> {
    let folder = std::env::var_os("HOSTS_DIR").map_or_else(|| PathBuf::from("/var/tmp/constans-hosts"), PathBuf::from);
    let folder_of_packages = tempfile::tempdir().map_err(|error| error.to_string())?;
    let keys = tempfile::tempdir().map_err(|error| error.to_string())?;
    let repository = Repository::build(folder_of_packages.path(), keys.path())?;
    let agent = stripped_agent(keys.path())?;
    println!("starting the hosts (the first time Debian is fetched, which takes some minutes)");
    let lab = Lab::up(2, &folder, folder_of_packages.path())?;
    let host = lab.host("h1");
    host.put(&agent, "/usr/bin/constans-agent")?;
    let kiosk = lab.host("h2");
    kiosk.put(&agent, "/usr/bin/constans-agent")?;
    let hub = Hub::start(&lab)?;
    let mut failed = joining::all(&hub, kiosk);
    drop(hub);
    failed += kinds::all(host, &repository.texts)?;
    failed += packages::all(host, &repository)?;
    failed += inspected::all(host)?;
    failed += faults::all(host)?;
    failed += faults::kills(host, kills())?;
    Ok(failed)
}

/// Returns how often the agent is killed: KILLS, or more than a thousand times.
fn kills() -> usize {
    std::env::var("KILLS").ok().and_then(|number| number.parse().ok()).unwrap_or(1_100)
}

/// Returns the agent that was built, without what only a debugger reads.
fn stripped_agent(folder: &Path) -> Result<PathBuf, Failed> {
    let program = std::env::current_exe().map_err(|error| error.to_string())?.with_file_name("constans-agent");
    let stripped = folder.join("constans-agent");
    let done = std::process::Command::new("strip").arg("-o").arg(&stripped).arg(&program).status();
    match done {
        Ok(status) if status.success() => Ok(stripped),
        Ok(_) => Err(format!("{} could not be stripped: was it built?", program.display())),
        Err(error) => Err(format!("strip: {error}")),
    }
}
