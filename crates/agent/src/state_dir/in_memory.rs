//! The agent's own files of a simulated node, in memory: they last as long as this does.

use super::storage::{Append, Incoming, Listed, Lock, Storage};
use constans_host::Opened;
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Files in memory. Clones are the same files.
#[derive(Debug, Clone, Default)]
pub struct InMemory {
    held: Arc<Mutex<Held>>,
}

#[derive(Debug, Default)]
struct Held {
    files: BTreeMap<PathBuf, Vec<u8>>,
    locked: BTreeSet<PathBuf>,
}

impl InMemory {
    fn held(&self) -> MutexGuard<'_, Held> {
        // Each change is one call: a panic leaves nothing half done.
        self.held.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns a folder that holds these files.
    pub fn with_files(files: BTreeMap<PathBuf, Vec<u8>>) -> Self {
        Self { held: Arc::new(Mutex::new(Held { files, locked: BTreeSet::new() })) }
    }

    /// Returns its files.
    pub fn files(&self) -> BTreeMap<PathBuf, Vec<u8>> {
        self.held().files.clone()
    }

    /// Returns how many bytes the files hold.
    pub fn bytes(&self) -> usize {
        self.held().files.values().map(Vec::len).sum()
    }

    /// Removes all files, as a node that is set up again has none.
    pub fn clear(&self) {
        self.held().files.clear();
    }
}

impl Storage for InMemory {
    fn shown(&self, name: &Path) -> PathBuf {
        Path::new("memory:").join(name)
    }

    fn can_be_looked_at(&self) -> bool {
        false
    }

    fn read(&self, name: &Path) -> io::Result<Option<Vec<u8>>> {
        Ok(self.held().files.get(name).cloned())
    }

    fn open(&self, name: &Path) -> io::Result<Option<Opened<'static>>> {
        let bytes = self.held().files.get(name).cloned();
        Ok(bytes.map(|bytes| {
            let size = bytes.len() as u64;
            (Box::new(io::Cursor::new(bytes)) as Box<dyn io::Read>, size)
        }))
    }

    fn exists(&self, name: &Path) -> bool {
        self.held().files.contains_key(name)
    }

    fn write(&self, name: &Path, bytes: &[u8]) -> io::Result<()> {
        self.held().files.insert(name.to_owned(), bytes.to_vec());
        Ok(())
    }

    fn rewrite(&self, name: &Path, bytes: &[u8]) -> io::Result<()> {
        self.write(name, bytes)
    }

    fn begin(&self, _folder: &Path) -> io::Result<Box<dyn Incoming>> {
        Ok(Box::new(Coming { files: self.clone(), bytes: Vec::new() }))
    }

    fn append(&self, name: &Path) -> io::Result<Box<dyn Append>> {
        self.held().files.entry(name.to_owned()).or_default();
        Ok(Box::new(Appended { files: self.clone(), name: name.to_owned() }))
    }

    fn remove(&self, name: &Path) -> io::Result<()> {
        self.held().files.remove(name);
        Ok(())
    }

    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        let mut held = self.held();
        let bytes = held.files.remove(from).ok_or(io::ErrorKind::NotFound)?;
        held.files.insert(to.to_owned(), bytes);
        Ok(())
    }

    fn list(&self, folder: &Path) -> io::Result<Vec<Listed>> {
        let held = self.held();
        let within = held.files.range(folder.to_owned()..).take_while(|(name, _)| name.starts_with(folder));
        let listed = within.filter(|(name, _)| name.parent() == Some(folder));
        Ok(listed.map(|(name, bytes)| Listed { name: name.clone(), bytes: bytes.len() as u64 }).collect())
    }

    fn try_lock(&self, name: &Path) -> io::Result<Option<Box<dyn Lock>>> {
        let is_free = self.held().locked.insert(name.to_owned());
        Ok(is_free.then(|| Box::new(Locked { files: self.clone(), name: name.to_owned() }) as Box<dyn Lock>))
    }
}

struct Coming {
    files: InMemory,
    bytes: Vec<u8>,
}

impl Incoming for Coming {
    fn add(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.bytes.extend_from_slice(bytes);
        Ok(())
    }

    fn commit(self: Box<Self>, name: &Path) -> io::Result<()> {
        self.files.write(name, &self.bytes)
    }
}

struct Appended {
    files: InMemory,
    name: PathBuf,
}

impl Append for Appended {
    fn add(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.files.held().files.entry(self.name.clone()).or_default().extend_from_slice(bytes);
        Ok(())
    }

    fn sync(&mut self) -> io::Result<()> {
        Ok(())
    }
}

struct Locked {
    files: InMemory,
    name: PathBuf,
}

impl Lock for Locked {
    fn note(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.files.write(&self.name, bytes)
    }
}

impl Drop for Locked {
    fn drop(&mut self) {
        self.files.held().locked.remove(&self.name);
    }
}
