//! One line with the progress of a run; only on a terminal.

use std::io::{IsTerminal as _, Write as _};
use std::time::{Duration, Instant};

/// The line of progress on standard error.
pub struct Progress {
    is_shown: bool,
    began: Instant,
    last: Option<Instant>,
    width: usize,
}

impl Progress {
    /// Prepares the line; it stays silent where nobody watches.
    pub fn new() -> Self {
        Self { is_shown: std::io::stderr().is_terminal(), began: Instant::now(), last: None, width: 0 }
    }

    /// Says what is being done. Quick work is not worth a line.
    pub fn say(&mut self, text: &str) {
        let recently = self.last.is_some_and(|last| last.elapsed() < Duration::from_millis(50));
        if !self.is_shown || self.began.elapsed() < Duration::from_millis(200) || recently {
            return;
        }
        let text: String = text.chars().take(100).collect();
        let length = text.chars().count();
        eprint!("\r{text}{}", " ".repeat(self.width.saturating_sub(length)));
        let _ = std::io::stderr().flush();
        self.width = length;
        self.last = Some(Instant::now());
    }

    /// Takes the line away.
    pub fn end(&mut self) {
        if self.width > 0 {
            eprint!("\r{}\r", " ".repeat(self.width));
            let _ = std::io::stderr().flush();
            self.width = 0;
        }
    }
}

impl Default for Progress {
    fn default() -> Self {
        Self::new()
    }
}
