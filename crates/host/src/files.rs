//! Files below one root, read and replaced without following links that others made.

mod change;
mod entry;

use crate::error::HostError;
use constans_core::digest::{Digest, Named, of_reader};
#[cfg(test)]
pub(crate) use entry::READ_AGAIN_AFTER;
use entry::entry_in;
pub(crate) use entry::is_fresh;
pub use entry::{Entry, EntryKind, Ownership, Stamp};
use rustix::fs::{AtFlags, FileType, Mode, OFlags, ResolveFlags};
use std::fs::File;
use std::io::Read as _;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

const MAX_LINKS: usize = 40;
/// The largest file whose contents are compared, in bytes.
pub const MAX_FILE: u64 = 64 * 1024 * 1024;
/// This many bytes of a file are read at once.
pub(crate) const PIECE: usize = 64 * 1024;

/// How a file is opened to be read: itself, whatever it is, without waiting for it.
const TO_READ: OFlags = OFlags::RDONLY.union(OFlags::NOFOLLOW).union(OFlags::NONBLOCK).union(OFlags::CLOEXEC);

/// The files below one root folder.
#[derive(Debug, Clone)]
pub struct Files {
    root: PathBuf,
    /// The root, opened when it is first needed.
    opened: Arc<OnceLock<OwnedFd>>,
    /// The folder that was looked into last, for looking only: most clauses are in the same folder.
    last_folder: LastFolder,
    /// Where it is noted what is about to be replaced, so that what a cut-off run leaves beside a path is found.
    unfinished: Option<PathBuf>,
}

