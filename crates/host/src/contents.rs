//! The contents that a state refers to, and where replaced ones are kept.

use crate::error::HostError;
use crate::files::Entry;
use constans_core::address::ClauseAddress;
use constans_core::run::StoredCopy;
use std::borrow::Cow;
use std::io;

/// Something that can be read piece by piece, and how many bytes it has.
pub type Opened<'a> = (Box<dyn io::Read + 'a>, u64);

/// The contents of files that a state refers to.
pub trait Contents: Send + Sync {
    /// Returns the contents with this name.
    fn get(&self, name: &str) -> Option<Cow<'_, [u8]>>;

    /// Opens the contents with this name to be read piece by piece.
    fn open(&self, name: &str) -> Option<Opened<'_>> {
        let bytes = self.get(name)?;
        let size = bytes.len() as u64;
        Some((Box::new(io::Cursor::new(bytes)), size))
    }
}

/// No contents at all: it is only looked at what there is.
pub(crate) struct NoContents;

impl Contents for NoContents {
    fn get(&self, _: &str) -> Option<Cow<'_, [u8]>> {
        None
    }
}

/// Where replaced contents are kept.
pub trait Attic {
    /// Keeps what is at a path before it is replaced or removed. Durable when it returns.
    ///
    /// # Errors
    ///
    /// Returns why it could not be kept; nothing is replaced then.
    fn keep(
        &mut self,
        path: &str,
        contents: &mut dyn io::Read,
        entry: &Entry,
        clause: &ClauseAddress,
    ) -> Result<StoredCopy, HostError>;
}
