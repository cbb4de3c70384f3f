//! The agent's own folder: key, memory, due reactions, attic. The one folder that observing may write.

use crate::error::AgentError;
use crate::memory_store::Store;
use constans_core::digest::DigestKey;
use constans_wire::exit::Exit;
use jiff::Timestamp;
use rustix::fs::{CWD, FlockOperation, RenameFlags};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::fs::{self, DirBuilder, File, OpenOptions, Permissions};
use std::io::{self, Read as _, Seek as _, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use uuid::Uuid;

/// The agent's own folder below a root.
pub const USUAL: &str = "var/lib/constans";

/// The agent's own folder.
#[derive(Debug, Clone)]
pub struct StateDir {
    path: PathBuf,
}

/// Held while a run goes on; nobody else runs meanwhile.
pub struct RunLock {
    _file: File,
}

/// Who runs.
#[derive(Debug, Serialize, Deserialize)]
struct Running {
    pid: u32,
    what: String,
    since: Timestamp,
}

/// What orders the runs of a node.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RunOrder {
    /// New when the memory was lost.
    pub memory_epoch: Uuid,
    /// Rises with every run.
    pub sequence: u64,
}

impl StateDir {
    /// Opens the folder, making it if it is not there.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be made or written.
    pub fn open(path: &Path) -> Result<Self, AgentError> {
        let failed = |error: io::Error| AgentError::own_file("make the folder", path, &error);
        DirBuilder::new().recursive(true).mode(0o700).create(path.join("scratch")).map_err(failed)?;
        fs::set_permissions(path, Permissions::from_mode(0o700)).map_err(failed)?;
        Ok(Self { path: path.canonicalize().map_err(failed)? })
    }

    /// Returns where it lies.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Returns the folder for what need not last.
    pub fn scratch(&self) -> PathBuf {
        self.path.join("scratch")
    }

    /// Returns whether this node belongs to a server.
    pub fn is_joined(&self) -> bool {
        self.path.join("joined.json").exists()
    }

    /// Returns the key of found digests; it is made at first and never leaves the node.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read or made.
    pub fn key(&self) -> Result<DigestKey, AgentError> {
        let path = self.path.join("key");
        match fs::read(&path) {
            Ok(bytes) if bytes.len() == 32 => Ok(DigestKey::new(bytes)),
            Ok(_) => Err(AgentError::new(format!("{} is not a key of 32 bytes", path.display()))
                .hint("take it away; what is concealed is then held for changed once")),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                let mut bytes = [0u8; 32];
                let random = File::open("/dev/urandom").and_then(|mut random| random.read_exact(&mut bytes));
                random.and_then(|()| write_durably(&path, &bytes)).map_err(|error| AgentError::own_file("make the key", &path, &error))?;
                Ok(DigestKey::new(bytes))
            }
            Err(error) => Err(AgentError::own_file("read the key", &path, &error)),
        }
    }

    /// Waits until nobody else runs; `waiting` is told once who does.
    ///
    /// # Errors
    ///
    /// Returns who still runs since when, after `patience`.
    pub fn lock(&self, what: &str, patience: Duration, mut waiting: impl FnMut(&str)) -> Result<RunLock, AgentError> {
        let path = self.path.join("lock");
        let failed = |error: io::Error| AgentError::own_file("open", &path, &error);
        let mut file = OpenOptions::new().create(true).truncate(false).read(true).write(true).mode(0o600).open(&path).map_err(failed)?;
        let end = Instant::now() + patience;
        let mut told = false;
        while rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive).is_err() {
            let who = who_runs(&path);
            if Instant::now() >= end {
                return Err(AgentError::new(format!("another run goes on: {who}")).hint("wait until it ends, then run again").exit(Exit::Busy));
            }
            if !told {
                waiting(&who);
                told = true;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        let running = Running { pid: std::process::id(), what: what.to_owned(), since: Timestamp::now() };
        let text = serde_json::to_vec(&running).expect("it is plain data");
        file.set_len(0).and_then(|()| file.rewind()).and_then(|()| file.write_all(&text)).map_err(failed)?;
        Ok(RunLock { _file: file })
    }

    /// Returns the next place in the order of runs.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn next_run(&self) -> Result<RunOrder, AgentError> {
        // With the memories: whoever loses them begins a new epoch.
        let folder = self.path.join("memory");
        DirBuilder::new().recursive(true).mode(0o700).create(&folder).map_err(|error| AgentError::own_file("make the folder", &folder, &error))?;
        let path = folder.join("runs.json");
        let mut order = read_json(&path)?.unwrap_or_else(|| RunOrder { memory_epoch: Uuid::now_v7(), sequence: 0 });
        order.sequence += 1;
        rewrite_json(&path, &order)?;
        Ok(order)
    }

    /// Opens what is remembered of what is wanted: of one baseline of one kit, or of all that the server wants.
    ///
    /// # Errors
    ///
    /// Returns why its folder cannot be made.
    pub fn store(&self, name: &Path) -> Result<Store, AgentError> {
        let folder = self.path.join("memory").join(name);
        DirBuilder::new().recursive(true).mode(0o700).create(&folder).map_err(|error| AgentError::own_file("make the folder", &folder, &error))?;
        Ok(Store::in_folder(folder))
    }
}

