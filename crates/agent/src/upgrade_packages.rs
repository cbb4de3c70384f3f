//! Preparing an upgrade: both packages are fetched before anything is installed.

use crate::error::AgentError;
use crate::server_link::ServerLink;
use crate::state_dir::StateDir;
use crate::upgrade::{
    AGENT, GUARD, Installed, NotBegun, OWN_VERSION, REPORTED, Step, Upgrade, installed, package_name,
};
use constans_core::digest::of_reader;
use constans_wire::agent_package::{AgentPackage, PackageFormat};
use std::fs::{self, DirBuilder, File};
use std::io::{self, Write as _};
use std::os::unix::fs::DirBuilderExt as _;
use std::path::Path;
use std::process::Command;

/// So many bytes of a package are read at once.
const PIECE: usize = 64 * 1024;

/// Fetches the package of a version and the one to go back to. What is kept says whether that is done, or why not.
///
/// # Errors
///
/// Returns why it cannot be kept.
pub async fn begin(
    state_dir: &StateDir,
    link: &ServerLink<'_>,
    to: &str,
    is_private_root: bool,
    report_within_secs: u64,
) -> Result<Upgrade, AgentError> {
    let found = match installed() {
        _ if is_private_root => {
            Err(NotBegun::Ever("it keeps a private root folder and not this machine".to_owned()))
        }
        found => found,
    };
    let mut upgrade = Upgrade {
        to: to.to_owned(),
        from: OWN_VERSION.to_owned(),
        step: Step::Fetched,
        format: found.as_ref().map_or(PackageFormat::Deb, |found| found.format),
        is_service: is_service(),
        command_line: std::env::args().collect(),
        report_within_secs,
    };
    let prepared = match found {
        Ok(found) => prepare(state_dir, link, to, &found).await,
        Err(why) => Err(why),
    };
    upgrade.step = match prepared {
        Ok(()) => Step::Fetched,
        Err(NotBegun::Yet(why)) => Step::NotBegun { why },
        Err(NotBegun::Ever(why)) => Step::Failed { why },
    };
    upgrade.keep(state_dir)?;
    Ok(upgrade)
}

async fn prepare(
    state_dir: &StateDir,
    link: &ServerLink<'_>,
    to: &str,
    installed: &Installed,
) -> Result<(), NotBegun> {
    let folder = state_dir.path().join("upgrade");
    let made = DirBuilder::new().recursive(true).mode(0o700).create(&folder);
    made.map_err(|error| AgentError::own_file("make", &folder, &error))?;
    state_dir.remove(REPORTED);
    let packages = link.packages().await?;
    let package = |version: &str| {
        packages.iter().find(|package| {
            (package.version.as_str(), package.format, package.architecture.as_str())
                == (version, installed.format, installed.architecture.as_str())
        })
    };
    let Installed { format, architecture } = installed;
    let missing = |version: &str, what: &str| {
        NotBegun::Ever(format!(
            "the server has no package of version {version} as .{format} for {architecture}{what}; add it: constans agent-package add FILE"
        ))
    };
    let new = package(to).ok_or_else(|| missing(to, ""))?;
    let before = package(OWN_VERSION).ok_or_else(|| missing(OWN_VERSION, ", to go back to"))?;
    for (package, is_new) in [(before, false), (new, true)] {
        fetch(link, package, &state_dir.path().join(package_name(*format, is_new))).await?;
    }
    let guard = state_dir.path().join(GUARD);
    // A guard that goes on has its own copy open.
    let _ = fs::remove_file(&guard);
    let copied = fs::copy("/proc/self/exe", &guard).map(drop);
    copied.map_err(|error| AgentError::own_file("write", &guard, &error).into())
}

/// Fetches a package into a file, unless it is there.
async fn fetch(link: &ServerLink<'_>, package: &AgentPackage, path: &Path) -> Result<(), NotBegun> {
    if digest_of(path).is_ok_and(|digest| digest == package.sha256) {
        return Ok(());
    }
    let mut file = File::create(path).map_err(|error| AgentError::own_file("write", path, &error))?;
    let mut received = 0;
    link.fetch_package(&package.sha256, |piece| {
        received += piece.len() as u64;
        if received > package.bytes {
            return Err(io::Error::other(format!(
                "more came than the {} bytes of the package",
                package.bytes
            )));
        }
        file.write_all(piece)
    })
    .await?;
    file.sync_all().map_err(|error| AgentError::own_file("write", path, &error))?;
    match digest_of(path) {
        Ok(digest) if digest == package.sha256 => Ok(()),
        _ => {
            Err(NotBegun::Yet(format!("the package of version {} came with another digest", package.version)))
        }
    }
}

fn digest_of(path: &Path) -> io::Result<String> {
    let file = File::open(path)?;
    let size = file.metadata()?.len();
    let digest = of_reader(file, size, &mut vec![0; PIECE], None)?;
    Ok(digest.as_str().trim_start_matches("sha256:").to_owned())
}

/// Returns whether this process is the service of the agent.
fn is_service() -> bool {
    let asked = Command::new("systemctl").args(["show", "--property=MainPID", "--value", AGENT]).output();
    asked.is_ok_and(|output| String::from_utf8_lossy(&output.stdout).trim() == std::process::id().to_string())
}
