//! By which package this agent is installed.

use super::{AGENT, OWN_VERSION};
use crate::error::AgentError;
use constans_wire::agent_package::PackageFormat;
use std::process::Command;

/// Why an upgrade is not begun.
#[derive(Debug, PartialEq, Eq)]
pub enum NotBegun {
    /// It may be later.
    Yet(String),
    /// It cannot be.
    Ever(String),
}

impl From<AgentError> for NotBegun {
    fn from(error: AgentError) -> Self {
        Self::Yet(error.line())
    }
}

/// The package that this agent is installed by.
#[derive(Debug, PartialEq, Eq)]
pub struct Installed {
    /// How it is built.
    pub format: PackageFormat,
    /// The processors that it is for, as its format calls them.
    pub architecture: String,
}

/// Returns the package that this agent is installed by.
///
/// # Errors
///
/// Returns why there is none, in words.
pub fn installed() -> Result<Installed, NotBegun> {
    let asked = [
        (
            PackageFormat::Deb,
            ask(
                "dpkg-query",
                &["--show", "--showformat=${db:Status-Status} ${Version} ${Architecture}", AGENT],
            )
            .and_then(|said| said.strip_prefix("installed ").map(str::to_owned)),
        ),
        (PackageFormat::Rpm, ask("rpm", &["--query", "--queryformat=%{VERSION} %{ARCH}", AGENT])),
    ];
    let known = asked.into_iter().find_map(|(format, said)| said.map(|said| (format, said)));
    let none = "it was not installed by a package; install it by the line of constans agent-package line";
    let (format, said) = known.ok_or_else(|| NotBegun::Ever(none.to_owned()))?;
    read(format, &said)
}

/// Reads what the package manager says: version and architecture.
fn read(format: PackageFormat, said: &str) -> Result<Installed, NotBegun> {
    match said.split_whitespace().collect::<Vec<_>>()[..] {
        [version, architecture] if version == OWN_VERSION => {
            Ok(Installed { format, architecture: architecture.to_owned() })
        }
        // Once it is restarted, it is the one that is installed.
        [version, _] => Err(NotBegun::Yet(format!(
            "version {OWN_VERSION} runs, and the package that is installed has version {version}; restart it: systemctl restart {AGENT}"
        ))),
        _ => Err(NotBegun::Ever(format!("the package manager says of it: {said}"))),
    }
}

/// Returns what a program says that ends well.
fn ask(program: &str, arguments: &[&str]) -> Option<String> {
    let output = Command::new(program).args(arguments).env("LC_ALL", "C").output().ok()?;
    output.status.success().then(|| String::from_utf8_lossy(&output.stdout).trim().to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn another_version_than_runs_is_waited_for_and_what_is_no_version_is_not() {
        let deb = |said: &str| read(PackageFormat::Deb, said);
        let found = deb(&format!("{OWN_VERSION} amd64")).unwrap();
        assert_eq!(found, Installed { format: PackageFormat::Deb, architecture: "amd64".to_owned() });
        assert!(
            matches!(deb("0.0.7 amd64"), Err(NotBegun::Yet(why)) if why.contains("has version 0.0.7; restart it"))
        );
        assert!(matches!(deb(""), Err(NotBegun::Ever(_))));
    }
}
