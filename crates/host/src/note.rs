//! Notes of the agent that need not survive a power cut: an incomplete one is ignored and written again.

use std::fs::{File, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

/// Writes a note with its checksum (CRC-32 of ISO 3309), in place.
pub(crate) fn write_note(path: &Path, text: &str) -> io::Result<()> {
    overwrite(path, &[format!("{:08x}\n", crc32fast::hash(text.as_bytes())).as_bytes(), text.as_bytes()])
        .map(drop)
}

/// Writes a file of the agent's own over what is there, and cuts off what is left of that. Emptied first, it would give its
/// blocks back only to take others, which may wait for the file system's journal.
///
/// # Errors
///
/// Returns why it could not be written; what is there then is neither the old one nor the new one.
pub fn overwrite(path: &Path, parts: &[&[u8]]) -> io::Result<File> {
    let mut file = OpenOptions::new().create(true).truncate(false).write(true).mode(0o600).open(path)?;
    parts.iter().try_for_each(|part| file.write_all(part))?;
    file.set_len(parts.iter().map(|part| part.len() as u64).sum())?;
    Ok(file)
}

/// Returns the text of a note; none if it is not the one that was written.
pub(crate) fn whole_note(note: &str) -> Option<&str> {
    let (sum, text) = note.split_once('\n')?;
    (u32::from_str_radix(sum, 16).ok()? == crc32fast::hash(text.as_bytes())).then_some(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_shorter_file_leaves_nothing_of_a_longer_one() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("note");
        write_note(&path, "kiosk-auken-1\nkiosk-auken-2\n").unwrap();
        write_note(&path, "kiosk-auken-1\n").unwrap();
        assert_eq!(whole_note(&std::fs::read_to_string(&path).unwrap()), Some("kiosk-auken-1\n"));
    }
}
