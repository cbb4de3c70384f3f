//! The fingerprints of OpenPGP public keys (RFC 9580), as far as a package repository's key needs it.

use crate::error::HostError;
use base64::Engine as _;
use sha1::{Digest as _, Sha1};
use sha2::Sha256;

/// The tag of public-key packets (RFC 9580, section 5).
const PUBLIC_KEY: u8 = 6;

/// Returns the fingerprint of the first public key of a file, armoured or not, in upper-case hexadecimal digits.
///
/// # Errors
///
/// Returns that it holds no public key that can be read.
pub fn fingerprint(key: &[u8]) -> Result<String, HostError> {
    let not_a_key = || {
        HostError::new("the file holds no OpenPGP public key")
            .remedy("export it with gpg --export, with or without --armor")
    };
    let bytes = if key.starts_with(b"-----BEGIN PGP") {
        dearmoured(key).ok_or_else(not_a_key)?
    } else {
        key.to_vec()
    };
    let (tag, body) = first_packet(&bytes).ok_or_else(not_a_key)?;
    if tag != PUBLIC_KEY {
        return Err(not_a_key());
    }
    match body.first() {
        // Version 4: SHA-1 over 0x99, the length in two bytes, and the packet; version 6: SHA-256 over 0x9B and four.
        Some(4) => {
            let length = u16::try_from(body.len()).map_err(|_| not_a_key())?;
            Ok(hex(&Sha1::new()
                .chain_update([0x99])
                .chain_update(length.to_be_bytes())
                .chain_update(body)
                .finalize()))
        }
        Some(6) => {
            let length = u32::try_from(body.len()).map_err(|_| not_a_key())?;
            Ok(hex(&Sha256::new()
                .chain_update([0x9b])
                .chain_update(length.to_be_bytes())
                .chain_update(body)
                .finalize()))
        }
        _ => Err(not_a_key()),
    }
}

fn dearmoured(key: &[u8]) -> Option<Vec<u8>> {
    let text = std::str::from_utf8(key).ok()?;
    let lines = text.lines().map(str::trim).skip_while(|line| !line.is_empty()).skip(1);
    let body: String =
        lines.take_while(|line| !line.starts_with('=') && !line.starts_with("-----")).collect();
    base64::engine::general_purpose::STANDARD.decode(body).ok()
}

fn first_packet(bytes: &[u8]) -> Option<(u8, &[u8])> {
    let header = *bytes.first()?;
    let (tag, length, start) = if header & 0xC0 == 0xC0 {
        let first = usize::from(*bytes.get(1)?);
        let (length, start) = match first {
            0..=191 => (first, 2),
            192..=223 => (((first - 192) << 8) + usize::from(*bytes.get(2)?) + 192, 3),
            255 => (usize::try_from(u32::from_be_bytes(bytes.get(2..6)?.try_into().ok()?)).ok()?, 6),
            _ => return None,
        };
        (header & 0x3F, length, start)
    } else if header & 0x80 == 0x80 {
        let size = [1, 2, 4].get(usize::from(header & 3)).copied()?;
        let length = bytes.get(1..1 + size)?.iter().fold(0, |length, byte| length << 8 | usize::from(*byte));
        ((header >> 2) & 0x0F, length, 1 + size)
    } else {
        return None;
    };
    Some((tag, bytes.get(start..start.checked_add(length)?)?))
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02X}")).collect()
}
