//! The key that signs evidence, with the public parts of all keys that signed before it.

use super::protected::{lock, put_whole};
use constans_core::evidence::{KeyEntry, KeyFault, SigningKey, bytes_of_hex, check_keys, hex};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::io;
use std::path::{Path, PathBuf};

/// The name of the file in the protected folder.
pub(super) const EVIDENCE_KEY: &str = "evidence.key";

/// Why the key cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum EvidenceKeyError {
    /// The file.
    #[error("cannot use {}", path.display())]
    File {
        /// Its path.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// What is in it.
    #[error("the key that signs evidence in {} cannot be used", path.display())]
    Key {
        /// Its path.
        path: PathBuf,
        /// Why.
        source: KeyFault,
    },
}

/// As it is stored.
#[derive(Serialize, Deserialize)]
struct Stored {
    /// PKCS #8 in hexadecimal digits.
    secret: String,
    keys: Vec<KeyEntry>,
}

/// The key that signs evidence.
pub struct EvidenceKeys {
    /// The key.
    pub key: SigningKey,
    /// The public parts of all keys, the first one first; the last one is the key's.
    pub entries: Vec<KeyEntry>,
}

impl EvidenceKeys {
    /// Makes the first key.
    pub(super) fn make(folder: &Path) -> Result<(), EvidenceKeyError> {
        let path = folder.join(EVIDENCE_KEY);
        let (secret, key) = made(&path)?;
        put(&path, &Stored { secret: hex(&secret), keys: vec![key.first_entry(crate::clock::now())] })
    }

    /// Reads the key.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be used.
    pub fn open(folder: &Path) -> Result<Self, EvidenceKeyError> {
        let path = folder.join(EVIDENCE_KEY);
        let file = |source| EvidenceKeyError::File { path: path.clone(), source };
        let stored: Stored = serde_json::from_slice(&std::fs::read(&path).map_err(file)?)
            .map_err(|error| file(io::Error::new(io::ErrorKind::InvalidData, error.to_string())))?;
        let fault = |source| EvidenceKeyError::Key { path: path.clone(), source };
        check_keys(&stored.keys).map_err(fault)?;
        let secret = bytes_of_hex(&stored.secret).ok_or_else(|| fault(KeyFault::NotRead))?;
        let key = SigningKey::read(&secret).map_err(fault)?;
        let last = stored.keys.last().map(|entry| entry.id.clone()).unwrap_or_default();
        if key.first_entry(Timestamp::UNIX_EPOCH).id != last {
            return Err(fault(KeyFault::Id(last)));
        }
        Ok(Self { key, entries: stored.keys })
    }

    /// Makes another key that signs from now on, endorsed by the present one, which is forgotten. Servers take it up when they start.
    ///
    /// # Errors
    ///
    /// Returns why the present one cannot be used, or the new one cannot be stored.
    pub fn renew(folder: &Path) -> Result<Self, EvidenceKeyError> {
        let path = folder.join(EVIDENCE_KEY);
        let _one_at_a_time = lock(&folder.join("evidence.lock"))
            .map_err(|source| EvidenceKeyError::File { path: path.clone(), source })?;
        let present = Self::open(folder)?;
        let (secret, next) = made(&path)?;
        let mut keys = present.entries;
        keys.push(present.key.endorse(&next, crate::clock::now()));
        put(&path, &Stored { secret: hex(&secret), keys })?;
        Self::open(folder)
    }

    /// Returns the id of the key.
    pub fn id(&self) -> &str {
        self.entries.last().map_or("", |entry| &entry.id)
    }
}

fn made(path: &Path) -> Result<(Vec<u8>, SigningKey), EvidenceKeyError> {
    let fault = |source| EvidenceKeyError::Key { path: path.to_owned(), source };
    let secret = SigningKey::make().map_err(fault)?;
    let key = SigningKey::read(&secret).map_err(fault)?;
    Ok((secret, key))
}

fn put(path: &Path, stored: &Stored) -> Result<(), EvidenceKeyError> {
    let file = |source| EvidenceKeyError::File { path: path.to_owned(), source };
    put_whole(path, &serde_json::to_vec(stored).map_err(|error| file(error.into()))?).map_err(file)
}
