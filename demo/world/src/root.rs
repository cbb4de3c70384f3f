//! A machine as a private root folder: its own files, dpkg database and accounts, under an unprivileged account.

use std::fs;
use std::io;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, lchown};
use std::path::{Path, PathBuf};

/// The account (nobody) that owns private roots when they are made by root.
pub const UNPRIVILEGED: u32 = 65_534;

/// What checks rules of sudo here: the real one is not in a private root.
const VISUDO: &str = r#"#!/bin/sh
# A stand-in for visudo in a private root: each line is a comment, or has a host and a command.
[ "$1" = -cf ] || exit 2
if grep -vE '^(#.*|)$|=' "$2" >&2; then echo "the line above is no rule" >&2; exit 1; fi
"#;

/// A private root.
#[derive(Debug, Clone)]
pub struct PrivateRoot {
    path: PathBuf,
}

impl PrivateRoot {
    /// Makes a private root whose packages come from `repository`.
    ///
    /// # Errors
    ///
    /// Returns what could not be made.
    pub fn make(path: &Path, repository: &Path) -> io::Result<Self> {
        let root = Self { path: path.to_owned() };
        for folder in [
            "var/lib/dpkg/updates",
            "var/lib/dpkg/info",
            "var/lib/dpkg/triggers",
            "var/lib/apt/lists/partial",
            "var/cache/apt/archives/partial",
            "var/log/apt",
            "etc/apt/apt.conf.d",
            "etc/apt/preferences.d",
            "etc/apt/sources.list.d",
            "etc/apt/trusted.gpg.d",
            "etc/cron.d",
            "etc/ssl/certs",
            "etc/sysctl.d",
            "etc/systemd/system",
            "lib/systemd/system",
            "home",
            "run",
            "tmp",
            "usr/bin",
            "usr/sbin",
            "var/spool",
        ] {
            fs::create_dir_all(path.join(folder))?;
        }
        let sources = format!("deb [trusted=yes] file:{} ./\n", repository.display());
        let login_defs = "UID_MIN 1000\nUID_MAX 60000\nSYS_UID_MIN 100\nSYS_UID_MAX 999\nGID_MIN 1000\nGID_MAX 60000\nSYS_GID_MIN 100\nSYS_GID_MAX 999\nUSERGROUPS_ENAB yes\nENCRYPT_METHOD SHA512\n";
        for (name, contents) in [
            ("var/lib/dpkg/status", ""),
            ("etc/os-release", "ID=debian\nNAME=\"Debian GNU/Linux\"\nVERSION_ID=\"12\"\n"),
            ("etc/issue", "Debian GNU/Linux 12\n"),
            ("etc/passwd", "root:x:0:0:root:/root:/bin/bash\nguest:x:1001:1001:Guest:/home/guest:/bin/sh\n"),
            ("etc/group", "root:x:0:\nguest:x:1001:\n"),
            ("etc/shadow", "root:*:19000:0:99999:7:::\nguest:*:19000:0:99999:7:::\n"),
            ("etc/gshadow", "root:*::\nguest:!::\n"),
            ("etc/subuid", ""),
            ("etc/subgid", ""),
            ("etc/login.defs", login_defs),
            ("etc/apt/sources.list", sources.as_str()),
            ("etc/ca-certificates.conf", "# No authority of Debian's own is trusted here\n"),
            ("usr/sbin/visudo", VISUDO),
        ] {
            fs::write(path.join(name), contents)?;
        }
        fs::set_permissions(path.join("usr/sbin/visudo"), fs::Permissions::from_mode(0o755))?;
        fs::copy("/usr/sbin/update-ca-certificates", path.join("usr/sbin/update-ca-certificates"))?;
        root.give_away()?;
        Ok(root)
    }

    /// Returns where it lies.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Returns where a path of the machine lies.
    pub fn at(&self, path: &str) -> PathBuf {
        self.path.join(path.trim_start_matches('/'))
    }

    /// Reads a file of the machine.
    ///
    /// # Errors
    ///
    /// Returns why it could not be read.
    pub fn read(&self, path: &str) -> io::Result<String> {
        fs::read_to_string(self.at(path))
    }

    /// Writes a file of the machine as somebody on it would.
    ///
    /// # Errors
    ///
    /// Returns why it could not be written.
    pub fn write(&self, path: &str, contents: &str) -> io::Result<()> {
        let place = self.at(path);
        fs::create_dir_all(place.parent().unwrap_or(Path::new("/")))?;
        fs::write(&place, contents)?;
        self.give_away()
    }

    /// Gives everything to the unprivileged account, if made by root.
    fn give_away(&self) -> io::Result<()> {
        fn all(path: &Path) -> io::Result<()> {
            lchown(path, Some(UNPRIVILEGED), Some(UNPRIVILEGED))?;
            let metadata = fs::symlink_metadata(path)?;
            if metadata.is_dir() {
                for entry in fs::read_dir(path)? {
                    all(&entry?.path())?;
                }
            }
            Ok(())
        }
        if is_root() { all(&self.path) } else { Ok(()) }
    }
}

/// Returns whether this program has root's rights.
pub fn is_root() -> bool {
    fs::metadata("/proc/self").is_ok_and(|metadata| metadata.uid() == 0)
}
