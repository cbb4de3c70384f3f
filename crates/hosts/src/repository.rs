//! The packages of Skerry Line, and some that only tests need, in a repository that is signed as real ones are.

use crate::kinds::Texts;
use crate::lab::Failed;
use constans_world::{PACKAGES, Package, build_packages, package};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

/// A repository and the key that signs it.
pub struct Repository {
    folder: PathBuf,
    keys: PathBuf,
    /// The key and its fingerprint.
    pub texts: Texts,
}

/// Takes long to install, so that it can be cut off.
const SLOW: Package = Package { after_install: "sleep 4\n", ..package("quay-tides", "1.0") };

impl Repository {
    /// Builds the packages and signs their index with a new key.
    pub fn build(folder: &Path, keys: &Path) -> Result<Self, Failed> {
        let gpg = |arguments: &[&str]| {
            run(Command::new("gpg")
                .arg("--homedir")
                .arg(keys)
                .args(["--batch", "--quiet", "--passphrase", ""])
                .args(arguments))
        };
        gpg(&["--quick-gen-key", "Skerry Line packages <ops@skerry.example>", "ed25519", "sign", "never"])?;
        let key = gpg(&["--armor", "--export"])?;
        let listed = gpg(&["--with-colons", "--list-keys"])?;
        let fingerprint = listed
            .lines()
            .find_map(|line| line.strip_prefix("fpr:"))
            .map(|rest| rest.trim_matches(':').to_owned());
        let fingerprint = fingerprint.ok_or("gpg lists no fingerprint")?;
        let repository =
            Self { folder: folder.to_owned(), keys: keys.to_owned(), texts: Texts { key, fingerprint } };
        repository.offer(&[])?;
        Ok(repository)
    }

    /// The folder of the key that signs it.
    pub fn keys(&self) -> &Path {
        &self.keys
    }

    /// Offers further packages from now on.
    pub fn offer(&self, more: &[Package]) -> Result<(), Failed> {
        let all: Vec<Package> = PACKAGES.iter().chain([&SLOW]).chain(more).copied().collect();
        build_packages(&self.folder, &all)
            .map_err(|error| format!("the packages could not be built: {error}"))?;
        let signed = self.folder.join("InRelease");
        let _ = fs::remove_file(&signed);
        let mut sign = Command::new("gpg");
        sign.arg("--homedir")
            .arg(&self.keys)
            .args(["--batch", "--quiet", "--clearsign", "--output"])
            .arg(&signed)
            .arg(self.folder.join("Release"));
        run(&mut sign).map(drop)
    }
}

pub fn run(command: &mut Command) -> Result<String, Failed> {
    let output = command.output().map_err(|error| format!("{command:?}: {error}"))?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
    }
    Err(format!("{command:?}: {}", String::from_utf8_lossy(&output.stderr)))
}
