//! The attic: copies of contents that were replaced or removed, found by path, time, run and content.

use crate::error::AgentError;
use crate::state_dir::StateDir;
use constans_core::address::ClauseAddress;
use constans_core::digest::{Digest, hex, of_contents};
use constans_core::run::StoredCopy;
use constans_host::files::Entry;
use constans_host::{Attic, HostError, steps};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use uuid::Uuid;

/// One thing in the attic.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AtticEntry {
    /// Its number, to be called by.
    pub number: u64,
    /// Where it stood.
    pub path: String,
    /// When it was replaced, or kept.
    pub at: Timestamp,
    /// Whether it was kept as it was found, while drift was left for its grace: nothing replaced it then.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub during_grace: bool,
    /// The run that replaced it; none if a put-back did.
    pub run: Option<Uuid>,
    /// The clause that it was replaced for.
    pub clause: Option<ClauseAddress>,
    /// The digest of its contents.
    pub digest: Digest,
    /// Its size in bytes.
    pub bytes: u64,
    /// Who owned it.
    pub uid: u32,
    /// Which group owned it.
    pub gid: u32,
    /// Its permissions, octal.
    pub permissions: String,
}

impl AtticEntry {
    fn as_old(&self) -> StoredCopy {
        StoredCopy {
            attic: self.number,
            path: self.path.clone(),
            digest: self.digest.clone(),
            bytes: self.bytes,
        }
    }
}

/// The file that lists its contents, a line for each thing.
const INDEX: &str = "attic/index";
/// The folder of the contents, each under its digest.
const CONTENTS: &str = "attic/contents";
/// The file that lists what was taken out of it.
const FORGOTTEN: &str = "attic/forgotten.json";

/// The attic of one state dir.
pub struct AtticStore {
    state_dir: StateDir,
    kept: Vec<AtticEntry>,
    run: Option<Uuid>,
    during_grace: bool,
    most_bytes: u64,
}

