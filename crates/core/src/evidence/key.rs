//! The keys that sign evidence: Ed25519 (RFC 8032), each new one endorsed by the one before.

use super::{bytes_of_hex, hex};
use jiff::Timestamp;
use ring::digest::{SHA256, digest};
use ring::rand::SystemRandom;
use ring::signature::{ED25519, Ed25519KeyPair, KeyPair as _, UnparsedPublicKey};
use serde::{Deserialize, Serialize};

/// What is signed of a new key: nothing else begins so.
const ENDORSED: &str = "constans: this key signs evidence after mine\n";

/// A key that signs.
pub struct SigningKey(Ed25519KeyPair);

impl SigningKey {
    /// Makes a key; returns it as PKCS #8 in DER.
    ///
    /// # Errors
    ///
    /// Returns that the system has no randomness.
    pub fn make() -> Result<Vec<u8>, KeyFault> {
        let made =
            Ed25519KeyPair::generate_pkcs8(&SystemRandom::new()).map_err(|_| KeyFault::NoRandomness)?;
        Ok(made.as_ref().to_vec())
    }

    /// Reads a key from PKCS #8 in DER.
    ///
    /// # Errors
    ///
    /// Returns that it is none.
    pub fn read(pkcs8: &[u8]) -> Result<Self, KeyFault> {
        Ed25519KeyPair::from_pkcs8(pkcs8).map(Self).map_err(|_| KeyFault::NotRead)
    }

    /// Signs bytes; returns the signature in hexadecimal digits.
    pub fn sign(&self, bytes: &[u8]) -> String {
        hex(self.0.sign(bytes).as_ref())
    }

    /// Returns its public part as the first key of a server.
    pub fn first_entry(&self, since: Timestamp) -> KeyEntry {
        let public = self.0.public_key().as_ref();
        KeyEntry { id: id_of(public), public: hex(public), since, endorsement: None }
    }

    /// Returns the public part of the next key, endorsed by this one.
    pub fn endorse(&self, next: &Self, since: Timestamp) -> KeyEntry {
        let entry = next.first_entry(since);
        let endorsement = Some(self.sign(&endorsed(&entry)));
        KeyEntry { endorsement, ..entry }
    }
}

/// The public part of a key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KeyEntry {
    /// Its id: `ed25519:` and the first 32 hexadecimal digits of the SHA-256 of its 32 bytes.
    pub id: String,
    /// Its 32 bytes in hexadecimal digits.
    pub public: String,
    /// Since when it signs.
    pub since: Timestamp,
    /// The signature of the key before it over its id and since when it signs, in hexadecimal digits; the first key has none.
    pub endorsement: Option<String>,
}

/// What is wrong with a key or a signature.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum KeyFault {
    /// The system has no randomness.
    #[error("the system gave no random bytes")]
    NoRandomness,
    /// It is no key.
    #[error("this is no Ed25519 key in PKCS #8")]
    NotRead,
    /// There is no key.
    #[error("there is no key")]
    None,
    /// The id of a key does not follow from it.
    #[error("{0} is not the id of its key: the key was replaced")]
    Id(String),
    /// A key is not endorsed by the one before.
    #[error("the key before {0} did not endorse it")]
    Endorsement(String),
    /// The signature is not of these bytes by this key.
    #[error("the signature is not by {0}, or what was signed was altered")]
    Signature(String),
}

fn id_of(public: &[u8]) -> String {
    format!("ed25519:{}", &hex(digest(&SHA256, public).as_ref())[..32])
}

fn endorsed(entry: &KeyEntry) -> Vec<u8> {
    format!("{ENDORSED}{}\n{}", entry.id, entry.since).into_bytes()
}

/// Checks keys, the first one first: that their ids are theirs, and that each is endorsed by the one before.
///
/// # Errors
///
/// Returns the first fault.
pub fn check_keys(keys: &[KeyEntry]) -> Result<(), KeyFault> {
    if keys.is_empty() {
        return Err(KeyFault::None);
    }
    for (place, entry) in keys.iter().enumerate() {
        if bytes_of_hex(&entry.public).is_none_or(|public| id_of(&public) != entry.id) {
            return Err(KeyFault::Id(entry.id.clone()));
        }
        let before = place.checked_sub(1).map(|before| &keys[before]);
        let is_endorsed = match (before, &entry.endorsement) {
            (None, _) => true,
            (Some(before), Some(endorsement)) => {
                check_signature(before, &endorsed(entry), endorsement).is_ok()
            }
            (Some(_), None) => false,
        };
        if !is_endorsed {
            return Err(KeyFault::Endorsement(entry.id.clone()));
        }
    }
    Ok(())
}

/// Checks a signature in hexadecimal digits.
///
/// # Errors
///
/// Returns that it is not by this key, or not of these bytes.
pub fn check_signature(key: &KeyEntry, bytes: &[u8], signature: &str) -> Result<(), KeyFault> {
    let fault = || KeyFault::Signature(key.id.clone());
    let public = bytes_of_hex(&key.public).ok_or_else(fault)?;
    let signature = bytes_of_hex(signature.trim()).ok_or_else(fault)?;
    UnparsedPublicKey::new(&ED25519, public).verify(bytes, &signature).map_err(|_| fault())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn made() -> SigningKey {
        SigningKey::read(&SigningKey::make().expect("random bytes")).expect("a key")
    }

    #[test]
    fn keys_follow_each_other_and_no_stranger_comes_between() {
        let [first, second, third, stranger] = std::array::from_fn(|_| made());
        let since = Timestamp::UNIX_EPOCH;
        let keys =
            vec![first.first_entry(since), first.endorse(&second, since), second.endorse(&third, since)];
        assert_eq!(check_keys(&keys), Ok(()));
        // Keys before the present one may be left out: it is the present one that is known.
        assert_eq!(check_keys(&keys[1..]), Ok(()));
        let by_stranger = [&keys[..2], &[stranger.endorse(&third, since)]].concat();
        assert_eq!(check_keys(&by_stranger), Err(KeyFault::Endorsement(keys[2].id.clone())));
        let skipped = [keys[0].clone(), keys[2].clone()];
        assert_eq!(check_keys(&skipped), Err(KeyFault::Endorsement(keys[2].id.clone())));
        let mut replaced = keys.clone();
        replaced[1].public = stranger.first_entry(since).public;
        assert_eq!(check_keys(&replaced), Err(KeyFault::Id(keys[1].id.clone())));
        assert_eq!(check_keys(&[]), Err(KeyFault::None));
    }

    #[test]
    fn each_flipped_bit_is_found() {
        let key = made();
        let entry = key.first_entry(Timestamp::UNIX_EPOCH);
        let signature = key.sign(b"figures");
        assert_eq!(check_signature(&entry, b"figures", &signature), Ok(()));
        for bit in 0..8 * b"figures".len() {
            let mut bytes = b"figures".to_vec();
            bytes[bit / 8] ^= 1 << (bit % 8);
            assert!(check_signature(&entry, &bytes, &signature).is_err(), "bit {bit}");
        }
        assert!(check_signature(&made().first_entry(Timestamp::UNIX_EPOCH), b"figures", &signature).is_err());
        assert!(check_signature(&entry, b"figures", "no digits!").is_err());
        assert!(SigningKey::read(b"no key").is_err());
    }
}
