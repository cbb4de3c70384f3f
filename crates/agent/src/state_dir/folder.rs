//! The agent's own folder: key, memory, due reactions, attic. The one folder that observing may write.

use super::begun::Begun;
use super::in_memory::InMemory;
use super::on_disk::OnDisk;
use super::storage::{Append, Incoming, Listed, Lock, Storage};
use crate::error::AgentError;
use constans_clock::Clock;
use constans_core::digest::DigestKey;
use constans_host::Opened;
use constans_wire::exit::Exit;
use jiff::Timestamp;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use uuid::Uuid;

/// The agent's own folder below a root.
pub const DEFAULT_FOLDER: &str = "var/lib/constans";

/// Where the order of runs is kept: with the memories, so that losing them begins a new epoch.
const ORDER: &str = "memory/runs.json";
/// Where unusable files are kept, each under the time when that was found.
const ASIDE: &str = "aside";
/// What they were called, and what was wrong with them.
const ASIDE_LIST: &str = "aside.json";
/// This many of them are kept.
const MAX_ASIDE: usize = 20;
/// The format of the folder.
const FORMAT: u32 = 1;
/// This many eventful runs are kept whole on a node.
const MAX_WHOLE_RUNS: usize = 500;

/// The agent's own folder, and the clock that dates what is kept there. Clones are the same folder.
#[derive(Debug, Clone)]
pub struct StateDir {
    storage: Arc<dyn Storage>,
    clock: Clock,
    most_whole_runs: usize,
}

/// A file that was set aside because it could not be used.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SetAside {
    /// Its name.
    pub name: String,
    /// When.
    pub at: Timestamp,
    /// What is wrong with it.
    pub because: String,
}

/// Held while a run goes on; nobody else runs meanwhile.
pub struct RunLock {
    _lock: Box<dyn Lock>,
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
    /// The run that began last, until it has ended.
    #[serde(default)]
    pub begun: Option<Begun>,
}

impl StateDir {
    /// Opens the folder, making it if it is not there.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be made or written.
    pub fn open(path: &Path) -> Result<Self, AgentError> {
        let storage =
            OnDisk::open(path).map_err(|error| AgentError::own_file("make the folder", path, &error))?;
        let opened =
            Self { storage: Arc::new(storage), clock: Clock::system(), most_whole_runs: MAX_WHOLE_RUNS };
        opened.bring_forward()?;
        Ok(opened)
    }

    /// Brings a folder that an older agent wrote forward to this one's format. There was none before the first.
    fn bring_forward(&self) -> Result<(), AgentError> {
        let format = self.read_text("format")?.and_then(|text| text.trim().parse::<u32>().ok()).unwrap_or(0);
        if format > FORMAT {
            return Err(AgentError::new(format!(
                "{} has format {format}, and this agent knows {FORMAT}",
                self.path().display()
            ))
            .hint("a newer agent wrote it: use that one, or name another folder with --state-dir"));
        }
        if format < FORMAT {
            self.write("format", format!("{FORMAT}\n").as_bytes())?;
        }
        Ok(())
    }

    /// Returns the folder of a simulated node, which goes by `clock` and keeps this many eventful runs whole.
    pub fn in_memory(files: &InMemory, clock: Clock, most_whole_runs: usize) -> Self {
        Self { storage: Arc::new(files.clone()), clock, most_whole_runs }
    }

    /// Returns the node's clock.
    pub fn clock(&self) -> &Clock {
        &self.clock
    }

    /// Returns the node's time.
    pub fn now(&self) -> Timestamp {
        self.clock.now()
    }

    /// Returns how many eventful runs are kept whole.
    pub fn most_whole_runs(&self) -> usize {
        self.most_whole_runs
    }

    /// Returns its path.
    pub fn path(&self) -> PathBuf {
        self.shown("")
    }

    /// Returns the path of one of its files.
    pub fn shown(&self, name: impl AsRef<Path>) -> PathBuf {
        self.storage.shown(name.as_ref())
    }

    /// Returns the folder for what need not last.
    pub fn scratch(&self) -> PathBuf {
        self.shown("scratch")
    }

    /// Returns whether this node belongs to a server.
    pub fn is_joined(&self) -> bool {
        self.exists("joined.json")
    }

    /// Returns whether a file is there.
    pub fn exists(&self, name: impl AsRef<Path>) -> bool {
        self.storage.exists(name.as_ref())
    }

