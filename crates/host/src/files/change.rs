//! Changes files below a root: whole or not at all, recorded before they begin, flushed when they are done.

use super::{Entry, EntryKind, Files, Ownership, reopen};
use crate::attributes::carry_attributes;
use crate::error::HostError;
use crate::steps;
use rustix::fs::{AtFlags, Mode, OFlags};
use std::fs::{File, OpenOptions};
use std::io::{self, Read, Write as _};
use std::os::fd::{AsRawFd as _, OwnedFd};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

impl Files {
    fn note_unfinished(&self, path: &str) -> Result<(), HostError> {
        let Some(note) = &self.unfinished else { return Ok(()) };
        let written = OpenOptions::new()
            .create(true)
            .append(true)
            .mode(0o600)
            .open(note)
            .and_then(|mut note| writeln!(note, "{path}"));
        written.map_err(|error| {
            HostError::io(
                "note in the agent's own folder what is about to be changed: write",
                &note.display().to_string(),
                &error,
            )
        })
    }

    /// Removes what runs that were cut off left beside the paths that they were about to replace.
    pub fn tidy(&self) {
        let Some(note) = &self.unfinished else { return };
        for path in std::fs::read_to_string(note).unwrap_or_default().lines() {
            self.remove_candidate(path);
        }
        let _ = std::fs::remove_file(note);
    }

    /// Makes the folders on the way to a path that are not there yet.
    ///
    /// # Errors
    ///
    /// Returns the folder that could not be made.
    pub fn make_way(&self, path: &str) -> Result<(), HostError> {
        let parent = path.rsplit_once('/').map_or("", |(parent, _)| parent);
        let mut way = String::new();
        for name in parent.split('/').filter(|name| !name.is_empty()) {
            way = format!("{way}/{name}");
            if self.look(&way)?.is_none() {
                self.make_directory(&way, Ownership::default())?;
            }
        }
        Ok(())
    }

    /// Replaces a file whole: the new contents are written beside it with their ownership, flushed, accepted by
    /// `accept`, and renamed over the old ones.
    ///
    /// # Errors
    ///
    /// Returns what failed; the old contents are then as they were.
    pub fn replace(
        &self,
        path: &str,
        mut contents: &[u8],
        ownership: Ownership,
        accept: impl FnOnce(&Path) -> Result<(), HostError>,
    ) -> Result<(), HostError> {
        self.replace_by(path, &mut contents, ownership, accept)
    }

    /// Replaces a file as [`Files::replace`] does, by what can be read, piece by piece.
    ///
    /// # Errors
    ///
    /// Returns what failed; the old file is then as it was.
    pub fn replace_by(
        &self,
        path: &str,
        contents: &mut dyn Read,
        ownership: Ownership,
        accept: impl FnOnce(&Path) -> Result<(), HostError>,
    ) -> Result<(), HostError> {
        let (folder, name) = self.folder_of(path)?.ok_or_else(|| no_folder(path))?;
        let candidate = candidate_name(&name);
        let written =
            self.write_candidate(&folder, (&candidate, &name), path, contents, ownership).and_then(|()| {
                steps::reached("candidate written", path);
                accept(&self.outside(&beside(path, &candidate)))
            });
        let renamed = written.and_then(|()| {
            steps::reached("candidate accepted", path);
            rustix::fs::renameat(&folder, candidate.as_str(), &folder, name.as_str())
                .map_err(|error| HostError::io("replace", path, &error.into()))
        });
        if let Err(error) = renamed {
            let _ = rustix::fs::unlinkat(&folder, candidate.as_str(), AtFlags::empty());
            return Err(error);
        }
        steps::reached("renamed", path);
        flush(&folder, path)
    }

    fn write_candidate(
        &self,
        folder: &OwnedFd,
        (candidate, old): (&str, &str),
        path: &str,
        contents: &mut dyn Read,
        ownership: Ownership,
    ) -> Result<(), HostError> {
        self.note_unfinished(path)?;
        // One that an earlier run left behind when it was cut off.
        let _ = rustix::fs::unlinkat(folder, candidate, AtFlags::empty());
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let doing =
            |doing: &'static str| move |error: rustix::io::Errno| HostError::io(doing, path, &error.into());
        let fd = rustix::fs::openat(folder, candidate, flags, Mode::from_raw_mode(0o600))
            .map_err(doing("write"))?;
        steps::reached("candidate opened", path);
        carry_attributes(folder, old, &fd).map_err(doing("carry over the extended attributes of"))?;
        set_ownership(&fd, ownership).map_err(doing("set the ownership of"))?;
        let mut file = File::from(fd);
        io::copy(contents, &mut file)
            .and_then(|_| file.sync_all())
            .map_err(|error| HostError::io("write", path, &error))
    }

