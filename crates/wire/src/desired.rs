//! The desired state as one document.

use crate::change::HowToChange;
use constans_core::change::WholeDocument;
use serde::{Deserialize, Serialize};

/// A document that is to be the desired state.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ImportDesired {
    /// The document.
    pub document: WholeDocument,
    /// How the change is to be made.
    #[serde(flatten)]
    pub how: HowToChange,
}
