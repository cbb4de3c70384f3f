//! The agent's packages that are built for the tests.

use crate::lab::Failed;
use crate::repository::run;
use std::path::{Path, PathBuf};
use std::process::Command;

/// The node that they are tried on.
pub const NAME: &str = "gate-auken-1";
/// What is upgraded from: the same program, which calls itself an earlier version.
pub const EARLIER: &str = "0.0.9";

/// The packages that were built for it.
pub struct Packages {
    folder: tempfile::TempDir,
}

impl Packages {
    /// Builds the agent's packages, in the version of its program and in an earlier one.
    pub fn build() -> Result<Self, Failed> {
        let folder = tempfile::tempdir().map_err(|error| error.to_string())?;
        let programs = std::env::current_exe().map_err(|error| error.to_string())?;
        let programs = programs.parent().ok_or("no folder")?;
        let earlier = tempfile::tempdir().map_err(|error| error.to_string())?;
        write_earlier(&programs.join("constans-agent"), &earlier.path().join("constans-agent"))?;
        let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../packaging/build");
        for (programs, version) in [(programs, None), (earlier.path(), Some(EARLIER))] {
            let mut build = Command::new(&script);
            build.arg(programs).arg(folder.path()).args(version).env("LEVEL", "1");
            if version.is_some() {
                build.env("ONLY_AGENT", "1");
            }
            run(&mut build)?;
        }
        Ok(Self { folder })
    }

    /// Returns the folder that they are in.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// Returns the agent's package of a format and a version.
    pub fn file(&self, format: &str, version: &str) -> Result<PathBuf, Failed> {
        self.file_of("constans-agent", format, version)
    }

    /// Returns the package of a program, of a format and a version.
    pub fn file_of(&self, name: &str, format: &str, version: &str) -> Result<PathBuf, Failed> {
        let files = std::fs::read_dir(self.folder.path()).map_err(|error| error.to_string())?;
        let is_it = |path: &PathBuf| {
            path.extension().is_some_and(|extension| extension == format)
                && path.file_name().is_some_and(|file| {
                    let file = file.to_string_lossy();
                    [format!("{name}_{version}"), format!("{name}-{version}")]
                        .iter()
                        .any(|one| file.starts_with(one))
                })
        };
        files
            .flatten()
            .map(|file| file.path())
            .find(is_it)
            .ok_or_else(|| format!("no .{format} of {name} {version} was built"))
    }
}

/// Writes the agent as an earlier version of itself: the same program, with another number in it.
fn write_earlier(agent: &Path, to: &Path) -> Result<(), Failed> {
    run(Command::new("strip").arg("-o").arg(to).arg(agent))?;
    let own = own_version()?;
    if own.len() != EARLIER.len() {
        return Err(format!("{EARLIER} has not as many characters as {own}"));
    }
    let mut program = std::fs::read(to).map_err(|error| error.to_string())?;
    for at in 0..program.len().saturating_sub(own.len()) {
        if program[at..].starts_with(own.as_bytes()) {
            program[at..at + own.len()].copy_from_slice(EARLIER.as_bytes());
        }
    }
    std::fs::write(to, program).map_err(|error| error.to_string())?;
    let said = run(Command::new(to).arg("--version"))?;
    if said.contains(EARLIER) { Ok(()) } else { Err(format!("it calls itself {said}")) }
}

pub fn own_version() -> Result<String, Failed> {
    let agent = std::env::current_exe().map_err(|error| error.to_string())?.with_file_name("constans-agent");
    let said = run(Command::new(agent).arg("--version"))?;
    said.split_whitespace().last().map(str::to_owned).ok_or_else(|| format!("no version: {said}"))
}
