//! Compares what a clause wants with what was found on the node.
//!
//! Inspecting the node is the job of `host`; keeping the result is the job of `server`.

mod difference;
mod found;
mod kits;
mod text;
mod undo;

pub use difference::{Difference, FOUND_SCHEME, PRESENCE, Side, differences, found_digest};
pub(crate) use difference::{differences_in, found_digest_of};
pub use found::{Found, FoundValue, Presence};
pub use kits::{BaselineDifference, ClauseDifference, FileDifference, KitDifference, Where, kit_difference};
pub use text::{TextDiff, TextDiffRefusal, found_text, text_diff};
pub use undo::as_it_was;