/// A folder and its path. It is not shared by copies.
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
        Self {
            root: root.into(),
            opened: Arc::default(),
            last_folder: LastFolder::default(),
            unfinished: None,
        }
    }

    /// Notes in this file what is about to be replaced.
    #[must_use]
    pub fn noting(self, unfinished: PathBuf) -> Self {
        Self { unfinished: Some(unfinished), ..self }
    }

    /// Returns the root.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Returns a path of the node for programs that know no roots.
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
        self.beside(path, |folder, name| entry_in(folder, name, path))?.unwrap_or(Ok(None))
    }

    /// Does something in the folder of a path, which is kept open for the next one beside it; none if it is not there.
    fn beside<T>(&self, path: &str, what: impl FnOnce(&OwnedFd, &str) -> T) -> Result<Option<T>, HostError> {
        let parent = path.rsplit_once('/').map_or("", |(parent, _)| parent);
        let mut last = self.last_folder.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, folder)) = last.as_ref().filter(|(known, _)| known == parent && !path.ends_with('/'))
        {
            return Ok(Some(what(folder, &path[parent.len() + 1..])));
        }
        let Some((folder, name)) = self.folder_of(path)? else { return Ok(None) };
        let done = what(&folder, &name);
        *last = Some((parent.to_owned(), folder));
        Ok(Some(done))
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
        self.read_at_most(path, MAX_FILE)
    }

    /// Reads a regular file that has at most this many bytes; none if it is not there.
    ///
    /// # Errors
    ///
    /// Returns what kept it from being read; a larger one is an error and is not read.
    pub fn read_at_most(&self, path: &str, most: u64) -> Result<Option<Vec<u8>>, HostError> {
        let Some((file, entry)) = self.opened_file(path)? else { return Ok(None) };
        if entry.size > most {
            return Err(too_large(path, entry.size, most));
        }
        let mut bytes = Vec::new();
        // It may grow meanwhile, and some of the kernel's files have no size.
        file.take(most + 1).read_to_end(&mut bytes).map_err(|error| HostError::io("read", path, &error))?;
        if bytes.len() as u64 > most {
            Err(too_large(path, bytes.len() as u64, most))
        } else {
            Ok(Some(bytes))
        }
    }

    /// Opens a regular file to be read piece by piece, whatever its size; none if it is not there.
    ///
    /// # Errors
    ///
    /// Returns what kept it from being opened; something else than a regular file is an error.
    pub fn open(&self, path: &str) -> Result<Option<File>, HostError> {
        Ok(self.opened_file(path)?.map(|(file, _)| file))
    }

    /// Reads a regular file as text, losing what is not UTF-8; empty if it is not there.
    ///
    /// # Errors
    ///
    /// Returns what kept it from being read.
    pub fn read_text(&self, path: &str) -> Result<String, HostError> {
        Ok(self.read(path)?.map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default())
    }

    /// Returns the digest of a regular file's contents; none if it is not there. One of more than this many bytes is not read.
    ///
    /// # Errors
    ///
    /// Returns what kept it from being read.
    pub fn digest(&self, path: &str, most: u64) -> Result<Option<Digest>, HostError> {
        let Some((file, entry)) = self.opened_file(path)? else { return Ok(None) };
        if entry.size > most {
            return Ok(Some(unread(entry.size)));
        }
        let digest = of_reader(file, entry.size, &mut vec![0; PIECE], None);
        digest.map(Some).map_err(|error| HostError::io("read", path, &error))
    }

    /// Returns the digest of a regular file's contents with the stamp that it had before it was read; none if it is not there.
    /// Its folder is kept open, as by [`Files::look_beside`]. The file is read into `piece`, one after the other; where it
    /// is the expected contents, their digest is known. One of more than `most` bytes is not read.
    ///
    /// # Errors
    ///
    /// Returns what kept it from being read.
    pub fn stamped_digest(
        &self,
        path: &str,
        most: u64,
        piece: &mut [u8],
        expected: Option<Named<'_>>,
    ) -> Result<Option<(Stamp, Digest)>, HostError> {
        let opened =
            self.beside(path, |folder, name| rustix::fs::openat(folder, name, TO_READ, Mode::empty()))?;
        let Some((file, entry)) = opened.map_or(Ok(None), |opened| regular_file(opened, path))? else {
            return Ok(None);
        };
        if entry.size > most {
            return Ok(Some((entry.stamp, unread(entry.size))));
        }
        let digest = of_reader(file, entry.size, piece, expected)
            .map_err(|error| HostError::io("read", path, &error))?;
        Ok(Some((entry.stamp, digest)))
    }

    fn opened_file(&self, path: &str) -> Result<Option<(File, Entry)>, HostError> {
        let opened = match self.open_at_once(path, TO_READ)? {
            Some(opened) => opened,
            None => match self.folder_of(path)? {
                Some((folder, name)) => rustix::fs::openat(&folder, name.as_str(), TO_READ, Mode::empty()),
                None => return Ok(None),
            },
        };
        regular_file(opened, path)
    }

    /// Opens a path by one system call if no link is on the way (openat2(2)); none if one is, or the kernel cannot do so: then
    /// each part of the way has to be looked at.
    fn open_at_once(
        &self,
        path: &str,
        flags: OFlags,
    ) -> Result<Option<Result<OwnedFd, rustix::io::Errno>>, HostError> {
        use rustix::io::Errno;
        let name = path.trim_matches('/');
        let name = if name.is_empty() { "." } else { name };
        let resolve = ResolveFlags::IN_ROOT | ResolveFlags::NO_SYMLINKS;
        match rustix::fs::openat2(self.root_folder()?, name, flags, Mode::empty(), resolve) {
            Err(
                Errno::LOOP
                | Errno::NOTDIR
                | Errno::NOSYS
                | Errno::PERM
                | Errno::AGAIN
                | Errno::INVAL
                | Errno::XDEV,
            ) => Ok(None),
            opened => Ok(Some(opened)),
        }
    }

    fn root_folder(&self) -> Result<&OwnedFd, HostError> {
        if let Some(root) = self.opened.get() {
            return Ok(root);
        }
        let root =
            rustix::fs::open(&self.root, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
                .map_err(|error| {
                HostError::io("open the root", &self.root.display().to_string(), &error.into())
            })?;
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
        let entries = rustix::fs::Dir::read_from(&folder)
            .map_err(|error| HostError::io("read", path, &error.into()))?;
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

    /// Opens the folder of a path; none if it is not there.
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
        let root = rustix::io::fcntl_dupfd_cloexec(self.root_folder()?, 0)
            .map_err(|error| HostError::io("open the root", path, &error.into()))?;
        let mut way: Vec<OwnedFd> = vec![root];
        let mut names: Vec<String> =
            path.split('/').rev().filter(|name| !name.is_empty()).map(str::to_owned).collect();
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
                    if links > MAX_LINKS {
                        return Err(HostError::new(format!(
                            "the way to {path} leads through more than {MAX_LINKS} links"
                        )));
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

/// Returns what was opened to be read if it is a regular file; none if it is not there.
fn regular_file(opened: rustix::io::Result<OwnedFd>, path: &str) -> Result<Option<(File, Entry)>, HostError> {
    let fd = match opened {
        Ok(fd) => fd,
        Err(rustix::io::Errno::NOENT) => return Ok(None),
        Err(rustix::io::Errno::LOOP) => {
            return Err(HostError::new(format!("{path} is a symbolic link, and links are not followed")));
        }
        Err(error) => return Err(HostError::io("open", path, &error.into())),
    };
    let entry =
        Entry::of(&rustix::fs::fstat(&fd).map_err(|error| HostError::io("look at", path, &error.into()))?);
    if entry.what != EntryKind::File {
        return Err(HostError::new(format!("{path} is {}, not a regular file", entry.what.words())));
    }
    Ok(Some((File::from(fd), entry)))
}

/// Returns a placeholder for the digest of contents that are too large to be read: it differs from every desired digest.
pub(crate) fn unread(size: u64) -> Digest {
    format!("unread:{size}").parse().expect("it is a scheme and digits")
}

fn too_large(path: &str, size: u64, most: u64) -> HostError {
    HostError::new(format!("{path} has {size} bytes, and at most {most} are read"))
        .remedy("it was not read: look at what made it so large, or say largest_mib in the clause")
}

/// Returns the target of a link on the way to a path, if root or the agent's own account made it.
fn trusted_link(folder: &OwnedFd, name: &str, path: &str) -> Result<String, HostError> {
    let stat = rustix::fs::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW)
        .map_err(|error| HostError::io("look at", path, &error.into()))?;
    if FileType::from_raw_mode(stat.st_mode) != FileType::Symlink {
        return Err(HostError::new(format!("`{name}` on the way to {path} is no directory")));
    }
    if stat.st_uid != 0 && stat.st_uid != rustix::process::geteuid().as_raw() {
        let message = format!(
            "`{name}` on the way to {path} is a symbolic link that the account with uid {} made",
            stat.st_uid
        );
        return Err(HostError::new(message)
            .remedy("a link of another account is not followed: remove it, or name the path that is meant"));
    }
    let target = rustix::fs::readlinkat(folder, name, Vec::new())
        .map_err(|error| HostError::io("read the link", path, &error.into()))?;
    Ok(target.to_string_lossy().into_owned())
}

fn reopen(folder: &OwnedFd) -> rustix::io::Result<OwnedFd> {
    rustix::fs::openat(
        folder.as_fd(),
        ".",
        OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC,
        Mode::empty(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::{PermissionsExt as _, symlink};

    pub(super) fn root() -> (tempfile::TempDir, Files) {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(folder.path().join("etc")).unwrap();
        let files = Files::below(folder.path());
        (folder, files)
    }

    #[test]
    fn a_link_at_the_path_is_not_followed() {
        let (folder, files) = root();
        std::fs::write(folder.path().join("secret"), "x").unwrap();
        symlink("../secret", folder.path().join("etc/issue")).unwrap();
        assert_eq!(files.look("/etc/issue").unwrap().unwrap().what, EntryKind::Link);
        assert_eq!(
            files.read("/etc/issue").unwrap_err().message,
            "/etc/issue is a symbolic link, and links are not followed"
        );
        assert!(
            files
                .set_ownership("/etc/issue", Ownership { permissions: Some(0o777), ..Ownership::default() })
                .is_err()
        );
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
        assert_eq!(
            error.message,
            "`conf` on the way to /conf is a symbolic link that the account with uid 4321 made"
        );
    }

    #[test]
    fn circles_of_links_end() {
        let (folder, files) = root();
        symlink("b", folder.path().join("a")).unwrap();
        symlink("a", folder.path().join("b")).unwrap();
        assert_eq!(files.read("/a/x").unwrap_err().message, "the way to /a leads through more than 40 links");
    }
}
