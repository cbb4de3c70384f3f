//! The lines of a text, each with what ends it: changing one keeps the ends of the others.

use super::line_end;

/// A text taken apart into lines. Ends are a line feed, one after a carriage return, or nothing at the end of the text.
pub struct Lines<'t> {
    /// Lines, and their ends.
    all: Vec<(&'t str, &'t str)>,
    /// What ends new lines.
    usual_end: &'static str,
}

impl<'t> Lines<'t> {
    /// Takes a text apart.
    pub fn of(text: &'t str) -> Self {
        let apart = |line: &'t str| {
            let bare = line.strip_suffix('\n').map_or(line, |bare| bare.strip_suffix('\r').unwrap_or(bare));
            line.split_at(bare.len())
        };
        Self { all: text.split_inclusive('\n').map(apart).collect(), usual_end: line_end(text) }
    }

    /// Returns the lines without their ends.
    pub fn bare(&self) -> Vec<&'t str> {
        self.all.iter().map(|(line, _)| *line).collect()
    }

    /// Returns the text with another line at this place.
    pub fn replaced(&self, at: usize, new: &str) -> String {
        let lines = self.all.iter().enumerate();
        lines.flat_map(|(place, (line, end))| [if place == at { new } else { line }, end]).collect()
    }

    /// Returns the text with new lines before this place.
    pub fn inserted(&self, at: usize, new: &[&str]) -> String {
        let mut text: String = self.all[..at].iter().flat_map(|(line, end)| [*line, *end]).collect();
        if !text.is_empty() && !text.ends_with('\n') {
            text.push_str(self.usual_end);
        }
        text.extend(new.iter().flat_map(|line| [*line, self.usual_end]));
        text.extend(self.all[at..].iter().flat_map(|(line, end)| [*line, *end]));
        text
    }

    /// Returns the text with only some of its lines.
    pub fn kept(&self, is_kept: impl Fn(usize, &str) -> bool) -> String {
        let lines = self.all.iter().enumerate().filter(|(at, (line, _))| is_kept(*at, line));
        lines.flat_map(|(_, (line, end))| [*line, *end]).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_ends_of_other_lines_stay_as_they_are() {
        let mixed = "a\r\nb\n\nc\rc\n\r\nlast";
        let lines = Lines::of(mixed);
        assert_eq!(lines.bare(), ["a", "b", "", "c\rc", "", "last"]);
        assert_eq!(lines.replaced(1, "B"), "a\r\nB\n\nc\rc\n\r\nlast");
        assert_eq!(lines.replaced(5, "end"), "a\r\nb\n\nc\rc\n\r\nend");
        assert_eq!(lines.inserted(0, &["x"]), format!("x\r\n{mixed}"));
        assert_eq!(lines.inserted(6, &["x"]), format!("{mixed}\r\nx\r\n"));
        assert_eq!(lines.kept(|_, _| true), mixed);
        assert_eq!(lines.kept(|_, line| line != "b"), "a\r\n\nc\rc\n\r\nlast");
        assert_eq!(Lines::of("").inserted(0, &["x"]), "x\n");
    }
}
