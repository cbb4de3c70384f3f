//! The agent's own files in a folder on a disk, readable by their owner only.

use super::storage::{Append, Incoming, Listed, Lock, Storage};
use constans_host::Opened;
use rustix::fs::{CWD, FlockOperation, RenameFlags};
use std::fs::{self, DirBuilder, File, OpenOptions, Permissions};
use std::io::{self, Seek as _, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

/// A folder on a disk.
#[derive(Debug)]
pub struct OnDisk {
    folder: PathBuf,
}

impl OnDisk {
    /// Opens a folder; it is made if it is not there, with one in it for what need not last.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be made or written.
    pub fn open(folder: &Path) -> io::Result<Self> {
        make_folder(&folder.join("scratch"))?;
        fs::set_permissions(folder, Permissions::from_mode(0o700))?;
        Ok(Self { folder: folder.canonicalize()? })
    }

    fn write_candidate(&self, name: &Path, bytes: &[u8]) -> io::Result<(PathBuf, PathBuf)> {
        let path = self.folder.join(name);
        let candidate = path.with_extension("new");
        let file = with_folder(&candidate, || constans_host::overwrite(&candidate, &[bytes]))?;
        file.sync_all()?;
        Ok((candidate, path))
    }
}

impl Storage for OnDisk {
    fn shown(&self, name: &Path) -> PathBuf {
        self.folder.join(name)
    }

    fn can_be_looked_at(&self) -> bool {
        true
    }

    fn read(&self, name: &Path) -> io::Result<Option<Vec<u8>>> {
        match fs::read(self.folder.join(name)) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn open(&self, name: &Path) -> io::Result<Option<Opened<'static>>> {
        match File::open(self.folder.join(name)) {
            Ok(file) => {
                let size = file.metadata()?.len();
                Ok(Some((Box::new(file), size)))
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn exists(&self, name: &Path) -> bool {
        self.folder.join(name).exists()
    }

    fn write(&self, name: &Path, bytes: &[u8]) -> io::Result<()> {
        let (candidate, path) = self.write_candidate(name, bytes)?;
        fs::rename(&candidate, &path)?;
        flush_folder(&path)
    }

    fn rewrite(&self, name: &Path, bytes: &[u8]) -> io::Result<()> {
        let (candidate, path) = self.write_candidate(name, bytes)?;
        match rustix::fs::renameat_with(CWD, &candidate, CWD, &path, RenameFlags::EXCHANGE) {
            Ok(()) => {}
            // There is nothing to change places with yet, or the file system cannot do it.
            Err(_) => fs::rename(&candidate, &path)?,
        }
        flush_folder(&path)
    }

    fn begin(&self, folder: &Path) -> io::Result<Box<dyn Incoming>> {
        let path = self.folder.join(folder).join(".incoming");
        let open = || OpenOptions::new().create(true).truncate(true).write(true).mode(0o600).open(&path);
        let file = with_folder(&path, open)?;
        Ok(Box::new(Coming { file, path, folder: self.folder.clone(), is_whole: false }))
    }

    fn append(&self, name: &Path) -> io::Result<Box<dyn Append>> {
        let path = self.folder.join(name);
        let is_new = !path.exists();
        let open = || OpenOptions::new().create(true).append(true).mode(0o600).open(&path);
        Ok(Box::new(Appended { file: with_folder(&path, open)?, new: is_new.then_some(path) }))
    }

    fn remove(&self, name: &Path) -> io::Result<()> {
        match fs::remove_file(self.folder.join(name)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }

    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        let to = self.folder.join(to);
        with_folder(&to, || fs::rename(self.folder.join(from), &to))
    }

    fn list(&self, folder: &Path) -> io::Result<Vec<Listed>> {
        let entries = match fs::read_dir(self.folder.join(folder)) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(error),
        };
        let mut listed = Vec::new();
        for entry in entries {
            let entry = entry?;
            match entry.metadata() {
                Ok(metadata) if metadata.is_file() => {
                    listed.push(Listed { name: folder.join(entry.file_name()), bytes: metadata.len() });
                }
                // A folder, or what was removed meanwhile.
                _ => {}
            }
        }
        listed.sort_by(|one, other| one.name.cmp(&other.name));
        Ok(listed)
    }

    fn try_lock(&self, name: &Path) -> io::Result<Option<Box<dyn Lock>>> {
        let path = self.folder.join(name);
        let open =
            || OpenOptions::new().create(true).truncate(false).read(true).write(true).mode(0o600).open(&path);
        let file = with_folder(&path, open)?;
        match rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => Ok(Some(Box::new(Locked { file }))),
            Err(rustix::io::Errno::WOULDBLOCK) => Ok(None),
            Err(error) => Err(error.into()),
        }
    }
}

struct Coming {
    file: File,
    path: PathBuf,
    folder: PathBuf,
    is_whole: bool,
}

impl Incoming for Coming {
    fn add(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.file.write_all(bytes)
    }

    fn commit(mut self: Box<Self>, name: &Path) -> io::Result<()> {
        self.file.sync_all()?;
        let path = self.folder.join(name);
        fs::rename(&self.path, &path)?;
        self.is_whole = true;
        flush_folder(&path)
    }
}

impl Drop for Coming {
    fn drop(&mut self) {
        if !self.is_whole {
            let _ = fs::remove_file(&self.path);
        }
    }
}

struct Appended {
    file: File,
    /// Its path, as long as the folder may not know of it after a power cut.
    new: Option<PathBuf>,
}

impl Append for Appended {
    fn add(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.file.write_all(bytes)
    }

    fn sync(&mut self) -> io::Result<()> {
        self.file.sync_all()?;
        self.new.take().map_or(Ok(()), |path| flush_folder(&path))
    }
}

struct Locked {
    file: File,
}

impl Lock for Locked {
    fn note(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.file.set_len(0).and_then(|()| self.file.rewind()).and_then(|()| self.file.write_all(bytes))
    }
}

/// Does what needs the folder of a path; makes that folder if it is not there.
fn with_folder<T>(path: &Path, mut done: impl FnMut() -> io::Result<T>) -> io::Result<T> {
    match done() {
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            make_folder(path.parent().unwrap_or(Path::new("/")))?;
            done()
        }
        done => done,
    }
}

fn make_folder(folder: &Path) -> io::Result<()> {
    DirBuilder::new().recursive(true).mode(0o700).create(folder)
}

fn flush_folder(path: &Path) -> io::Result<()> {
    File::open(path.parent().unwrap_or(Path::new("/")))?.sync_all()
}
