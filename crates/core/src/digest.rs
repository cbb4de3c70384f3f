//! Digests: canonical JSON (RFC 8785), SHA-256 (FIPS 180-4) and HMAC (RFC 2104), each with the scheme it was made by.

use hmac::{Hmac, KeyInit, Mac};
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};
use std::fmt;

/// A digest with its scheme, `s1:6f…`. Digests of unequal schemes are never compared as if they said something.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(transparent)]
pub struct Digest(String);

impl Digest {
    /// Returns the scheme, the part before the `:`.
    pub fn scheme(&self) -> &str {
        self.0.split_once(':').map_or("", |(scheme, _)| scheme)
    }

    /// Returns the whole text, scheme included.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Returns the scheme and the first twelve digits, enough for a person to tell two apart.
    pub fn short(&self) -> &str {
        let end = self.0.find(':').map_or(0, |colon| colon + 1) + 12;
        self.0.get(..end).unwrap_or(&self.0)
    }
}

impl std::borrow::Borrow<str> for Digest {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// The key of keyed digests: what is concealed cannot be guessed from them.
#[derive(Clone)]
pub struct DigestKey(Vec<u8>);

impl DigestKey {
    /// Takes the key's bytes; 32 random ones are usual.
    pub fn new(bytes: impl Into<Vec<u8>>) -> Self {
        Self(bytes.into())
    }

    /// Returns the HMAC-SHA-256 of the bytes as `h1:…`.
    pub fn digest(&self, bytes: &[u8]) -> Digest {
        let mut mac = Hmac::<Sha256>::new_from_slice(&self.0).expect("HMAC takes keys of any length");
        mac.update(bytes);
        Digest(format!("h1:{}", hex(&mac.finalize().into_bytes())))
    }
}

impl fmt::Debug for DigestKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("DigestKey(…)")
    }
}

/// Returns the SHA-256 of file contents as `sha256:…`, the name by which they are stored.
pub fn of_contents(bytes: &[u8]) -> Digest {
    Digest(format!("sha256:{}", hex(&Sha256::digest(bytes))))
}

/// Returns the SHA-256 of a value's canonical JSON, with the given scheme.
pub fn of_value(scheme: &str, value: &impl Serialize) -> Digest {
    Digest(format!("{scheme}:{}", hex(&Sha256::digest(canonical(value)))))
}

/// Returns a value as canonical JSON (RFC 8785).
pub fn canonical(value: &impl Serialize) -> Vec<u8> {
    serde_json_canonicalizer::to_vec(value).expect("values of the core are JSON without NaN")
}

/// Returns bytes as lower-case hexadecimal digits.
pub fn hex(bytes: &[u8]) -> String {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    bytes.iter().flat_map(|byte| [DIGITS[usize::from(byte >> 4)] as char, DIGITS[usize::from(byte & 15)] as char]).collect()
}

/// Returns a quick name of contents that is good for telling them apart in one process only.
pub(crate) fn for_comparing(bytes: &[u8]) -> Digest {
    use std::hash::{DefaultHasher, Hasher};
    let mut hasher = DefaultHasher::new();
    hasher.write(bytes);
    Digest(format!("quick:{:x}-{}", hasher.finish(), bytes.len()))
}

/// Returns the digest of what was not named, since nobody asks for its name.
pub(crate) fn none() -> Digest {
    Digest(String::new())
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn the_order_of_keys_does_not_count() {
        assert_eq!(of_value("s1", &json!({"a": 1, "b": 2})), of_value("s1", &json!({"b": 2, "a": 1})));
    }

    #[test]
    fn contents_have_their_plain_sha256() {
        assert_eq!(of_contents(b"abc").as_str(), "sha256:ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
    }

    #[test]
    fn a_keyed_digest_depends_on_the_key_and_its_debug_form_shows_none() {
        assert_ne!(DigestKey::new("one").digest(b"x"), DigestKey::new("two").digest(b"x"));
        assert_eq!(format!("{:?}", DigestKey::new("one")), "DigestKey(…)");
    }
}
