//! The contents that a server gave out for what it wants, in the agent's own folder: read when they are asked for.

use crate::error::AgentError;
use crate::state_dir::{StateDir, write_durably};
use constans_host::Contents;
use std::borrow::Cow;
use std::collections::{BTreeSet, HashMap};
use std::ffi::OsString;
use std::fs;
use std::path::PathBuf;

/// The contents of one state dir, by their names.
#[derive(Debug)]
pub struct KeptContents {
    folder: PathBuf,
}

impl Contents for KeptContents {
    fn get(&self, name: &str) -> Option<Cow<'_, [u8]>> {
        fs::read(self.path(name)).ok().map(Cow::Owned)
    }
}

impl KeptContents {
    /// Opens the contents; there may be none yet.
    pub fn of(state_dir: &StateDir) -> Self {
        Self { folder: state_dir.path().join("contents") }
    }

    /// Returns where contents of this name lie if they are kept.
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.join(file_name(name))
    }

    /// Keeps contents durably.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be kept.
    pub fn keep(&self, name: &str, bytes: &[u8]) -> Result<(), AgentError> {
        fs::create_dir_all(&self.folder).map_err(|error| AgentError::own_file("make the folder", &self.folder, &error))?;
        let path = self.path(name);
        write_durably(&path, bytes).map_err(|error| AgentError::own_file("write", &path, &error))
    }

    /// Takes away what has none of these names, as what is concealed must not stay, and returns the names that are not here.
    pub fn only<'n>(&self, names: &'n BTreeSet<String>) -> Vec<&'n str> {
        let mut missing: HashMap<OsString, &str> = names.iter().map(|name| (file_name(name).into(), name.as_str())).collect();
        for entry in fs::read_dir(&self.folder).into_iter().flatten().flatten() {
            if missing.remove(&entry.file_name()).is_none() {
                let _ = fs::remove_file(entry.path());
            }
        }
        missing.into_values().collect()
    }
}

fn file_name(name: &str) -> String {
    name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_named_goes_and_what_is_not_here_is_named() {
        let folder = tempfile::tempdir().unwrap();
        let kept = KeptContents::of(&StateDir::open(folder.path()).unwrap());
        kept.keep("sha256:aa", b"idle = 90\n").unwrap();
        kept.keep("h1:bb", b"secret").unwrap();
        let names = BTreeSet::from(["sha256:aa".to_owned(), "sha256:cc".to_owned()]);
        assert_eq!(kept.only(&names), ["sha256:cc"]);
        assert_eq!((kept.get("sha256:aa").as_deref(), kept.get("h1:bb")), (Some(&b"idle = 90\n"[..]), None));
    }
}
