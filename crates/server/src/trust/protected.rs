//! What lies outside the database and its dump: which generations were handed out, and who was refused.
//!
//! A database that was put back to an earlier day does not know of either.

use constans_wire::check_in::Generation;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::fs::{File, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use uuid::Uuid;

/// The newest generation that any node was given, in a file that all server processes share.
pub struct HandedOut {
    path: PathBuf,
    known: Mutex<Generation>,
}

impl HandedOut {
    /// Opens the file in the protected folder; it begins with the first epoch.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read or written.
    pub fn open(folder: &Path) -> io::Result<Self> {
        let path = folder.join("handed-out.json");
        let known = if path.exists() { read(&path)? } else { Generation { epoch: 1, counter: 0 } };
        Ok(Self { path, known: Mutex::new(known) })
    }

    /// Returns whether the folder can be written still.
    pub fn is_usable(&self) -> bool {
        OpenOptions::new().create(true).append(true).mode(0o600).open(self.path.with_extension("lock")).is_ok()
    }

    /// Returns the newest generation that was handed out.
    pub fn newest(&self) -> Generation {
        *self.known.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// Notes durably that a generation is handed out, before it is.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written; then it must not be handed out.
    pub fn note(&self, generation: Generation) -> io::Result<()> {
        let mut known = self.known.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if generation <= *known {
            return Ok(());
        }
        // Another process of the server may have handed out a newer one meanwhile.
        let lock = OpenOptions::new().create(true).append(true).mode(0o600).open(self.path.with_extension("lock"))?;
        lock.lock()?;
        let newest = if self.path.exists() { read(&self.path)?.max(generation) } else { generation };
        let new = self.path.with_extension("new");
        let mut file = OpenOptions::new().create(true).truncate(true).write(true).mode(0o600).open(&new)?;
        serde_json::to_writer(&mut file, &newest)?;
        file.sync_all()?;
        std::fs::rename(&new, &self.path)?;
        *known = newest;
        Ok(())
    }
}

fn read(path: &Path) -> io::Result<Generation> {
    Ok(serde_json::from_slice(&std::fs::read(path)?)?)
}

/// The file of refusals, to which lines are only added.
pub struct Refusals(PathBuf);

/// One line of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Refusal {
    /// When.
    pub at: Timestamp,
    /// The node.
    pub node: Uuid,
    /// Whether the node is refused from then on; else it was let back with a new key.
    pub refused: bool,
    /// The public keys (SHA-256 of SPKI, in hexadecimal digits) that are refused for good.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<String>,
}

impl Refusals {
    /// Names the file in the protected folder.
    pub fn new(folder: &Path) -> Self {
        Self(folder.join("refusals.jsonl"))
    }

    /// Adds a line durably.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn add(&self, refusal: &Refusal) -> io::Result<()> {
        let mut line = serde_json::to_vec(refusal)?;
        line.push(b'\n');
        let mut file = OpenOptions::new().create(true).append(true).mode(0o600).open(&self.0)?;
        file.write_all(&line)?;
        file.sync_all()?;
        File::open(self.0.parent().unwrap_or(Path::new("/")))?.sync_all()
    }

    /// Returns all lines, the oldest first. A last line that was cut off is left out: what it says was never answered.
    ///
    /// # Errors
    ///
    /// Returns why the file cannot be read.
    pub fn all(&self) -> io::Result<Vec<Refusal>> {
        match std::fs::read_to_string(&self.0) {
            Ok(text) => Ok(text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect()),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
            Err(error) => Err(error),
        }
    }
}
