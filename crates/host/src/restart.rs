//! Whether the operating system needs a restart of its node, and restarting it.

use crate::error::HostError;
use crate::files::Files;
use crate::native::Native;
use constans_core::run::{NativeStep, RestartPending};
use jiff::Timestamp;
use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

/// Debian's packages leave this file when they need a restart, and their names in the other.
const REQUIRED: &str = "/run/reboot-required";
const REQUIRED_BY: &str = "/run/reboot-required.pkgs";

/// Returns whether the operating system needs a restart: a package says so, or a kernel was installed since the start and
/// another one runs.
///
/// # Errors
///
/// Returns why the packages' notes could not be read.
pub fn pending(files: &Files, is_private_root: bool) -> Result<Option<RestartPending>, HostError> {
    let mut because = BTreeSet::new();
    let mut since: Option<Timestamp> = None;
    let mut seen = |at: Option<Timestamp>| since = [since, at].into_iter().flatten().min();
    if files.look(REQUIRED)?.is_some() {
        seen(changed_at(&files.outside(REQUIRED)));
        let named = files.read(REQUIRED_BY)?.unwrap_or_default();
        because.extend(
            String::from_utf8_lossy(&named)
                .lines()
                .map(str::trim)
                .filter(|line| !line.is_empty())
                .map(str::to_owned),
        );
        if because.is_empty() {
            because.insert(format!("{REQUIRED} is there"));
        }
    }
    if !is_private_root && let Some((kernel, at)) = newer_kernel() {
        seen(Some(at));
        because.insert(format!("the kernel {kernel} was installed since the start"));
    }
    Ok(since.map(|since| RestartPending { since, because: because.into_iter().collect() }))
}

/// Returns the id of the node's present start; it is another one after each.
pub fn boot_id() -> Option<String> {
    fs::read_to_string("/proc/sys/kernel/random/boot_id").ok().map(|id| id.trim().to_owned())
}

/// Restarts the node; signed-in users receive the reason.
///
/// # Errors
///
/// Returns why it could not be begun.
pub fn restart(why: &str) -> Result<NativeStep, HostError> {
    Native::new("shutdown", ["-r", "now", why]).must().map(|ended| ended.step)
}

fn changed_at(path: &Path) -> Option<Timestamp> {
    fs::symlink_metadata(path).ok().and_then(|metadata| Timestamp::from_second(metadata.ctime()).ok())
}

/// Returns the newest kernel that came since the start and does not run.
fn newer_kernel() -> Option<(String, Timestamp)> {
    let running = fs::read_to_string("/proc/sys/kernel/osrelease").ok()?;
    let stat = fs::read_to_string("/proc/stat").ok()?;
    let started = stat
        .lines()
        .find_map(|line| line.strip_prefix("btime "))?
        .trim()
        .parse()
        .ok()
        .and_then(|secs| Timestamp::from_second(secs).ok())?;
    let kernels = fs::read_dir("/boot").ok()?.flatten().filter_map(|entry| {
        let version = entry.file_name().to_str()?.strip_prefix("vmlinuz-")?.to_owned();
        Some((version, changed_at(&entry.path())?))
    });
    kernels.filter(|(version, at)| *at > started && version != running.trim()).max_by_key(|(_, at)| *at)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_packages_leave_behind_is_a_pending_restart() {
        let root = tempfile::tempdir().unwrap();
        let files = Files::below(root.path());
        assert_eq!(pending(&files, true).unwrap(), None);
        fs::create_dir(root.path().join("run")).unwrap();
        fs::write(root.path().join("run/reboot-required"), "*** System restart required ***\n").unwrap();
        assert_eq!(pending(&files, true).unwrap().unwrap().because, ["/run/reboot-required is there"]);
        fs::write(root.path().join("run/reboot-required.pkgs"), "linux-image-amd64\nlibc6\nlibc6\n").unwrap();
        assert_eq!(pending(&files, true).unwrap().unwrap().because, ["libc6", "linux-image-amd64"]);
    }
}