fn who_runs(path: &Path) -> String {
    match fs::read(path).ok().and_then(|bytes| serde_json::from_slice::<Running>(&bytes).ok()) {
        Some(running) => format!("{} by process {} since {:.0}", running.what, running.pid, running.since),
        None => "another process".to_owned(),
    }
}

/// Reads a file of the agent's own; none if it is not there.
///
/// # Errors
///
/// Returns why it cannot be read.
pub fn read_json<T: DeserializeOwned>(path: &Path) -> Result<Option<T>, AgentError> {
    match fs::read(path) {
        Ok(bytes) => serde_json::from_slice(&bytes).map(Some).map_err(|error| {
            AgentError::new(format!("{} cannot be read: {error}", path.display()))
                .hint("it was changed by something else than the agent: take it away, the agent then begins anew")
        }),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(AgentError::own_file("read", path, &error)),
    }
}

/// Writes a file of the agent's own, durably.
///
/// # Errors
///
/// Returns why it cannot be written.
pub fn write_json(path: &Path, value: &impl Serialize) -> Result<(), AgentError> {
    let bytes = serde_json::to_vec(value).expect("it is plain data");
    write_durably(path, &bytes).map_err(|error| AgentError::own_file("write", path, &error))
}

/// Writes a file of the agent's own so that it is there whole or not at all, even after a power cut.
///
/// # Errors
///
/// Returns why it cannot be written; the old one is then as it was.
pub fn write_durably(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let candidate = write_candidate(path, bytes)?;
    fs::rename(&candidate, path)?;
    flush_folder(path)
}

/// Writes anew, as [`write_durably`] does, what every run writes: it changes places with what stood there, which the next
/// one overwrites, so that no file is made and taken away each time. Not for what must be gone when it is replaced.
///
/// # Errors
///
/// Returns why it cannot be written; the old one is then as it was.
pub fn rewrite_json(path: &Path, value: &impl Serialize) -> Result<(), AgentError> {
    rewrite_durably(path, &serde_json::to_vec(value).expect("it is plain data"))
}

/// Does the same with bytes.
///
/// # Errors
///
/// Returns why they cannot be written; the old ones are then as they were.
pub fn rewrite_durably(path: &Path, bytes: &[u8]) -> Result<(), AgentError> {
    let rewritten = write_candidate(path, bytes).and_then(|candidate| {
        match rustix::fs::renameat_with(CWD, &candidate, CWD, path, RenameFlags::EXCHANGE) {
            Ok(()) => {}
            // There is nothing to change places with yet, or the file system cannot do it.
            Err(_) => fs::rename(&candidate, path)?,
        }
        flush_folder(path)
    });
    rewritten.map_err(|error| AgentError::own_file("write", path, &error))
}

fn write_candidate(path: &Path, bytes: &[u8]) -> io::Result<PathBuf> {
    let candidate = path.with_extension("new");
    constans_host::overwrite(&candidate, &[bytes])?.sync_all()?;
    Ok(candidate)
}

fn flush_folder(path: &Path) -> io::Result<()> {
    File::open(path.parent().unwrap_or(Path::new("/")))?.sync_all()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_second_run_is_told_who_runs() {
        let folder = tempfile::tempdir().unwrap();
        let state_dir = StateDir::open(folder.path()).unwrap();
        let _held = state_dir.lock("enforce", Duration::ZERO, |_| ()).unwrap();
        let error = state_dir.lock("observe", Duration::ZERO, |_| ()).err().unwrap();
        assert!(error.message.starts_with("another run goes on: enforce by process"), "{}", error.message);
        assert_eq!(error.exit, Exit::Busy);
    }

    #[test]
    fn the_key_is_made_once_and_only_its_owner_may_read_it() {
        let folder = tempfile::tempdir().unwrap();
        let state_dir = StateDir::open(folder.path()).unwrap();
        assert_eq!(state_dir.key().unwrap().digest(b"x"), state_dir.key().unwrap().digest(b"x"));
        assert_eq!(fs::metadata(folder.path().join("key")).unwrap().permissions().mode() & 0o777, 0o600);
    }
}
