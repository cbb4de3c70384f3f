//! The agent's own folder: key, memory, due reactions, attic. The one folder that observing may write.

use crate::error::AgentError;
use constans_core::address::ClauseAddress;
use constans_core::digest::DigestKey;
use constans_core::run::{Alike, DueReaction, Memories, Memory};
use constans_host::steps;
use constans_wire::exit::Exit;
use jiff::Timestamp;
use rustix::fs::FlockOperation;
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

/// What is kept for one baseline of one kit.
pub struct Store {
    folder: PathBuf,
    log: Option<File>,
    /// The due reactions as they are known to be kept.
    kept_due: Option<Vec<DueReaction>>,
}

/// A memory with its address, as it is read.
#[derive(Deserialize)]
struct Remembered {
    address: ClauseAddress,
    #[serde(default)]
    alike: Option<Alike>,
    #[serde(default)]
    drift_found_at: Option<Timestamp>,
    #[serde(default)]
    closed_at: Option<Timestamp>,
}

/// The same as it is written.
#[derive(Serialize)]
struct Remembering<'m> {
    address: &'m ClauseAddress,
    #[serde(skip_serializing_if = "Option::is_none")]
    alike: &'m Option<Alike>,
    #[serde(skip_serializing_if = "Option::is_none")]
    drift_found_at: Option<Timestamp>,
    #[serde(skip_serializing_if = "Option::is_none")]
    closed_at: Option<Timestamp>,
}

impl<'m> Remembering<'m> {
    fn of(address: &'m ClauseAddress, Memory { alike, drift_found_at, closed_at }: &'m Memory) -> Self {
        Self { address, alike, drift_found_at: *drift_found_at, closed_at: *closed_at }
    }
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
        write_json(&path, &order)?;
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
        Ok(Store { folder, log: None, kept_due: None })
    }
}

impl Store {
    /// Returns what is remembered, with what the last run noted before it was cut off.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn memories(&self) -> Result<Memories, AgentError> {
        let kept: Vec<Remembered> = read_json(&self.folder.join("memory.json"))?.unwrap_or_default();
        let log = fs::read_to_string(self.folder.join("memory.log")).unwrap_or_default();
        // A line that was cut off is not JSON and is left out.
        let noted = log.lines().filter_map(|line| serde_json::from_str::<Remembered>(line).ok());
        let memory = |Remembered { address, alike, drift_found_at, closed_at }| (address, Memory { alike, drift_found_at, closed_at });
        Ok(kept.into_iter().chain(noted).map(memory).collect())
    }

    /// Notes one memory at once.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be noted.
    pub fn remember(&mut self, address: &ClauseAddress, memory: &Memory) -> io::Result<()> {
        if self.log.is_none() {
            self.log = Some(OpenOptions::new().create(true).append(true).mode(0o600).open(self.folder.join("memory.log"))?);
        }
        let line = serde_json::to_string(&Remembering::of(address, memory))?;
        if let Some(log) = &mut self.log {
            writeln!(log, "{line}")?;
        }
        steps::reached("memory noted", "");
        Ok(())
    }

    /// Keeps all memories at the end of a run.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be kept.
    pub fn keep_memories(&mut self, memories: &Memories) -> Result<(), AgentError> {
        let all: Vec<Remembering<'_>> = memories.iter().map(|(address, memory)| Remembering::of(address, memory)).collect();
        write_json(&self.folder.join("memory.json"), &all)?;
        steps::reached("memory kept", "");
        self.log = None;
        let _ = fs::remove_file(self.folder.join("memory.log"));
        Ok(())
    }

    /// Returns the due reactions.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be read.
    pub fn due(&mut self) -> Result<Vec<DueReaction>, AgentError> {
        let due: Vec<DueReaction> = read_json(&self.folder.join("due.json"))?.unwrap_or_default();
        self.kept_due = Some(due.clone());
        Ok(due)
    }

    /// Keeps the due reactions durably.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be kept.
    pub fn keep_due(&mut self, due: &[DueReaction]) -> Result<(), AgentError> {
        if self.kept_due.as_deref() == Some(due) {
            return Ok(());
        }
        self.kept_due = None;
        write_json(&self.folder.join("due.json"), &due)?;
        self.kept_due = Some(due.to_vec());
        steps::reached("due kept", "");
        Ok(())
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
    let candidate = path.with_extension("new");
    let mut file = OpenOptions::new().create(true).write(true).truncate(true).mode(0o600).open(&candidate)?;
    file.write_all(bytes)?;
    file.sync_all()?;
    fs::rename(&candidate, path)?;
    File::open(path.parent().unwrap_or(Path::new("/")))?.sync_all()
}

#[cfg(test)]
mod tests {
    use super::*;
    use constans_core::digest::of_contents;

    fn memory(secs: i64) -> Memory {
        Memory::alike(of_contents(b"w"), of_contents(b"f"), Timestamp::from_second(secs).unwrap())
    }

    #[test]
    fn what_was_noted_before_a_run_was_cut_off_is_remembered_and_a_torn_line_is_not() {
        let folder = tempfile::tempdir().unwrap();
        let state_dir = StateDir::open(&folder.path().join("state")).unwrap();
        let mut store = state_dir.store(Path::new("kiosk-floor/lockdown")).unwrap();
        let address = ClauseAddress::parse("file:/etc/issue").unwrap();
        store.keep_memories(&Memories::from([(address.clone(), memory(1))])).unwrap();
        store.remember(&address, &memory(2)).unwrap();
        let log = state_dir.path().join("memory/kiosk-floor/lockdown/memory.log");
        OpenOptions::new().append(true).open(&log).unwrap().write_all(b"{\"address\":\"file:/etc/is").unwrap();
        assert_eq!(state_dir.store(Path::new("kiosk-floor/lockdown")).unwrap().memories().unwrap(), Memories::from([(address, memory(2))]));
    }

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
