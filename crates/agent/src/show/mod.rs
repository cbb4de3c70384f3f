//! Terminal output of the agent beside its runs.

mod attic;
mod next;
mod progress;

pub use attic::show_list;
pub use next::{May, next_step};
pub use progress::Progress;
