//! Reading os-release(5).

use crate::error::HostError;
use crate::files::{EntryKind, Files};

/// Returns the text of os-release(5).
pub(crate) fn os_release(files: &Files) -> Result<String, HostError> {
    for path in ["/etc/os-release", "/usr/lib/os-release"] {
        // The first is usually a link to the second.
        if files.look(path)?.is_some_and(|entry| entry.what == EntryKind::File) {
            return files.read_text(path);
        }
    }
    Ok(String::new())
}
