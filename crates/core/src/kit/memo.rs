//! Room in a document for what another module computed from it.

use std::any::Any;
use std::fmt;
use std::sync::OnceLock;

/// Keeps one value that was computed from a document beside it, whatever its type; a copy of the document begins without.
#[derive(Default)]
pub(crate) struct Memo(OnceLock<Box<dyn Any + Send + Sync>>);

impl Memo {
    /// Returns the value of this type; the first to ask decides on the type, and others get none.
    pub fn of<T: Any + Default + Send + Sync>(&self) -> Option<&T> {
        self.0.get_or_init(|| Box::new(T::default())).downcast_ref()
    }
}

impl Clone for Memo {
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl fmt::Debug for Memo {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("Memo")
    }
}
