//! Where the agent's own files are: on a disk, or, for simulated nodes, in memory.

use constans_host::Opened;
use std::fmt::Debug;
use std::io;
use std::path::{Path, PathBuf};

/// A place for the agent's own files. Names are relative to it, as `memory/runs.json`; folders come with their files.
pub trait Storage: Debug + Send + Sync {
    /// Returns the path of a file, for messages.
    fn shown(&self, name: &Path) -> PathBuf;

    /// Returns whether other processes can look at its files.
    fn can_be_looked_at(&self) -> bool;

    /// Returns a file's bytes; none if it is not there.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    fn read(&self, name: &Path) -> io::Result<Option<Vec<u8>>>;

    /// Opens a file to be read piece by piece.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be opened.
    fn open(&self, name: &Path) -> io::Result<Option<Opened<'static>>>;

    /// Returns whether a file is there.
    fn exists(&self, name: &Path) -> bool;

    /// Writes a file so that it is there whole or not at all, even after a power cut.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written; the old one is then as it was.
    fn write(&self, name: &Path, bytes: &[u8]) -> io::Result<()>;

    /// Writes again, as [`Storage::write`] does, what every run writes: the new file changes places with the old one, which
    /// the next one overwrites, so that no file is made and removed each time. Not for what must be gone when it is replaced.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written; the old one is then as it was.
    fn rewrite(&self, name: &Path, bytes: &[u8]) -> io::Result<()>;

    /// Begins a file that comes piece by piece. It is there once it is [committed](Incoming::commit), whole and durable.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be begun.
    fn begin(&self, folder: &Path) -> io::Result<Box<dyn Incoming>>;

    /// Opens a file to be added to; it is made if it is not there.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be opened.
    fn append(&self, name: &Path) -> io::Result<Box<dyn Append>>;

    /// Removes a file; one that is not there is none the less removed.
    ///
    /// # Errors
    ///
    /// Returns why it is still there.
    fn remove(&self, name: &Path) -> io::Result<()>;

    /// Gives a file another name.
    ///
    /// # Errors
    ///
    /// Returns why it still has the old one.
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()>;

    /// Returns the files of a folder, by name; a folder that is not there has none.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be listed.
    fn list(&self, folder: &Path) -> io::Result<Vec<Listed>>;

    /// Locks a name for one holder at a time, also among processes; none if someone else holds it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be locked.
    fn try_lock(&self, name: &Path) -> io::Result<Option<Box<dyn Lock>>>;
}

/// A file of a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// Its name, relative to the agent's own folder.
    pub name: PathBuf,
    /// Its size in bytes.
    pub bytes: u64,
}

/// A file that comes piece by piece. Dropped, nothing is left of it.
pub trait Incoming: Send {
    /// Adds bytes at the end.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be added.
    fn add(&mut self, bytes: &[u8]) -> io::Result<()>;

    /// Gives it its name, in the folder where it was begun; another file of this name is replaced.
    ///
    /// # Errors
    ///
    /// Returns why it is not there.
    fn commit(self: Box<Self>, name: &Path) -> io::Result<()>;
}

/// A file that is added to.
pub trait Append: Send + Sync {
    /// Adds bytes at the end.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be added.
    fn add(&mut self, bytes: &[u8]) -> io::Result<()>;

    /// Makes what was added outlast a power cut.
    ///
    /// # Errors
    ///
    /// Returns why it does not.
    fn sync(&mut self) -> io::Result<()>;
}

/// A lock that is held until this is dropped.
pub trait Lock: Send + Sync {
    /// Notes who holds it, for others to read.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be noted.
    fn note(&mut self, bytes: &[u8]) -> io::Result<()>;
}
