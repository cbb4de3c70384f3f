//! Who was refused, also when the database forgets.

use super::protected::{lock, sync_folder_of};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::fs::OpenOptions;
use std::io::{self, Read as _, Seek as _, SeekFrom, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use uuid::Uuid;

/// The file of refusals, to which lines are only added.
pub struct Refusals(PathBuf);

/// One line of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Refusal {
    /// When.
    pub at: Timestamp,
    /// The node.
    pub node: Uuid,
    /// Whether the node is refused from then on; else it was let back with a new key.
    pub refused: bool,
    /// The public keys (SHA-256 of SPKI, in hexadecimal digits) that are refused for good.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<String>,
}

impl Refusals {
    /// Names the file in the protected folder.
    pub fn new(folder: &Path) -> Self {
        Self(folder.join("refusals.jsonl"))
    }

    /// Adds a line durably. A last line that was cut off before goes: what it records was never answered.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn add(&self, refusal: &Refusal) -> io::Result<()> {
        let mut line = serde_json::to_vec(refusal)?;
        line.push(b'\n');
        let _one_at_a_time = lock(&self.0.with_extension("lock"))?;
        let mut file = OpenOptions::new()
            .create(true)
            .truncate(false)
            .read(true)
            .write(true)
            .mode(0o600)
            .open(&self.0)?;
        let mut before = Vec::new();
        file.read_to_end(&mut before)?;
        file.set_len(whole_lines(&before).len() as u64)?;
        file.seek(SeekFrom::End(0))?;
        file.write_all(&line)?;
        file.sync_all()?;
        sync_folder_of(&self.0)
    }

    /// Returns all lines, the oldest first. A last line that was cut off is left out.
    ///
    /// # Errors
    ///
    /// Returns why the file cannot be read, and which line is not understood.
    pub fn all(&self) -> io::Result<Vec<Refusal>> {
        let bytes = match std::fs::read(&self.0) {
            Ok(bytes) => bytes,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(error),
        };
        let lines =
            whole_lines(&bytes).split(|byte| *byte == b'\n').enumerate().filter(|(_, line)| !line.is_empty());
        let unreadable = |number, error| {
            io::Error::new(
                io::ErrorKind::InvalidData,
                format!("{}, line {}: {error}", self.0.display(), number + 1),
            )
        };
        lines
            .map(|(number, line)| serde_json::from_slice(line).map_err(|error| unreadable(number, error)))
            .collect()
    }
}

fn whole_lines(bytes: &[u8]) -> &[u8] {
    &bytes[..bytes.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1)]
}

#[cfg(test)]
mod tests {
    use super::*;

    fn refused(node: u128) -> Refusal {
        Refusal { at: Timestamp::UNIX_EPOCH, node: Uuid::from_u128(node), refused: true, keys: Vec::new() }
    }

    #[test]
    fn a_line_that_was_cut_off_takes_no_other_with_it_and_a_broken_one_is_named() {
        let folder = tempfile::tempdir().unwrap();
        let refusals = Refusals::new(folder.path());
        assert_eq!(refusals.all().unwrap(), []);
        refusals.add(&refused(1)).unwrap();
        let whole = std::fs::read(&refusals.0).unwrap();
        std::fs::write(&refusals.0, [&whole[..], &whole[..20]].concat()).unwrap();
        assert_eq!(refusals.all().unwrap(), [refused(1)]);
        refusals.add(&refused(2)).unwrap();
        assert_eq!(refusals.all().unwrap(), [refused(1), refused(2)]);
        std::fs::write(&refusals.0, [b"{}\n", &whole[..]].concat()).unwrap();
        assert!(refusals.all().unwrap_err().to_string().contains("refusals.jsonl, line 1: missing field"));
    }
}
