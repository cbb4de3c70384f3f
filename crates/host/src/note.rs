//! Notes of the agent's own that need not outlast a power cut: one that is not whole is none, and is made anew.

use std::path::Path;
use std::{fs, io};

/// Writes a note with its checksum (CRC-32 of ISO 3309), in place.
pub(crate) fn write_note(path: &Path, text: &str) -> io::Result<()> {
    fs::write(path, format!("{:08x}\n{text}", crc32fast::hash(text.as_bytes())))
}

/// Returns the text of a note; none if it is not the one that was written.
pub(crate) fn whole_note(note: &str) -> Option<&str> {
    let (sum, text) = note.split_once('\n')?;
    (u32::from_str_radix(sum, 16).ok()? == crc32fast::hash(text.as_bytes())).then_some(text)
}