    /// Sets ownership and permissions of what is at a path, tightening before anything is widened.
    ///
    /// # Errors
    ///
    /// Returns what failed.
    pub fn set_ownership(&self, path: &str, ownership: Ownership) -> Result<(), HostError> {
        let (folder, name) = self.folder_of(path)?.ok_or_else(|| no_folder(path))?;
        let doing = |error: rustix::io::Errno| HostError::io("set the ownership of", path, &error.into());
        let fd = rustix::fs::openat(
            &folder,
            name.as_str(),
            OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC,
            Mode::empty(),
        )
        .map_err(doing)?;
        let entry = Entry::of(&rustix::fs::fstat(&fd).map_err(doing)?);
        if entry.what == EntryKind::Link {
            return Err(HostError::new(format!("{path} is a symbolic link, and links are not followed")));
        }
        let wanted = ownership.permissions.unwrap_or(entry.permissions);
        let changes_owner = ownership.uid.is_some_and(|uid| uid != entry.uid)
            || ownership.gid.is_some_and(|gid| gid != entry.gid);
        if changes_owner {
            chmod(&fd, entry.permissions & wanted).map_err(doing)?;
            steps::reached("tightened", path);
            chown(&fd, ownership).map_err(doing)?;
        }
        chmod(&fd, wanted).map_err(doing)?;
        steps::reached("ownership set", path);
        Ok(())
    }

    /// Makes a directory with its ownership. Its parent must be there.
    ///
    /// # Errors
    ///
    /// Returns what failed.
    pub fn make_directory(&self, path: &str, ownership: Ownership) -> Result<(), HostError> {
        let (folder, name) = self.folder_of(path)?.ok_or_else(|| no_folder(path))?;
        rustix::fs::mkdirat(&folder, name.as_str(), Mode::from_raw_mode(0o700))
            .map_err(|error| HostError::io("make", path, &error.into()))?;
        steps::reached("directory made", path);
        self.set_ownership(
            path,
            Ownership { permissions: Some(ownership.permissions.unwrap_or(0o755)), ..ownership },
        )?;
        flush(&folder, path)
    }

    /// Makes a link, or puts a new one in the place of an old one at once.
    ///
    /// # Errors
    ///
    /// Returns what failed; the old link is then as it was.
    pub fn make_link(&self, path: &str, target: &str) -> Result<(), HostError> {
        let (folder, name) = self.folder_of(path)?.ok_or_else(|| no_folder(path))?;
        let candidate = candidate_name(&name);
        self.note_unfinished(path)?;
        let doing = |error: rustix::io::Errno| HostError::io("make the link", path, &error.into());
        let _ = rustix::fs::unlinkat(&folder, candidate.as_str(), AtFlags::empty());
        rustix::fs::symlinkat(target, &folder, candidate.as_str()).map_err(doing)?;
        steps::reached("link made", path);
        rustix::fs::renameat(&folder, candidate.as_str(), &folder, name.as_str()).map_err(doing)?;
        steps::reached("renamed", path);
        flush(&folder, path)
    }

    /// Removes a file, a link or an empty directory.
    ///
    /// # Errors
    ///
    /// Returns what failed; a directory that is not empty is not removed.
    pub fn remove(&self, path: &str, what: EntryKind) -> Result<(), HostError> {
        let (folder, name) = self.folder_of(path)?.ok_or_else(|| no_folder(path))?;
        let flags = if what == EntryKind::Directory { AtFlags::REMOVEDIR } else { AtFlags::empty() };
        rustix::fs::unlinkat(&folder, name.as_str(), flags).map_err(|error| {
            let error = HostError::io("remove", path, &error.into());
            if what == EntryKind::Directory {
                error.remedy("only empty directories are removed: inspect and remove its contents")
            } else {
                error
            }
        })?;
        steps::reached("removed", path);
        flush(&folder, path)
    }

    fn remove_candidate(&self, path: &str) {
        if let Ok(Some((folder, name))) = self.folder_of(path) {
            let _ = rustix::fs::unlinkat(&folder, candidate_name(&name).as_str(), AtFlags::empty());
        }
    }
}

fn no_folder(path: &str) -> HostError {
    let parent = path.rsplit_once('/').map_or("/", |(parent, _)| parent);
    HostError::new(format!("the folder {parent} does not exist"))
        .remedy(format!("add a clause `directory:{parent}`, or install what creates it"))
}

/// Returns the name under which new contents are written beside a file.
fn candidate_name(name: &str) -> String {
    let end = (0..=name.len().min(200)).rev().find(|at| name.is_char_boundary(*at)).unwrap_or(0);
    format!(".{}.constans-new", &name[..end])
}

fn beside(path: &str, name: &str) -> String {
    let parent = path.rsplit_once('/').map_or("", |(parent, _)| parent);
    format!("{parent}/{name}")
}

