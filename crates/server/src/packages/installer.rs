//! The file that installs the agent on a machine, and the line that fetches it.

use constans_core::digest::hex;
use constans_wire::agent_package::{AgentPackage, InstallLine, PackageFormat};
use sha2::{Digest as _, Sha256};

const TEMPLATE: &str = include_str!("installer.sh");

/// A file that a line fetches.
pub struct Installer {
    /// The file.
    pub contents: String,
    /// Its SHA-256, in hexadecimal digits.
    pub sha256: String,
}

impl Installer {
    /// Writes the file that installs these packages, for a server with these URLs of its agents' listener.
    pub fn of(packages: &[AgentPackage], urls: &[String]) -> Self {
        let listed: Vec<String> = packages
            .iter()
            .map(|one| {
                let AgentPackage { version, format, architecture, glibc, sha256, bytes, .. } = one;
                format!("{version} {format} {architecture} {glibc} {sha256} {bytes}")
            })
            .collect();
        let contents = TEMPLATE
            .replace("@URLS@", &urls.join(" "))
            .replace("@PACKAGES@", &listed.join("\n"))
            .replace("@SYSTEMS@", &systems(packages).join("; "));
        let sha256 = hex(&Sha256::digest(contents.as_bytes()));
        Self { contents, sha256 }
    }
}

/// Returns what packages install on, one system each.
fn systems(packages: &[AgentPackage]) -> Vec<String> {
    let mut systems: Vec<String> = packages
        .iter()
        .map(|AgentPackage { format, architecture, glibc, .. }| {
            let family = match format {
                PackageFormat::Deb => "Debian, Ubuntu and what descends from them",
                PackageFormat::Rpm => "Fedora, Red Hat, SUSE and what descends from them",
            };
            format!("{family}, {architecture}, with glibc {glibc} or later")
        })
        .collect();
    systems.push(
        "containers of these: without systemd, have constans-agent daemon started as their program"
            .to_owned(),
    );
    systems
}

/// Returns the line that fetches a file from a server, compares it with its SHA-256, and has a shell do what it says.
pub fn install_line(installer: &Installer, url: &str, packages: Vec<AgentPackage>) -> InstallLine {
    let sha256 = &installer.sha256;
    let line = format!(
        "f=$(mktemp); for get in 'curl -fsSko' 'wget -q --no-check-certificate -O'; do $get \"$f\" {url}/installers/{sha256} && break; done; echo \"{sha256}  $f\" | sha256sum -c --status || {{ echo 'nothing was installed: what came is not what this line installs; have a new one printed' >&2; rm \"$f\"; false; }} && sh \"$f\""
    );
    InstallLine { line, systems: systems(&packages), installs: packages }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::packages::tests::package;
    use std::process::Command;

    fn installer() -> Installer {
        let packages = [package(PackageFormat::Deb, "0.1.0"), package(PackageFormat::Rpm, "0.1.0")];
        Installer::of(&packages, &["https://constans.skerry.example:7443".to_owned()])
    }

    #[test]
    fn the_file_is_a_shells_and_has_all_that_it_needs() {
        let Installer { contents, .. } = installer();
        for place in ["@URLS@", "@PACKAGES@", "@SYSTEMS@"] {
            assert!(!contents.contains(place), "{place} is filled in");
        }
        assert!(
            contents
                .contains(&format!("0.1.0 deb amd64 2.36 {}", package(PackageFormat::Deb, "0.1.0").sha256))
        );
        let read = Command::new("sh").args(["-n", "-c", &contents]).output().unwrap();
        assert!(read.status.success(), "{}", String::from_utf8_lossy(&read.stderr));
    }

    #[test]
    fn the_line_runs_only_what_has_its_digest() {
        let folder = tempfile::tempdir().unwrap();
        let program = folder.path().join("curl");
        // In place of curl: writes what it is told to.
        std::fs::write(&program, "#!/bin/sh\nprintf '%s' \"$SENT\" > \"$2\"\n").unwrap();
        std::fs::set_permissions(&program, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
        let harmless = "echo it ran\n".to_owned();
        let installer = Installer { sha256: hex(&Sha256::digest(&harmless)), contents: harmless };
        let line = install_line(&installer, "https://constans.skerry.example:7443", Vec::new()).line;
        let paste = |sent: &str| {
            let path = format!("{}:/usr/bin:/bin", folder.path().display());
            Command::new("sh")
                .args(["-c", &line])
                .env("PATH", path)
                .env("SENT", sent)
                .env("TMPDIR", folder.path())
                .output()
                .unwrap()
        };
        let right = paste(&installer.contents);
        assert!(right.status.success() && right.stdout == b"it ran\n", "{right:?}");
        let altered = paste("echo it ran, altered\n");
        assert!(String::from_utf8_lossy(&altered.stderr).contains("nothing was installed"));
        assert!(
            !altered.status.success() && !String::from_utf8_lossy(&altered.stdout).contains("ran"),
            "{altered:?}"
        );
    }
}
