//! The packages by which the agent is installed: which are served, and the file that installs them on a machine.

mod installer;
mod read;

pub use installer::{Installer, install_line};
pub use read::{PackageSays, read};

use crate::problem::ApiError;
use crate::store::agent_package::PackageRow;
use constans_wire::agent_package::{AgentPackage, PackageFormat};
use semver::Version;
use std::collections::BTreeMap;

/// This many versions earlier than the server's own are served.
const EARLIER: usize = 2;

/// Returns the version of this server.
pub fn own_version() -> Version {
    Version::parse(env!("CARGO_PKG_VERSION")).expect("Cargo's versions are such")
}

/// Returns a package as it is shown.
///
/// # Errors
///
/// Returns that its row is none of this program's.
pub fn shown(row: PackageRow) -> Result<AgentPackage, ApiError> {
    let format = match row.format.as_str() {
        "deb" => PackageFormat::Deb,
        "rpm" => PackageFormat::Rpm,
        other => return Err(ApiError::failed("reading a package's row", &format!("format {other}"))),
    };
    Ok(AgentPackage {
        version: row.version,
        format,
        architecture: row.architecture,
        glibc: row.glibc,
        bytes: row.bytes.unsigned_abs(),
        sha256: row.sha256,
        added_by: row.added_by,
        added_at: row.added_at.to_jiff(),
    })
}

fn version_of(package: &AgentPackage) -> Version {
    Version::parse(&package.version).unwrap_or(Version::new(0, 0, 0))
}

/// Orders packages: by format and architecture, the newest version first.
pub fn sorted(mut packages: Vec<AgentPackage>) -> Vec<AgentPackage> {
    packages.sort_by(|a, b| {
        let kind = |package: &AgentPackage| (package.format, package.architecture.clone());
        kind(a).cmp(&kind(b)).then_with(|| version_of(b).cmp(&version_of(a)))
    });
    packages
}

/// Returns which of these packages are no longer served: of each format and architecture all but the server's own version, the two
/// before it that are newest, and those that are in use.
pub fn outdated(packages: &[AgentPackage], own: &Version, in_use: &[String]) -> Vec<AgentPackage> {
    let mut earlier: BTreeMap<(PackageFormat, &str), Vec<&AgentPackage>> = BTreeMap::new();
    for package in packages.iter().filter(|package| version_of(package) < *own) {
        earlier.entry((package.format, &package.architecture)).or_default().push(package);
    }
    earlier
        .into_values()
        .flat_map(|mut of_kind| {
            of_kind.sort_by_key(|package| std::cmp::Reverse(version_of(package)));
            of_kind.into_iter().skip(EARLIER).filter(|package| !in_use.contains(&package.version)).cloned()
        })
        .collect()
}

/// Returns of each format and architecture the newest package, or the one of a version.
pub fn chosen(packages: &[AgentPackage], version: Option<&str>) -> Vec<AgentPackage> {
    let mut chosen: BTreeMap<(PackageFormat, &str), &AgentPackage> = BTreeMap::new();
    for package in packages.iter().filter(|package| version.is_none_or(|version| package.version == version))
    {
        let known = chosen.entry((package.format, &package.architecture)).or_insert(package);
        if version_of(known) < version_of(package) {
            *known = package;
        }
    }
    chosen.into_values().cloned().collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    pub fn package(format: PackageFormat, version: &str) -> AgentPackage {
        AgentPackage {
            version: version.to_owned(),
            format,
            architecture: if format == PackageFormat::Deb { "amd64" } else { "x86_64" }.to_owned(),
            glibc: "2.36".to_owned(),
            bytes: 3_000_000,
            sha256: constans_core::digest::of_contents(format!("{format}{version}").as_bytes()).to_string(),
            added_by: "ilse.maren".to_owned(),
            added_at: jiff::Timestamp::UNIX_EPOCH,
        }
    }

    #[test]
    fn the_servers_own_version_and_the_two_before_are_served() {
        let all: Vec<AgentPackage> = ["0.9.0", "0.10.0", "0.8.1", "1.0.0", "0.8.0"]
            .iter()
            .map(|version| package(PackageFormat::Deb, version))
            .chain([package(PackageFormat::Rpm, "0.8.0")])
            .collect();
        let left: Vec<String> = outdated(&all, &Version::new(1, 0, 0), &["0.8.0".to_owned()])
            .iter()
            .map(|package| package.version.clone())
            .collect();
        assert_eq!(left, ["0.8.1"], "0.10 is newer than 0.9, 0.8.0 is in use, and formats are counted apart");
    }

    #[test]
    fn of_each_format_the_newest_is_installed_or_the_version_that_is_asked_for() {
        let all = [
            package(PackageFormat::Deb, "0.9.0"),
            package(PackageFormat::Deb, "0.10.0"),
            package(PackageFormat::Rpm, "0.9.0"),
        ];
        let versions = |version| -> Vec<String> {
            chosen(&all, version).iter().map(|one| format!("{} {}", one.format, one.version)).collect()
        };
        assert_eq!(versions(None), ["deb 0.10.0", "rpm 0.9.0"]);
        assert_eq!(versions(Some("0.9.0")), ["deb 0.9.0", "rpm 0.9.0"]);
        assert!(versions(Some("3.0.0")).is_empty());
    }
}
