//! The agent on real Debian hosts: every kind, and what it survives. `make test-hosts` starts it.

mod agent_packages;
mod around;
mod faults;
mod hub;
mod inspected;
mod installing;
mod joining;
mod kinds;
mod lab;
mod packages;
mod related;
mod repository;
mod rpm;
mod service;
mod steps;
mod upgrading;

use hub::Hub;
use lab::{Failed, Lab};
use repository::Repository;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// What can be tried by itself; all is tried if none is named. Some need what those before them left.
const GROUPS: [&str; 9] =
    ["installing", "fleet", "kinds", "packages", "rpm", "inspected", "related", "faults", "kills"];

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
    let only = arguments.first().map(String::as_str);
    if let Some(unknown) = only.filter(|only| !GROUPS.contains(only)) {
        eprintln!("there is no group of tests `{unknown}`: they are {}", GROUPS.join(", "));
        return ExitCode::FAILURE;
    }
    match Lab::cannot_run().map_or_else(|| run(only), |why| Ok(TestOutcome::NotStarted(why))) {
        Ok(TestOutcome::ToAnEnd { failed: 0 }) => ExitCode::SUCCESS,
        Ok(TestOutcome::ToAnEnd { failed }) => {
            println!("\n{failed} failed");
            ExitCode::FAILURE
        }
        Ok(TestOutcome::NotStarted(why)) => {
            println!("NOT RUN: real hosts cannot be started on this machine, since {why}.");
            println!(
                "What only they show was not tested: every kind against Debian's own programs, power cuts, services, the network."
            );
            ExitCode::SUCCESS
        }
        Err(why) => {
            println!("error: {why}");
            ExitCode::FAILURE
        }
    }
}

/// The result of the tests.
enum TestOutcome {
    /// Hosts cannot be started here, and why.
    NotStarted(String),
    /// All was tried.
    ToAnEnd { failed: usize },
}

fn run(only: Option<&str>) -> Result<TestOutcome, Failed> {
    let folder =
        std::env::var_os("HOSTS_DIR").map_or_else(|| PathBuf::from("/var/tmp/constans-hosts"), PathBuf::from);
    let folder_of_packages = tempfile::tempdir().map_err(|error| error.to_string())?;
    let keys = tempfile::tempdir().map_err(|error| error.to_string())?;
    println!("starting the hosts (the first time Debian is fetched, which takes some minutes)");
    let lab = match Lab::up(3, &folder, folder_of_packages.path()) {
        Ok(lab) => lab,
        // Where Debian's packages cannot be had, or the machine does not let hosts be started.
        Err(why) if std::env::var_os("HOSTS_MAY_BE_MISSING").is_some() => {
            return Ok(TestOutcome::NotStarted(why));
        }
        Err(why) => return Err(why),
    };
    let repository = Repository::build(folder_of_packages.path(), keys.path())?;
    let agent = stripped_agent(keys.path())?;
    let (host, kiosk, gate) = (lab.host("h1"), lab.host("h2"), lab.host("h3"));
    let wanted = |group: &str| only.is_none_or(|only| only == group);
    let mut failed = 0;
    // Before anything of ours is on it.
    if wanted("installing") {
        failed += installing::all(&Hub::start(&lab)?, gate)?;
    }
    host.put(&agent, "/usr/bin/constans-agent")?;
    kiosk.put(&agent, "/usr/bin/constans-agent")?;
    gate.put(&agent, "/usr/bin/constans-agent")?;
    if wanted("fleet") {
        failed += joining::all(&Hub::start(&lab)?, kiosk);
    }
    if wanted("kinds") {
        failed += kinds::all(host, kiosk, &repository.texts)?;
    }
    if wanted("packages") {
        failed += packages::all(host, &repository);
    }
    if wanted("rpm") {
        failed += rpm::all(&repository)?;
    }
    if wanted("inspected") {
        failed += inspected::all(host);
    }
    if wanted("related") {
        failed += related::all(gate);
    }
    if wanted("faults") {
        failed += faults::all(host);
    }
    if wanted("kills") {
        failed += faults::kills(host, kills())?;
    }
    Ok(TestOutcome::ToAnEnd { failed })
}

/// Returns how often the agent is killed: KILLS, or more than a thousand times.
fn kills() -> usize {
    std::env::var("KILLS").ok().and_then(|number| number.parse().ok()).unwrap_or(1_100)
}

/// Returns the agent that was built, without what only a debugger reads.
fn stripped_agent(folder: &Path) -> Result<PathBuf, Failed> {
    let program =
        std::env::current_exe().map_err(|error| error.to_string())?.with_file_name("constans-agent");
    let stripped = folder.join("constans-agent");
    let done = std::process::Command::new("strip").arg("-o").arg(&stripped).arg(&program).status();
    match done {
        Ok(status) if status.success() => Ok(stripped),
        Ok(_) => Err(format!("{} could not be stripped: was it built?", program.display())),
        Err(error) => Err(format!("strip: {error}")),
    }
}
