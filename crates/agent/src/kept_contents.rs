//! The contents that a server gave out for what it wants, in the agent's own folder: read when they are asked for.

use crate::error::AgentError;
use crate::state_dir::{StateDir, write_durably};
use constans_host::Contents;
use std::borrow::Cow;
use std::collections::{BTreeSet, HashSet};
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

    /// Returns those of these names under which nothing is kept.
    pub fn missing<'n>(&self, names: &'n BTreeSet<String>) -> impl Iterator<Item = &'n str> {
        names.iter().map(String::as_str).filter(|name| !self.path(name).exists())
    }

    /// Takes away what has none of these names: what is concealed must not stay.
    pub fn keep_only(&self, names: &BTreeSet<String>) {
        let named: HashSet<OsString> = names.iter().map(|name| file_name(name).into()).collect();
        for entry in fs::read_dir(&self.folder).into_iter().flatten().flatten().filter(|entry| !named.contains(&entry.file_name())) {
            let _ = fs::remove_file(entry.path());
        }
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
        assert_eq!(kept.missing(&names).collect::<Vec<_>>(), ["sha256:cc"]);
        assert!(kept.get("h1:bb").is_some(), "who asks what is missing takes nothing away");
        kept.keep_only(&names);
        assert_eq!((kept.get("sha256:aa").as_deref(), kept.get("h1:bb")), (Some(&b"idle = 90\n"[..]), None));
    }
}
