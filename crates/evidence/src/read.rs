//! Reading a file of evidence from outside: bounded, and no more trusted than its signature.

use crate::error::EvidenceError;
use constans_core::evidence::{MANIFEST, Manifest, SIGNATURE};
use serde::de::DeserializeOwned;
use std::fs::File;
use std::io::Read;
use zip::ZipArchive;

/// This many files a file of evidence holds.
const MAX_FILES: usize = 64;
/// The largest document that is read as a whole.
const MAX_DOCUMENT: u64 = 64 << 20;
/// The largest file in it.
const MAX_FILE: u64 = 8 << 30;

/// A file of evidence.
pub struct Archive(ZipArchive<File>);

impl Archive {
    /// Opens it.
    ///
    /// # Errors
    ///
    /// Returns that it is no zip file, or has too many files.
    pub fn open(file: File) -> Result<Self, EvidenceError> {
        let archive = ZipArchive::new(file)?;
        if archive.len() > MAX_FILES {
            return Err(EvidenceError::Wrong(format!(
                "it holds {} files, more than {MAX_FILES}",
                archive.len()
            )));
        }
        Ok(Self(archive))
    }

    /// Returns the names of its files.
    ///
    /// # Errors
    ///
    /// Returns that one is no text.
    pub fn names(&self) -> Result<Vec<String>, EvidenceError> {
        Ok(self
            .0
            .file_names()
            .map(|name| name.map(std::borrow::Cow::into_owned))
            .collect::<Result<_, _>>()?)
    }

    /// Opens one of its files.
    ///
    /// # Errors
    ///
    /// Returns that it is missing, or cannot be read.
    pub fn file(&mut self, name: &str) -> Result<impl Read, EvidenceError> {
        match self.0.by_name(name) {
            Ok(file) => Ok(file.take(MAX_FILE)),
            Err(zip::result::ZipError::FileNotFound) => Err(EvidenceError::Missing(name.to_owned())),
            Err(error) => Err(error.into()),
        }
    }

    /// Reads one of its files whole.
    ///
    /// # Errors
    ///
    /// Returns that it is missing, too large, or cannot be read.
    pub fn whole(&mut self, name: &str) -> Result<Vec<u8>, EvidenceError> {
        let mut bytes = Vec::new();
        self.file(name)?.take(MAX_DOCUMENT + 1).read_to_end(&mut bytes)?;
        if bytes.len() as u64 > MAX_DOCUMENT {
            return Err(EvidenceError::Wrong(format!("{name} is larger than {} MiB", MAX_DOCUMENT >> 20)));
        }
        Ok(bytes)
    }

    /// Reads a JSON document.
    ///
    /// # Errors
    ///
    /// Returns that it is missing, or not of this form.
    pub fn document<T: DeserializeOwned>(&mut self, name: &str) -> Result<T, EvidenceError> {
        let bytes = self.whole(name)?;
        serde_json::from_slice(&bytes).map_err(|error| EvidenceError::Wrong(format!("{name}: {error}")))
    }

    /// Reads the manifest, its bytes and its signature.
    ///
    /// # Errors
    ///
    /// Returns that one of them is missing or not of its form.
    pub fn manifest(&mut self) -> Result<(Manifest, Vec<u8>, String), EvidenceError> {
        let bytes = self.whole(MANIFEST)?;
        let manifest = serde_json::from_slice(&bytes)
            .map_err(|error| EvidenceError::Wrong(format!("{MANIFEST}: {error}")))?;
        let signature = String::from_utf8_lossy(&self.whole(SIGNATURE)?).into_owned();
        Ok((manifest, bytes, signature))
    }
}
