//! Evidence: what shows to somebody without access that figures are true, and that nobody altered the history since.

mod chain;
mod history;
mod key;
pub mod learned;
mod manifest;
pub mod merkle;
mod row;
mod tally;
mod words;

pub use chain::{ChainFault, DayLink, check_chain};
pub use history::{Given, desired_by};
pub use key::{KeyEntry, KeyFault, SigningKey, check_keys, check_signature};
pub use manifest::{
    ControlSummary, Figures, FileEntry, LeftOut, MANIFEST, Manifest, Question, SIGNATURE, file_digest,
};
pub use row::{ClauseCountsAs, ClauseRow, DesiredBy, DeviationRow, Examined, Found, Proof};
pub use tally::{Tallied, Tally};
pub use words::{actual_words, desired_words};

/// Returns bytes as hexadecimal digits.
pub fn hex(bytes: &[u8]) -> String {
    use std::fmt::Write as _;
    bytes.iter().fold(String::with_capacity(bytes.len() * 2), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}

/// Reads hexadecimal digits; none if they are no bytes.
pub fn bytes_of_hex(text: &str) -> Option<Vec<u8>> {
    if !text.is_ascii() || !text.len().is_multiple_of(2) {
        return None;
    }
    let byte = |digits| u8::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok();
    text.as_bytes().chunks(2).map(byte).collect()
}

/// Reads the hexadecimal digits of a digest.
pub fn hash_of_hex(text: &str) -> Option<merkle::Hash> {
    bytes_of_hex(text)?.try_into().ok()
}
