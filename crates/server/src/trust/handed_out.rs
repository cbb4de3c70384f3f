//! Which generations were handed out, and which database knew of them. A database that was restored to an earlier state does
//! not know of either.

use super::protected::{lock, put_whole};
use constans_wire::check_in::Generation;
use serde::{Deserialize, Serialize};
use std::fs::OpenOptions;
use std::io;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

/// The newest generation that any node was given, in a file that all server processes share.
pub struct HandedOut {
    path: PathBuf,
    /// What this process last read or wrote: the newest one is this or newer.
    known: Mutex<Generation>,
}

impl HandedOut {
    /// Opens the file in the protected folder; it begins with the first epoch.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn open(folder: &Path) -> io::Result<Self> {
        let path = folder.join("handed-out.json");
        let known = Mutex::new(read(&path)?.unwrap_or(Generation { epoch: 1, counter: 0 }));
        Ok(Self { path, known })
    }

    /// Returns whether the folder can be written still.
    pub fn is_usable(&self) -> bool {
        OpenOptions::new()
            .create(true)
            .append(true)
            .mode(0o600)
            .open(self.path.with_extension("lock"))
            .is_ok()
    }

    /// Returns whether this generation, or a newer one, is known to be noted.
    pub fn has(&self, generation: Generation) -> bool {
        generation <= *self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns the newest generation that was handed out, by whichever process of the server.
    ///
    /// # Errors
    ///
    /// Returns why the file cannot be read.
    pub fn newest(&self) -> io::Result<Generation> {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        *known = read(&self.path)?.unwrap_or(*known).max(*known);
        Ok(*known)
    }

    /// Notes durably that a generation is handed out, before it is.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written; then it must not be handed out.
    pub fn note(&self, generation: Generation) -> io::Result<()> {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if generation <= *known {
            return Ok(());
        }
        // Another process of the server may have handed out a newer one meanwhile.
        let _one_at_a_time = lock(&self.path.with_extension("lock"))?;
        let newest = read(&self.path)?.unwrap_or(generation).max(generation);
        put_whole(&self.path, &serde_json::to_vec(&newest)?)?;
        *known = newest;
        Ok(())
    }
}

/// Which database it is, and how far it was used.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenDatabase {
    /// What a copy, a restored one or a promoted standby has otherwise: the cluster, its timeline and the database in it.
    pub identity: String,
    /// How often servers noted in it that they are alive.
    pub beats: i64,
}

impl SeenDatabase {
    /// Returns whether this is the database of before with all that it was known to hold.
    pub fn continues(&self, before: &Self) -> bool {
        self.identity == before.identity && self.beats >= before.beats
    }
}

/// The database as it was last used, in a file that all server processes share.
pub struct LastDatabase(PathBuf);

impl LastDatabase {
    /// Names the file in the protected folder.
    pub fn new(folder: &Path) -> Self {
        Self(folder.join("database.json"))
    }

    /// Returns the database that was used last; none before the first start.
    ///
    /// # Errors
    ///
    /// Returns why the file cannot be read.
    pub fn last(&self) -> io::Result<Option<SeenDatabase>> {
        read(&self.0)
    }

    /// Notes the database that is used.
    ///
    /// # Errors
    ///
    /// Returns why the file cannot be written.
    pub fn note(&self, seen: &SeenDatabase) -> io::Result<()> {
        // New connections and other processes of the server may note it at the same time.
        let _one_at_a_time = lock(&self.0.with_extension("lock"))?;
        put_whole(&self.0, &serde_json::to_vec(seen)?)
    }
}

fn read<T: for<'de> Deserialize<'de>>(path: &Path) -> io::Result<Option<T>> {
    let unreadable =
        |error| io::Error::new(io::ErrorKind::InvalidData, format!("{}: {error}", path.display()));
    match std::fs::read(path) {
        Ok(bytes) => serde_json::from_slice(&bytes).map(Some).map_err(unreadable),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_notes_the_database_at_once_it_is_always_there_whole() {
        let folder = tempfile::tempdir().unwrap();
        let seen = |beats| SeenDatabase { identity: "1/2/3".to_owned(), beats };
        LastDatabase::new(folder.path()).note(&seen(0)).unwrap();
        std::thread::scope(|scope| {
            for _ in 0..4 {
                scope.spawn(|| {
                    let last = LastDatabase::new(folder.path());
                    for beats in 0..50 {
                        last.note(&seen(beats)).unwrap();
                        assert_eq!(last.last().unwrap().unwrap().identity, "1/2/3");
                    }
                });
            }
        });
    }

    #[test]
    fn what_another_process_handed_out_is_known_at_once() {
        let folder = tempfile::tempdir().unwrap();
        let (one, other) = (HandedOut::open(folder.path()).unwrap(), HandedOut::open(folder.path()).unwrap());
        let (older, newer) = (Generation { epoch: 1, counter: 9 }, Generation { epoch: 2, counter: 9 });
        one.note(newer).unwrap();
        other.note(older).unwrap();
        assert!(
            one.newest().unwrap() == newer && other.newest().unwrap() == newer,
            "an epoch never goes back"
        );
        std::fs::write(folder.path().join("handed-out.json"), "{").unwrap();
        assert!(other.newest().unwrap_err().to_string().contains("handed-out.json"));
    }
}
