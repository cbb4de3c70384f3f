//! File contents from the server, stored in the state folder and read on demand.

use crate::error::AgentError;
use crate::state_dir::{Incoming, StateDir};
use constans_host::{Contents, Opened};
use std::borrow::Cow;
use std::collections::{BTreeSet, HashSet};
use std::path::{Path, PathBuf};

const FOLDER: &str = "contents";

/// The contents of one state dir, by their names.
#[derive(Debug)]
pub struct KeptContents {
    state_dir: StateDir,
}

impl Contents for KeptContents {
    fn get(&self, name: &str) -> Option<Cow<'_, [u8]>> {
        self.state_dir.read(place(name)).ok().flatten().map(Cow::Owned)
    }

    fn open(&self, name: &str) -> Option<Opened<'_>> {
        self.state_dir.open_file(place(name)).ok().flatten()
    }
}

impl KeptContents {
    /// Opens the contents; there may be none yet.
    pub fn of(state_dir: &StateDir) -> Self {
        Self { state_dir: state_dir.clone() }
    }

    /// Returns the path of contents of this name if they are kept.
    pub fn path(&self, name: &str) -> PathBuf {
        self.state_dir.shown(place(name))
    }

    /// Begins to keep contents that come piece by piece.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be kept.
    pub fn begin(&self) -> Result<Box<dyn Incoming>, AgentError> {
        self.state_dir
            .begin(FOLDER)
            .map_err(|error| AgentError::own_file("write", &self.state_dir.shown(FOLDER), &error))
    }

    /// Keeps contents that came, durably, under their name.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be kept.
    pub fn keep(&self, name: &str, incoming: Box<dyn Incoming>) -> Result<(), AgentError> {
        incoming.commit(&place(name)).map_err(|error| AgentError::own_file("write", &self.path(name), &error))
    }

    /// Returns those of these names under which nothing is kept.
    pub fn missing<'n>(&self, names: &'n BTreeSet<String>) -> impl Iterator<Item = &'n str> {
        names.iter().map(String::as_str).filter(|name| !self.state_dir.exists(place(name)))
    }

    /// Takes away what has none of these names: what is concealed must not stay.
    pub fn keep_only(&self, names: &BTreeSet<String>) {
        let named: HashSet<PathBuf> = names.iter().map(|name| place(name)).collect();
        for listed in self.state_dir.list(FOLDER).into_iter().filter(|listed| !named.contains(&listed.name)) {
            self.state_dir.remove(listed.name);
        }
    }
}

fn place(name: &str) -> PathBuf {
    let file: String = name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    Path::new(FOLDER).join(file)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_named_goes_and_what_is_not_here_is_named() {
        let folder = tempfile::tempdir().unwrap();
        let kept = KeptContents::of(&StateDir::open(folder.path()).unwrap());
        for (name, bytes) in [("sha256:aa", &b"idle = 90\n"[..]), ("h1:bb", b"secret")] {
            let mut incoming = kept.begin().unwrap();
            incoming.add(bytes).unwrap();
            kept.keep(name, incoming).unwrap();
        }
        let names = BTreeSet::from(["sha256:aa".to_owned(), "sha256:cc".to_owned()]);
        assert_eq!(kept.missing(&names).collect::<Vec<_>>(), ["sha256:cc"]);
        assert!(kept.get("h1:bb").is_some(), "who asks what is missing takes nothing away");
        kept.keep_only(&names);
        assert_eq!((kept.get("sha256:aa").as_deref(), kept.get("h1:bb")), (Some(&b"idle = 90\n"[..]), None));
    }
}