impl AtticStore {
    /// Opens the attic for a run, or for looking if there is none.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn open(state_dir: &StateDir, run: Option<Uuid>) -> Result<Self, AgentError> {
        let index = state_dir.read_text(INDEX)?.unwrap_or_default();
        let kept = index.lines().filter_map(|line| serde_json::from_str(line).ok()).collect();
        Ok(Self { state_dir: state_dir.clone(), kept, run, during_grace: false, most_bytes: u64::MAX })
    }

    /// Returns everything in it, the oldest first.
    pub fn all(&self) -> &[AtticEntry] {
        &self.kept
    }

    /// Returns one thing by its number.
    ///
    /// # Errors
    ///
    /// Returns that there is no such number.
    pub fn find(&self, number: u64) -> Result<&AtticEntry, AgentError> {
        let found = self.kept.iter().find(|kept| kept.number == number);
        found.ok_or_else(|| {
            AgentError::new(format!("the attic has no entry {number}"))
                .hint("constans-agent attic list shows all entries")
        })
    }

    /// Returns the contents of one thing.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be read, or that they are not what was kept.
    pub fn contents(&self, kept: &AtticEntry) -> Result<Vec<u8>, AgentError> {
        let name = contents_name(&kept.digest);
        let path = self.state_dir.shown(&name);
        let bytes = self
            .state_dir
            .read(&name)?
            .ok_or_else(|| AgentError::new(format!("{} no longer exists", path.display())))?;
        if of_contents(&bytes) == kept.digest {
            Ok(bytes)
        } else {
            Err(AgentError::new(format!("{} was modified: its digest differs", path.display())))
        }
    }

    /// Keeps no single contents that are larger than this many MiB.
    #[must_use]
    pub fn holding(mut self, most_mib: u64) -> Self {
        self.most_bytes = most_mib.saturating_mul(1024 * 1024);
        self
    }

    /// Keeps things as they are found while drift is left for its grace.
    pub fn during_grace<T>(&mut self, keep: impl FnOnce(&mut Self) -> T) -> T {
        self.during_grace = true;
        let kept = keep(self);
        self.during_grace = false;
        kept
    }

    fn add(
        &mut self,
        path: &str,
        contents: &mut dyn Read,
        entry: &Entry,
        clause: Option<&ClauseAddress>,
    ) -> Result<StoredCopy, AgentError> {
        if entry.size > self.most_bytes {
            let (size, most) = (entry.size, self.most_bytes / 1024 / 1024);
            return Err(AgentError::new(format!("it has {size} bytes, and the attic takes at most {most} MiB"))
                .hint("nothing was changed. Move it away by hand, set `attic = false` in the clause if it may be lost, or raise attic_mib"));
        }
        let (digest, bytes) = self
            .take_in(contents)
            .map_err(|error| AgentError::own_file("write", &self.state_dir.shown(CONTENTS), &error))?;
        steps::reached("attic contents kept", path);
        let permissions = format!("{:04o}", entry.permissions);
        let is_kept_so = |kept: &&AtticEntry| {
            kept.digest == digest
                && (kept.uid, kept.gid, &kept.permissions) == (entry.uid, entry.gid, &permissions)
        };
        // What was kept during its grace and is replaced now is there already.
        if let Some(kept) = self
            .kept
            .iter()
            .rfind(|kept| kept.path == path)
            .filter(|kept| kept.during_grace)
            .filter(is_kept_so)
        {
            return Ok(kept.as_old());
        }
        let kept = AtticEntry {
            number: self.kept.last().map_or(1, |last| last.number + 1),
            path: path.to_owned(),
            at: self.state_dir.now(),
            during_grace: self.during_grace,
            run: self.run,
            clause: clause.cloned(),
            digest,
            bytes,
            uid: entry.uid,
            gid: entry.gid,
            permissions,
        };
        // A line that was cut off stays a line of its own.
        let is_torn =
            self.state_dir.read(INDEX)?.is_some_and(|index| index.last().is_some_and(|byte| *byte != b'\n'));
        let line = format!(
            "{}{}\n",
            if is_torn { "\n" } else { "" },
            serde_json::to_string(&kept).expect("it is plain data")
        );
        let added = self.state_dir.append(INDEX).and_then(|mut index| {
            index.add(line.as_bytes())?;
            index.sync()
        });
        added.map_err(|error| AgentError::own_file("write", &self.state_dir.shown(INDEX), &error))?;
        let old = kept.as_old();
        self.kept.push(kept);
        steps::reached("attic entry kept", path);
        Ok(old)
    }

    /// Takes contents in piece by piece; returns their digest and size.
    fn take_in(&self, contents: &mut dyn Read) -> io::Result<(Digest, u64)> {
        let mut incoming = self.state_dir.begin(CONTENTS)?;
        let (mut hash, mut bytes, mut piece) = (Sha256::new(), 0, vec![0; PIECE]);
        loop {
            let read = match contents.read(&mut piece) {
                Ok(0) => break,
                Ok(read) => &piece[..read],
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(error),
            };
            bytes += read.len() as u64;
            // It may grow while it is read.
            if bytes > self.most_bytes {
                return Err(io::ErrorKind::FileTooLarge.into());
            }
            hash.update(read);
            incoming.add(read)?;
        }
        let digest: Digest = format!("sha256:{}", hex(&hash.finalize())).parse().map_err(io::Error::other)?;
        let name = contents_name(&digest);
        if !self.state_dir.exists(&name) {
            incoming.commit(&name)?;
        }
        Ok((digest, bytes))
    }

    /// Keeps what is at a path before a put-back replaces it.
    ///
    /// # Errors
    ///
    /// Returns why it could not be kept.
    pub fn keep_before_put_back(
        &mut self,
        path: &str,
        mut contents: &[u8],
        entry: &Entry,
    ) -> Result<StoredCopy, HostError> {
        self.add(path, &mut contents, entry, None).map_err(|error| not_kept(path, &error))
    }
}

/// The number of bytes that are read at once.
const PIECE: usize = 64 * 1024;

/// What went out of the attic since it holds no more.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Forgotten {
    /// How many things.
    pub things: u64,
    /// When the newest of them was replaced.
    pub until: Option<Timestamp>,
}