    /// Returns a file's bytes; none if it is not there.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn read(&self, name: impl AsRef<Path>) -> Result<Option<Vec<u8>>, AgentError> {
        self.storage.read(name.as_ref()).map_err(self.failed("read", name.as_ref()))
    }

    /// Opens a file to be read piece by piece.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be opened.
    pub fn open_file(&self, name: impl AsRef<Path>) -> Result<Option<Opened<'static>>, AgentError> {
        self.storage.open(name.as_ref()).map_err(self.failed("read", name.as_ref()))
    }

    /// Returns a file's text; none if it is not there. Bytes that are no text become U+FFFD.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn read_text(&self, name: impl AsRef<Path>) -> Result<Option<String>, AgentError> {
        Ok(self.read(name)?.map(|bytes| String::from_utf8_lossy(&bytes).into_owned()))
    }

    /// Returns what a file holds; none if it is not there, or if it held something else and was therefore set aside.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn read_json<T: DeserializeOwned>(&self, name: impl AsRef<Path>) -> Result<Option<T>, AgentError> {
        let name = name.as_ref();
        let Some(bytes) = self.read(name)? else { return Ok(None) };
        match serde_json::from_slice(&bytes) {
            Ok(value) => Ok(Some(value)),
            Err(error) => self.set_aside(name, &error.to_string()).map(|()| None),
        }
    }

    /// Sets a file aside that cannot be used, so that it blocks nothing; the last ones are kept and listed.
    ///
    /// # Errors
    ///
    /// Returns why it is still where it was.
    pub fn set_aside(&self, name: &Path, because: &str) -> Result<(), AgentError> {
        let at = self.now();
        let place = Path::new(ASIDE).join(format!("{:020}", at.as_millisecond()));
        self.storage.rename(name, &place).map_err(self.failed("set aside", name))?;
        let name = name.display().to_string();
        let mut all = self.all_set_aside();
        all.push(SetAside { name, at, because: because.to_owned() });
        all.drain(..all.len().saturating_sub(MAX_ASIDE));
        let kept = self.list(ASIDE);
        for oldest in kept.iter().take(kept.len().saturating_sub(MAX_ASIDE)) {
            self.remove(&oldest.name);
        }
        self.write_json(ASIDE_LIST, &all)
    }

    /// Returns what was set aside, the last one last.
    pub fn all_set_aside(&self) -> Vec<SetAside> {
        let listed = self.storage.read(Path::new(ASIDE_LIST)).ok().flatten();
        listed.and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or_default()
    }

    /// Writes a file durably.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written; the old one is then as it was.
    pub fn write(&self, name: impl AsRef<Path>, bytes: &[u8]) -> Result<(), AgentError> {
        self.storage.write(name.as_ref(), bytes).map_err(self.failed("write", name.as_ref()))
    }

    /// Writes a value durably.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written; the old one is then as it was.
    pub fn write_json(&self, name: impl AsRef<Path>, value: &impl Serialize) -> Result<(), AgentError> {
        self.write(name, &serde_json::to_vec(value).expect("it is plain data"))
    }

    /// Writes again what every run writes; see [`Storage::rewrite`].
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written; the old one is then as it was.
    pub fn rewrite(&self, name: impl AsRef<Path>, bytes: &[u8]) -> Result<(), AgentError> {
        self.storage.rewrite(name.as_ref(), bytes).map_err(self.failed("write", name.as_ref()))
    }

    /// Writes again a value that every run writes.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written; the old one is then as it was.
    pub fn rewrite_json(&self, name: impl AsRef<Path>, value: &impl Serialize) -> Result<(), AgentError> {
        self.rewrite(name, &serde_json::to_vec(value).expect("it is plain data"))
    }

    /// Begins a file that comes piece by piece, in one of the agent's folders.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be begun.
    pub fn begin(&self, folder: &str) -> io::Result<Box<dyn Incoming>> {
        self.storage.begin(Path::new(folder))
    }

    /// Opens a file to be added to.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be opened.
    pub fn append(&self, name: impl AsRef<Path>) -> io::Result<Box<dyn Append>> {
        self.storage.append(name.as_ref())
    }

    /// Gives a file another name.
    ///
    /// # Errors
    ///
    /// Returns why it still has the old one.
    pub fn rename(&self, from: &Path, to: &Path) -> Result<(), AgentError> {
        self.storage.rename(from, to).map_err(self.failed("set aside", from))
    }

    /// Removes a file, if it can be.
    pub fn remove(&self, name: impl AsRef<Path>) {
        let _ = self.storage.remove(name.as_ref());
    }

    /// Returns the files of a folder, by name; none if they cannot be listed.
    pub fn list(&self, folder: impl AsRef<Path>) -> Vec<Listed> {
        self.storage.list(folder.as_ref()).unwrap_or_default()
    }

    /// Locks a name for one holder at a time; none if someone else holds it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be locked.
    pub fn try_lock(&self, name: &str) -> Result<Option<Box<dyn Lock>>, AgentError> {
        self.storage.try_lock(Path::new(name)).map_err(self.failed("lock", Path::new(name)))
    }

    fn failed<'a>(&'a self, what: &'a str, name: &'a Path) -> impl FnOnce(io::Error) -> AgentError + 'a {
        move |error| AgentError::own_file(what, &self.shown(name), &error)
    }

    /// Returns the key of found digests; it is made at first and never leaves the node.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read or made.
    pub fn key(&self) -> Result<DigestKey, AgentError> {
        match self.read("key")? {
            Some(bytes) if bytes.len() == 32 => Ok(DigestKey::new(bytes)),
            // What is concealed is then held for changed once.
            Some(bytes) => {
                self.set_aside(Path::new("key"), &format!("a key has 32 bytes, and it has {}", bytes.len()))?;
                self.key()
            }
            None => {
                let mut bytes = [0u8; 32];
                let random = File::open("/dev/urandom").and_then(|mut random| random.read_exact(&mut bytes));
                random.map_err(|error| AgentError::own_file("make the key", &self.shown("key"), &error))?;
                self.write("key", &bytes)?;
                Ok(DigestKey::new(bytes))
            }
        }
    }

    /// Waits until no other run is in progress; `waiting` is called once with whose run it is.
    ///
    /// # Errors
    ///
    /// Returns who still runs since when, after `patience`.
    pub fn lock(
        &self,
        what: &str,
        patience: Duration,
        mut waiting: impl FnMut(&str),
    ) -> Result<RunLock, AgentError> {
        let end = Instant::now() + patience;
        let mut has_warned = false;
        let mut lock = loop {
            if let Some(lock) = self.try_lock("lock")? {
                break lock;
            }
            let who = self.who_runs();
            if Instant::now() >= end {
                return Err(AgentError::new(format!("another run is in progress: {who}"))
                    .hint("wait until it finishes, then run again")
                    .exit(Exit::Busy));
            }
            if !has_warned {
                waiting(&who);
                has_warned = true;
            }
            std::thread::sleep(Duration::from_millis(100));
        };
        let running = Running { pid: std::process::id(), what: what.to_owned(), since: self.now() };
        lock.note(&serde_json::to_vec(&running).expect("it is plain data"))
            .map_err(self.failed("write", Path::new("lock")))?;
        Ok(RunLock { _lock: lock })
    }

    fn who_runs(&self) -> String {
        match self
            .read("lock")
            .ok()
            .flatten()
            .and_then(|bytes| serde_json::from_slice::<Running>(&bytes).ok())
        {
            Some(running) => {
                format!("{} by process {} since {:.0}", running.what, running.pid, running.since)
            }
            None => "another process".to_owned(),
        }
    }

    /// Returns the next place in the order of runs.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn next_run(&self) -> Result<RunOrder, AgentError> {
        self.follow(None)
    }

    /// Returns the next place in the order of runs for one that begins, and notes that it has begun.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn begin_run(&self, begun: &Begun) -> Result<RunOrder, AgentError> {
        self.follow(Some(begun.clone()))
    }

    fn follow(&self, begun: Option<Begun>) -> Result<RunOrder, AgentError> {
        let before = self.run_order()?.unwrap_or_else(|| RunOrder {
            memory_epoch: Uuid::now_v7(),
            sequence: 0,
            begun: None,
        });
        let order = RunOrder { sequence: before.sequence + 1, begun: begun.or(before.begun), ..before };
        self.rewrite_json(ORDER, &order)?;
        Ok(order)
    }

    /// Notes that the run that began last has ended, or is on record.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be noted.
    pub fn end_run(&self) -> Result<(), AgentError> {
        match self.run_order()? {
            Some(order) => self.rewrite_json(ORDER, &RunOrder { begun: None, ..order }),
            None => Ok(()),
        }
    }

    /// Returns where this node is in the order of its runs; none before the first.
    ///
    /// # Errors
    ///
    /// Returns why that cannot be read.
    pub fn run_order(&self) -> Result<Option<RunOrder>, AgentError> {
        self.read_json(ORDER)
    }

    /// Forgets the order of runs: the next one begins a new memory epoch.
    pub(crate) fn forget_run_order(&self) {
        self.remove(ORDER);
    }

    /// Returns whether other processes can look at it.
    pub fn can_be_looked_at(&self) -> bool {
        self.storage.can_be_looked_at()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::PermissionsExt as _;

    #[test]
    fn a_second_run_is_told_who_runs() {
        let folder = tempfile::tempdir().unwrap();
        for state_dir in [
            StateDir::open(folder.path()).unwrap(),
            StateDir::in_memory(&InMemory::default(), Clock::system(), 1),
        ] {
            let held = state_dir.lock("enforce", Duration::ZERO, |_| ()).unwrap();
            let error = state_dir.lock("observe", Duration::ZERO, |_| ()).err().unwrap();
            assert!(
                error.message.starts_with("another run is in progress: enforce by process"),
                "{}",
                error.message
            );
            assert_eq!(error.exit, Exit::Busy);
            drop(held);
            assert!(state_dir.lock("observe", Duration::ZERO, |_| ()).is_ok());
        }
    }

    #[test]
    fn the_key_is_made_once_and_only_its_owner_may_read_it() {
        let folder = tempfile::tempdir().unwrap();
        let state_dir = StateDir::open(folder.path()).unwrap();
        assert_eq!(state_dir.key().unwrap().digest(b"x"), state_dir.key().unwrap().digest(b"x"));
        assert_eq!(fs::metadata(folder.path().join("key")).unwrap().permissions().mode() & 0o777, 0o600);
    }

    #[test]
    fn what_cannot_be_read_is_set_aside_bounded_and_told() {
        let folder = tempfile::tempdir().unwrap();
        let state_dir = StateDir::open(folder.path()).unwrap();
        for at in 0..MAX_ASIDE + 5 {
            state_dir.write("due.json", format!("nonsense {at}").as_bytes()).unwrap();
            assert_eq!(state_dir.read_json::<Vec<u32>>("due.json").unwrap(), None);
            std::thread::sleep(Duration::from_millis(2));
        }
        let aside = state_dir.all_set_aside();
        assert_eq!((aside.len(), state_dir.list(ASIDE).len()), (MAX_ASIDE, MAX_ASIDE));
        assert_eq!(
            state_dir.read_text(&state_dir.list(ASIDE)[MAX_ASIDE - 1].name).unwrap().unwrap(),
            format!("nonsense {}", MAX_ASIDE + 4)
        );
        assert!(aside[0].name == "due.json" && aside[0].because.starts_with("expected ident"), "{aside:?}");
    }

    #[test]
    fn a_folder_of_a_newer_agent_is_left_as_it_is() {
        let folder = tempfile::tempdir().unwrap();
        StateDir::open(folder.path()).unwrap();
        assert_eq!(fs::read_to_string(folder.path().join("format")).unwrap(), "1\n");
        fs::write(folder.path().join("format"), "2\n").unwrap();
        let error = StateDir::open(folder.path()).unwrap_err();
        assert!(error.message.ends_with("has format 2, and this agent knows 1"), "{}", error.message);
    }

    #[test]
    fn both_places_keep_files_alike() {
        let folder = tempfile::tempdir().unwrap();
        let all = |state_dir: &StateDir| {
            state_dir.write("runs/whole/b.json", b"2").unwrap();
            state_dir.rewrite("runs/whole/a.json", b"1").unwrap();
            state_dir.rewrite("runs/whole/a.json", b"10").unwrap();
            let mut lines = state_dir.append("runs/lines").unwrap();
            lines.add(b"one\n").and_then(|()| lines.add(b"two\n")).and_then(|()| lines.sync()).unwrap();
            state_dir.remove("runs/none");
            let listed: Vec<_> = state_dir
                .list("runs/whole")
                .into_iter()
                .filter(|listed| !listed.name.ends_with("a.new"))
                .collect();
            (
                listed,
                state_dir.read_text("runs/lines").unwrap(),
                state_dir.read("runs/none").unwrap(),
                state_dir.list("none"),
            )
        };
        let on_disk = all(&StateDir::open(folder.path()).unwrap());
        assert_eq!(on_disk, all(&StateDir::in_memory(&InMemory::default(), Clock::system(), 1)));
        let names: Vec<_> =
            on_disk.0.iter().map(|listed| (listed.name.display().to_string(), listed.bytes)).collect();
        assert_eq!(names, [("runs/whole/a.json".to_owned(), 2), ("runs/whole/b.json".to_owned(), 1)]);
    }
}
