//! How runs read on a terminal: the same words from the agent on the node and from the operators' client.

mod clause;
mod impact;
mod pipe;
mod run;
mod words;

pub use clause::{clause, diff_line, differences, text_diff};
pub use constans_core::sentence::span_words as span;
pub use impact::show_impact;
pub use pipe::end_when_nobody_reads;
pub use run::{Shown, counts_words, run_line, show_kept_run, show_run};
pub use words::{count, duration, harmless, style, style_of, styled, time};