fn set_ownership(fd: &OwnedFd, ownership: Ownership) -> rustix::io::Result<()> {
    // The owner first: changing it clears the set-id bits.
    if ownership.uid.is_some() || ownership.gid.is_some() {
        rustix::fs::fchown(fd, ownership.uid.map(uid), ownership.gid.map(gid))?;
    }
    rustix::fs::fchmod(fd, Mode::from_raw_mode(ownership.permissions.unwrap_or(0o644)))
}

fn chown(fd: &OwnedFd, ownership: Ownership) -> rustix::io::Result<()> {
    rustix::fs::chownat(fd, "", ownership.uid.map(uid), ownership.gid.map(gid), AtFlags::EMPTY_PATH)
}

/// Sets permissions by an O_PATH descriptor, which needs no right to read the file.
fn chmod(fd: &OwnedFd, permissions: u32) -> rustix::io::Result<()> {
    rustix::fs::chmod(format!("/proc/self/fd/{}", fd.as_raw_fd()), Mode::from_raw_mode(permissions))
}

fn uid(raw: u32) -> rustix::fs::Uid {
    rustix::fs::Uid::from_raw(raw)
}

fn gid(raw: u32) -> rustix::fs::Gid {
    rustix::fs::Gid::from_raw(raw)
}

fn flush(folder: &OwnedFd, path: &str) -> Result<(), HostError> {
    let flushed = reopen(folder).and_then(|folder| rustix::fs::fsync(&folder));
    flushed.map_err(|error| HostError::io("flush the folder of", path, &error.into()))
}

#[cfg(test)]
mod tests {
    use super::super::tests::root;
    use super::*;

    #[test]
    fn a_file_is_replaced_whole_and_nothing_is_left_beside_it() {
        let (folder, files) = root();
        let ownership = Ownership { permissions: Some(0o640), ..Ownership::default() };
        files.replace("/etc/issue", b"one", ownership, |_| Ok(())).unwrap();
        files.replace("/etc/issue", b"two", ownership, |_| Ok(())).unwrap();
        assert_eq!(files.read("/etc/issue").unwrap().unwrap(), b"two");
        assert_eq!(files.look("/etc/issue").unwrap().unwrap().permissions, 0o640);
        assert_eq!(std::fs::read_dir(folder.path().join("etc")).unwrap().count(), 1);
    }

    #[test]
    fn extended_attributes_go_along() {
        let (folder, files) = root();
        let path = folder.path().join("etc/issue");
        std::fs::write(&path, "old").unwrap();
        // A list that lets the account 4242 read, as setxattr(2) takes it: version 2, then tag, rights and number of each entry.
        let entry = |tag: u16, rights: u16, number: u32| {
            [tag.to_le_bytes().to_vec(), rights.to_le_bytes().to_vec(), number.to_le_bytes().to_vec()]
                .concat()
        };
        let none = u32::MAX;
        let list = [
            2u32.to_le_bytes().to_vec(),
            entry(1, 6, none),
            entry(2, 4, 4242),
            entry(4, 4, none),
            entry(16, 4, none),
            entry(32, 4, none),
        ]
        .concat();
        let set = |name: &str, value: &[u8]| {
            rustix::fs::setxattr(&path, name, value, rustix::fs::XattrFlags::empty())
        };
        if set("user.note", b"kept").is_err() || set("system.posix_acl_access", &list).is_err() {
            eprintln!(
                "not tested: the file system of {} has no extended attributes",
                folder.path().display()
            );
            return;
        }
        files
            .replace(
                "/etc/issue",
                b"new",
                Ownership { permissions: Some(0o644), ..Ownership::default() },
                |_| Ok(()),
            )
            .unwrap();
        let value = |name: &str| {
            let mut buffer = vec![0; 256];
            let length = rustix::fs::getxattr(&path, name, &mut buffer[..]).unwrap();
            buffer[..length].to_vec()
        };
        assert_eq!(value("user.note"), b"kept");
        assert_eq!(value("system.posix_acl_access"), list);
    }

    #[test]
    fn contents_that_are_not_accepted_change_nothing() {
        let (folder, files) = root();
        std::fs::write(folder.path().join("etc/issue"), "old").unwrap();
        let refused = files.replace("/etc/issue", b"new", Ownership::default(), |candidate| {
            assert_eq!(std::fs::read(candidate).unwrap(), b"new");
            Err(HostError::new("refused"))
        });
        assert_eq!(refused.unwrap_err().message, "refused");
        assert_eq!(std::fs::read(folder.path().join("etc/issue")).unwrap(), b"old");
        assert_eq!(std::fs::read_dir(folder.path().join("etc")).unwrap().count(), 1);
    }
}