impl AtticStore {
    /// Takes the oldest things out until the attic holds no more than this many MiB; the newest always stays.
    ///
    /// # Errors
    ///
    /// Returns why that cannot be kept.
    pub fn bound(&mut self, most_mib: u64) -> Result<(), AgentError> {
        let (most, mut held) = (most_mib.saturating_mul(1024 * 1024), self.bytes());
        let mut uses: BTreeMap<Digest, usize> = BTreeMap::new();
        self.kept.iter().for_each(|kept| *uses.entry(kept.digest.clone()).or_default() += 1);
        let mut gone = 0;
        while held > most && gone + 1 < self.kept.len() {
            let oldest = &self.kept[gone];
            let left = uses.entry(oldest.digest.clone()).and_modify(|uses| *uses -= 1).or_default();
            if *left == 0 {
                held -= oldest.bytes;
            }
            gone += 1;
        }
        if gone == 0 {
            return Ok(());
        }
        let before = self.forgotten()?;
        let forgotten =
            Forgotten { things: before.things + gone as u64, until: Some(self.kept[gone - 1].at) };
        self.kept.drain(..gone);
        let lines: String = self
            .kept
            .iter()
            .map(|kept| serde_json::to_string(kept).expect("it is plain data") + "\n")
            .collect();
        self.state_dir.write_json(FORGOTTEN, &forgotten)?;
        self.state_dir.write(INDEX, lines.as_bytes())?;
        // Contents go last: after an interruption they only take room until the next time.
        let named: BTreeSet<PathBuf> = self.kept.iter().map(|kept| contents_name(&kept.digest)).collect();
        for listed in self.state_dir.list(CONTENTS).into_iter().filter(|listed| !named.contains(&listed.name))
        {
            self.state_dir.remove(listed.name);
        }
        Ok(())
    }

    /// Returns how many bytes of contents it holds; equal contents count once.
    pub fn bytes(&self) -> u64 {
        self.kept.iter().map(|kept| (&kept.digest, kept.bytes)).collect::<BTreeMap<_, _>>().values().sum()
    }

    /// Returns what went out of it.
    ///
    /// # Errors
    ///
    /// Returns why that cannot be read.
    pub fn forgotten(&self) -> Result<Forgotten, AgentError> {
        Ok(self.state_dir.read_json(FORGOTTEN)?.unwrap_or_default())
    }
}

fn contents_name(digest: &Digest) -> PathBuf {
    Path::new(CONTENTS).join(digest.as_str().replace(':', "-"))
}

fn not_kept(path: &str, error: &AgentError) -> HostError {
    HostError {
        remedy: error.hint.clone(),
        ..HostError::new(format!("{path} could not be kept in the attic: {}", error.message))
    }
}

impl Attic for AtticStore {
    fn keep(
        &mut self,
        path: &str,
        contents: &mut dyn Read,
        entry: &Entry,
        clause: &ClauseAddress,
    ) -> Result<StoredCopy, HostError> {
        self.add(path, contents, entry, Some(clause)).map_err(|error| not_kept(path, &error))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use constans_host::files::{EntryKind, Stamp};

    #[test]
    fn the_oldest_goes_first_equal_contents_count_once_and_the_newest_stays() {
        let folder = tempfile::tempdir().unwrap();
        let state_dir = StateDir::open(folder.path()).unwrap();
        let mut attic = AtticStore::open(&state_dir, None).unwrap();
        let entry = Entry {
            what: EntryKind::File,
            uid: 0,
            gid: 0,
            permissions: 0o644,
            size: 0,
            names: 1,
            stamp: Stamp::default(),
        };
        let big = |fill: u8| vec![fill; 700 * 1024];
        for contents in [big(1), big(2), big(1), big(3)] {
            attic.keep_before_put_back("/etc/issue", &contents, &entry).unwrap();
        }
        attic.bound(2).unwrap();
        assert_eq!(
            attic.all().iter().map(|kept| kept.number).collect::<Vec<_>>(),
            [3, 4],
            "without the first nothing is freed"
        );
        attic.bound(1).unwrap();
        let again = AtticStore::open(&state_dir, None).unwrap();
        assert_eq!(again.all().iter().map(|kept| kept.number).collect::<Vec<_>>(), [4]);
        assert_eq!((again.forgotten().unwrap().things, again.bytes()), (3, 700 * 1024));
        assert_eq!(again.contents(&again.all()[0]).unwrap(), big(3));
        assert_eq!(state_dir.list(CONTENTS).len(), 1);
    }
}
