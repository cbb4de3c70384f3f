//! Random secrets and their digests: what is stored is never what opens.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use sha2::{Digest as _, Sha256};
use std::fs::File;
use std::io::{self, Read as _};

/// A secret that is shown once.
pub struct Secret(String);

impl Secret {
    /// Makes a secret of 32 random bytes.
    ///
    /// # Errors
    ///
    /// Returns why there is no randomness.
    pub fn make() -> io::Result<Self> {
        let mut bytes = [0u8; 32];
        File::open("/dev/urandom")?.read_exact(&mut bytes)?;
        Ok(Self(URL_SAFE_NO_PAD.encode(bytes)))
    }

    /// Returns its text, to be shown once.
    pub fn text(&self) -> &str {
        &self.0
    }

    /// Returns its digest, to be stored.
    pub fn digest(&self) -> Vec<u8> {
        digest_of(self.0.as_bytes())
    }
}

/// Returns the SHA-256 of bytes. Secrets of 32 random bytes need no slower one.
pub fn digest_of(bytes: &[u8]) -> Vec<u8> {
    Sha256::digest(bytes).to_vec()
}
