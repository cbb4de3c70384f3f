//! Files below one root: never through a link that somebody else made, and replaced whole or not at all.

mod entry;

use crate::attributes::carry_attributes;
use crate::error::HostError;
use crate::steps;
use constans_core::digest::{Digest, of_contents, of_reader};
#[cfg(test)]
pub(crate) use entry::READ_AGAIN_AFTER;
use entry::entry_in;
pub(crate) use entry::is_fresh;
pub use entry::{Entry, Ownership, Stamp, What};
use rustix::fs::{AtFlags, FileType, Mode, OFlags, ResolveFlags};
use std::fs::{File, OpenOptions};
use std::io::{Read as _, Write as _};
use std::os::fd::{AsFd, AsRawFd as _, OwnedFd};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

const MOST_LINKS: usize = 40;
/// The largest file whose contents are compared, in bytes.
pub const LARGEST_FILE: u64 = 1024 * 1024 * 1024;

/// The files below one root folder.
#[derive(Debug, Clone)]
pub struct Files {
    root: PathBuf,
    /// The root, opened when it is first needed.
    opened: Arc<OnceLock<OwnedFd>>,
    /// The folder that was looked into last, for looking only: most clauses lie beside each other.
    last_folder: LastFolder,
    /// Where it is noted what is about to be replaced, so that what a cut-off run leaves beside a path is found.
    unfinished: Option<PathBuf>,
}

/// A folder and where it lies. It is not shared by copies.
#[derive(Debug, Default)]
struct LastFolder(Mutex<Option<(String, OwnedFd)>>);

