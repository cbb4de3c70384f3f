//! By which package this agent is installed.

use super::{AGENT, OWN_VERSION};
use constans_wire::agent_package::PackageFormat;
use std::process::Command;

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
pub fn installed() -> Result<Installed, String> {
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
    let (format, said) = known
        .ok_or("it was not installed by a package; install it by the line of constans agent-package line")?;
    match said.split_whitespace().collect::<Vec<_>>()[..] {
        [version, architecture] if version == OWN_VERSION => {
            Ok(Installed { format, architecture: architecture.to_owned() })
        }
        [version, _] => Err(format!(
            "version {OWN_VERSION} runs, and the package that is installed has version {version}; restart it: systemctl restart {AGENT}"
        )),
        _ => Err(format!("the package manager says of it: {said}")),
    }
}

/// Returns what a program says that ends well.
fn ask(program: &str, arguments: &[&str]) -> Option<String> {
    let output = Command::new(program).args(arguments).env("LC_ALL", "C").output().ok()?;
    output.status.success().then(|| String::from_utf8_lossy(&output.stdout).trim().to_owned())
}
