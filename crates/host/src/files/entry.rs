//! What is at a path, and how a change of it is detected.

use crate::error::HostError;
use jiff::{SignedDuration, Timestamp};
use rustix::fs::{AtFlags, FileType, Stat};
use serde::{Deserialize, Serialize};
use std::os::fd::OwnedFd;

/// What is at a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EntryKind {
    /// A regular file.
    File,
    /// A directory.
    Directory,
    /// A symbolic link.
    Link,
    /// A socket, a pipe, a device.
    Other,
}

impl EntryKind {
    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::File => "a regular file",
            Self::Directory => "a directory",
            Self::Link => "a symbolic link",
            Self::Other => "a device, socket or pipe",
        }
    }
}

/// An entry of a directory, looked at without following it.
#[derive(Debug, Clone)]
pub struct Entry {
    /// What it is.
    pub what: EntryKind,
    /// The account that owns it.
    pub uid: u32,
    /// The group that owns it.
    pub gid: u32,
    /// Its permissions, twelve bits.
    pub permissions: u32,
    /// Its size in bytes.
    pub size: u64,
    /// How many names it has (hard links).
    pub names: u64,
    /// By what a change is noticed.
    pub stamp: Stamp,
}

/// By what a change of a file is noticed without reading it (inode(7)).
///
/// The kernel changes a file's ctime with every change of contents or metadata; nobody can set it. What was changed in the
/// moment of the reading may have the same ctime, so only a file whose ctime is older than that counts.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "the words are those of inode(7)")]
pub struct Stamp {
    pub device: i64,
    pub inode: i64,
    pub size: i64,
    pub mtime_ns: i64,
    pub ctime_ns: i64,
}

/// At least so often everything is read, whatever its metadata say.
pub(crate) const READ_AGAIN_AFTER: SignedDuration = SignedDuration::from_hours(24);
/// A change so shortly before the reading may not show in the ctime.
const CTIME_MAY_LAG_NS: i64 = 1_000_000_000;

/// Returns whether something that was read at a time may still be known from then, if its metadata are the same.
pub(crate) fn is_fresh(read_at: Timestamp, now: Timestamp) -> bool {
    read_at <= now && now.duration_since(read_at) < READ_AGAIN_AFTER
}

impl Stamp {
    /// Returns whether what was read at a time is what is there now, for a file that had this stamp then and has it now.
    pub(crate) fn vouches_for(&self, read_at: Timestamp, now: Timestamp) -> bool {
        let read_ns = i64::try_from(read_at.as_nanosecond()).unwrap_or(0);
        is_fresh(read_at, now) && self.ctime_ns < read_ns - CTIME_MAY_LAG_NS
    }
}

impl Entry {
    pub(super) fn of(stat: &Stat) -> Self {
        let what = match FileType::from_raw_mode(stat.st_mode) {
            FileType::RegularFile => EntryKind::File,
            FileType::Directory => EntryKind::Directory,
            FileType::Symlink => EntryKind::Link,
            _ => EntryKind::Other,
        };
        Self {
            what,
            uid: stat.st_uid,
            gid: stat.st_gid,
            permissions: stat.st_mode & 0o7777,
            size: u64::try_from(stat.st_size).unwrap_or(0),
            names: stat.st_nlink,
            stamp: Stamp {
                device: stat.st_dev.cast_signed(),
                inode: stat.st_ino.cast_signed(),
                size: stat.st_size,
                mtime_ns: nanoseconds(stat.st_mtime, stat.st_mtime_nsec),
                ctime_ns: nanoseconds(stat.st_ctime, stat.st_ctime_nsec),
            },
        }
    }

    /// Returns whether everybody may read it.
    pub fn is_readable_by_all(&self) -> bool {
        self.permissions & 0o004 != 0
    }
}

/// Who owns a thing and who may do what with it; what is none stays as it is.
#[derive(Debug, Clone, Copy, Default)]
pub struct Ownership {
    /// The account.
    pub uid: Option<u32>,
    /// The group.
    pub gid: Option<u32>,
    /// The permissions.
    pub permissions: Option<u32>,
}

/// Looks at an entry of an opened folder.
pub(super) fn entry_in(folder: &OwnedFd, name: &str, path: &str) -> Result<Option<Entry>, HostError> {
    match rustix::fs::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW) {
        Ok(stat) => Ok(Some(Entry::of(&stat))),
        Err(rustix::io::Errno::NOENT) => Ok(None),
        Err(error) => Err(HostError::io("look at", path, &error.into())),
    }
}

fn nanoseconds(secs: i64, nanos: u64) -> i64 {
    secs.saturating_mul(1_000_000_000).saturating_add(i64::try_from(nanos).unwrap_or(0))
}