impl Clone for LastFolder {
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl Files {
    /// Returns the files below a root.
    pub fn below(root: impl Into<PathBuf>) -> Self {
        Self { root: root.into(), opened: Arc::default(), last_folder: LastFolder::default(), unfinished: None }
    }

    /// Notes in this file what is about to be replaced.
    #[must_use]
    pub fn noting(self, unfinished: PathBuf) -> Self {
        Self { unfinished: Some(unfinished), ..self }
    }

    fn note_unfinished(&self, path: &str) -> Result<(), HostError> {
        let Some(note) = &self.unfinished else { return Ok(()) };
        let written = OpenOptions::new().create(true).append(true).mode(0o600).open(note).and_then(|mut note| writeln!(note, "{path}"));
        written
            .map_err(|error| HostError::io("note in the agent's own folder what is about to be changed: write", &note.display().to_string(), &error))
    }

    /// Removes what runs that were cut off left beside the paths that they were about to replace.
    pub fn tidy(&self) {
        let Some(note) = &self.unfinished else { return };
        for path in std::fs::read_to_string(note).unwrap_or_default().lines() {
            self.remove_candidate(path);
        }
        let _ = std::fs::remove_file(note);
    }

    /// Returns the root.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Returns where a path of the node lies for programs that know no roots.
    pub fn outside(&self, path: &str) -> PathBuf {
        self.root.join(path.trim_start_matches('/'))
    }

    /// Looks at an entry without following it; none if it is not there.
    ///
    /// # Errors
    ///
    /// Returns what kept it from being looked at.
    pub fn look(&self, path: &str) -> Result<Option<Entry>, HostError> {
        let Some((folder, name)) = self.folder_of(path)? else { return Ok(None) };
        entry_in(&folder, &name, path)
    }

    /// Looks at an entry as [`Files::look`] does, keeping its folder open for the next one beside it. A folder that is
    /// replaced meanwhile is noticed only after [`Files::forget_folder`].
    ///
    /// # Errors
    ///
    /// Returns what kept it from being looked at.
    pub fn look_beside(&self, path: &str) -> Result<Option<Entry>, HostError> {
        let parent = path.rsplit_once('/').map_or("", |(parent, _)| parent);
        let mut last = self.last_folder.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, folder)) = last.as_ref().filter(|(known, _)| known == parent && !path.ends_with('/')) {
            return entry_in(folder, &path[parent.len() + 1..], path);
        }
        let Some((folder, name)) = self.folder_of(path)? else { return Ok(None) };
        let entry = entry_in(&folder, &name, path);
        *last = Some((parent.to_owned(), folder));
        entry
    }

    /// Forgets the folder that was looked into last: something is about to be changed.
    pub fn forget_folder(&self) {
        *self.last_folder.0.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }

    /// Reads a regular file; none if it is not there.
    ///
    /// # Errors
    ///
    /// Returns what kept it from being read; something else than a regular file is an error.
    pub fn read(&self, path: &str) -> Result<Option<Vec<u8>>, HostError> {
        let Some(mut file) = self.open(path)? else { return Ok(None) };
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes).map_err(|error| HostError::io("read", path, &error))?;
        Ok(Some(bytes))
    }

    /// Reads a regular file as text, losing what is not UTF-8; empty if it is not there.
    ///
    /// # Errors
    ///
    /// Returns what kept it from being read.
    pub fn read_text(&self, path: &str) -> Result<String, HostError> {
        Ok(self.read(path)?.map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default())
    }

    /// Returns the digest of a regular file's contents; none if it is not there.
    ///
    /// # Errors
    ///
    /// Returns what kept it from being read.
    pub fn digest(&self, path: &str) -> Result<Option<Digest>, HostError> {
        Ok(self.read(path)?.map(|bytes| of_contents(&bytes)))
    }

    /// Returns the digest of a regular file's contents with the stamp that it had before it was read; none if it is not there.
    ///
    /// # Errors
    ///
    /// Returns what kept it from being read.
    pub fn stamped_digest(&self, path: &str) -> Result<Option<(Stamp, Digest)>, HostError> {
        let Some((file, entry)) = self.opened_file(path)? else { return Ok(None) };
        let digest = of_reader(file, entry.size).map_err(|error| HostError::io("read", path, &error))?;
        Ok(Some((entry.stamp, digest)))
    }

    fn open(&self, path: &str) -> Result<Option<File>, HostError> {
        Ok(self.opened_file(path)?.map(|(file, _)| file))
    }

    fn opened_file(&self, path: &str) -> Result<Option<(File, Entry)>, HostError> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let opened = match self.open_at_once(path, flags)? {
            Some(opened) => opened,
            None => match self.folder_of(path)? {
                Some((folder, name)) => rustix::fs::openat(&folder, name.as_str(), flags, Mode::empty()),
                None => return Ok(None),
            },
        };
        let fd = match opened {
            Ok(fd) => fd,
            Err(rustix::io::Errno::NOENT) => return Ok(None),
            Err(rustix::io::Errno::LOOP) => return Err(HostError::new(format!("{path} is a symbolic link, and links are not followed"))),
            Err(error) => return Err(HostError::io("open", path, &error.into())),
        };
        let entry = Entry::of(&rustix::fs::fstat(&fd).map_err(|error| HostError::io("look at", path, &error.into()))?);
        if entry.what != What::File {
            return Err(HostError::new(format!("{path} is {}, not a regular file", entry.what.words())));
        }
        if entry.size > LARGEST_FILE {
            return Err(HostError::new(format!("{path} has {} bytes, at most {LARGEST_FILE} are compared", entry.size)));
        }
        Ok(Some((File::from(fd), entry)))
    }

    /// Opens a path by one system call if no link is on the way (openat2(2)); none if one is, or the kernel cannot do so: then
    /// each part of the way has to be looked at.
    fn open_at_once(&self, path: &str, flags: OFlags) -> Result<Option<Result<OwnedFd, rustix::io::Errno>>, HostError> {
        use rustix::io::Errno;
        let name = path.trim_matches('/');
        let name = if name.is_empty() { "." } else { name };
        let resolve = ResolveFlags::IN_ROOT | ResolveFlags::NO_SYMLINKS;
        match rustix::fs::openat2(self.root_folder()?, name, flags, Mode::empty(), resolve) {
            Err(Errno::LOOP | Errno::NOTDIR | Errno::NOSYS | Errno::PERM | Errno::AGAIN | Errno::INVAL | Errno::XDEV) => Ok(None),
            opened => Ok(Some(opened)),
        }
    }

    fn root_folder(&self) -> Result<&OwnedFd, HostError> {
        if let Some(root) = self.opened.get() {
            return Ok(root);
        }
        let root = rustix::fs::open(&self.root, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
            .map_err(|error| HostError::io("open the root", &self.root.display().to_string(), &error.into()))?;
        Ok(self.opened.get_or_init(|| root))
    }

    /// Returns the names in a directory, sorted; none if it is not there.
    ///
    /// # Errors
    ///
    /// Returns what kept it from being read.
    pub fn list(&self, path: &str) -> Result<Option<Vec<String>>, HostError> {
        let Some(folder) = self.folder(path)? else { return Ok(None) };
        let folder = reopen(&folder).map_err(|error| HostError::io("read", path, &error.into()))?;
        let entries = rustix::fs::Dir::read_from(&folder).map_err(|error| HostError::io("read", path, &error.into()))?;
        let mut names = Vec::new();
        for entry in entries {
            let entry = entry.map_err(|error| HostError::io("read", path, &error.into()))?;
            let name = entry.file_name().to_string_lossy().into_owned();
            if name != "." && name != ".." {
                names.push(name);
            }
        }
        names.sort();
        Ok(Some(names))
    }

    /// Returns the target of a link; none if it is not there or no link.
    ///
    /// # Errors
    ///
    /// Returns what kept it from being read.
    pub fn link_target(&self, path: &str) -> Result<Option<String>, HostError> {
        let Some((folder, name)) = self.folder_of(path)? else { return Ok(None) };
        match rustix::fs::readlinkat(&folder, name.as_str(), Vec::new()) {
            Ok(target) => Ok(Some(target.to_string_lossy().into_owned())),
            Err(rustix::io::Errno::NOENT | rustix::io::Errno::INVAL) => Ok(None),
            Err(error) => Err(HostError::io("read the link", path, &error.into())),
        }
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
        contents: &[u8],
        ownership: Ownership,
        accept: impl FnOnce(&Path) -> Result<(), HostError>,
    ) -> Result<(), HostError> {
        let (folder, name) = self.folder_of(path)?.ok_or_else(|| no_folder(path))?;
        let candidate = candidate_name(&name);
        let written = self.write_candidate(&folder, (&candidate, &name), path, contents, ownership).and_then(|()| {
            steps::reached("candidate written", path);
            accept(&self.outside(&beside(path, &candidate)))
        });
        let renamed = written.and_then(|()| {
            steps::reached("candidate accepted", path);
            rustix::fs::renameat(&folder, candidate.as_str(), &folder, name.as_str()).map_err(|error| HostError::io("replace", path, &error.into()))
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
        contents: &[u8],
        ownership: Ownership,
    ) -> Result<(), HostError> {
        self.note_unfinished(path)?;
        // One that an earlier run left behind when it was cut off.
        let _ = rustix::fs::unlinkat(folder, candidate, AtFlags::empty());
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let doing = |doing: &'static str| move |error: rustix::io::Errno| HostError::io(doing, path, &error.into());
        let fd = rustix::fs::openat(folder, candidate, flags, Mode::from_raw_mode(0o600)).map_err(doing("write"))?;
        steps::reached("candidate opened", path);
        carry_attributes(folder, old, &fd).map_err(doing("carry over the extended attributes of"))?;
        set_ownership(&fd, ownership).map_err(doing("set the ownership of"))?;
        let mut file = File::from(fd);
        file.write_all(contents).and_then(|()| file.sync_all()).map_err(|error| HostError::io("write", path, &error))
    }

    /// Sets ownership and permissions of what stands at a path, tightening before anything is widened.
    ///
    /// # Errors
    ///
    /// Returns what failed.
    pub fn set_ownership(&self, path: &str, ownership: Ownership) -> Result<(), HostError> {
        let (folder, name) = self.folder_of(path)?.ok_or_else(|| no_folder(path))?;
        let doing = |error: rustix::io::Errno| HostError::io("set the ownership of", path, &error.into());
        let fd = rustix::fs::openat(&folder, name.as_str(), OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty()).map_err(doing)?;
        let entry = Entry::of(&rustix::fs::fstat(&fd).map_err(doing)?);
        if entry.what == What::Link {
            return Err(HostError::new(format!("{path} is a symbolic link, and links are not followed")));
        }
        let wanted = ownership.permissions.unwrap_or(entry.permissions);
        let changes_owner = ownership.uid.is_some_and(|uid| uid != entry.uid) || ownership.gid.is_some_and(|gid| gid != entry.gid);
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
        rustix::fs::mkdirat(&folder, name.as_str(), Mode::from_raw_mode(0o700)).map_err(|error| HostError::io("make", path, &error.into()))?;
        steps::reached("directory made", path);
        self.set_ownership(path, Ownership { permissions: Some(ownership.permissions.unwrap_or(0o755)), ..ownership })?;
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
    pub fn remove(&self, path: &str, what: What) -> Result<(), HostError> {
        let (folder, name) = self.folder_of(path)?.ok_or_else(|| no_folder(path))?;
        let flags = if what == What::Directory { AtFlags::REMOVEDIR } else { AtFlags::empty() };
        rustix::fs::unlinkat(&folder, name.as_str(), flags).map_err(|error| {
            let error = HostError::io("remove", path, &error.into());
            if what == What::Directory { error.remedy("only empty directories are removed: look at what is in it, and take it out") } else { error }
        })?;
        steps::reached("removed", path);
        flush(&folder, path)
    }

    fn remove_candidate(&self, path: &str) {
        if let Ok(Some((folder, name))) = self.folder_of(path) {
            let _ = rustix::fs::unlinkat(&folder, candidate_name(&name).as_str(), AtFlags::empty());
        }
    }

    /// Opens the folder that a path lies in; none if it is not there.
    fn folder_of(&self, path: &str) -> Result<Option<(OwnedFd, String)>, HostError> {
        let path = path.trim_end_matches('/');
        let (parent, name) = path.rsplit_once('/').unwrap_or(("", path));
        if name.is_empty() {
            return self.folder("/").map(|folder| folder.map(|folder| (folder, ".".to_owned())));
        }
        Ok(self.folder(parent)?.map(|folder| (folder, name.to_owned())))
    }

    /// Opens a folder component by component, never leaving the root. Links on the way are followed only if root or
    /// the agent's own account made them: nobody else may lead the agent astray.
    fn folder(&self, path: &str) -> Result<Option<OwnedFd>, HostError> {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        match self.open_at_once(path, flags)? {
            Some(Ok(folder)) => return Ok(Some(folder)),
            Some(Err(rustix::io::Errno::NOENT)) => return Ok(None),
            _ => {}
        }
        let root = rustix::io::fcntl_dupfd_cloexec(self.root_folder()?, 0).map_err(|error| HostError::io("open the root", path, &error.into()))?;
        let mut way: Vec<OwnedFd> = vec![root];
        let mut names: Vec<String> = path.split('/').rev().filter(|name| !name.is_empty()).map(str::to_owned).collect();
        let mut links = 0;
        while let Some(name) = names.pop() {
            match name.as_str() {
                "." => continue,
                ".." => {
                    if way.len() > 1 {
                        way.pop();
                    }
                    continue;
                }
                _ => {}
            }
            let here = &way[way.len() - 1];
            match rustix::fs::openat(here, name.as_str(), flags, Mode::empty()) {
                Ok(folder) => way.push(folder),
                Err(rustix::io::Errno::NOENT) => return Ok(None),
                Err(rustix::io::Errno::NOTDIR | rustix::io::Errno::LOOP) => {
                    links += 1;
                    let target = trusted_link(here, &name, path)?;
                    if links > MOST_LINKS {
                        return Err(HostError::new(format!("the way to {path} leads through more than {MOST_LINKS} links")));
                    }
                    if target.starts_with('/') {
                        way.truncate(1);
                    }
                    names.extend(target.split('/').rev().filter(|name| !name.is_empty()).map(str::to_owned));
                }
                Err(error) => return Err(HostError::io("open the folder of", path, &error.into())),
            }
        }
        Ok(way.pop())
    }
}

/// Returns the target of a link on the way to a path, if root or the agent's own account made it.
fn trusted_link(folder: &OwnedFd, name: &str, path: &str) -> Result<String, HostError> {
    let stat = rustix::fs::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW).map_err(|error| HostError::io("look at", path, &error.into()))?;
    if FileType::from_raw_mode(stat.st_mode) != FileType::Symlink {
        return Err(HostError::new(format!("`{name}` on the way to {path} is no directory")));
    }
    if stat.st_uid != 0 && stat.st_uid != rustix::process::geteuid().as_raw() {
        let message = format!("`{name}` on the way to {path} is a symbolic link that the account with uid {} made", stat.st_uid);
        return Err(HostError::new(message).remedy("a link of another account is not followed: remove it, or name the path that is meant"));
    }
    let target = rustix::fs::readlinkat(folder, name, Vec::new()).map_err(|error| HostError::io("read the link", path, &error.into()))?;
    Ok(target.to_string_lossy().into_owned())
}

fn no_folder(path: &str) -> HostError {
    let parent = path.rsplit_once('/').map_or("/", |(parent, _)| parent);
    HostError::new(format!("the folder {parent} is not there")).remedy(format!("add a clause `directory:{parent}`, or what brings it"))
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

fn reopen(folder: &OwnedFd) -> rustix::io::Result<OwnedFd> {
    rustix::fs::openat(folder.as_fd(), ".", OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
}

fn flush(folder: &OwnedFd, path: &str) -> Result<(), HostError> {
    let flushed = reopen(folder).and_then(|folder| rustix::fs::fsync(&folder));
    flushed.map_err(|error| HostError::io("flush the folder of", path, &error.into()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::{PermissionsExt as _, symlink};

    fn root() -> (tempfile::TempDir, Files) {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(folder.path().join("etc")).unwrap();
        let files = Files::below(folder.path());
        (folder, files)
    }

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
        let entry =
            |tag: u16, rights: u16, number: u32| [tag.to_le_bytes().to_vec(), rights.to_le_bytes().to_vec(), number.to_le_bytes().to_vec()].concat();
        let none = u32::MAX;
        let list =
            [2u32.to_le_bytes().to_vec(), entry(1, 6, none), entry(2, 4, 4242), entry(4, 4, none), entry(16, 4, none), entry(32, 4, none)].concat();
        let set = |name: &str, value: &[u8]| rustix::fs::setxattr(&path, name, value, rustix::fs::XattrFlags::empty());
        if set("user.note", b"kept").is_err() || set("system.posix_acl_access", &list).is_err() {
            eprintln!("not tested: the file system of {} has no extended attributes", folder.path().display());
            return;
        }
        files.replace("/etc/issue", b"new", Ownership { permissions: Some(0o644), ..Ownership::default() }, |_| Ok(())).unwrap();
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

    #[test]
    fn a_link_at_the_path_is_not_followed() {
        let (folder, files) = root();
        std::fs::write(folder.path().join("secret"), "x").unwrap();
        symlink("../secret", folder.path().join("etc/issue")).unwrap();
        assert_eq!(files.look("/etc/issue").unwrap().unwrap().what, What::Link);
        assert_eq!(files.read("/etc/issue").unwrap_err().message, "/etc/issue is a symbolic link, and links are not followed");
        assert!(files.set_ownership("/etc/issue", Ownership { permissions: Some(0o777), ..Ownership::default() }).is_err());
        assert_eq!(folder.path().join("secret").metadata().unwrap().permissions().mode() & 0o777, 0o644);
    }

    #[test]
    fn links_on_the_way_stay_below_the_root() {
        let (folder, files) = root();
        symlink("/etc", folder.path().join("conf")).unwrap();
        symlink("../../../../etc", folder.path().join("up")).unwrap();
        files.replace("/conf/a", b"a", Ownership::default(), |_| Ok(())).unwrap();
        files.replace("/up/b", b"b", Ownership::default(), |_| Ok(())).unwrap();
        assert_eq!(files.list("/etc").unwrap().unwrap(), ["a", "b"]);
    }

    #[test]
    fn a_link_that_somebody_else_made_is_refused() {
        let (folder, files) = root();
        symlink("etc", folder.path().join("conf")).unwrap();
        if std::os::unix::fs::lchown(folder.path().join("conf"), Some(4321), None).is_err() {
            eprintln!("not run as root: a link of another account cannot be made here");
            return;
        }
        let error = files.replace("/conf/a", b"a", Ownership::default(), |_| Ok(())).unwrap_err();
        assert_eq!(error.message, "`conf` on the way to /conf is a symbolic link that the account with uid 4321 made");
    }

    #[test]
    fn circles_of_links_end() {
        let (folder, files) = root();
        symlink("b", folder.path().join("a")).unwrap();
        symlink("a", folder.path().join("b")).unwrap();
        assert_eq!(files.read("/a/x").unwrap_err().message, "the way to /a leads through more than 40 links");
    }
}
