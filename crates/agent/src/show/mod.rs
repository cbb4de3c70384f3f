//! What the agent says on a terminal.

mod attic;
mod clause;
mod progress;
mod run;
mod words;

pub use attic::show_list;
pub use progress::Progress;
pub use run::{Shown, show_run};
pub use words::{count, duration, style, time};
